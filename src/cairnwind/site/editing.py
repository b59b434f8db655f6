"""A site file with changes: each is done to the text that the one before has left."""

from __future__ import annotations

from collections.abc import Iterable

from cairnwind.site.edits import Edit, rewritten, see


def edit(text: str, change: Edit) -> str:
    """The file with one change. Raises `CallerError` where that cannot be."""
    see(change)
    if change.do != "rename":
        return rewritten(text, change)
    from cairnwind.site.renaming import rename  # the languages are needed for that, and take long to load

    return rename(text, change)


def edited(text: str, changes: Iterable[Edit]) -> str:
    """The file with all of these changes, in their order."""
    for each in changes:
        text = edit(text, each)
    return text
