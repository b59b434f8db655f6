"""Another site as a board: its outputs and inputs, by the broker that both are at.

What this site wants of them is a claim there, by the rights of a key there, through the interlocks that are there; it lasts by a lease that both sides
watch. What is confirmed here was confirmed there. What is refused there is refused here, with the reason. When nothing has been heard for as
long as the lease, the board is lost here, and what it wanted has ended there: neither side needs the other, or the broker, to be safe.
"""

from __future__ import annotations

import secrets
import time
from collections import deque
from collections.abc import Callable, Collection, Mapping, Sequence
from typing import Any, NamedTuple

from cairnwind.boards import betweensites as between
from cairnwind.boards import wire
from cairnwind.boards.betweensites import Age, NotTheirs, Sealed
from cairnwind.boards.facts import Broker
from cairnwind.boards.kinds import BOARD, Holds, Kind, Share
from cairnwind.boards.link import Seen
from cairnwind.boards.mqtt import Connection, slug
from cairnwind.boards.wire import Put
from cairnwind.boards.worker import Worker
from cairnwind.core.facts import events as ev
from cairnwind.core.facts.hardware import Board
from cairnwind.core.values import entries
from cairnwind.core.values.errors import BoardError, CallerError
from cairnwind.core.values.fact import fact
from cairnwind.core.values.keys import written
from cairnwind.core.values.quantities import NS, duration, show_duration
from cairnwind.core.values.settings import FULL

REACHED_WITHIN, ANSWERED_WITHIN, HOME_WITHIN = 2.0, 2.0, 2.0
"""Seconds for the broker, for the other site, and until all of it is confirmed at safe."""
CLOSE = FULL // 200
"""Parts by which a level may differ and be the same: other sites have other steps."""
MOST_WAITING, MOST_TAKEN = 1000, 2000
WAITS = ("driving", "running")
"""States in which the other site is not done yet."""


def _takes(value: object) -> tuple[str, ...]:
    if not isinstance(value, list) or not value or not all(isinstance(each, str) and each for each in value):
        raise CallerError("", "this is no list of names.", 'Write the names there: takes = ["pump", "gate"].')
    if len(value) > MOST_TAKEN:
        raise CallerError("", f"these are {len(value)} names.", f"Take at most {MOST_TAKEN} of one site.")
    twice = next((each for each in value if value.count(each) > 1), "")
    if twice:
        raise CallerError("", f"'{twice}' is named twice.", "Name each once.")
    return tuple(value)


def _lease(value: object) -> int:
    span = duration(value)
    if not between.SHORTEST_LEASE <= span <= between.LONGEST_LEASE:
        raise CallerError(
            "",
            f"a lease of '{value}' is out of range.",
            f"Give {show_duration(between.SHORTEST_LEASE)} to {show_duration(between.LONGEST_LEASE)}.",
        )
    return span


@fact
class OtherSite:
    """Another site, and what of it is used here."""

    site: str = written(
        'the other site\'s name, as its file says it: `"Yard House"`',
        entries.text,
        needed='Say which: site = "Yard House".',
    )
    takes: tuple[str, ...] = written(
        "its outputs and inputs that are used here, by their names there; each is a line, and a pin is written `board:name`",
        _takes,
        needed='Say which of its outputs and inputs are used: takes = ["pump", "gate"].',
    )
    secret: str = written(
        "the name of the words that both sites keep secret: a file of the state folder, or an environment variable",
        entries.text,
        needed='Name the secret that both sites have: secret = "yard-words".',
    )
    lease: int = written(
        "how long what is wanted here lasts there when nothing is heard any more, and after which it is lost here",
        _lease,
        default=3 * NS,
        unsaid='"3 s"',
    )
    """Nanoseconds."""
    serves = frozenset({"output", "contact", "analogue"})
    wired = False
    functions = frozenset({"analogue"})
    decides = True

    @property
    def called(self) -> tuple[str, ...]:
        """What its lines are called."""
        return self.takes

    def dims(self, line: int) -> bool:
        """What can dim there can dim here; what cannot says so."""
        return True


class _Want(NamedTuple):
    """What is wanted of a line there."""

    number: int
    value: Any
    """A setting as the other site reads it; None: nothing any more."""
    who: int = 0
    """0: a rule; 1: somebody; 2: somebody who asks for it now, so that it is not to begin by itself later."""
    causes: tuple[str, ...] = ()


