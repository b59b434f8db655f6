"""The command line: ``cairnwind``."""

from cairnwind.cli import firmware, hardware, prompt
from cairnwind.cli.main import main

__all__ = ["firmware", "hardware", "main", "prompt"]
