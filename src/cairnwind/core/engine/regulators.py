"""Regulators: an input is kept between two values by switching an output, or by its level. Without a reading the output is safe."""

from __future__ import annotations

from collections.abc import Iterable
from itertools import count

from cairnwind.core.engine.reflexes import end_slots
from cairnwind.core.engine.requests import Requests
from cairnwind.core.facts import events as ev
from cairnwind.core.facts.claims import RELEASED, Rank, Source, held
from cairnwind.core.facts.outputs import Output
from cairnwind.core.facts.reflexes import Regulator, Rule
from cairnwind.core.state.sight import Sight
from cairnwind.core.state.turn import Turn
from cairnwind.core.values.fact import alike
from cairnwind.core.values.settings import FULL, Level, Setting


class _Keeping:
    """How a regulator stands."""

    __slots__ = ("changed", "rule", "sum", "ticked", "wants")

    def __init__(self, rule: Regulator) -> None:
        self.rule = rule
        self.wants: Setting | None = None
        self.changed = -rule.pause
        self.sum = 0.0
        self.ticked = 0

    def succeed(self, old: _Keeping) -> None:
        """Go on where the same rule was."""
        self.wants, self.changed, self.sum, self.ticked = old.wants, old.changed, old.sum, old.ticked


class Regulators:
    """``sight`` is what they look with; ``requests`` is where they wish."""

    def __init__(self, sight: Sight, requests: Requests) -> None:
        self._sight, self._requests = sight, requests
        self._count = count(1)
        self.all: dict[str, _Keeping] = {}
        self._of_input: dict[str, list[_Keeping]] = {}

    def arm(self, rules: Iterable[Rule]) -> None:
        """Those of the rules that are regulators hold from now on."""
        self.all, self._of_input = {}, {}
        for rule in rules:
            if isinstance(rule, Regulator):
                keeping = self.all[rule.name] = _Keeping(rule)
                self._of_input.setdefault(rule.input, []).append(keeping)

    def start(self, turn: Turn) -> None:
        """Each looks for the first time."""
        for keeping in self.all.values():
            self._regulate(turn, keeping)

    def reload(self, turn: Turn, rules: Iterable[Rule]) -> None:
        """What did not change goes on where it was; what did begins anew, and what is gone ends."""
        old = self.all
        self.arm(rules)
        fresh = []
        for name, keeping in self.all.items():
            before = old.get(name)
            if before is not None and alike(before.rule, keeping.rule):
                keeping.succeed(before)
                del old[name]
            else:
                fresh.append(keeping)
        end_slots(turn, {f"regulator:{name}" for name in old})
        for keeping in fresh:
            self._regulate(turn, keeping)

    def input_changed(self, turn: Turn, name: str) -> None:
        """A reading came in."""
        for keeping in self._of_input.get(name, ()):
            self._regulate(turn, keeping)

    def due(self, turn: Turn, name: str, slot: str) -> None:
        """It is time to look again."""
        keeping = self.all.get(name)
        if keeping is not None:
            self._regulate(turn, keeping)

    def catch_up(self, turn: Turn) -> None:
        """The journal can be written again: what each wants, and was not allowed to want, is wanted anew."""
        for keeping in self.all.values():
            claims = turn.standing(keeping.rule.output).claims.all
            standing = held(claims, f"regulator:{keeping.rule.name}")
            if keeping.wants is not None and (standing is None or standing.setting != keeping.wants):
                self._want(turn, keeping, keeping.wants, "the journal can be written again")

    def _regulate(self, turn: Turn, keeping: _Keeping) -> None:
        rule, now = keeping.rule, turn.now.mono
        value, output = self._sight.value(rule.input), turn.site.outputs[rule.output]
        if value is None:
            keeping.sum, keeping.ticked = 0.0, 0
            if keeping.wants != output.safe:
                self._want(turn, keeping, output.safe, f"{rule.input} is not known")
            return
        if keeping.wants is not None and now < keeping.changed + rule.pause:
            turn.mono.set(keeping.changed + rule.pause, "regulator", rule.name)
            return
        if rule.gain:
            turn.mono.set(now + rule.pause, "regulator", rule.name)
            wanted: Setting | None = self._level(keeping, value, now)
        else:
            wanted = _switched(keeping, value, output)
        if wanted is not None and not _near(keeping.wants, wanted, rule.gain):
            self._want(turn, keeping, wanted, f"{rule.input} is {value:.4g}")

    def _level(self, keeping: _Keeping, value: float, now: int) -> Level:
        """u = gain (e + 1/T ∫ e dt) in percent; the integral stops where the output is at its end."""
        rule = keeping.rule
        away = (rule.low + rule.high) / 2 - value
        if rule.lowers:
            away = -away
        span = now - keeping.ticked if keeping.ticked else 0
        keeping.ticked = now
        more = rule.gain * away * span / rule.integral
        total = rule.gain * away + keeping.sum + more
        if 0 <= total <= 100 or (total > 100) != (more > 0):
            keeping.sum = min(100.0, max(-100.0, keeping.sum + more))
        percent = min(100.0, max(0.0, rule.gain * away + keeping.sum))
        return Level(round(percent) * FULL // 100)

    def _want(self, turn: Turn, keeping: _Keeping, setting: Setting, why: str) -> None:
        rule = keeping.rule
        keeping.wants, keeping.changed = setting, turn.now.mono
        wish = ev.Wish(
            turn.now, f"regulator-{next(self._count)}", Source("regulator", f"{rule.name}: {why}"), rule.output, setting, Rank.REFLEX,
            f"regulator:{rule.name}", RELEASED,
        )  # fmt: skip
        self._requests.wish(turn, wish)


def _switched(keeping: _Keeping, value: float, output: Output) -> Setting | None:
    """Of two points: full below (or, of what lowers, above) them, off beyond them, and as it is in between."""
    rule = keeping.rule
    below, above = value < rule.low, value > rule.high
    on, off = (above, below) if rule.lowers else (below, above)
    if on or off or keeping.wants is None:
        return output.full if on else output.off
    return None


def _near(before: Setting | None, wanted: Setting, gain: float) -> bool:
    """Whether it is at that already; a level that is regulated need not follow a difference that nobody sees."""
    if before is None or wanted.on != before.on:
        return False
    if gain and isinstance(before, Level) and isinstance(wanted, Level):
        return abs(before.parts - wanted.parts) < FULL // 100
    return before == wanted
