"""Who may: keys with a role, and what a command needs.

``watch`` may look, ``operate`` may command, ``keep`` may also do what only a keeper may. A key may be limited to some
outputs and groups: it still sees the whole site, and commands those only. Moves to safe are no exception, but for the
all-stop, which any key that may operate anything may give.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from typing import Any, NamedTuple

from cairnwind.core import events as ev

ROLES = ("watch", "operate", "keep")
KEEPERS = (ev.Attest, ev.Reload, ev.ResetStop)
"""Commands that only a keeper may give, whatever the site says."""
ANYBODY = (ev.AllStop, ev.Acknowledge)
"""Commands of no output in particular, open to any key that may operate anything."""


class Key(NamedTuple):
    """A credential, as far as it is known without its text."""

    id: int
    name: str
    role: str
    only: tuple[str, ...] = ()
    """Outputs and groups that it may command; empty: all."""
    when: dict[str, Any] = {}  # noqa: RUF012 - never changed: see `cairnwind.core.hours`
    made: int = 0
    used: int = 0
    """Wall nanoseconds of its last use, to the minute."""
    used_from: str = ""

    @property
    def keeps(self) -> bool:
        """May do what only a keeper may."""
        return self.role == "keep"

    def outputs(self, groups: Mapping[str, Iterable[str]]) -> frozenset[str] | None:
        """The outputs that it may command; None: all."""
        if not self.only:
            return None
        return frozenset(name for each in self.only for name in groups.get(each, (each,)))


def lacks(key: Key, needed: str) -> bool:
    """Whether a key has less than the role that is needed."""
    return ROLES.index(key.role) < ROLES.index(needed)


def needed(command: Any) -> str:
    """The role that a command needs."""
    return "keep" if isinstance(command, KEEPERS) else "operate"
