"""Commands for a maker's first half hour: which pin is it, what can it do, does the relay click?"""

from __future__ import annotations

import sys
import threading
import time
from collections.abc import Iterator, Mapping
from contextlib import contextmanager
from datetime import datetime
from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING, Any
from zoneinfo import ZoneInfo

import click

from cairnwind.cli import exits
from cairnwind.cli.interrupts import Interrupts
from cairnwind.cli.main import as_json, main, names_of, pins_of, site_of
from cairnwind.core.values.errors import CallerError, Trouble

if TYPE_CHECKING:
    from cairnwind.client import Site

RENEW_EVERY = 0.25
LOOK_EVERY = 0.2
"""Seconds between two looks at pins that are followed."""
MOVING = ("motor", "heater", "lock")
"""Kinds of load that are not switched just to be seen, without asking."""


@main.command()
@click.argument("board", required=False, shell_complete=names_of("board"))
@click.option("--learn", metavar="NAME", help="Make a map of this name, one line at a time.")
@click.option(
    "--watching",
    is_flag=True,
    help="With --learn: watch lines (touch one to ground) instead of driving them.",
)
@click.option(
    "--to", default="maps", show_default=True, help="With --learn: folder for the map, beside the site file."
)
@click.option("--follow", is_flag=True, help="Then a line for each pin whose level changes, until Ctrl-C.")
@as_json
@click.pass_context
def pins(
    ctx: click.Context,
    board: str | None,
    learn: str | None,
    watching: bool,
    to: str,
    follow: bool,
    as_json: bool,
) -> None:
    """The pins of BOARD, or of all boards: both numbers, what they can, who uses them, what they are at."""
    from cairnwind.cli import show_pins

    site = site_of(ctx)
    boards = [site.board(board)] if board else [site.board(each["name"]) for each in site.boards()]
    if learn:
        if len(boards) != 1:
            raise CallerError(
                "bad-value",
                "A map is learned for one board.",
                "Say which: cairnwind pins BOARD --learn NAME.",
            )
        _learn(site, boards[0], learn, Path(to), watching=watching)
        return
    found = [(each, site.pins(each["name"])) for each in boards]
    if as_json:
        from cairnwind.cli import show

        show.emit([{**each, "pins": its} for each, its in found])
    else:
        for each, its in found:
            show_pins.pins(each, its)
    if follow:
        _follow(site, [each["name"] for each in boards], as_json=as_json)


@main.command("map")
@click.argument("what", shell_complete=names_of("board"))
@click.argument("name")
@click.option("--to", default="maps", show_default=True, help="Folder for the map, beside the site file.")
@click.option(
    "--watching", is_flag=True, help="Of a board: watch lines (touch one to ground) instead of driving them."
)
@as_json
@click.pass_context
def map_(ctx: click.Context, what: str, name: str, to: str, watching: bool, as_json: bool) -> None:
    """Make a header map NAME: of a GPIO chip of this machine from the names that its kernel has for the lines, or of a board by asking.

    \b
    cairnwind map /dev/gpiochip0 my-header
    cairnwind map shelf my-header
    """
    from cairnwind.boards import gpio, maps

    if not what.startswith(("/dev/", "gpiochip")):
        site = site_of(ctx)
        _learn(site, site.board(what), name, Path(to), watching=watching, err=as_json)
        if as_json:
            _emit_map(Path(to) / f"{name}.toml", name)
        return
    chip = gpio.Chip(gpio.find(what))
    try:
        names = [(line, chip.info(line).title) for line in range(chip.lines)]
        title = f"{chip.label}, by the names of its lines"
    finally:
        chip.close()
    found, path = maps.of_names(names), Path(to) / f"{name}.toml"
    if not found:
        raise CallerError(
            "bad-map",
            f"The kernel has no names for the lines of {what}.",
            f"Ask for them: cairnwind map BOARD {name}",
        )
    if path.exists():
        raise CallerError("taken", f"There is a map {path} already.", "Give another name.")
    maps.write(path, title, found)
    maps.read(path)
    if as_json:
        _emit_map(path, name)
        return
    count = sum(len(each) for each in found.values())
    click.echo(f'Written: {path}, {count} of {len(names)} lines. In the site file: map = "{name}"')


def _emit_map(path: Path, name: str) -> None:
    from cairnwind.boards import maps
    from cairnwind.cli import show

    there = maps.read(path).positions.values() if path.exists() else ()
    lines = {f"{each.connector}-{each.number}": each.line for each in there if each.line is not None}
    show.emit({"file": str(path) if lines else None, "map": name, "positions": lines})


