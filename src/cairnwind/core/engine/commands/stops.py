"""What keeps people safe and what they do about it: resets, lockout tags, attestations, passcodes, probes."""

from __future__ import annotations

from cairnwind.core.engine.requests import Requests, find
from cairnwind.core.facts import events as ev
from cairnwind.core.facts.claims import PERSON, Rank, lasting
from cairnwind.core.facts.history import tag_form
from cairnwind.core.facts.interlocks import Refusal, Tag
from cairnwind.core.rules.gates import Armed, refusal
from cairnwind.core.state.turn import Turn


class Stops:
    """``armed`` has the gates that hold now."""

    def __init__(self, armed: Armed, requests: Requests) -> None:
        self._armed, self._requests = armed, requests

    def reset_stop(self, turn: Turn, event: ev.ResetStop) -> None:
        """End the all-stop."""
        sequence, force = turn.number(), turn.state.in_force
        if not event.source.keeps:
            found = Refusal("role", "only a keeper resets an all-stop", "Use a key with the role keep.")
            turn.refuse(event, sequence, found)
            return
        if not turn.recording and force.stop is not None:
            turn.refuse(event, sequence, turn.no_journal())
            return
        was, force.stop = force.stop, None
        turn.effect(ev.KeepStop(None), ev.Changed("site", ""))
        if was is not None:
            held = [s.output.name for s in turn.state.outputs.values() if s.gating.refusal is not None]
            turn.touch_all(held)
        reason = "the all-stop is reset" if was else "there was no all-stop to reset"
        turn.record(sequence, "command", "", reason, event, {"verb": "reset"})
        turn.done(event, sequence, reason, sure=True)

    def reset_trip(self, turn: Turn, event: ev.ResetTrip) -> None:
        """Reset a trip whose cause is gone."""
        self._armed.gates.trips.reset(turn, event)

    def probe(self, turn: Turn, event: ev.Probe) -> None:
        """What would stand in the way if a person wanted an output on; nothing is changed."""
        s = turn.state.outputs.get(event.output)
        if s is None:
            none = "the site has no such output"
            turn.effect(ev.Outcome(event.command, turn.sequence, "refused", event.output, none))
            return
        found = refusal(turn.state.in_force, s.output) or self._armed.gates.would(turn, s, Rank.PERSON)
        board = turn.state.boards[s.output.pin.board]
        if found is None and not board.up:
            away = f"board {board.name} does not answer: {board.reason}"
            found = Refusal("link", away, "See to the board.")
        word = "driving" if found is None else "waiting" if found.only_time else "refused"
        reason, remedy = (found.reason, found.remedy) if found else ("", "")
        turn.effect(ev.Outcome(event.command, turn.sequence, word, event.output, reason, remedy))

    def attest(self, turn: Turn, event: ev.Attest) -> None:
        """Somebody has seen that an output which nobody can ask is off."""
        sequence = turn.number()
        s = find(turn, event, sequence)
        if s is None:
            return
        found = None
        if not event.source.keeps:
            found = Refusal("role", "only a keeper attests", "Use a key with the role keep.")
        elif not event.by.strip():
            found = Refusal("name", "somebody with a name attests", "Say who: --by NAME.")
        elif turn.state.boards[s.output.pin.board].up and s.drive.confirmed is not None:
            known = f"it is known to be {s.output.say(s.drive.confirmed)}"
            found = Refusal("known", known, "Nothing has to be attested.")
        elif not turn.recording:
            found = turn.no_journal()
        if found is not None:
            turn.refuse(event, sequence, found)
            return
        s.known.attested = True
        self._armed.gates.noticed(turn, s)
        text = f"{event.output}: {event.by} attests that it is off"
        turn.record(sequence, "command", event.output, text, event, {"verb": "attest", "by": event.by})
        turn.done(event, sequence, text, event.output, sure=True)

    def lock(self, turn: Turn, event: ev.Lock) -> None:
        """Hang a tag on an output."""
        sequence = turn.number()
        s = find(turn, event, sequence)
        if s is None:
            return
        tag = Tag(event.output, event.tag, event.source, event.at.wall, event.reason, event.until)
        tag = turn.state.in_force.tags.setdefault(event.output, {}).setdefault(event.tag, tag)
        turn.disarm([s], f"ended by the lockout '{event.tag}'")
        turn.touch(event.output)
        turn.effect(ev.KeepTag(tag), ev.Changed("site", ""))
        reason = f"locked out by tag '{event.tag}'"
        data = {"verb": "lock", "tag": tag_form(tag)}
        turn.record(sequence, "command", event.output, f"{event.output}: {reason}", event, data)
        turn.done(event, sequence, reason, event.output)

    def unlock(self, turn: Turn, event: ev.Unlock) -> None:
        """Take a tag off."""
        sequence = turn.number()
        if find(turn, event, sequence) is None:
            return
        all_tags = turn.state.in_force.tags
        tags = all_tags.get(event.output, {})
        tag = tags.get(event.tag)
        if tag is not None and not (event.source.keeps or event.source.who == tag.source.who):
            hung = f"tag '{tag.name}' was hung by the {tag.source.text}"
            turn.refuse(event, sequence, Refusal("lockout", hung, "They take it off, or a keeper does."))
            return
        if not turn.recording:
            turn.refuse(event, sequence, turn.no_journal())
            return
        if tag is not None:
            del tags[event.tag]
            if not tags:
                del all_tags[event.output]
            turn.effect(ev.DropTag(event.output, event.tag), ev.Changed("site", ""))
            turn.touch(event.output)
        reason = f"tag '{event.tag}' taken off" if tag else f"no tag '{event.tag}' was on it"
        data = {"verb": "unlock", "tag": event.tag}
        turn.record(sequence, "command", event.output, f"{event.output}: {reason}", event, data)
        turn.done(event, sequence, reason, event.output, sure=True)

    def open(self, turn: Turn, event: ev.Open) -> None:
        """A right code was given: its guard opens, and the output with it."""
        guards = self._armed.gates.guards
        if event.output not in guards.guards:  # any more
            turn.refuse(event, turn.number(), Refusal("guard", "it is not guarded", "Turn it on."))
            return
        if not turn.recording:
            turn.refuse(event, turn.number(), turn.no_journal())
            return
        guards.open(turn, event)
        full, span = turn.site.outputs[event.output].full, guards.guards[event.output].opens
        self._requests.wish(
            turn,
            ev.Wish(
                turn.now, event.command, event.source, event.output, full, Rank.PERSON, PERSON, lasting(span)
            ),
        )

    def wrong_code(self, turn: Turn, event: ev.WrongCode) -> None:
        """A wrong code was given."""
        self._armed.gates.guards.wrong_code(turn, event)

    def denied(self, turn: Turn, event: ev.Denied) -> None:
        """Somebody without the right to it gave a command."""
        turn.refuse(event, turn.number(), Refusal("role", event.reason, event.remedy))
