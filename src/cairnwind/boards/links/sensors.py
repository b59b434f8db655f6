"""Sensors of this machine's kernel, as a board whose lines are its channels: hwmon, IIO, thermal zones, one-wire.

Each source is read by a thread of its own, for a one-wire thermometer takes most of a second. A channel that cannot be read makes its input
unknown, and no other; it is read again.
"""

from __future__ import annotations

from collections.abc import Callable, Collection, Iterator, Mapping

from cairnwind.boards import devices, kernelsensors
from cairnwind.boards.kernelsensors import Channel
from cairnwind.boards.kinds import Kind
from cairnwind.boards.link import Seen
from cairnwind.boards.sampling import Reading, Sampler
from cairnwind.boards.wire import Put
from cairnwind.boards.worker import Worker
from cairnwind.core.facts.hardware import Board
from cairnwind.core.facts.inputs import Input
from cairnwind.core.facts.site import Site
from cairnwind.core.facts.trials import Trial
from cairnwind.core.values.errors import BoardError, CallerError
from cairnwind.core.values.fact import fact
from cairnwind.core.values.keys import written

EVERY = 1.0
"""Seconds between two readings of a channel, at least."""


def _channels(value: object) -> tuple[Channel, ...]:
    if not isinstance(value, list) or not value:
        raise CallerError(
            "", f"{value!r} is no list of channels", 'Write channels = ["thermal:cpu-thermal"].'
        )
    found = tuple(kernelsensors.channel(each) for each in value)
    for each in found:
        if found.count(each) > 1:
            raise CallerError(
                "", f"'{each.text}' is there twice", "Take one away: several inputs may have the same line."
            )
    return found


@fact
class Sensors:
    """Channels of the kernel's sensors; each is a line, in their order."""

    channels: tuple[Channel, ...] = written(
        'its lines, in their order: `["hwmon:nct6798/temp1", "iio:bme280/pressure", "thermal:cpu-thermal", "onewire:28-0000075b6c2f"]`; `cairnwind doctor` lists those of this machine, and `"simulated:shelf/temp1"` is none',
        _channels,
        needed='Name them: channels = ["thermal:cpu-thermal"]; cairnwind doctor lists those of this machine.',
    )
    functions = frozenset({"analogue"})
    serves = frozenset({"analogue"})
    """Nothing else can be wired to it."""
    wired = False

    def unit_of(self, line: int) -> str:
        """What a line is measured in."""
        return self.channels[line].unit if line < len(self.channels) else ""


class SensorsLink(Worker):
    """The link to them."""

    def __init__(self, board: Board) -> None:
        super().__init__(board)
        assert isinstance(board.facts, Sensors)
        self.facts = board.facts
        self._samplers: dict[str, Sampler] = {}
        """By source."""

    def connect(self) -> None:
        """Begin to read what somebody wants."""
        self._sample()

    def disconnect(self) -> None:
        """Read no more."""
        for each in self._samplers.values():
            each.end()
        self._samplers.clear()

    def adopt(self, come: Collection[int], gone: Collection[int]) -> None:
        """Read what is wanted from now on."""
        self._sample()

    def put(self, levels: Mapping[int, Put]) -> Mapping[int, int]:
        """Nothing here can be told anything."""
        raise BoardError(
            "pin", f"the lines of {self.board.name} are sensors", "Wire outputs to another board."
        )

    def attempt_now(self, line: int, trial: Trial | None) -> None:
        """Read a channel for whoever tries it."""
        if trial is not None and trial.mode != "analogue":
            raise BoardError(
                "pin", f"line {line} of {self.board.name} is a sensor: it can be read, as analogue", ""
            )
        self._sample()

    def poll(self, seconds: float) -> None:
        """Take what was read."""
        self.rest(seconds)
        for sampler in self._samplers.values():
            for line, found in sampler.take().items():
                if isinstance(found, BoardError):
                    if line not in self.broken:
                        self.wrong([line], found)
                    self.readings.pop(line, None)
                else:
                    self.broken.pop(line, None)
                    self.measured(line, *found)
        self.traffic.rounds += 1

    def pretend(self, input: Input) -> Callable[[float], None] | None:
        """How an input on a channel of no sensor is worked."""
        channel = self.facts.channels[input.pin.line]
        if channel.source != "simulated":
            return None
        return lambda value: kernelsensors.SIMULATED.__setitem__(channel.text, value)

    def survey(self) -> Mapping[int, Seen]:
        """What the kernel calls them."""
        return self.titled((each.text for each in self.facts.channels), self.facts.functions)

    def _sample(self) -> None:
        wanted = [line for line in {*self.inputs, *self.tried} if line < len(self.facts.channels)]
        for source in {self.facts.channels[line].source for line in wanted} | self._samplers.keys():
            lines = {line: line for line in wanted if self.facts.channels[line].source == source}
            if source not in self._samplers:
                self._samplers[source] = Sampler(self._read, self.nudge, EVERY)
            self._samplers[source].channels = lines

    def _read(self, line: int) -> Reading:
        value = kernelsensors.read(self.facts.channels[line])
        return round(value * 1000), 0, value


def _looks(site: Site, board: Board) -> Iterator[devices.Found]:
    its: Sensors = board.facts
    for each in its.channels:
        try:
            yield devices.Found(
                True, f"{each.text} is at {kernelsensors.read(each):.4g} {each.unit}".rstrip() + "."
            )
        except BoardError as error:
            yield devices.Found(False, error.sentence, error.remedy)


KIND = Kind(
    "sensors of the Linux kernel: hwmon, IIO, thermal zones, one-wire", lambda board, _: SensorsLink(board), Sensors,
    lines=lambda its: len(its.channels) if its else 1, looks=_looks,
)  # fmt: skip
