"""The desk: where what any surface was asked becomes a command, or a refusal, in the same words for all.

Who sends a command stands in its source, by the name of a key. Here the key's role, its outputs, its hours and its rate
are looked at; a command that it has no right to give is recorded as refused. HTTP hands its commands in here; remotes ask
by the verbs of `cairnwind.remotes.desk`, which this is one of, and are told the same forms that HTTP answers with.
"""

from __future__ import annotations

import threading
import time
from collections.abc import Callable, Mapping
from functools import cached_property
from typing import Any, NoReturn

from cairnwind.commands import claim_requests
from cairnwind.commands.declaring import OF_EVENT, Command
from cairnwind.commands.reading import read
from cairnwind.commands.table import COMMANDS, role_of
from cairnwind.core.engine.answering import OUTCOMES_WORST_FIRST
from cairnwind.core.facts import events as ev
from cairnwind.core.facts.claims import PERSON, Lifetime, Rank, Source, lease
from cairnwind.core.facts.outputs import Output
from cairnwind.core.language.rights import Key, lacks
from cairnwind.core.physics.stick import mix
from cairnwind.core.values import jsontext
from cairnwind.core.values.errors import BoardError, CallerError, Trouble, unknown
from cairnwind.core.values.quantities import NS
from cairnwind.service import shapes
from cairnwind.service.asking import Asking
from cairnwind.service.codes import Codes
from cairnwind.service.keys import FIRST, Keys
from cairnwind.service.lanes import urgent
from cairnwind.service.problems import OF_OUTCOME
from cairnwind.service.runtime import Runtime
from cairnwind.service.startup import clock

Told = Callable[[dict[str, Any]], None]
RATE, BURST = 50.0, 100.0
"""Commands a second of one key, and how many at once; moves to safe, renewals and releases are not counted."""
LOOKS, MOST_LOOKS = 100.0, 200.0
"""The same for reading."""
DENIALS, MOST_DENIALS = 2.0, 50.0
"""The same for refusals of rights that are recorded: more are refused unrecorded."""


