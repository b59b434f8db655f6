"""HTTP for light and sound: programs and what they will do, tunes, pads, timers, and how a lamp answers its duty."""

from __future__ import annotations

from collections.abc import Callable
from fractions import Fraction
from typing import Any

from flask import Response, request

from cairnwind.boards import timers
from cairnwind.core import events as ev
from cairnwind.core import programs, sound
from cairnwind.core.agenda import WORST
from cairnwind.core.claims import PERSON, Lifetime, Rank, lease
from cairnwind.core.errors import CallerError, unknown
from cairnwind.core.model import Output
from cairnwind.core.programs import Program
from cairnwind.core.quantities import NS
from cairnwind.core.settings import FULL, Level, Setting
from cairnwind.core.stick import LEASE, Pad, mix
from cairnwind.service import shapes
from cairnwind.service.asked import answer, caller, caller_key, json_body
from cairnwind.service.first import clock
from cairnwind.service.fits import fit_form, timer_form
from cairnwind.service.problems import OF_OUTCOME, problem
from cairnwind.service.runtime import Runtime

CLAIM = ("setting", "over", "program", "rank", "for", "until", "lease", "lasting", "when_possible")
"""Members of a request for a claim, beside the output or outputs."""
POINTS = 240
"""Of a preview's curve."""
LOOK = 60 * NS
"""How much of an endless program a preview looks at."""


def wanted(
    body: dict[str, Any], output: Output, tunes: Any, place: int = 0, of: int = 1
) -> Setting | Program | None:
    """What a command's body asks an output for: a setting, a way there, or a program. None is a toggle."""
    if ("setting" in body) == ("program" in body):
        raise CallerError(
            "bad-value",
            "The request needs a 'setting' or a 'program', one of them.",
            'Send a setting like "on" or "40 %", or a program.',
        )
    if "setting" in body:
        value = body["setting"]
        if value == "toggle" and "over" not in body:
            return None
        setting = output.read(value)
        if "over" not in body:
            return setting
        return output.named(
            lambda: output.fits(
                programs.make({"kind": "ramp", "to": value, "over": body["over"]}, output.takes, output.read)
            ),
        )
    if "over" in body:
        raise CallerError("bad-value", "'over' goes with a setting.", "A ramp has its own.")
    return output.named(lambda: program(body["program"], output, tunes, place, of))


def wish(
    command: str,
    at: Any,
    output: Output,
    setting: Setting | Program | None,
    rank: Rank,
    life: Lifetime,
    body: dict[str, Any],
) -> ev.Wish:
    """The command that a request for a claim asks for: persons share a slot, each hold has its own."""
    slot = PERSON if rank is Rank.PERSON else f"hand:{command}"
    return ev.Wish(
        at, command, caller(), output.name, setting, rank, slot, life, bool(body.get("when_possible"))
    )


def program(form: Any, output: Output, tunes: Any, place: int = 0, of: int = 1) -> Program:
    """The program that a JSON object asks for; a text is the name of a tune of the site."""
    if isinstance(form, str):
        if form not in tunes:
            raise unknown("tune", form, tunes)
        made: Program = tunes[form]
    elif not isinstance(form, dict):
        raise CallerError("bad-value", "This is no program.", 'Send an object like {"kind": "blink"}.')
    elif form.get("kind") in ("tune", "sweep"):
        made = sound.make(form)
    else:
        made = programs.make(form, output.takes, output.read, place, of)
    return output.fits(made)


