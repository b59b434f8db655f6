"""Lockout: named tags on an output, each taken off by whoever hung it or by a keeper."""

from __future__ import annotations

from cairnwind.core.facts.interlocks import Refusal
from cairnwind.core.facts.outputs import Output
from cairnwind.core.state.inforce import InForce


def refuse(force: InForce, output: Output) -> Refusal | None:
    """A tag is on it."""
    tags = force.tags.get(output.name)
    if not tags:
        return None
    tag = next(iter(tags.values()))
    more = f" and {len(tags) - 1} more" if len(tags) > 1 else ""
    because = f": {tag.reason}" if tag.reason else ""
    return Refusal(
        "lockout",
        f"locked out by tag '{tag.name}'{more}{because}",
        f"Whoever hung it takes it off, or a keeper: cairnwind lockout {output.name} {tag.name} --remove.",
        expected=tag.until or None,
    )