class Desk:
    """Takes commands of all surfaces, looks at the right and the rate of each, and answers in one form."""

    def __init__(self, runtime: Runtime, keys: Keys) -> None:
        self.runtime, self.keys = runtime, keys
        self._buckets: dict[tuple[str, str], tuple[float, float]] = {}
        self._steered: dict[str, float] = {}
        """When each pad was moved last, by its slot (monotonic seconds)."""
        self._lock = threading.Lock()

    # --- for HTTP -----------------------------------------------------------------------------------------

    def submit(
        self, command: ev.Command, *, repeat: tuple[str, str, str] | None = None, wait: float = 0.0
    ) -> tuple[ev.Outcome, ev.Ended | None]:
        """Have a command decided, if whoever sends it may. Raises `CallerError` (``role``, ``rate``, ``busy``)."""
        self.permit(command)
        return self.runtime.submit(command, repeat=repeat, wait=wait)

    def submit_all(self, commands: list[ev.Command]) -> list[ev.Outcome]:
        """The same for several, which are permitted whole or not at all."""
        for number, command in enumerate(commands):
            self.permit(command, count=not number)
        return self.runtime.submit_all(commands)

    def permit(self, command: Any, *, count: bool = True) -> None:
        """Raise `CallerError` if whoever sends this command may not; then it is recorded as refused."""
        source: Source = command.source
        key = self.keys.named(source.who)
        why, output = self._forbidden(key, source, command)
        if why:
            self.deny(source, why, role_of(command), output, command.command)
        assert key is not None
        if count and key.name != FIRST and not urgent(command):
            self.pace(key, "commands", RATE, BURST)

    def deny(
        self, source: Source, why: str, role: str, output: str = "", command: str = "", *, record: bool = True
    ) -> NoReturn:
        """Refuse what somebody has no right to, and record that. Raises `CallerError` (``role``)."""
        error = CallerError(
            "role",
            f"{why[0].upper()}{why[1:]}.",
            f"Use a key with the role {role}, for what it is to command.",
        )
        error.more.update(outcome="refused", reason=why)
        if record and self._spend(source.who, "denials", DENIALS, MOST_DENIALS):
            name = output if output in self.runtime.site.outputs else ""
            denied = ev.Denied(clock(), command or self.runtime.command_id(), source, name, why, error.remedy)
            outcome, _ = self.runtime.submit(denied)
            error.more.update(sequence=outcome.sequence, command=denied.command)
        raise error

    def pace(self, key: Key, what: str, rate: float = LOOKS, burst: float = MOST_LOOKS) -> None:
        """Count one of something by a key. Raises `CallerError` (``rate``) when there are too many a second."""
        if not self._spend(key.name, what, rate, burst):
            error = CallerError(
                "rate", f"Too many {what} came by the key '{key.name}': more than {rate:g} a second.", "Send fewer; moves to off are always taken."
            )  # fmt: skip
            error.more["retry_after"] = 1
            raise error

    def _spend(self, name: str, what: str, rate: float, burst: float) -> bool:
        """Count one of something by somebody; False if there are too many a second."""
        with self._lock:
            now = time.monotonic()
            left, then = self._buckets.get((name, what), (burst, now))
            left = min(burst, left + (now - then) * rate)
            self._buckets[name, what] = (left - 1 if left >= 1 else left, now)
            return left >= 1

    def _forbidden(self, key: Key | None, source: Source, command: Any) -> tuple[str, str]:
        """Why this may not be, in words, and of which output; empty if it may."""
        output = getattr(command, "output", "")
        if why := self.barred(source.who):
            return why, output
        assert key is not None
        if lacks(key, role_of(command)):
            return f"the key '{key.name}' may only {key.role}", output
        declared = OF_EVENT.get(type(command), Command)
        if not key.only or declared.anybody:
            return "", ""
        site = self.runtime.site
        others = [name for name in declared.concerns(command, self.asking(source)) if not key.may(site, name)]
        if not others:
            return "", ""
        what = others[0] or "anything but its outputs"
        return f"the key '{key.name}' may not command {what}", others[0]

    # --- commands of the table ------------------------------------------------------------------------------

    def asking(self, source: Source, *, once: bool = True) -> Asking:
        """A command that this source gives now. ``once``: it is known to have come once only."""
        return Asking(self.runtime, lambda: self.codes, source, self.keys.named(source.who), once=once)

    @cached_property
    def codes(self) -> Codes:
        """Passcodes of guarded outputs."""
        return Codes(self.runtime.reader, self.runtime.writer, self.site.timezone)

    def perform(
        self,
        source: Source,
        command: Command,
        *,
        repeat: tuple[str, str, str] | None = None,
        wait: float = 0.0,
    ) -> dict[str, Any]:
        """Have a command of the table decided; the form of its outcome. Raises `Trouble`."""
        self._admit(source, command)
        ask = self.asking(source)
        found = command.at_once(ask)
        ended = None
        if found is None:
            found, ended = self.submit(command.event(ask), repeat=repeat, wait=wait)
        return self._form(command, ask, found, ended)

    def give(
        self, source: Source, word: str, given: Mapping[str, Any], told: Told, *, once: bool = True
    ) -> None:
        """The same for who does not wait: ``told`` is called once with the answer, by whichever thread has it."""
        try:
            kind = COMMANDS.get(word)
            if kind is None:
                raise unknown("command", word, COMMANDS)
            command, ask = read(kind, given), self.asking(source, once=once)
            self._admit(source, command)
            found = command.at_once(ask)
            if found is not None:
                told(self._coded(self._form(command, ask, found)))
                return
            self._soon(
                command.event(ask), lambda outcome: told(self._coded(self._form(command, ask, outcome)))
            )
        except Trouble as error:
            told(trouble_form(error))

    def _admit(self, source: Source, command: Command) -> None:
        """Before anything is looked up for it: whether who carries this key may give such a command at all. Raises `CallerError`."""
        key = self.keys.named(source.who)
        why = self.barred(source.who)
        if not why and key is not None and lacks(key, command.role):
            why = f"the key '{key.name}' may only {key.role}"
        if not why and key is not None and key.only and type(command).at_once is not Command.at_once:
            why = f"the key '{key.name}' may not command anything but its outputs"  # what is done at once is done to the whole site
        if why:
            self.deny(source, why, command.role, getattr(command, "output", ""))

    def _form(
        self, command: Command, ask: Asking, outcome: ev.Outcome, ended: ev.Ended | None = None
    ) -> dict[str, Any]:
        output = self.site.outputs.get(outcome.output)
        return {**shapes.outcome_form(outcome, output, ended), **command.told(ask, outcome)}

    @staticmethod
    def _coded(form: dict[str, Any]) -> dict[str, Any]:
        """With ``code``, which is empty where nothing is wrong."""
        return {**form, "code": OF_OUTCOME.get(form["outcome"], "")}

    # --- for remotes ----------------------------------------------------------------------------------------

    @property
    def site(self) -> Any:
        """What is wired."""
        return self.runtime.site

    @property
    def epoch(self) -> str:
        """A word for this start of the service."""
        return self.runtime.stream.epoch if self.runtime.stream else ""

    def source(self, surface: str, key: str) -> Source:
        """Who commands by a remote: the surface, and the key that it carries."""
        found = self.keys.named(key)
        return Source(surface, key, found.role if found else "watch")

    def barred(self, key: str) -> str:
        """Why who carries this key may not even look now; empty if they may."""
        found = self.keys.named(key)
        if found is None:
            return f"there is no key '{key}' (any more)"
        return self.keys.good(found) if found.when else ""

    def uses(self, key: str, come_from: str) -> None:
        """A key was used by a remote."""
        found = self.keys.named(key)
        if found is not None:
            self.keys.note(found, come_from)

    def keep(
        self,
        source: Source,
        output: str,
        value: Any,
        slot: str,
        span: int,
        told: Told,
        *,
        rank: Rank = Rank.HAND,
        causes: tuple[str, ...] = (),
        now: bool = False,
        someone: bool = False,
    ) -> None:
        """A lease of ``span`` nanoseconds in a slot: made, brought to another value, or only renewed."""

        def make() -> tuple[ev.Command, Output]:
            found = claim_requests.output_of(self.site, output)
            setting = found.read(value)
            at, number = clock(), self.runtime.command_id()
            claim = self.runtime.slots.claims.get(self.runtime.slots.find(output, slot) or 0)
            if claim is not None and claim.lifetime == lease(span) and claim.source == source:
                renewal = ev.Renew(at, number, source, output, slot, setting, causes, now, someone)
                return self.asking(source).renewal(renewal), found
            life = Lifetime("lease", span)
            return ev.Wish(
                at, number, source, output, setting, rank, slot, life, causes=causes, now=now, someone=someone
            ), found

        self._ask(make, told)

    def renew(self, source: Source, output: str, slot: str, told: Told) -> None:
        """A lease in a slot goes on as it is."""
        self._ask(
            lambda: (
                ev.Renew(clock(), self.runtime.command_id(), source, output, slot),
                claim_requests.output_of(self.site, output),
            ),
            told,
        )

    def claimed(self, output: str, slot: str = PERSON) -> int | None:
        """The number of the claim in a slot."""
        return self.runtime.slots.find(output, slot)

    def release(self, source: Source, output: str, told: Told, slot: str = PERSON) -> None:
        """'I no longer care.'"""
        self._ask(
            lambda: (
                ev.Release(
                    clock(),
                    self.runtime.command_id(),
                    source,
                    claim_requests.output_of(self.site, output).name,
                    slot,
                ),
                self.site.outputs[output],
            ),
            told,
        )

    def steer(self, source: Source, pad: str, x: float, y: float, told: Told) -> None:
        """A pad's position, for a short lease."""
        try:
            form = self.steered(source, pad, x, y)
            worst = min(form["outcomes"], key=OUTCOMES_WORST_FIRST.index, default="driving")
            told({**form, "outcome": worst, "reason": "", "remedy": "", "code": ""})
        except Trouble as error:
            told(trouble_form(error))

    def steered(
        self, source: Source, name: str, x: object, y: object, *, again: bool = False
    ) -> dict[str, Any]:
        """A pad's position, for a short lease: two motors, or the output of the zone that it is in.

        ``again``: it goes on where one was; when that has ended it moves nothing, for then it was held up on the way.
        Raises `CallerError`; then everything of the pad was let go.
        """
        pad = self._pad(name)
        if any(
            isinstance(axis, bool) or not isinstance(axis, int | float) or not -1 <= axis <= 1
            for axis in (x, y)
        ):
            raise CallerError(
                "bad-value", f"{name}: 'x' and 'y' are numbers from -1 to 1.", 'Send {"x": 0, "y": 0.5}.'
            )
        across, along = float(x), float(y)  # type: ignore[arg-type]
        slot, at = f"pad:{name}:{source.who}", clock()
        if again and at.mono / NS - self._steered.get(slot, 0.0) > pad.lease / NS:
            self.let_go(source, name)
            raise CallerError("no-claim", f"{name}: this hold has ended.", "Let go, and hold it again.")
        commands: list[ev.Command] = []
        ask, zone = self.asking(source), ""
        if pad.zones:
            zone = pad.zone(across, along)
            wants: dict[str, Any] = {}
            for each, output in pad.zones.items():
                if output and (each == zone or output not in wants):
                    wants[output] = self.site.outputs[output].full if each == zone else None
        else:
            drives = mix(pad, across, along)
            wants = {
                motor: self.site.outputs[motor].admit(drive)
                for motor, drive in zip((pad.left, pad.right), drives, strict=True)
            }
        for output, setting in sorted(wants.items(), key=lambda each: each[1] is not None):
            number, standing = self.runtime.command_id(), self.runtime.slots.find(output, slot)
            if setting is None:
                if standing is not None:
                    commands.append(ev.Release(at, number, source, output, slot))
            elif standing is None:
                commands.append(
                    ev.Wish(at, number, source, output, setting, Rank.HAND, slot, lease(pad.lease))
                )
            else:
                commands.append(ask.renewal(ev.Renew(at, number, source, output, slot, setting)))
        try:
            found = self.submit_all(commands)
        except Trouble:
            self.let_go(source, name)
            raise
        for outcome in found:
            if outcome.outcome in OF_OUTCOME:
                self.let_go(source, name)  # one motor alone would turn what both should move
                error = CallerError(
                    OF_OUTCOME[outcome.outcome], f"{outcome.output}: {outcome.reason}.", outcome.remedy
                )
                error.more.update(outcome=outcome.outcome, reason=outcome.reason, output=outcome.output)
                raise error
        self._steered[slot] = at.mono / NS
        form: dict[str, Any] = {"pad": name, "outcomes": [outcome.outcome for outcome in found]}
        if pad.zones:
            return {**form, "zone": zone, "output": pad.zones.get(zone) or None}
        return {**form, "left": drives[0].parts / 10_000, "right": drives[1].parts / 10_000}

    def let_go(self, source: Source, name: str) -> None:
        """Everything of a pad is let go."""
        pad = self._pad(name)
        slot = f"pad:{name}:{source.who}"
        self._steered.pop(slot, None)
        commands: list[ev.Command] = [
            ev.Release(clock(), self.runtime.command_id(), source, output, slot)
            for output in pad.outputs
            if self.runtime.slots.find(output, slot) is not None
        ]
        if commands:
            self.runtime.submit_all(commands)

    def _pad(self, name: str) -> Any:
        if name not in self.site.pads:
            raise unknown("pad", name, self.site.pads)
        return self.site.pads[name]

    def _ask(self, make: Callable[[], tuple[ev.Command, Output | None]], told: Told) -> None:
        """Have a command made and decided; ``told`` is called once with the answer, by whichever thread has it."""
        try:
            command, output = make()
            self._soon(command, lambda outcome: told(self._coded(shapes.outcome_form(outcome, output))))
        except Trouble as error:
            told(trouble_form(error))

    def _soon(self, command: ev.Command, told: Callable[[ev.Outcome], None]) -> None:
        """Have a command decided, if whoever sends it may; ``told`` is called with what comes of it."""
        self.permit(command)
        if not self.runtime.submit_soon(command, told):
            raise CallerError(
                "busy", "Too many commands are waiting; this one was not taken.", "Try again in a moment."
            )

    def output(self, name: str) -> dict[str, Any] | None:
        """An output as HTTP shows it; None if there is none of this name."""
        found = self.runtime.publisher.find(name)
        return None if found is None else shapes.output_form(found)

    def causes(self, kind: str, name: str) -> tuple[str, ...]:
        """The reflexes that led to what an 'output' or 'input' does now."""
        return self.runtime.engine.state.causes.of(kind, name)

    def output_now(self, name: str) -> Any:
        """An output's picture."""
        found = self.runtime.publisher.find(name)
        assert found is not None
        return found

    def input(self, name: str) -> dict[str, Any] | None:
        """An input as HTTP shows it."""
        found = self.runtime.publisher.current.inputs.get(name)
        return None if found is None else jsontext.read(found.body)

    def site_now(self) -> dict[str, Any]:
        """The site as a whole, as HTTP shows it."""
        found: dict[str, Any] = jsontext.read(self.runtime.publisher.current.site.body)
        return found

    def listen(self, take: Callable[[list[tuple[str, str]], list[Any]], None]) -> None:
        """Have ``take`` called with what has changed, (kind, name) each, and what became of commands.

        It is called by the engine's thread, so it only notes and returns.
        """
        telling = self.runtime.telling
        telling.listeners = [*telling.listeners, take]  # the engine's thread may be going through them

    def ignore(self, take: Callable[[list[tuple[str, str]], list[Any]], None]) -> None:
        """It is called no more."""
        telling = self.runtime.telling
        telling.listeners = [each for each in telling.listeners if each != take]

    def journal(self, after: int, limit: int = 500) -> list[Any]:
        """Rows of the journal after a number."""
        return self.runtime.reader.after(after, limit)


def trouble_form(error: Trouble) -> dict[str, Any]:
    """What was not even decided, in the form of an outcome."""
    return {
        "command": None, "sequence": 0, "outcome": "unreachable" if isinstance(error, BoardError) else "refused",
        "output": None, "reason": error.sentence.rstrip("."), "remedy": error.remedy, "setting": None, "claim": None,
        "code": error.code, **error.more,
    }  # fmt: skip
