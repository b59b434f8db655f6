"""Lines of this machine's own kernel: outputs, inputs with edges, hardware PWM, analogue channels.

Outputs are taken as outputs at their safe value in one step, so that nothing else is ever seen on the pin.
What holds them when this process dies is the guard (`cairnwind.boards.guard`): it has the same line requests.
"""

from __future__ import annotations

import errno
import threading
import time
from collections.abc import Callable, Collection, Iterator, Mapping, Sequence
from contextlib import suppress
from fractions import Fraction
from functools import partial
from operator import attrgetter
from typing import Any

from cairnwind.boards import devices, gpio, wire
from cairnwind.boards.access import GPIO, PWM
from cairnwind.boards.guarded import Guard
from cairnwind.boards.kinds import LINE, Holds, Kind, Share
from cairnwind.boards.link import LineError, Seen
from cairnwind.boards.sampling import Sampler
from cairnwind.boards.sysfs import Converter, PwmChannel
from cairnwind.boards.wire import Put
from cairnwind.boards.worker import Worker
from cairnwind.core.facts.hardware import Board
from cairnwind.core.facts.inputs import Input
from cairnwind.core.facts.outputs import Output
from cairnwind.core.facts.site import Site
from cairnwind.core.facts.trials import Trial
from cairnwind.core.values import entries
from cairnwind.core.values.errors import BoardError
from cairnwind.core.values.fact import fact
from cairnwind.core.values.keys import written
from cairnwind.core.values.settings import FULL

BEAT = 0.25
"""Seconds between messages to the guard."""
LOOK_EVERY = 0.5
"""Seconds between looks at a chip and at inputs that tell of their edges by themselves."""
POLL_EVERY = 0.01
"""Seconds between looks at inputs that have no interrupts."""
MEND_EVERY = 1.0
"""Seconds between attempts to have a line that could not be had."""


@fact
class Kernel:
    """Lines of the Linux GPIO character device, PWM and analogue channels of its sysfs."""

    chip: str = written(
        'its path (`"/dev/gpiochip0"`), or the chip\'s label or name, or the device that it belongs to, as in `"10210000.gpio"`',
        entries.text,
        needed='Say which: chip = "/dev/gpiochip0", or the chip\'s label.',
    )
    pwm: str = written(
        'the PWM chip, as in `"pwmchip0"`, or the device that it belongs to, whose name stays; a position\'s `channel` in the map is the channel of it',
        partial(entries.like, form=r"[\w.:-]+", example="pwmchip0"),
        default="",
    )
    analogue: str = written(
        'the converter, as in `"iio:device0"`, or the device that it belongs to, or what it calls itself; a position\'s `channel` in the map is its voltage channel',
        partial(entries.like, form=r"[\w.:-]+", example="iio:device0"),
        default="",
    )
    software = True
    """A program can make PWM on its lines."""
    pulses = True
    """The guard ends a pulse that the service could not."""
    drivers = True
    """Its lines may have an open drain or source."""

    @property
    def functions(self) -> frozenset[str]:
        """What lines can where no map says that: the channels of the chips that are named have the numbers of the lines."""
        return frozenset(("pwm", "tone") if self.pwm else ()) | frozenset(
            ("analogue",) if self.analogue else ()
        )

    @property
    def lacks(self) -> frozenset[str]:
        """What no position can, whatever its map says: no chip is named for it."""
        return frozenset(what for what, chip in (("pwm", self.pwm), ("analogue", self.analogue)) if not chip)

    def duties(self, hertz: Fraction | None) -> int:
        """How many duties are told apart: periods and pulses are nanoseconds."""
        return min(10**6, int(10**9 / hertz)) if hertz else 0


