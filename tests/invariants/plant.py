"""A site on virtual clocks: an engine, boards that are slow, fail, stick and are lost, and a store that survives.

Nothing here knows of conditions or interlocks. What the pins do is told to whoever looks on (`Oracle`); the truth
is in ``pins`` and ``contacts``, not in what the engine believes.
"""

from __future__ import annotations

import heapq
from collections import Counter
from collections.abc import Callable
from itertools import count
from typing import Any, Protocol

from cairnwind.core.engine.loop import Engine
from cairnwind.core.facts import events as ev
from cairnwind.core.facts.claims import RELEASED, Instant, Lifetime, Rank, Source
from cairnwind.core.facts.difference import difference
from cairnwind.core.facts.interlocks import Interlock
from cairnwind.core.facts.site import Site
from cairnwind.core.values.fact import replace
from cairnwind.core.values.quantities import NS
from cairnwind.core.values.settings import OFF, Level
from tests.invariants import rest

ON = Level(1_000_000)
MS = NS // 1000
DELAY = 50 * MS
MOST_PUT_OFF = 5
"""How often what an output waits for may be put off while nothing happens but time."""
"""The most that a board takes to carry out an order, and the same again to tell of it."""
KEEPER = Source("test", "keeper", "keep")


class Onlooker(Protocol):
    """Who is told of what happens, at its time."""

    def pin(self, at: int, output: str, on: bool) -> None: ...
    def contact(self, at: int, name: str, active: bool) -> None: ...
    def link(self, at: int, board: str, up: bool) -> None: ...
    def failed(self, at: int, output: str) -> None: ...
    def weld(self, at: int, output: str, stuck: bool) -> None: ...
    def ordered(self, at: int, output: str) -> None: ...
    def restarted(self, at: int) -> None: ...
    def reset(self, at: int, trip: str) -> None: ...
    def stopped(self, at: int, in_force: bool) -> None: ...
    def passed(self, at: int, wall: int) -> None: ...


