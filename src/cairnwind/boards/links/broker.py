"""Boards of the network behind a message broker, by topic and payload templates.

What tells whether such a board is there is its retained presence topic with its last will; what confirms a drive
is its report. A board without reports can confirm nothing: its outputs are 'sent'. When this service goes, a
board goes on as it is, unless it watches ``cairnwind/<site>/service`` and rests by itself, as ours does.
"""

from __future__ import annotations

import math
import re
import time
from collections import deque
from collections.abc import Callable, Collection, Mapping
from functools import partial

from cairnwind.boards import told
from cairnwind.boards.facts import Broker
from cairnwind.boards.kinds import BOARD, UNKNOWN, Holds, Kind
from cairnwind.boards.mqtt import ORDER_LASTS, Connection
from cairnwind.boards.told import Told
from cairnwind.boards.wire import Put
from cairnwind.boards.worker import Worker
from cairnwind.core.facts.hardware import ALL, Board
from cairnwind.core.values import entries
from cairnwind.core.values.errors import BoardError, CallerError, at_fault
from cairnwind.core.values.fact import fact, replace
from cairnwind.core.values.keys import written
from cairnwind.core.values.settings import FULL

CONNECT_WITHIN, PRESENT_WITHIN, REPORT_WITHIN = 2.0, 1.0, 2.0
"""Seconds for the broker, for the board's retained presence, and for the report of what it was told."""


MOST_WAITING = 10_000
"""Messages of a board that wait to be looked at; of more the oldest go."""
LINE = "{line}"
"""Where a line's number stands in a topic."""


def _told(value: object, among: tuple[str, ...], need: tuple[str, ...]) -> dict[str, str]:
    """A table of texts."""
    if (
        not isinstance(value, dict)
        or set(value) - set(among)
        or any(not isinstance(each, str) for each in value.values())
    ):
        raise CallerError(
            "", "this is not a table of texts with the keys it has.", f"Keys: {', '.join(among)}."
        )
    for each in need:
        if each not in value:
            raise CallerError("", f"it has no '{each}'.", f"Keys: {', '.join(among)}.")
    told.topic(value["topic"])
    return dict(value)


@fact
class Network:
    """A board behind a broker, by topic and payload templates: ``{line}`` and ``{level}`` (0 to 100)."""

    command: str = written(
        'how a line is told: `{ topic = "yard/{line}/set", on = "1", off = "0" }`, and `level = "{level}"` where it can dim',
        partial(_told, among=("topic", "on", "off", "level"), need=("topic", "on", "off")),
        default="",
    )
    """The topic."""
    on: str = ""
    off: str = ""
    level: str = ""
    """Payload of a level between off and on; empty: it cannot dim."""
    report: str = written(
        "the topic on which the board tells what its lines are at; it does not, unless said",
        told.topic,
        default="",
    )
    alive: str = written(
        'its presence, retained: `{ topic = "yard/alive", here = "yes" }`; any other payload says that it has gone',
        partial(_told, among=("topic", "here"), need=("topic",)),
        default="",
    )
    """The topic."""
    here: str = "here"
    retain: bool = written("whether what it is told is retained", entries.flag, default=False, unsaid="false")
    alone: bool = written(
        "whether the broker lets this board alone publish its reports; where not, `check` warns of interlocks that hang on them",
        entries.flag,
        default=False,
        unsaid="false",
    )

    readings: tuple[Told, ...] = written(
        'what sensors tell on topics of their own, each a line after the others: `[{ topic = "pond/water", path = "temperature", unit = "°C", age = "10 min" }]`; '
        "`path` leads into JSON, `age` is after how long it is unknown, `active` the text of a contact that is its active state",
        told.read,
        default=(),
    )
    first: int = 0
    """The line of the first of them."""

    def dims(self, line: int) -> bool:
        """Whether a line can be told a level."""
        return bool(self.level)

    wired = False

    @property
    def serves(self) -> frozenset[str]:
        """What can be wired to it: nothing is told to what only tells."""
        return ALL - {"encoder"} if self.command else frozenset({"contact", "analogue"})

    @property
    def more_lines(self) -> int:
        """How many lines it has beside those that are numbered in its topics."""
        return len(self.readings)

    def placed(self, lines: int) -> Network:
        """The same, of a board with so many lines in all."""
        return replace(self, first=lines - len(self.readings))

    def told(self, line: int) -> Told | None:
        """What is told of a line on a topic of its own."""
        return self.readings[line - self.first] if line >= self.first and self.readings else None

    def unit_of(self, line: int) -> str:
        """What a line is measured in."""
        found = self.told(line)
        return found.unit if found is not None else ""

    @property
    def confirms(self) -> bool:
        """Whether it tells back what its lines are at."""
        return bool(self.report)

    @property
    def anybody(self) -> str:
        """Where whoever may publish there speaks for the board; empty: nobody but the board can."""
        return "" if self.alone else self.report or (self.readings[0].topic if self.readings else "")

    def owns(self, topic: str) -> bool:
        """Whether a topic is one of the board's."""
        return any(
            re.fullmatch(".*".join(map(re.escape, own.split(LINE))), topic, re.DOTALL)
            for own in (self.command, self.report, self.alive, *(each.topic for each in self.readings))
            if own
        )


