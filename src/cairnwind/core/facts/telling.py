"""What the ways out (the broker, hooks, mail) may be asked to tell, and how the site file says which of it."""

from __future__ import annotations

from functools import partial

from cairnwind.core.values import entries
from cairnwind.core.values.errors import CallerError
from cairnwind.core.values.keys import written

EVENTS = ("alarm", "trip", "change", "input", "command", "link", "stop")
SEVERITIES = ("notice", "warning", "urgent")


def _events(value: object) -> tuple[str, ...]:
    if not isinstance(value, list) or not value or not all(each in EVENTS for each in value):
        raise CallerError("", f"{value!r} are no events.", f"Write some of {', '.join(EVENTS)}.")
    return tuple(value)


def _among(words: tuple[str, ...]) -> str:
    return ", ".join(f'`"{word}"`' for word in words)


WHICH_EVENTS = written(
    f"which events are told: a list of {_among(EVENTS)}", _events, default=("alarm", "trip"), unsaid='["alarm", "trip"]'
)  # fmt: skip
WHICH_OUTPUTS = written(
    "events that concern an output: of these only; of all unless said", entries.texts, default=(), unsaid="[]"
)
LEAST_SEVERITY = written(
    f"the least that an alarm has to have: {_among(SEVERITIES)}",
    partial(entries.choice, among=SEVERITIES), default="notice", unsaid='"notice"',
)  # fmt: skip
