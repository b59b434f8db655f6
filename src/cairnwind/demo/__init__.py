"""The demo site, and the small world that makes its sensors move."""

from pathlib import Path

SITE_FILE = Path(__file__).with_name("saltmarsh.toml")
