"""The message broker as a remote: the site's state, retained; commands, each with its outcome; alarms.

What it says and hears under ``cairnwind/<site>/`` are `TOPICS`. A command may carry an ``id``, or MQTT 5's correlation data and response topic, where its
outcome then goes too.
Retained commands are ignored: they would be carried out again at every start. But whatever stops all counts, however it comes;
taking a retained one away again is nothing. A toggle needs an id, said in a phrase too, since the broker may deliver it twice.

Commands come by a connection of their own, and so do the all-stop and ``out/<name>/off`` (whatever is said there): the broker has a
queue for each. In which order they are carried out, `cairnwind.remotes.intake` says.
"""

from __future__ import annotations

import threading
import time
from collections import OrderedDict
from collections.abc import Callable
from datetime import UTC, datetime
from typing import Any

from cairnwind.boards.facts import Broker
from cairnwind.boards.mqtt import EVENT_LASTS, OUTCOME_LASTS, Connection, slug
from cairnwind.commands.reading import names
from cairnwind.commands.table import COMMANDS
from cairnwind.core.values import jsontext
from cairnwind.core.values.errors import BoardError, CallerError
from cairnwind.remotes.desk import Desk
from cairnwind.remotes.intake import Intake, stops_all
from cairnwind.remotes.outward import ANSWER_WITHIN, Attempt, Outward, kind_of
from cairnwind.remotes.progress import Progress
from cairnwind.remotes.remote import MapRow, Remote, log
from cairnwind.remotes.twins import Twins

TOPICS = {
    "out/NAME/now": "an output's state: JSON, retained",
    "in/NAME/now": "an input's state: JSON, retained",
    "out/NAME/want": "a setting as people write it, or JSON with `setting` and whatever a claim takes; empty: release",
    "out/NAME/off": "off, whatever is said there: it waits behind no other command",
    "out/NAME/outcome": "what was decided, then its ending",
    "phrase": "a phrase",
    "phrase/outcome": "what was decided about it",
    "do/COMMAND": "any command, as JSON of what it carries; a bare text is its first field",
    "do/COMMAND/outcome": "what was decided about it",
    "all-stop/want": "anything stops, `reset` resets; empty is nothing",
    "all-stop/now": "whether all is stopped: JSON, retained",
    "all-stop/outcome": "what was decided about a stop",
    "alarm/NAME": "retained while the alarm lasts",
    "event/KIND": "what happened, each at least once with its id, also what happened while the broker was away",
    "service": "`here` as soon as commands are heard, and by the last will `gone`: retained",
    "service/hello": "by which two services of one site notice each other",
    "from/SITE": "what another site wants of this one: sealed ([sites.md](sites.md))",
    "to/SITE": "what it is told: sealed",
}
"""What is said and heard below the site's own topic, and what it is."""
PARTS = (
    ("commands-", ("out/+/want", "phrase", "do/+")),
    ("stops-", ("all-stop/want", "out/+/off")),
)
"""Connections for what others send, and what each hears of."""
REMEMBERED = 1000
"""Ids of commands that are known again, and commands whose ending is awaited."""
REPEATED = 600.0
"""Seconds for which a command with the same id and the same words is taken for the same. After that somebody has begun to
count anew."""
Seen = tuple[str, bytes, bytes]
"""Topic, id and payload."""
JSON = "application/json"
LONGEST_TOPIC = 500
RETAINED = "said at the broker, and retained there: it comes again until it is taken away"
TURN = 1.0
SETTLE = 0.01
"""Seconds before a change is told: outcomes go first, and what follows at once is told with it."""


