"""The runtime: one thread owns the engine, takes events from the lanes and carries its effects out.

Moves to safe leave for their links before anything else happens. A command is answered when its decision is
committed; what it drives need not wait for that, except where doing it twice would be wrong (a command with an
Idempotency-Key, the reset of an all-stop): there, moves away from safe wait for the commit.
"""

from __future__ import annotations

import itertools
import logging
import queue
import secrets
import shutil
import threading
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any

from cairnwind import oneid
from cairnwind.commands.table import OF_EVENT
from cairnwind.core.engine.loop import Engine
from cairnwind.core.facts import events as ev
from cairnwind.core.facts.claims import Instant, Source
from cairnwind.core.facts.interlocks import Stop
from cairnwind.core.facts.plan import Schedule, Span
from cairnwind.core.facts.site import Site
from cairnwind.core.language import schedules
from cairnwind.core.language.schedules import Planned
from cairnwind.core.values.errors import BoardError, CallerError
from cairnwind.core.values.fact import replace
from cairnwind.folder import read_only
from cairnwind.service import shapes
from cairnwind.service.backing import Backups
from cairnwind.service.diskwatch import DiskWatch
from cairnwind.service.editing import Editing
from cairnwind.service.editions import Editions, Origin
from cairnwind.service.kernelclock import synchronised
from cairnwind.service.lanes import Item, Lanes, Send
from cairnwind.service.meters import Meters
from cairnwind.service.records import Records
from cairnwind.service.reloading import Coming, Reloading
from cairnwind.service.signals import Signals
from cairnwind.service.slots import Slots
from cairnwind.service.snapshot import Publisher
from cairnwind.service.startup import TURN, Machine, clock
from cairnwind.service.stream import Stream
from cairnwind.service.telling import Telling
from cairnwind.service.traces import Traces
from cairnwind.service.undoing import undo
from cairnwind.service.upkeep import Upkeep
from cairnwind.site import read_text
from cairnwind.site.plans import read_plan
from cairnwind.site.rules import read_rules
from cairnwind.store.database import prepare, volatile
from cairnwind.store.reader import Reader
from cairnwind.store.writer import Row, Writer, form, rows

log = logging.getLogger("cairnwind.runtime")
BATCH = 256
ANSWER_WITHIN = 30.0
AFTER_COMMIT = frozenset(kind for kind, declared in OF_EVENT.items() if declared.commit_first)
"""Commands whose effect waits until they are recorded, but for moves to safe."""


