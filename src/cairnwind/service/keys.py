"""Who may: keys, console sessions, one-time links. Only hashes are kept.

Keys and tokens are 32 random bytes, so one round of SHA-256 is enough to store them; passcodes, which people
choose, are hashed slowly (`cairnwind.service.codes`). After wrong ones there is a wait that grows by where they come
from, for whoever is wrong again; what is good is let in all the same, so that guessing keeps no owner out.
"""

from __future__ import annotations

import hashlib
import secrets
import threading
import time
from collections.abc import Callable
from typing import Any, NamedTuple
from zoneinfo import ZoneInfo

from cairnwind.core.language.rights import ROLES, Key
from cairnwind.core.values import hours
from cairnwind.core.values.errors import CallerError, unknown
from cairnwind.folder import Folder
from cairnwind.store.reader import Reader, Session
from cairnwind.store.writer import Writer, form

FIRST = "first key"
SESSION_DAYS, IDLE_DAYS = 30, 7
"""After which a browser has to sign in again, and after which where nobody has used it."""
OPEN_EVERY = 3600
"""Seconds after which an open stream counts as a use of its session again."""
LINK_MINUTES = 15
PAIR_MINUTES = 5
MOST_CACHED = 256
MOST_SOURCES = 1000
REMEMBER = 60
"""Seconds for which a secret found good is not looked up again, and a use is not noted again."""
FREE, LONGEST_WAIT = 5, 60.0
"""Wrong ones before there is any wait; seconds of wait at most."""


class Link(NamedTuple):
    """A one-time token: for whom, and until when (monotonic seconds)."""

    ends: float
    key: str
    """The name of the key whose session it opens."""
    role: str = ""
    limits: dict[str, Any] = {}  # noqa: RUF012 - never changed
    """Where the key is made only when the link is used: its role and limits."""


class Who(NamedTuple):
    """Who an open stream belongs to."""

    key: str
    session: str = ""
    """Hash of the session, if it is one."""