class LightViews:
    """The views; `cairnwind.service.app` has the rest, and the way in."""

    def __init__(self, runtime: Runtime, lifetime: Callable[[dict[str, Any]], tuple[Rank, Lifetime]]) -> None:
        self.runtime = runtime
        self.site = runtime.site
        self._lifetime = lifetime

    def routes(self, v1: str) -> dict[str, dict[str, Callable[..., Any]]]:
        """Their addresses."""
        return {
            f"{v1}/programs": {"POST": self.run},
            f"{v1}/programs/preview": {"POST": self.preview},
            f"{v1}/tunes": {"GET": self.get_tunes},
            f"{v1}/pads": {"GET": self.get_pads},
            f"{v1}/pads/<name>": {"PUT": self.move, "DELETE": self.let_go},
            f"{v1}/timers": {"GET": self.get_timers},
            f"{v1}/timers/<name>/fit": {"GET": self.fit},
            f"{v1}/outputs/<name>/curve": {"GET": self.curve},
        }

    # --- programs -----------------------------------------------------------------------------------------

    def run(self) -> Response:
        """One program on several outputs, begun at the same moment; checked whole before any of it happens."""
        body = json_body({"outputs", *CLAIM})
        outputs = self._outputs(body.get("outputs"))
        rank, life = self._lifetime(body)
        asked = [
            wanted(body, output, self.site.tunes, place, len(outputs)) for place, output in enumerate(outputs)
        ]
        at = clock()
        commands: list[ev.Command] = [
            wish(self.runtime.command_id(), at, output, setting, rank, life, body)
            for output, setting in zip(outputs, asked, strict=True)
        ]
        found = self.runtime.submit_all(commands)
        forms = [shapes.outcome_form(outcome, output) for outcome, output in zip(found, outputs, strict=True)]
        worst = min((form["outcome"] for form in forms), key=WORST.index)
        code = OF_OUTCOME.get(worst)
        if code is not None:
            first = next(form for form in forms if form["outcome"] == worst)
            return problem(
                code,
                f"{first['output']}: {first['reason']}.",
                outcome=worst,
                remedy=first["remedy"],
                outcomes=forms,
            )
        return answer({"outcome": worst, "outcomes": forms}, 201)

    def preview(self) -> Response:
        """What a program would do to an output: its length, its writes, and its curve."""
        body = json_body({"output", "program", "setting", "over", "place", "of"})
        output = self._outputs([body.get("output")])[0]
        place, of = body.get("place", 0), body.get("of", 1)
        if type(place) is not int or type(of) is not int or not 0 <= place < of <= 1000:
            raise CallerError(
                "bad-value",
                "'place' is not the number of one of so many outputs.",
                "Send place 0 of 4, 1 of 4, …",
            )
        made = wanted(body, output, self.site.tunes, place, of)
        if not isinstance(made, Program):
            raise CallerError(
                "bad-value", "A setting by itself has no curve.", "Give it an 'over', or send a program."
            )
        found = self.runtime.publisher.find(output.name)
        return answer(preview_form(made.starting(found[0].wanted if found else output.rest), output))

    def get_tunes(self) -> Response:
        """The tunes of the site file."""
        return answer(
            [
                {"name": name, "text": tune.text, "seconds": (tune.length or 0) / NS}
                for name, tune in self.site.tunes.items()
            ]
        )

    # --- pads ---------------------------------------------------------------------------------------------

    def get_pads(self) -> Response:
        """The pads there are."""
        return answer([pad_form(pad) for pad in self.site.pads.values()])

    def move(self, name: str) -> Response:
        """Two motors by a position from -1 to 1 in two axes, under a lease of 300 ms."""
        pad = self._pad(name)
        body = json_body({"x", "y"})
        axes = [body.get(axis) for axis in ("x", "y")]
        if any(
            isinstance(axis, bool) or not isinstance(axis, int | float) or not -1 <= axis <= 1
            for axis in axes
        ):
            raise CallerError(
                "bad-value", f"{name}: 'x' and 'y' are numbers from -1 to 1.", 'Send {"x": 0, "y": 0.5}.'
            )
        drives = mix(pad, *map(float, axes))  # type: ignore[arg-type]
        slot, at = f"pad:{name}:{caller_key().id}", clock()
        commands: list[ev.Command] = []
        for motor, drive in zip((pad.left, pad.right), drives, strict=True):
            number = self.runtime.command_id()
            setting = self.site.outputs[motor].admit(drive)
            if self.runtime.slot(motor, slot) is None:
                commands.append(ev.Wish(at, number, caller(), motor, setting, Rank.HAND, slot, lease(LEASE)))
            else:
                commands.append(ev.Renew(at, number, caller(), motor, slot, setting))
        found = self.runtime.submit_all(commands)
        for outcome in found:
            if outcome.outcome in OF_OUTCOME:
                self.let_go(name)  # one motor alone would turn what both should move
                code = OF_OUTCOME[outcome.outcome]
                return problem(
                    code,
                    f"{outcome.output}: {outcome.reason}.",
                    remedy=outcome.remedy,
                    outcome=outcome.outcome,
                )
        return answer({"pad": name, "left": drives[0].parts / 10_000, "right": drives[1].parts / 10_000,
                       "outcomes": [outcome.outcome for outcome in found]})  # fmt: skip

    def let_go(self, name: str) -> Response:
        """Both motors are let go."""
        pad = self._pad(name)
        slot = f"pad:{name}:{caller_key().id}"
        self.runtime.submit_all(
            [
                ev.Release(clock(), self.runtime.command_id(), caller(), motor, slot)
                for motor in (pad.left, pad.right)
            ]
        )
        return answer({"pad": name, "left": 0.0, "right": 0.0})

    def _pad(self, name: str) -> Pad:
        if name not in self.site.pads:
            raise unknown("pad", name, self.site.pads)
        return self.site.pads[name]

    # --- timers and lamps ---------------------------------------------------------------------------------

    def get_timers(self) -> Response:
        """The timers that are described."""
        return answer([timer_form(timers.load(name)) for name in timers.names()])

    def fit(self, name: str) -> Response:
        """How a timer reaches a frequency and a duty: every candidate, and the best."""
        return answer(
            fit_form(
                timers.load(name),
                request.args.get("hertz", ""),
                request.args.get("duty", "50 %"),
                request.args.get("first", "error"),
            )
        )

    def curve(self, name: str) -> Response:
        """How an output answers its level: level, duty and the timer's count, in steps of 5 %."""
        output = self._outputs([name])[0]
        if output.takes != "level" or not output.dimmable:
            raise CallerError(
                "bad-value",
                f"{name} has no levels between off and on.",
                "Ask for a lamp or a fan with a frequency.",
            )
        rows = []
        for percent in range(0, 101, 5):
            setting = Level(percent * 10_000)
            duty = output.duties(setting)[0]
            rows.append({"level": percent, "duty": duty / 10_000, "count": output.counts(setting)[0]})
        light = output.light
        return answer({
            "output": name, "curve": light.curve, "steps": output.steps, "floor": light.floor / 10_000, "ceiling": light.ceiling / 10_000,
            "trim": light.trim[0] / 10_000, "hertz": float(output.frequency) if output.frequency else None, "rows": rows,
        })  # fmt: skip

    def _outputs(self, names: object) -> list[Output]:
        if (
            not isinstance(names, list)
            or not names
            or len(names) > 1000
            or len({*map(str, names)}) != len(names)
        ):
            raise CallerError(
                "bad-value",
                "The request has no list of different 'outputs'.",
                'Send their names: ["gallery", "window"].',
            )
        for name in names:
            if name not in self.site.outputs:
                raise unknown("output", str(name), self.site.outputs)
        return [self.site.outputs[name] for name in names]


