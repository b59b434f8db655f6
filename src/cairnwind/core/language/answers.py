"""Answers to what was said aloud: one sentence, to be said back."""

from __future__ import annotations

from cairnwind.core.facts.course import Course
from cairnwind.core.facts.events import Outcome
from cairnwind.core.facts.site import Site
from cairnwind.core.values.errors import Trouble

MOST = 3
"""Outputs that are named one by one."""


def answer(site: Site, course: Course, outcome: Outcome) -> str:
    """What became of a phrase: in short, with what was not done and why."""
    if course.lead is not None and outcome.outcome not in ("refused", "not recorded"):
        return f"I will: {course.text}."
    parts = outcome.parts or (outcome,)
    failed = [part for part in parts if part.outcome not in ("driving", "waiting")]
    if not failed:
        waits = next((part for part in parts if part.outcome == "waiting"), None)
        return f"Soon: {course.text}; {waits.reason}." if waits else f"All right: {course.text}."
    whom = _names(site, list(dict.fromkeys(part.output for part in failed)))
    reason = failed[0].reason or failed[0].outcome
    reason = reason.removeprefix(f"{failed[0].output}: ")
    if len(failed) == len(parts):
        return f"No{f', not {whom}' if whom else ''}: {reason}."
    return f"All right, but not {whom}: {reason}."


def told(so: bool | None, instead: list[str]) -> str:
    """What is said of a question."""
    if so is None:
        return "That is not known."
    return "Yes." if so else f"No: {'; '.join(instead)}."


def question(error: Trouble) -> str:
    """What to ask back where two things may be meant; else what was not understood."""
    choices = [str(each) for each in error.more.get("choices", ())]  # type: ignore[attr-defined]
    if error.code == "asks-back" and choices:
        return (
            f"Which do you mean: {', '.join(choices[:-1])} or {choices[-1]}?"
            if len(choices) > 1
            else f"Do you mean {choices[0]}?"
        )
    return (
        f"I did not understand: {error.sentence}"
        if error.code in ("bad-phrase", "bad-value")
        else f"No: {error.sentence}"
    )


def _names(site: Site, names: list[str]) -> str:
    labels = [site.outputs[name].label or name for name in names if name in site.outputs]
    if len(labels) > MOST:
        return f"{', '.join(labels[:MOST])} and {len(labels) - MOST} more"
    return " and ".join(labels)