def _follow(site: Site, boards: list[str], *, as_json: bool) -> None:
    """Say which pins have changed, as often as `LOOK_EVERY`, until somebody has had enough."""
    from cairnwind.cli import show, show_pins

    zone = ZoneInfo(site.facts()["timezone"])

    def levels() -> dict[str, Mapping[str, Any]]:
        return {str(row["pin"]): row for name in boards for row in site.pins(name) if row["high"] is not None}

    with Interrupts() as stop:
        before = levels()
        sys.stdout.flush()
        while not stop.asked:
            stop.sleep(LOOK_EVERY)
            now = levels()
            for pin, row in now.items():
                if pin in before and before[pin]["high"] == row["high"]:
                    continue
                at = datetime.now(zone)
                if as_json:
                    show.emit({"at": at.isoformat(timespec="milliseconds"), "pin": pin, "line": row["line"], "high": row["high"], "user": row["user"]})  # fmt: skip
                else:
                    click.echo(
                        f"{at:%H:%M:%S}  {show.both(row):<24}  {show_pins.high(row['high']):<12}  {row['user'].partition(' ')[2]}".rstrip()
                    )
            before = now
            sys.stdout.flush()


@main.command(name="try", context_settings={"ignore_unknown_options": True})
@click.argument("pin", shell_complete=pins_of)
@click.argument("mode", type=click.Choice(["output", "pwm", "tone", "input", "analogue", "count"]))
@click.argument("how", nargs=-1)
@click.option("--for", "lasting", metavar="TIME", help="End by itself after so long.")
@click.option("--once", is_flag=True, help="Read once, then let the pin go.")
@click.option("--keep", metavar="NAME", help="Then make it an output or input of this name.")
@click.option("--kind", help="Its kind; by what was tried, if not given.")
@click.option(
    "--sense", type=click.Choice(["active-high", "active-low"]), help="How it is switched on, or read."
)
@as_json
@click.pass_context
def try_(
    ctx: click.Context,
    pin: str,
    mode: str,
    how: tuple[str, ...],
    lasting: str | None,
    once: bool,
    keep: str | None,
    kind: str | None,
    sense: str | None,
    as_json: bool,
) -> None:
    """Try a bare PIN, like shelf:J2-9, until Ctrl-C: it is let go with this command, however that ends.

    \b
    output [high|low]      pwm 800Hz 25%      tone 440Hz
    input [up|down]        count [up|down]    analogue

    On the pin of an output with PWM, pwm tries another frequency and duty live. What was found right is kept
    with --keep NAME: try shelf:J2-9 output low --keep vent --sense active-low.
    """
    from cairnwind.cli import show, show_pins
    from cairnwind.core.values.quantities import NS, duration

    asked = _how(mode, how)
    site = site_of(ctx)
    end = time.monotonic() + (duration(lasting) / NS if lasting else 1e9)
    shown = ""
    with Interrupts() as stop:
        while not stop.asked:
            form = site.try_pin(pin, mode, **asked)
            if form["trial"] is None:
                raise Trouble(
                    "refused", f"{pin} cannot be tried so; the journal says why.", f"cairnwind journal {pin}"
                )
            line = show_pins.trial(form)
            if as_json:
                show.emit(form)
            elif line != shown:
                click.echo(line)
                shown = line
            sys.stdout.flush()
            if time.monotonic() >= end or (once and show_pins.has_read(form)):
                break
            stop.sleep(RENEW_EVERY)
    site.end_try(pin)
    if not as_json:
        click.echo(f"Let go of {pin}.")
    if keep is not None:
        from cairnwind.cli.editing import said

        said(ctx, site.add(_kept(mode), keep, **_keys(pin, mode, asked, kind, sense)), as_json)


KEPT = {
    "output": ("output", "relay"), "pwm": ("output", "lamp"), "tone": ("output", "sounder"), "input": ("input", "contact"),
    "analogue": ("input", "analogue"), "count": ("input", "counter"),
}  # fmt: skip
"""What a pin becomes that was tried so, unless a kind is given."""


def _kept(mode: str) -> str:
    return KEPT[mode][0]