class SiteLink(Worker):
    """The link to one other site."""

    def __init__(self, board: Board, broker: Broker, site: str, secret: Callable[[str], str] | None) -> None:
        super().__init__(board)
        assert isinstance(board.facts, OtherSite)
        self.facts, self._broker, self._site, self._secret = board.facts, broker, site, secret
        self._lines = {name: line for line, name in enumerate(self.facts.takes)}
        self._lease = self.facts.lease / NS
        self._connection: Connection | None = None
        self._came: deque[bytes] = deque(maxlen=MOST_WAITING)
        self._sealed: Sealed | None = None
        self._begin("", "")

    def _begin(self, hello: str, session: str) -> None:
        """Nothing is known of the other site yet."""
        self._hello, self._talk = hello, session
        self._age = Age()
        self._heard_at = self._said_at = 0.0
        """When the newest that came was said, and when we said something last (monotonic seconds)."""
        self._number = self._got = self._whole = 0
        """The number of what we sent last; of what came last; up to which none was missed."""
        self._numbered = 0
        self._wants: dict[int, _Want] = {}
        """By line: what it was told last."""
        self._are: dict[int, dict[str, Any]] = {}
        """By line: its newest picture."""
        self._orders: dict[int, ev.Drive] = {}
        """By line: an order of which nothing is known yet, or that may still come true."""
        self._refused: dict[int, str] = {}
        """By line: why its order was said to have failed, so that it is said once."""
        self.delay: float | None = None
        """Seconds from an order, or a sign of life, to its answer."""
        self._asked: dict[int, float] = {}

    # --- to and fro ---------------------------------------------------------------------------------------

    def connect(self) -> None:
        """Reach the broker, and the other site by it. Raises `BoardError`."""
        them = self.facts.site
        if slug(them) == slug(self._site):
            raise BoardError("refused", f"'{them}' is this site itself", "Name another one.")
        try:
            words = between.words(self._secret or (lambda name: ""), self.facts.secret)
            self._connection = connection = Connection.take(
                self._broker, self._site, self._secret, between.PART
            )
        except CallerError as error:  # or its certificates cannot be read
            raise BoardError(error.code, error.sentence.rstrip("."), error.remedy) from None
        asks, tells = between.topics(them, self._site)
        self._sealed = Sealed(words, asks, tells)
        end = time.monotonic() + REACHED_WITHIN
        while not connection.up.wait(0.05):
            if self.closed or time.monotonic() > end:
                raise connection.away()
        self._came.clear()
        self._begin(secrets.token_hex(8), "")
        connection.subscribe(tells, self._take)
        self._greet()

    def _greet(self) -> None:
        """Say who we are and what we use, until that is answered."""
        form = {
            "hello": self._hello, "site": self._site, "takes": list(self.facts.takes), "lease": self._lease
        }  # fmt: skip
        end, again = time.monotonic() + ANSWERED_WITHIN, 0.0
        while not self._talk:
            now = time.monotonic()
            if self.closed or now > end:
                raise BoardError(
                    "no-answer",
                    f"{self.facts.site} does not answer at the broker",
                    f"See that it runs, and has [remote.site.…] site = '{self._site}'.",
                )
            if now >= again:
                self._send(form)
                again = now + ANSWERED_WITHIN / 4
            self._hear(0.05)
        self._heard_at = time.monotonic()

    def disconnect(self) -> None:
        """Say that we go, and hear no more of it."""
        connection, self._connection = self._connection, None
        if connection is None:
            return
        if self._talk:
            try:
                self._connection = connection
                self._say(bye=True)
            except BoardError:
                pass  # the lease ends it
            finally:
                self._connection = None
        connection.unsubscribe(self._take)
        connection.give()
        self._begin("", "")

    def _take(self, topic: str, payload: bytes, left: bool) -> None:
        if not left:
            self._came.append(payload)
            self.nudge()

    def _send(self, form: dict[str, Any]) -> None:
        assert self._connection is not None
        assert self._sealed is not None
        payload = self._sealed.write(form)
        self._connection.publish(self._sealed.out, payload, lasts=max(1, round(self._lease)))
        self.traffic.add("sent", payload, payload.partition(b" ")[2].decode()[:300])

    def _say(self, **more: Any) -> None:
        """One message of the session, with all orders that are not answered yet."""
        self._number += 1
        open_ = {
            self.facts.takes[line]: list(want)
            for line, want in self._wants.items()
            if self._are.get(line, {}).get("of", -1) < want.number
        }
        form = {
            "in": self._talk, "n": self._number, "at": between.now_ms(), "heard": self._whole
        }  # fmt: skip
        self._said_at = self._asked[self._number] = time.monotonic()
        if len(self._asked) > 100:
            self._asked = {self._number: self._said_at}
        self._send(form | ({"wants": open_} if open_ else {}) | more)

    def _hear(self, seconds: float) -> None:
        if seconds:
            self.rest(seconds)
        while self._came:
            payload = self._came.popleft()
            assert self._sealed is not None
            try:
                form = self._sealed.read(payload)
            except NotTheirs as error:
                self.traffic.add("lost", payload, f"not from {self.facts.site}: {error}")
                continue
            self.traffic.add("got", payload, payload.partition(b" ")[2].decode()[:300])
            if "hello" in form:
                self._answered(form)
            elif form.get("in") == self._talk and self._talk:
                self._told(form)

    def _answered(self, form: dict[str, Any]) -> None:
        """An answer to our greeting."""
        if form["hello"] != self._hello or self._talk:
            return
        if "in" not in form:
            why = f"refused at {self.facts.site}: {form.get('why', 'it does not say why')}"
            raise BoardError("refused", why.rstrip("."), str(form.get("remedy", "")))
        self._talk = str(form["in"])

    def _told(self, form: dict[str, Any]) -> None:
        number, after = form.get("n"), form.get("after")
        if not isinstance(number, int) or not isinstance(after, int) or number <= self._got:
            return
        if form.get("gone"):
            raise BoardError("no-answer", f"{self.facts.site} ended it: {form['gone']}", "It is tried again.")
        self._got = number
        if after <= self._whole:
            self._whole = number
        self._heard_at = max(self._heard_at, self._age.said(form.get("at")))
        asked = self._asked.pop(form.get("of", 0), None)
        if asked is not None:
            self.delay = time.monotonic() - asked
        for name, picture in form.get("are", {}).items():
            line = self._lines.get(name)
            if line is not None and isinstance(picture, dict):
                self._are[line] = picture
                self._changed(line)
        self._repeat()

    # --- what they show -----------------------------------------------------------------------------------

    def _changed(self, line: int) -> None:
        """Something else is known of a line."""
        picture = self._are[line]
        if line in self.outputs:
            if self._up:
                self._settle(line)
        elif line in self.inputs:
            self._show(line, picture)

    def _show(self, line: int, picture: Mapping[str, Any]) -> None:
        """An input, or an output there that is looked at here."""
        input = self.inputs[line]
        causes = between.at_home(picture.get("causes"), self._site)
        if picture.get("no") is not None:
            self.unknown(line)
        elif input.analogue:
            value = picture.get("value")
            if isinstance(value, bool) or not isinstance(value, int | float):
                self.unknown(line)
            else:
                self.number(line, float(value))
        else:
            active = picture.get("active")
            if active is None and "is" in picture and picture["is"] is not None:
                active = picture["is"] > 0
            if isinstance(active, bool):
                self.seen(line, active, causes=causes)
            else:
                self.unknown(line)

    def _repeat(self) -> None:
        """Whoever has to hear that an input lives hears it."""
        for line, input in self.inputs.items():
            if input.repeat and line in self._are:
                self._show(line, self._are[line])

    def first_look(self) -> None:
        """What all inputs show."""
        for line in self.inputs:
            if line in self._are:
                self._show(line, self._are[line])
            else:
                self.unknown(line)

    def _level(self, line: int) -> int | None:
        """What an output is confirmed at there, in parts per million."""
        level = self._are.get(line, {}).get("is")
        return (
            level if isinstance(level, int) and not isinstance(level, bool) and 0 <= level <= FULL else None
        )

    def _refusal(self, why: str) -> BoardError:
        return BoardError("refused", f"refused at {self.facts.site}: {why.rstrip('.')}", "")

    # --- what they are told -------------------------------------------------------------------------------

    def _tell(
        self, levels: Mapping[int, int], why: Mapping[int, tuple[int, tuple[str, ...]]] | None = None
    ) -> None:
        """Want lines at levels there, and say so: ``why`` is who wants it, and which reflexes led to it."""
        for line, parts in levels.items():
            value: Any = "off" if not parts else "on" if parts == FULL else {"level": parts * 100 / FULL}
            before = self._wants.get(line)
            if (
                before is not None
                and before.value == value
                and self._are.get(line, {}).get("of") == before.number
            ):
                if self._level(line) is not None and abs((self._level(line) or 0) - parts) <= CLOSE:
                    continue  # it is so, and is kept so
            self._numbered += 1
            self._wants[line] = _Want(self._numbered, value, *(why or {}).get(line, (0, ())))
            self._refused.pop(line, None)
        if self._talk:
            self._say()

    def put(self, levels: Mapping[int, Put]) -> Mapping[int, int]:
        """Want these, and wait a moment until they are confirmed there; returns those that are."""
        wanted = {line: each.parts for line, each in levels.items()}
        self._tell(wanted)
        end = time.monotonic() + HOME_WITHIN
        while not self.closed and time.monotonic() < end:
            left = [line for line, parts in wanted.items() if self._fares(line, parts) not in (True, False)]
            if not left:
                break
            self._hear(0.05)
            self._keep()
        return {line: parts for line, parts in wanted.items() if self._fares(line, parts) is True}

    def _put(self, orders: Sequence[ev.Drive]) -> tuple[dict[int, int], dict[str, BoardError]]:
        """All at once; what is not confirmed there fails by itself."""
        lines = {self._named[order.output].pin.line: order for order in orders}
        shown = self.put(
            {
                line: wire.to_pins(self._named[order.output], order.setting)[line]
                for line, order in lines.items()
            }
        )
        failed = {
            order.output: BoardError(
                "no-answer", self._why(line) or f"{self.facts.site} has not confirmed it", ""
            )
            for line, order in lines.items()
            if line not in shown
        }
        return dict(shown), failed

    def _carry_out(self, orders: list[ev.Drive]) -> None:
        """Say what is wanted, and wait for nothing: answers are told as they come."""
        levels, why = {}, {}
        for order in orders:
            line = self._named[order.output].pin.line
            self._orders[line] = order
            self._last.pop(line, None)
            levels[line] = wire.to_pin(self._named[order.output], order.setting)
            why[line] = order.someone + order.now, tuple(between.abroad(order.causes, self._site))
        if not levels:
            return
        self._tell(levels, why)
        for line in levels:
            self._settle(line)

    def _fares(self, line: int, parts: int) -> bool | str | None:
        """True: it is confirmed there as it is wanted here. A text: why it is not, and may yet be. False: it never will be. None: nobody knows yet."""
        picture, number = self._are.get(line, {}), self._wants[line].number
        if picture.get("no") is not None and picture.get("of", -1) >= number:
            return False
        if picture.get("of", -1) < number:
            return None
        level = self._level(line)
        if level is not None and abs(level - parts) <= CLOSE:
            return True
        if picture.get("by"):
            return f"{picture['by']} leads there"
        if picture.get("state") == "blocked":
            return False
        if picture.get("state") in WAITS:
            return None
        return str(picture.get("why") or picture.get("state") or "it is not confirmed there")

    def _why(self, line: int) -> str:
        picture = self._are.get(line, {})
        by = f"{picture['by']} leads" if picture.get("by") else ""
        why = str(picture.get("no") or by or picture.get("why") or "").rstrip(".")
        return f"at {self.facts.site}: {why}" if why else ""

    def _settle(self, line: int) -> None:
        """Say what has become of an order, or that a line is not as it was confirmed."""
        output = self.outputs[line]
        order = self._orders.get(line)
        if order is None:
            last, level = self._last.get(line), self._level(line)
            if last is not None and (level is None or abs(level - last[1]) > CLOSE):
                self._stray(line, last[0], level)
            return
        parts = wire.to_pin(output, order.setting)
        found = self._fares(line, parts)
        if found is None:
            return
        if found is True:
            del self._orders[line]
            self._refused.pop(line, None)
            self._last[line] = order, parts
            self._report(self._confirmed(order))
            return
        said, over = self._reason(line, found)
        if self._refused.get(line) == f"{order.generation} {said}":
            return
        self._refused[line] = f"{order.generation} {said}"
        self.traffic.add("lost", b"", f"{order.output}: {said}")
        self._deviates(line, order, said, refused=found is False, over=over)

    def _deviates(self, line: int, order: ev.Drive, said: str, *, refused: bool, over: bool) -> None:
        """It is not what it was told: what it is, as far as that is known, and why."""
        level, at = self._level(line), self.clock()
        if level is None:
            self._report(ev.Failed(at, order.output, order.generation, said, refused, over))
            return
        shown = wire.from_pins(self.outputs[line], {line: level})
        self._report(
            ev.Confirmed(at, order.output, order.generation, shown, self.confirms, said, refused, over)
        )

    def _reason(self, line: int, found: bool | str) -> tuple[str, bool]:
        """Why a line is not as it is wanted, in words; and whether what was wanted has ended there."""
        picture = self._are[line]
        if isinstance(found, str):
            text, remedy = f"it waits at {self.facts.site}: {found.rstrip('.')}", ""
        else:
            why = str(picture.get("no") or picture.get("why") or "it does not say why")
            text, remedy = self._refusal(why).sentence, str(picture.get("remedy") or "")
        return f"{text}. {remedy}".strip().rstrip("."), bool(picture.get("over"))

    def _stray(self, line: int, order: ev.Drive, level: int | None) -> None:
        """It was confirmed, and is something else now."""
        if level is None:
            del self._last[line]
            why = self._why(line) or f"at {self.facts.site}: {self._are[line].get('state') or 'nobody knows'}"
            self._deviates(line, order, why.rstrip("."), refused=False, over=False)
            return
        found = self._fares(line, wire.to_pin(self.outputs[line], order.setting))
        said, over = self._reason(line, found) if isinstance(found, str) or found is False else ("", False)
        if said:  # it may still come true
            self._orders[line] = order
            del self._last[line]
        else:
            self._last[line] = order, level
        self._deviates(line, order, said, refused=found is False, over=over)

    def adopt(self, come: Collection[int], gone: Collection[int]) -> None:
        """What nobody has any more is let go there."""
        for line in {*come, *gone}:
            self._orders.pop(line, None)
            self._refused.pop(line, None)
        for line in gone:
            if line in self._wants:
                self._numbered += 1
                self._wants[line] = _Want(self._numbered, None)
        if gone:
            self._say()
        for line in come:
            if line in self.inputs and line in self._are:
                self.heard.shown.pop(line, None)

    def survey(self) -> Mapping[int, Seen]:
        """What is known of its lines."""
        found = dict(super().survey())
        for name, line in self._lines.items():
            level = self._level(line)
            known = found.get(line, Seen(level))
            found[line] = known._replace(title=name, functions=self.facts.functions, trouble=self._why(line))
        return found

    def fares(self) -> dict[str, Any]:
        """How long an answer takes (milliseconds), and by name there what is amiss with each; may be asked by any thread."""
        delay = self.delay
        return {
            "delay": None if delay is None else round(delay * 1000, 1),
            "troubles": {name: self._why(line) for name, line in self._lines.items()},
        }

    # --- the thread ---------------------------------------------------------------------------------------

    def _keep(self) -> None:
        """Say that we are here; raise that the other side is not."""
        now = time.monotonic()
        if now - self._heard_at > self._lease:
            raise BoardError(
                "no-answer",
                f"nothing was heard of {self.facts.site} for {self._lease:g} s",
                "See to the broker, and to that site.",
            )
        if now - self._said_at >= self._lease / 3 and self.fresh():
            self._say()

    def poll(self, seconds: float) -> None:
        """Take what has come, and keep the lease."""
        self._hear(min(seconds, self._lease / 6))
        if self._connection is not None and not self._connection.up.is_set():
            if time.monotonic() - self._heard_at > self._lease / 2:
                raise self._connection.away()
        else:
            self._keep()
        self.traffic.rounds += 1


def _shares(its: OtherSite) -> Share | None:
    """A site is one board: two would be two takers of one name."""
    return Share(
        f"site {slug(its.site)}", "that site", key="site", remedy="Take all that is used of it by one board."
    )


def _holds(its: OtherSite) -> Holds:
    return Holds(BOARD, BOARD, BOARD, "its lease there")


KIND = Kind(
    "outputs and inputs of another Cairnwind site, by the broker that both are at",
    lambda board, around: SiteLink(board, around.site.broker, around.site.name, around.secret), OtherSite,
    lambda **values: OtherSite(**values), lines=lambda its: len(its.takes) if its is not None else 1, by_broker=True,
    shares=_shares, holds=_holds,
)  # fmt: skip
