"""Guards as facts."""

from __future__ import annotations

from cairnwind.core.values.fact import fact


@fact
class Guard:
    """A passcode on an output: right, it opens for a time and closes by itself."""

    output: str
    opens: int
    """Nanoseconds."""
    fails: str = "secure"
    """What its lock does without power: 'secure' stays shut, 'safe' opens. A fact of its wiring."""
