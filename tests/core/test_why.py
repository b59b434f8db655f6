"""The reasons, in words a maker understands: from wish to pin, what stands in the way, what would change it."""

from __future__ import annotations

from typing import Any

from cairnwind.core.engine.loop import Engine
from cairnwind.core.explain.why import Why, why
from cairnwind.core.facts import events as ev
from cairnwind.core.facts.claims import PERSON, RELEASED, TAKEOVER, Instant, Rank, Source, lasting, lease
from cairnwind.core.facts.hardware import Board, Pin
from cairnwind.core.facts.outputs import Output
from cairnwind.core.facts.site import Site
from cairnwind.core.values.quantities import NS
from cairnwind.core.values.settings import OFF, ON

ADA = Source("command line", "ada", "keep")
SITE = Site(
    "S",
    boards={"b": Board("b", "simulated", None, 2)},
    outputs={"vent": Output("vent", "relay", Pin("b", 0, "J2-9"), active_low=True)},
)


class Story:
    """An engine that is told one thing a second."""

    def __init__(self) -> None:
        self.engine = Engine(SITE)
        self.second = 0
        self.rows: list[ev.Record] = []
        self.last = 0
        self.tell(ev.LinkUp, "b", (("vent", OFF),))
        self.tell(ev.Start)

    def tell(self, make: Any, *args: Any) -> None:
        self.second += 1
        at = Instant(self.second * NS, self.second * NS)
        effects = self.engine.handle(make(at, *args))
        for effect in effects:
            if isinstance(effect, ev.Drive):
                self.last = effect.generation
            elif isinstance(effect, ev.Record):
                self.rows.append(effect)

    def confirm(self, setting: Any) -> None:
        self.tell(ev.Confirmed, "vent", self.last, setting)

    def why(self) -> Why:
        return why(self.engine.output_now("vent"), lambda wall: f"second {wall // NS}")


def test_the_story_of_an_output_is_told_at_every_turn() -> None:
    story = Story()
    assert story.why().sentence == "off: nobody claims it, so it rests at off."
    story.tell(ev.Wish, "a", ADA, "vent", ON, Rank.PERSON, PERSON, lasting(60 * NS))
    assert story.why().sentence == (
        "off: a person at the command line (ada) wants it on since second 3 until second 63; on is on its way to board b."
    )
    story.confirm(ON)
    told = story.why()
    assert (
        told.sentence == "on: a person at the command line (ada) wants it on since second 3 until second 63."
    )
    assert told.remedy == ""
    assert dict(told.steps)["confirmed"] == "on, read back from b:J2-9 (line 0), active-low, since second 4"
    story.tell(ev.Wish, "b", Source("console", "bo"), "vent", OFF, Rank.HAND, "hand:b", lease(10 * NS))
    story.confirm(OFF)
    told = story.why()
    assert (
        told.sentence
        == "off: a hold at the console (bo) wants it off since second 5, as long as the hold is kept up."
    )
    assert (
        "a person at the command line (ada) wants it on until second 63, but ranks lower"
        in dict(told.steps)["also"]
    )
    story.tell(ev.Release, "c", ADA, "vent", "hand:b")
    story.confirm(ON)
    story.tell(ev.Lock, "d", ADA, "vent", "new belt", "changing the belt")
    told = story.why()
    assert "but locked out by tag 'new belt': changing the belt." in told.sentence
    assert told.remedy.startswith("Whoever hung it takes it off")
    story.confirm(OFF)
    story.tell(ev.Unlock, "e", ADA, "vent", "new belt")
    story.tell(ev.LinkLost, "b", "unplugged")
    told = story.why()
    assert told.sentence.startswith("unknown: ")
    assert told.sentence.endswith("but board b does not answer: unplugged.")
    assert dict(told.steps)["confirmed"] == "what b:J2-9 (line 0) does is not known"
    story.tell(ev.LinkUp, "b", (("vent", OFF),))
    story.tell(ev.AllStop, "f", ADA, "smoke")
    assert story.why().sentence.endswith("but all-stop by the command line (ada): smoke.")


def test_a_board_that_shows_something_else_is_corrected_once_then_named_as_a_fault() -> None:
    story = Story()
    story.tell(ev.Wish, "a", ADA, "vent", ON, Rank.PERSON, PERSON, TAKEOVER)
    first = story.last
    story.confirm(OFF)
    assert story.last == first + 1, "corrected"
    story.confirm(OFF)
    assert story.last == first + 1, "an on is not forced"
    told = story.why()
    assert "board b shows off instead of on, also after a correction" in told.sentence
    assert story.engine.output_now("vent").state == "fault"
    story.tell(ev.Release, "b", ADA, "vent", PERSON)
    assert story.engine.output_now("vent").state == "confirmed"


def test_what_a_board_shows_by_itself_is_seen_before_anybody_has_driven_it() -> None:
    """Its link has come up and found it off: what it shows after that is no answer to any order."""
    story = Story()
    story.tell(ev.LinkLost, "b", "unplugged")
    story.tell(ev.LinkUp, "b", (("vent", OFF),))
    before = story.last
    story.tell(ev.Confirmed, "vent", 0, ON)
    assert story.engine.output_now("vent").driven == OFF, "it is put right"
    assert story.last > before
    story.confirm(ON)
    assert "board b shows on instead of off, also after a correction" in story.why().sentence
    story.confirm(OFF)
    story.tell(ev.Confirmed, "vent", 0, ON)
    assert story.engine.output_now("vent").confirmed == OFF, (
        "once it was driven, what is said under no order is old"
    )


def test_a_rule_at_the_other_side_counts_as_one_of_ours() -> None:
    story = Story()
    story.tell(ev.Wish, "a", ADA, "vent", ON, Rank.PERSON, PERSON, TAKEOVER)
    asked = story.last
    story.tell(
        ev.Confirmed, "vent", story.last, OFF, "read back", "refused at the yard: the tank is empty", True
    )
    now = story.engine.output_now("vent")
    assert (now.wanted, now.claims) == (OFF, ()), "what was just asked for leaves nothing"
    assert (now.driven, story.last) == (OFF, asked + 1), "and what stands over there is taken back"
    story.confirm(OFF)
    story.tell(ev.Wish, "b", Source("schedule", "dawn"), "vent", ON, Rank.PLAN, "plan:dawn", RELEASED)
    first = story.last
    story.tell(ev.Confirmed, "vent", first, OFF, "read back", "refused at the yard: the tank is empty", True)
    now = story.engine.output_now("vent")
    assert (now.state, now.wanted) == ("blocked", ON), "a plan waits"
    assert "refused at the yard: the tank is empty" in story.why().sentence
    story.tell(ev.Confirmed, "vent", first, ON)
    assert story.engine.output_now("vent").state == "confirmed", "until it is so"
    assert not [row for row in story.rows if row.kind == "fault" and "also after a correction" in row.text]
    story.tell(ev.Failed, "vent", first, "at the yard: its board is gone")
    assert story.engine.output_now("vent").confirmed is None, "what is not known there is not known here"


def test_a_failed_write_is_said_to_be_tried_again() -> None:
    story = Story()
    story.tell(ev.Wish, "a", ADA, "vent", ON, Rank.PERSON, PERSON, TAKEOVER)
    story.tell(ev.Failed, "vent", story.last, "the board refused the write")
    assert (
        "setting it to on has failed 1 times (the board refused the write); it is tried again"
        in story.why().sentence
    )
