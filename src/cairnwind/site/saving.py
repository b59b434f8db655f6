"""A site file that is written anew: aside, synced, renamed; as it was, where anything fails."""

from __future__ import annotations

import contextlib
import os
import shutil
import tempfile
from pathlib import Path

from cairnwind.core.values.errors import CallerError
from cairnwind.site.reader import BOM, text_of

UNCHANGED = "Nothing was changed."


class Saving:
    """One file that gets another text: `prepare`, then `put`; `back` undoes that."""

    def __init__(self, path: str | Path) -> None:
        """Raises `CallerError` (``no-file``)."""
        self.path = Path(path).resolve()
        self.text = text_of(self.path)
        raw = self.path.read_bytes()
        self._begins = BOM if raw.startswith(BOM.encode()) else ""
        self._ends = "\r\n" if b"\r\n" in raw else "\n"
        self._aside: Path | None = None
        self._old: Path | None = None

    def prepare(self, text: str) -> None:
        """Write it aside, so that only a name has to change. Raises `CallerError` (``reload``), and then nothing was changed."""
        try:
            self._aside = self._written(text)
            self._old = self._written(self.text)
        except OSError as error:
            self.end()
            whose = f"ls -ld {self.path.parent}"
            raise CallerError(
                "reload",
                f"The site file {self.path} cannot be written: {error.strerror}.",
                f"See to its folder ({whose}) and its disk (df {self.path.parent}). {UNCHANGED}",
            ) from None

    def put(self) -> None:
        """The file has the new text from now on."""
        assert self._aside is not None
        self._replace(self._aside)

    def back(self) -> None:
        """The file has its old text again."""
        if self._old is not None and self._aside is not None and not self._aside.exists():
            self._replace(self._old)
        self.end()

    def end(self) -> None:
        """Leave nothing beside it."""
        for each in (self._aside, self._old):
            if each is not None:
                each.unlink(missing_ok=True)

    def _written(self, text: str) -> Path:
        number, name = tempfile.mkstemp(prefix=f".{self.path.name}.", dir=self.path.parent)
        try:
            with os.fdopen(number, "w", encoding="utf-8", newline=self._ends) as file:
                file.write(self._begins + text)
                file.flush()
                os.fsync(file.fileno())
            shutil.copymode(self.path, name)
            with contextlib.suppress(PermissionError):  # of another: the group or the folder let us write
                owner = self.path.stat()
                os.chown(name, owner.st_uid, owner.st_gid)
        except BaseException:
            Path(name).unlink(missing_ok=True)
            raise
        return Path(name)

    def _replace(self, other: Path) -> None:
        other.replace(self.path)
        folder = os.open(self.path.parent, os.O_RDONLY | os.O_DIRECTORY)
        try:
            os.fsync(folder)
        finally:
            os.close(folder)
