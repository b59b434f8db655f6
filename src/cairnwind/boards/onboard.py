"""Interlocks that a board keeps by itself: what of a site's rules fits one, in the form in which our firmware has them (docs/firmware.md).

A rule fits as far as everything that it names is on that board: excludes whole, needs, trips and longest times for the outputs that are
there. The host goes on keeping all of them, and is first: times that a board counts are a little more patient with whoever goes on or
stays on than the host's (`LATER`), and a little sooner over where they keep somebody waiting (`SOONER`), since its clock is another one.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass
from typing import Any, NamedTuple

from cairnwind.boards import wire
from cairnwind.core.facts import conditions as co
from cairnwind.core.facts.claims import Instant
from cairnwind.core.facts.conditions import Memory, Node, Value
from cairnwind.core.facts.interlocks import Interlock
from cairnwind.core.facts.outputs import Output
from cairnwind.core.facts.site import Site
from cairnwind.core.rules.excludes import Excludes
from cairnwind.core.rules.needs import Needs
from cairnwind.core.rules.pace import Pace
from cairnwind.core.rules.trip import Trip
from cairnwind.core.values.settings import FULL, OFF, ON, Setting

NEEDS, EXCLUDES, LONGEST, TRIP, NEEDS_ANALOGUE, TRIP_ANALOGUE = range(1, 7)
MOST, WORDS = 16, 8
"""How many rules a board keeps, and of how many words each is."""
SOONER, LATER = 99, 101
"""Percent of a time: a board's clock may be off by half of one, with a ceramic resonator."""
LONGEST_TIME = 1 << 30
"""Milliseconds."""
COUNTS = 1024
DEFAULT_EVERY = 100_000_000


@dataclass(frozen=True, slots=True)
class BoardRule:
    """A rule as a board keeps it, under the name of the interlock that it comes from. Times in milliseconds."""

    name: str
    kind: int
    outputs: tuple[str, ...]
    lines: tuple[int, ...]
    """The pins of its outputs."""
    pin: int = 0
    """The input that it looks at."""
    high: bool = False
    """It is met, or its cause is there, while that is high, or above the bound."""
    bound: int = 0
    """Counts of the converter."""
    a: int = 0
    """Grace, gap, longest time on, or how long a cause has to be there."""
    b: int = 0
    """How long what is needed has to last; the rest; counts of slack."""

    @property
    def words(self) -> list[int]:
        """Its eight registers."""
        mask = sum(1 << line for line in self.lines)
        whole = (mask, min(self.a, LONGEST_TIME), min(self.b, LONGEST_TIME))
        return [
            self.kind << 8 | self.high << 7 | self.pin,
            self.bound,
            *(word for each in whole for word in (each >> 16, each & 0xFFFF)),
        ]


class Held(NamedTuple):
    """Where a board has a part of an interlock."""

    board: str
    outputs: tuple[str, ...]
    """Those for which it keeps it."""
    in_force: bool
    why_not: str = ""


class Table(NamedTuple):
    """What one board is to keep."""

    rules: tuple[BoardRule, ...] = ()
    crowded: frozenset[str] = frozenset()
    """Interlocks that would fit, and for which there is no room."""

    @property
    def words(self) -> list[int]:
        """The whole table, of `MOST` rules."""
        found = [word for rule in self.rules for word in rule.words]
        return found + [0] * (MOST * WORDS - len(found))

    @property
    def sum(self) -> int:
        """CRC-16 of the serial line standard, over the words, high bytes first."""
        total = 0xFFFF
        for word in self.words:
            for byte in (word >> 8, word & 255):
                total ^= byte
                for _ in range(8):
                    total = total >> 1 ^ 0xA001 if total & 1 else total >> 1
        return total

    @property
    def generation(self) -> int:
        """Known by what is in it: 0 where nothing is."""
        return 1 + self.sum % 0xFFFE if self.rules else 0


