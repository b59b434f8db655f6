"""A link whose I/O takes time: one thread, one order an output, safe first, and back by itself.

What a board says and how is for the subclasses; here is what they all owe the engine:

* Taking a board ends with every output at safe, and only then is the link up.
* A newer order for an output replaces an older one. Moves to off leave first, the rest of a batch together.
* What a board shows is compared with what it was told; a difference is reported, also later.
* A link that is lost is tried again, sooner at first. Nothing that was ordered before then counts.
* When the engine is no longer fresh, or this thread fails, the outputs are taken to safe here, if the board
  can still be reached, and the link is lost until the engine is back.
"""

from __future__ import annotations

import logging
import os
import queue
import select
import threading
import time
from abc import ABC, abstractmethod
from collections.abc import Collection, Iterable, Iterator, Mapping, Sequence
from typing import Any

from cairnwind.boards import wire
from cairnwind.boards.link import Clock, Fresh, LineError, Report, Seen, Traffic
from cairnwind.boards.quadrature import Turning
from cairnwind.boards.wire import Put
from cairnwind.core.facts import events as ev
from cairnwind.core.facts.hardware import Board
from cairnwind.core.facts.inputs import Input
from cairnwind.core.facts.outputs import Output
from cairnwind.core.facts.trials import Trial
from cairnwind.core.values.errors import BoardError
from cairnwind.core.values.settings import FULL, Setting

log = logging.getLogger("cairnwind.links")
AGAIN_FIRST, AGAIN_LONGEST = 0.1, 2.0
"""Seconds between attempts to reach a board."""
REWIRE_WITHIN = 5.0
"""Seconds in which a board takes other outputs and inputs."""
DEAD_BAND = 0.002
"""An analogue reading counts as new when it has moved by this share of full scale."""


class _Rewiring:
    """Other outputs and inputs, and what became of that."""

    def __init__(self, outputs: Sequence[Output], inputs: Sequence[Input], come: frozenset[str]) -> None:
        self.outputs, self.inputs, self.come = outputs, inputs, come
        self.done: queue.SimpleQueue[BoardError | None] = queue.SimpleQueue()


class Waiting:
    """What is ordered and to be tried, until the link's thread takes it. A newer order for an output replaces an older one."""

    def __init__(self) -> None:
        self._orders: dict[str, ev.Drive] = {}
        self._tries: dict[int, Trial | None] = {}
        self.rewiring: _Rewiring | None = None
        self.telling = False
        """Somebody wants to hear again what the inputs show."""
        self._lock = threading.Lock()

    def put(self, orders: Sequence[ev.Drive]) -> None:
        """Orders, in the order in which they are to be carried out."""
        with self._lock:
            for order in orders:
                self._orders.pop(order.output, None)
                self._orders[order.output] = order

    def attempt(self, line: int, trial: Trial | None) -> None:
        """A trial of a line, or its end."""
        with self._lock:
            self._tries[line] = trial

    def take(self) -> tuple[list[ev.Drive], dict[int, Trial | None]]:
        """All of it, which waits no longer."""
        with self._lock:
            orders, self._orders = self._orders, {}
            tries, self._tries = self._tries, {}
        return list(orders.values()), tries


class Heard:
    """What inputs were last told to show, and when."""

    def __init__(self) -> None:
        self.shown: dict[int, Any] = {}
        """By line: whether it is high, or what it reads."""
        self._told: dict[int, int] = {}
        """By line: when an unchanged input was last told of (monotonic nanoseconds)."""
        self._turning: dict[str, tuple[Input, Turning]] = {}
        """By name: how far encoders were turned, and as what."""

    def turning(self, input: Input) -> Turning:
        """How far an encoder was turned, since it is wired as it is."""
        wired, found = self._turning.get(input.name, (None, None))
        if found is None or wired is None or (wired.lines, wired.per_step) != (input.lines, input.per_step):
            found = Turning(input.per_step)
        self._turning[input.name] = input, found
        return found

    def clear(self) -> None:
        """Nobody knows any more what they show."""
        self.shown.clear()
        for _, turning in self._turning.values():
            turning.forget()

    def again(self, input: Input) -> bool:
        """Whether the engine waits for word of an input although it has not changed: for a filter, or to know that it lives."""
        now = time.monotonic_ns()
        if not input.repeat or now - self._told.get(input.pin.line, 0) < input.repeat:
            return False
        self._told[input.pin.line] = now
        return True


