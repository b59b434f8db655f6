"""Who may: keys with a role.

``watch`` may look, ``operate`` may command, ``keep`` may also do what only a keeper may. A key may be limited to some
outputs, groups and kinds: it still sees the whole site, and commands those only. Moves to safe are no exception, but for the
all-stop, which any key that may operate anything may give.
"""

from __future__ import annotations

from typing import Any, NamedTuple

from cairnwind.core.facts.site import Site
from cairnwind.core.language.words import OF_KIND

ROLES = ("watch", "operate", "keep")
KINDS = {name.replace(" ", "-"): kinds for name, kinds in OF_KIND.items()}
"""Kinds by the names that a key may be limited to."""


class Key(NamedTuple):
    """A credential, as far as it is known without its text."""

    id: int
    name: str
    role: str
    only: tuple[str, ...] = ()
    """Outputs, groups and kinds ('lamps', as a phrase says it) that it may command; empty: all."""
    when: dict[str, Any] = {}  # noqa: RUF012 - never changed: see `cairnwind.core.values.hours`
    made: int = 0
    used: int = 0
    """Wall nanoseconds of its last use, to the minute."""
    used_from: str = ""

    @property
    def keeps(self) -> bool:
        """May do what only a keeper may."""
        return self.role == "keep"

    def may(self, site: Site, output: str) -> bool:
        """Whether it may command an output. Names of outputs and groups go before those of kinds."""
        if not self.only or output in self.only:
            return True
        for each in self.only:
            if each in site.groups:
                if output in site.groups[each]:
                    return True
            elif each not in site.outputs and output in site.outputs:
                if site.outputs[output].kind in KINDS.get(each, ()):
                    return True
        return False

    def outputs(self, site: Site) -> frozenset[str] | None:
        """The outputs that it may command; None: all."""
        return frozenset(name for name in site.outputs if self.may(site, name)) if self.only else None


def lacks(key: Key, needed: str) -> bool:
    """Whether a key has less than the role that is needed."""
    return ROLES.index(key.role) < ROLES.index(needed)