def keeps(site: Site, board: str) -> bool:
    """Whether a board keeps rules at all, by what it is."""
    return bool(getattr(site.boards[board].facts, "keeps_rules", False))


def tables(site: Site, interlocks: Iterable[Interlock]) -> dict[str, Table]:
    """What each board that can is to keep; those of a rule come whole or not at all, in the order of the site file."""
    found: dict[str, Table] = {}
    for board in site.boards:
        if not keeps(site, board):
            continue
        rules: list[BoardRule] = []
        crowded = set()
        for rule in interlocks:
            parts = list(fit(site, board, rule))
            if len(rules) + len(parts) > MOST:
                crowded.add(rule.name)
            else:
                rules += parts
        found[board] = Table(tuple(rules), frozenset(crowded))
    return found


def fit(site: Site, board: str, rule: Interlock) -> Iterator[BoardRule]:
    """What of an interlock a board can keep."""
    own = tuple(site.outputs[name] for name in rule.outputs if site.outputs[name].pin.board == board)
    own = tuple(output for output in own if not output.latching and not output.levels)
    single = tuple(output for output in own if not output.others)
    if isinstance(rule, Excludes):
        if len(single) == len(rule.outputs):
            yield _made(rule, EXCLUDES, single, a=_ms(rule.gap, SOONER))
    elif isinstance(rule, Pace):
        for output in single if rule.longest_on else ():
            yield _made(rule, LONGEST, (output,), a=_ms(rule.longest_on, LATER) + 1, b=_ms(rule.rest, SOONER))
    elif isinstance(rule, Needs | Trip) and own:
        yield from _conditional(site, board, rule, own)


def _conditional(site: Site, board: str, rule: Needs | Trip, own: tuple[Output, ...]) -> Iterator[BoardRule]:
    needs = isinstance(rule, Needs)
    grace = rule.grace if isinstance(rule, Needs) else 0
    found = []
    for part in _parts(rule.condition.node, co.All if needs else co.Any_):
        span, node = (part.span, part.inside) if isinstance(part, co.Lasting) else (0, part)
        seen = _seen(site, board, node, needs)
        if seen is None or any(line == each.pin for output in own for line in output.lines for each in seen):
            return  # one part of it is not to be seen from there: the board would keep another rule
        for each in seen:
            patience = _ms(grace, LATER) + _ms(each.patience, LATER)
            if each.analogue and needs and span:
                return  # how long a reading has been so is counted by the host alone
            if needs:
                kind, a, b = NEEDS_ANALOGUE if each.analogue else NEEDS, patience, _ms(span, SOONER)
            else:
                kind, a, b = TRIP_ANALOGUE if each.analogue else TRIP, patience + _ms(span, LATER), 0
            b = each.slack if each.analogue else b
            found.append(_made(rule, kind, own, pin=each.pin, high=each.high, bound=each.bound, a=a, b=b))
    yield from found


def _made(rule: Interlock, kind: int, outputs: Sequence[Output], **more: Any) -> BoardRule:
    lines = tuple(line for output in outputs for line in output.lines)
    return BoardRule(rule.name, kind, tuple(output.name for output in outputs), lines, **more)


def _ms(nanoseconds: int, percent: int) -> int:
    return nanoseconds * percent // 100_000_000


def _parts(node: Node, kind: type) -> Iterator[Node]:
    """The parts of an 'and' (needs: each is a rule of its own), or of an 'or' (trips)."""
    if isinstance(node, kind):
        for part in node.parts:
            yield from _parts(part, kind)
    else:
        yield node


# --- what a board sees by itself ------------------------------------------------------------------------------


class _Sees(NamedTuple):
    """What a pin has to be at."""

    pin: int
    high: bool
    patience: int = 0
    """Nanoseconds for which the host looks before it believes it."""
    analogue: bool = False
    bound: int = 0
    slack: int = 0


