"""The commands for light and sound: programs, tunes, pads, timers, and finding half brightness by eye."""

from __future__ import annotations

import sys
import time
import wave
from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import Any

import click
from rich.console import Console
from rich.table import Table
from rich.text import Text

from cairnwind.cli import draw, exits, show
from cairnwind.cli.interrupts import Interrupts
from cairnwind.cli.main import an_output, as_json, main, names_of, report, site_of
from cairnwind.core.values.errors import CallerError
from cairnwind.core.values.quantities import NS, duration

KINDS = ("blink", "breathe", "ramp", "chase", "sequence", "candle")
ROWS = 8


def _out() -> Console:
    return show.console(120)


# --- programs -----------------------------------------------------------------------------------------------

OWN_TIMERS = (Path("timers"),)
"""Where one's own descriptions of timers stand, from the folder of the site file."""


@main.command(context_settings={"ignore_unknown_options": True})
@click.argument("kind", type=click.Choice(KINDS))
@click.argument("outputs", nargs=-1, required=True, shell_complete=names_of("output"))
@click.option("--from", "start", metavar="SETTING", help="ramp: where it begins (else what it is at).")
@click.option(
    "--to", metavar="SETTING", multiple=True, help="ramp: where it leads. sequence: a step; give several."
)
@click.option("--over", metavar="TIME", help="ramp, sequence: how long a way takes.")
@click.option("--wait", "pause", metavar="TIME", help="sequence: how long each step stays.")
@click.option("--end", metavar="SETTING", help="sequence: what it ends at (else it lets go).")
@click.option(
    "--repeat", type=click.Choice(["once", "jump-back", "there-and-back"]), help="ramp: what follows."
)
@click.option("--on", "lit", metavar="TIME", help="blink: how long it is on.")
@click.option("--off", "dark", metavar="TIME", help="blink: how long it is off.")
@click.option("--edge", metavar="TIME", help="blink: how long the ways between take.")
@click.option("--in", "inhale", metavar="TIME", help="breathe: how long the way up takes.")
@click.option("--out", "exhale", metavar="TIME", help="breathe: how long the way down takes.")
@click.option("--low", metavar="SETTING", help="The darker end (else off).")
@click.option("--high", metavar="SETTING", help="The brighter end (else on).")
@click.option("--step", metavar="TIME", help="chase: how long each is on.")
@click.option("--overlap", metavar="TIME", help="chase: how much longer.")
@click.option("--times", type=click.IntRange(0, 1_000_000), help="How often; without it until released.")
@click.option("--for", "lasting", metavar="TIME", help="For so long: '10 min'.")
@click.option("--preview", is_flag=True, help="Only show what it would do.")
@as_json
@click.pass_context
def run(
    ctx: click.Context,
    /,
    kind: str,
    outputs: tuple[str, ...],
    preview: bool,
    lasting: str | None,
    as_json: bool,
    **given: Any,
) -> None:
    """Run a program on OUTPUTS: what changes with time, and how.

    \b
    cairnwind run blink yard --on 200ms --off 800ms --times 5
    cairnwind run breathe gallery --low 10% --high 80% --in 3s --preview
    cairnwind run ramp gallery --to 60% --over 5s
    cairnwind run chase path-1 path-2 path-3 --step 200ms --overlap 100ms
    cairnwind run sequence shelf-colour --to coral --to teal --over 2s --wait 1s --times 3
    """
    program = _program(kind, given)
    site = site_of(ctx)
    if preview:
        found = [
            site.preview(name, program, place=place, of=len(outputs)) for place, name in enumerate(outputs)
        ]
        if as_json:
            show.emit(found)
        else:
            for each in found:
                _preview(each)
        return
    outcomes = site.run(list(outputs), program, lasting=lasting)
    if as_json:
        show.emit([outcome.form for outcome in outcomes])
        return
    for outcome in outcomes:
        click.echo(
            f"{outcome.output}: {outcome.words} ({outcome.outcome}{': ' + outcome.reason if outcome.reason else ''})"
        )
    if any(outcome.outcome in ("blocked", "waiting") for outcome in outcomes):
        ctx.exit(exits.code("refused"))


