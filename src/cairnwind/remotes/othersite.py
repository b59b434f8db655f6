"""Another site that uses outputs and inputs of ours: what it wants is a claim here, by the rights of a key here, and lasts by its lease.

What the two say to each other is in `cairnwind.boards.betweensites`. All of it is taken and told by one thread; a lease that was not kept ends
all that its holder wants in one go. The engine has a longer lease of its own on each claim, should this thread ever stand still.
"""

from __future__ import annotations

import contextlib
import secrets
import threading
import time
from collections import OrderedDict, deque
from collections.abc import Callable
from typing import Any

from cairnwind.boards import betweensites as between
from cairnwind.boards.betweensites import Age, NotTheirs, Sealed
from cairnwind.boards.facts import Broker
from cairnwind.boards.mqtt import Connection
from cairnwind.core.values.errors import BoardError
from cairnwind.core.values.quantities import NS
from cairnwind.core.values.settings import FULL, Level
from cairnwind.remotes.desk import Desk
from cairnwind.remotes.remote import MapRow, Remote, log
from cairnwind.site import remotes as facts

ENGINE = 3.0
"""How many leases a claim lasts in the engine by itself; it is renewed after a third of that."""
MOST_WAITING, MOST_OFFERED, MOST_NAMES = 1000, 8, 2000
STRANGER = 600.0
"""Seconds for which it is said that something came in the name of the other site."""
SETTLE = 0.005
"""Seconds before changes are told, so that what follows at once is told with them."""
VALUES_EVERY = 0.5
"""Seconds between two messages on a value that moves."""
AGAIN = 1.0
"""Seconds after which what was not heard is told again."""
TURN = 0.25


class _Wish:
    """What the other site wants of an output, as it said last."""

    __slots__ = ("asked", "causes", "late", "number", "refused", "remedy", "taken", "value", "who")

    def __init__(self, number: int, value: Any, who: Any, causes: tuple[str, ...]) -> None:
        """``who`` is 0 for a rule, 1 for somebody, 2 for somebody who asks for it now."""
        self.number, self.value, self.who, self.causes = number, value, who, causes
        self.taken = -1
        """The number of the last order that the engine has decided about."""
        self.refused = self.remedy = ""
        """Why it is not carried out at all: no right, no such setting."""
        self.late = ""
        """Why it was put off: too much at once."""
        self.asked = time.monotonic()
        """When the claim was made or renewed."""


class _Session:
    """One other site, from its greeting to its end."""

    def __init__(self, takes: list[str], lease: float) -> None:
        self.id = secrets.token_hex(8)
        self.takes, self.lease = takes, lease
        self.age = Age()
        self.got = self.sent = self.heard = 0
        """The number of its last message, of ours, and up to which it has missed none of ours."""
        self.said_at = time.monotonic()
        """When its newest message was said."""
        self.wishes: dict[str, _Wish] = {}
        self.told: dict[str, tuple[int, float]] = {}
        """By name: the number of the message that told it last, and when."""
        self.pictures: dict[str, dict[str, Any]] = {}