class _Supposing:
    """A view in which one thing is so, and nothing else is known. See `cairnwind.core.facts.conditions.View`."""

    now = Instant(0, 0)

    def __init__(self, site: Site, **known: Any) -> None:
        self.site, self._known = site, known

    def active(self, input: str) -> bool | None:
        """Of the one input."""
        return self._known.get("active")

    def way(self, input: str) -> int | None:
        """Of no input: a board has no rules for what is turned."""

    def value(self, input: str) -> float | None:
        """Of the one input."""
        return self._known.get("value")

    def setting(self, output: str) -> Setting | None:
        """Of the one output."""
        return self._known.get("setting")

    def unsure(self, output: str) -> bool:
        """Never."""
        return False


def _seen(site: Site, board: str, node: Node, needs: bool) -> list[_Sees] | None:
    """What has to be seen at that board's pins for it to be so; None where that does not tell."""
    condition = co.Condition("", node)
    if len(condition.about) != 1 or any(
        isinstance(each, co.Lasting | co.Becomes) for each in condition.nodes
    ):
        return None
    ((kind, name),) = condition.about
    view: Callable[..., Value] = lambda **known: node.look(_Supposing(site, **known), Memory())  # type: ignore[arg-type]  # noqa: E731
    if kind == "input":
        input = site.inputs[name]
        if input.pin.board != board or input.counts:
            return None
        if input.analogue:
            return _counts(site, node, name, needs)
        states = view(active=False), view(active=True)
        if states not in ((False, True), (True, False)):
            return None
        return [_Sees(input.pin.line, states[1] != input.active_low, input.debounce)]
    if kind == "output":
        output = site.outputs[name]
        if output.pin.board != board or output.others or output.modulates(output.pin.line) or output.latching:
            return None
        states = view(setting=OFF), view(setting=ON)
        if states not in ((False, True), (True, False)):
            return None
        return [_Sees(output.pin.line, (wire.to_pin(output, ON) == FULL) == states[1])]
    return None


def _counts(site: Site, node: Node, name: str, needs: bool) -> list[_Sees] | None:
    """The counts of its converter at which an analogue input makes it so: from one on, up to one, or (needs) between two."""
    input = site.inputs[name]
    volts = getattr(site.boards[input.pin.board].facts, "reference", 5.0)
    so = []
    for count in range(COUNTS):
        value = input.value(count / (COUNTS - 1) * volts)
        believed = value is not None and input.plausible[0] <= value <= input.plausible[1]
        so.append(node.look(_Supposing(site, value=value if believed else None), Memory()) is True)  # type: ignore[arg-type]
    if True not in so or all(so):
        return None
    first, last = so.index(True), COUNTS - 1 - so[::-1].index(True)
    if not all(so[first : last + 1]) or (not needs and first > 0 and last < COUNTS - 1):
        return None
    slack = 0
    if isinstance(node, co.Compare) and node.slack:
        edge = input.volts(node.bound)
        back = min(abs(input.volts(node.bound + way * node.slack) - edge) for way in (-1, 1))
        slack = int(back / volts * (COUNTS - 1))
    patience = input.settles * 3 + input.median * (input.every or DEFAULT_EVERY if input.median else 0)
    found = []
    if first > 0:
        found.append(_Sees(input.pin.line, True, patience, True, first - 1, slack))
    if last < COUNTS - 1:
        found.append(_Sees(input.pin.line, False, patience, True, last + 1, slack))
    return found


# --- said -----------------------------------------------------------------------------------------------------


def where(interlock: Interlock, table: Mapping[str, Table], in_force: Callable[[str], str]) -> list[Held]:
    """Which boards have a part of an interlock; ``in_force`` says of a board why its table is not in force, or nothing."""
    found = []
    for board, held in table.items():
        outputs = tuple(
            dict.fromkeys(name for rule in held.rules if rule.name == interlock.name for name in rule.outputs)
        )
        if outputs:
            why = in_force(board)
            found.append(Held(board, outputs, not why, why))
        elif interlock.name in held.crowded:
            found.append(Held(board, (), False, f"it has room for {MOST} rules, and others come first"))
    return found