class Keys:
    """Checks what a caller shows, and keeps the list."""

    def __init__(self, reader: Reader, writer: Writer, zone: Callable[[], str]) -> None:
        """``zone``: the site's time zone as it is now."""
        self._reader, self._writer, self._zone = reader, writer, zone
        self._known: dict[str, tuple[Key, int]] = {}
        """Secrets seen and found good, by hash: (key, wall nanoseconds until which)."""
        self._named: dict[str, Key | None] = {}
        self._ended: set[str] = set()
        """Hashes of sessions that were ended since the start: a stream may just have been opening."""
        self._links: dict[str, Link] = {}
        self._wrong: dict[tuple[str, str], tuple[int, float]] = {}
        """By (kind, where from): how many wrong ones, and until when there is a wait (monotonic seconds)."""
        self._noted: dict[tuple[str, str], int] = {}
        self._age = 0
        """Grows with every change of the list: what was read before one is not remembered after it."""
        self._lock = threading.Lock()
        self.expel: Callable[[Callable[[Who], bool]], None] = lambda _: None
        """Ends open streams of whom this is true. Set by who has them."""
        self.disown: Callable[[str], None] = lambda _: None
        """Ends what still acts in the name of a key that is gone. Set by who can."""

    # --- what is shown --------------------------------------------------------------------------------------

    def first(self, folder: Folder) -> Key:
        """The first key: made at the first start, its text left in the state folder.

        Where that file is gone the first key gets a new text: whoever owns the folder owns the service, and
        this is the way back in for those who lost it.
        """
        text = folder.key()
        found = self._reader.key(digest(text)) if text else None
        if found is None or not found.keeps:
            text = new_secret()
            try:
                self._put(FIRST, "keep", text, {})
                folder.write_key(text)
            except Exception as error:  # the store's own, or the disk's
                raise CallerError(
                    "store",
                    f"The first key cannot be kept in {folder.path}: {error}.",
                    f"Make room on its disk (df {folder.path}).",
                ) from None
            found = self._reader.key(digest(text))
        assert found is not None
        assert text is not None
        return found

    def by_key(self, text: str, source: str = "") -> Key | None:
        """The key with this text. Raises `CallerError`: ``wait`` after wrong ones, ``key`` outside its hours."""
        return self._shown(text, source, session=False)

    def by_session(self, text: str, source: str = "") -> Key | None:
        """The key behind a console session. Raises like `by_key`."""
        return self._shown(text, source, session=True)

    def named(self, name: str) -> Key | None:
        """The key of this name, for remotes that carry one; whether it is good now is for `good` to say."""
        try:
            return self._named[name]
        except KeyError:
            age = self._age
            found = self._reader.key_named(name)
            self._remember(age, self._named, name, found)
            return found

    def good(self, key: Key) -> str:
        """Why a key is not good now; empty if it is."""
        wall = time.time_ns()
        if hours.over(key.when, wall):
            return f"the key '{key.name}' has ended"
        if not hours.good(key.when, wall, ZoneInfo(self._zone())):
            when = hours.shown(key.when, self._zone())
            days = f" on {', '.join(when['days'])}" if when["days"] else ""
            return f"the key '{key.name}' is good from {when['from'] or '00:00'} to {when['to'] or '24:00'}{days} only"
        return ""

    def still(self, who: Who) -> bool:
        """Whether an open stream may go on."""
        key = self.named(who.key)
        good = key is not None and not self.good(key) and who.session not in self._ended
        now = time.time_ns()
        if good and who.session and now - self._noted.get(("", who.session), 0) > OPEN_EVERY * 10**9:
            self._noted["", who.session] = now  # a panel on the wall is used while it shows
            self._writer.put([("session used", (now, who.session))])
        return good

    def note(self, key: Key, source: str, session: str = "") -> None:
        """Keep when a key was used last, to the minute."""
        now = time.time_ns()
        if now - self._noted.get((key.name, session), 0) < REMEMBER * 10**9:
            return
        if len(self._noted) >= MOST_SOURCES:
            self._noted.clear()
        self._noted[key.name, session] = now
        self._writer.put([("key used", (now, source, key.id))])
        if session:
            self._writer.put([("session used", (now, session))])

    def _shown(self, text: str, source: str, *, session: bool) -> Key | None:
        hash, now = digest(text), time.time_ns()
        cached = self._known.get(hash)
        found: Key | None
        if cached is not None and cached[1] > now:
            found = cached[0]
        else:
            kind = "session" if session else "key"
            age = self._age
            found = self._reader.session(hash, now, _idle(now)) if session else self._reader.key(hash)
            if found is None:
                # only who is wrong waits: nobody keeps an owner out by guessing from the same address
                self._wait(kind, source)
                self._count(kind, source)
                return None
            self._wrong.pop((kind, source), None)
            self._remember(age, self._known, hash, (found, now + REMEMBER * 10**9))
        if found.when and (why := self.good(found)):
            raise CallerError("key", f"{why[0].upper()}{why[1:]}.", "Come back then, or use another key.")
        self.note(found, source, hash if session else "")
        return found

    def _wait(self, kind: str, source: str) -> None:
        left = self._wrong.get((kind, source), (0, 0.0))[1] - time.monotonic()
        if left > 0:
            what = {"link": "links", "session": "sessions"}.get(kind, "keys")
            error = CallerError(
                "wait",
                f"Too many wrong {what} came from {source or 'there'}.",
                f"Wait {max(1, round(left))} s.",
            )
            error.more["retry_after"] = max(1, round(left))
            raise error

    def _count(self, kind: str, source: str) -> None:
        count = self._wrong.get((kind, source), (0, 0.0))[0] + 1
        wait = min(LONGEST_WAIT, 2.0 ** min(10, count - FREE)) if count >= FREE else 0.0
        if len(self._wrong) >= MOST_SOURCES:
            self._wrong.clear()
        self._wrong[kind, source] = (count, time.monotonic() + wait)

    # --- the list -------------------------------------------------------------------------------------------

    def all(self) -> list[Key]:
        """Every key, by age."""
        return self._reader.keys()

    def new(self, name: str, role: str, limits: dict[str, Any]) -> str:
        """A new key; its text is returned and not kept. ``limits`` as in `limits_of`. Raises `CallerError`."""
        self._free(name, role)
        text = new_secret()
        self._put(name, role, text, limits)
        return text

    def ensure(self, name: str, role: str) -> None:
        """A key of this name for a remote that carries one, unless there is one; nobody knows its text."""
        if self._reader.key_named(name) is None:
            self._put(name, role, new_secret(), {})

    def renew(self, name: str, role: str) -> str:
        """Give a key of this name and role a new text, which is returned and not kept; the old one ends."""
        text = new_secret()
        self._put(name, role, text, {})
        return text

    def revoke(self, name: str) -> Key:
        """End a key, its sessions and its streams, at once. Raises `CallerError`."""
        found = self._reader.key_named(name)
        if found is None:
            raise unknown("key", name, [key.name for key in self.all()])
        others = [
            key
            for key in self.all()
            if key.keeps and key.name != name and not hours.over(key.when, time.time_ns())
        ]
        if found.keeps and not others:
            raise CallerError(
                "refused",
                f"'{name}' is the last key with the role keep.",
                "Make another first: cairnwind key new --for … --role keep.",
            )
        self._writer.put_and_wait([("no key", (found.id,))])
        self._forget()
        self.expel(lambda who: who.key == name)
        self.disown(name)
        return found

    def _put(self, name: str, role: str, text: str, limits: dict[str, Any]) -> None:
        self._writer.put_and_wait([("key", (name, role, digest(text), form(limits), time.time_ns()))])
        self._forget()
        self.expel(lambda who: who.key == name and not who.session)

    def _remember(self, age: int, memory: dict[str, Any], name: str, found: object) -> None:
        with self._lock:
            if age != self._age:
                return
            if len(memory) >= MOST_CACHED:
                memory.clear()
            memory[name] = found

    def _forget(self) -> None:
        with self._lock:
            self._age += 1
            self._known.clear()
            self._named.clear()

    def _free(self, name: str, role: str) -> None:
        if not name.isprintable() or not 1 <= len(name) <= 60 or name != name.strip():
            raise CallerError(
                "bad-value",
                "This is not a name for a key.",
                "Say whose it is, in up to 60 printable characters.",
            )
        if role not in ROLES:
            raise CallerError("bad-value", f"'{role}' is not a role.", f"Send one of {', '.join(ROLES)}.")
        like = next((key.name for key in self.all() if key.name.casefold() == name.casefold()), None)
        if like is not None:
            raise CallerError(
                "refused", f"There is a key for '{like}' already.", "Revoke it first, or take another name."
            )

    # --- sessions and links -----------------------------------------------------------------------------------

    def new_link(self, key: Key) -> str:
        """A token that signs a browser in, once, within `LINK_MINUTES`."""
        return self._link(Link(time.monotonic() + LINK_MINUTES * 60, key.name))

    def pair(self, name: str, role: str, limits: dict[str, Any]) -> str:
        """A token that makes a key of this name and signs a browser in with it, once, within `PAIR_MINUTES`."""
        self._free(name, role)
        return self._link(Link(time.monotonic() + PAIR_MINUTES * 60, name, role, limits))

    def _link(self, link: Link) -> str:
        token = new_secret()
        with self._lock:
            now = time.monotonic()
            self._links = {each: link for each, link in self._links.items() if link.ends > now}
            self._links[digest(token)] = link
        return token

    def sign_in(self, token: str, device: str = "", source: str = "") -> str:
        """Use a one-time token; returns the text of a new session. Raises `CallerError` (``sign-in``, ``wait``)."""
        with self._lock:
            link = self._links.pop(digest(token), None)
        if link is None or link.ends < time.monotonic():
            self._wait("link", source)
            self._count("link", source)
            raise CallerError(
                "sign-in",
                "This sign-in link has been used, or is too old.",
                "Make a new one: cairnwind key link.",
            )
        if link.role:
            self._free(link.key, link.role)
            self._put(link.key, link.role, new_secret(), link.limits)
        key = self._reader.key_named(link.key)
        if key is None:
            raise CallerError(
                "sign-in", f"The key '{link.key}' does not exist any more.", "Make a new link by another."
            )
        text, now = new_secret(), time.time_ns()
        self._writer.put_and_wait(
            [
                (
                    "session",
                    (digest(text), key.id, now, now + SESSION_DAYS * 86400 * 10**9, device[:200], now),
                )
            ]
        )
        return text

    def sessions(self) -> list[Session]:
        """Browsers that are signed in."""
        now = time.time_ns()
        return self._reader.sessions(now, _idle(now))

    def sign_out(self, session: str) -> None:
        """End a session, at once."""
        self._end(digest(session))

    def end_session(self, id: str) -> None:
        """End a session by its id. Raises `CallerError` (``unknown-name``)."""
        for session in self.sessions():
            if session.id == id:
                self._end(session.hash)
                return
        raise CallerError("unknown-name", f"There is no session '{id}'.", "See: cairnwind key sessions.")

    def _end(self, hash: str) -> None:
        self._writer.put_and_wait([("no session", (hash,))])
        self._forget()
        self._ended.add(hash)
        self.expel(lambda who: who.session == hash)


