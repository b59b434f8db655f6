"""The question language: what is so, what is not, and what nobody knows.

    kiln-vent is on for 30 s and kiln-door is closed
    cupboard-temperature is above 42 C or not (link shelf is up)
    bench-switch becomes pressed twice within 600 ms
    between 22:00 and 06:30 and on weekdays

Conditions look at what is confirmed, never at what is wished. They have three values; *unknown* (None) is
neither permission nor cause:

    not      |          and    | true     unknown  false     or       | true     unknown  false
    true     | false    true   | true     unknown  false     true     | true     true     true
    unknown  | unknown  unknown| unknown  unknown  false     unknown  | true     unknown  unknown
    false    | true     false  | false    false    false     false    | true     unknown  false

`for` counts from when its inside is seen to be true, and from zero after unknown. What was false at any moment of
the time asked about has certainly not lasted for all of it, whatever is unknown since or on its way. `becomes` is
true at the one moment when false turns to true; unknown to true is no such moment. A condition is asked again only when something
that it names has changed, or when its own clock says so: see `Memory`.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping
from fractions import Fraction
from typing import Any, NamedTuple, Protocol

from msgspec import Struct, field

from cairnwind.core.facts.claims import Claim, Instant
from cairnwind.core.facts.inputs import Input
from cairnwind.core.facts.outputs import Output
from cairnwind.core.facts.site import Site
from cairnwind.core.values.moments import Moment, local, wall
from cairnwind.core.values.quantities import show_duration
from cairnwind.core.values.settings import Colour, Drive, Level, Setting, Tone

Value = bool | None
Dependency = tuple[str, str]
"""What a condition looks at: ('output' | 'claims' | 'input' | 'board' | 'supply' | 'trip' | 'guard', name)."""
DAYS = ("Monday", "Tuesday", "Wednesday", "Thursday", "Friday", "Saturday", "Sunday")
WEEKDAYS, WEEKEND = frozenset(range(5)), frozenset((5, 6))


class View(Protocol):
    """What there is to look at. None where that is not known."""

    @property
    def now(self) -> Instant:
        """Now."""

    def setting(self, output: str) -> Setting | None:
        """What an output is confirmed to be at."""

    def active(self, input: str) -> bool | None:
        """A contact's state."""

    def way(self, input: str) -> int | None:
        """Which way an encoder is turned at this very moment: 1 up, -1 down, 0 not."""

    def value(self, input: str) -> float | None:
        """An analogue input's value, or what has been counted."""

    def up(self, board: str) -> bool:
        """Whether a board answers."""

    def leader(self, output: str) -> Claim | None:
        """The claim that leads."""

    def load(self, supply: str) -> Fraction | None:
        """Amperes that are drawn from a supply."""

    def tripped(self, trip: str) -> bool:
        """Whether a trip is latched."""

    def wrong_codes(self, output: str, span: int) -> int:
        """How many wrong codes a guarded output was given in the last ``span`` nanoseconds."""

    def unsure(self, output: str) -> bool:
        """Whether an output is on its way from off to on or back, so that nobody knows which it is at this moment."""

    def clock_right(self) -> bool:
        """Whether the wall clock is to be believed."""

    @property
    def site(self) -> Site:
        """What is wired."""


class Memory(Struct):
    """What one condition remembers from one look to the next, by the number of a node."""

    since: dict[int, int] = field(default_factory=dict)
    """Of a `for`: monotonic nanoseconds since which its inside is true."""
    was: dict[int, Value] = field(default_factory=dict)
    """Of a `becomes`, a `for` and a comparison with hysteresis: what it was."""
    false_at: dict[int, int] = field(default_factory=dict)
    """Of a `for`: monotonic nanoseconds at which its inside was last known to be false."""
    rises: dict[int, int] = field(default_factory=dict)
    """Of a 'becomes … twice': when it last became so."""
    due_mono: int | None = None
    due_wall: int | None = None
    """When it has to be asked again although nothing has changed."""
    denied: bool = False
    """What is looked at stands behind a 'not'."""
    frozen: bool = False
    """It is only supposed: nothing is to be remembered of this look."""

    def copy(self) -> Memory:
        """The same, to be looked at by whoever does not decide; may be made in any thread."""
        return Memory(self.since.copy(), self.was.copy(), self.false_at.copy(), self.rises.copy())

    def wake_mono(self, due: int) -> None:
        """Ask again at this monotonic time."""
        if self.due_mono is None or due < self.due_mono:
            self.due_mono = due

    def wake_wall(self, due: int) -> None:
        """Ask again at this time of the wall clock."""
        if self.due_wall is None or due < self.due_wall:
            self.due_wall = due