class BrokerLink(Worker):
    """The link to one board of the network, which is there while its presence topic says so."""

    def __init__(self, board: Board, broker: Broker, site: str, secret: Callable[[str], str] | None) -> None:
        super().__init__(board)
        assert isinstance(board.facts, Network)
        self.facts, self._broker, self._site, self._secret = board.facts, broker, site, secret
        self.confirms = "read back" if self.facts.report else "sent"
        self._connection: Connection | None = None
        self._came: deque[tuple[str, bytes, bool]] = deque(maxlen=MOST_WAITING)
        self._topics: dict[str, list[int]] = {}
        """The lines of each topic that is heard."""
        self._until: dict[int, float] = {}
        """By line that has an age: when it is unknown (monotonic seconds)."""
        self._shows: dict[int, int] = {}
        """By line: what it reported last, in parts per million."""
        self._present = False
        self._left: dict[str, tuple[bytes, bool, float]] = {}
        """What was told last on topics of readings, whether it had been left at the broker, and when it came (monotonic seconds)."""

    def connect(self) -> None:
        """Reach the broker, and hear from the board."""
        try:
            self._connection = connection = Connection.take(self._broker, self._site, self._secret)
        except CallerError as error:  # its certificates cannot be read
            raise BoardError(error.code, error.sentence, error.remedy) from None
        end = time.monotonic() + CONNECT_WITHIN
        while not connection.up.wait(0.05):
            if self.closed or time.monotonic() > end:
                raise connection.away()
        self._present = not self.facts.alive
        self._shows.clear()
        self._left.clear()
        self._until.clear()
        self._topics = {}
        if self.facts.alive:
            connection.subscribe(self.facts.alive, self._take)
        self.adopt((), ())
        end = time.monotonic() + PRESENT_WITHIN
        while not self._present:
            if self.closed or time.monotonic() > end:
                raise BoardError(
                    "no-answer",
                    f"it has not said on '{self.facts.alive}' that it is here",
                    "See to its supply and its network.",
                )
            self._hear(0.05)

    def adopt(self, come: Collection[int], gone: Collection[int]) -> None:
        """Hear the reports of lines that are somebody's, and no others."""
        assert self._connection is not None
        wired = {*self.outputs, *self.inputs}
        topics: dict[str, list[int]] = {}
        for line in wired:
            its = self.facts.told(line)
            topic = its.topic if its is not None else self.facts.report.format(line=line)
            if topic:
                topics.setdefault(topic, []).append(line)
        before, self._topics = self._topics, topics
        for topic in before.keys() - topics.keys():
            self._connection.unsubscribe(self._take, topic)
        for topic in topics.keys() - before.keys():
            self._connection.subscribe(topic, self._take)
        for line in gone:
            self._shows.pop(line, None)
            self._until.pop(line, None)

    def first_look(self) -> None:
        """What has been reported of the inputs so far."""
        for line in self.inputs.keys() & self._shows.keys():
            self._see(line)
        for topic in {its.topic for line in self.inputs if (its := self.facts.told(line)) is not None}:
            if topic in self._left:
                self._told_on(topic, *self._left[topic])

    def disconnect(self) -> None:
        """Hear no more of it."""
        if self._connection is not None:
            self._connection.unsubscribe(self._take)
            self._connection.give()
            self._connection = None
        self._came.clear()

    def put(self, levels: Mapping[int, Put]) -> Mapping[int, int]:
        """Publish all, then wait for the reports, if the board makes any."""
        assert self._connection is not None
        told: dict[int, int] = {}
        for line, (parts, _) in levels.items():
            level = round(parts * 100 / FULL)
            payload = (
                self.facts.on
                if parts == FULL
                else self.facts.off
                if not parts
                else self.facts.level.format(level=level)
            )
            topic = self.facts.command.format(line=line)
            self._shows.pop(line, None)
            self._last.pop(line, None)  # what it reports from here on answers this
            lasts = 0 if self.facts.retain else ORDER_LASTS
            self._connection.publish(topic, payload, retain=self.facts.retain, lasts=lasts)
            self.traffic.add("sent", payload.encode(), f"{topic} {payload}")
            told[line] = parts
        if not self.facts.report:
            return told
        end = time.monotonic() + REPORT_WITHIN
        # a report may have crossed the command on its way: what differs counts only when nothing else comes
        while (missing := [line for line in told if not self._agrees(line, told[line])]) and not self.closed:
            if time.monotonic() > end:
                silent = [line for line in missing if line not in self._shows]
                if silent:
                    raise BoardError(
                        "no-answer", f"it did not report line {silent[0]} within {REPORT_WITHIN:g} s", ""
                    )
                break
            self._hear(0.05)
        return {
            line: self._shows[line] if line in missing else told[line] for line in told if line in self._shows
        }

    def _agrees(self, line: int, level: int) -> bool:
        """Whether it reports this level: reports are rounded to percent."""
        return line in self._shows and abs(self._shows[line] - level) <= FULL // 200

    def poll(self, seconds: float) -> None:
        """Take what has come."""
        self.rest(seconds)
        self._hear(0)
        now = time.monotonic()
        for line in [line for line, until in self._until.items() if until <= now]:
            del self._until[line]
            self.unknown(line)
        if self._connection is not None and not self._connection.up.is_set():
            raise self._connection.away()
        self.traffic.rounds += 1

    def _take(self, topic: str, payload: bytes, left: bool) -> None:
        self._came.append((topic, payload, left))
        self.nudge()

    def _hear(self, seconds: float) -> None:
        if seconds:
            self.rest(seconds)
        while True:
            try:
                topic, payload, left = self._came.popleft()
            except IndexError:
                return
            text = payload.decode("utf-8", "replace").strip()
            self.traffic.add("got", payload, f"{topic} {text[:200]}")
            if topic == self.facts.alive:
                self._present = text == self.facts.here
                if not self._present and self._up:
                    raise BoardError(
                        "no-answer",
                        f"it said '{text[:40]}' on '{topic}'" if text else "it has gone",
                        "See to its supply and its network.",
                    )
            elif topic in self._topics:
                if any(self.facts.told(line) is not None for line in self._topics[topic]):
                    self._left[topic] = payload, left, time.monotonic()
                    self._told_on(topic, *self._left[topic])
                else:
                    self._report_came(self._topics[topic][0], text)

    def _told_on(self, topic: str, payload: bytes, left: bool, came: float) -> None:
        """What a message says of each line that is told on its topic."""
        for line in self._topics.get(topic, ()):
            its, input = self.facts.told(line), self.inputs.get(line)
            if its is None or input is None:
                continue
            until = came + its.age / 1e9
            if its.age and (left or until <= time.monotonic()):  # who knows how old it is
                continue
            try:
                said = told.within(payload, its.path)
                if input.analogue:
                    self.number(line, told.number(said))
                else:
                    self.seen(line, told.state(said, its.active))
            except LookupError as error:
                self.traffic.add("lost", payload, f"line {line}: {error.args[0]}")
                self.unknown(line)
                self._until.pop(line, None)
            else:
                if its.age:
                    self._until[line] = until

    def _report_came(self, line: int, text: str) -> None:
        if line in self.inputs and self.inputs[line].analogue:
            try:
                self.number(line, told.number(text))
            except LookupError as error:
                self.traffic.add("lost", text.encode(), f"line {line}: {error.args[0]}")
                self.unknown(line)
            return
        if text in (self.facts.on, self.facts.off):
            level = FULL if text == self.facts.on else 0
        else:
            try:
                said = float(text.rstrip(" %"))
            except ValueError:
                said = math.nan
            level = round(said * FULL / 100) if 0 <= said <= 100 else -1
            if level < 0:
                self.traffic.add("lost", text.encode(), f"line {line}: '{text[:40]}' is no level")
                return
        self._shows[line] = level
        if line in self.inputs:
            self._see(line)
        elif line in self._last and abs(self._last[line][1] - level) > FULL // 200:
            self.observed(line, level)

    def _see(self, line: int) -> None:
        self.seen(line, self._shows[line] > 0)