class KernelLink(Worker):
    """The link to lines, PWM channels and analogue channels of this machine."""

    def __init__(self, board: Board) -> None:
        super().__init__(board)
        facts = board.facts
        assert isinstance(facts, Kernel)
        self.facts = facts
        self._chip: gpio.Chip | None = None
        self._held: dict[int, gpio.Lines] = {}
        """By line: the request that has it as an output. Those of one output are one: they move at once, and are let go together."""
        self._watched: dict[int, gpio.Lines] = {}
        """By line: the request that has it as an input."""
        self._pwm: dict[int, PwmChannel] = {}
        self._software: dict[int, SoftwarePwm] = {}
        self._edges: dict[int, int] = {}
        """By line: the number of its last edge."""
        self._polled: set[int] = set()
        """Inputs without interrupts."""
        self._sampler: Sampler | None = None
        self._trials: dict[int, Any] = {}
        self._guard: Guard | None = None
        self._beat = self._mended = self._looked = 0.0

    def connect(self) -> None:
        """Take lines and channels, outputs at safe; then set the guard."""
        self._chip = gpio.Chip(gpio.find(self.facts.chip))
        self._take({*self.outputs, *self.inputs}, self.wrong)
        self._tell_guard()

    def _mend(self) -> None:
        """Try again to take what could not be had: whoever held it may have let it go."""
        before, self.broken = self.broken, {}
        silent = {line: error.sentence for line, error in before.items()}
        self._take(before, lambda lines, error: self.broken.update(dict.fromkeys(lines, error)))
        for line in before.keys() - self.broken.keys():
            self.traffic.add("got", b"", f"line {line} can be had now: {silent[line]}")
            if line in self._watched:
                self.seen(line, self._high(line), settled=True)
        if before.keys() != self.broken.keys():
            self._tell_guard()

    def fits(self, come: Collection[int]) -> None:
        """No line that is new here is somebody else's."""
        assert self._chip is not None
        ours = {*self._held, *self._watched, *self._pwm, *self._trials}
        for line in {*come} - ours:
            input, output = self.inputs.get(line), self.outputs.get(line)
            if input is not None and input.analogue:
                Converter.there(self.facts.analogue)
            elif output is not None and self._hard(output, line):
                PwmChannel.there(self.facts.pwm)
            elif (info := self._chip.info(line)).used:
                raise gpio.held(self._chip.path, info)

    def adopt(self, come: Collection[int], gone: Collection[int]) -> None:
        """Let lines go whose request is another now; take what is new. No other line is touched."""
        for line in come:
            self._end_trial(line)
        mine = {tuple(self._plain(output)) for output in self.outputs.values()}
        for line in (*come, *gone):
            held, output = self._held.get(line), self.outputs.get(line)
            if line in self._software:
                self._software.pop(line).close()
            if held is not None and held.lines not in mine:
                held.close()
                for each in held.lines:
                    del self._held[each]
            for each in self._watched[line].lines if line in self._watched else ():
                watched = self._watched.pop(each)
                self._edges.pop(each, None)
                watched.close()
            if line in self._pwm and (output is None or not self._hard(output, line)):
                self._pwm.pop(line).close()
        self._tell_guard()  # it has them too: they are not free before it has let them go
        self._take(come, _refuse)
        self._tell_guard()

    def _plain(self, output: Output) -> list[int]:
        """The lines of an output that are switched by their level."""
        return [line for line in output.lines if not self._hard(output, line)]

    def _take(self, lines: Collection[int], wrong: Callable[[Collection[int], BoardError], None]) -> None:
        """Take lines and channels; ``wrong`` is told which of them cannot be had. Raises `BoardError` where the chip itself is not there."""
        for output in {id(output): output for line, output in self.outputs.items() if line in lines}.values():
            try:
                self._take_output(output)
            except BoardError as error:
                self._sieve(error, output.lines, wrong)
        analogue = [line for line, input in self.inputs.items() if input.analogue]
        for line, input in self.inputs.items():
            if line in lines and not input.analogue and line not in self._watched:
                try:
                    self._take_input(input)
                except BoardError as error:
                    self._sieve(error, input.lines, wrong)
        if analogue or self._sampler is not None:
            try:
                self._sample()
            except BoardError as error:
                wrong(analogue, error)

    def _sieve(
        self, error: BoardError, lines: Collection[int], wrong: Callable[[Collection[int], BoardError], None]
    ) -> None:
        assert self._chip is not None
        if not self._chip.there():
            raise error
        wrong(lines, error)

    def _take_output(self, output: Output) -> None:
        assert self._chip is not None
        plain = self._plain(output)
        safe = wire.released(output) if output.latching else wire.to_pins(output, output.safe)
        if plain and plain[0] not in self._held:
            values = sum(1 << number for number, line in enumerate(plain) if safe[line].parts)
            flags = gpio.OUTPUT | gpio.DRIVERS[output.driver]
            self._held.update(dict.fromkeys(plain, self._chip.request(plain, flags, values=values)))
            said = f"line{'s' if plain[1:] else ''} {_list(plain)} taken as output at {values:0{len(plain)}b}"
            self.traffic.add("sent", b"", said)
        for line in output.lines:
            if self._hard(output, line):
                # set before the next is exported: some chips let a period be chosen only while one channel is in use
                channel = self._pwm.get(line) or PwmChannel(
                    self.facts.pwm, self._channel(line), hertz=output.frequency
                )
                self._pwm[line] = channel
                channel.set(*safe[line])
            elif output.modulates(line):
                self._software[line] = SoftwarePwm(self._held[line], line)

    def _take_input(self, input: Input) -> None:
        """Take its lines in one request, so that the kernel keeps their edges in order."""
        assert self._chip is not None
        lines = input.lines
        flags = gpio.INPUT | gpio.PULLS[input.pull]
        edges = gpio.RISING | gpio.FALLING
        try:
            taken = self._chip.request(lines, flags | edges, debounce=input.debounce // 1000)
        except BoardError as error:
            if error.code != "no-edges":
                raise
            taken = self._chip.request(lines, flags)
            self._polled |= {*lines}
        self._watched.update(dict.fromkeys(lines, taken))
        how = "read over and over: it tells of no edges" if lines[0] in self._polled else "with edges"
        said = f"line{'s' if lines[1:] else ''} {_list(lines)} taken as input, {how}"
        self.traffic.add("sent", b"", said)

    def _high(self, line: int) -> bool:
        """What a watched line shows."""
        watched = self._watched[line]
        return bool(watched.get() & watched.bit[line])

    def _sample(self) -> None:
        """Have the analogue channels read that somebody wants, by a thread of their own. Raises `BoardError`."""
        lines = [line for line, input in self.inputs.items() if input.analogue]
        lines += [line for line, trial in self.tried.items() if trial.mode == "analogue"]
        if self._sampler is None and lines:
            self._sampler = Sampler(Converter(self.facts.analogue or "iio:device0").read, self.nudge)
        if self._sampler is not None:
            self._sampler.channels = {line: self._channel(line) for line in lines}

    def _hard(self, output: Output, line: int) -> bool:
        return output.modulates(line) and not output.by_software

    def _channel(self, line: int) -> int:
        there = self.board.position(line)
        return there.channel if there is not None and there.channel is not None else line

    def first_look(self) -> None:
        """The levels that inputs have before any edge."""
        for line in self._watched:
            self.seen(line, self._high(line), settled=True)

    def _tell_guard(self) -> None:
        """What the guard does if it has to, and with which requests."""
        actions: list[dict[str, Any]] = []
        after: list[dict[str, Any]] = []
        pulse = 0
        files: list[int] = []
        for held in {id(held): held for held in self._held.values()}.values():
            output = self.outputs[held.lines[0]]
            safe = wire.to_pins(output, output.safe)
            bits = sum(held.bit[line] for line in held.lines if safe[line].parts)
            actions.append({"file": len(files), "bits": bits, "mask": held.all})
            if output.latching:
                bits = held.all if output.active_low else 0
                after.append({"file": len(files), "bits": bits, "mask": held.all})
                pulse = max(pulse, output.latching)
            files.append(held.file)
        if after:
            actions += [{"wait": pulse / 1e9}, *after]
        for line, channel in self._pwm.items():
            actions.append(
                _of_channel(channel, wire.to_pin(self.outputs[line], self.outputs[line].safe, line))
            )
        for tried in self._trials.values():
            if isinstance(tried, PwmChannel):
                actions.append(_of_channel(tried, 0))
            elif isinstance(tried, gpio.Lines):  # of an input too, which is not moved by that
                actions.append({"file": len(files), "bits": 0, "mask": tried.all})
                files.append(tried.file)
        if self._guard is not None:
            self._guard.tell(actions, files)
        elif actions:
            self._guard = Guard(actions, files)

    def put(self, levels: Mapping[int, Put]) -> Mapping[int, int]:
        """Set lines, all of a request at once; read back what they are at."""
        by_group: dict[int, tuple[gpio.Lines, int, int]] = {}
        shown: dict[int, int] = {}
        for line, (parts, millihertz) in levels.items():
            if line in self._pwm:
                try:
                    shown[line] = self._pwm[line].set(parts, millihertz)
                except BoardError as error:
                    raise LineError(error.code, error.sentence, error.remedy) from None
                self.traffic.add(
                    "sent", b"", f"line {line}: PWM {parts / 10_000:g} %, period {self._pwm[line].period} ns"
                )
                continue
            if line in self._software and self._software[line].set(parts, millihertz):
                shown[line] = parts
                continue
            group = self._held[line]
            _, bits, mask = by_group.get(group.file, (group, 0, 0))
            by_group[group.file] = (group, bits | (group.bit[line] if parts else 0), mask | group.bit[line])
        for group, bits, mask in by_group.values():
            group.set(bits, mask)
            now = group.get()
            moved = [line for line in group.lines if group.bit[line] & mask]
            told = ", ".join(f"{line} {'high' if group.bit[line] & bits else 'low'}" for line in moved)
            self.traffic.add("sent", bits.to_bytes(8, "big"), f"set {told}")
            shown.update({line: FULL if now & group.bit[line] else 0 for line in moved})
        return shown

    def poll(self, seconds: float) -> None:
        """Wait for edges; keep the guard quiet; sample analogue channels."""
        now = time.monotonic()
        if self._guard is not None and now - self._beat >= BEAT:
            self._guard.beat()
            self._beat = now
        files = {lines.file: lines for lines in self._watched.values()}
        files |= {tried.file: tried for tried in self._trials.values() if isinstance(tried, gpio.Lines)}
        own = {self._guard.end.fileno(): self._guard} if self._guard is not None else {}
        if self.broken and now - self._mended >= MEND_EVERY:
            self._mended = now
            self._mend()
        ready = self.rest(min(seconds, POLL_EVERY) if self._polled else seconds, *files, *own)
        for line in self._polled & self._watched.keys():
            self.seen(line, self._high(line))
        if own.keys() & {*ready}:
            self._guard = None
            raise BoardError(
                "guard", "its guard took the lines to safe: it had heard nothing from here for too long", ""
            )
        if now - self._looked >= LOOK_EVERY and not ready:
            self._looked = now
            self._look_again()
        offset = time.time_ns() - time.monotonic_ns()
        for edge in sorted((edge for file in ready for edge in files[file].events()), key=attrgetter("mono")):
            self.traffic.add("got", b"", f"line {edge.line} {'rose' if edge.rising else 'fell'}")
            left_out = edge.number - self._edges.get(edge.line, 0) - 1
            self._edges[edge.line] = edge.number
            if left_out > 0:
                self.traffic.add(
                    "lost", b"", f"line {edge.line}: {left_out} edges were lost, it changes too fast"
                )
                self._looked = 0.0
            self.seen(edge.line, edge.rising, edge.mono + offset, settled=True)
        for line, found in (self._sampler.take() if self._sampler is not None else {}).items():
            if isinstance(found, BoardError):
                self.unknown(line)
            else:
                self.measured(line, *found)
        self.traffic.rounds += 1

    def _look_again(self) -> None:
        """Whether the chip is still there, though nothing is asked of it; what inputs are at, for an edge may have been lost; and outputs, for
        something else may have their wire."""
        assert self._chip is not None
        if not self._chip.there():
            raise gpio.trouble(OSError(errno.ENODEV, "gone"), self._chip.path)
        for line in self._watched:
            if line not in self._polled:
                self.seen(line, self._high(line), settled=True)
        for held in {id(held): held for held in self._held.values()}.values():
            now = held.get()
            for line in held.lines:
                if line not in self._software:
                    self.observed(line, FULL if now & held.bit[line] else 0)

    def attempt_now(self, line: int, trial: Trial | None) -> None:
        """Take one more line, or a PWM or analogue channel, for as long as it is tried; the guard knows of it."""
        if self._end_trial(line):
            self._tell_guard()
        if trial is not None and self._chip is not None:
            try:
                self._try(self._chip, line, trial)
                self._tell_guard()
            except BoardError:
                self._end_trial(line)
                raise

    def _end_trial(self, line: int) -> bool:
        before = self._trials.pop(line, None)
        self._edges.pop(line, None)
        if self._sampler is not None and before is None:
            self._sample()
        if before is not None:
            if isinstance(before, PwmChannel):
                before.set(0, 0)
            before.close()
        return before is not None

    def _try(self, chip: gpio.Chip, line: int, trial: Trial) -> None:
        match trial.mode:
            case "pwm" | "tone":
                if not self.facts.pwm:
                    raise BoardError(
                        "pin", f"board {self.board.name} names no PWM chip", 'Add pwm = "pwmchip0".'
                    )
                channel = PwmChannel(self.facts.pwm, self._channel(line))
                shown = channel.set(FULL // 2 if trial.mode == "tone" else trial.parts, trial.millihertz)
                self._trials[line] = channel
                self.readings[line] = {"level": shown, "period": channel.period}
            case "analogue":
                self._sample()
            case "output":
                lines = chip.request([line], gpio.OUTPUT, values=1 if trial.parts else 0)
                self._trials[line] = lines
                self.readings[line] = {"level": FULL if lines.get() else 0}
            case _:
                flags = gpio.INPUT | gpio.RISING | gpio.FALLING | gpio.PULLS[trial.pull]
                lines = chip.request([line], flags)
                self._trials[line] = lines
                self.readings[line] = {"level": FULL if lines.get() else 0, "count": 0}

    def survey(self) -> Mapping[int, Seen]:
        """The kernel's own names of all lines, who else holds them, and the levels of those that are ours."""
        chip = self._chip
        if chip is None:
            return {}
        own = super().survey()
        found = {}
        for line in range(chip.lines):
            try:
                info = chip.info(line)
            except (BoardError, OSError):
                continue
            other = (info.consumer or "the kernel") if info.used and info.consumer != gpio.CONSUMER else ""
            found[line] = own.get(line, Seen())._replace(holder=other, title=info.title)
        return found

    def disconnect(self) -> None:
        """Let the lines go: safe, as whoever closed this link has seen to."""
        for soft in self._software.values():
            soft.close()
        if self._guard is not None:
            self._guard.dismiss()
        for line in list(self._trials):
            with suppress(BoardError):
                self._end_trial(line)
        for line, channel in self._pwm.items():
            output = self.outputs.get(line)
            # what is let go may fall low, which lights an active-low lamp: that stays as it is
            if output is None or not wire.to_pin(output, output.safe, line):
                channel.close()
        for lines in (*self._held.values(), *self._watched.values()):
            lines.close()
        if self._chip is not None:
            self._chip.close()
        if self._sampler is not None:
            self._sampler.end()
        self._chip = self._guard = self._sampler = None
        for kept in (
            self._held,
            self._watched,
            self._pwm,
            self._software,
            self._trials,
            self._polled,
            self._edges,
        ):
            kept.clear()


class SoftwarePwm:
    """PWM by a thread that switches the line: for slow lamps only, since every late wake-up is a wrong duty."""

    def __init__(self, lines: gpio.Lines, line: int) -> None:
        self._lines, self._bit = lines, lines.bit[line]
        self._wanted = (0, 0)
        self._change = threading.Condition()
        self._thread: threading.Thread | None = None

    def set(self, parts: int, millihertz: int) -> bool:
        """Begin, change or (at 0 and full) end; False if the line is to be set plainly instead."""
        with self._change:
            self._wanted = (parts, millihertz)
            if self._thread is None and 0 < parts < FULL:
                self._thread = threading.Thread(target=self._run, name="software-pwm", daemon=True)
                self._thread.start()
            self._change.notify()
            if self._thread is not None and parts in (0, FULL):
                self._change.wait_for(lambda: self._thread is None, 1)
        return 0 < parts < FULL

    def close(self) -> None:
        """End."""
        self.set(0, 0)

    def _run(self) -> None:
        edge = time.monotonic()
        while True:
            with self._change:
                parts, millihertz = self._wanted
                if parts in (0, FULL):
                    self._thread = None
                    self._change.notify()
                    return
            period = 1000 / millihertz
            try:
                for share, bits in ((parts / FULL, self._bit), (1 - parts / FULL, 0)):
                    self._lines.set(bits, self._bit)
                    edge += period * share
                    time.sleep(max(0.0, edge - time.monotonic()))
            except BoardError:
                with self._change:
                    self._thread = None
                    self._change.notify()
                return
            edge = max(edge, time.monotonic() - period)


def _refuse(lines: Collection[int], error: BoardError) -> None:
    raise error


def _of_channel(channel: PwmChannel, parts: int) -> dict[str, Any]:
    """What brings a channel to so many parts per million, whatever its period is by then."""
    return {"path": str(channel.path / "duty_cycle"), "period": str(channel.path / "period"), "parts": parts}


def _list(lines: Sequence[int]) -> str:
    return ", ".join(map(str, lines))


def _looks(site: Site, board: Board) -> Iterator[devices.Found]:
    its: Kernel = board.facts
    things: list[Output | Input] = [*site.outputs.values(), *site.inputs.values()]
    yield from devices.chip(
        gpio.find(its.chip), [each.pin.line for each in things if each.pin.board == board.name]
    )
    for device, find in ((its.pwm, PwmChannel.there), (its.analogue, Converter.there)):
        if device:
            try:
                yield devices.Found(True, f"{device} is there ({find(device).name}).")
            except BoardError as error:
                yield devices.Found(False, error.sentence, error.remedy)


def _shares(its: Kernel) -> Share:
    """Lines, which are the chip's whatever board they are said to be of."""
    return Share(f"GPIO chip {its.chip}", lines=True)


KIND = Kind(
    "lines of the Linux kernel",
    lambda board, _: KernelLink(board),
    Kernel,
    looks=_looks,
    shares=_shares,
    holds=lambda _: Holds(LINE, LINE, LINE, "the guard"),
    needs=lambda its: (GPIO, *((PWM,) if its.pwm else ())),
)
