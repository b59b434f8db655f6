"""The phase in which commands are answered: one outcome each, once all is decided."""

from __future__ import annotations

from cairnwind.core.facts import events as ev
from cairnwind.core.facts.claims import Claim, leading
from cairnwind.core.facts.history import claim_form
from cairnwind.core.state.standing import Standing
from cairnwind.core.state.turn import Asked, Turn

OUTCOMES_WORST_FIRST = ("not recorded", "refused", "unreachable", "blocked", "waiting", "driving")
"""The outcome of a command to several outputs is the worst of its parts'."""


def outcome(
    turn: Turn, command: str, s: Standing, claim: Claim, sequence: int, before: Claim | None = None
) -> ev.Outcome:
    """The word for how a standing claim fares, and why."""
    word, reason, remedy = _fares(turn, s, claim)
    if not turn.recording:
        word, reason = "not recorded", f"the journal cannot be written: {turn.state.journal.trouble}"
    return ev.Outcome(
        command, sequence, word, claim.output, reason, remedy, claim.setting, claim, replaced=before
    )


def _fares(turn: Turn, s: Standing, claim: Claim) -> tuple[str, str, str]:
    gating, drive = s.gating, s.drive
    leader = leading(s.claims.all)
    board = turn.state.boards[s.output.pin.board]
    if leader is not None and leader.slot != claim.slot:
        leads = f"{leader.text} leads with {s.output.say(leader.setting)}"
        return "waiting", leads, "It takes effect when that ends."
    if not board.up:
        away = f"board {board.name} does not answer: {board.reason}"
        return "unreachable", away, "It stands, and counts when the link is back."
    if gating.refusal is not None:
        word = "waiting" if gating.refusal.only_time else "blocked"
        return word, gating.refusal.reason, gating.refusal.remedy
    if gating.keeping is not None:
        return "waiting", gating.keeping.reason, gating.keeping.remedy
    if drive.fault and drive.stuck == claim.setting:
        return "blocked", drive.fault, "" if drive.theirs else "See to the board."
    already = drive.pending is None and drive.confirmed == claim.setting
    return "driving", "it is so already" if already else "", ""


def answer(turn: Turn, asked: Asked) -> None:
    """Answer a command that made a claim, and record it."""
    event, claim, sequence, before = asked
    s = turn.standing(claim.output)
    found = outcome(turn, event.command, s, claim, sequence, before)
    data = {
        "verb": "claim", "claim": claim_form(claim), "outcome": found.outcome, "reason": found.reason
    }  # fmt: skip
    said = s.output.say(claim.setting)
    tail = f" ({found.outcome}: {found.reason})" if found.reason else f" ({found.outcome})"
    turn.record(sequence, "command", claim.output, f"{claim.output} to {said}{tail}", event, data)
    turn.effects.append(found)
    if found.outcome != "driving":
        return
    if s.drive.pending is None and s.drive.confirmed == s.gating.allowed:
        already = " already" if s.drive.confirmed == claim.setting else ""
        text = f"{said}{already}, {s.known.how}"
        turn.effects.append(ev.Ended(event.command, claim.output, "confirmed", text))
    else:
        s.claims.asker = event.command


def gather(turn: Turn) -> None:
    """Answer a phrase with one outcome that holds those of its parts."""
    assert turn.phrase is not None
    event, sequence, reason = turn.phrase
    within = f"{event.command}."
    parts: list[ev.Outcome] = []
    others: list[ev.Effect] = []
    for each in turn.effects:
        mine = type(each) is ev.Outcome and each.command.startswith(within)
        (parts if mine else others).append(each)
    turn.effects = others
    parts.sort(key=lambda each: int(each.command[len(within) :]))
    worst = min(parts, key=lambda each: OUTCOMES_WORST_FIRST.index(each.outcome), default=None)
    word = worst.outcome if worst else "waiting" if reason else turn.word
    told = worst is not None and worst.reason and (worst.outcome != "driving" or len(parts) == 1)
    why = f"{worst.output}: {worst.reason}" if worst and told else reason
    remedy = worst.remedy if worst else ""
    turn.effects.append(ev.Outcome(event.command, sequence, word, "", why, remedy, parts=tuple(parts)))