def _program(kind: str, given: Mapping[str, Any]) -> dict[str, Any]:
    """The options as the API has them."""
    places: dict[str, dict[str, str]] = {
        "blink": {"lit": "lit", "dark": "dark", "edge": "edge", "high": "on", "low": "off", "times": "times"},
        "breathe": {"inhale": "in", "exhale": "out", "low": "low", "high": "high", "times": "times"},
        "ramp": {"start": "from", "to": "to", "over": "over", "repeat": "repeat", "times": "times"},
        "chase": {"step": "step", "overlap": "overlap", "high": "on", "low": "off", "times": "times"},
        "sequence": {"to": "steps", "over": "over", "pause": "wait", "end": "end", "times": "times"},
        "candle": {"high": "bright", "low": "dim"},
    }
    own = places[kind]
    names = {"start": "from", "lit": "on", "dark": "off", "inhale": "in", "exhale": "out", "pause": "wait"}
    for name, value in given.items():
        if value not in (None, ()) and name not in own:
            raise click.UsageError(f"A {kind} has no --{names.get(name, name)}.")
    program: dict[str, Any] = {"kind": kind}
    program |= {own[name]: value for name, value in given.items() if value not in (None, ()) and name in own}
    if kind == "ramp":
        if len(given["to"]) != 1:
            raise click.UsageError("A ramp leads to one setting: give --to once.")
        program["to"] = given["to"][0]
    if kind == "sequence":
        way = {key: program.pop(key) for key in ("over", "wait") if key in program}
        program["steps"] = [{"to": setting, **way} for setting in given["to"]]
    return program


