"""Phrases and scenes: what somebody says is to be done."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from typing import Annotated, Any

from cairnwind.commands.declaring import Ask, Command, declare, field
from cairnwind.core.facts import events as ev
from cairnwind.core.facts.course import Order
from cairnwind.core.values.errors import CallerError, unknown

SCENE = Annotated[str, field("The scene.", of="scene", min_length=1)]


def _let_go(order: Order) -> bool:
    return order.act == "release" or (
        order.act == "claim" and order.wanted is not None and not order.wanted.on
    )


def _only_off(event: ev.Do) -> bool:
    """It is carried out at once, and stops, switches off or releases whatever it speaks of."""
    steps = event.course.steps
    if event.course.lead is not None or not steps or steps[0].after:
        return False
    return steps[0].stop or (len(steps) == 1 and all(_let_go(order) for order in steps[0].orders))


def outputs_of(steps: Iterable[Any], ask: Ask) -> list[str]:
    """The outputs of steps; a scene that is released counts with all that it names."""
    found = []
    for step in steps:
        for order in step.orders:
            if order.output:
                found.append(order.output)
            elif order.scene in ask.planned.scenes:
                found += outputs_of(ask.planned.course(f"run scene {order.scene}").steps, ask)
    return found


def said_aloud(text: str, course: Callable[[str], Any]) -> Any:
    """The course of a phrase, or of what people say aloud. Raises `CallerError`; where that asks back, with the phrase that it asks about."""
    from cairnwind.core.language import spoken

    try:
        return course(text)
    except CallerError as error:
        meant = spoken.phrase(text)
        if error.code not in ("bad-phrase", "unknown-name") or meant == text or spoken.asks(text):
            raise
        try:
            return course(meant)
        except CallerError as other:
            if other.code == "bad-phrase":
                raise error from None
            other.more["phrase"] = meant
            raise


class _Said(Command):
    """What comes to a phrase."""

    @property
    def text(self) -> str:
        """The phrase."""
        raise NotImplementedError

    def course(self, ask: Ask) -> Any:
        """What it comes to. Raises `CallerError`."""
        return ask.planned.course(self.text)

    def event(self, ask: Ask) -> ev.Command:
        """It is carried out; a toggle in it only where it cannot come twice."""
        course = self.course(ask)
        toggled = [
            order.output for step in course.steps for order in step.orders if order.act in ("toggle", "step")
        ]
        if toggled and not ask.once:
            sentence = f"{toggled[0]}: a toggle needs an id: it may be delivered twice."
            raise CallerError("bad-value", sentence, "Send an id with it, or say on or off.")
        ask.found["course"] = course
        return ev.Do(ask.at, ask.command, ask.source, course)

    def told(self, ask: Ask, outcome: ev.Outcome) -> dict[str, Any]:
        """How it was understood, and a sentence to say back."""
        from cairnwind.core.language import answers

        course = ask.found["course"]
        return {"phrase": course.text, "say": answers.answer(ask.site, course, outcome)}

    @classmethod
    def concerns(cls, event: ev.Do, ask: Ask) -> Iterable[str]:
        """All that it speaks of."""
        return outputs_of(event.course.steps, ask)


@declare(
    "do", makes=ev.Do, role="operate", lane=_only_off, address="POST /phrases", status=201, waits=True, typed="do",
    example={"phrase": "turn gallery to half for 10 min"},
)  # fmt: skip
class Do(_Said):
    """Does what a phrase says, and says a sentence back."""

    phrase: Annotated[str, field("What is to be done.", min_length=1)]

    @property
    def text(self) -> str:
        """As it was said."""
        return self.phrase

    def course(self, ask: Ask) -> Any:
        """As it stands, or as people say it aloud where it is no phrase."""
        return said_aloud(self.phrase, ask.planned.course)


@declare(
    "run_scene", makes=ev.Do, role="operate", lane=_only_off, address="POST /scenes/<path:scene>/run", status=201, waits=True, typed="do run scene",
    example={"scene": "opening"},
)  # fmt: skip
class RunScene(_Said):
    """Runs a scene: an outcome for each output, the worst as its own."""

    scene: SCENE

    @property
    def text(self) -> str:
        """As somebody would say it."""
        return f"run scene {self.scene}"

    def event(self, ask: Ask) -> ev.Command:
        """Its steps."""
        if self.scene not in ask.planned.scenes:
            raise unknown("scene", self.scene, ask.planned.scenes)
        return super().event(ask)


@declare(
    "release_scene",
    makes=ev.Do,
    role="operate",
    lane=_only_off,
    address="DELETE /scenes/<path:scene>/claims",
    typed="do release scene",
    example={"scene": "opening"},
)
class ReleaseScene(RunScene):
    """Ends those of a scene's claims that still stand."""

    @property
    def text(self) -> str:
        """As somebody would say it."""
        return f"release scene {self.scene}"
