"""What keeps people safe and what they do about it: the all-stop, tags, trips, attestations, passcodes, alarms, suspended reflexes."""

from __future__ import annotations

from collections.abc import Iterable
from typing import Annotated, Any
from zoneinfo import ZoneInfo

from cairnwind.commands import claim_requests
from cairnwind.commands.declaring import BY, FIRST, OUTPUT, PACED, SHORT, Ask, Command, declare, field
from cairnwind.commands.phrases import outputs_of
from cairnwind.core.facts import events as ev
from cairnwind.core.facts.reflexes import Alarm, Reflex
from cairnwind.core.rules.trip import Trip
from cairnwind.core.values.errors import CallerError, unknown

TAG = Annotated[str, field("The name of the tag.", min_length=1, max_length=60)]
LADDER = {"output": "gallery", "tag": "ladder"}


def _by(by: str) -> str:
    if not by.strip():
        raise CallerError("bad-value", "Nobody is named.", 'Send {"by": "Anna"}.')
    return by.strip()


def _named(kind: str, name: str, rules: Iterable[Any], of: Any) -> str:
    """A rule of this kind, by name. Raises `CallerError` (``unknown-name``)."""
    known = {rule.name for rule in rules if isinstance(rule, of)}
    if name not in known:
        raise unknown(kind, name, known)
    return name


@declare(
    "stop", makes=ev.AllStop, role="operate", lane=FIRST, address="PUT /all-stop", anybody=True, waits=True, typed="stop",
    example={"reason": "smoke"},
)  # fmt: skip
class Stop(Command):
    """Everything safe, now."""

    reason: SHORT = ""

    def event(self, ask: Ask) -> ev.Command:
        """The all-stop."""
        return ev.AllStop(ask.at, ask.command, ask.source, self.reason)


@declare(
    "reset_stop",
    makes=ev.ResetStop,
    role="keep",
    lane=PACED,
    address="DELETE /all-stop",
    commit_first=True,
    typed="stop --reset",
)
class ResetStop(Command):
    """Ends the all-stop."""

    def event(self, ask: Ask) -> ev.Command:
        """Its end."""
        return ev.ResetStop(ask.at, ask.command, ask.source)


@declare(
    "lock", makes=ev.Lock, role="operate", lane=FIRST, address="PUT /outputs/<output>/lockouts/<path:tag>", typed="lockout",
    example={**LADDER, "reason": "new bulbs"},
)  # fmt: skip
class Lock(Command):
    """Hangs a tag: the output stays safe while it is there."""

    output: OUTPUT
    tag: TAG
    reason: SHORT = ""
    until: Annotated[str, field("When it is meant to come off.")] = ""

    def event(self, ask: Ask) -> ev.Command:
        """The tag."""
        output = claim_requests.output_of(ask.site, self.output)
        if not self.tag.isprintable():
            raise CallerError(
                "bad-value", "This is not a name for a tag.", "Use up to 60 printable characters."
            )
        until = (
            claim_requests.moment(self.until, ZoneInfo(ask.site.timezone), ask.at.wall) if self.until else 0
        )
        return ev.Lock(ask.at, ask.command, ask.source, output.name, self.tag, self.reason, until)


@declare(
    "unlock",
    makes=ev.Unlock,
    role="operate",
    lane=PACED,
    address="DELETE /outputs/<output>/lockouts/<path:tag>",
    typed="lockout --remove",
    example=LADDER,
)
class Unlock(Command):
    """Takes a tag off; that of another only a keeper."""

    output: OUTPUT
    tag: TAG

    def event(self, ask: Ask) -> ev.Command:
        """Off it comes."""
        output = claim_requests.output_of(ask.site, self.output)
        return ev.Unlock(ask.at, ask.command, ask.source, output.name, self.tag)


@declare(
    "open", makes=(ev.Open, ev.WrongCode), role="operate", lane=PACED, address="POST /outputs/<output>/open", commit_first=True,
    secret=True, typed="open",
)  # fmt: skip
class Open(Command):
    """Opens a guarded output with a passcode; 429 while one has to wait."""

    output: OUTPUT
    code: Annotated[str, field("The passcode.", min_length=1)]

    def event(self, ask: Ask) -> ev.Command:
        """It opens, or the code was wrong."""
        name = claim_requests.output_of(ask.site, self.output).name
        if name not in {guard.output for guard in ask.rules.guards}:
            raise CallerError("bad-value", f"{name} has no guard.", "Turn it on without a code.")
        found = ask.passcode(name, self.code)
        if found is None:
            return ev.WrongCode(ask.at, ask.command, ask.source, name)
        return ev.Open(ask.at, ask.command, ask.source, name, *found)


