"""Outputs with a proof: boards that know their coils, and contactors behind them that do as they like."""

from __future__ import annotations

from fractions import Fraction

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from cairnwind.core.engine.loop import Engine
from cairnwind.core.facts import events as ev
from cairnwind.core.facts.claims import PERSON, RELEASED, Instant, Rank, Source
from cairnwind.core.facts.hardware import Board, Pin
from cairnwind.core.facts.inputs import Input
from cairnwind.core.facts.outputs import Output
from cairnwind.core.facts.site import Site
from cairnwind.core.language import forms as rules
from cairnwind.core.rules import kinds
from cairnwind.core.values.errors import CallerError
from cairnwind.core.values.quantities import NS
from cairnwind.core.values.settings import Level
from tests.core.test_interlocks import Nobody
from tests.invariants.plant import MS, Plant

NAMES = ("up", "down", "fan")
WITHIN = 300 * MS
SITE = Site(
    "test",
    boards={name: Board(name, "simulated", line_count=20) for name in ("coils", "contacts")},
    outputs={
        name: Output(name, "relay", Pin("coils", number), proof=f"{name}-aux is closed", proof_within=WITHIN)
        for number, name in enumerate(NAMES)
    },
    inputs={
        f"{name}-aux": Input(f"{name}-aux", "contact", Pin("contacts", number), words=("open", "closed"))
        for number, name in enumerate(NAMES)
    },
)
WORDS = rules.language(SITE, ())
PROOFS = [
    rule
    for name, output in SITE.outputs.items()
    for rule in kinds.of_output(name, {"proof": output.proof, "proof_within": output.proof_within}, WORDS)
]
RULES = [
    *PROOFS,
    kinds.make({"name": "one way", "excludes": ["up", "down"], "gap": "100 ms"}, WORDS),
    kinds.make({"name": "air", "needs": "fan is on", "outputs": ["up"]}, WORDS),
]


class Contactors(Plant):
    """A contact behind each coil: it follows after a while, or is welded, or does not close any more."""

    def __init__(self, delay: int = 30 * MS) -> None:
        self.takes = delay
        self.closed = dict.fromkeys(NAMES, False)
        """The truth."""
        self.stuck: set[str] = set()
        self.torn: set[str] = set()
        self.both = False
        super().__init__(SITE, tuple(RULES), Nobody(), lambda most: 10 * MS, 1_795_000_000 * NS)

    def move(self, output: str, on: bool) -> None:
        super().move(output, on)
        self.later(self.takes, lambda: self.follow(output))

    def follow(self, output: str) -> None:
        """The contact does what its coil asks for, if it can."""
        if output not in self.stuck and (not self.pins[output] or output not in self.torn):
            self.closed[output] = self.pins[output]
            self.both |= self.closed["up"] and self.closed["down"]
            self.set_input(f"{output}-aux", self.closed[output])


def how(run: Plant, name: str) -> str:
    """What counts of it: 'on', 'off' or 'unknown'."""
    confirmed = run.engine.output_now(name).confirmed
    return "unknown" if confirmed is None else "on" if confirmed.on else "off"


def test_on_is_on_only_when_it_proves_so() -> None:
    run = Contactors(200 * MS)
    run.pass_time(NS)
    assert [how(run, name) for name in NAMES] == ["off"] * 3
    run.wish("fan", True)
    run.pass_time(100 * MS)
    assert run.pins["fan"]
    assert how(run, "fan") == "off", "the coil has current, and that is all"
    assert run.wish("up", True).outcome == "refused", "what it needs is not so yet"
    run.pass_time(200 * MS)
    assert how(run, "fan") == "on"
    assert run.engine.output_now("fan").how == "proved"
    assert [each.text for each in run.records if each.subject == "fan"][-1] == "fan is on (proved)"
    run.wish("up", True)
    run.pass_time(NS)
    assert run.closed["up"]