def preview_form(made: Program, output: Output) -> dict[str, Any]:
    """A preview as a JSON object. The curve is at most `POINTS` of (seconds, value, duty)."""
    rounds = max(1, min(2, LOOK // made.round))
    until = made.length if made.length is not None else rounds * made.round
    writes, last = 0, None
    for _, setting in programs.changes(made, output.counts, min(until, LOOK)):
        writes, last = writes + 1, setting
        if writes >= 100_000:
            break
    looked = min(until, LOOK)
    curve = []
    for number in range(POINTS + 1):
        t = until * number // POINTS
        setting = made.at(min(t, until - 1))
        duties = output.duties(setting)
        curve.append([t / NS, shapes.setting(output, setting), duties[0] / 10_000])
    return {
        "output": output.name, "text": made.text, "kind": made.word, "seconds": None if made.length is None else made.length / NS,
        "round_seconds": made.round / NS, "times": made.times, "then": made.then, "ends_at": shapes.setting(output, made.last),
        "shown_seconds": until / NS, "writes": writes, "writes_a_second": round(writes * NS / max(1, looked), 2),
        "writes_if_sampled": looked * 50 // NS, "counts": output.steps, "curve": curve, "last": shapes.setting(output, last),
        "mean": round(float(programs.energy(made, lambda each: Fraction(output.duties(each)[0], FULL), until)) * NS / max(1, until) * 100, 2)
        if output.takes == "level" and output.light.curve == "straight" else None,
    }  # fmt: skip


def pad_form(pad: Pad) -> dict[str, Any]:
    """A pad as a JSON object."""
    return {"name": pad.name, "label": pad.label or pad.name, "left": pad.left, "right": pad.right, "dead": pad.dead / 10_000,
            "most": pad.most / 10_000, "stick": list(pad.stick) if pad.stick else None, "lease_ms": LEASE / 10**6}  # fmt: skip
