"""Lines drawn with characters: levels, curves and square waves, one row of a terminal or a few."""

from __future__ import annotations

from collections.abc import Sequence

BLOCKS = " ▁▂▃▄▅▆▇█"
HIGH, LOW, BOTH, GONE = "▔", "▁", "█", "·"


def curve(
    values: Sequence[float | None], rows: int = 6, top: float = 100.0, bottom: float = 0.0
) -> list[str]:
    """Values as a filled curve of so many rows, the highest first; None is a gap."""
    lines = []
    for row in range(rows - 1, -1, -1):
        cells = ""
        for value in values:
            if value is None:
                cells += " "
                continue
            eighths = round((value - bottom) / ((top - bottom) or 1) * rows * 8) - row * 8
            cells += BLOCKS[max(0, min(8, eighths))]
        lines.append(cells)
    return lines


def levels(cells: Sequence[tuple[float, float] | None]) -> str:
    """One row of a digital trace, from the lowest and the highest value in each cell's time."""
    return "".join(
        GONE if cell is None else BOTH if cell[0] != cell[1] else HIGH if cell[1] else LOW for cell in cells
    )


def span(cells: Sequence[tuple[float, float] | None], bottom: float, top: float) -> str:
    """One row of an analogue trace: the mean of each cell as a height."""
    width = (top - bottom) or 1
    found = ""
    for cell in cells:
        if cell is None:
            found += GONE
        else:
            share = ((cell[0] + cell[1]) / 2 - bottom) / width
            found += BLOCKS[max(1, min(8, 1 + round(share * 7)))]
    return found


def square(edges: Sequence[tuple[float, bool]], seconds: float, width: int) -> list[str]:
    """A square wave from its edges (seconds, level) as two rows of box lines."""
    upper, lower = "", ""
    before: bool | None = None
    for cell in range(width):
        at = seconds * (cell + 0.5) / width
        level = next((high for when, high in reversed(edges) if when <= at), False)
        if before is None or level == before:
            upper += "─" if level else " "
            lower += " " if level else "─"
        else:
            upper += "┌" if level else "┐"
            lower += "┘" if level else "└"
        before = level
    return [upper, lower]
