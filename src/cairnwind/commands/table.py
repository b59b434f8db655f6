"""All commands there are: importing this imports every file of this package, and holds that nothing was forgotten."""

from __future__ import annotations

import importlib
from collections.abc import Mapping
from pathlib import Path
from typing import get_args

from cairnwind.commands.declaring import DECLARED, OF_EVENT, Command
from cairnwind.core.facts import events as ev

for _each in sorted(Path(__file__).parent.glob("*.py")):
    if _each.stem not in ("__init__", "table", "declaring", "reading", "page", "claim_requests"):
        importlib.import_module(f"cairnwind.commands.{_each.stem}")

__all__ = ["COMMANDS", "OF_EVENT", "role_of", "urgent"]
COMMANDS: Mapping[str, type[Command]] = dict(sorted(DECLARED.items()))
"""By word."""
INTERNAL = frozenset((ev.Overtaken, ev.Withdraw, ev.Denied, ev.Pretended, ev.Probe, ev.Trace, ev.Act))
"""Commands that nobody gives by a surface: the service gives them to itself, or they only ask."""
if _unsaid := [
    kind.__name__ for kind in get_args(ev.Command) if kind not in INTERNAL and kind not in OF_EVENT
]:
    raise TypeError(f"no command is declared that makes {', '.join(_unsaid)}")


def urgent(event: object) -> bool:
    """Whether a command goes first, and is never counted nor shed."""
    lane = OF_EVENT[type(event)].lane
    return lane(event) if callable(lane) else lane


def role_of(event: object) -> str:
    """The role that a command needs."""
    found = OF_EVENT.get(type(event))
    return found.role if found is not None else "operate"