class SiteRemote(Remote):
    """One other site, at the broker."""

    kind = "site"
    surface = "site"

    def __init__(
        self, desk: Desk, told: facts.OtherSite, broker: Broker, secret: Callable[[str], str]
    ) -> None:
        super().__init__(told.name, desk, [told.key])
        self._told, self._broker, self._secret = told, broker, secret
        self._slot = f"site:{told.name}"
        self._connection: Connection | None = None
        self._sealed: Sealed | None = None
        self._came: deque[bytes] = deque(maxlen=MOST_WAITING)
        self._decided: deque[tuple[_Session, str, int, dict[str, Any]]] = deque()
        self._dirty: dict[str, None] = {}
        self._lock = threading.Lock()
        self._wake = threading.Event()
        self._over = False
        self._session: _Session | None = None
        self._offered: OrderedDict[str, tuple[_Session, bytes]] = OrderedDict()
        """By greeting: a session that nothing was said in yet, and how it was offered."""
        self._stranger = -STRANGER
        """When something came that was not from the other site (monotonic seconds)."""
        self._thread = threading.Thread(target=self._work, name=f"site-{told.name}", daemon=True)

    # --- how it fares -------------------------------------------------------------------------------------

    def start(self) -> None:
        """Hear the other site. Raises `CallerError` (``secret``)."""
        words = between.words(self._secret, self._told.secret)
        ours = self.desk.site.name
        asks, tells = between.topics(ours, self._told.site)
        self._sealed = Sealed(words, tells, asks)
        self._connection = connection = Connection.take(self._broker, ours, self._secret, between.PART)
        connection.subscribe(asks, self._take)
        self.desk.listen(self._listen)
        self._thread.start()

    def stop(self) -> None:
        """End what the other site wants, and hear no more of it."""
        self.desk.ignore(self._listen)
        self._over = True
        self._wake.set()
        if self._thread.is_alive():
            self._thread.join(2)
        connection, self._connection = self._connection, None
        if connection is not None:
            connection.unsubscribe(self._take)
            connection.give()
        self.up = False

    def form(self) -> dict[str, Any]:
        """How it fares."""
        connection, session = self._connection, self._session
        self.up = session is not None
        if connection is not None and not connection.up.is_set():
            self.trouble = connection.away().sentence
        elif session is None and not self.trouble:
            self.trouble = f"{self._told.site} has not been heard"
        elif session is not None:
            strange = time.monotonic() - self._stranger < STRANGER
            self.trouble = (
                f"something came in the name of {self._told.site} that was not from it" if strange else ""
            )
        return super().form()

    def peers(self) -> list[str]:
        """The other site, while it is there."""
        return [self._told.site] if self._session is not None else []

    def facts(self) -> dict[str, Any]:
        """Which site, what it uses, and what it wants of that."""
        session = self._session
        wishes = list(session.wishes.items()) if session else []
        return {
            "site": self._told.site,
            "as": self._told.rank.word,
            "takes": list(session.takes) if session else [],
            "wants": {name: _words(wish.value) for name, wish in wishes if wish.value is not None},
            "lease": session.lease if session else None,
            "heard": round(time.monotonic() - session.said_at, 2) if session else None,
        }  # fmt: skip

    def map(self) -> list[MapRow]:
        """What the other site may be told and may want."""
        rows = []
        if self._sealed is not None:
            rows = [
                MapRow(self._sealed.into, "", "what it wants"),
                MapRow(self._sealed.out, "", "what it is told"),
            ]
        session = self._session
        return rows + [MapRow(name, name, "used there") for name in (session.takes if session else ())]

    # --- noted by other threads ---------------------------------------------------------------------------

    def _take(self, topic: str, payload: bytes, left: bool) -> None:
        if not left:
            self._came.append(payload)
            self._wake.set()

    def _listen(self, changed: list[tuple[str, str]], ended: list[Any]) -> None:
        session = self._session
        if session is None:
            return
        names = [name for kind, name in changed if kind in ("output", "input")]
        if any(kind == "site" for kind, _ in changed):
            names += session.takes  # what there is may be otherwise
        with self._lock:
            self._dirty.update(dict.fromkeys(names))
        self._wake.set()

    # --- the thread ---------------------------------------------------------------------------------------

    def _work(self) -> None:
        while not self._over:
            self._wake.wait(TURN)
            self._wake.clear()
            while self._came:
                self.guarded(self._heard, self._came.popleft())
            self.guarded(self._turn)
        if self._session is not None:
            self._end("this site ends its service")

    def _heard(self, payload: bytes) -> None:
        assert self._sealed is not None
        try:
            form = self._sealed.read(payload)
        except NotTheirs as error:
            self.traffic.add("lost", payload, f"not from {self._told.site}: {error}")
            self._stranger = time.monotonic()
            if self._session is None:
                self.trouble = f"what came as {self._told.site} was not from it: {error}"
            return
        self.traffic.add("got", payload, payload.partition(b" ")[2].decode()[:300])
        if "hello" in form:
            self._greeted(form)
            return
        session = self._session
        begun = next((each for each, _ in self._offered.values() if each.id == form.get("in")), None)
        if begun is not None:
            if session is not None:
                self._end("it has begun anew")
            session = self._session = begun
            self.up = True
            self._offered.clear()
            self.trouble = ""
            log.info("site %s uses %s", self._told.site, ", ".join(session.takes[:20]))
        if session is None or form.get("in") != session.id:
            return
        number = form.get("n")
        if not isinstance(number, int) or number <= session.got:
            return
        session.got = number
        said = session.age.said(form.get("at"))
        session.said_at = max(session.said_at, said)
        if form.get("bye"):
            self._end("it has ended it")
            return
        if time.monotonic() - said > session.lease:
            return  # it lay somewhere: what it wanted then is not what it wants now
        heard = form.get("heard")
        session.heard = heard if isinstance(heard, int) else 0
        self.desk.uses(self.key, self._told.site)
        wants = form.get("wants")
        if isinstance(wants, dict):
            for name, order in wants.items():
                self._wanted(session, name, order)
        self._keep(session)
        self._tell(session, of=number)

    def _greeted(self, form: dict[str, Any]) -> None:
        """The other site says what it uses: it is offered a session, which begins with what it says in that."""
        hello, takes, lease = form.get("hello"), form.get("takes"), form.get("lease")
        session = self._session
        if session is not None and isinstance(hello, str):
            # whoever is there stays: an old greeting said again, or a second service of that name, takes nothing away
            left = session.lease - (time.monotonic() - session.said_at)
            why = f"a service of that name uses it already; it is free once that was not heard for {session.lease:g} s"
            if left > 0:
                self._publish(self._sealed_refusal(hello, why, "If none runs, wait a moment."))
                return
        if isinstance(hello, str) and hello in self._offered:
            self._publish(self._offered[hello][1])  # it has not come through
            return
        if not isinstance(hello, str) or not isinstance(takes, list) or len(takes) > MOST_NAMES:
            return
        if why := self.desk.barred(self.key):
            self._refuse(hello, why, f"At {self.desk.site.name}: cairnwind key new --for '{self.key}'")
            return
        least, most = between.SHORTEST_LEASE / NS, between.LONGEST_LEASE / NS
        if isinstance(lease, bool) or not isinstance(lease, int | float) or not least <= lease <= most:
            self._refuse(hello, f"a lease is {least:g} to {most:g} s", "")
            return
        assert self._sealed is not None
        offered = _Session([str(each) for each in takes], float(lease))
        welcome = self._sealed.write({"hello": hello, "in": offered.id, "site": self.desk.site.name})
        self._offered[hello] = offered, welcome
        while len(self._offered) > MOST_OFFERED:
            self._offered.popitem(last=False)
        self._publish(welcome)

    def _refuse(self, hello: str, why: str, remedy: str) -> None:
        self.trouble = why
        self._publish(self._sealed_refusal(hello, why, remedy))

    def _sealed_refusal(self, hello: str, why: str, remedy: str) -> bytes:
        assert self._sealed is not None
        return self._sealed.write({"hello": hello, "why": why, "remedy": remedy})

    # --- what it wants ------------------------------------------------------------------------------------

    def _wanted(self, session: _Session, name: str, order: Any) -> None:
        """One order, which may have come before."""
        if not isinstance(order, list) or len(order) != 4 or not isinstance(order[0], int):
            return
        number, value, who, causes = order
        before = session.wishes.get(name)
        if name not in session.takes or (before is not None and number <= before.number):
            return
        wish = session.wishes[name] = _Wish(number, value, who, between.at_home(causes, self.desk.site.name))

        self._ask(session, name, wish)

    def _ask(self, session: _Session, name: str, wish: _Wish) -> None:
        """Have it decided here."""

        def told(form: dict[str, Any]) -> None:
            self._decided.append((session, name, wish.number, form))
            self._wake.set()

        wish.asked = time.monotonic()
        if wish.value is None:
            self.desk.release(self.source(), name, told, self._slot)
            return
        span = round(session.lease * ENGINE * NS)
        self.desk.keep(
            self.source(),
            name,
            wish.value,
            self._slot,
            span,
            told,
            rank=self._told.rank,
            causes=wish.causes,
            now=wish.who == 2,
            someone=wish.who in (1, 2),
        )

    def _keep(self, session: _Session) -> None:
        """It is there: what it wants goes on."""
        now = time.monotonic()
        for name, wish in session.wishes.items():
            if wish.late:  # it was too much at once
                wish.late = ""
                self._ask(session, name, wish)
            due = now - wish.asked >= session.lease * ENGINE / 3
            if due and wish.value is not None and not wish.refused and wish.taken == wish.number:
                wish.asked = now
                if self.desk.claimed(name, self._slot) is not None:
                    self.desk.renew(self.source(), name, self._slot, lambda form: None)

    def _end(self, why: str) -> None:
        """What it wanted ends now."""
        session, self._session = self._session, None
        assert session is not None
        self.up = False
        self.trouble = f"{self._told.site}: {why}"
        log.info("site %s no longer uses anything: %s", self._told.site, why)
        for name in session.wishes:
            if self.desk.claimed(name, self._slot) is not None:
                self.desk.release(self.source(), name, lambda form: None, self._slot)
        with contextlib.suppress(BoardError):
            self._send(session, {"gone": why})

    # --- what it is told ----------------------------------------------------------------------------------

    def _turn(self) -> None:
        """Answers of the engine, leases that are over, and what has changed."""
        touched = set()
        while self._decided:
            session, name, number, form = self._decided.popleft()
            wish = session.wishes.get(name)
            if wish is not None and wish.number == number:
                wish.taken, code = number, form.get("code", "")
                if code in LATER:
                    wish.taken, wish.late = -1, form["reason"]
                    continue
                refused = code in BAD or form["outcome"] == "refused"
                wish.refused, wish.remedy = (form["reason"], form.get("remedy", "")) if refused else ("", "")
                touched.add(name)
        session_ = self._session
        if session_ is None:
            return
        if time.monotonic() - session_.said_at > session_.lease:
            self._end(f"nothing was heard of it for {session_.lease:g} s")
            return
        if self.desk.barred(self.key):
            self._end(self.desk.barred(self.key))
            return
        with self._lock:
            dirty, self._dirty = self._dirty, {}
        if touched or any(name in session_.told for name in dirty):
            time.sleep(SETTLE)
            self._tell(
                session_, [name for name in {**dirty, **dict.fromkeys(touched)} if name in session_.told]
            )

    def _tell(self, session: _Session, names: list[str] | None = None, of: int = 0) -> None:
        """Tell what has changed of these, or answer message ``of``: then all that was not told, or not heard."""
        now, after = time.monotonic(), session.sent
        if names is None:
            names = [name for name in session.takes if name not in session.told]
            missed = [
                name
                for name, (number, then) in session.told.items()
                if number > session.heard and now - then > AGAIN
            ]
            if missed:
                names, after = [*names, *missed], session.heard
        are: dict[str, dict[str, Any]] = {}
        late: list[str] = []
        for name in names:
            picture = self._picture(session, name)
            known = name in session.told and session.told[name][0] <= session.heard
            if known and picture == session.pictures.get(name):
                continue
            if "value" in picture and known and now - session.told[name][1] < VALUES_EVERY:
                late.append(name)
                continue
            are[name] = picture
        if late:
            with self._lock:
                self._dirty.update(dict.fromkeys(late))
        if not are and not of:
            return
        todo = list(are.items()) or [("", {})]
        with contextlib.suppress(BoardError):  # away: it is told again, or the lease ends
            for start in range(0, len(todo), between.AT_ONCE):
                part = {name: picture for name, picture in todo[start : start + between.AT_ONCE] if name}
                for name, picture in part.items():
                    session.told[name], session.pictures[name] = (session.sent + 1, now), picture
                self._send(session, {"after": after, "of": of} | ({"are": part} if part else {}))
                after = session.sent

    def _send(self, session: _Session, form: dict[str, Any]) -> None:
        assert self._sealed is not None
        session.sent += 1
        self._publish(
            self._sealed.write(
                {"in": session.id, "n": session.sent, "at": between.now_ms(), "after": 0} | form
            ),
            max(1, round(session.lease)),
        )

    def _publish(self, payload: bytes, lasts: int = 5) -> None:
        assert self._sealed is not None
        connection = self._connection
        if connection is None:
            return
        try:
            connection.publish(self._sealed.out, payload, lasts=lasts)
        except BoardError:
            return  # it is told again, or the lease ends
        self.traffic.add("sent", payload, payload.partition(b" ")[2].decode()[:300])

    def _picture(self, session: _Session, name: str) -> dict[str, Any]:
        """What one thing is now, as it is told."""
        site = self.desk.site
        if name in site.outputs:
            return self._of_output(session, name)
        wish, found = session.wishes.get(name), self.desk.input(name)
        if wish is not None and wish.taken >= 0:  # what is no output here is wanted there
            return {
                "no": wish.refused or f"there is no output '{name}'",
                "remedy": wish.remedy,
                "of": wish.taken,
            }
        if found is None:
            return {"no": f"there is no output or input '{name}'"}
        causes = between.abroad(self.desk.causes("input", name), site.name)
        more = {"causes": causes} if causes else {}
        if site.inputs[name].valued:
            return {"value": found["value"], "unit": found["unit"]} | more
        return {"active": found["active"]} | more

    def _has_ended(self, name: str, wish: _Wish) -> bool:
        """Whether what it wanted on stands no more: by a rule that asks for a new command, or by somebody here."""
        off = wish.value is None or wish.value == "off"
        return not off and wish.taken == wish.number and self.desk.claimed(name, self._slot) is None

    def _of_output(self, session: _Session, name: str) -> dict[str, Any]:
        now, wish = self.desk.output_now(name), session.wishes.get(name)
        at = now.confirmed
        level = None if at is None else at.parts if isinstance(at, Level) else FULL if at.on else 0
        picture: dict[str, Any] = {"is": level, "state": now.state, "of": wish.taken if wish else 0}
        if causes := self.desk.causes("output", name):
            picture["causes"] = between.abroad(causes, self.desk.site.name)
        if now.state not in ("confirmed", "driving", "running"):
            refusal = now.refusal or now.keeping
            away = f"board {now.output.pin.board} does not answer: {now.link}" if now.link else ""
            picture["why"] = refusal.reason if refusal is not None else away or now.fault or now.failure
            if refusal is not None and refusal.only_time and now.state == "blocked":
                picture["state"] = "waiting"
            if refusal is not None and refusal.remedy:
                picture["remedy"] = refusal.remedy
        if wish is not None and wish.refused:
            picture["no"], picture["remedy"] = wish.refused, wish.remedy
        elif wish is not None and self._has_ended(name, wish):
            picture["no"], picture["over"] = (
                "what was wanted of it has ended there; it needs a new command",
                True,
            )
        elif wish is not None and wish.value is not None and now.leader is not None:
            if now.leader.slot != self._slot:
                picture["by"] = now.leader.text
        return picture


def _words(value: Any) -> str:
    """A setting as it came, for people."""
    return f"{value['level']:g} %" if isinstance(value, dict) and "level" in value else str(value)


BAD, LATER = ("bad-value", "unknown-name", "role", "key", "not-recorded"), ("rate", "busy")
"""Codes of what is not carried out, and of what is only too much at once."""