def test_a_welded_contact_is_on_whatever_its_board_says() -> None:
    run = Contactors()
    run.pass_time(NS)
    run.wish("fan", True)
    run.pass_time(NS)
    run.wish("up", True)
    run.pass_time(NS)
    run.stuck.add("up")
    run.wish("up", False)
    run.pass_time(100 * MS)
    assert not run.pins["up"], "its board says off, and is not believed"
    assert how(run, "up") == "on"
    run.pass_time(2 * NS)
    now = run.engine.output_now("up")
    assert (how(run, "up"), now.fault) == ("on", "its proof ('up-aux is closed') shows on instead of off, also after a correction")  # fmt: skip
    refused = run.wish("down", True)
    assert refused.outcome == "refused"
    assert "up is not confirmed off" in refused.reason
    run.pass_time(60 * NS)
    assert not run.closed["down"]
    run.stuck.clear()
    run.follow("up")
    run.pass_time(NS)
    assert (how(run, "up"), run.engine.output_now("up").fault) == ("off", "")
    run.wish("down", True)
    run.pass_time(NS)
    assert run.closed["down"]


def test_what_does_not_prove_on_permits_nothing_and_may_be_on() -> None:
    run = Contactors()
    run.pass_time(NS)
    run.torn.add("fan")
    run.wish("fan", True)
    run.pass_time(NS)
    now = run.engine.output_now("fan")
    assert how(run, "fan") == "unknown"
    assert (
        now.failure
        == "on is not proved: it is not so that fan-aux is closed, 300 ms after board coils said so"
    )
    assert run.wish("up", True).outcome == "refused"
    run.torn.clear()
    run.pass_time(10 * NS)
    assert how(run, "fan") == "on", "it was told again and again"
    run.torn.add("fan")
    run.closed["fan"] = False
    run.set_input("fan-aux", False)  # it drops out by itself
    run.pass_time(200 * MS)
    assert how(run, "fan") == "on", "a bounce is nothing yet"
    run.pass_time(200 * MS)
    assert how(run, "fan") == "unknown"
    run.torn.clear()
    run.pass_time(10 * NS)
    assert how(run, "fan") == "on"


def test_a_slope_does_not_put_a_proof_off() -> None:
    """Each step of a slope is an order of its own: the time runs from the first that is not proved."""
    lamp = Output(
        "fan",
        "lamp",
        Pin("coils", 2),
        frequency=Fraction(800),
        proof="fan-aux is closed",
        proof_within=WITHIN,
    )
    engine = Engine(Site("test", boards=SITE.boards, outputs={"fan": lamp}, inputs=SITE.inputs))
    start = 1000 * NS
    at = lambda ns: Instant(start + ns, 1_795_000_000 * NS + ns)  # noqa: E731
    waiting: list[ev.Drive] = []

    def tell(event: ev.Event) -> None:
        waiting.extend(each for each in engine.handle(event) if isinstance(each, ev.Drive))

    tell(ev.InputSeen(at(0), "fan-aux", False))
    tell(ev.LinkUp(at(0), "contacts"))
    tell(ev.InputSeen(at(0), "fan-aux", False))
    tell(ev.LinkUp(at(0), "coils", (("fan", Level(0)),)))
    tell(ev.Start(at(0), interlocks=(PROOFS[2],)))
    for step in range(40):
        now = step * 20 * MS
        if step:
            tell(
                ev.Wish(
                    at(now),
                    f"c{step}",
                    Source("test", "x", "keep"),
                    "fan",
                    Level(10_000 * step),
                    Rank.PERSON,
                    PERSON,
                    RELEASED,
                )
            )
        for order in waiting[:]:
            waiting.remove(order)
            tell(ev.Confirmed(at(now), "fan", order.generation, order.setting))
        tell(ev.Tick(at(now + 10 * MS)))
    assert engine.output_now("fan").confirmed is None
    assert "is not proved" in engine.output_now("fan").failure