class Plant:
    """See the module's page. Times in nanoseconds; ``delay`` gives the next delay, up to what it is given."""

    def __init__(
        self, site: Site, rules: tuple[Interlock, ...], onlooker: Onlooker, delay: Callable[[int], int], wall: int
    ) -> None:  # fmt: skip
        self.site, self.rules, self.onlooker, self.delay = site, rules, onlooker, delay
        self.mono, self.wall = 1000 * NS, wall
        self.pins = dict.fromkeys(site.outputs, False)
        self.contacts = dict.fromkeys(site.inputs, False)
        self.up = dict.fromkeys(site.boards, True)
        self.session = dict.fromkeys(site.boards, 0)
        self.fails = dict.fromkeys(site.boards, "")
        """How the next order of a board fails: 'before' or 'after' it was carried out, 'silent', or not at all."""
        self.welded: set[str] = set()
        """Outputs whose contact stays as it is."""
        self.driven: Counter[str] = Counter()
        """How often each was told something since time began to pass."""
        self.orders: dict[str, tuple[int, ev.Drive]] = {}
        self.claims: dict[tuple[str, str], Any] = {}
        self.trips: dict[str, Any] = {}
        self.kept: dict[tuple[str, str], ev.Keep] = {}
        self.stop: Any = None
        self.tags: dict[tuple[str, str], Any] = {}
        self.sequence = 0
        self.outcomes: list[ev.Outcome] = []
        self.records: list[ev.Record] = []
        self.events = 0
        self._heap: list[tuple[int, int, Callable[[], None]]] = []
        self._count = count()
        self._number = count()
        onlooker.passed(self.mono, self.wall)
        self.start()

    # --- the service --------------------------------------------------------------------------------------

    @property
    def now(self) -> Instant:
        return Instant(self.mono, self.wall)

    def start(self, last: int = 0) -> None:
        """A new engine takes up what the store has; boards that answer are made safe first. ``last``: the journal's latest wall time."""
        self.engine = Engine(self.site)
        self._heap = []
        self.orders = {}
        self.onlooker.restarted(self.mono)
        for board in self.site.boards:
            self.session[board] += 1
            if self.up[board]:
                self.take(board)
            else:
                self.tell(ev.LinkLost(self.now, board, "away"))
        for name, active in self.contacts.items():
            if self.up[self.site.inputs[name].pin.board]:
                self.tell(ev.InputSeen(self.now, name, active))
        self.tell(
            ev.Start(
                self.now, self.sequence, tuple(self.claims.values()), self.stop, tuple(self.tags.values()),
                interlocks=self.rules, trips=tuple(self.trips.values()), kept=tuple(self.kept.values()), last=last,
            )
        )  # fmt: skip

    def reload(self) -> None:
        """The site file is read anew, and says what it said: nothing is journalled but that."""
        self.tell(ev.Tick(self.now))  # what is due at this moment is not the reload's doing
        before = len(self.records)
        self.tell(ev.Reload(self.now, "reload", KEEPER, replace(self.site), self.rules))
        assert [record.kind for record in self.records[before:]] == ["command"], self.records[before:]

    def rewire(self, name: str) -> None:
        """An output gets another pin of its board: it is taken to safe first, and where that is not confirmed nothing comes of it."""
        self.tell(ev.Rewire(self.now, (name,)))
        self.pass_time(200 * MS)
        s = self.engine.standing(name)
        at_safe = s.drive.pending is None and s.drive.confirmed == s.output.safe == s.gating.allowed
        if not (at_safe and self.up[s.output.pin.board]):
            self.tell(ev.Rewire(self.now))
            return
        output = replace(s.output, pin=replace(s.output.pin, line=s.output.pin.line + 100))
        site = replace(self.site, outputs={**self.site.outputs, name: output})
        wired = difference(self.site, site)
        assert wired.outputs.rewired == (name,)
        self.site = site
        self.tell(ev.Tick(self.now))
        self.tell(ev.Reload(self.now, "rewire", KEEPER, site, self.rules, wired=wired))

    def take(self, board: str) -> None:
        """A board is taken: all its outputs are told to be safe, and then it answers."""
        names = [name for name, output in self.site.outputs.items() if output.pin.board == board]
        for name in names:
            self.move(name, False)
        readings = tuple((name, ON if self.pins[name] else OFF) for name in names)
        self.tell(ev.LinkUp(self.now, board, readings))

    def tell(self, event: ev.Event) -> None:
        """The engine is told something; what it answers is carried out."""
        self.events += 1
        effects = self.engine.handle(event)
        rest.answered(event, effects)
        rest.recorded(self.engine, event, effects)
        for effect in (*effects, *rest.check(self.engine)):
            match effect:
                case ev.Drive():
                    self.order(effect)
                case ev.KeepClaim(claim):
                    self.claims[claim.output, claim.slot] = claim
                case ev.DropClaim(output, slot):
                    self.claims.pop((output, slot), None)
                case ev.KeepTrip(trip):
                    self.trips[trip.name] = trip
                case ev.DropTrip(name):
                    self.trips.pop(name, None)
                case ev.Keep(gate, key):
                    self.kept[gate, key] = effect
                    if effect.data is None:
                        del self.kept[gate, key]
                case ev.KeepStop(stop):
                    self.stop = stop
                    self.onlooker.stopped(self.mono, stop is not None)
                case ev.KeepTag(tag):
                    self.tags[tag.output, tag.name] = tag
                case ev.DropTag(output, name):
                    self.tags.pop((output, name), None)
                case ev.Outcome():
                    self.outcomes.append(effect)
                case ev.Record():
                    self.sequence = max(self.sequence, effect.sequence)
                    self.records.append(effect)
        rest.kept(self.engine, self.claims, self.trips, self.tags, self.stop, self.orders)

    # --- boards -------------------------------------------------------------------------------------------

    def order(self, drive: ev.Drive) -> None:
        """An order is on its way; a newer one replaces an older that was not carried out."""
        board = self.site.outputs[drive.output].pin.board
        if not self.up[board]:
            return
        number, session = next(self._number), self.session[board]
        self.onlooker.ordered(self.mono, drive.output)
        self.driven[drive.output] += 1
        self.orders[drive.output] = (number, drive)

        def carry_out() -> None:
            if self.orders.get(drive.output, (None,))[0] != number or self.session[board] != session:
                return
            how, self.fails[board] = self.fails[board], ""
            if how:
                self.onlooker.failed(self.mono, drive.output)
            if how != "before":
                self.move(drive.output, drive.setting.on)
            shown = ON if self.pins[drive.output] else OFF

            def answer() -> None:
                if self.session[board] != session or how == "silent":
                    return
                if how:
                    self.tell(ev.Failed(self.now, drive.output, drive.generation, "it failed"))
                else:
                    self.tell(ev.Confirmed(self.now, drive.output, drive.generation, shown))

            self.later(self.delay(DELAY), answer)

        self.later(self.delay(DELAY), carry_out)

    def move(self, output: str, on: bool) -> None:
        """A pin does what it is told, unless its contact is welded."""
        if self.pins[output] != on and output not in self.welded:
            self.pins[output] = on
            self.onlooker.pin(self.mono, output, on)

    def lose(self, board: str) -> None:
        """Its cable is pulled: pins stay as they are."""
        if self.up[board]:
            self.up[board] = False
            self.session[board] += 1
            self.onlooker.link(self.mono, board, False)
            self.tell(ev.LinkLost(self.now, board, "pulled"))

    def back(self, board: str) -> None:
        """It is plugged in again."""
        if not self.up[board]:
            self.up[board] = True
            self.onlooker.link(self.mono, board, True)
            self.take(board)
            for name, input in self.site.inputs.items():
                if input.pin.board == board:
                    self.tell(ev.InputSeen(self.now, name, self.contacts[name]))

    def weld(self, output: str) -> None:
        """A contact sticks, or comes loose again."""
        self.welded ^= {output}
        self.onlooker.weld(self.mono, output, output in self.welded)

    def set_input(self, name: str, active: bool) -> None:
        """A contact moves; the engine hears of it a little later."""
        if self.contacts[name] == active:
            return
        self.contacts[name] = active
        self.onlooker.contact(self.mono, name, active)
        board = self.site.inputs[name].pin.board
        session = self.session[board]

        def heard() -> None:
            if self.up[board] and self.session[board] == session:
                self.tell(ev.InputSeen(self.now, name, active))

        self.later(5 * MS, heard)  # the same for all: a line keeps the order of its edges

    # --- people -------------------------------------------------------------------------------------------

    def wish(
        self, output: str, on: bool, rank: Rank = Rank.PERSON, slot: str = "", life: Lifetime = RELEASED, patient: bool = False
    ) -> ev.Outcome:  # fmt: skip
        """Somebody wants something."""
        slot = slot or {Rank.PERSON: "person"}.get(rank, f"{rank.word}:{output}")
        self.tell(
            ev.Wish(
                self.now,
                f"c{next(self._number)}",
                KEEPER,
                output,
                ON if on else OFF,
                rank,
                slot,
                life,
                patient,
            )
        )
        return self.outcomes[-1]

    def release(self, output: str, slot: str = "person") -> None:
        self.tell(ev.Release(self.now, "r", KEEPER, output, slot))

    def renew(self, output: str, slot: str) -> None:
        """A hold is renewed, and must outlive what it had; of that nothing is stored."""
        self.tell(ev.Renew(self.now, "renew", KEEPER, output, slot))

    def all_stop(self) -> None:
        self.tell(ev.AllStop(self.now, "stop", KEEPER))

    def reset_stop(self) -> None:
        self.tell(ev.ResetStop(self.now, "reset", KEEPER))

    def reset_trip(self, name: str) -> ev.Outcome:
        self.tell(ev.ResetTrip(self.now, "reset", KEEPER, name, "anna"))
        if self.outcomes[-1].outcome == "driving" and "reset by" in self.outcomes[-1].reason:
            self.onlooker.reset(self.mono, name)
        return self.outcomes[-1]

    def disk(self, works: bool, caught: bool) -> None:
        """The disk fails, or works again; ``caught``: what was last decided was on its way to it, and is taken back."""
        self.tell(ev.Recording(self.now, works, "" if works else "full"))
        last = self.outcomes[-1] if self.outcomes else None
        if not works and caught and last is not None and last.claim is not None and last.claim.setting == ON:
            self.tell(ev.Withdraw(self.now, "undo", KEEPER, ((last.claim, last.replaced),)))

    def engine_attests(self, output: str) -> None:
        self.tell(ev.Attest(self.now, "attest", KEEPER, output, "anna"))

    # --- time ---------------------------------------------------------------------------------------------

    def later(self, after: int, do: Callable[[], None]) -> None:
        heapq.heappush(self._heap, (self.mono + after, next(self._count), do))

    def jump(self, by: int) -> None:
        """Somebody sets the clock."""
        self.wall += by
        self.onlooker.passed(self.mono, self.wall)
        self.tell(ev.Tick(self.now))

    def _awaited(self) -> dict[str, int | None]:
        """Until when outputs wait that only time keeps from being on."""
        refusals = {name: s.gating.refusal for name, s in self.engine.state.outputs.items()}
        return {name: it.expected for name, it in refusals.items() if it is not None and it.only_time}

    def pass_time(self, span: int) -> None:
        """Time passes, and what is due in it happens."""
        end, most = self.mono + span, 40 + 2 * span // NS
        self.driven.clear()
        put_off: Counter[str] = Counter()
        while True:
            if self.driven and max(self.driven.values()) > most:
                raise AssertionError(
                    f"{self.driven.most_common(1)[0][0]} chatters: nobody does anything, and it is told without end"
                )
            due = self.engine.next_deadline(self.now)
            first = self._heap[0][0] if self._heap else end
            at = min(end, first, end if due is None else max(self.mono, due))
            self.wall += at - self.mono
            self.mono = at
            self.onlooker.passed(self.mono, self.wall)
            if self._heap and self._heap[0][0] <= at:
                heapq.heappop(self._heap)[2]()
                put_off.clear()
            elif due is not None and due <= at:
                before = self._awaited()
                self.tell(ev.Tick(self.now))
                put_off.update(
                    name for name, until in self._awaited().items() if before.get(name, until) != until
                )
                if put_off and max(put_off.values()) > MOST_PUT_OFF:
                    name = put_off.most_common(1)[0][0]
                    raise AssertionError(
                        f"{name} waits for time alone, and whenever that has come it waits anew"
                    )
            elif at >= end:
                return