class Worker(ABC):
    """A link with a thread of its own that works through one order an output. Lines are numbers of the board, levels parts per million high."""

    confirms = "read back"

    def __init__(self, board: Board) -> None:
        self.board = board
        self.traffic = Traffic()
        self.outputs: dict[int, Output] = {}
        self.inputs: dict[int, Input] = {}
        self.broken: dict[int, BoardError] = {}
        """Lines that the board cannot have as they are wired, and why: whoever is on them is at fault, and nobody else."""
        self.tried: dict[int, Trial] = {}
        self.readings: dict[int, dict[str, Any]] = {}
        self.closed = False
        self._waiting = Waiting()
        self.wake = os.eventfd(0, os.EFD_NONBLOCK | os.EFD_CLOEXEC)
        self._thread: threading.Thread | None = None
        self._first = threading.Event()
        self._last: dict[int, tuple[ev.Drive, int]] = {}
        """By line: the last order that was carried out, and the level that the board then showed."""
        self.heard = Heard()
        self._up = False
        self._said = ""
        self.turned = 0.0
        """Monotonic seconds at which the thread last got on: a link that hangs must not keep its board alive."""

    # --- what a board's own link says ---------------------------------------------------------------------

    @abstractmethod
    def connect(self) -> None:
        """Take the board; outputs are safe, or are told so by the `put` that follows. Raises `BoardError`."""

    @abstractmethod
    def disconnect(self) -> None:
        """Let go of whatever `connect` took, however far it came. Raises nothing."""

    @abstractmethod
    def put(self, levels: Mapping[int, Put]) -> Mapping[int, int]:
        """Bring lines to levels; returns what the board then shows, exactly as asked if it agrees in its own counts."""

    @abstractmethod
    def poll(self, seconds: float) -> None:
        """Read once what is to be read; return after at most ``seconds``, sooner when `wake` is raised."""

    def attempt_now(self, line: int, trial: Trial | None) -> None:
        """Try something on a bare pin, in the link's thread. Raises `BoardError` where that is not possible."""
        raise BoardError("pin", f"bare pins of {self.board.name} cannot be tried", "")

    def survey(self) -> Mapping[int, Seen]:
        """What is known of the lines: what outputs showed last, and what contacts show."""
        levels = {line: level for line, (_, level) in list(self._last.items())}
        shown = {
            line: FULL if high else 0
            for line, high in list(self.heard.shown.items())
            if isinstance(high, bool)
        }
        found = {line: Seen(level) for line, level in (levels | shown).items()}
        return found | {line: Seen(trouble=error.sentence) for line, error in list(self.broken.items())}

    def timers(self) -> tuple[tuple[int, str], ...]:
        """Lines and the timers behind them, where the board itself tells."""
        return ()

    def first_look(self) -> None:
        """Tell what the inputs show, where `poll` would only tell of changes. Called once the link is up."""
        return

    def unfit(self) -> Iterator[tuple[Sequence[int], BoardError]]:
        """Lines whose output or input asks for what the board cannot, as far as that is known without touching it, and why."""
        yield from ()

    def fits(self, come: Collection[int]) -> None:
        """Raise `BoardError` where what is wired now to lines that have ``come`` is nothing for the board, which answers; nothing of it is
        touched."""
        for lines, error in self.unfit():
            if {*come} & {*lines}:
                raise error

    @abstractmethod
    def adopt(self, come: Collection[int], gone: Collection[int]) -> None:
        """Set up lines that somebody has now, or has otherwise (what is safe for them follows), and let those go that nobody has any more; no other
        line is touched. Raises `BoardError`."""

    # --- what the service asks ----------------------------------------------------------------------------

    def open(
        self, outputs: Sequence[Output], inputs: Sequence[Input], report: Report, clock: Clock, fresh: Fresh
    ) -> None:
        """Begin; the board is taken in the thread."""
        self._report, self.clock, self.fresh = report, clock, fresh
        self._assign(outputs, inputs)
        self._thread = threading.Thread(target=self._run, name=f"link-{self.board.name}", daemon=True)
        self._thread.start()

    def _assign(self, outputs: Sequence[Output], inputs: Sequence[Input]) -> None:
        self.outputs = {line: output for output in outputs for line in output.lines}
        self.inputs = {line: input for input in inputs for line in input.lines}
        self._named = {output.name: output for output in outputs}

    def rewire(self, outputs: Sequence[Output], inputs: Sequence[Input], come: Collection[str]) -> None:
        """Have the thread do it, and wait for that."""
        wish = self._waiting.rewiring = _Rewiring(outputs, inputs, frozenset(come))
        self.nudge()
        try:
            found = wish.done.get(timeout=REWIRE_WITHIN)
        except queue.Empty:
            self._waiting.rewiring = None
            raise BoardError(
                "board", f"board {self.board.name} did not take its new wiring within {REWIRE_WITHIN:g} s", "See to the board."
            ) from None  # fmt: skip
        if found is not None:
            raise found

    def tell(self) -> None:
        """Have the thread do it."""
        self._waiting.telling = True
        self.nudge()

    def ready(self, seconds: float) -> bool:
        """Wait for the end of the first attempt."""
        return self._first.wait(max(0.0, seconds))

    def drive(self, orders: Sequence[ev.Drive]) -> None:
        """Queue orders; a newer one replaces an older."""
        self._waiting.put(orders)
        self.nudge()

    def attempt(self, line: int, trial: Trial | None) -> None:
        """Queue a trial, or its end."""
        self._waiting.attempt(line, trial)
        self.nudge()

    def reading(self, line: int) -> Mapping[str, Any]:
        """What the tried pin reads."""
        return self.readings.get(line, {})

    def close(self) -> None:
        """End the thread, which lets the board go."""
        if self.wake < 0:
            return  # it is closed already
        self.closed = True
        self.nudge()
        if self._thread is not None:
            self._thread.join(5)
            if self._thread.is_alive():
                return
        wake, self.wake = self.wake, -1
        os.close(wake)

    # --- for subclasses -----------------------------------------------------------------------------------

    def nudge(self) -> None:
        """Wake the thread."""
        try:
            os.eventfd_write(self.wake, 1)
        except (OSError, ValueError):
            pass  # it has been closed

    def rest(self, seconds: float, *files: int) -> list[int]:
        """Wait for `wake` or one of ``files``; returns those files that are ready."""
        poller = select.poll()
        for file in (self.wake, *files):
            poller.register(file, select.POLLIN)
        found = [file for file, _ in poller.poll(max(0.0, seconds) * 1000)]
        if self.wake in found:
            try:
                os.eventfd_read(self.wake)
            except OSError:
                pass
            found.remove(self.wake)
        return found

    def seen(
        self, line: int, high: bool, edge: int = 0, *, settled: bool = False, causes: tuple[str, ...] = ()
    ) -> None:
        """A digital input, or a tried pin, is high or low. ``settled``: the board has debounced it; ``causes``: reflexes elsewhere that led to it."""
        input = self.inputs.get(line)
        if input is not None and input.kind == "encoder":
            if self.heard.shown.get(line) != high or self.heard.again(input):
                self.heard.shown[line] = high
                turning = self.heard.turning(input)
                missed, steps = turning.missed, turning.line(line != input.pin.line, high)
                if turning.missed > missed:
                    self.traffic.add(
                        "lost", b"", f"{input.name}: both of its lines have changed, nobody knows the way"
                    )
                self.stepped(input, steps, edge)
        elif input is not None and (edge or self.heard.shown.get(line) != high or self.heard.again(input)):
            self.heard.shown[line] = high
            active = wire.active(input, high)
            self._report(ev.InputSeen(self.clock(), input.name, active, edge, settled, causes=causes))
        if line in self.tried:
            reading = self.readings.setdefault(line, {})
            level = 1_000_000 if high else 0
            if reading.get("level", level) != level:
                reading["count"] = reading.get("count", 0) + 1
                reading["edge"] = edge or time.time_ns()
            reading["level"] = level

    def stepped(self, input: Input, steps: int, edge: int = 0) -> None:
        """An encoder was turned by so many steps, down negative; by none: it is known to be at rest."""
        if not self.heard.turning(input).known:
            return
        for _ in range(abs(steps)):
            way = 1 if steps > 0 else -1
            self._report(ev.InputSeen(self.clock(), input.name, True, edge, True, way))
            self._report(ev.InputSeen(self.clock(), input.name, False, edge, True))
        if not steps:
            self._report(ev.InputSeen(self.clock(), input.name, False, edge, True))

    def measured(self, line: int, raw: int, full: int, volts: float | None) -> None:
        """An analogue input, or a tried pin, reads so much."""
        input = self.inputs.get(line)
        before = self.heard.shown.get(line)
        if input is not None and (
            before is None or abs(raw - before) > max(1, full * DEAD_BAND) or self.heard.again(input)
        ):
            self.heard.shown[line] = raw
            self._report(ev.Measured(self.clock(), input.name, raw, full, volts))
        if line in self.tried:
            self.readings[line] = {"raw": raw, "full": full, "volts": volts}

    def number(self, line: int, value: float) -> None:
        """What is measured in its own unit reads so much: told in thousandths of that, of no full scale."""
        self.measured(line, round(value * 1000), 0, value)

    def titled(self, titles: Iterable[str], functions: frozenset[str]) -> Mapping[int, Seen]:
        """What is known of lines that the board calls by these titles, from line 0 on."""
        known = Worker.survey(self)
        return {
            line: known.get(line, Seen())._replace(title=title, functions=functions)
            for line, title in enumerate(titles)
        }

    def wrong(self, lines: Iterable[int], error: BoardError) -> None:
        """Whoever is on these lines is at fault, and nobody else."""
        self.broken.update(dict.fromkeys(lines, error))
        self.traffic.add("lost", b"", error.sentence)
        for line in lines:
            self.unknown(line)

    def unknown(self, line: int) -> None:
        """Nothing is known of an input: it cannot be read."""
        input = self.inputs.get(line)
        if input is None or self.heard.shown.get(line, 0) is None:
            return
        self.heard.shown[line] = None
        if input.analogue:
            self._report(ev.Measured(self.clock(), input.name, None, 1, None))
        else:
            if input.kind == "encoder":
                self.heard.turning(input).forget()
            self._report(ev.InputSeen(self.clock(), input.name, None, 0, True))

    def observed(self, line: int, level: int) -> None:
        """A later look at what an output shows."""
        last = self._last.get(line)
        if line in self.outputs and self.outputs[line].latching:
            return  # its coils have current for a moment only: they tell nothing
        if last is not None and last[1] != level:
            order = last[0]
            self._last[line] = (order, level)
            self._report(self._confirmed(order))

    # --- the thread ---------------------------------------------------------------------------------------

    def _run(self) -> None:
        pause = AGAIN_FIRST
        while not self.closed:
            try:
                began = time.monotonic()
                self._session()
            except BoardError as error:
                self._lose(error.sentence.rstrip("."), error.remedy)
            except Exception as error:
                log.exception("link %s failed", self.board.name)
                self._lose(f"its link failed: {error!r}")
            else:
                break
            self._first.set()
            pause = AGAIN_FIRST if time.monotonic() - began > 5 else min(pause * 2, AGAIN_LONGEST)
            end = time.monotonic() + pause
            while not self.closed and time.monotonic() < end:
                self.rest(end - time.monotonic())
                self._rewire(up=False)
        self._first.set()

    def _session(self) -> None:
        """From taking the board to its loss, which is raised, or the end of this link."""
        try:
            while not self.fresh() and not self.closed:
                self.rest(0.2)
            self.broken.clear()
            self.tried.clear()
            self.readings.clear()
            self.connect()
            self._home()
            self._first.set()
            while not self.closed:
                self.turned = time.monotonic()
                if not self.fresh() and self._still_stale():
                    self._make_safe()
                    raise BoardError(
                        "engine", "the engine does not answer; its outputs were taken to safe", ""
                    )
                self._work()
                self.poll(0.25)
            self._work()  # what was ordered last still counts, above all when the engine has died
        except BoardError:
            raise
        except Exception:
            if self._up:  # the fault is here, not at the board: it can still be told
                self._make_safe()
            raise
        finally:
            self._up = False
            self._last.clear()  # nobody knows what it shows from now on
            self.heard.clear()
            self.disconnect()

    def _still_stale(self) -> bool:
        """Whether the engine has not turned after a moment either: the machine itself may have stood still."""
        time.sleep(0.1)
        return not self.fresh()

    def _home(self) -> None:
        self._waiting.take()
        self.heard.clear()
        self._last.clear()
        self._put_safe(list(self._named.values()))
        told = [
            output for output in self._named.values() if self.confirms == "read back" and not output.latching
        ]
        safe = [
            (output.name, self._last[output.pin.line][0]) for output in told if output.pin.line in self._last
        ]
        readings = [(name, self._confirmed(order).setting) for name, order in safe]
        self._up, self._said = True, ""
        self.traffic.add("got", b"", "the board answers")
        self._report(ev.LinkUp(self.clock(), self.board.name, tuple(readings), self.timers()))
        self.first_look()

    def _put(self, orders: Sequence[ev.Drive]) -> tuple[dict[int, int], dict[str, BoardError]]:
        """Carry out all at once, or, where one of them cannot be, each by itself: what the lines then show, and what failed."""
        failed: dict[str, BoardError] = {}
        levels: dict[int, Put] = {}
        good = []
        for order in orders:
            output = self._named[order.output]
            why = next((self.broken[line] for line in output.lines if line in self.broken), None)
            if why is not None:
                failed[order.output] = why
            else:
                good.append(order)
                levels.update(wire.to_pins(output, order.setting))
        try:
            return (self._put_all(levels, good) if levels else {}), failed
        except LineError as error:
            if len(good) == 1:
                return {}, {**failed, good[0].output: error}
        shown: dict[int, int] = {}
        for order in good:
            its, wrong = self._put([order])
            shown |= its
            failed |= wrong
        return shown, failed

    def _put_all(self, levels: Mapping[int, Put], orders: Sequence[ev.Drive]) -> dict[int, int]:
        """Bring lines to levels; coils of latching relays get their current for a moment."""
        pulsed = [output for order in orders if (output := self._named[order.output]).latching]
        if not pulsed:
            return dict(self.put(levels))
        try:
            shown = dict(self.put(levels))
            time.sleep(max(output.latching for output in pulsed) / 1e9)
        finally:
            self.put({line: put for output in pulsed for line, put in wire.released(output).items()})
        return shown | {line: levels[line].parts for output in pulsed for line in output.lines}

    def _make_safe(self) -> None:
        try:
            self._put([ev.Drive(output.name, 0, output.safe) for output in self._named.values()])
        except Exception as error:
            log.warning("%s: could not be taken to safe: %s", self.board.name, error)

    def _lose(self, reason: str, remedy: str = "") -> None:
        """Say once that, and why, the board does not answer."""
        said = f"{reason}. {remedy}".strip() if remedy else reason
        self.traffic.add("lost", b"", reason)
        if said != self._said:
            self._said = said
            self._report(ev.LinkLost(self.clock(), self.board.name, said.rstrip(".")))

    def _rewire(self, *, up: bool) -> None:
        """Take other outputs and inputs. Raises `BoardError` where the board is not as it was after that."""
        wish, self._waiting.rewiring = self._waiting.rewiring, None
        if wish is None:
            return
        before = list(self._named.values()), list(self.inputs.values())
        lines = {*self.outputs, *self.inputs}
        self._assign(wish.outputs, wish.inputs)
        if not up:  # it is set up so when it is taken
            wish.done.put(None)
            return
        try:
            self.fits(self._lines_of(wish.come))
        except BoardError as error:
            self._assign(*before)
            wish.done.put(error)
            return
        try:
            self._take_wiring(wish, lines)
        except BoardError as error:
            self._assign(*before)
            wish.done.put(error)
            raise  # it is taken anew, as it was
        wish.done.put(None)

    def _take_wiring(self, wish: _Rewiring, lines: set[int]) -> None:
        come, gone = self._lines_of(wish.come), lines - {*self.outputs, *self.inputs}
        for line in (*come, *gone):
            self.broken.pop(line, None)
            if self.tried.pop(line, None) is not None:
                self.readings.pop(line, None)
        self.adopt(come, gone)
        for line in (*come, *gone):
            self._last.pop(line, None)
            self.heard.shown.pop(line, None)
        failed = self._put_safe([output for output in self._named.values() if output.name in wish.come])
        for error in failed.values():
            raise error

    def _lines_of(self, names: Collection[str]) -> set[int]:
        """The lines of outputs and inputs of these names."""
        found = {line for output in self._named.values() if output.name in names for line in output.lines}
        return found | {line for line, input in self.inputs.items() if input.name in names}

    def _put_safe(self, outputs: Sequence[Output]) -> dict[str, BoardError]:
        """Bring outputs to safe; what could not be, and why."""
        orders = {output.name: ev.Drive(output.name, 0, output.safe) for output in outputs}
        shown, failed = self._put(list(orders.values()))
        for output in outputs:
            if all(line in shown for line in output.lines):
                self._last.update({line: (orders[output.name], shown[line]) for line in output.lines})
        return failed

    def _work(self) -> None:
        if self._waiting.rewiring is not None:
            self._rewire(up=True)
        if self._waiting.telling:
            self._waiting.telling = False
            self.heard.shown.clear()
            self.first_look()
        orders, tries = self._waiting.take()
        for first in (True, False):
            self._carry_out([order for order in orders if order.setting.on != first])
        for line, trial in tries.items():
            try:
                if trial is None:
                    self.tried.pop(line, None)
                    self.readings.pop(line, None)
                else:
                    self.tried[line] = trial
                self.attempt_now(line, trial)
            except BoardError as error:
                self.tried.pop(line, None)
                self._report(ev.TrialFailed(self.clock(), self.board.name, line, error.sentence.rstrip(".")))

    def _carry_out(self, orders: list[ev.Drive]) -> None:
        if not orders:
            return
        shown, failed = self._put(orders)
        done = [order for order in orders if order.output not in failed]
        for order in orders:
            if order.output in failed:
                why = failed[order.output]
                for line in self._named[order.output].lines:
                    self._last.pop(line, None)
                self.traffic.add("lost", b"", f"{order.output}: {why.sentence}")
                said = f"{why.sentence.rstrip('.')}. {why.remedy}".strip().rstrip(".")
                self._report(ev.Failed(self.clock(), order.output, order.generation, said))
        for order in done:
            output = self._named[order.output]
            asked = wire.to_pins(output, order.setting)
            for line in output.lines:
                self._last[line] = (order, shown.get(line, asked[line].parts))
        confirmed = [self._confirmed(order) for order in done]
        if confirmed:
            self._report(confirmed[0] if len(confirmed) == 1 else ev.Answers(self.clock(), tuple(confirmed)))

    def _confirmed(self, order: ev.Drive) -> ev.Confirmed:
        """What the lines of an output show, as an answer to its last order."""
        output = self._named[order.output]
        high = {line: self._last[line][1] for line in output.lines}
        asked = wire.to_pins(output, order.setting)
        as_asked = all(asked[line].parts == level for line, level in high.items())
        setting: Setting = order.setting if as_asked else wire.from_pins(output, high)
        how = "sent" if output.latching else self.confirms
        return ev.Confirmed(self.clock(), order.output, order.generation, setting, how)
