"""Conditions that are kept an eye on: each is asked again only when something that it names has changed."""

from __future__ import annotations

from collections.abc import Callable, Iterable

from cairnwind.core.conditions import Condition, Days, Dependency, Hours, Memory, Value, View


class Watch:
    """One condition, what it was found to be last, and whom that concerns."""

    __slots__ = (
        "again",
        "condition",
        "left",
        "memory",
        "number",
        "tell",
        "value",
        "woken_mono",
        "woken_wall",
    )

    def __init__(self, number: int, condition: Condition, tell: Callable[[Watch, Value], None]) -> None:
        self.number = number
        self.condition = condition
        self.memory = Memory()
        self.value: Value = None
        self.left: int | None = None
        """Monotonic nanoseconds since which it is no longer true, or no longer false; None before that was known."""
        self.tell = tell
        """Called with what it was before, when it has become something else."""
        self.again: Callable[[Watch], None] | None = None
        """Called where it was asked again and is what it was: why it is may have changed."""
        self.woken_mono: int | None = None
        self.woken_wall: int | None = None
        """When an entry in the engine's heaps wakes it."""


class Watches:
    """All of them, by what they are about."""

    def __init__(self) -> None:
        self.all: list[Watch] = []
        self.about: dict[Dependency, list[Watch]] = {}
        self.timed: list[Watch] = []
        """Those that ask for the time of day."""
        self.dirty: dict[int, None] = {}

    def add(self, condition: Condition, tell: Callable[[Watch, Value], None]) -> Watch:
        """Keep an eye on one; it is asked at the next `look`."""
        watch = Watch(len(self.all), condition, tell)
        self.all.append(watch)
        for each in condition.about:
            self.about.setdefault(each, []).append(watch)
        if any(isinstance(node, Hours | Days) for node in condition.nodes):
            self.timed.append(watch)
        self.dirty[watch.number] = None
        return watch

    def mark(self, kind: str, name: str) -> None:
        """Something has changed."""
        for watch in self.about.get((kind, name), ()):
            self.dirty[watch.number] = None

    def mark_all(self, watches: Iterable[Watch]) -> None:
        """These have to be asked again."""
        self.dirty.update((watch.number, None) for watch in watches)

    def look(
        self,
        view: View,
        wake_mono: Callable[[int, str, str], None],
        wake_wall: Callable[[int, str, str], None],
    ) -> bool:
        """Ask those that have to be asked, and tell whom it concerns. False if there were none."""
        if not self.dirty:
            return False
        dirty, self.dirty = self.dirty, {}
        now = view.now
        changed: list[tuple[Watch, Value]] = []
        for number in dirty:
            watch = self.all[number]
            before, watch.value = watch.value, watch.condition.look(view, watch.memory)
            due = watch.memory.due_mono
            if due is not None and (
                watch.woken_mono is None or due < watch.woken_mono or watch.woken_mono <= now.mono
            ):
                watch.woken_mono = due
                wake_mono(due, "watch", str(number))
            due = watch.memory.due_wall
            if due is not None and (
                watch.woken_wall is None or due < watch.woken_wall or watch.woken_wall <= now.wall
            ):
                watch.woken_wall = due
                wake_wall(due, "watch", str(number))
            if watch.value is not before:
                watch.left = now.mono
                changed.append((watch, before))
            elif watch.again is not None:
                watch.again(watch)
        for watch, before in changed:
            watch.tell(watch, before)
            if watch.value and watch.condition.momentary:
                watch.value = False  # a moment is over as soon as it was told
        return True
