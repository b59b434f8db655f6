"""The reasons, in words: why an output is as it is, from what wanted it to what its board confirmed."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from dataclasses import dataclass, replace

from cairnwind.core.facts.claims import Claim
from cairnwind.core.facts.now import OutputNow
from cairnwind.core.facts.outputs import Output
from cairnwind.core.rules.budget import Left
from cairnwind.core.values.errors import ACCEPT_CLOCK


@dataclass(frozen=True, slots=True)
class Why:
    """One sentence, and the steps behind it as (stage, words), from wish to pin."""

    output: str
    sentence: str
    steps: tuple[tuple[str, str], ...]
    remedy: str
    """What would have to change, where something stands in the way."""


def why(now: OutputNow, clock: Callable[[int], str]) -> Why:
    """The reasons behind ``now``. ``clock`` puts a wall time (nanoseconds UTC) into words."""
    say = now.output.say
    wanted = _wanted(now, clock)
    held = now.refusal or now.keeping
    allowed = f"{held.reason}; so it is kept {say(now.allowed)}" if held else "nothing stands in the way"
    expected = f"; expected at {clock(held.expected)}" if held and held.expected else ""
    driven, confirmed = _driven(now), _confirmed(now, clock)
    head = say(now.confirmed) if now.confirmed is not None else "unknown"
    if now.refusal:
        sentence = f"{head}: {wanted}, but {now.refusal.reason}{expected}."
        remedy = now.refusal.remedy
    elif not now.reachable:
        sentence = f"{head}: {wanted}, but board {now.output.pin.board} does not answer: {now.link}."
        remedy = "When it answers again the output goes to safe first, then to what is wanted."
    elif now.keeping:
        sentence = f"{head}: {wanted}, but {now.keeping.reason}{expected}."
        remedy = now.keeping.remedy
    elif now.fault:
        sentence = f"{head}: {wanted}, but {now.fault}."
        remedy = "See to the wiring and the board; the next command tries again."
    elif now.confirmed == now.wanted:
        sentence, remedy = f"{head}: {wanted}.", ""
    else:
        sentence, remedy = f"{head}: {wanted}; {driven}.", ""
    if now.grace is not None and now.grace.expected is not None and not now.refusal:
        soon = f"{now.grace.reason}; it goes to {say(now.output.safe)} at {clock(now.grace.expected)} unless that has changed by then"
        sentence = f"{sentence.rstrip('.')}; but {soon}."
        allowed = f"{allowed} yet: {soon}"
    hidden = [claim for claim in now.claims if now.leader is None or claim.slot != now.leader.slot]
    steps = [("wanted", wanted)]
    steps += [
        (
            "also",
            f"{claim.text} wants it {say(claim.setting)}{_ends(claim, clock)}, but ranks lower or came earlier",
        )
        for claim in hidden
    ]
    steps += [("allowed", allowed), ("driven", driven), ("confirmed", confirmed)]
    return Why(now.output.name, sentence, tuple(steps), remedy)


def with_notes(found: Why, notes: Iterable[tuple[int, str, str]], clock: Callable[[int], str]) -> Why:
    """The same, with what people have left to remember about it: when (nanoseconds UTC), who, what."""
    steps = [("noted", f"{text} ({who}, {clock(wall)})") for wall, who, text in notes]
    return replace(found, steps=(*found.steps, *steps)) if steps else found


def if_wanted(found: Why, output: Output, reason: str, remedy: str) -> Why:
    """The same, with what would stand in the way if somebody wanted it on."""
    on = output.words[1]
    text = f"if somebody wanted it {on}: {reason or 'nothing would stand in the way'}"
    return replace(found, steps=(*found.steps, ("wanted on", text)), remedy=found.remedy or remedy)


def left_text(left: Left, clock: Callable[[int], str]) -> str:
    """What is left of a budget, until when that lasts, and when there is more."""
    what = f"nothing is left of {left.of}" if left.used_up else f"{left.left} left of {left.of}"
    ends = f", used up at {clock(left.ends)} if it goes on so" if left.ends and not left.used_up else ""
    more = (
        ""
        if left.more is None
        else f"; there is {'enough again' if left.used_up else 'more'} from {clock(left.more)} on"
    )
    return f"{what}{ends}{more}"


def with_budgets(found: Why, budgets: Iterable[Left], clock: Callable[[int], str]) -> Why:
    """The same, with what is left of the budgets of the output."""
    steps = [("budget", f"'{each.rule}': {left_text(each, clock)}") for each in budgets]
    return replace(found, steps=(*found.steps, *steps)) if steps else found


def with_clock(found: Why, behind: str) -> Why:
    """The same of an output that the plan concerns, while nobody believes the clock."""
    sentence = f"{found.sentence.rstrip('.')}; {behind}."
    return replace(
        found, sentence=sentence, steps=(*found.steps, ("plan", behind)), remedy=found.remedy or ACCEPT_CLOCK
    )


def _wanted(now: OutputNow, clock: Callable[[int], str]) -> str:
    if now.leader is None:
        return f"nobody claims it, so it rests at {now.output.say(now.output.rest)}"
    claim = now.leader
    return f"{claim.text} wants it {now.output.say(claim.setting)} since {clock(claim.made.wall)}{_ends(claim, clock)}"


def _ends(claim: Claim, clock: Callable[[int], str]) -> str:
    kind = claim.lifetime.kind
    if kind in ("for", "until") and claim.ends_wall is not None:
        return f" until {clock(claim.ends_wall)}"
    return {
        "lease": ", as long as the hold is kept up",
        "takeover": ", until the plan or a release ends it",
    }.get(kind, ", until released")


def _driven(now: OutputNow) -> str:
    name = now.output.pin.board
    if not now.reachable:
        return f"nothing can be driven: board {name} does not answer: {now.link}"
    if now.pending is not None:
        tries = f" (attempt {now.failures + 1})" if now.failures else ""
        return f"{now.output.say(now.pending)} is on its way to board {name}{tries}"
    if now.failures:
        said = f" ({now.failure})" if now.failure else ""
        return f"setting it to {now.output.say(now.allowed)} has failed {now.failures} times{said}; it is tried again"
    return (
        f"board {name} was told {now.output.say(now.confirmed)}"
        if now.confirmed is not None
        else "nothing was driven yet"
    )


def _confirmed(now: OutputNow, clock: Callable[[int], str]) -> str:
    pin = now.output.pin.both
    if now.confirmed is None:
        return f"what {pin} does is not known"
    sense = "active-low" if now.output.active_low else "active-high"
    knows = {
        "read back": "read back from",
        "accepted": "accepted by",
        "sent": "sent to (it cannot confirm)",
        "proved": f"proved by '{now.output.proof}', at",
    }[now.how or "sent"]
    return f"{now.output.say(now.confirmed)}, {knows} {pin}, {sense}, since {clock(now.since)}"
