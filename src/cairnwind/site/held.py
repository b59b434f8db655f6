"""What has each output when the service does not: after a stop, after a kill, and after a power cut; and what is missing for it to be at safe."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping, Sequence
from typing import Any, NamedTuple

from cairnwind.boards import kinds, wire
from cairnwind.core.facts.hardware import Board
from cairnwind.core.facts.outputs import Output
from cairnwind.core.facts.site import Site
from cairnwind.core.physics.wiring import show_ohms
from cairnwind.core.values.listing import listed
from cairnwind.site.wiring import BEFORE, bias_needed, rests_high, sure


class Then(NamedTuple):
    """What has an output at such a moment."""

    safe: bool | None
    """Whether it is at safe; None: nobody here knows."""
    says: str


class Held(NamedTuple):
    """Of one output."""

    output: str
    stop: Then
    killed: Then
    power: Then
    remedy: str
    """What is missing; empty: nothing, or nobody knows."""

    @property
    def form(self) -> dict[str, Any]:
        """As it is told."""
        return {
            **self._asdict(),
            **{when: getattr(self, when)._asdict() for when in ("stop", "killed", "power")},
        }

    @property
    def good(self) -> bool:
        """Whether nothing is known that leaves it otherwise than safe."""
        return False not in (self.stop.safe, self.killed.safe, self.power.safe)


MOMENTS: tuple[tuple[str, Callable[[Held], Then]], ...] = (
    ("After a stop", lambda each: each.stop),
    ("After a kill", lambda each: each.killed),
    ("After a power cut", lambda each: each.power),
)
NAMED = 8
"""So many are named in a sentence."""


def held(site: Site, names: Iterable[str] | None = None) -> list[Held]:
    """Of every output, or of these."""
    return [_of(site.outputs[name], site.boards) for name in (site.outputs if names is None else names)]


def read(form: Mapping[str, Any]) -> Held:
    """From what the service tells of an output."""
    stop, killed, power = (Then(**form[when]) for when in ("stop", "killed", "power"))
    return Held(form["output"], stop, killed, power, form["remedy"])


def in_words(found: Sequence[Held]) -> list[str]:
    """What of it is not at safe, a sentence each; nothing where all is."""
    said = []
    for when, of in MOMENTS:
        loose = [each.output for each in found if of(each).safe is False]
        if loose:
            named = loose if len(loose) <= NAMED else [*loose[: NAMED - 1], f"{len(loose) - NAMED + 1} more"]
            said.append(f"{when}, {listed(named)} {'is' if len(loose) == 1 else 'are'} not held at safe.")
    return said


def _of(output: Output, boards: Mapping[str, Board]) -> Held:
    board = boards[output.pin.board]
    holds = kinds.find(board.link).holds(board.facts)
    line, fit = _lines(output, board, floats=False)
    stop, killed = (_after(output, how, line) for how in (holds.stop, holds.killed))
    remedies = [fit] if kinds.LINE in holds and fit else []
    if holds.by and killed.safe is not False:
        killed = killed._replace(says=f"{holds.by} takes it to safe; {killed.says}")
    elif holds.by:
        killed = killed._replace(says=f"{holds.by} takes it to safe, then {killed.says}")
    if holds.killed == kinds.AS_IT_WAS:
        remedies.append(f'Give board {board.name} an enable line of the kernel: enable = "host:line-5"')
    power = line
    if holds.power == kinds.FLOATS:
        power, fit = _lines(output, board, floats=True)
        remedies += [fit] if fit and fit not in remedies else []
    elif holds.power == kinds.LOW:
        power = Then(not wire.to_pin(output, output.safe), "its pin is low when its chip starts")
    elif holds.power != kinds.LINE:
        power = _after(output, holds.power, line)
    if output.latching:
        stop, remedies = Then(True, "it stays where it was put"), []
        power = killed = Then(False, "it stays as it was, until the service puts it to safe")
        if holds.by:
            killed = Then(True, f"{holds.by} puts it to safe by a pulse")
    elif board.enable is not None:
        stop, killed, power = _enabled(output, board, boards)
        remedies = []
    if output.on_stop == "keep":
        stop = Then(None, f"on_stop keeps it as it is; {stop.says}")
    return Held(output.name, stop, killed, power, "; ".join(remedies) + ("." if remedies else ""))


def _enabled(output: Output, board: Board, boards: Mapping[str, Board]) -> tuple[Then, Then, Then]:
    """The same of a board with an enable line, which holds it whatever its chip does."""
    assert board.enable is not None
    pin = board.enable.pin
    dead = _dead(output)
    host = kinds.find(boards[pin.board].link).holds(boards[pin.board].facts)
    as_load = Output("this", "relay", pin, active_low=board.enable.active_low, bias=board.enable.bias)
    line, _ = _lines(as_load, boards[pin.board], floats=False)
    whose = f"board {board.name} is disabled by {pin.name}"
    by = f"{host.by} takes {pin.name} off: " if host.by else ""
    safe = dead if line.safe else line.safe
    stop, power = (Then(safe, f"{whose}: {line.says}") for _ in range(2))
    return stop, Then(safe, f"{by}{whose}: {line.says}"), power


def _dead(output: Output) -> bool:
    """Whether an output is at safe while its coil or its lamps have nothing."""
    return output.normally_closed == output.safe.on


def _after(output: Output, how: str, line: Then) -> Then:
    board = output.pin.board
    if how == kinds.LINE:
        return line
    if how == kinds.BOARD:
        return Then(True, f"board {board} keeps it at safe while it has power")
    if how == kinds.AS_IT_WAS:
        return Then(False, f"board {board} goes on as it was")
    if how == kinds.DEAD:
        return Then(_dead(output), f"board {board} starts with everything off")
    return Then(None, f"that is board {board}'s to say: see what it says of itself")


def _lines(output: Output, board: Board, *, floats: bool) -> tuple[Then, str]:
    """What has the lines of an output that nobody drives, the worst of them, and what is to be fitted."""
    found = [_line(output, line, board, floats=floats) for line in output.lines]
    return min(found, key=lambda each: (each[0].safe is not False, each[0].safe is not None))


def _line(output: Output, line: int, board: Board, *, floats: bool) -> tuple[Then, str]:
    pin, there = board.pin(line).name, board.position(line)
    high = rests_high(output, line)
    to = "its supply" if high else "ground"
    before = there.power_on if there is not None else "floating" if floats else ""
    if output.bias is not None and (there is None or sure(output, there)):
        right = (output.bias[1] == "up") == high
        return Then(right, f"its {show_ohms(output.bias[0])} pull {pin} {output.bias[1]}"), ""
    if BEFORE.get(before) == high:
        own = "drives itself" if before in ("high", "low") else "is pulled"
        return Then(True, f"{pin} {own} {'high' if high else 'low'} by itself"), ""
    if before in ("high", "low"):
        return Then(
            False, f"{pin} drives itself {before}"
        ), f"No resistor holds {pin} against that: take another pin"
    ohms = show_ohms(bias_needed(there))
    if not before:
        return Then(
            None, f"nobody says what has {pin}"
        ), f'If nothing is fitted to {pin}: {ohms} to {to}, and bias = "{ohms} {"up" if high else "down"}"'
    says = (
        f"nothing holds {pin}"
        if before == "floating"
        else f"{pin} is pulled {'low' if high else 'high'} by itself"
    )
    return Then(
        False, says
    ), f'Fit {ohms} from {pin} to {to}, and write bias = "{ohms} {"up" if high else "down"}"'
