"""One id for a request, or whatever came by a remote, and all that it brings about: its answer, its commands, their rows in the journal, lines of the log."""

from __future__ import annotations

import re
import secrets
from collections.abc import Iterator
from contextlib import contextmanager
from contextvars import ContextVar

HEADER = "X-Request-Id"
_current: ContextVar[str] = ContextVar("request", default="")
_FORM = re.compile(r"[A-Za-z0-9_.:-]{1,64}")


def begin(asked: str) -> str:
    """A request begins in this thread: the id that it came with, where that is one, or a fresh one."""
    found = asked if _FORM.fullmatch(asked) else secrets.token_hex(6)
    _current.set(found)
    return found


@contextmanager
def of_its_own() -> Iterator[None]:
    """What is done in this thread meanwhile was brought about by one thing that came."""
    before = _current.set(secrets.token_hex(6))
    try:
        yield
    finally:
        _current.reset(before)


def current() -> str:
    """The id of the request that this thread answers; empty where it answers none."""
    return _current.get()