class BrokerRemote(Remote):
    """The site at one broker: publishes its state and takes commands, by two connections."""

    kind = "broker"
    surface = "broker"

    def __init__(self, desk: Desk, broker: Broker, secret: Callable[[str], str], progress: Progress) -> None:
        super().__init__("broker", desk, [broker.key])
        self._broker, self._secret = broker, secret
        self._top = f"cairnwind/{slug(desk.site.name)}"
        self._connection: Connection | None = None
        self._wake = threading.Event()
        self._over = False
        self._lock = threading.Lock()
        self._dirty: dict[tuple[str, str], None] = {}
        self._told: dict[tuple[str, str], float] = {}
        """When a state was told last (monotonic seconds)."""
        self._again_at = time.monotonic() + broker.again / 1e9
        """When inputs are told again though they have not changed (monotonic seconds)."""
        self._values: dict[str, float] = {}
        self._alarms: set[str] = set()
        self._seen: OrderedDict[Seen, tuple[float, dict[str, Any] | None]] = OrderedDict()
        """Commands that came lately: when (monotonic seconds), and their answers."""
        self._endings: OrderedDict[str, tuple[str, str]] = OrderedDict()
        """What became of commands lately."""
        self._waiting: OrderedDict[str, tuple[str, str, bytes | None, Any]] = OrderedDict()
        """By command: topic of its outcome, response topic, correlation data, id."""
        self._intake = Intake(
            self._top,
            [output.words[0] for output in desk.site.outputs.values()],
            self._carry_out,
            self._not_taken,
        )
        self._twins = Twins()
        self._others: list[Connection] = []
        """By which commands come, and stops."""
        self._thread = threading.Thread(target=self._work, name="broker-remote", daemon=True)
        self._events = Events(self, broker, progress, secret)

    def start(self) -> None:
        """Connect, and follow what changes."""
        self._connection = connection = Connection.take(self._broker, self.desk.site.name, self._secret)
        connection.arrived.append(self._arrived)
        if self.key:
            for part, topics in PARTS:
                other = Connection.take(self._broker, self.desk.site.name, self._secret, part)
                for each in topics:
                    other.follow(f"{self._top}/{each}", self._intake.sort, left=each == "all-stop/want")
                other.arrived.append(connection.here_again)
                self._others.append(other)
            connection.beside = tuple(self._others)
            self._intake.start()
        listens = (
            self._others[0] if self._others else connection
        )  # not what boards report by, where there is another
        listens.follow(f"{self._top}/service/hello", lambda message: self.guarded(self._hello, message))
        self.desk.listen(self._listen)
        self._thread.start()
        if self._broker.tells:
            self._events.start()
        connection.ready()
        if connection.up.is_set():
            self._arrived()

    def stop(self) -> None:
        """Tell what is last, and go."""
        self.desk.ignore(self._listen)
        if self._connection is None:
            return
        self._over = True
        self._wake.set()
        if self._thread.is_alive():
            self._thread.join(2)
        self._intake.stop()
        for other in self._others:
            other.give()
        self._others.clear()
        if self._broker.tells:
            self._events.stop()
        if self._arrived in self._connection.arrived:
            self._connection.arrived.remove(self._arrived)
        self._connection.give()
        self._connection = None

    def form(self) -> dict[str, Any]:
        """How it fares."""
        connection = self._connection
        self.up = connection is not None and connection.up.is_set()
        self.trouble = "" if self.up or connection is None else connection.away().sentence
        if self.up and (where := self._twins.where):
            self.trouble = f"Another service of this site is at this broker, on {where}: both carry commands out. End one of them"
        return super().form()

    def facts(self) -> dict[str, Any]:
        """Where it is."""
        return {
            "address": f"{self._broker.host}:{self._broker.port}",
            "tls": self._broker.secure,
            "version": self._broker.version,
            "topics": f"{self._top}/",
            **(self._events.facts() if self._broker.tells else {}),
        }

    def map(self) -> list[MapRow]:
        """Its topics."""
        site, rows = self.desk.site, []
        for name in site.outputs:
            rows.append(MapRow(f"{self._top}/out/{name}/now", name, "its state, retained"))
            if self.key:
                rows.append(MapRow(f"{self._top}/out/{name}/want", name, "commands"))
                rows.append(MapRow(f"{self._top}/out/{name}/off", name, "off, by a way of its own"))
                rows.append(MapRow(f"{self._top}/out/{name}/outcome", name, "what became of them"))
        rows += [MapRow(f"{self._top}/in/{name}/now", name, "its state, retained") for name in site.inputs]
        if self.key:
            rows.append(MapRow(f"{self._top}/phrase", "", "phrases"))
            rows.append(MapRow(f"{self._top}/all-stop/want", "", "stop, or reset"))
            rows += [MapRow(f"{self._top}/do/{word}", "", kind.help()) for word, kind in COMMANDS.items()]
        rows += [
            MapRow(f"{self._top}/event/{kind}", "", "what happened, with an id")
            for kind in self._broker.events
        ]
        return [*rows, MapRow(f"{self._top}/service", "", "'here', or 'gone'")]

    def event(self, kind: str, form: dict[str, Any]) -> None:
        """Tell what happened, and see that the broker has it. Raises `BoardError`."""
        connection, payload = self._connection, jsontext.write(form)
        if connection is None:
            raise BoardError("no-answer", "The message broker is left.", "It is told after the next start.")
        connection.publish(
            f"{self._top}/event/{kind}",
            payload.decode(),
            within=ANSWER_WITHIN,
            lasts=EVENT_LASTS,
            content=JSON,
        )
        self.traffic.add("sent", payload, f"event/{kind} {payload.decode()[:300]}")

    # --- in: called by the connection's thread ----------------------------------------------------------------

    def _hello(self, message: Any) -> None:
        """Whoever says that it is this site's service too."""
        if where := self._twins.hear(bytes(message.payload)):
            log.warning("another service of this site is at this broker, on %s", where)
            self.traffic.add("lost", b"", f"another service of this site is at this broker, on {where}")
            self._wake.set()

    # --- in: called by the thread that carries out ------------------------------------------------------------

    def _carry_out(self, message: Any) -> None:
        self.guarded(self._came, message)

    def _not_taken(self, message: Any, why: str) -> None:
        """Answer one that waited for too long, or was too much."""
        self.traffic.add("lost", b"", f"{message.topic[len(self._top) + 1 :]}: {why}")
        back, response, correlation = self._ways_back(message)
        try:
            id = _read(bytes(message.payload).decode("utf-8", "replace"), "").get("id")
        except CallerError:
            id = None
        error = CallerError("busy", why, "Send fewer.")
        self._answer(_refusal(error), back, response, correlation, id, None)

    def _ways_back(self, message: Any) -> tuple[str, str, bytes | None]:
        """Where the outcome of a command goes: its topic, the topic that it asks for, and what it is to carry."""
        topic = message.topic[len(self._top) + 1 :]
        properties = getattr(message, "properties", None)
        response: str = getattr(properties, "ResponseTopic", None) or ""
        if not self._may_answer(response):
            response = ""  # an answer is no command, nobody else's state, and no word of a board
        kind, _, rest = topic.partition("/")
        name = rest.rpartition("/")[0] if kind == "out" else ""
        back = f"{self._top}/" + {
            "out": f"out/{name}/outcome", "all-stop": "all-stop/outcome", "do": f"do/{rest}/outcome"
        }.get(kind, "phrase/outcome")  # fmt: skip
        return back, response, getattr(properties, "CorrelationData", None)

    def _may_answer(self, topic: str) -> bool:
        if not topic.isprintable() or topic.startswith("$") or topic.partition("/")[0] == "cairnwind":
            return False
        if "+" in topic or "#" in topic or len(topic) > LONGEST_TOPIC:
            return False
        boards = (board.facts for board in self.desk.site.boards.values())
        return not any(facts.owns(topic) for facts in boards if hasattr(facts, "owns"))

    def _came(self, message: Any) -> None:
        topic, payload = message.topic[len(self._top) + 1 :], bytes(message.payload)
        text = payload.decode("utf-8", "replace")
        self.traffic.add("got", payload, f"{topic} {text[:300]}")
        back, response, correlation = self._ways_back(message)
        kind, _, rest = topic.partition("/")
        name = rest.rpartition("/")[0] if kind == "out" else ""
        stopping = stops_all(topic, payload)
        if kind == "all-stop" and not text.strip():
            return  # one that was left there is taken away
        if stopping and message.retain:
            self.desk.give(
                self.source(), "stop", {"reason": RETAINED},
                lambda form: self._answer(form, back, response, correlation, None, None),
            )  # fmt: skip
            return
        if message.retain:
            self.traffic.add("lost", b"", f"{topic}: a retained command is ignored")
            if self._broker.version == "5":  # it comes just now; else it may have been there for years
                error = CallerError(
                    "bad-value",
                    "A retained command is ignored: it would be carried out again at every start.",
                    "Send it without 'retain'.",
                )
                self._answer(_refusal(error), back, response, correlation, None, None)
            return
        try:
            body = _read(
                text,
                _usual(rest) if kind == "do" else {"out": "setting", "phrase": "phrase"}.get(kind, "want"),
            )
        except CallerError as error:
            if kind != "all-stop":
                self._answer(_refusal(error), back, response, correlation, None, None)
                return
            body = {"want": "stop"}  # whatever is said there and is no reset
        id = body.pop("id", None)
        mark = correlation or (str(id).encode() if id is not None else None)
        # a stop counts as often as somebody says so
        key = (topic, mark, payload) if mark is not None and not stopping else None
        if key is not None:
            now = time.monotonic()
            came, known = self._seen.pop(key, (-REPEATED, None))
            if now - came < REPEATED:
                self._seen[key] = came, known
                if known is not None:
                    self._answer(known, back, response, correlation, id, None)
                return
            self._seen[key] = now, None
            while len(self._seen) > REMEMBERED:
                self._seen.popitem(last=False)

        def told(form: dict[str, Any]) -> None:
            self._answer(form, back, response, correlation, id, key)

        source = self.source()
        self.desk.uses(self.key, "the broker")
        once = mark is not None
        if kind == "out" and rest.endswith("/off"):
            self.desk.give(source, "turn", {"output": name, "setting": "off"}, told)
        elif kind == "do":
            self.desk.give(source, rest, body, told, once=once)
        elif kind == "phrase":
            self.desk.give(source, "do", {"phrase": str(body.get("phrase", ""))}, told, once=once)
        elif kind == "all-stop":
            if body.get("want") == "reset":
                self.desk.give(source, "reset_stop", {}, told)
            else:
                self.desk.give(source, "stop", {"reason": str(body.get("reason", ""))}, told)
        elif not text.strip():
            self.desk.give(source, "release", {"output": name}, told)
        else:
            self.desk.give(source, "turn", {**body, "output": name}, told, once=once)

    def _answer(
        self, form: dict[str, Any], back: str, response: str, correlation: bytes | None, id: Any, key: Seen | None
    ) -> None:  # fmt: skip
        setting = form.get("setting") or {}
        said = {
            "id": id, "outcome": form["outcome"], "reason": form["reason"], "remedy": form["remedy"], "output": form["output"],
            "setting": setting.get("words"), "sequence": form["sequence"], "command": form["command"],
        }  # fmt: skip
        if key is not None:
            self._seen[key] = time.monotonic(), form
        if form["outcome"] == "driving" and form["command"]:
            with self._lock:
                self._waiting[form["command"]] = (back, response, correlation, id)
                while len(self._waiting) > REMEMBERED:
                    self._waiting.popitem(last=False)
                early = (
                    form["command"] in self._endings
                )  # a board may answer before the decision is committed
        else:
            early = False
        self._tell_back(said, back, response, correlation)
        if early:
            with self._lock:
                self._dirty["ended", form["command"]] = None
            self._wake.set()

    def _tell_back(self, said: dict[str, Any], back: str, response: str, correlation: bytes | None) -> None:
        self._send(back, said, correlation=correlation)
        if response:
            self._send(response, said, correlation=correlation)

    # --- out ------------------------------------------------------------------------------------------------

    def _listen(self, changed: list[tuple[str, str]], ended: list[Any]) -> None:
        """Called by the engine's thread: note, and wake."""
        with self._lock:
            self._dirty.update(dict.fromkeys(changed))
            for each in ended:
                self._endings[each.command] = (each.ending, each.text)
                if each.command in self._waiting:
                    self._dirty["ended", each.command] = None
            while len(self._endings) > REMEMBERED:
                self._endings.popitem(last=False)
        self._wake.set()

    def _arrived(self) -> None:
        """The broker is there (again): everything is told anew."""
        site = self.desk.site
        with self._lock:
            self._again_at = time.monotonic() + self._broker.again / 1e9
            self._told.clear()
            self._values.clear()
            self._dirty.update(
                dict.fromkeys(
                    [("output", name) for name in site.outputs]
                    + [("input", name) for name in site.inputs]
                    + [("site", "")]
                )
            )
            self._twins.again()
        self._wake.set()
        self._events.again()

    def _work(self) -> None:
        later: dict[tuple[str, str], None] = {}
        while not self._over:
            self._wake.wait(self._nap(later))
            self._wake.clear()
            if self._twins.due and self._connection is not None and self._connection.up.is_set():
                self._send(f"{self._top}/service/hello", self._twins.greeting())
            time.sleep(SETTLE)
            with self._lock:
                dirty, self._dirty = {**later, **self._dirty}, {}
            if time.monotonic() >= self._again_at:
                self._again_at = time.monotonic() + self._broker.again / 1e9
                dirty |= dict.fromkeys(("input", name) for name in self.desk.site.inputs)
            later = {}
            for kind, name in dirty:
                if kind == "ended":
                    self.guarded(self._tell_ending, name)
                elif self._broker.tells and self._connection is not None and self._connection.up.is_set():
                    if not self._tell(kind, name):
                        later[kind, name] = None

    def _tell_ending(self, command: str) -> None:
        """What became of a command, once: a second ending, or one of a command too long ago, is for nobody."""
        with self._lock:
            ending, text = self._endings.pop(command, ("", ""))
            asked = self._waiting.pop(command, None)
        if asked is not None and ending:
            back, response, correlation, id = asked
            form = {"id": id, "command": command, "ending": ending, "text": text}
            self._tell_back(form, back, response, correlation)

    def _nap(self, later: dict[tuple[str, str], None]) -> float:
        now = time.monotonic()
        return min(TURN, max(0.005, min([self._again_at, *map(self._due, later)]) - now))

    def _due(self, what: tuple[str, str]) -> float:
        """When a state may be told again: values that move wait longer than what is switched."""
        kind, name = what
        input = self.desk.site.inputs.get(name) if kind == "input" else None
        every = self._broker.readings if input is not None and input.valued else self._broker.every
        return self._told.get(what, 0.0) + every / 1e9

    def _tell(self, kind: str, name: str) -> bool:
        """Tell a state; False if it is too early for that."""
        now = time.monotonic()
        what = (kind, name)
        if kind == "output":
            if now < self._due(what):
                return False
            found = self.desk.output(name)
            if found is not None:
                shown = found["confirmed"] or {"on": None, "words": "unknown"}
                form = {
                    **shown,
                    "state": found["state"],
                    "wanted": found["wanted"]["words"],
                    "by": found["by"],
                    "reason": found["reason"],
                    "since": found["since"],
                }
                self._send(f"{self._top}/out/{name}/now", form, retain=True)
            else:  # it has left the site
                self._send(f"{self._top}/out/{name}/now", None, retain=True)
        elif kind == "input":
            found, input = self.desk.input(name), self.desk.site.inputs.get(name)
            if found is None or input is None:
                self._send(f"{self._top}/in/{name}/now", None, retain=True)
                return True
            value = found["value"] if input.valued else None
            moved = (
                value is not None
                and self._broker.band > 0
                and abs(value - self._values.get(name, value)) >= self._broker.band
            )
            if now < self._due(what) and not moved:
                return False
            if value is not None:
                self._values[name] = value
            form = {"state": found["state"], "active": found["active"], "since": found["since"]}
            if input.valued:
                form = {"state": found["state"], "value": found["value"], "unit": found["unit"]}
            form["at"] = datetime.now(UTC).isoformat(timespec="milliseconds").replace("+00:00", "Z")
            self._send(f"{self._top}/in/{name}/now", form, retain=True)
        elif kind == "site":
            site = self.desk.site_now()
            self._send(f"{self._top}/all-stop/now", site["all_stop"], retain=True)
            raised = {each["name"]: each for each in site["alarms"]}
            for gone in self._alarms - raised.keys():
                self._send(f"{self._top}/alarm/{slug(gone)}", None, retain=True)
            for each in raised.values():
                self._send(f"{self._top}/alarm/{slug(each['name'])}", each, retain=True)
            self._alarms = set(raised)
        self._told[what] = now
        return True

    def _send(self, topic: str, form: Any, *, retain: bool = False, correlation: bytes | None = None) -> None:
        payload = "" if form is None else jsontext.write(form).decode()
        connection = self._connection
        lasts, content = 0 if retain else OUTCOME_LASTS, "" if form is None else JSON
        try:
            if connection is not None:
                connection.publish(
                    topic, payload, retain=retain, correlation=correlation, lasts=lasts, content=content
                )
                self.traffic.add(
                    "sent", payload.encode(), f"{topic.removeprefix(self._top + '/')} {payload[:300]}"
                )
        except BoardError as error:
            self.traffic.add("lost", payload.encode(), f"{topic}: {error.sentence}")


