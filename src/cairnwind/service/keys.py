"""Who may: keys, console sessions, one-time sign-in links. Only hashes are kept.

Keys and tokens are 32 random bytes, so one round of SHA-256 is enough to store them; passcodes, which people
choose, will be hashed slowly.
"""

from __future__ import annotations

import hashlib
import secrets
import threading
import time

from cairnwind.core.errors import CallerError
from cairnwind.folder import Folder
from cairnwind.store.reader import Key, Reader
from cairnwind.store.writer import Writer

FIRST = "first key"
SESSION_DAYS = 30
LINK_MINUTES = 15
MOST_CACHED = 256
REMEMBER = 60
"""Seconds for which a secret found good is not looked up again."""


class Keys:
    """Checks what a caller shows."""

    def __init__(self, reader: Reader, writer: Writer) -> None:
        self._reader = reader
        self._writer = writer
        self._known: dict[str, tuple[Key, int]] = {}
        """Secrets seen and found good, by hash: (key, wall nanoseconds until which)."""
        self._links: dict[str, tuple[Key, float]] = {}
        self._lock = threading.Lock()

    def first(self, folder: Folder) -> Key:
        """The first key: made at the first start, its text left in the state folder.

        Where that file is gone the first key gets a new text: whoever owns the folder owns the service, and
        this is the way back in for those who lost it.
        """
        text = folder.key()
        found = self.by_key(text) if text else None
        if found is None:
            text = new_secret()
            self._writer.put_and_wait([("key", (FIRST, "keep", digest(text), time.time_ns()))])
            folder.write_key(text)
            found = self.by_key(text)
        assert found is not None
        return found

    def renew(self, name: str, role: str) -> str:
        """Give a key of this name and role a new text, which is returned and not kept; the old one ends."""
        text = new_secret()
        self._writer.put_and_wait([("key", (name, role, digest(text), time.time_ns()))])
        self._known.clear()
        return text

    def by_key(self, text: str) -> Key | None:
        """The key with this text."""
        return self._look(digest(text), session=False)

    def by_session(self, text: str) -> Key | None:
        """The key behind a console session."""
        return self._look(digest(text), session=True)

    def new_link(self, key: Key) -> str:
        """A token that signs a browser in, once, within `LINK_MINUTES`."""
        token = new_secret()
        with self._lock:
            now = time.monotonic()
            self._links = {each: link for each, link in self._links.items() if link[1] > now}
            self._links[digest(token)] = (key, now + LINK_MINUTES * 60)
        return token

    def sign_in(self, token: str) -> str:
        """Use a one-time token; returns the text of a new session. Raises `CallerError` (``sign-in``)."""
        with self._lock:
            key, ends = self._links.pop(digest(token), (None, 0.0))
        if key is None or ends < time.monotonic():
            raise CallerError(
                "sign-in",
                "This sign-in link has been used, or is too old.",
                "Make a new one: cairnwind key link.",
            )
        text = new_secret()
        now = time.time_ns()
        self._writer.put_and_wait(
            [("session", (digest(text), key.id, now, now + SESSION_DAYS * 86400 * 10**9))]
        )
        return text

    def sign_out(self, session: str) -> None:
        """End a session, at once."""
        self._writer.put_and_wait([("no session", (digest(session),))])
        self._known.pop(digest(session), None)

    def _look(self, hash: str, *, session: bool) -> Key | None:
        now = time.time_ns()
        cached = self._known.get(hash)
        if cached is not None and cached[1] > now:
            return cached[0]
        found = self._reader.session(hash, now) if session else self._reader.key(hash)
        if found is not None:
            if len(self._known) >= MOST_CACHED:
                self._known.clear()
            self._known[hash] = (found, now + REMEMBER * 10**9)
        return found


def new_secret() -> str:
    """32 random bytes as text."""
    return secrets.token_urlsafe(32)


def digest(text: str) -> str:
    """The stored form of a secret."""
    return hashlib.sha256(text.encode()).hexdigest()
