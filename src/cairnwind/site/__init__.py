"""Reads a site file into the model, with errors that point."""

from cairnwind.site.reader import read_site, read_text
from cairnwind.site.trouble import Finding, SiteFileError

__all__ = ["Finding", "SiteFileError", "read_site", "read_text"]
