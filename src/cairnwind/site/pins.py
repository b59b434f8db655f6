"""From 'shelf:J2-9' to a pin, with errors that name the neighbour that was probably meant."""

from __future__ import annotations

import re

from cairnwind.core.facts.hardware import Board, Pin
from cairnwind.core.values.errors import CallerError, nearest

_FORM = re.compile(r"([a-z0-9][\w-]*)\s*:\s*(?:line-(\d+)|([A-Za-z]\w*-\d+))")
_NUMBER = re.compile(r"(?:([a-z0-9][\w-]*)\s*:\s*)?(\d+)")


def resolve(text: object, boards: dict[str, Board]) -> Pin:
    """The pin that ``text`` means. Raises `CallerError` (``bad-value`` or ``unknown-name``)."""
    bare = _NUMBER.fullmatch(str(text).strip())
    if bare:
        raise _bare(text, bare.group(1), int(bare.group(2)), boards)
    called = _called(text, boards)
    if called is not None:
        return called
    match = _FORM.fullmatch(text.strip()) if isinstance(text, str) else None
    if match is None:
        raise CallerError(
            "bad-value",
            f"{text!r} is not a pin.",
            "Write board:J2-9 (connector and position) or board:line-41 (the chip's line).",
        )
    name, line, position = match.groups()
    board = boards.get(name)
    if board is None:
        raise CallerError(
            "unknown-name", f"There is no board called '{name}'.", nearest(name, boards) or _known(boards)
        )
    return _position(board, position) if position else _line(board, int(line))


def _called(text: object, boards: dict[str, Board]) -> Pin | None:
    """A line that is called by a name there, as those of another site are."""
    name, colon, line = str(text).partition(":")
    board = boards.get(name.strip())
    called = board.called if board is not None and colon else ()
    if board is None or not called or re.fullmatch(r"line-\d+", line.strip()):
        return None
    if line.strip() not in called:
        raise CallerError(
            "unknown-name", f"Nothing of {board.name} is called '{line.strip()}'.",
            nearest(line.strip(), called) or f"It takes: {', '.join(called)}.",
        )  # fmt: skip
    return board.pin(called.index(line.strip()))


def _position(board: Board, name: str) -> Pin:
    if board.map is None:
        raise CallerError(
            "bad-value",
            f"Board {board.name} has no map, so it has no position {name}.",
            f"Write {board.name}:line-0 to line-{board.line_count - 1}, or give the board a map.",
        )
    there = board.map.positions.get(name)
    if there is None:
        connectors = ", ".join(
            f"{connector} has 1 to {last}" for connector, last in _connectors(board).items()
        )
        guess = nearest(name, board.map.positions)
        raise CallerError(
            "unknown-name",
            f"Board {board.name} has no position {name}.",
            f"{guess} Its map {board.map.name}: {connectors}.".strip(),
        )
    if there.line is None:
        close = _neighbours(board, name)
        raise CallerError(
            "bad-value", f"{board.name}:{name} is {there.role}, not a line.", f"Lines beside it: {close}."
        )
    return Pin(board.name, there.line, there.name)


def _line(board: Board, line: int) -> Pin:
    if board.map is None:
        if line in board.reserved:
            raise CallerError(
                "bad-value", f"Line {line} of board {board.name} is the board's own, and is not brought out.", f"Lines that are: {_runs(board.lines)}."
            )  # fmt: skip
        if line < board.line_count:
            return board.pin(line)
        raise CallerError(
            "unknown-name",
            f"Board {board.name} has no line {line}.",
            f"It has lines 0 to {board.line_count - 1}.",
        )
    there = board.map.lines.get(line)
    if there is None:
        meant = [
            position.name
            for position in board.map.positions.values()
            if position.number == line and position.line is not None
        ]
        hint = (
            f"Position {meant[0]} was perhaps meant: {board.name}:{meant[0]}."
            if meant
            else f"Its lines: {', '.join(map(str, sorted(board.map.lines)))}."
        )
        raise CallerError(
            "unknown-name", f"Line {line} of board {board.name} comes out nowhere on {board.map.name}.", hint
        )
    return Pin(board.name, line, there.name)


def _runs(lines: list[int]) -> str:
    """'0 to 7, 9, 12 to 31'."""
    runs: list[list[int]] = []
    for line in lines:
        if runs and line == runs[-1][-1] + 1:
            runs[-1].append(line)
        else:
            runs.append([line])
    return ", ".join(f"{run[0]} to {run[-1]}" if len(run) > 1 else str(run[0]) for run in runs)


def _bare(text: object, name: str | None, number: int, boards: dict[str, Board]) -> CallerError:
    """A bare number has two readings; say both, for the board named or for each there is."""
    readings = []
    for board in [boards[name]] if name in boards else list(boards.values())[:3]:
        if board.map is None:
            if number < board.line_count:
                readings.append(f"{board.name}:line-{number}")
            continue
        for position in board.map.positions.values():
            if position.number == number:
                what = f"line {position.line}" if position.line is not None else position.role
                readings.append(
                    f"{board.name}:{position.name} (position {number} of {position.connector}, which is {what})"
                )
        there = board.map.lines.get(number)
        if there is not None:
            readings.append(f"{board.name}:line-{number} (line {number}, which comes out on {there.name})")
    said = str(text).strip()
    remedy = f"Say which: {', or '.join(readings)}." if readings else "Write board:J2-9 or board:line-41."
    return CallerError("bad-value", f"{said} alone is not a pin: it may be a position or a line.", remedy)


def _connectors(board: Board) -> dict[str, int]:
    assert board.map is not None
    last: dict[str, int] = {}
    for position in board.map.positions.values():
        last[position.connector] = max(position.number, last.get(position.connector, 0))
    return last


def _neighbours(board: Board, name: str) -> str:
    assert board.map is not None
    names = [position.name for position in board.map.positions.values()]
    order = sorted(range(len(names)), key=lambda at: abs(at - names.index(name)))
    close = [names[at] for at in order if board.map.positions[names[at]].line is not None][:2]
    return " and ".join(
        f"{board.name}:{each} (line {board.map.positions[each].line})" for each in sorted(close)
    )


def _known(boards: dict[str, Board]) -> str:
    return f"Boards: {', '.join(sorted(boards))}." if boards else "The file has no [board.…] table yet."
