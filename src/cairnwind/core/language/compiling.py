"""From what a phrase says to a course: each output is asked what it takes, scenes and groups are spelled out."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import replace

from cairnwind.core.facts.claims import RELEASED, Lifetime, lasting
from cairnwind.core.facts.course import Course, Order, Step
from cairnwind.core.facts.outputs import Output
from cairnwind.core.facts.site import Site
from cairnwind.core.language.phrases import read
from cairnwind.core.language.sentences import (
    Command,
    Phrase,
)
from cairnwind.core.language.words import (
    Vocabulary,
)
from cairnwind.core.physics import programs
from cairnwind.core.physics.programs import Program
from cairnwind.core.values.errors import CallerError, unknown
from cairnwind.core.values.quantities import NS
from cairnwind.core.values.settings import FULL, Setting

DEEPEST = 4
"""How far scenes may run scenes."""


def compile(
    phrase: Phrase, vocabulary: Vocabulary, scenes: Mapping[str, tuple[str, ...]] = {}, depth: int = 0
) -> Course:
    """The course of a phrase on its site. Raises `CallerError` where an output does not take what is asked of it."""
    steps: list[Step] = []
    wait = 0
    for part in phrase.parts:
        if isinstance(part, int):
            wait += part
            continue
        if part.verb == "run":
            found = _scene(part, vocabulary, scenes, depth)
        else:
            found = [Step(0, tuple(_orders(part, vocabulary.site, scenes)), part.text, part.verb == "stop")]
        steps.append(found[0]._replace(after=wait))
        steps += found[1:]
        wait = 0
    return Course(phrase.text, tuple(steps), phrase.lead)


def _scene(
    command: Command, vocabulary: Vocabulary, scenes: Mapping[str, tuple[str, ...]], depth: int
) -> list[Step]:
    """The steps of a scene's phrases, which all begin at the same time, by time."""
    name = command.scene
    if name not in scenes:
        raise unknown("scene", name, scenes)
    if depth >= DEEPEST:
        raise CallerError(
            "bad-value",
            f"Scene {name} runs scenes too deep.",
            f"At most {DEEPEST} within each other; does one run itself?",
        )
    timed: list[tuple[int, Step]] = []
    for text in scenes[name]:
        course = compile(read(text, vocabulary), vocabulary, scenes, depth + 1)
        if course.lead is not None:
            raise CallerError(
                "bad-value",
                f"Scene {name}: '{text}' says when to begin, and a scene begins when it is run.",
                "Use 'wait' within it.",
            )
        at = 0
        for step in course.steps:
            at += step.after
            timed.append((at, step))
    timed.sort(key=lambda each: each[0])
    found: list[Step] = []
    before = 0
    life = _lifetime(command)
    for at, step in timed:
        orders = tuple(
            order._replace(
                scene=name,
                lifetime=order.lifetime or life,
                until=order.until or (None if order.lifetime else command.until),
            )
            for order in step.orders
        )
        if found and at == before:
            first = found[-1]
            found[-1] = Step(
                first.after, (*first.orders, *orders), f"{first.text}; {step.text}", first.stop or step.stop
            )
        else:
            found.append(Step(at - before, orders, step.text, step.stop))
        before = at
    return found


def _lifetime(command: Command) -> Lifetime | None:
    if command.span:
        return lasting(command.span)
    return RELEASED if command.released else None


def _orders(command: Command, site: Site, scenes: Mapping[str, tuple[str, ...]]) -> Iterable[Order]:
    if command.verb == "release_scene":
        if command.scene not in scenes:
            raise unknown("scene", command.scene, scenes)
        return [Order("", "release", scene=command.scene)]
    life = _lifetime(command)
    names = command.outputs
    orders = []
    for place, name in enumerate(names):
        output = site.outputs[name]
        wanted: Setting | Program | None = None
        if command.verb not in ("toggle", "release", "up", "down"):
            wanted = output.named(lambda: _wanted(command, output, site, place))  # noqa: B023
        act = {"toggle": "toggle", "release": "release", "up": "step", "down": "step"}.get(
            command.verb, "claim"
        )
        by = command.percent * (FULL // 100) * (-1 if command.verb == "down" else 1)
        if by and not (output.takes == "level" and output.dimmable):
            raise CallerError(
                "bad-value", f"{name} is not dimmed, so it cannot go up or down.", "Say on or off."
            )
        orders.append(Order(name, act, wanted, life, command.until, by=by))
    return orders


def _played(command: Command, output: Output, site: Site) -> Setting | Program:
    """A tone or a tune on a sounder."""
    assert command.value is not None
    if command.value.tune:
        return output.fits(_repeated(site.tunes[command.value.tune], command.times))
    if command.times:
        raise CallerError(
            "bad-value",
            "A single tone is not played a number of times.",
            "Write a tune, and play that so often.",
        )
    if output.takes != "tone":
        raise CallerError("bad-value", f"{output.name} is no sounder.", "Play it on one.")
    return output.read(command.value.text)


def _wanted(command: Command, output: Output, site: Site, place: int) -> Setting | Program:
    """What a command asks one output for."""
    verb, form = command.verb, {}
    match verb:
        case "on" | "off" | "to" | "fade" | "pulse":
            word = command.value.text if command.value else {"pulse": "on"}.get(verb, verb)
            setting = output.read(word)
            if not command.over:
                return setting
            start = output.read(command.start.text) if command.start else None
            return output.fits(programs.bounded(programs.ramp(start, setting, command.over)))
        case "open" | "close":
            return output.read(_opened(output, verb))
        case "play":
            return _played(command, output, site)
        case "blink":
            if output.takes == "tone":
                raise CallerError("bad-value", "A sounder does not blink.", "Play a tone or a tune on it.")
            lit, dark = command.lit or NS // 2, command.dark or NS // 2
            return output.fits(
                programs.bounded(programs.blink(output.full, output.off, lit, dark, command.times))
            )
        case "breathe":
            form = {"kind": "breathe", "times": command.times}
            if command.over:
                form |= {"in": f"{command.over // 2} ns", "out": f"{command.over - command.over // 2} ns"}
        case "flicker":
            form = {"kind": "candle"}
    return output.fits(programs.make(form, output.takes, output.read, place))


OPENED = {"open": {"open", "opened", "unlocked"}, "close": {"closed", "shut", "locked"}}


def _opened(output: Output, verb: str) -> str:
    """The word of an output's own that opening or closing it brings about."""
    off, on = output.words
    for word, other, said in ((off, on, "off"), (on, off, "on")):
        opposite = OPENED["close" if verb == "open" else "open"]
        if word in OPENED[verb] or (other in opposite and word not in opposite):
            return said
    raise CallerError(
        "bad-value", f"{output.name} is {off} or {on}, and is not opened or closed.", f"Say {on} or {off}."
    )


def _repeated(tune: Program, times: int) -> Program:
    return programs.bounded(replace(tune, times=times)) if times else tune


def understand(text: str, vocabulary: Vocabulary, scenes: Mapping[str, tuple[str, ...]] = {}) -> Course:
    """`read` and `compile` at once."""
    return compile(read(text, vocabulary), vocabulary, scenes)