def new_secret() -> str:
    """32 random bytes as text."""
    return secrets.token_urlsafe(32)


def _idle(now: int) -> int:
    """A session that was not used since then has ended (wall nanoseconds)."""
    return now - IDLE_DAYS * 86400 * 10**9


def digest(text: str) -> str:
    """The stored form of a secret."""
    return hashlib.sha256(text.encode()).hexdigest()


def limits_of(body: dict[str, Any], names: Any, zone: str) -> dict[str, Any]:
    """The limits of a key from what was asked: ``only`` (outputs, groups and kinds), and hours. Raises `CallerError`."""
    only = body.get("only", [])
    if only == [] and "only" in body:
        raise CallerError(
            "bad-value", "'only' is empty, which would be everything.", "Name outputs, or leave it out."
        )
    if not isinstance(only, list) or len(only) > 1000 or not all(isinstance(each, str) for each in only):
        raise CallerError("bad-value", "'only' is not a list of names.", 'Send ["gallery", "showroom"].')
    for each in only:
        if each not in names:
            raise unknown("output or group", each, names)
    found = hours.read(body, zone)
    return {**({"only": list(dict.fromkeys(only))} if only else {}), **found}


def key_form(key: Key, zone: str) -> dict[str, Any]:
    """A key as it is listed: never its text."""
    from cairnwind.service.shapes import moment

    return {
        "name": key.name, "role": key.role, "only": list(key.only), **hours.shown(key.when, zone),
        "made": moment(key.made), "used": moment(key.used), "used_from": key.used_from or None,
    }  # fmt: skip