class Missing(NamedTuple):
    """Something that stands in the way of a condition."""

    text: str
    only_time: bool = False
    expected: int | None = None
    """Monotonic nanoseconds at which time will have taken it away."""
    expected_wall: int | None = None


class Node(Struct, frozen=True):
    """A part of a condition. ``text`` is its canonical form."""

    number: int
    text: str

    def look(self, view: View, memory: Memory) -> Value:
        """Whether it is so."""
        raise NotImplementedError

    def missing(self, view: View, memory: Memory) -> list[Missing]:
        """What stands in the way of its being so; asked only where it is not."""
        raise NotImplementedError

    def inverse(self, view: View, memory: Memory) -> list[Missing]:
        """What stands in the way of its being not so."""
        return [Missing(self.text)]

    @property
    def parts(self) -> tuple[Node, ...]:
        """What it is made of."""
        return ()


# --- tests ----------------------------------------------------------------------------------------------------


class Test(Node, frozen=True):
    """One thing and what it may be. ``ask`` gives whether it is so, ``say`` how it is instead, in words."""

    about: tuple[Dependency, ...]
    ask: Callable[[View], Value]
    say: Callable[[View], str]

    def look(self, view: View, memory: Memory) -> Value:
        """See `Node.look`."""
        return self.ask(view)

    def missing(self, view: View, memory: Memory) -> list[Missing]:
        """See `Node.missing`."""
        return [Missing(self.say(view))]

    def inverse(self, view: View, memory: Memory) -> list[Missing]:
        """See `Node.inverse`."""
        return [Missing(self.say(view))]


class Compare(Test, frozen=True):
    """A value against a bound, with the hysteresis of its input: what is so stays so until it is clearly not."""

    read: Callable[[View], float | None]
    above: bool
    bound: float
    equal: bool
    slack: float

    def look(self, view: View, memory: Memory) -> Value:
        """See `Node.look`."""
        value = self.read(view)
        if value is None:
            if not memory.frozen:
                memory.was.pop(self.number, None)
            return None
        bound = self.bound
        if self.slack and memory.was.get(self.number):
            bound += -self.slack if self.above else self.slack
        found = value > bound if self.above else value < bound
        found = found or (self.equal and value == bound)
        if self.slack and not memory.frozen:
            memory.was[self.number] = found
        return found


