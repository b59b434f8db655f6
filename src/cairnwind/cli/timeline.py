"""A rehearsal as a picture: a lane for each output, time to the right. Needs the extra 'plot'."""

from __future__ import annotations

from datetime import datetime, timedelta
from pathlib import Path
from typing import Any
from zoneinfo import ZoneInfo

from cairnwind.core.explain.rehearsal import Bar, Rehearsed
from cairnwind.core.facts.site import Site
from cairnwind.core.values.errors import CallerError
from cairnwind.core.values.quantities import NS
from cairnwind.optional import needs

INK, FAINT, EDGE = "#2b2722", "#ece7df", "#b9afa1"
LANES = {"plan": "#2f7d8c", "person": "#c4713b", "reflex": "#7a6a9b", "rest": "#8c8c84"}
"""One colour for each rank."""


def draw(found: Rehearsed, site: Site, path: Path) -> None:
    """Write the picture; its form is that of the file's ending. Raises `CallerError`."""
    if path.suffix.lower() not in (".png", ".svg"):
        raise CallerError(
            "bad-value", f"'{path.name}' is neither FILE.png nor FILE.svg.", "Say which by its ending."
        )
    needs("plot", "A picture")
    import matplotlib

    matplotlib.use("Agg")
    from matplotlib import dates as calendar
    from matplotlib import pyplot

    dates: Any = calendar
    zone = ZoneInfo(site.timezone)
    bars = [bar for bar in found.bars if bar.on]
    names = [name for name in site.outputs if any(bar.output == name for bar in bars)]
    figure, axes = pyplot.subplots(figsize=(12.8, max(2.6, 1.5 + 0.46 * len(names))), layout="constrained")
    axes.set_title(site.name, loc="left", color=INK, fontweight="bold")
    begin, end = _at(found.begin, zone), _at(found.end, zone)
    for number, name in enumerate(names):
        axes.axhspan(number - 0.36, number + 0.36, color=FAINT, zorder=0)
        for bar in bars:
            if bar.output == name:
                _bar(axes, dates, bar, number, zone, (found.end - found.begin) / NS)
    now = datetime.now(zone)
    if begin < now < end:
        axes.axvline(dates.date2num(now), color="#b3261e", linewidth=1.2, zorder=4)
    axes.set_yticks(range(len(names)), [site.outputs[name].label or name for name in names])
    axes.set_ylim(len(names) - 0.5, -0.5)
    axes.set_xlim(dates.date2num(begin), dates.date2num(end))
    days = (end - begin) / timedelta(days=1)
    axes.xaxis.set_major_locator(
        dates.AutoDateLocator(tz=zone, maxticks=15)
        if days > 2
        else dates.HourLocator(interval=max(1, round(days * 2)), tz=zone)
    )
    axes.xaxis.set_major_formatter(dates.DateFormatter("%a %d %b" if days > 2 else "%H:%M", tz=zone))
    axes.tick_params(length=0, colors=INK)
    axes.grid(axis="x", color=EDGE, linewidth=0.6)
    axes.set_axisbelow(True)
    for spine in axes.spines.values():
        spine.set_visible(False)
    if not names:
        axes.text(0.5, 0.5, "nothing is on in that time", transform=axes.transAxes, ha="center", color=INK)
    try:
        figure.savefig(path, dpi=100)
    except OSError as error:
        raise CallerError(
            "no-file", f"{path} cannot be written: {error.strerror}.", "Give another path."
        ) from None
    finally:
        pyplot.close(figure)


def _at(wall: int, zone: ZoneInfo) -> datetime:
    return datetime.fromtimestamp(wall / NS, zone)


def _bar(axes: Any, dates: Any, bar: Bar, lane: int, zone: ZoneInfo, whole: float) -> None:
    begin, end = (dates.date2num(_at(at, zone)) for at in (bar.start, bar.end))
    rank = next((rank for rank in LANES if f"({rank})" in bar.by), "rest" if bar.by == "rest" else "person")
    height = 0.14 + 0.58 * bar.level**0.5
    long = (bar.end - bar.start) / NS
    thin = long < whole * 0.004
    axes.barh(
        lane + 0.36 - height / 2, max(end - begin, whole / 86400 * 0.0012), left=begin, height=height, color=LANES[rank],
        edgecolor=LANES[rank] if thin else "white", linewidth=0.4, zorder=2,
    )  # fmt: skip
    if long > whole * 0.045:
        axes.text(
            begin + (end - begin) / 2, lane + 0.36 - height / 2, bar.brief, ha="center", va="center", fontsize=8,
            color="white", zorder=3, clip_on=True,
        )  # fmt: skip
