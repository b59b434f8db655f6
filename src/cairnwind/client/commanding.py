"""Commands: settings, programs, phrases, scenes, pads, holds, and the stop."""

from __future__ import annotations

import uuid
from collections.abc import Mapping
from typing import TYPE_CHECKING, Any
from urllib.parse import quote

from cairnwind.client.answers import Outcome, lifetime, outcome_of
from cairnwind.client.hold import Hold
from cairnwind.client.wire import Wire

if TYPE_CHECKING:
    from cairnwind import forms


class Commanding(Wire):
    """What is wanted."""

    def turn(
        self,
        output: str,
        setting: str | float | bool | dict[str, Any],
        *,
        over: str | None = None,
        lasting: str | None = None,
        until: str | None = None,
        when_possible: bool = False,
        wait: str = "1 s",
    ) -> Outcome:
        """Claim ``setting`` for a person: 'on', 'off', 'toggle', '40 %', 40, 'coral', 'A4', '-40 %', '20 % duty' …

        With ``over`` ('3 s') it fades there from what it is at. Objects say the same apart: ``{"duty": 20,
        "hertz": 1000}``, ``{"colour": "#e07b1c"}``, ``{"hertz": 440, "loudness": 50}``, ``{"drive": -40}``.

        ``lasting`` is a time ('10 min') or 'until released', ``until`` a time of day or RFC 3339; without them
        the claim lasts until the plan next changes the output. ``wait`` is how long to wait for the board.
        """
        body: dict[str, Any] = {"output": output, "setting": setting, "wait": wait}
        if over is not None:
            body["over"] = over
        body |= lifetime(lasting, until, when_possible)
        token = str(uuid.uuid4()) if setting == "toggle" else None  # a toggle done twice would be undone
        return outcome_of(self.call("POST", "/claims", body, token=token))

    def turn_all(
        self, settings: Mapping[str, str | float | bool | dict[str, Any]], **how: Any
    ) -> list[Outcome]:
        """Several outputs or groups at once, each to its own setting: ``turn_all({"gallery": 40, "yard": "off"})``.

        Checked whole before any of it happens. ``how`` is as for `turn`: ``over``, ``lasting``, ``until``, ``when_possible``.
        """
        more = lifetime(how.get("lasting"), how.get("until"), how.get("when_possible", False))
        if "over" in how:
            more["over"] = how["over"]
        claims = [{"output": name, "setting": setting, **more} for name, setting in settings.items()]
        return [outcome_of(form) for form in self._post("/commands", {"claims": claims})["outcomes"]]

    def run(
        self,
        outputs: str | list[str],
        program: str | dict[str, Any],
        *,
        lasting: str | None = None,
        until: str | None = None,
        when_possible: bool = False,
    ) -> list[Outcome]:
        """Run a program on outputs, begun at the same moment: ``{"kind": "blink", "lit": "1 s", "times": 3}``.

        Kinds: blink, breathe, ramp, chase, sequence, candle; for sounders tune and sweep, or a tune's name.
        """
        names = [outputs] if isinstance(outputs, str) else outputs
        body = {"outputs": names, "program": program, **lifetime(lasting, until, when_possible)}
        return [outcome_of(form) for form in self.call("POST", "/programs", body)["outcomes"]]

    def preview(
        self, output: str, program: str | dict[str, Any], *, place: int = 0, of: int = 1
    ) -> forms.Preview:
        """What a program would do to an output: text, length, number of writes, and its curve."""
        return self._post(
            "/programs/preview", {"output": output, "program": program, "place": place, "of": of}
        )

    def do(self, phrase: str, *, wait: str = "1 s") -> forms.Outcome:
        """Carry out a phrase: 'turn gallery to 40 % over 3 s for 10 min'. The answer has the outcome and its parts.

        Raises `CallerError` (``bad-phrase``, ``asks-back``), whose ``more`` says where in the phrase ('at', 'end'),
        and which 'choices' there are.
        """
        return self._post("/phrases", {"phrase": phrase, "wait": wait})

    def rehearse_phrase(self, phrase: str) -> forms.Dry:
        """What a phrase would do: how it is understood, and each output that it concerns."""
        return self._post("/phrases", {"phrase": phrase, "dry": True})

    def scenes(self) -> list[forms.Scene]:
        """The scenes there are."""
        return self._rows("/scenes")

    def run_scene(self, scene: str, *, wait: str = "1 s") -> forms.Outcome:
        """Run a scene; the answer has an outcome for each output in ``parts``."""
        return self._post(f"/scenes/{quote(scene, safe='')}/run", {"wait": wait})

    def release_scene(self, scene: str) -> forms.Outcome:
        """End those of a scene's claims that still stand."""
        return self._form("DELETE", f"/scenes/{quote(scene, safe='')}/claims")

    def groups(self) -> dict[str, list[str]]:
        """Outputs that are named together."""
        return {each["name"]: each["outputs"] for each in self._rows("/groups")}

    def play(self, output: str, tune: str | list[Any], *, wait: str = "1 s") -> Outcome:
        """Play a tune on a sounder: notes as text, pairs of hertz and seconds, or the name of a tune of the site.

        For one tone say `turn`, like ``turn("bell", "A4", lasting="2 s")``.
        """
        named = isinstance(tune, str) and tune in {each["name"] for each in self.tunes()}
        body = {"output": output, "program": tune if named else {"kind": "tune", "notes": tune}, "wait": wait}
        return outcome_of(self.call("POST", "/claims", body))

    def tunes(self) -> list[forms.Tune]:
        """The tunes of the site file."""
        return self._rows("/tunes")

    def pads(self) -> list[forms.Pad]:
        """The pads: two motors each, driven from one position."""
        return self._rows("/pads")

    def steer(self, pad: str, x: float, y: float, *, again: bool = False) -> forms.Steered:
        """Move a pad to a position from -1 to 1 in two axes, for 250 ms. To go on call it ``again``: that is refused
        (``no-claim``) once the hold has ended, so that what was held up in the network moves nothing.
        """
        body = {"x": x, "y": y, "again": again}
        found: forms.Steered = self.call("PUT", f"/pads/{quote(pad, safe='')}", body)
        return found

    def let_go(self, pad: str) -> None:
        """Let a pad go, before its lease does."""
        self.call("DELETE", f"/pads/{quote(pad, safe='')}")

    def release(self, output: str) -> Outcome:
        """End what persons claim on an output: 'I no longer care'."""
        return outcome_of(self.call("DELETE", f"/outputs/{quote(output, safe='')}/claim"))

    def hold(self, output: str | list[str], setting: str | float = "on", *, lease: str = "1 s") -> Hold:
        """A hold for a ``with`` block, of one output or several: kept up by a thread over one connection, ended with the
        block or with this program.
        """
        return Hold(self, [output] if isinstance(output, str) else output, setting, lease)

    def stop(self, reason: str = "") -> Outcome:
        """All-stop: everything safe, now."""
        return outcome_of(self.call("PUT", "/all-stop", {"reason": reason, "wait": "2 s"}))

    def reset_stop(self) -> Outcome:
        """End the all-stop."""
        return outcome_of(self.call("DELETE", "/all-stop"))

    def lock(self, output: str, tag: str, reason: str = "", until: str = "") -> Outcome:
        """Hang a lockout tag: the output stays safe while it is there. ``until`` is when it is meant to come off."""
        return outcome_of(
            self.call(
                "PUT",
                f"/outputs/{quote(output, safe='')}/lockouts/{quote(tag, safe='')}",
                {"reason": reason, "until": until},
            )
        )

    def unlock(self, output: str, tag: str) -> Outcome:
        """Take a lockout tag off."""
        return outcome_of(
            self.call("DELETE", f"/outputs/{quote(output, safe='')}/lockouts/{quote(tag, safe='')}")
        )