class Runtime:
    """Runs the engine, between its links and its store."""

    def __init__(self, machine: Machine, again: Callable[[str, str], Site] | None = None) -> None:
        """``again`` reads a text of the site file, and what that is called."""
        self.machine = machine
        self.site = machine.site
        self.planned: Planned = read_plan(self.site)
        self.rules = read_rules(self.site, self.planned)
        self.telling = Telling(self.site, machine.engine)
        self.signals = Signals(self.site)
        self.meters = Meters()
        self.slots = Slots()
        self.traces = Traces()
        self.reloading = Reloading(self, again or read_text)
        self.editing: Editing
        self.folder = Path()
        """Where its state is kept."""
        self.records: Records
        self.writer: Writer
        self.reader: Reader
        self._ids = map(f"{secrets.token_hex(3)}-{{}}".format, itertools.count(1))
        self._thread = threading.Thread(target=self._run, name="engine", daemon=True)
        self._over = False
        self._closed = False
        """The shutdown has gone through the engine."""
        self._copy: Path | None = None
        """Of the database, where its disk cannot be written."""
        self.failure = ""
        """Why the engine's thread ended, if it did so by itself."""

    @property
    def engine(self) -> Engine:
        """What decides; this thread's alone."""
        return self.machine.engine

    @property
    def lanes(self) -> Lanes:
        """What it is asked and told."""
        return self.machine.lanes

    @property
    def publisher(self) -> Publisher:
        """What readers see."""
        return self.telling.publisher

    @property
    def stream(self) -> Stream | None:
        """All open streams, once the store is there."""
        return self.telling.stream

    # --- beginning and end --------------------------------------------------------------------------------

    def start(self, database: Any) -> None:
        """Read what was left, take it up, and begin to serve. Raises `CallerError` (``store``)."""
        frozen = ""
        self.folder = Path(database).parent
        if database.exists() and read_only(database):
            frozen = f"{database} is on a disk that cannot be written"
            database = self._copy = volatile(database)
        beyond = prepare(database)
        self.reader = Reader(database)
        self.telling.open()
        self.writer = Writer(database, self.site.durability, self._disk_trouble, frozen)
        self.records = self.publisher.records = Records(self.site, self.writer)
        wall = clock().wall
        editions = self.reloading.editions = Editions(self.reader, self.writer)
        if self.site.source[1]:
            editions.see(self.site.source[1], wall, Origin("", "start"))
        self.editing = Editing(self, self.reloading, self.reader, self.writer)
        self.backups = Backups(database, lambda: self.site)
        self._disk = DiskWatch(self.folder, self.writer)
        self.upkeep = Upkeep(self.reader, self.writer, lambda: self.site, self._also)
        left = self.reader.start(clock())
        left = self._readable(replace(left, sequence=max(left.sequence, beyond)))
        self.lanes.put(
            Item(
                replace(
                    left, schedules=self._schedules(), interlocks=self.rules.interlocks, reflexes=self.rules.reflexes,
                    guards=self.rules.guards,
                )
            )
        )  # fmt: skip
        self._drain()
        self.machine.keep_rules(self.site, self.rules.interlocks)
        for now in self.publisher.current.nows:
            self.records.see_output(now, wall)
            for claim in now.claims:
                self.slots.keep(claim)
        self._thread.start()
        if not frozen:
            self.upkeep.start()

    def _readable(self, left: ev.Start) -> ev.Start:
        """What was left, with a row of the journal for each part that cannot be read; where that was a latch, everything stops."""
        found = self.reader.unreadable
        sequence = left.sequence
        for _, text in found:
            log.error("%s", text)
            sequence += 1
            self.writer.put([("journal", (sequence, left.at.wall, "start", "", text, "", "", "{}"))])
        latches = [text for kind, text in found if kind in ("trip", "lockout", "all-stop")]
        if not latches:
            return replace(left, sequence=sequence)
        stop = left.stop or Stop(left.at.wall, Source("service"), latches[0])
        return replace(left, sequence=sequence, stop=stop)

    def _schedules(self) -> tuple[tuple[Schedule, Span | None], ...]:
        """The plan: the site file's schedules, and those that people have added, as they were left."""
        stored = {name: (form, state) for name, form, state in self.reader.schedules()}
        found = []
        for schedule in self.planned.schedules:
            _, state = stored.pop(schedule.name, (None, None))
            found.append(schedules.with_state(schedule, state) if state else (schedule, None))
        for name, (said, state) in stored.items():
            if said is None or state is None:
                continue  # it has left the site file
            try:
                made = schedules.make(said, self.planned, "database")
            except CallerError as error:
                log.error("schedule '%s' is no longer understood and is left out: %s", name, error)
                continue
            found.append(schedules.with_state(made, state))
        return tuple(found)

    def shut_down(self, within: float = 1.5) -> list[str]:
        """Take every output to safe; returns the names of those that are not confirmed to be there."""
        self.lanes.put(Item(ev.Shutdown(clock())))
        end = time.monotonic() + within
        while time.monotonic() < end and self._thread.is_alive():
            if self._closed and not self.engine.unsafe(reachable=True):
                break
            time.sleep(0.01)
        return self.engine.unsafe()

    def close(self) -> bool:
        """End the engine's thread and write what is left. False if rows could not be written."""
        self._over = True
        self.lanes.put(Item(ev.Tick(clock())))
        if self._thread.is_alive():
            self._thread.join()
        self.telling.close()
        self.upkeep.stop()
        self.records.flush(clock().wall)
        if self._copy is not None:
            shutil.rmtree(self._copy.parent, ignore_errors=True)
        self.reader.close()  # the last connection, which writes, leaves one whole file
        return self.writer.close()

    @property
    def alive(self) -> bool:
        """Whether the engine's thread runs."""
        return self._thread.is_alive()

    # --- the way in ---------------------------------------------------------------------------------------

    def command_id(self) -> str:
        """A fresh id for a command: of a request, one that begins with its id."""
        fresh, request = next(self._ids), oneid.current()
        return f"{request}.{fresh}" if request else fresh

    def submit(
        self, command: ev.Command, *, repeat: tuple[str, str, str] | None = None, wait: float = 0.0
    ) -> tuple[ev.Outcome, ev.Ended | None]:
        """Have a command decided and committed; returns its outcome.

        ``wait`` is how many seconds to wait beyond that for what becomes of it. Raises `CallerError`
        (``busy``) when it was shed, and `BoardError` (``engine``) when nobody is there to decide.
        """
        reply: queue.SimpleQueue[Any] = queue.SimpleQueue()
        ended: queue.SimpleQueue[ev.Ended] | None = None
        if wait:
            ended = self.telling.waiters[command.command] = queue.SimpleQueue()
        try:
            if not self.lanes.put(Item(command, reply, repeat)):
                raise CallerError(
                    "busy",
                    "Too many commands are waiting; this one was not taken.",
                    "Try again in a moment. Offs and all-stop are always taken.",
                )
            try:
                outcome = reply.get(timeout=ANSWER_WITHIN)
            except queue.Empty:
                raise BoardError(
                    "engine", "The engine did not answer.", "See the service's log; all-stop and restart."
                ) from None
            if ended is not None and outcome.outcome == "driving":
                return outcome, _become(outcome, ended, wait)
            return outcome, None
        finally:
            if wait:
                self.telling.waiters.pop(command.command, None)

    def disown(self, key: str) -> None:
        """End what still acts in the name of a key that was revoked."""
        self.lanes.put(Item(ev.Disowned(clock(), key)))

    def submit_soon(self, command: ev.Command, told: Callable[[ev.Outcome], None]) -> bool:
        """Like `submit`, without waiting: ``told`` is called by another thread. False if it was shed."""
        return self.lanes.put(Item(command, _Reply(told)))

    def against(self, source: Source, output: str) -> ev.Outcome | None:
        """What would stand in the way if a person wanted an output on now; None if the engine has no time for it."""
        return self.ask(ev.Probe(clock(), self.command_id(), source, output))

    def ask(self, question: ev.Probe | ev.Trace, within: float = 0.5) -> ev.Outcome | None:
        """The answer to a question that changes nothing; None if the engine has no time for it: readers do not wait."""
        reply: queue.SimpleQueue[ev.Outcome] = queue.SimpleQueue()
        if not self.lanes.put(Item(question, reply)):
            return None
        try:
            return reply.get(timeout=within)
        except queue.Empty:
            return None

    def submit_all(self, commands: list[ev.Command]) -> list[ev.Outcome]:
        """Have several commands decided, in their order and as close together as the lanes allow; their outcomes."""
        replies: list[queue.SimpleQueue[Any]] = [queue.SimpleQueue() for _ in commands]
        for command, reply in zip(commands, replies, strict=True):
            if not self.lanes.put(Item(command, reply)):
                raise CallerError(
                    "busy",
                    "Too many commands are waiting; this one was not taken whole.",
                    "Release it, and try again in a moment.",
                )
        try:
            return [reply.get(timeout=ANSWER_WITHIN) for reply in replies]
        except queue.Empty:
            raise BoardError(
                "engine", "The engine did not answer.", "See the service's log; all-stop and restart."
            ) from None

    def _adopt(self, coming: Coming) -> None:
        """The engine has taken another site: everything that looks at it does from now on, before anything else is carried out."""
        self.site, self.planned, self.rules = coming.event.site, coming.planned, coming.rules
        self.machine.adopt(self.site, coming.links)
        self.machine.keep_rules(self.site, self.rules.interlocks)
        self.writer.durability = self.site.durability
        self.signals.adopt(self.site)
        self.telling.adopt(self.site)

    # --- the engine's thread ------------------------------------------------------------------------------

    def _run(self) -> None:
        self.lanes.consumer = threading.get_ident()
        try:
            while not self._over:
                now = clock()
                self.machine.beat = now.mono / 1e9
                self.records.turn(now.wall)
                self.writer.watch()
                self._see_clock(now)
                due = self.engine.next_deadline(now)
                nap = TURN if due is None else min(TURN, max(0.0, (due - now.mono) / 1e9))
                self.lanes.wait(nap)
                self._drain()
                now = clock()
                due = self.engine.next_deadline(now)
                if due is not None and due <= now.mono:
                    self._carry_out([Item(ev.Tick(now))])
        except Exception as error:
            self.failure = repr(error)
            log.critical("the engine stopped: %r", error, exc_info=True)

    def _see_clock(self, now: Instant) -> None:
        """A clock that is behind the journal is believed once the kernel says that it is synchronised."""
        if self.engine.state.clocks.behind and self.engine.state.journal.ok and synchronised():
            event = ev.AcceptClock(
                now, self.command_id(), Source("service", "", "keep"), "the kernel, which has it synchronised"
            )
            self._carry_out([Item(event)])

    def _drain(self) -> None:
        """Take what is queued, in batches; publish and commit after each."""
        while True:
            batch: list[Item] = []
            self.machine.beat = time.monotonic()
            while len(batch) < BATCH and (item := self.lanes.take()) is not None:
                batch.append(item)
            if not batch:
                return
            self._carry_out(batch)

    def _carry_out(self, batch: list[Item]) -> None:
        stored: list[Row] = []
        answers: list[tuple[Item, ev.Outcome]] = []
        after_commit: list[ev.Drive] = []
        before = sum(item.first for item in batch)
        for item in batch:
            before -= item.first
            self._one(item, stored, answers, after_commit)
            # a board that answers at once has confirmed by now: it belongs to the same batch, but not before what came before it
            while not before and len(stored) < 4 * BATCH and (first := self.lanes.take_first()) is not None:
                self._one(first, stored, answers, after_commit)
        self.telling.publish()
        # the writer is woken last: it would only wait for the interpreter while this thread publishes
        if stored or answers:
            self._commit(stored, answers, after_commit)
        self.telling.tell()

    def _one(
        self,
        item: Item,
        stored: list[Row],
        answers: list[tuple[Item, ev.Outcome]],
        after_commit: list[ev.Drive],
    ) -> None:
        event = item.event
        if type(event) is Send:
            self.machine.send([drive for drive in event.drives if self.engine.in_flight(drive)])
            return
        if item.overtaken and type(event) is ev.Wish:
            event = ev.Overtaken(event.at, event.command, event.source, event.output)
        coming = self.reloading.take(event) if type(event) is ev.Reload else None
        if type(event) is ev.Reload and coming is None:
            return  # whoever wanted that has given up, and undone what it had prepared
        effects = self.engine.handle(event)
        if coming is not None:
            self._adopt(coming)
        if type(event) in _TOLD:
            self.signals.note(event)
        drives: list[ev.Drive] = []
        for effect in effects:
            match effect:
                case ev.Drive():
                    drives.append(effect)
                case ev.Work():
                    self.machine.work(effect)
                case ev.Changed():
                    self.telling.changed(effect)
                case ev.Outcome():
                    answers.append((item, effect))
                    self.meters.decided(event, effect)
                case ev.Ended():
                    self.telling.ended(effect)
                    self.meters.ended(effect)
                case ev.Tell(trace):
                    self.traces.take(trace)
                case ev.KeepClaim(claim):
                    self.slots.keep(claim)
                case ev.DropTrip(trip):
                    self.machine.reset_trip(trip)
                case ev.DropClaim(output, slot):
                    self.slots.empty(output, slot)
        if drives:
            if item.repeat is not None or type(event) in AFTER_COMMIT:
                after_commit += [
                    drive for drive in drives if drive.setting != self.site.outputs[drive.output].safe
                ]
                drives = [drive for drive in drives if drive.setting == self.site.outputs[drive.output].safe]
            self.machine.send(drives)
        stored += rows(effects)
        if type(event) is ev.Shutdown:
            self._closed = True

    def _commit(
        self, stored: list[Row], answers: list[tuple[Item, ev.Outcome]], after_commit: list[ev.Drive]
    ) -> None:
        for item, outcome in answers:
            if item.repeat is not None and outcome.sequence and self.engine.state.journal.ok:
                scope, token, body = item.repeat
                kept = shapes.outcome_form(outcome, self.site.outputs.get(outcome.output))
                stored.append(("answer", (scope, token, body, form(kept), item.event.at.wall)))

        def done(reason: str | None) -> None:
            for item, outcome in answers:
                if reason is None:
                    self.meters.committed(item.event, outcome)
                    if item.reply is not None:
                        item.reply.put(outcome)
                else:
                    self._unrecorded(item, outcome, reason)
            if after_commit and reason is None:
                self.lanes.put(Item(Send(after_commit)))

        self.writer.put(stored, done)

    def _unrecorded(self, item: Item, outcome: ev.Outcome, reason: str) -> None:
        """A decision that the disk did not take: what it switched on is taken back, and then it is answered.

        Moves toward off stand. The same command under the same token is a new one.
        """
        told = replace(outcome, outcome="not recorded", reason=f"the journal cannot be written: {reason}")
        if item.repeat is not None:
            self.writer.put([("no answer", item.repeat[:2])])

        def answer(_: Any = None) -> None:
            if item.reply is not None:
                item.reply.put(told)

        taken_back = undo(item.event, outcome, clock(), self.command_id())
        if taken_back is None:
            answer()
        else:
            self.lanes.put(Item(taken_back, _Reply(answer)))

    # --- small helpers ------------------------------------------------------------------------------------

    def _also(self, wall: int) -> None:
        """At each turn of the upkeep: what is to be feared of the disk, and a backup where one is due."""
        self.machine.report(ev.Recording(clock(), None, self._disk.look()))
        self.backups.turn(wall)

    def _disk_trouble(self, reason: str | None) -> None:
        log.error("the journal cannot be written: %s", reason) if reason else log.warning(
            "the journal can be written again"
        )
        self.machine.report(ev.Recording(clock(), reason is None, reason or ""))


def _become(outcome: ev.Outcome, ended: queue.SimpleQueue[ev.Ended], wait: float) -> ev.Ended | None:
    """What became of a command, or of all parts of a phrase; None if that is not known in time."""
    left = {part.command for part in outcome.parts if part.outcome == "driving"} or {outcome.command}
    end = time.monotonic() + wait
    last: ev.Ended | None = None
    while left:
        try:
            last = ended.get(timeout=max(0.0, end - time.monotonic()))
        except queue.Empty:
            return None
        left.discard(last.command)
        if last.ending != "confirmed":
            return last
    return (
        last
        if len(outcome.parts) < 2 or last is None
        else replace(last, text=f"all {len(outcome.parts)} of them")
    )


_TOLD = {ev.Confirmed, ev.Answers, ev.InputSeen, ev.Measured}
"""Events that the signals are made of."""


class _Reply:
    """What stands for a queue where nobody waits for the answer."""

    __slots__ = ("put",)

    def __init__(self, put: Callable[[Any], None]) -> None:
        self.put = put
