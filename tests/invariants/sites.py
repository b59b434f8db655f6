"""Random sites with rules of every kind, and random things that happen to them: for Hypothesis and for `make soak`.

Each rule is made twice from the same draw: as the form of a site file, which the product reads, and as the tuples
that the oracle knows.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import Any, Protocol, TypeVar

from cairnwind.core.facts.claims import Lifetime, Rank, lasting, lease
from cairnwind.core.facts.hardware import Board, Pin
from cairnwind.core.facts.inputs import Input
from cairnwind.core.facts.interlocks import Interlock
from cairnwind.core.facts.outputs import Output
from cairnwind.core.facts.site import Site
from cairnwind.core.language import forms as rules
from cairnwind.core.rules import kinds
from cairnwind.core.values.quantities import NS
from tests.invariants.oracle import Ask, Oracle, Rule
from tests.invariants.plant import MS, Plant

T = TypeVar("T")
BEGIN = 1_795_000_000 * NS
RANKS = (Rank.PLAN, Rank.REFLEX, Rank.PERSON, Rank.PERSON, Rank.HAND)


class Draw(Protocol):
    """Where chance comes from."""

    def number(self, low: int, high: int) -> int: ...
    def one(self, among: Sequence[T]) -> T: ...


def site_and_rules(
    draw: Draw, most_outputs: int = 6, most_inputs: int = 3
) -> tuple[Site, tuple[Interlock, ...], tuple[Rule, ...]]:
    """A site, its interlocks, and the same as the oracle knows them."""
    boards = {
        f"board{number}": Board(f"board{number}", "simulated", line_count=20)
        for number in range(draw.number(1, 3))
    }
    outputs = {
        name: Output(name, "relay", Pin(draw.one(list(boards)), number), rearm=draw.one(("auto", "command")))
        for number, name in enumerate(f"out{letter}" for letter in "abcdefg"[: draw.number(2, most_outputs)])
    }
    inputs = {
        name: Input(name, "contact", Pin(draw.one(list(boards)), 10 + number), words=("shut", "ajar"))
        for number, name in enumerate(f"in{letter}" for letter in "xyz"[: draw.number(1, most_inputs)])
    }
    site = Site("random", boards=boards, outputs=outputs, inputs=inputs)
    forms, known = [], []
    for number in range(draw.number(1, 5)):
        form, rule = _rule(draw, f"rule {number}", list(outputs), list(inputs))
        forms.append(form)
        known.append(rule)
    language = rules.language(site, [form["name"] for form in forms if "trip" in form])
    return site, tuple(kinds.make(form, language) for form in forms), tuple(known)


def _rule(draw: Draw, name: str, outputs: list[str], inputs: list[str]) -> tuple[dict[str, Any], Rule]:
    kind = draw.one(("needs", "needs", "excludes", "excludes", "limit", "limit", "trip", "pace", "budget"))
    some = _some(draw, outputs, 2 if kind in ("excludes", "limit") else 1)
    if kind == "limit" and draw.number(0, 1):
        some = tuple(outputs)  # crowded
    match kind:
        case "needs":
            others = [each for each in outputs if each not in some]
            text, ask = _condition(draw, others, inputs, 2)
            form, grace = _graced(draw, {"name": name, "needs": text, "outputs": list(some)})
            return form, Rule(kind, name, some, ask, grace=grace)
        case "trip":
            text, ask = _condition(draw, outputs, inputs, 1)
            form, grace = _graced(draw, {"name": name, "trip": text, "outputs": list(some)})
            return form, Rule(kind, name, some, ask, grace=grace)
        case "excludes":
            gap = draw.one((0, 100 * MS, 2 * NS))
            form = {"name": name, "excludes": list(some), **({"gap": f"{gap // MS} ms"} if gap else {})}
            return form, Rule(kind, name, some, gap=gap)
        case "limit":
            most = draw.number(1, len(some) - 1)
            form = {
                "name": name,
                "limit": most,
                "outputs": list(some),
                "settle": "1 s",
                "order": list(reversed(some)),
            }
            return form, Rule(kind, name, some, most=most, weights=(1,) * len(some))
        case "budget":
            return _budget(draw, name, some)
    facts: dict[str, int] = {}
    for key, spans in (
        ("least_on", (3,)),
        ("least_off", (1, 20)),
        ("longest_on", (5, 60)),
        ("stagger", (2,)),
    ):
        if draw.number(0, 1):
            facts[key] = draw.one(spans) * NS
    if "longest_on" in facts:
        facts["rest"] = draw.one((1, 30)) * NS
    if draw.number(0, 2) == 0:
        facts["starts"] = draw.number(1, 4)
    facts = facts or {"least_off": 2 * NS}
    form = {key: value if key == "starts" else f"{value // NS} s" for key, value in facts.items()}
    return {"name": name, "pace": form, "outputs": list(some)}, Rule(
        "pace", name, some, pace=tuple(facts.items())
    )


def _budget(draw: Draw, name: str, some: tuple[str, ...]) -> tuple[dict[str, Any], Rule]:
    """So long, or so many starts, in any span."""
    span, starts = draw.one((30, 100, 600)), not draw.number(0, 2)
    most = draw.number(1, 4) if starts else span // draw.one((3, 10))
    form = {
        "name": name,
        "outputs": list(some),
        "budget": f"{most} {'starts' if starts else 's'} in any {span} s",
    }
    return form, Rule(
        "budget", name, some, most=most if starts else most * NS, gap=span * NS, weights=(int(starts),)
    )


def _graced(draw: Draw, form: dict[str, Any]) -> tuple[dict[str, Any], int]:
    """The same, sometimes with a grace."""
    grace = draw.one((-1, -1, 2, 15))
    return ({**form, "grace": f"{grace} s"}, grace * NS) if grace > 0 else (form, -1)


def _some(draw: Draw, names: list[str], least: int) -> tuple[str, ...]:
    found = dict.fromkeys(draw.one(names) for _ in range(draw.number(least, 4)))
    for name in names:
        if len(found) < least:
            found[name] = None
    return tuple(found)


def _condition(draw: Draw, outputs: list[str], inputs: list[str], deep: int) -> tuple[str, Ask]:
    """A condition as text and as the oracle asks it."""
    kind = draw.number(0, 9) if deep else draw.number(0, 4)
    if kind < 3 or (kind < 5 and not outputs):
        name, meant = draw.one(inputs), bool(draw.number(0, 1))
        return f"{name} is {'ajar' if meant else 'shut'}", ("contact", name, meant)
    if kind < 5:
        name, meant = draw.one(outputs), bool(draw.number(0, 2))
        return f"{name} is {'on' if meant else 'off'}", ("pin", name, meant)
    if kind == 5:
        begin, end = draw.number(0, 23), draw.number(0, 23)
        end = (begin + 1) % 24 if begin == end else end
        return f"between {begin:02d}:00 and {end:02d}:00", ("hours", begin * 3600, end * 3600)
    text, ask = _condition(draw, outputs, inputs, deep - 1)
    if kind == 6:
        return f"not ({text})", ("not", ask)
    if kind == 7:
        span = draw.one((1, 10))
        return f"({text}) for {span} s", ("for", ask, span * NS)
    other_text, other = _condition(draw, outputs, inputs, deep - 1)
    word = "and" if kind == 8 else "or"
    return f"({text}) {word} ({other_text})", (word, ask, other)


def plant(draw: Draw) -> Plant:
    """A random site that runs, with an oracle that looks on."""
    site, interlocks, known = site_and_rules(draw)
    oracle = Oracle(
        known,
        {name: output.pin.board for name, output in site.outputs.items()},
        {name: input.pin.board for name, input in site.inputs.items()},
    )
    return Plant(
        site,
        interlocks,
        oracle,
        lambda most: draw.number(0, 4) * most // 4,
        BEGIN + draw.number(0, 23) * 3600 * NS,
    )


# --- what happens ---------------------------------------------------------------------------------------------


def act(plant: Plant, draw: Draw, *, wiring: bool = False) -> None:
    """Something happens; ``wiring``: one time in six it is that an output gets another pin."""
    if wiring and not draw.number(0, 5):
        plant.rewire(draw.one(list(plant.site.outputs)))
        return
    do = draw.one(_LIKELY)
    do(plant, draw)


def wish(plant: Plant, draw: Draw) -> None:
    """Somebody wants something."""
    rank = draw.one(RANKS)
    life = draw.one((Lifetime("released"), lasting(draw.one((1, 8, 40)) * NS)))
    if rank is Rank.HAND:
        life = lease(3 * NS)
    plant.wish(
        draw.one(list(plant.site.outputs)),
        bool(draw.number(0, 3)),
        rank,
        "",
        life,
        patient=not draw.number(0, 4),
    )


def _crowd(plant: Plant, draw: Draw) -> None:
    """The plan wants everything on, and somebody something else."""
    for number, name in enumerate(plant.site.outputs):
        plant.wish(name, True, Rank.PLAN, f"plan:{number}", lasting(40 * NS))
    wish(plant, draw)


def _both(plant: Plant, draw: Draw) -> None:
    """Two clients at once."""
    wish(plant, draw)
    wish(plant, draw)


def _release(plant: Plant, draw: Draw) -> None:
    held = list(plant.claims)
    if held:
        output, slot = draw.one(held)
        plant.release(output, slot)


def _renew(plant: Plant, draw: Draw) -> None:
    leases = [at for at, claim in plant.claims.items() if claim.lifetime.kind == "lease"]
    if leases:
        plant.renew(*draw.one(leases))


def turn_input(plant: Plant, draw: Draw) -> None:
    """A contact moves."""
    name = draw.one(list(plant.contacts))
    plant.set_input(name, not plant.contacts[name])


def wait(plant: Plant, draw: Draw) -> None:
    """Time passes."""
    plant.pass_time(draw.one((MS, 30 * MS, 200 * MS, NS, 3 * NS, 11 * NS, 70 * NS)))


def _cable(plant: Plant, draw: Draw) -> None:
    board = draw.one(list(plant.up))
    plant.lose(board) if plant.up[board] else plant.back(board)


def _fail(plant: Plant, draw: Draw) -> None:
    plant.fails[draw.one(list(plant.up))] = draw.one(("before", "after", "silent"))


def _weld(plant: Plant, draw: Draw) -> None:
    plant.weld(draw.one(list(plant.pins)))


def _restart(plant: Plant, draw: Draw) -> None:
    plant.start()


def _reload(plant: Plant, draw: Draw) -> None:
    plant.reload()


def _jump(plant: Plant, draw: Draw) -> None:
    plant.jump(draw.one((-5 * 3600, -60, 60, 3600, 7 * 3600)) * NS)


def _stop(plant: Plant, draw: Draw) -> None:
    plant.all_stop() if plant.stop is None else plant.reset_stop()


def _reset(plant: Plant, draw: Draw) -> None:
    if plant.trips:
        plant.reset_trip(draw.one(list(plant.trips)))


def _disk(plant: Plant, draw: Draw) -> None:
    plant.disk(not plant.engine.state.journal.ok, bool(draw.number(0, 1)))


_OFTEN: tuple[tuple[int, Callable[[Plant, Draw], None]], ...] = (
    (8, wish), (1, _crowd), (3, _both), (3, _release), (2, _renew), (6, turn_input), (10, wait), (2, _cable), (2, _fail), (1, _weld), (1, _restart), (1, _reload), (1, _jump), (1, _stop),
    (3, _reset), (1, _disk),
)  # fmt: skip
_LIKELY = [do for often, do in _OFTEN for _ in range(often)]