def _keys(
    pin: str, mode: str, asked: Mapping[str, str], kind: str | None, sense: str | None
) -> dict[str, Any]:
    """The keys of what is kept: as it was tried."""
    found: dict[str, Any] = {"kind": kind or KEPT[mode][1], "pin": pin}
    if mode == "pwm" and "frequency" in asked:
        found["frequency"] = asked["frequency"]
    if mode in ("input", "count") and "pull" in asked:
        found["pull"] = asked["pull"]
    if sense is None and mode == "output" and asked.get("level") == "low":
        sense = "active-low"  # it was low that was found to be right
    return {**found, **({"sense": sense} if sense else {})}


def _how(mode: str, words: tuple[str, ...]) -> dict[str, str]:
    """What follows the mode, by its unit or its place."""
    found: dict[str, str] = {}
    text = " ".join(words)
    import re

    for amount, unit in re.findall(r"([\d.,]+)\s*([a-zA-Z%]*)", text):
        found[
            "duty" if unit == "%" or (mode == "pwm" and not unit and "frequency" in found) else "frequency"
        ] = f"{amount} {unit}".strip()
    for word in re.sub(r"[\d.,]+\s*[a-zA-Z%]*", " ", text).split():
        if word in ("high", "low", "on", "off"):
            found["level"] = {"on": "high", "off": "low"}.get(word, word)
        elif word in ("up", "down", "none"):
            found["pull"] = word
        elif word not in ("at", "pull"):
            raise CallerError(
                "bad-value", f"'{word}' says nothing about {mode}.", "See: cairnwind try --help."
            )
    if mode == "pwm" and not {"frequency", "duty"} <= found.keys():
        raise CallerError("bad-value", "PWM needs a frequency and a duty.", "Write: pwm 800Hz 25%.")
    if mode == "tone" and "frequency" not in found:
        raise CallerError("bad-value", "A tone needs a frequency.", "Write: tone 440Hz.")
    return found


@main.command()
@click.argument("name", required=False, shell_complete=names_of("output, board"))
@click.option("--step", default="500 ms", show_default=True, help="Time of each on and of each off.")
@click.option(
    "--dwell", default="3 s", show_default=True, help="Time for each output when walking through a board."
)
@click.option("--times", type=click.IntRange(1), help="Blink so often, then end (else until Ctrl-C).")
@click.option("--yes", is_flag=True, help="Do not ask before motors, heaters and locks are switched.")
@as_json
@click.pass_context
def identify(
    ctx: click.Context, name: str | None, step: str, dwell: str, times: int | None, yes: bool, as_json: bool
) -> None:
    """Blink output NAME, or each output of board NAME in turn; without a name, tell which input just changed."""
    from cairnwind.cli import show
    from cairnwind.core.values.quantities import NS, duration

    site = site_of(ctx)
    pause, stay = duration(step) / NS, duration(dwell) / NS
    if name is None:
        _tell_inputs(site, as_json=as_json)
        return
    outputs = site.outputs()
    here = [each for each in outputs if each["board"] == name]
    single = [each for each in outputs if each["name"] == name]
    if not here and not single:
        if name in {each["name"] for each in site.boards()}:
            raise CallerError(
                "bad-value", f"Board {name} has no outputs.", "cairnwind try works its bare pins."
            )
        site.output(name)
    moving = [f"{each['name']} ({each['kind']})" for each in single or here if each["kind"] in MOVING]
    if moving and not yes:
        click.confirm(f"This switches {', '.join(moving)}. Is nobody near?", abort=True)
    try:
        for number, each in enumerate(single or here):
            place = f" of {len(here)}" if not single else ""
            if as_json:
                show.emit(
                    {"output": each["name"], "label": each["label"], "pin": each["pin"], "line": each["line"]}
                )
            else:
                click.echo(
                    f"{number + 1}{place}  {click.style(each['name'], bold=True)}  {each['label']}  at {show.both(each)}"
                )
            sys.stdout.flush()
            count = times or (max(1, round(stay / (2 * pause))) if not single else None)
            _blink(site, each["name"], pause, count)
    except KeyboardInterrupt:
        click.echo("\nLet go.", err=as_json)


def _blink(site: Site, name: str, pause: float, times: int | None) -> None:
    done = 0
    try:
        with site.hold(name) as hold:
            while times is None or done < times:
                time.sleep(pause)
                hold.change("off")
                time.sleep(pause)
                done += 1
                if times is None or done < times:
                    hold.change("on")
    except Trouble as error:
        click.echo(f"   {error}", err=True)


