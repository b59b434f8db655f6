"""Pace: how long and how often each of its outputs may be on.

    pace = { least_off = "2 min", … }         outputs

The least times delay what somebody wants, never what a gate or a stop asks for. The least time on counts from the confirmed
on; the longest from the first order, since what cannot be confirmed must not stay longer for that. Gaps between starts and
the rest after the longest time on count from the confirmed off, and begin in full after a restart.
"""

from __future__ import annotations

from collections import deque
from collections.abc import Iterable
from typing import Any

from cairnwind.core.facts import events as ev
from cairnwind.core.facts.interlocks import Interlock, Refusal
from cairnwind.core.rules.form import Form
from cairnwind.core.rules.gate import Gate, Kind
from cairnwind.core.rules.occupancy import occupies
from cairnwind.core.state.standing import Standing
from cairnwind.core.state.state import State
from cairnwind.core.state.turn import Turn
from cairnwind.core.state.watches import Watches
from cairnwind.core.values.errors import CallerError
from cairnwind.core.values.fact import fact
from cairnwind.core.values.quantities import NS, duration, show_duration

HOUR = 3600 * NS


@fact
class Pace(Interlock):
    """How long and how often each of its outputs may be on; 0 where nothing is said."""

    least_on: int = 0
    """Delays an off that somebody wants, never one that a gate or a stop asks for."""
    least_off: int = 0
    longest_on: int = 0
    rest: int = 0
    """After the longest time on."""
    starts: int = 0
    """In any hour."""
    stagger: int = 0
    """From a start of one of them to the next start of any."""


KEYS = ("least_on", "least_off", "longest_on", "rest", "starts", "stagger")


def _read(name: str, form: Form) -> Pace:
    outputs = form.outputs()
    return form.take("pace", lambda value: _make(name, outputs, value))


def _make(name: str, outputs: tuple[str, ...], value: object) -> Pace:
    if not isinstance(value, dict) or not value or any(key not in KEYS for key in value):
        raise CallerError(
            "bad-value",
            "this is no pace.",
            f'Write pace = {{ least_off = "2 min" }}; it has {", ".join(KEYS)}.',
        )
    times = {key: duration(each) for key, each in value.items() if key != "starts"}
    starts = value.get("starts", 0)
    if isinstance(starts, bool) or not isinstance(starts, int) or not 0 <= starts <= 1000:
        raise CallerError("bad-value", f"{starts!r} is no number of starts in an hour.", "Write starts = 6.")
    pace = Pace(name, outputs, starts=starts, **times)
    if pace.longest_on and pace.least_on > pace.longest_on:
        raise CallerError("bad-value", "the least time on is longer than the longest.", "Make it shorter.")
    if bool(pace.rest) != bool(pace.longest_on):
        raise CallerError(
            "bad-value",
            "after its longest time on it rests, and only one of the two is said.",
            'Say both: longest_on = "20 min", rest = "10 min".',
        )
    return pace


def _said(rule: Pace) -> str:
    parts = [
        f"{key.replace('_', ' ')} {show_duration(getattr(rule, key))}"
        for key in KEYS
        if key != "starts" and getattr(rule, key)
    ]
    parts += [f"at most {rule.starts} starts in any hour"] if rule.starts else []
    return f"{', '.join(rule.outputs)}: {', '.join(parts)}"


KIND = Kind("pace", Pace, {
    "pace": "a table of `least_on`, `least_off`, `longest_on` with `rest`, `starts` in any hour, `stagger` between starts",
    "outputs": "a list of outputs or groups",
}, _read, _said)  # fmt: skip


class _Pacing:
    """What is remembered of one output."""

    __slots__ = ("off_of", "on_at", "on_sure", "rested", "running", "starts")

    def __init__(self) -> None:
        self.on_at = 0
        """Monotonic nanoseconds of its last start: it may be on since then."""
        self.on_sure: int | None = None
        """Monotonic nanoseconds since which it is confirmed on; None while it is not."""
        self.off_of = 0
        """The start whose end has been confirmed."""
        self.starts: deque[int] = deque(maxlen=1000)
        """Of those in the last hour."""
        self.rested = True
        """It has not been on for its longest time since it last began."""
        self.running = False
        """It was on when its board was lost."""


