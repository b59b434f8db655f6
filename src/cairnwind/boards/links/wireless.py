"""Boards with our firmware behind the message broker, as those with a radio are: the same frames as on a serial line, a message each.

So they have all that a wired one has: read back, rules of their own, what lasts, a watchdog that its own host alone keeps fed, and feeds only
while the engine turns. Each question is numbered, and expires after a second: nothing that comes late is done, or taken for an answer.
"""

from __future__ import annotations

import threading
from collections.abc import Callable
from functools import partial
from typing import Any

from cairnwind.boards import chips, told
from cairnwind.boards.chips import Chip
from cairnwind.boards.facts import Broker
from cairnwind.boards.kinds import BOARD, FLOATS, Holds, Kind, Share
from cairnwind.boards.master import Modbus
from cairnwind.boards.mqtt import Connection
from cairnwind.boards.ours import FirmwareLink
from cairnwind.core.facts.hardware import Board
from cairnwind.core.physics.pwm import Timer
from cairnwind.core.values import entries
from cairnwind.core.values.errors import BoardError, CallerError
from cairnwind.core.values.fact import fact, replace
from cairnwind.core.values.keys import written
from cairnwind.core.values.quantities import duration

CONNECT_WITHIN, PRESENT_WITHIN = 2.0, 1.0
"""Seconds for the broker, and for the board's retained presence."""
HERE = b"here"


@fact
class Wireless:
    """A board with our firmware behind the broker."""

    topic: str = written(
        'below which it is asked and answers; `cairnwind/boards/` and its name, unless said: `"cairnwind/boards/pump-house"`',
        told.topic,
        default="",
    )
    watchdog: int = written(
        "without its host for so long it goes to its safe values",
        partial(duration, longest=60), default=3_000_000_000, unsaid='"3 s"',
    )  # fmt: skip
    """Nanoseconds."""
    chip: Chip | None = written(
        "the chip it runs on, for `check`: see [boards.md](boards.md#a-serial-line-modbus)",
        default=None,
        unsaid='"atmega1284p"',
    )
    reference: float = written(
        "what its converter measures against, which is its supply",
        lambda value: float(entries.a("voltage", value)), default=5.0, unsaid='"5 V"',
    )  # fmt: skip
    """Volts."""
    keeps_rules = True
    times = pulses = paired = True

    @property
    def its_chip(self) -> Chip:
        """The chip it runs on."""
        return self.chip or chips.default()

    @property
    def clockwork(self) -> dict[int, Timer]:
        """The timers behind its PWM lines."""
        return self.its_chip.clockwork

    @property
    def reserved(self) -> frozenset[int]:
        """Lines that are the board's own."""
        return self.its_chip.reserved

    def abilities(self, line: int) -> frozenset[str]:
        """What a line can beside switching and reading, as far as its chip is known; the board says the same itself."""
        return self.its_chip.functions(line)


class WirelessLink(FirmwareLink):
    """The link to one of them."""

    def __init__(self, board: Board, broker: Broker, site: str, secret: Callable[[str], str] | None) -> None:
        own: Wireless = board.facts
        self._topic = own.topic or f"cairnwind/boards/{board.name}"
        spoken = Modbus(
            f"broker:{self._topic}", 1, None, watchdog=own.watchdog, chip=own.chip, reference=own.reference
        )
        super().__init__(replace(board, facts=spoken))
        self._broker, self._site, self._secret = broker, site, secret
        self._connection: Connection | None = None
        self._present = threading.Event()

    def connect(self) -> None:
        """Reach the broker, and the board by it."""
        try:
            self._connection = connection = Connection.take(self._broker, self._site, self._secret)
        except CallerError as error:  # its certificates cannot be read
            raise BoardError(error.code, error.sentence, error.remedy) from None
        if not connection.up.wait(CONNECT_WITHIN):
            raise connection.away()
        self._present.clear()
        connection.subscribe(f"{self._topic}/here", self._seen_here)
        if not self._present.wait(PRESENT_WITHIN):
            raise BoardError(
                "no-answer", f"it has not said on '{self._topic}/here' that it is here", "See to its supply and its network.",
            )  # fmt: skip
        super().connect()

    def _seen_here(self, topic: str, payload: bytes, left: bool) -> None:
        if payload.strip() == HERE:
            self._present.set()
        else:
            self._present.clear()
            self.nudge()
            if self._client is not None:
                self._client.close()  # nobody waits for its answer any more

    def _open(self, port: str) -> Any:
        from cairnwind.boards.frames import Frames  # which takes its time to load

        assert self._connection is not None
        assert self._line is not None
        client = Frames(self._connection, self._topic, timeout=self._answers, trace_packet=self._line.trace)
        if not self._connect(client):
            raise self._connection.away()
        return client

    def _connect(self, client: Any) -> bool:
        return self._present.is_set() and super()._connect(client)

    def poll(self, seconds: float) -> None:
        """See `Master`; a board whose last will came is lost at once."""
        if not self._present.is_set():
            raise BoardError("no-answer", "it has gone", "See to its supply and its network.")
        super().poll(seconds)

    def disconnect(self) -> None:
        """Leave the board, and the broker."""
        client = self._client
        super().disconnect()
        if client is not None:
            client.end()
        if self._connection is not None:
            self._connection.unsubscribe(self._seen_here)
            self._connection.give()
            self._connection = None


def _shares(its: Wireless) -> Share | None:
    """A topic has one board."""
    if not its.topic:
        return None
    return Share(its.topic, "the board there", key="topic", remedy="Give each a topic of its own.")


def _holds(its: Wireless) -> Holds:
    return Holds(BOARD, BOARD, FLOATS, "its watchdog")


KIND = Kind(
    "a board with our firmware behind the message broker, as one with a radio is: all that a wired one has, by the same frames",
    lambda board, around: WirelessLink(board, around.site.broker, around.site.name, around.secret), Wireless,
    lambda **values: Wireless(**values),
    lambda beside: {"chip": lambda value: chips.load(entries.text(value), beside)},
    lambda its: (its.its_chip if its is not None else chips.default()).lines,
    by_broker=True, shares=_shares, holds=_holds,
)  # fmt: skip