def _tell_inputs(site: Site, *, as_json: bool) -> None:
    from cairnwind.cli import show

    click.echo(click.style("Press, open or move something; Ctrl-C ends it.", dim=True), err=as_json)
    before = {each["name"]: each["state"] for each in site.inputs()}
    with Interrupts() as stop:
        for change in site.changes():
            if stop.asked:
                break
            if change.kind == "input" and before.get(change.name) != change.data["state"]:
                data = change.data
                if as_json:
                    was = before.get(change.name)
                    show.emit({"input": data["name"], "label": data["label"], "was": was, "state": data["state"], "pin": data["pin"], "line": data["line"]})  # fmt: skip
                else:
                    click.echo(
                        f"{click.style(data['name'], bold=True)}  {data['label']}: {before.get(change.name)} → {data['state']}  at {show.both(data)}"
                    )
                before[change.name] = data["state"]
                sys.stdout.flush()
    click.echo(err=as_json)


@main.command(context_settings={"ignore_unknown_options": True})  # '-3' is no option
@click.argument("input", shell_complete=names_of("input remote"))
@click.argument("how", nargs=-1, required=True)
@as_json
@click.pass_context
def pretend(ctx: click.Context, input: str, how: tuple[str, ...], as_json: bool) -> None:
    """Work INPUT of a simulated board: one of its two words, volts, its value in its own unit, or the steps by which an encoder is turned; or press keys of a simulated keypad: 4711#. Real ones are worked by hand."""
    from cairnwind.cli import show

    site, said = site_of(ctx), " ".join(how)
    if any(each["name"] == input and each["kind"] == "keypad" for each in site.remotes()):
        pressed = site.press(input, said)
        if as_json:
            show.emit(pressed)
        else:
            told = pressed["said"] and f"; it was told: {pressed['said']}"
            click.echo(
                f"{input}: {pressed['pressed']} {'key is' if pressed['pressed'] == 1 else 'keys are'} pressed{told}."
            )
        return
    found = site.pretend(input, said)
    if as_json:
        show.emit(found)
    else:
        click.echo(f"{input} is pretended to be {said}; it reads {found['seen']}.")


@main.command()
@click.argument("chip")
@click.option("--bus", metavar="PATH", help="Ask this bus which addresses answer: /dev/i2c-1.")
@as_json
@click.pass_context
def chain(ctx: click.Context, chip: str, bus: str | None, as_json: bool) -> None:
    """The address switches of CHIP (a profile), with their addresses; and what answers on a bus."""
    from cairnwind.boards import profiles, twowire
    from cairnwind.cli import show, show_pins

    profile = profiles.chip(chip, (Path(),))
    found = twowire.scan(bus) if bus else {}
    rows = [
        {"switches": switches, "address": address, "found": found.get(address, "")}
        for switches, address in twowire.truth_table(profile)
    ]
    others = {
        address: what for address, what in found.items() if address not in {row["address"] for row in rows}
    }
    if as_json:
        show.emit({"chip": chip, "rows": rows, "others": others})
    else:
        show_pins.chain(profile.title, rows, others, asked=bool(bus))


@main.command()
@click.argument("site_file", required=False, type=click.Path(dir_okay=False))
@click.option(
    "--bundle",
    metavar="FILE",
    type=click.Path(dir_okay=False, path_type=Path),
    help="Write all that is known of the running service into FILE.zip, for somebody who looks into it: nothing that opens anything.",
)
@as_json
@click.pass_context
def doctor(ctx: click.Context, site_file: str | None, bundle: Path | None, as_json: bool) -> None:
    """Check this machine: devices, your rights to them, who holds them; state folder, disk and clock. Of SITE_FILE, if given, its boards,
    ports, broker and keys. Of the service that runs, if one does, what is wrong there, since when, and what to type."""
    from cairnwind.boards.doctor import examine
    from cairnwind.cli import problems, show
    from cairnwind.service.around import look, state_of
    from cairnwind.site import read_site

    site = read_site(site_file) if site_file else None
    state = state_of((ctx.obj or {}).get("state"))
    found = [*examine(site), *look(site, state, running=(state / "address").exists())]
    forms = [{"good": each.good, "what": each.what, "remedy": each.remedy} for each in found]
    running, wrong, zone = None, [], ZoneInfo("UTC")
    if site_file is None:
        try:
            running = site_of(ctx)
            wrong, zone = list(problems.found(running)), ZoneInfo(running.facts()["timezone"])
        except Trouble:
            if bundle is not None:
                raise
    if bundle is not None:
        if running is None:
            raise click.UsageError("--bundle is of a service that runs, not of a site file.")
        from cairnwind.cli.bundle import write

        left = ", ".join(write(running, bundle, forms))
        without = f"; left out: {left}" if left else ""
        click.echo(
            f"{bundle} has all that is known of it, and nothing that opens anything{without}.", err=as_json
        )
    if as_json:
        show.emit(
            [
                *forms,
                *(
                    {
                        "good": False,
                        "what": f"{each['what']} {each['name']}: {each['text']}".strip(),
                        "remedy": each["remedy"],
                        "since": each["since"],
                    }
                    for each in wrong
                ),
            ]
        )
    else:
        for each in found:
            mark = {
                True: click.style("good   ", fg="green"),
                False: click.style("trouble", fg="red"),
                None: click.style("note   ", dim=True),
            }[each.good]
            click.echo(f"{mark}  {each.what}")
            if each.remedy:
                click.echo(f"         {each.remedy}")
        if running is not None:
            click.echo(f"\nThe service of {running.facts()['name']}:")
            problems.show(wrong, zone)
    if wrong or any(each.good is False for each in found):
        ctx.exit(exits.OTHER)