class Wrong(Test, frozen=True):
    """So many wrong codes within a time: it ceases by itself."""

    output: str
    span: int

    def look(self, view: View, memory: Memory) -> Value:
        """See `Node.look`."""
        found = self.ask(view)
        if found:
            memory.wake_mono(view.now.mono + self.span // 20)
        return found


class Hours(Node, frozen=True):
    """Between two moments of the day, the second excluded; it may go past midnight."""

    start: Moment
    end: Moment

    def look(self, view: View, memory: Memory) -> Value:
        """See `Node.look`."""
        if not view.clock_right():
            return None
        now, where = view.now.wall, view.site.where
        begins, ends = self.start.after(now, where), self.end.after(now, where)
        coming = [due for due in (begins, ends) if due is not None]
        if not coming:
            return None
        memory.wake_wall(min(coming))
        return ends is not None and (begins is None or ends < begins)

    def missing(self, view: View, memory: Memory) -> list[Missing]:
        """See `Node.missing`."""
        if not view.clock_right():
            return [Missing("the time of day is not known")]
        due = self.start.after(view.now.wall, view.site.where)
        return [Missing(f"it is not {self.text}", True, expected_wall=due)]

    def inverse(self, view: View, memory: Memory) -> list[Missing]:
        """See `Node.inverse`."""
        if not view.clock_right():
            return [Missing("the time of day is not known")]
        due = self.end.after(view.now.wall, view.site.where)
        return [Missing(f"it is {self.text}", True, expected_wall=due)]


class Days(Node, frozen=True):
    """On some days of the week."""

    days: frozenset[int]

    def look(self, view: View, memory: Memory) -> Value:
        """See `Node.look`."""
        if not view.clock_right():
            return None
        memory.wake_wall(self._midnight(view, 1))
        return self._today(view) in self.days

    def _today(self, view: View) -> int:
        return local(view.now.wall, view.site.timezone).weekday()

    def _midnight(self, view: View, days: int) -> int:
        from datetime import datetime, timedelta

        today = local(view.now.wall, view.site.timezone).date()
        return wall(datetime.combine(today + timedelta(days=days), datetime.min.time()), view.site.timezone)

    def missing(self, view: View, memory: Memory) -> list[Missing]:
        """See `Node.missing`."""
        if not view.clock_right():
            return [Missing("the day is not known")]
        today = self._today(view)
        ahead = next(n for n in range(1, 8) if (today + n) % 7 in self.days)
        return [Missing(f"it is {DAYS[today]}", True, expected_wall=self._midnight(view, ahead))]

    def inverse(self, view: View, memory: Memory) -> list[Missing]:
        """See `Node.inverse`."""
        if not view.clock_right():
            return [Missing("the day is not known")]
        today = self._today(view)
        ahead = next((n for n in range(1, 8) if (today + n) % 7 not in self.days), 7)
        return [Missing(f"it is {DAYS[today]}", True, expected_wall=self._midnight(view, ahead))]


# --- what binds them ------------------------------------------------------------------------------------------


class Not(Node, frozen=True):
    """The opposite."""

    inside: Node

    def look(self, view: View, memory: Memory) -> Value:
        """See `Node.look`."""
        memory.denied = not memory.denied
        found = self.inside.look(view, memory)
        memory.denied = not memory.denied
        return None if found is None else not found

    def missing(self, view: View, memory: Memory) -> list[Missing]:
        """See `Node.missing`."""
        return self.inside.inverse(view, memory)

    def inverse(self, view: View, memory: Memory) -> list[Missing]:
        """See `Node.inverse`."""
        return self.inside.missing(view, memory)

    @property
    def parts(self) -> tuple[Node, ...]:
        """See `Node.parts`."""
        return (self.inside,)


class All(Node, frozen=True):
    """All of them."""

    each: tuple[Node, ...]

    def look(self, view: View, memory: Memory) -> Value:
        """See `Node.look`. Every part is asked, whatever the others say: they count their own time."""
        found = [part.look(view, memory) for part in self.each]
        return False if False in found else None if None in found else True

    def missing(self, view: View, memory: Memory) -> list[Missing]:
        """See `Node.missing`."""
        return [
            gap
            for part in self.each
            if part.look(view, memory) is not True
            for gap in part.missing(view, memory)
        ]

    def inverse(self, view: View, memory: Memory) -> list[Missing]:
        """See `Node.inverse`."""
        return [gap for part in self.each for gap in part.inverse(view, memory)][:1]

    @property
    def parts(self) -> tuple[Node, ...]:
        """See `Node.parts`."""
        return self.each


class Any_(Node, frozen=True):
    """At least one of them."""

    each: tuple[Node, ...]

    def look(self, view: View, memory: Memory) -> Value:
        """See `Node.look`."""
        found = [part.look(view, memory) for part in self.each]
        return True if True in found else None if None in found else False

    def missing(self, view: View, memory: Memory) -> list[Missing]:
        """See `Node.missing`: the way with the least in it, time before all else."""
        ways = [part.missing(view, memory) for part in self.each]
        return min(ways, key=lambda way: (sum(not gap.only_time for gap in way), len(way)))

    def inverse(self, view: View, memory: Memory) -> list[Missing]:
        """See `Node.inverse`."""
        return [
            gap
            for part in self.each
            if part.look(view, memory) is not False
            for gap in part.inverse(view, memory)
        ]

    @property
    def parts(self) -> tuple[Node, ...]:
        """See `Node.parts`."""
        return self.each


class Lasting(Node, frozen=True):
    """So, and for some time already."""

    inside: Node
    span: int
    outputs: tuple[str, ...] = ()
    """What its inside says of outputs: while one of them is on its way nothing lasts."""

    def look(self, view: View, memory: Memory) -> Value:
        """See `Node.look`."""
        found, now = self._inside(view, memory), view.now.mono
        known_false = now if memory.was.get(self.number) is False else memory.false_at.get(self.number)
        if not memory.frozen:
            self._remember(found, now, known_false, memory)
        if found is False:
            return False
        if found is True:
            since = memory.since.get(self.number, now)
            if now - since >= self.span:
                return True
            memory.wake_mono(since + self.span)
        if known_false is not None and now < known_false + self.span:
            memory.wake_mono(known_false + self.span)
            return False
        # nobody knows how long it was so before it was unknown: behind a 'not' that must not be taken for an answer
        return None if found is None or memory.denied else False

    def _inside(self, view: View, memory: Memory) -> Value:
        """Whether its inside is so; unknown while an output that it speaks of is on its way."""
        found = self.inside.look(view, memory)
        return None if any(view.unsure(name) for name in self.outputs) else found

    def _remember(self, found: Value, now: int, known_false: int | None, memory: Memory) -> None:
        if known_false is not None:
            memory.false_at[self.number] = known_false
        memory.was[self.number] = found
        if found is True:
            memory.since.setdefault(self.number, now)
        else:
            memory.since.pop(self.number, None)

    def missing(self, view: View, memory: Memory) -> list[Missing]:
        """See `Node.missing`."""
        inside, since = self._inside(view, memory), memory.since.get(self.number)
        if inside is True and since is not None:
            text = f"{self.inside.text}, but not yet for {show_duration(self.span)}"
            return [Missing(text, True, since + self.span)]
        if inside is None and self.inside.look(view, memory) is True:
            moving = " and ".join(name for name in self.outputs if view.unsure(name))
            return [Missing(f"{moving} is on its way")]
        return self.inside.missing(view, memory)

    def inverse(self, view: View, memory: Memory) -> list[Missing]:
        """See `Node.inverse`."""
        if self.look(view, memory) is None:
            return [Missing(f"it is not known whether {self.text}")]
        return [Missing(self.text)]

    @property
    def parts(self) -> tuple[Node, ...]:
        """See `Node.parts`."""
        return (self.inside,)


class Becomes(Node, frozen=True):
    """The moment at which false turns to true, or the second such moment within a time."""

    inside: Node
    twice: int = 0

    def look(self, view: View, memory: Memory) -> Value:
        """See `Node.look`."""
        found = self.inside.look(view, memory)
        if memory.frozen:
            return False
        was = memory.was.get(self.number)
        memory.was[self.number] = found
        if found is None:
            return None
        rose = found and was is False
        if not rose or not self.twice:
            return rose
        now = view.now.mono
        before = memory.rises.get(self.number)
        if before is not None and now - before <= self.twice:
            del memory.rises[self.number]  # a third time begins anew
            return True
        memory.rises[self.number] = now
        return False

    def missing(self, view: View, memory: Memory) -> list[Missing]:
        """See `Node.missing`."""
        return [Missing(f"waiting for: {self.text}")]

    @property
    def parts(self) -> tuple[Node, ...]:
        """See `Node.parts`."""
        return (self.inside,)


_FORGETFUL = Memory(frozen=True)


def _decided(node: Node, view: View) -> tuple[Value, frozenset[Dependency]]:
    """See `Condition.decided_by`."""
    if isinstance(node, Not):
        value, by = _decided(node.inside, view)
        return (None if value is None else not value), by
    if isinstance(node, All | Any_):
        settles = isinstance(node, Any_)  # one that is so settles an 'or', one that is not so an 'and'
        found = []
        for part in node.each:
            value, by = _decided(part, view)
            if value is settles:
                return settles, by
            found.append((value, by))
        unknown = any(value is None for value, _ in found)
        return (None if unknown else not settles), frozenset().union(*(by for _, by in found))
    assert isinstance(node, Test)
    return node.look(view, _FORGETFUL), frozenset(node.about)


class Condition(NamedTuple):
    """A condition that was understood. ``text`` is its canonical form, which reads to itself."""

    text: str
    node: Node

    @property
    def nodes(self) -> Iterator[Node]:
        """All its parts, itself first."""
        stack = [self.node]
        while stack:
            node = stack.pop()
            yield node
            stack += node.parts

    @property
    def about(self) -> tuple[Dependency, ...]:
        """What it looks at, once each."""
        return tuple(
            dict.fromkeys(each for node in self.nodes if isinstance(node, Test) for each in node.about)
        )

    @property
    def momentary(self) -> bool:
        """Whether it is about a moment, and not about a state."""
        return any(isinstance(node, Becomes) for node in self.nodes)

    @property
    def plain(self) -> bool:
        """Whether nothing in it counts time or remembers anything: it is so or not by what is so alone."""
        return all(
            type(node) in (Test, All, Any_, Not) or (type(node) is Compare and not node.slack)
            for node in self.nodes
        )

    def decided_by(self, view: View) -> tuple[Value, frozenset[Dependency]]:
        """Of a plain one: whether it is so now, and what that hangs on: while that stays as it is, so does the answer."""
        return _decided(self.node, view)

    def look(self, view: View, memory: Memory) -> Value:
        """Whether it is so now; ``memory`` says when it has to be asked again."""
        memory.due_mono = memory.due_wall = None
        return self.node.look(view, memory)

    def supposed(self, view: View, memory: Memory, instead: Mapping[str, Setting]) -> Value:
        """Whether it would still be so with some outputs at other settings. Nothing is remembered of it."""
        memory.frozen = True
        due = memory.due_mono, memory.due_wall
        try:
            return self.node.look(Supposed(view, instead), memory)
        finally:
            memory.frozen = False
            memory.due_mono, memory.due_wall = due

    def missing(self, view: View, memory: Memory) -> list[Missing]:
        """What stands in its way; empty where it is so."""
        memory.frozen = True
        due = memory.due_mono, memory.due_wall
        try:
            return [] if self.node.look(view, memory) is True else self.node.missing(view, memory)
        finally:
            memory.frozen = False
            memory.due_mono, memory.due_wall = due


class Supposed:
    """A view in which some outputs are at other settings than they are."""

    def __init__(self, view: View, instead: Mapping[str, Setting]) -> None:
        self._view, self._instead = view, instead
        self.now = view.now

    def setting(self, output: str) -> Setting | None:
        """What an output is supposed to be at."""
        found = self._instead.get(output)
        return found if found is not None else self._view.setting(output)

    def unsure(self, output: str) -> bool:
        """It is where it is supposed to be."""
        return output not in self._instead and self._view.unsure(output)

    def load(self, supply: str) -> Fraction | None:
        """What would be drawn."""
        return drawn(self, supply)

    def __getattr__(self, name: str) -> Any:
        return getattr(self._view, name)


def drawn(view: Any, supply: str) -> Fraction | None:
    """Amperes drawn from a supply by outputs that are on; None where one of them is not known."""
    total = Fraction(0)
    for output in view.site.outputs.values():
        if output.supply == supply and output.draws:
            setting = view.setting(output.name)
            if setting is None:
                return None
            total += output.draws if setting.on else 0
    return total


def share(setting: Setting | None) -> float | None:
    """How far an output is on, in percent; None where it is not known."""
    match setting:
        case Level(parts) | Drive(parts):
            return parts / 10_000
        case Tone(millihertz, loudness):
            return loudness / 10_000 if millihertz else 0.0
        case Colour():
            return max(setting) / 10_000
    return None


def show_output(output: Output, view: View) -> str:
    """As it is now, in words."""
    setting = view.setting(output.name)
    return f"{output.name} is {'not known' if setting is None else output.say(setting)}"


def show_input(input: Input, view: View) -> str:
    """As it is now, in words."""
    if not input.valued:
        active = view.active(input.name)
        return f"{input.name} is {'not known' if active is None else input.say(active)}"
    value = view.value(input.name)
    return f"{input.name} is {'not known' if value is None else show_value(value, input.measure)}"


def show_value(value: float, unit: str) -> str:
    """A number with its unit, as people write it."""
    shown = f"{value:.4g}" if abs(value) < 10_000 else f"{value:.0f}"
    return f"{shown} {unit}".strip()
