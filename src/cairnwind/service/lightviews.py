"""HTTP for light and sound: programs and what they will do, tunes, pads, timers, and how a lamp answers its duty."""

from __future__ import annotations

from collections.abc import Callable
from fractions import Fraction
from pathlib import Path
from typing import Any

from flask import Response, request

from cairnwind.boards import timers
from cairnwind.commands.claim_requests import CLAIM, claim, output_of, wanted
from cairnwind.core.engine.answering import OUTCOMES_WORST_FIRST
from cairnwind.core.facts import events as ev
from cairnwind.core.facts.outputs import Output
from cairnwind.core.facts.site import Site
from cairnwind.core.physics import programs
from cairnwind.core.physics.programs import Program
from cairnwind.core.physics.stick import Pad
from cairnwind.core.values.errors import CallerError, known, unknown
from cairnwind.core.values.quantities import NS
from cairnwind.core.values.settings import FULL, Level
from cairnwind.service import shapes
from cairnwind.service.asked import answer, caller, json_body
from cairnwind.service.desk import Desk
from cairnwind.service.problems import OF_OUTCOME, problem
from cairnwind.service.startup import clock
from cairnwind.service.timer_forms import fit_form, timer_form

MOST_AT_ONCE = 1000
"""Claims in one request."""
POINTS = 240
"""Of a preview's curve."""
LOOK = 60 * NS
"""How much of an endless program a preview looks at."""


class LightViews:
    """The views; `cairnwind.service.app` has the rest, and the way in."""

    def __init__(self, desk: Desk) -> None:
        self.desk, self.runtime = desk, desk.runtime

    @property
    def site(self) -> Site:
        """The site as it is wired now."""
        return self.runtime.site

    @property
    def _own(self) -> tuple[Path, ...]:
        """Where the site's own descriptions of timers stand."""
        return (Path(self.site.source[0]).parent / "timers",)

    def routes(self, v1: str) -> dict[str, dict[str, Callable[..., Any]]]:
        """Their addresses."""
        return {
            f"{v1}/commands": {"POST": self.command},
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
        return self._several([(output, body) for output in outputs])

    def command(self) -> Response:
        """Several claims at once, each with its own setting; ``output`` may be a group. Checked whole before any happens."""
        asked = json_body({"claims"}).get("claims")
        if not isinstance(asked, list) or not 1 <= len(asked) <= MOST_AT_ONCE:
            raise CallerError(
                "bad-value", f"The request has no list of 1 to {MOST_AT_ONCE} 'claims'.", 'Send [{"output": "gallery", "setting": "on"}].'
            )  # fmt: skip
        pairs: list[tuple[Output, dict[str, Any]]] = []
        for number, body in enumerate(asked):
            if not isinstance(body, dict) or set(body) - {"output", *CLAIM}:
                raise CallerError(
                    "bad-value",
                    f"Claim {number + 1} is not an object of a claim.",
                    f"Members: output, {', '.join(CLAIM)}.",
                )
            name = body.get("output")
            for each in self.site.groups.get(str(name), (name,)):
                pairs.append((output_of(self.site, each), body))
        if len({output.name for output, _ in pairs}) < len(pairs):
            raise CallerError(
                "bad-value", "An output is named twice.", "Name each once; groups count with their members."
            )
        return self._several(pairs)

    def _several(self, pairs: list[tuple[Output, dict[str, Any]]]) -> Response:
        at = clock()
        commands: list[ev.Command] = [
            claim(at, self.runtime.command_id(), caller(), self.site, output, body, place, len(pairs))
            for place, (output, body) in enumerate(pairs)
        ]
        found = self.desk.submit_all(commands)
        forms = [
            shapes.outcome_form(outcome, output) for outcome, (output, _) in zip(found, pairs, strict=True)
        ]
        worst = min((form["outcome"] for form in forms), key=OUTCOMES_WORST_FIRST.index)
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
        return answer({"outcome": worst, "outcomes": forms}, 201, "/api/v1/claims")

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
        return answer(preview_form(made.starting(found.wanted if found else output.rest), output))

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
        """A pad's position from -1 to 1 in two axes, under a short lease."""
        if name not in self.site.pads:
            raise unknown("pad", name, self.site.pads)
        body = json_body({"x", "y", "again"})
        again = body.get("again", False)
        if not isinstance(again, bool):
            raise CallerError(
                "bad-value", f"{name}: 'again' is true or false.", "Send true for all but the first."
            )
        return answer(self.desk.steered(caller(), name, body.get("x"), body.get("y"), again=again))

    def let_go(self, name: str) -> Response:
        """Everything of a pad is let go."""
        self.desk.let_go(caller(), name)
        return answer({"pad": name})

    # --- timers and lamps ---------------------------------------------------------------------------------

    def get_timers(self) -> Response:
        """The timers that are described."""
        return answer([timer_form(timers.load(name, *self._own)) for name in timers.names(self._own)])

    def fit(self, name: str) -> Response:
        """How a timer reaches a frequency and a duty: every candidate, and the best."""
        return answer(
            fit_form(
                timers.load(name, *self._own),
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
            rows.append({"level": percent, "duty": duty / 10_000, "count": int(output.counts(setting)[0])})
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
            or not all(isinstance(name, str) for name in names)
            or len({*names}) != len(names)
        ):
            raise CallerError(
                "bad-value",
                "The request has no list of different 'outputs'.",
                'Send their names: ["gallery", "window"].',
            )
        return [known("output", name, self.site.outputs) for name in names]


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
    return {"name": pad.name, "label": pad.label or pad.name, "left": pad.left or None, "right": pad.right or None, "dead": pad.dead / 10_000,
            "most": pad.most / 10_000, "stick": list(pad.stick) if pad.stick else None, "zones": dict(pad.zones),
            "outputs": list(pad.outputs), "lease_ms": pad.lease / 10**6}  # fmt: skip