# --- learning a map ---------------------------------------------------------------------------------------


@contextmanager
def _kept_up(site: Site, pin: str, watching: bool) -> Iterator[dict[str, Any]]:
    """A line that blinks, or is watched, for as long as one is asked about it."""
    over, latest = threading.Event(), {"count": 0}

    def work() -> None:
        high = True
        while not over.wait(0.3):
            try:
                if watching:
                    reading = site.try_pin(pin, "count", pull="up")["trial"]["reading"]
                    latest["count"] = reading["count"] or 0
                else:
                    site.try_pin(pin, "output", level="high" if high else "low")
                    high = not high
            except (Trouble, TypeError):
                continue

    thread = threading.Thread(target=work, daemon=True)
    thread.start()
    try:
        yield latest
    finally:
        over.set()
        thread.join()
        try:
            site.end_try(pin)
        except Trouble:
            pass


def _learn(
    site: Site, board: Mapping[str, Any], name: str, folder: Path, *, watching: bool, err: bool = False
) -> None:
    """Ask for each free line which position it is; what was said is written after each answer."""
    import re

    from cairnwind.boards import maps

    say = partial(click.echo, err=err)
    lines = [
        each
        for each in site.pins(board["name"])
        if each["line"] is not None and not each["holder"] and not each["user"]
    ]
    path = folder / f"{name}.toml"
    found: dict[str, dict[int, tuple[int, str]]] = {}
    if path.exists():
        for position in maps.read(path).positions.values():
            if position.line is not None:
                found.setdefault(position.connector, {})[position.number] = (position.line, position.title)
    known = {line for table in found.values() for line, _ in table.values()}
    what = (
        "is watched with its pull-up: touch positions to ground"
        if watching
        else "goes high and low: see it with an LED and a resistor, or a meter"
    )
    say(f"Each free line of {board['name']} {what}.")
    say("Say the position, like J2-9; Enter skips the line; 'done' ends. Nothing else is driven meanwhile.")
    if not watching and not click.confirm(
        f"Is nothing wired to {board['name']} that may not be switched?", err=err
    ):
        return
    for each in lines:
        if each["line"] in known:
            continue
        pin = f"{board['name']}:line-{each['line']}"
        with _kept_up(site, pin, watching) as latest:
            while True:
                said = click.prompt(
                    f"line {each['line']}{' (' + each['title'] + ')' if each['title'] else ''}",
                    default="",
                    show_default=False,
                    err=err,
                ).strip()
                if watching and not said and latest["count"]:
                    say(f"   it has changed {latest['count']} times")
                match = re.fullmatch(r"([A-Za-z]\w*)-(\d+)", said)
                if match and int(match[2]) not in found.get(match[1], {}):
                    found.setdefault(match[1], {})[int(match[2])] = (each["line"] or 0, each["title"])
                    maps.write(path, f"Learned from {board['name']}", found)
                elif match:
                    say(f"   {said} is line {found[match[1]][int(match[2])][0]} already.", err=True)
                    continue
                elif said not in ("", "done"):
                    say("   A position is a connector and a number: J2-9.", err=True)
                    continue
                break
        if said == "done":
            break
    count = sum(len(table) for table in found.values())
    if count:
        say(
            f'{path} has {count} positions. Move it beside the site file as maps/{name}.toml and write: map = "{name}".'
        )
    else:
        say("Nothing was learned, and nothing written.")
