"""Upkeep: what keeps a service well that runs for years. A thread of its own, which takes its time.

The journal's words are put into their index; once a day what it comes to for each output is kept (a checkpoint), so that
older rows may go, by age and by size; what was kept for a while goes, and space is given back.
"""

from __future__ import annotations

import threading
import time
from collections.abc import Callable

from cairnwind.core.explain.past import Then
from cairnwind.core.facts.site import Site
from cairnwind.core.values.errors import CallerError
from cairnwind.core.values.quantities import NS
from cairnwind.service.logs import log
from cairnwind.service.repeats import KEEP
from cairnwind.store.reader import Reader, Row
from cairnwind.store.writer import Row as Written
from cairnwind.store.writer import Writer, form

TURN = 10.0
"""Seconds between two turns."""
ENDS_WITHIN = 5.0
HOUR, DAY = 3600 * NS, 86_400 * NS
AT_A_TIME = 10.0
"""Seconds of a turn for words of old rows."""
CHUNK = 2_000
"""Rows that are put into the index, or taken away, in one commit: nobody who commands waits for more."""
MANY = 200_000
"""Rows after which a checkpoint is made, whatever the time: what goes, goes up to one."""
BREATH = 0.05
"""Seconds between two such commits."""
LOW = 0.95
"""Of the size that is kept, what is left when rows went."""
REACHED = 500
"""Rows that a first checkpoint of an output looks back."""