def test_who_cannot_be_asked_proves_nothing() -> None:
    run = Contactors()
    run.pass_time(NS)
    run.wish("fan", True)
    run.pass_time(NS)
    run.lose("contacts")
    run.pass_time(NS)
    assert [how(run, name) for name in NAMES] == ["unknown"] * 3
    assert "nobody knows whether fan-aux is closed" in run.engine.output_now("fan").failure
    run.back("contacts")
    run.pass_time(10 * NS)
    assert [how(run, name) for name in NAMES] == ["off", "off", "on"]
    run.stuck.add("fan")
    run.lose("coils")
    run.pass_time(NS)
    run.back("coils")
    run.pass_time(5 * NS)
    assert how(run, "fan") == "on", "read back off, and it is not"
    run.start()
    run.pass_time(5 * NS)
    assert how(run, "fan") == "on", "a restart believes no board either"
    run.reload()
    run.pass_time(5 * NS)
    assert (how(run, "fan"), how(run, "up")) == ("on", "off")


STEPS = st.lists(
    st.one_of(
        st.tuples(st.just("turn round"), st.sampled_from([0, 100, 400, 1000]), st.booleans()),
        st.tuples(st.just("wish"), st.sampled_from(NAMES), st.booleans()),
        st.tuples(st.sampled_from(["stick", "tear", "mend"]), st.sampled_from(NAMES)),
        st.tuples(st.just("pass"), st.sampled_from([20, 50, 200, 350, 800, 3000])),
        st.tuples(st.just("board"), st.sampled_from(["coils", "contacts"])),
        st.tuples(st.just("again"), st.booleans()),
    ),
    max_size=40,
)


@settings(max_examples=300, deadline=None)
@given(st.integers(1, 250), STEPS)
def test_contacts_that_exclude_each_other_are_never_both_closed(takes: int, steps: list[tuple]) -> None:  # type: ignore[type-arg]
    run = Contactors(takes * MS)
    run.pass_time(NS)
    run.wish("fan", True)
    run.pass_time(NS)
    run.wish("up", True)
    run.pass_time(NS)
    for what, *of in steps:
        if what == "wish":
            run.wish(*of)
        elif what == "turn round":
            goes, comes = NAMES[:2] if run.closed["up"] else ("down", "up")
            if of[1]:
                run.stuck.add(goes)
            run.wish(goes, False)
            run.pass_time(of[0] * MS)
            run.wish(comes, True)
            run.pass_time(of[0] * MS)
        elif what == "mend":
            run.stuck.discard(of[0])
            run.torn.discard(of[0])
            run.follow(of[0])
        elif what in ("stick", "tear"):
            (run.stuck if what == "stick" else run.torn).add(of[0])
        elif what == "pass":
            run.pass_time(of[0] * MS)
        elif what == "board":
            (run.lose if run.up[of[0]] else run.back)(of[0])
        elif of[0]:
            run.start()
        else:
            run.reload()
        assert not run.both
    for board in ("coils", "contacts"):
        run.back(board)
    for name in NAMES:
        run.stuck.discard(name)
        run.torn.discard(name)
        run.follow(name)
    run.pass_time(30 * NS)
    assert not run.both
    for name in NAMES:
        assert how(run, name) == ("on" if run.closed[name] else "off"), "and in the end all is known"


@pytest.mark.parametrize("text", ["fan is on", "fan-aux is closed and up is off", "between 8:00 and 9:00"])
def test_what_proves_nothing(text: str) -> None:
    with pytest.raises(CallerError, match="does not show by itself whether fan is on"):
        kinds.of_output("fan", {"proof": text, "proof_within": NS}, WORDS)


def test_the_check_knows_of_proofs_and_a_rehearsal_believes_boards() -> None:
    from cairnwind.core.explain.checking import check
    from cairnwind.core.language.forms import Rules

    answers = check(SITE, Rules(tuple(RULES)), (), 1_795_000_000 * NS)
    assert {each.verdict for each in answers} == {"excluded"}, answers
