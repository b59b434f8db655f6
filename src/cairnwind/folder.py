"""The state folder: where the database, the key and the address of one service are, and who holds it.

``cairnwind.db``  the store          ``lock``     held by the process that serves, with its number in it
``key``           the first key      ``address``  where it listens (JSON), while it runs
"""

from __future__ import annotations

import errno
import fcntl
import json
import os
import time
from pathlib import Path
from typing import Any

from cairnwind.core.values.errors import CallerError


def default(name: str = "cairnwind") -> Path:
    """The folder used unless said otherwise: in the XDG state folder."""
    base = os.environ.get("XDG_STATE_HOME") or Path.home() / ".local" / "state"
    return Path(base) / name


DEMO = "cairnwind-demo"
"""The demo's folder beside it, so that trying never mixes with a real site."""


TAKES_NOTHING = (errno.ENOSPC, errno.EROFS, errno.EDQUOT, errno.EBADF)
"""What a disk says that is full, or cannot be written; and a file that could be opened for reading alone."""


def read_only(path: Path) -> bool:
    """Whether a file is on a disk that cannot be written."""
    return bool(os.statvfs(path).f_flag & os.ST_RDONLY)


class Folder:
    """One state folder."""

    def __init__(self, path: str | Path) -> None:
        self.path = Path(path).expanduser().resolve()
        self._lock: int | None = None

    @property
    def database(self) -> Path:
        """The store."""
        return self.path / "cairnwind.db"

    def hold(self) -> None:
        """Take the folder for this process; made if need be.

        Raises `CallerError`: ``held`` with the process that holds it, ``folder`` if it cannot be used.
        """
        os.umask(0o077)  # whatever is written from here on is its owner's alone
        try:
            self.path.mkdir(mode=0o700, parents=True, exist_ok=True)
            self._tighten()
            self._lock = self._open_lock()
        except OSError as error:
            raise CallerError(
                "folder",
                f"The state folder {self.path} cannot be used: {error.strerror}.",
                "Give another with --state, or mend its rights.",
            ) from None
        try:
            fcntl.flock(self._lock, fcntl.LOCK_EX | fcntl.LOCK_NB)
        except BlockingIOError:
            holder = os.pread(self._lock, 200, 0).decode("utf-8", "replace").strip()
            os.close(self._lock)
            self._lock = None
            raise CallerError(
                "held",
                f"The state folder {self.path} is held by {holder or 'another process'}.",
                "Stop that one first, or give another folder with --state.",
            ) from None
        self._note(f"process {os.getpid()} since {time.strftime('%Y-%m-%d %H:%M:%S')}")

    def _open_lock(self) -> int:
        """The lock's file; on a disk that cannot be written it is enough that it is there."""
        try:
            return os.open(self.path / "lock", os.O_RDWR | os.O_CREAT | os.O_CLOEXEC, 0o600)
        except OSError as error:
            if error.errno != errno.EROFS:
                raise
            return os.open(self.path / "lock", os.O_RDONLY | os.O_CLOEXEC)

    def _note(self, text: str) -> None:
        """Put a text into the lock's file, which needs no more room than it had. A disk that takes nothing keeps nobody from being safe."""
        assert self._lock is not None
        try:
            os.pwrite(self._lock, text.encode(), 0)
            os.ftruncate(self._lock, len(text.encode()))
        except OSError as error:
            if error.errno not in TAKES_NOTHING:
                raise

    def _tighten(self) -> None:
        """Nobody else may read or write what is here: what an older start, or somebody, has left open is closed. Raises `OSError`."""
        for path in (
            self.path,
            *(each for each in self.path.iterdir() if each.is_file() and not each.is_symlink()),
        ):
            mode = path.stat().st_mode
            if mode & 0o077 and not read_only(path):
                path.chmod(mode & 0o700)

    def let_go(self) -> None:
        """Give the folder back."""
        try:
            (self.path / "address").unlink(missing_ok=True)
        except OSError as error:
            if error.errno not in TAKES_NOTHING:
                raise
        if self._lock is not None:
            os.close(self._lock)
            self._lock = None

    def write_address(self, address: dict[str, Any]) -> None:
        """Say where the service listens: on a full disk in the lock's file, which has its room already."""
        text = json.dumps(address)
        try:
            self._write("address", text)
        except OSError as error:
            if error.errno not in TAKES_NOTHING:
                raise
            self._note(f"process {os.getpid()}\n{text}")

    def address(self) -> dict[str, Any] | None:
        """Where the service listens, or None if none runs on this folder."""
        for name in ("address", "lock"):
            try:
                said = (self.path / name).read_text("utf-8")
                address: dict[str, Any] = json.loads(said.partition("\n")[2] if name == "lock" else said)
                os.kill(address["pid"], 0)
            except (OSError, ValueError, KeyError, TypeError):
                continue
            return address
        return None

    def write_key(self, text: str) -> None:
        """Keep the first key where CLI and client find it, readable by its owner only."""
        self._write("key", text + "\n")

    def key(self) -> str | None:
        """The key kept here, if this user may read it."""
        try:
            return (self.path / "key").read_text("utf-8").strip()
        except OSError:
            return None

    def secret(self, name: str) -> str:
        """The text of a secret: from ``CAIRNWIND_SECRET_NAME``, or the file ``secret-NAME`` here.

        Raises `CallerError` (``secret``) that says where it was looked for, never what it is.
        """
        variable = f"CAIRNWIND_SECRET_{name.upper().replace('-', '_')}"
        path = self.path / f"secret-{name}"
        if variable in os.environ:
            return os.environ[variable]
        try:
            if path.stat().st_mode & 0o077:
                raise CallerError("secret", f"{path} can be read by others.", f"Type: chmod 600 {path}")
            return path.read_text("utf-8").strip()
        except OSError:
            raise CallerError(
                "secret",
                f"There is no secret '{name}'.",
                f"Put it into {path} with mode 600, or into {variable}.",
            ) from None

    def _write(self, name: str, text: str) -> None:
        put(self.path / name, text.encode("utf-8"))


def put(path: Path, content: bytes) -> None:
    """Put a file in the place of another so that whatever happens one of the two is there, whole; readable by its owner only."""
    aside = path.with_name(f".{path.name}.{os.getpid()}")
    descriptor = os.open(aside, os.O_WRONLY | os.O_CREAT | os.O_TRUNC, 0o600)
    try:
        os.write(descriptor, content)
        os.fsync(descriptor)
    except OSError:
        aside.unlink(missing_ok=True)
        raise
    finally:
        os.close(descriptor)
    os.replace(aside, path)
    folder = os.open(path.parent, os.O_RDONLY | os.O_DIRECTORY)
    try:
        os.fsync(folder)
    finally:
        os.close(folder)


def running(state: str | Path | None = None) -> Folder:
    """The folder that a command without an address means.

    ``state`` or ``CAIRNWIND_STATE`` if given; else the default folder if a service runs on it, else the
    demo's if one runs there, else the default.
    """
    given = state or os.environ.get("CAIRNWIND_STATE")
    if given:
        return Folder(given)
    usual, demo = Folder(default()), Folder(default(DEMO))
    return demo if usual.address() is None and demo.address() is not None else usual
