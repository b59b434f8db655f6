"""Reads a site file into the model, with errors that point.

What reads it is loaded when it is asked for: a command line that only wants to know what may be edited needs no boards.
"""

from __future__ import annotations

from importlib import import_module
from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    from cairnwind.site.reader import read_site, read_text
    from cairnwind.site.trouble import Finding, SiteFileError

__all__ = ["Finding", "SiteFileError", "read_site", "read_text"]
WHERE = {"read_site": "reader", "read_text": "reader", "Finding": "trouble", "SiteFileError": "trouble"}


def __getattr__(name: str) -> Any:
    if name not in WHERE:
        raise AttributeError(name)
    return getattr(import_module(f"cairnwind.site.{WHERE[name]}"), name)
