"""The command line: ``cairnwind``."""

from cairnwind.cli.main import main

__all__ = ["main"]
