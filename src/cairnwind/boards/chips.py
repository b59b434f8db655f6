"""Chips that our firmware runs on, as files tell them: shipped ones, and users' own beside the site file, which a board writes itself.

For a check without the board, and for loading: once a board answers, what it says counts (`cairnwind.boards.ours`).
"""

from __future__ import annotations

import tomllib
from collections.abc import Mapping, Sequence
from functools import cache
from pathlib import Path
from typing import Any

from cairnwind.boards import timers as described
from cairnwind.core.physics.pwm import Timer
from cairnwind.core.values.errors import CallerError, nearest
from cairnwind.core.values.fact import fact, field

SHIPPED = Path(__file__).parent / "images"
FOLDER = "chips"
"""Beside the site file: where users' own are."""
DEFAULT = "atmega1284p"


@fact
class Chip:
    """What its lines can."""

    name: str
    title: str
    lines: int
    reserved: frozenset[int] = frozenset()
    analogue: frozenset[int] = frozenset()
    tone: frozenset[int] = frozenset()
    timers: tuple[tuple[int, ...], ...] = ()
    """The lines of each timer."""
    timer: Timer | None = None
    """What each of them is, where that is known."""
    part: str = ""
    """As the flashing tool calls it; empty: it is not loaded from here."""
    fuses: Mapping[str, int] = field(default_factory=dict)
    compiler: str = "avr-gcc"
    packages: str = "gcc-avr avr-libc"
    """The Debian packages that have it."""

    def functions(self, line: int) -> frozenset[str]:
        """What a line can beside switching and reading."""
        able = {"pwm": any(line in timer for timer in self.timers), "analogue": line in self.analogue}
        return frozenset(what for what, can in (able | {"tone": line in self.tone}).items() if can)

    @property
    def clockwork(self) -> dict[int, Timer]:
        """The timers behind its PWM lines, where it is known what they are."""
        timer = self.timer
        return {} if timer is None else {line: timer for each in self.timers for line in each}


def known(beside: Sequence[Path] = ()) -> dict[str, Path]:
    """Where each is, by its name."""
    found = {path.stem: path for path in sorted(SHIPPED.glob("*.toml"))}
    for folder in beside:
        found |= {path.stem: path for path in sorted((folder / FOLDER).glob("*.toml"))}
    return found


def load(name: str, beside: Sequence[Path] = ()) -> Chip:
    """A chip by its name. Raises `CallerError`."""
    paths = known(beside)
    if name not in paths:
        which = (
            nearest(name, paths)
            or f"Known: {', '.join(paths)}. A board tells its own: cairnwind firmware describe."
        )
        raise CallerError("bad-value", f"There is no chip called '{name}'.", which)
    return _read(paths[name])


@cache
def default() -> Chip:
    """The one that is meant where none is said."""
    return load(DEFAULT)


def _read(path: Path) -> Chip:
    try:
        data = tomllib.loads(path.read_text("utf-8"))
        lists = {key: frozenset(_numbers(data.get(key, []))) for key in ("reserved", "analogue", "tone")}
        timers = tuple(tuple(_numbers(each)) for each in data.get("timers", []))
        lines = data["lines"]
        if not isinstance(lines, int) or not 1 <= lines <= 32:
            raise ValueError("it has 1 to 32 lines")
        if any(not 0 <= line < lines for each in (*lists.values(), *timers) for line in each):
            raise ValueError(f"its lines are 0 to {lines - 1}")
        fuses = {str(name): int(value) for name, value in data.get("fuses", {}).items()}
        title, clock, part = (str(data.get(key, "")) for key in ("title", "clock", "part"))
        own = () if path.parent == SHIPPED else (path.parents[1] / "timers",)
        made_by = {key: str(data[key]) for key in ("compiler", "packages") if key in data}
        return Chip(
            path.stem,
            title,
            lines,
            lists["reserved"],
            lists["analogue"],
            lists["tone"],
            timers,
            described.load(clock, *own) if clock else None,
            part,
            fuses,
            **made_by,
        )
    except CallerError as error:
        raise CallerError("bad-value", f"{path} describes no chip: {error.sentence}", error.remedy) from None
    except (OSError, ValueError, KeyError, TypeError) as error:
        raise CallerError(
            "bad-value", f"{path} describes no chip: {error}.", "See: cairnwind firmware describe."
        ) from None


def _numbers(value: Any) -> list[int]:
    if not isinstance(value, list) or any(not isinstance(each, int) for each in value):
        raise ValueError(f"{value!r} is no list of lines")
    return value


def describe(name: str, can: Sequence[tuple[int, int]]) -> str:
    """The file of a chip, from what each of its pins says that it can, and its timer (255: none): see docs/firmware.md."""

    def of(bit: int) -> list[int]:
        return [line for line, (bits, _) in enumerate(can) if bits & bit]

    timers: dict[int, list[int]] = {}
    for line, (_, timer) in enumerate(can):
        if timer != 255:
            timers.setdefault(timer, []).append(line)
    reserved = [line for line, (bits, _) in enumerate(can) if not bits]
    return (
        f'title = "{name}"\nlines = {len(can)}\nreserved = {reserved}\nanalogue = {of(8)}\n'
        f"timers = {[timers[each] for each in sorted(timers)]}\ntone = {of(16)}\n"
    )