def _made(
    command: dict[str, str] | None = None,
    report: str = "",
    readings: tuple[Told, ...] = (),
    alive: dict[str, str] | None = None,
    retain: bool = False,
    alone: bool = False,
) -> Network:
    alive = alive or {}
    if command is None:
        if not readings:
            raise at_fault("link", CallerError(
                "", "nothing says how its lines are told, or what they tell",
                'Say command = { topic = "yard/{line}/set", on = "1", off = "0" }, or readings = [{ topic = "pond/water" }].',
            ))  # fmt: skip
        command = {"topic": "", "on": "", "off": ""}
    for topic in (command["topic"] or LINE, report or LINE):
        if LINE not in topic:
            remedy = f"A topic of all lines has {LINE} where the line's number stands."
            error = CallerError("", f"'{topic}' is one topic for all lines", remedy)
            raise at_fault("report" if topic == report else "command", error)
    return Network(
        command["topic"], command["on"], command["off"], command.get("level", ""), report, alive.get("topic", ""),
        alive.get("here", "here"), retain, alone, readings,
    )  # fmt: skip


KIND = Kind(
    "a board behind the message broker, by topics and payloads",
    lambda board, around: BrokerLink(board, around.site.broker, around.site.name, around.secret), Network, _made, by_broker=True,
    holds=lambda _: Holds(BOARD, UNKNOWN, UNKNOWN),
)  # fmt: skip
