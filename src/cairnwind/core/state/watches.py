"""Conditions that are kept an eye on: each is asked again only when something that it names has changed.

A watch is known by its key, which is the kind and the name of the rule that asks, so that it is the same one after a
reload. Where its rule grants a grace, `Watch.ceased` says since when its condition is not what it should be: it
begins when it ceases to be that, and runs on whatever it becomes since, unknown and false alike.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable
from typing import Any

from cairnwind.core.facts.conditions import Condition, Days, Dependency, Hours, Memory, Value, View
from cairnwind.core.state.timers import Timers
from cairnwind.core.state.turn import Turn


class Watch:
    """One condition, what it was found to be last, and whom that concerns."""

    __slots__ = (
        "again", "ceased", "condition", "good", "key", "lapse", "memory", "plain", "relies", "rule", "tell", "value",
    )  # fmt: skip

    def __init__(
        self, key: str, condition: Condition, rule: Any, tell: Callable[[Turn, Watch, Value], None]
    ) -> None:
        self.key = key
        self.condition = condition
        self.rule = rule
        self.memory = Memory()
        self.plain = condition.plain
        self.relies: frozenset[Dependency] | None = None
        """What its value hangs on, of all that it is about; None: all of it."""
        self.value: Value = None
        self.good: Value = None
        """What it should be, where that is watched: True of what is needed, False of what trips."""
        self.ceased: int | None = None
        """Monotonic nanoseconds since which it is not ``good``; None while it is, or nobody asks."""
        self.tell = tell
        """Called with what it was before, when it has become something else."""
        self.lapse: Callable[[Turn, Watch], None] | None = None
        """Called when it has ceased to be ``good``, and when it is again."""
        self.again: Callable[[Turn, Watch], None] | None = None
        """Called where it was asked again and is what it was: why it is may have changed."""

    def succeed(self, old: Watch) -> None:
        """Go on where the watch of the same rule and condition was."""
        self.memory, self.value, self.ceased = old.memory, old.value, old.ceased


class Watches:
    """All of them, by what they are about."""

    def __init__(self) -> None:
        self.all: dict[str, Watch] = {}
        self.about: dict[Dependency, list[Watch]] = {}
        self._relied: dict[Dependency, dict[str, None]] = {}
        """Those whose answer hangs on something, by that."""
        self._attended: dict[Dependency, dict[str, None]] = {}
        """Those that somebody waits for, or was told of, by what they are about."""
        self.timed: list[Watch] = []
        """Those that ask for the time of day."""
        self.dirty: dict[str, None] = {}

    def add(
        self, key: str, condition: Condition, rule: Any, tell: Callable[[Turn, Watch, Value], None]
    ) -> Watch:
        """Keep an eye on one; it is asked at the next `look`."""
        watch = self.all[key] = Watch(key, condition, rule, tell)
        for each in condition.about:
            self.about.setdefault(each, []).append(watch)
            self._relied.setdefault(each, {})[key] = None
        if any(isinstance(node, Hours | Days) for node in condition.nodes):
            self.timed.append(watch)
        self.dirty[key] = None
        return watch

    def mark(self, kind: str, name: str) -> None:
        """Something has changed. Those whose value cannot have changed by that are left alone."""
        changed = (kind, name)
        if changed not in self.about:
            return
        relied = self._relied.get(changed)
        if relied:
            self.dirty.update(relied)
        if (
            kind == "output"
        ):  # outputs that are on their way concern those that need them, whatever the answer is
            for watch in self.about[changed]:
                if watch.again is not None:
                    self.dirty[watch.key] = None
            return
        attended = self._attended.pop(changed, None)
        if attended:
            self.dirty.update(attended)

    def attend(self, watch: Watch) -> None:
        """Somebody was told why it is not so, or waits for it: it is asked at the next change of whatever it is about."""
        for each in watch.condition.about:
            self._attended.setdefault(each, {})[watch.key] = None

    def _decide(self, watch: Watch, view: View) -> None:
        """Ask a plain one, and note what its answer hangs on from now on."""
        value, relies = watch.condition.decided_by(view)
        if relies != watch.relies:
            for each in watch.relies if watch.relies is not None else watch.condition.about:
                self._relied[each].pop(watch.key, None)
            for each in relies:
                self._relied.setdefault(each, {})[watch.key] = None
            watch.relies = relies
        watch.value = value

    def mark_all(self, watches: Iterable[Watch]) -> None:
        """These have to be asked again."""
        self.dirty.update((watch.key, None) for watch in watches)

    def look(self, turn: Turn, view: View) -> bool:
        """Ask those that have to be asked, and tell whom it concerns. False if there were none."""
        if not self.dirty:
            return False
        dirty, self.dirty = self.dirty, {}
        now, mono, wall = turn.now.mono, turn.mono, turn.wall
        changed: list[tuple[Watch, Value]] = []
        lapsed: list[Watch] = []
        for key in dirty:
            watch = self.all[key]
            before = watch.value
            if watch.plain:
                self._decide(watch, view)
            else:
                watch.value = watch.condition.look(view, watch.memory)
                _wake(mono, watch.memory.due_mono, key)
                _wake(wall, watch.memory.due_wall, key)
            if watch.good is not None and (watch.value is watch.good) != (watch.ceased is None):
                watch.ceased = None if watch.value is watch.good else now
                lapsed.append(watch)
            if watch.value is not before:
                changed.append((watch, before))
            elif watch.again is not None:
                watch.again(turn, watch)
        for watch in lapsed:
            assert watch.lapse is not None
            watch.lapse(turn, watch)
        for watch, before in changed:
            watch.tell(turn, watch, before)
            if watch.value and watch.condition.momentary:
                watch.value = False  # a moment is over as soon as it was told
        return True


def _wake(timers: Timers, due: int | None, key: str) -> None:
    if due is not None:
        timers.set(due, "watch", key)
    else:
        timers.drop("watch", key)
