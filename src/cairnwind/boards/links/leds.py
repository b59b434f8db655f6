"""Lamps of the kernel's LED class, as a board whose lines they are: ABI/testing/sysfs-class-led.

Each has as many levels as its driver says. The kernel's own use of it (its trigger) ends when it is taken, and does not come back. What takes
them to safe when this process dies is the guard, as it does with lines.
"""

from __future__ import annotations

import time
from collections.abc import Collection, Iterator, Mapping
from pathlib import Path

from cairnwind.boards import access, devices, wire
from cairnwind.boards.gpio import trouble
from cairnwind.boards.guarded import Guard
from cairnwind.boards.kinds import BOARD, UNKNOWN, Holds, Kind
from cairnwind.boards.link import LineError, Seen
from cairnwind.boards.wire import Put
from cairnwind.boards.worker import Worker
from cairnwind.core.facts.hardware import Board
from cairnwind.core.facts.site import Site
from cairnwind.core.values.errors import BoardError, CallerError
from cairnwind.core.values.fact import fact
from cairnwind.core.values.keys import written
from cairnwind.core.values.settings import FULL

LEDS = Path("/sys/class/leds")
BEAT, LOOK_EVERY = 0.25, 0.5
"""Seconds between messages to the guard, and between looks at what lamps are at."""


def _names(value: object) -> tuple[str, ...]:
    if (
        not isinstance(value, list)
        or not value
        or not all(isinstance(each, str) and each and "/" not in each for each in value)
    ):
        raise CallerError(
            "",
            f"{value!r} is no list of lamps",
            'Write leds = ["user-led"]; cairnwind doctor lists those of this machine.',
        )
    for each in value:
        if value.count(each) > 1:
            raise CallerError("", f"'{each}' is there twice", "Take one away.")
    return tuple(value)


@fact
class Leds:
    """Lamps of the kernel; each is a line, in their order."""

    leds: tuple[str, ...] = written(
        'its lines, in their order, by what the kernel calls them: `["board:green:user"]`; `cairnwind doctor` lists those of this machine',
        _names,
        needed='Name them: leds = ["board:green:user"].',
    )
    functions = frozenset[str]()
    serves = frozenset({"output"})
    """Nothing else can be wired to it."""
    wired = False
    steps = 255

    def dims(self, line: int) -> bool:
        """Every lamp has levels by itself; one that has only on and off is that at any level."""
        return True


class LedsLink(Worker):
    """The link to them."""

    def __init__(self, board: Board) -> None:
        super().__init__(board)
        assert isinstance(board.facts, Leds)
        self.facts = board.facts
        self._most: dict[int, int] = {}
        """By line: its brightness at full."""
        self._guard: Guard | None = None
        self._beat = self._looked = 0.0

    def connect(self) -> None:
        """Take those that are somebody's, at safe; then set the guard."""
        for line in self.outputs:
            try:
                self._take(line)
            except BoardError as error:
                self.wrong([line], error)
        self._tell_guard()

    def disconnect(self) -> None:
        """Let them go, as they are: at safe, as whoever closed this link has seen to."""
        if self._guard is not None:
            self._guard.dismiss()
        self._guard = None
        self._most.clear()

    def adopt(self, come: Collection[int], gone: Collection[int]) -> None:
        """Take those that are somebody's now; those that are nobody's go dark."""
        for line in come:
            if line in self.outputs:
                self._take(line)
        for line in gone:
            if self._most.pop(line, None) is not None:
                _write(self._path(line) / "brightness", 0)
        self._tell_guard()

    def put(self, levels: Mapping[int, Put]) -> Mapping[int, int]:
        """Set them, and read back what they are at."""
        shown = {}
        for line, (parts, _) in levels.items():
            try:
                count = self._count(line, parts)
                _write(self._path(line) / "brightness", count)
                now = _number(self._path(line) / "brightness")
            except BoardError as error:
                raise LineError(error.code, error.sentence, error.remedy) from None
            shown[line] = parts if now == count else min(FULL, now * FULL // self._most[line])
            self.traffic.add("sent", b"", f"{self.facts.leds[line]}: {count} of {self._most[line]}")
        return shown

    def poll(self, seconds: float) -> None:
        """Keep the guard quiet; look whether something else has changed a lamp, or taken it away."""
        now = time.monotonic()
        if self._guard is not None and now - self._beat >= BEAT:
            self._guard.beat()
            self._beat = now
        self.rest(min(seconds, BEAT))
        if now - self._looked < LOOK_EVERY:
            return
        self._looked = now
        for line, most in self._most.items():
            last = self._last.get(line)
            count = _number(self._path(line) / "brightness")
            if last is not None and count != self._count(
                line, wire.to_pin(self.outputs[line], last[0].setting, line)
            ):
                self.observed(line, min(FULL, count * FULL // most))
        for line in [line for line in self.broken if line in self.outputs]:
            try:
                self._take(line)
            except BoardError:
                continue
            del self.broken[line]
            self._tell_guard()
        self.traffic.rounds += 1

    def survey(self) -> Mapping[int, Seen]:
        """What the kernel calls them."""
        return self.titled(self.facts.leds, self.facts.functions)

    def _take(self, line: int) -> None:
        """End the kernel's own use of it, and bring it to safe."""
        path = self._path(line)
        if not path.is_dir():
            raise BoardError(
                "no-device",
                f"The kernel has no lamp {self.facts.leds[line]}.",
                f"Lamps here: {', '.join(known()) or 'none'}.",
            )
        if (path / "trigger").exists():
            _write(path / "trigger", "none")
        self._most[line] = max(1, _number(path / "max_brightness"))
        _write(path / "brightness", self._safe(line))

    def _safe(self, line: int) -> int:
        return self._count(line, wire.to_pin(self.outputs[line], self.outputs[line].safe, line))

    def _count(self, line: int, parts: int) -> int:
        """Brightness for so many parts per million: 0 only for nothing."""
        return max(1, round(parts * self._most[line] / FULL)) if parts else 0

    def _path(self, line: int) -> Path:
        return LEDS / self.facts.leds[line]

    def _tell_guard(self) -> None:
        actions = [
            {"path": str(self._path(line) / "brightness"), "value": str(self._safe(line))}
            for line in self._most
        ]
        if self._guard is not None:
            self._guard.tell(actions, [])
        elif actions:
            self._guard = Guard(actions, [])


def known() -> list[str]:
    """The lamps that the kernel has."""
    return sorted(each.name for each in LEDS.glob("*"))


def _write(path: Path, value: int | str) -> None:
    try:
        with open(path, "w") as file:
            file.write(str(value))
    except OSError as error:
        raise trouble(error, str(path)) from None


def _number(path: Path) -> int:
    try:
        return int(path.read_text())
    except OSError as error:
        raise trouble(error, str(path)) from None
    except ValueError:
        raise BoardError("device", f"{path} is no number.", "") from None


def _looks(site: Site, board: Board) -> Iterator[devices.Found]:
    for each in board.facts.leds:
        yield devices.openable(str(LEDS / each / "brightness"), "lamp", each)


def _holds(its: Leds) -> Holds:
    return Holds(BOARD, BOARD, UNKNOWN, "the guard")


KIND = Kind(
    "lamps of the Linux kernel's LED class", lambda board, _: LedsLink(board), Leds,
    lines=lambda its: len(its.leds) if its else 1, looks=_looks, holds=_holds,
    needs=lambda _: (access.LEDS,),
)  # fmt: skip