def _preview(form: Mapping[str, Any]) -> None:
    out = _out()
    ends = "lets go" if form["then"] == "release" else f"stays at {form['ends_at']['words']}"
    length = (
        f"{form['seconds']:.4g} s, then it {ends}"
        if form["seconds"] is not None
        else f"until its claim ends, in rounds of {form['round_seconds']:.4g} s"
    )
    out.print(Text(f"{form['output']}: {form['text']}", style="bold"))
    out.print(f"  lasts {length}")
    out.print(
        f"  {form['writes']} writes in {form['shown_seconds']:.4g} s, where the timer's {form['counts']} counts change"
    )
    values = [_height(point[1]) for point in form["curve"]]
    width = min(len(values), out.width - 12)
    picked = [values[number * (len(values) - 1) // (width - 1)] for number in range(width)]
    bottom = -100.0 if min(picked) < 0 else 0.0
    for number, line in enumerate(draw.curve(picked, ROWS, 100.0, bottom)):
        label = "100 %" if number == 0 else f"{bottom:.0f} %" if number == ROWS - 1 else ""
        out.print(Text(f"  {label:>6} ") + Text(line, style="cyan"))
    end = f"{form['shown_seconds']:.4g} s"
    out.print(Text(f"  {'':6} 0 s{end.rjust(width - 3)}", style="dim"))


def _height(setting: Mapping[str, Any]) -> float:
    """A setting as a height in percent: a colour by its brightest channel, a tone by its pitch from 100 Hz to 10 kHz."""
    if "colour" in setting:
        return max(int(setting["colour"][at : at + 2], 16) for at in (1, 3, 5)) / 2.55
    if "hertz" in setting and "level" not in setting:
        import math

        return max(0.0, min(100.0, 50 * math.log10(setting["hertz"] / 100))) if setting["on"] else 0.0
    return float(setting.get("level", setting.get("drive", 0.0)))


# --- sound --------------------------------------------------------------------------------------------------


@main.command()
@click.argument("tune", nargs=-1)
@click.option(
    "--on",
    "output",
    metavar="OUTPUT",
    shell_complete=names_of("output"),
    help="The sounder; without it the only one there is.",
)
@click.option("--midi", type=click.Path(dir_okay=False), help="Play one voice of a MIDI file.")
@click.option("--track", type=click.IntRange(1), help="With --midi: only this track.")
@click.option(
    "--voice",
    type=click.Choice(["highest", "latest"]),
    default="highest",
    show_default=True,
    help="With --midi: which note of several.",
)
@click.option(
    "--text",
    is_flag=True,
    help="With --midi: print the notes for the site file, to the nearest half-tone, instead.",
)
@click.option("--test", is_flag=True, help="A test tone of 1 kHz for a second.")
@click.option(
    "--sweep",
    nargs=2,
    metavar="FROM TO",
    help="From one pitch to another, to hear where it is loudest; Ctrl-C tells where it was.",
)
@click.option("--over", default="10 s", show_default=True, help="With --sweep: how long it takes.")
@click.option(
    "--wav",
    type=click.Path(dir_okay=False, writable=True),
    help="Write it to FILE.wav instead; no service is needed for notes.",
)
@as_json
@click.pass_context
def play(
    ctx: click.Context, tune: tuple[str, ...], output: str | None, midi: str | None, track: int | None, voice: str, text: bool, test: bool,
    sweep: tuple[str, str] | None, over: str, wav: str | None, as_json: bool,
) -> None:  # fmt: skip
    """Play TUNE on a sounder: the name of a tune of the site, or notes.

    \b
    cairnwind play welcome
    cairnwind play tempo 96 E4:1/2 G4 440Hz:3/2 rest C5:2 --on bell
    cairnwind play --midi march.mid --track 2
    cairnwind play --sweep 500Hz 5kHz --over 15s
    """
    if sum((bool(tune), midi is not None, test, sweep is not None)) != 1:
        raise click.UsageError("Give a tune, or one of --midi, --test and --sweep.")
    notes: Any = " ".join(tune)
    if midi is not None:
        from cairnwind.client.midi import read

        notes = read(midi, track=track, rule=voice)
        if text:
            from cairnwind.core.physics import sound
            from cairnwind.core.values import pitch

            heard = [
                (pitch.nearest(round(hertz * 1000)) if hertz else 0, round(seconds * NS))
                for hertz, seconds in notes
            ]
            click.echo(sound.write(heard))
            return
    form: Any = {"kind": "tune", "notes": notes}
    if sweep is not None:
        form = {"kind": "sweep", "from": sweep[0], "to": sweep[1], "over": over}
    if test:
        form = {"kind": "tune", "notes": [[1000, 1.0]]}
    if wav is not None:
        _wav(ctx, form, wav, as_json)
        return
    site = site_of(ctx)
    output = output or _only_sounder(site)
    if len(tune) == 1 and tune[0] in {each["name"] for each in site.tunes()}:
        form = tune[0]
    outcome = site.run(output, form)[0]
    if as_json or sweep is None or outcome.outcome != "driving":
        report(ctx, outcome, as_json)
        return
    _follow_sweep(site, output, sweep, duration(over, longest=600) / NS)


def _only_sounder(site: Any) -> str:
    found = [each["name"] for each in site.outputs() if each["takes"] == "tone"]
    if len(found) != 1:
        has = f"The site has {', '.join(found)}." if found else "The site has no sounder."
        raise CallerError("bad-value", "Which sounder is to play?", f"{has} Say --on NAME.")
    return str(found[0])


def _follow_sweep(site: Any, output: str, ends: tuple[str, str], seconds: float) -> None:
    """Show where a sweep is; Ctrl-C stops it and says where it was."""
    end = time.monotonic() + seconds + 0.5
    hertz = 0.0
    with Interrupts() as stop:
        while time.monotonic() < end and not stop.asked:
            now = site.output(output)["confirmed"] or {}
            hertz = now.get("hertz") or hertz
            if sys.stdout.isatty():
                click.echo(f"\r{output}: {hertz:8.1f} Hz   (Ctrl-C where it is loudest)", nl=False)
            stop.sleep(0.1)
    if stop.asked:
        site.release(output)
        click.echo(f"\n{output}: stopped at {hertz:.0f} Hz.")
        return
    click.echo(f"\n{output}: swept from {ends[0]} to {ends[1]}.")


def _wav(ctx: click.Context, form: Mapping[str, Any], path: str, as_json: bool) -> None:
    from cairnwind.core.physics import sound

    try:
        made = sound.make(dict(form))
    except CallerError:
        text = form.get("notes")
        if not isinstance(text, str) or " " in text or ":" in text:
            raise
        # the name of a tune of the site: its notes are what the service previews
        raise CallerError(
            "bad-value",
            f"'{text}' is no note; tunes of the site file are played by the service.",
            "Give its notes.",
        ) from None
    aside = Path(path).with_suffix(".part")
    with aside.open("wb") as raw, wave.open(raw, "wb") as file:
        file.setnchannels(1)
        file.setsampwidth(2)
        file.setframerate(44_100)
        for chunk in sound.samples(made):
            file.writeframesraw(chunk)
    aside.replace(path)
    seconds = (made.length or 0) / NS
    show.emit({"file": path, "seconds": seconds}) if as_json else click.echo(f"{path}: {made.text}.")


# --- pads ---------------------------------------------------------------------------------------------------


@main.command(context_settings={"ignore_unknown_options": True})
@click.argument("pad")
@click.argument("x", type=click.FloatRange(-100, 100))
@click.argument("y", type=click.FloatRange(-100, 100))
@click.option("--for", "lasting", default="1 s", show_default=True, help="How long; Ctrl-C ends it sooner.")
@as_json
@click.pass_context
def steer(ctx: click.Context, pad: str, x: float, y: float, lasting: str, as_json: bool) -> None:
    """Hold PAD at X (across) and Y (along), -100 to 100 each, for a while: two motors are driven by it."""
    site = site_of(ctx)
    end = time.monotonic() + duration(lasting, longest=60) / NS
    found: Mapping[str, Any] = {}
    try:
        while time.monotonic() < end:
            found = site.steer(pad, x / 100, y / 100)
            time.sleep(0.05)
    finally:
        if found:
            site.let_go(pad)
    show.emit(found) if as_json else click.echo(
        f"{pad}: left {found['left']:.4g} %, right {found['right']:.4g} %, and let go."
    )


# --- timers -------------------------------------------------------------------------------------------------


@main.command()
@click.argument("frequency", required=False)
@click.option("--timer", metavar="NAME", help="Which timer; without it they are listed.")
@click.option("--duty", default="50 %", show_default=True)
@click.option(
    "--first",
    type=click.Choice(["error", "resolution"]),
    default="error",
    show_default=True,
    help="What counts first.",
)
@click.option(
    "--registers",
    nargs=3,
    type=int,
    metavar="PRESCALER PERIOD COMPARE",
    help="The other way: what registers mean.",
)
@as_json
def fit(
    frequency: str | None,
    timer: str | None,
    duty: str,
    first: str,
    registers: tuple[int, int, int] | None,
    as_json: bool,
) -> None:
    """How a timer reaches FREQUENCY: prescaler, period and compare values, what they really give, and the error.

    \b
    cairnwind fit 440Hz --timer header
    cairnwind fit 25kHz --timer small-board --duty 30% --first resolution
    cairnwind fit --timer small-board --registers 8 4544 2272
    """
    from cairnwind.boards import timers
    from cairnwind.core.physics import pwm
    from cairnwind.service.timer_forms import fit_form, fit_row, timer_form

    if timer is None:
        forms = [timer_form(timers.load(name, *OWN_TIMERS)) for name in timers.names(OWN_TIMERS)]
        show.emit(forms) if as_json else _timers(forms)
        return
    described = timers.read(Path(timer)) if timer.endswith(".toml") else timers.load(timer, *OWN_TIMERS)
    if registers is not None:
        row = fit_row(pwm.inverse(described, *registers))
        if as_json:
            show.emit(row)
        else:
            click.echo(
                f"{row['hertz']:.8g} Hz, duty {row['duty']:.6g} %, {row['steps']} steps, period {row['period_ns']:.6g} ns"
            )
        return
    if frequency is None:
        raise click.UsageError("Give a frequency, or --registers.")
    form = fit_form(described, frequency, duty, first)
    show.emit(form) if as_json else _fit(form)


def _timers(forms: Sequence[Mapping[str, Any]]) -> None:
    table = Table(box=None, padding=(0, 1))
    for name in ("timer", "what it is", "from", "to", "channels"):
        table.add_column(name)
    for form in forms:
        reach = [f"{form[key]:.4g} Hz" for key in ("lowest_hertz", "highest_hertz")]
        channels = ", ".join(f"{channel}: {' or '.join(pins)}" for channel, pins in form["channels"].items())
        table.add_row(form["name"], form["title"], *reach, channels)
    _out().print(table)


def _fit(form: Mapping[str, Any]) -> None:
    out = _out()
    out.print(Text(form["timer"]["title"], style="bold"))
    best = form["best"]
    table = Table(box=None, padding=(0, 1))
    for name in ("", "prescaler", "period", "compare", "frequency", "error", "duty", "error", "steps"):
        table.add_column(name, justify="right" if name else "left", no_wrap=True)
    for row in form["candidates"]:
        chosen = row == best
        table.add_row(
            "best" if chosen else "" if row["in_reach"] else "far", f"{row['prescaler']}", f"{row['period']}", f"{row['compare']}", f"{row['hertz']:.8g} Hz",
            f"{row['error_percent']:+.4g} %", f"{row['duty']:.6g} %", f"{row['duty_error_percent']:+.3g} %", f"{row['steps']}",
            style="bold cyan" if chosen else "dim" if not row["in_reach"] else "",
        )  # fmt: skip
    out.print(table)
    if form["beyond"]:
        out.print(Text(form["beyond"] + ".", style="yellow"))
    wave_form = form["wave"]
    width = min(72, out.width - 4)
    for line in draw.square(
        [(at, bool(level)) for at, level in wave_form["edges"]], wave_form["seconds"], width
    ):
        out.print(Text("  " + line, style="cyan"))
    out.print(
        Text(
            f"  two periods of {best['period_ns'] / 1000:.6g} us, high for {best['period_ns'] * best['duty'] / 100_000:.6g} us",
            style="dim",
        )
    )


# --- by eye -------------------------------------------------------------------------------------------------


@main.command()
@an_output
@click.option(
    "--beside",
    metavar="OUTPUT",
    shell_complete=names_of("output"),
    help="A lamp beside it that stays full, to compare with.",
)
@as_json
@click.pass_context
def compare(ctx: click.Context, output: str, beside: str | None, as_json: bool) -> None:
    """Find by eye the duty at which OUTPUT looks half as bright as full, and print its table for the site file.

    It shows full and a candidate in turn (or beside another lamp); you say whether the candidate is darker or
    brighter than half. Six answers are enough. Nothing is changed: copy the line into the site file.
    """
    site = site_of(ctx)
    low, high = 0.0, 100.0
    middle = 18.4
    names = [name for name in (output, beside) if name]
    try:
        for _ in range(6):
            if beside:
                site.turn(beside, {"duty": 100}, lasting="5 min")
            else:
                site.turn(output, {"duty": 100}, lasting="5 min")
                time.sleep(1.2)
            site.turn(output, {"duty": middle}, lasting="5 min")
            said = click.prompt(
                f"{output} at {middle:.3g} % duty: [d]arker than half, [b]righter, or [h]alf",
                type=click.Choice(["d", "b", "h"]),
                show_choices=False,
                err=as_json,
            )
            if said == "h":
                break
            low, high = (middle, high) if said == "d" else (low, middle)
            middle = (low * high) ** 0.5 if low > 1 else (low + high) / 2
    finally:
        for name in names:
            site.release(name)
    if as_json:
        show.emit({"output": output, "curve": [[0, 0], [50, float(f"{middle:.3g}")], [100, 100]]})
        return
    click.echo(f"curve = [[0, 0], [50, {middle:.3g}], [100, 100]]    # {output}, by eye")
