"""Run the rows whose name matches one of the patterns; print a table; write ``build/bench.json``."""

from __future__ import annotations

import fnmatch
import sys
import threading
import traceback
from importlib import import_module
from pathlib import Path

from rich.console import Console
from rich.table import Table

from bench.table import ROWS, Row, write

for _each in sorted(Path(__file__).parent.glob("[a-z]*.py")):
    import_module(f"bench.{_each.stem}")  # each registers its rows


def main() -> None:
    """Measure and show."""
    patterns = [f"*{each.strip('*.')}*" for each in sys.argv[1:] or ["*"]]
    chosen = [name for name in ROWS if any(fnmatch.fnmatch(name, each) for each in patterns)]
    if not chosen:
        raise SystemExit(f"No row matches '{' '.join(sys.argv[1:])}'. Rows: {', '.join(ROWS)}")
    rows: list[Row] = []
    failed: list[str] = []
    out = Console(width=None if sys.stdout.isatty() else 150, highlight=False)
    for name in chosen:
        print(f"measuring {name} …", file=sys.stderr, flush=True)
        try:
            rows += ROWS[name]()
        except Exception as error:  # the others are measured all the same
            failed.append(f"{name} was not measured: {type(error).__name__}: {error}")
            traceback.print_exc()
        write(rows)
        left = [each.name for each in threading.enumerate() if each is not threading.main_thread()]
        if left:  # whatever still runs would be measured with the rows that follow
            failed.append(f"{name} has left threads running: {', '.join(left)}")
    table = Table(box=None, pad_edge=False, header_style="bold")
    for column in ("row", "value", "unit", "reference", "ratio", "bar", "holds"):
        table.add_column(column, justify="right" if column in ("value", "reference", "ratio") else "left")
    for row in rows:
        holds = {True: "yes", False: "NO", None: ""}[row.holds]
        table.add_row(
            row.row, _number(row.value), row.unit, _number(row.reference), _number(row.ratio), row.bar, holds
        )
    out.print(table)
    if failed:
        raise SystemExit("\n".join(failed))


def _number(value: float | None) -> str:
    if value is None:
        return ""
    return f"{value:,.0f}" if abs(value) >= 1000 else f"{value:.3g}"


main()