class PaceGate(Gate[Pace]):
    """The gate."""

    rule = Pace
    disarms = counts = True

    def __init__(self, state: State, watches: Watches) -> None:
        super().__init__(state, watches)
        self._pacing: dict[str, _Pacing] = {}
        """By output."""
        self._last_start: dict[str, int] = {}
        """By rule: when one of its outputs was last started."""
        self._counted: set[str] = set()
        """Outputs whose starts a rule counts."""
        self._resting: set[str] = set()
        """Outputs that have to rest after their longest time on."""

    def add(self, rule: Pace) -> None:
        """What was started before is not known."""
        for name in rule.outputs:
            self._pacing.setdefault(name, _Pacing())
        self._counted.update(rule.outputs if rule.starts else ())
        self._resting.update(rule.outputs if rule.rest else ())
        self._last_start[rule.name] = self.state.clocks.now.mono

    # --- asked --------------------------------------------------------------------------------------------

    def refuse(self, turn: Turn, s: Standing, starting: bool) -> Refusal | None:
        """It has been on for too long, or may not start yet."""
        pacing = self._pacing[s.output.name]
        for rule in self.of[s.output.name]:
            found = (
                self._may_not_start(turn, rule, s, pacing)
                if starting
                else self._too_long(turn, rule, s, pacing)
            )
            if found is not None:
                return found
        return None

    def _too_long(self, turn: Turn, rule: Pace, s: Standing, pacing: _Pacing) -> Refusal | None:
        if not rule.longest_on or turn.now.mono < pacing.on_at + rule.longest_on:
            return None
        pacing.rested = False
        self._remember(turn, s.output.name)
        text = f"'{rule.name}' lets it be on for {show_duration(rule.longest_on)} at a time"
        return Refusal("pace", text, "It rests now.", rule=rule.name)

    def _may_not_start(self, turn: Turn, rule: Pace, s: Standing, pacing: _Pacing) -> Refusal | None:
        now = turn.now.mono
        due, why = 0, ""
        still = max(rule.least_off, 0 if pacing.rested else rule.rest)
        if still:
            if s.drive.confirmed is None or s.drive.confirmed.on or s.drive.pending is not None:
                text = f"'{rule.name}': it is not confirmed off yet"
                return Refusal("pace", text, "Wait.", True, rule=rule.name)
            if now < s.known.off_at + still:
                due, why = s.known.off_at + still, f"keeps it off for {show_duration(still)} once it is off"
        if rule.starts:
            while pacing.starts and pacing.starts[0] + HOUR <= now:
                pacing.starts.popleft()
            if len(pacing.starts) >= rule.starts and pacing.starts[-rule.starts] + HOUR > due:
                due, why = pacing.starts[-rule.starts] + HOUR, f"allows {rule.starts} starts in any hour"
        last = self._last_start.get(rule.name)
        if rule.stagger and last is not None and now < last + rule.stagger and last + rule.stagger > due:
            due, why = last + rule.stagger, f"keeps {show_duration(rule.stagger)} between two starts"
        if not why:
            return None
        turn.mono.set(due, "ruled", s.output.name, f"pace {rule.name}")
        return Refusal("pace", f"'{rule.name}' {why}", "Wait.", True, turn.wall_of(due), rule.name)

    def keeps_on(self, turn: Turn, s: Standing) -> Refusal | None:
        """Its least time on is not over."""
        on_sure = self._pacing[s.output.name].on_sure
        if on_sure is None:
            return None
        for rule in self.of[s.output.name]:
            due = on_sure + rule.least_on
            if rule.least_on and turn.now.mono < due:
                turn.mono.set(due, "ruled", s.output.name, f"least {rule.name}")
                text = f"'{rule.name}' keeps it on for {show_duration(rule.least_on)} once it is on"
                remedy = "Wait; an all-stop takes it off at once."
                return Refusal("pace", text, remedy, True, turn.wall_of(due), rule.name)
        return None

    # --- told ---------------------------------------------------------------------------------------------

    def started(self, turn: Turn, s: Standing) -> None:
        """It goes on."""
        pacing, now = self._pacing[s.output.name], turn.now.mono
        if not (pacing.on_at and occupies(turn, s).may_be_on):
            pacing.on_at = now  # else it has not gone off since
        pacing.starts.append(now)
        was, pacing.rested = pacing.rested, True
        rules = self.of[s.output.name]
        for rule in rules:
            if rule.longest_on:
                due = pacing.on_at + rule.longest_on
                turn.mono.set(due, "ruled", s.output.name, f"longest {rule.name}")
        if not was or s.output.name in self._counted:
            self._remember(turn, s.output.name)

    def sent(self, turn: Turn, s: Standing) -> None:
        """If that is a start, it starts now: an on that failed is tried again."""
        if s.drive.pending is not None and s.drive.pending.on and not s.drive.is_on:
            for rule in self.of[s.output.name]:
                self._last_start[rule.name] = turn.now.mono

    def known(self, turn: Turn, s: Standing) -> None:
        """Note since when it is confirmed on: what was only sent, or failed, does not count."""
        pacing = self._pacing[s.output.name]
        if not s.drive.is_on:
            pacing.on_sure = None
        elif pacing.on_sure is None:
            pacing.on_sure = turn.now.mono
        elif pacing.rested and self._long(turn, s.output.name):
            pacing.rested = False  # also where it should long be off, and does not go
            self._remember(turn, s.output.name)

    def _long(self, turn: Turn, name: str) -> bool:
        """It has been on for its longest time, and has to rest after that."""
        on_at = self._pacing[name].on_at
        return any(rule.rest and turn.now.mono >= on_at + rule.longest_on for rule in self.of[name])

    def lost(self, turn: Turn, s: Standing) -> None:
        """Its board is away: nobody knows how long it is on."""
        drive = s.drive
        may_be_on = (
            s.gating.granted or drive.confirmed is None or drive.confirmed.on or drive.pending is not None
        )
        if may_be_on and s.output.name in self._resting:
            pacing = self._pacing[s.output.name]
            pacing.rested, pacing.running = False, True
            self._remember(turn, s.output.name)

    def back(self, turn: Turn, s: Standing) -> None:
        """Its board answers again: it has to rest unless it cannot have been on for too long."""
        pacing = self._pacing[s.output.name]
        if pacing.running:
            pacing.running = False
            longest = min(rule.longest_on for rule in self.of[s.output.name] if rule.rest)
            pacing.rested = turn.now.mono < pacing.on_at + longest
            self._remember(turn, s.output.name)

    def went_off(self, turn: Turn, s: Standing, was_on: bool) -> None:
        """It is confirmed off: if it was on for its longest time, or nobody knows since when, it has to rest."""
        pacing = self._pacing[s.output.name]
        if pacing.rested and s.output.name in self._resting:
            unknown, fresh = was_on and not pacing.on_at, pacing.on_at != pacing.off_of
            if unknown or (fresh and self._long(turn, s.output.name)):
                pacing.rested = False
                self._remember(turn, s.output.name)
        pacing.off_of = pacing.on_at

    def jumped(self, turn: Turn) -> None:
        """What is stored by the wall clock is stored anew."""
        for name, pacing in self._pacing.items():
            if pacing.starts and name in self._counted:
                self._remember(turn, name)

    # --- remembered ---------------------------------------------------------------------------------------

    def _remember(self, turn: Turn, name: str) -> None:
        pacing = self._pacing[name]
        most = max((rule.starts for rule in self.of[name]), default=0)
        starts = [turn.wall_of(at) for at in list(pacing.starts)[-most:]] if most else []
        turn.effect(self.kept(name, {"starts": starts, "rested": pacing.rested}))

    def recall(self, turn: Turn, kept: Iterable[ev.Keep]) -> None:
        """Starts and rests. A clock that was set back meanwhile shortens nothing."""
        now = turn.now
        for each in kept:
            pacing = self._pacing.get(each.key)
            if pacing is not None and each.data is not None:
                pacing.starts.extend(now.mono - max(0, now.wall - wall) for wall in each.data["starts"])
                pacing.rested = each.data["rested"]

    def succeed(self, turn: Turn, old: Any) -> None:
        """All that was remembered of outputs, whatever their rules say now, and of rules by name."""
        self._pacing.update((name, was) for name, was in old._pacing.items() if name in self._pacing)
        self._last_start.update(
            (name, at) for name, at in old._last_start.items() if name in self._last_start
        )