@declare(
    "attest",
    makes=ev.Attest,
    role="keep",
    lane=PACED,
    address="POST /outputs/<output>/attestation",
    typed="attest",
)
class Attest(Command):
    """Says by whom it was seen to be off."""

    output: OUTPUT
    by: BY

    def event(self, ask: Ask) -> ev.Command:
        """Somebody has seen it."""
        output = claim_requests.output_of(ask.site, self.output)
        return ev.Attest(ask.at, ask.command, ask.source, output.name, _by(self.by))


@declare(
    "reset",
    makes=ev.ResetTrip,
    role="operate",
    lane=PACED,
    address="POST /trips/<path:trip>/reset",
    commit_first=True,
    typed="reset",
)
class Reset(Command):
    """Resets a trip whose cause is gone."""

    trip: Annotated[str, field("The trip.", of="trip", min_length=1)]
    by: BY

    def event(self, ask: Ask) -> ev.Command:
        """Somebody resets it."""
        trip = _named("trip", self.trip, ask.rules.interlocks, Trip)
        return ev.ResetTrip(ask.at, ask.command, ask.source, trip, _by(self.by))

    @classmethod
    def concerns(cls, event: ev.ResetTrip, ask: Ask) -> Iterable[str]:
        """The outputs of the trip."""
        return [
            name
            for rule in ask.rules.interlocks
            if isinstance(rule, Trip) and rule.name == event.trip
            for name in rule.outputs
        ]


@declare(
    "acknowledge", makes=ev.Acknowledge, role="operate", lane=PACED, address="POST /alarms/<path:alarm>/acknowledgement",
    typed="alarms --acknowledge",
)  # fmt: skip
class Acknowledge(Command):
    """Says that somebody has heard an alarm."""

    alarm: Annotated[str, field("The alarm.", of="alarm", min_length=1)]
    by: BY

    def event(self, ask: Ask) -> ev.Command:
        """Somebody has heard it."""
        alarm = _named("alarm", self.alarm, ask.rules.reflexes, Alarm)
        return ev.Acknowledge(ask.at, ask.command, ask.source, alarm, _by(self.by))

    @classmethod
    def concerns(cls, event: ev.Acknowledge, ask: Ask) -> Iterable[str]:
        """The outputs that it is about, and those that it has do something; the site as a whole if it is about none."""
        (alarm,) = [
            rule for rule in ask.rules.reflexes if isinstance(rule, Alarm) and rule.name == event.alarm
        ]
        about = [name for kind, name in alarm.condition.about if kind == "output"]
        return [*about, *(alarm.course.outputs if alarm.course else ())] or [""]


@declare(
    "resume",
    makes=ev.Resume,
    role="operate",
    lane=PACED,
    address="POST /reflexes/<path:reflex>/resume",
    typed="resume",
)
class Resume(Command):
    """Lets a suspended reflex work again."""

    reflex: Annotated[str, field("The reflex.", of="reflex", min_length=1)]

    def event(self, ask: Ask) -> ev.Command:
        """It works again."""
        return ev.Resume(
            ask.at, ask.command, ask.source, _named("reflex", self.reflex, ask.rules.reflexes, Reflex)
        )

    @classmethod
    def concerns(cls, event: ev.Resume, ask: Ask) -> Iterable[str]:
        """What the reflex does something to."""
        found = [
            each for each in ask.rules.reflexes if isinstance(each, Reflex) and each.name == event.reflex
        ]
        return [name for each in found for name in outputs_of(each.course.steps, ask)]


@declare(
    "accept_clock",
    makes=ev.AcceptClock,
    role="keep",
    lane=PACED,
    address="POST /clock/acceptance",
    typed="clock --accept",
)
class AcceptClock(Command):
    """Says that the clock is right, though it is behind the journal."""

    by: BY

    def event(self, ask: Ask) -> ev.Command:
        """Somebody says so."""
        return ev.AcceptClock(ask.at, ask.command, ask.source, _by(self.by))


@declare("reload", makes=ev.Reload, role="keep", lane=PACED, address="POST /site-file/reload", typed="reload")
class Reload(Command):
    """Reads the site file anew."""

    def at_once(self, ask: Ask) -> ev.Outcome:
        """It is read where it is asked for; the engine is told when all of it is understood."""
        return ask.reload()