class Upkeep:
    """Begun by the runtime once the store is there."""

    def __init__(
        self,
        reader: Reader,
        writer: Writer,
        site: Callable[[], Site],
        also: Callable[[int], None] = lambda wall: None,
    ) -> None:
        """``also`` is called at each turn, with the wall's nanoseconds."""
        self.reader, self.writer, self._site, self._also = reader, writer, site, also
        self._over = threading.Event()
        self._hour = 0
        self._thread = threading.Thread(target=self._work, name="upkeep", daemon=True)

    def start(self) -> None:
        """Begin."""
        self._thread.start()

    def stop(self) -> None:
        """End, between two commits; a backup that is being made is not waited for."""
        self._over.set()
        if self._thread.is_alive():
            self._thread.join(ENDS_WITHIN)

    def _work(self) -> None:
        while not self._over.wait(TURN):
            try:
                self.turn(time.time_ns())
            except CallerError as error:
                log.info("upkeep is put off: %s", error)
            except Exception:
                log.exception("upkeep failed; it is tried again")

    def turn(self, wall: int) -> None:
        """What is due at this moment."""
        if wall // HOUR != self._hour:
            self._hour = wall // HOUR
            self.writer.put([("old answers", (wall - KEEP,)), ("old sessions", (wall,))])
            last = self.reader.fact("checkpoint") or {"wall": 0, "seq": 0}
            if wall >= last["wall"] + DAY or self.reader.last() > last["seq"] + MANY:
                self.checkpoint(wall)
            self.forget(wall)
        self.index(AT_A_TIME)
        self._also(wall)

    # --- words --------------------------------------------------------------------------------------------

    def index(self, within: float = 1e9) -> None:
        """Put the words of new rows into their index, and then those of old ones that are not there yet, from the newest back; for so many
        seconds at most.
        """
        over = time.monotonic() + within
        last, first = self.reader.last(), (self.reader.fact("forgotten") or {"seq": 1})["seq"]
        begin, end = self.reader.worded()
        if begin > end:
            begin, end = last + 1, last
        while not self._over.is_set() and time.monotonic() < over and (end < last or begin > first):
            if end < last:
                low, high = end + 1, min(last, end + CHUNK)
                end = high
            else:
                low, high = max(first, begin - CHUNK), begin - 1
                begin = low
            self._commit([("words", (low, high)), _fact("words", {"from": begin, "to": end})])

    # --- checkpoints --------------------------------------------------------------------------------------

    def checkpoint(self, wall: int) -> None:
        """Keep what the journal comes to by now, for each output of which it has anything new. It counts once all have theirs."""
        reached = self.reader.last()
        for output in list(self._site().outputs.values()):
            if self._over.is_set():
                return
            subjects = [*self.reader.once(output.name), *self.reader.once(output.pin.board), ""]
            since, kept = self.reader.kept(self.reader.once(output.name), wall)
            rows = self.reader.since(since, subjects, wall) if kept is not None else self._lately(subjects)
            called = self.reader.called()
            then = Then(output, kept)
            for row in rows:
                name = called.now(row.subject, row.wall)
                if name in (output.name, output.pin.board, "") and row.seq <= reached:
                    then.see((row.wall, row.kind, name, row.text, row.data))
            if rows or kept is None:
                self._commit([("checkpoint", (output.name, reached, wall, form(then.form())))])
        whole = [*self._whole(), [reached, wall]]
        self._commit([_fact("checkpoint", {"wall": wall, "seq": reached, "whole": whole})])

    def _whole(self) -> list[list[int]]:
        """The checkpoints that all outputs have, rising: the row that each reaches to, and its wall."""
        return list((self.reader.fact("checkpoint") or {}).get("whole", ()))

    def _lately(self, subjects: list[str]) -> list[Row]:
        found = [
            row
            for each in dict.fromkeys(subjects)
            for row in self.reader.journal(subject=each, limit=REACHED)
        ]
        return sorted({row.seq: row for row in found}.values(), key=lambda row: row.seq)

    # --- what goes ----------------------------------------------------------------------------------------

    def forget(self, wall: int) -> None:
        """Have rows go that are too old, or too many for the size that is kept: all up to a checkpoint, which says what they came to."""
        site = self._site()
        old = self.reader.before(wall - site.journal_age)
        used = self.reader.size()[1]
        over = self._goal(site, used) if used > site.journal_size else 0
        for reached, made in self._whole():
            if reached > old and self.reader.first() > over:
                break
            self._forget(reached, made)
        full, used = self.reader.size()
        while full - used > used // 10 and not self._over.is_set():
            self._commit([("give back", ())])
            left, used = self.reader.size()
            if left >= full:
                break  # a database that was made before it could
            full = left

    def _goal(self, site: Site, used: int) -> int:
        """The row up to which all would have to go for the size that is kept, if rows were all of one size."""
        first, last = self.reader.first(), self.reader.last()
        return first + round((last - first) * (1 - LOW * site.journal_size / used))

    def _forget(self, reached: int, made: int) -> None:
        """Have the rows up to a checkpoint go; from the first of them on nobody is told what was before it."""
        begin = self.reader.first()
        if begin > reached or self._over.is_set():
            return
        self._commit([_fact("forgotten", {"seq": reached + 1, "wall": made})])
        log.info("the journal's rows up to %d go; notes, starts and ends stay", reached)
        while begin <= reached and not self._over.is_set():
            begin = self._take(begin, min(begin + CHUNK, reached + 1))
        whole = [each for each in self._whole() if each[0] > reached]
        last = self.reader.fact("checkpoint")
        self._commit(
            [
                ("old aside", (reached + 1,)),
                ("old checkpoints", (reached + 1,)),
                _fact("checkpoint", {**last, "whole": whole}),
            ]
        )

    def _take(self, begin: int, end: int) -> int:
        """Have the rows from one number up to another go."""
        first, last = self.reader.worded()
        low, high = max(begin, first), min(end, last + 1)
        rows: list[Written] = [("old journal", (begin, end))]
        if low < high:
            rows = [("no words", (low, high)), *rows, _fact("words", {"from": high, "to": last})]
        self._commit(rows)
        return end

    def _commit(self, rows: list[Written]) -> None:
        self.writer.put_and_wait(rows)
        self._over.wait(BREATH)


def _fact(name: str, what: object) -> Written:
    return "fact", (name, form(what))