class Events(Outward):
    """What happens, told at the broker: a part of its remote, whose wire it shares."""

    def __init__(
        self, remote: BrokerRemote, told: Broker, progress: Progress, secret: Callable[[str], str]
    ) -> None:
        super().__init__(remote.desk, told, progress, secret)
        self._remote = remote
        self.traffic = remote.traffic

    def tell(self, row: Any, form: dict[str, Any]) -> Attempt:
        """One message."""
        try:
            self._remote.event(kind_of(row), form)
        except BoardError as error:
            return Attempt(error.sentence)
        return Attempt()


def _read(text: str, usual: str) -> dict[str, Any]:
    """A payload: JSON, or a bare text for the usual member. Raises `CallerError` (``bad-body``)."""
    text = text.strip()
    if text.startswith("{"):
        try:
            found: dict[str, Any] = jsontext.read(text)
        except ValueError as error:
            raise CallerError(
                "bad-body", f"The message is not valid JSON: {error}.", "Send an object, or a plain setting."
            ) from None
        return found
    return {usual: text} if usual else {}


def _usual(word: str) -> str:
    """The member of a command that a bare text is for: its first."""
    kind = COMMANDS.get(word)
    return next(iter(names(kind)), "") if kind is not None else ""


def _refusal(error: CallerError) -> dict[str, Any]:
    return {
        "outcome": "refused",
        "reason": error.sentence.rstrip("."),
        "remedy": error.remedy,
        "output": None,
        "setting": None,
        "sequence": 0,
        "command": None,
    }
