"""The commands. Each calls the client library, or starts a service; none decides anything."""

from __future__ import annotations

import os
import sys
from collections.abc import Callable
from pathlib import Path
from typing import TYPE_CHECKING, Any
from zoneinfo import ZoneInfo

import click

from cairnwind import __version__
from cairnwind.cli import exits
from cairnwind.core.errors import Trouble

if TYPE_CHECKING:
    from cairnwind.client import Outcome, Site


ELSEWHERE = {
    **dict.fromkeys(("pins", "try", "identify", "pretend", "chain", "doctor"), "hardware"),
    **dict.fromkeys(("play", "run", "fit", "compare", "steer"), "light"),
    "wire": "wiring",
    "do": "prompt",
    **dict.fromkeys(("plan", "timers", "records"), "planning"),
    "firmware": "firmware",
    "rehearse": "rehearse",
    "key": "keys",
    "remotes": "remotes",
    **dict.fromkeys(
        ("rules", "ask", "reset", "alarms", "attest", "open", "code", "resume", "reload"), "safe"
    ),
}
"""Commands and the modules that have them."""


class Commands(click.Group):
    """Shows our errors once, on stderr, with an exit code that means something.

    Commands of other modules are loaded when they are asked for: 'serve' has outputs to make safe first.
    """

    def list_commands(self, ctx: click.Context) -> list[str]:
        """All of them."""
        return sorted({*self.commands, *ELSEWHERE})

    def get_command(self, ctx: click.Context, name: str) -> click.Command | None:
        """One, loaded if need be."""
        if name in ELSEWHERE and name not in self.commands:
            import importlib

            importlib.import_module(f"cairnwind.cli.{ELSEWHERE[name]}")
        return self.commands.get(name)

    def invoke(self, ctx: click.Context) -> Any:
        """Run; a `Trouble` becomes its sentence, its remedy and its exit code."""
        try:
            return super().invoke(ctx)
        except Trouble as error:
            _complain(error)
            ctx.exit(exits.code(error.code))
        except KeyboardInterrupt:
            click.echo(err=True)
            ctx.exit(exits.INTERRUPTED)
        except BrokenPipeError:  # the reader of a pipe has had enough
            os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())
            ctx.exit(0)


def _complain(error: Trouble) -> None:
    shown = getattr(error, "shown", None)  # a site file's errors, each with its place
    if shown is not None:
        click.echo("\n".join(_wrap(line) for line in shown().split("\n")) + "\n", err=True)
    click.echo(f"{click.style('error', fg='red')}{_wrap(f'     : {error.sentence}')[5:]}", err=True)
    if error.remedy:
        click.echo(_wrap(f"       {error.remedy}"), err=True)


def _wrap(line: str) -> str:
    """A line broken to the width of the terminal, its indent kept; as it is where stderr is none."""
    import shutil
    import textwrap

    width = shutil.get_terminal_size().columns
    if not sys.stderr.isatty() or len(line) <= width:
        return line
    indent = " " * max(4, len(line) - len(line.lstrip()))
    return textwrap.fill(line, width, subsequent_indent=indent)


@click.group(
    cls=Commands, context_settings={"help_option_names": ["-h", "--help"], "auto_envvar_prefix": None}
)
@click.option(
    "--state", metavar="DIR", help="State folder of the service (else CAIRNWIND_STATE, else the default)."
)
@click.option(
    "--address",
    metavar="URL",
    envvar="CAIRNWIND_ADDRESS",
    help="Address of a service elsewhere; its key comes from CAIRNWIND_KEY, the fingerprint of its own certificate from CAIRNWIND_FINGERPRINT.",
)
@click.version_option(__version__, message="cairnwind %(version)s")
@click.pass_context
def main(ctx: click.Context, state: str | None, address: str | None) -> None:
    """Switches, dims and watches what is wired to the pins of your boards.

    Start a site with 'cairnwind serve SITE_FILE', or try 'cairnwind demo'. Every other command talks to the
    service that runs.
    """
    ctx.obj = {"state": state, "address": address}


def _site(ctx: click.Context) -> Site:
    from cairnwind.client import Site

    given = ctx.obj or {}
    state = ctx.params.get("state") or given.get("state")
    return Site(
        given.get("address"), os.environ.get("CAIRNWIND_KEY"), state=state, surface="cairnwind-command-line",
        fingerprint=os.environ.get("CAIRNWIND_FINGERPRINT"),
    )  # fmt: skip


def _names(kind: str) -> Callable[..., list[str]]:
    """Completion of names from the running service; silent when there is none."""

    def complete(ctx: click.Context, param: click.Parameter, incomplete: str) -> list[str]:
        from cairnwind.client import Site

        root = ctx.find_root().params
        try:
            site = Site(
                root.get("address"), os.environ.get("CAIRNWIND_KEY"), state=root.get("state"), timeout=0.7
            )
            found = [each["name"] for each in (site.outputs() if "output" in kind else [])]
            found += [each["name"] for each in (site.inputs() if "input" in kind else [])]
            found += [each["name"] for each in (site.boards() if "board" in kind else [])]
            found += [each["name"] for each in (site.remotes() if "remote" in kind else [])]
            found += [each["name"] for each in (site.keys() if "key" in kind else [])]
        except Exception:
            return []
        return [name for name in found if name.startswith(incomplete)]

    return complete


as_json = click.option("--json", "as_json", is_flag=True, help="Print JSON.")
an_output = click.argument("output", shell_complete=_names("output"))


def _state_options(command: Callable[..., Any]) -> Callable[..., Any]:
    command = click.option(
        "--port", type=click.IntRange(0, 65535), help="Port to listen on; 0 takes a free one."
    )(command)
    return click.option("--state", metavar="DIR", help="Where the service keeps its state.")(command)


# --- services ---------------------------------------------------------------------------------------------


@main.command()
@click.argument("site_file", type=click.Path(dir_okay=False))
@_state_options
@click.option(
    "--muted", is_flag=True, help="Drive and read nothing: for trying a site out before its loads are wired."
)
@as_json
@click.pass_context
def serve(
    ctx: click.Context, site_file: str, state: str | None, port: int | None, muted: bool, as_json: bool
) -> None:
    """Serve the site of SITE_FILE until Ctrl-C or SIGTERM."""
    _serve(ctx, Path(site_file), state, port, demo=False, as_json=as_json, muted=muted)


@main.command()
@_state_options
@click.option(
    "--broker",
    default="",
    metavar="URL",
    help="A message broker, mqtt://127.0.0.1:1883: adds a board behind it.",
)
@click.option(
    "--voice", is_flag=True, help="With a simulated voice assistant: type what you would say to it."
)
@as_json
@click.pass_context
def demo(
    ctx: click.Context, state: str | None, port: int | None, broker: str, voice: bool, as_json: bool
) -> None:
    """Serve the demo site: a made-up pottery studio on simulated boards."""
    _serve(ctx, None, state, port, demo=True, as_json=as_json, broker=broker, voice=voice)


def _serve(
    ctx: click.Context,
    site_file: Path | None,
    state: str | None,
    port: int | None,
    *,
    demo: bool,
    as_json: bool,
    broker: str = "",
    muted: bool = False,
    voice: bool = False,
) -> None:
    from cairnwind import folder
    from cairnwind.cli import show
    from cairnwind.service.serve import Service, run
    from cairnwind.site import read_site

    box = None
    if site_file is None:
        from cairnwind import demo as saltmarsh

        site, box = saltmarsh.site(broker)
    else:
        site = read_site(site_file)
    if muted:
        from cairnwind.boards import link

        site = link.muted(site)
    path = (
        state
        or ctx.obj["state"]
        or os.environ.get("CAIRNWIND_STATE")
        or folder.default(folder.DEMO if demo else "cairnwind")
    )
    service = Service(site, folder.Folder(path), port)
    service.discoverable = voice
    terminal = sys.stdout.isatty()
    log_file = str(service.folder.path / "service.log") if terminal or demo else None
    world = None
    if demo:
        from cairnwind.demo.world import World

        world = World(site, service.pins.links, box)

    def started(service: Service) -> None:
        if demo:
            for key in ("crane controller", "hall tablet", *(["broker"] if broker else [])):
                service.keys.ensure(key, "operate")
        if as_json:
            show.emit({"site": site.name, "url": service.url, "state": str(service.folder.path)})
            sys.stdout.flush()
            return
        click.echo(
            f"{click.style(site.name, bold=True)}{': a made-up site on simulated boards; nothing real is switched.' if demo else ''}\n"
        )
        if demo or terminal:
            click.echo(f"  console   {service.sign_in_link()}")
            click.echo("            (signs in once, within 15 minutes; another: cairnwind key link)")
        else:
            click.echo(f"  console   {service.url}")
        click.echo(f"  state     {service.folder.path}")
        if service.certificate is not None:
            from cairnwind.service.tls import fingerprint

            click.echo(f"  certificate, SHA-256\n            {fingerprint(service.certificate)}")
        elif service.abroad:
            click.echo(
                click.style("  plain     keys and commands cross the network unprotected", fg="yellow")
            )
        if muted:
            click.echo(
                click.style(
                    "  muted     nothing is driven; inputs are worked with: cairnwind pretend", fg="yellow"
                )
            )
        prefix = _own_name() + (f" --state {service.folder.path}" if state else "")
        click.echo(f"  try       {prefix} look")
        click.echo("  stop      Ctrl-C: every output goes to safe first\n")
        sys.stdout.flush()
        if voice:
            from cairnwind.cli import remotes

            remotes.listen_to_voice(service)

    def ended(left: list[str]) -> None:
        if world is not None:
            world.end()
        total = len(site.outputs)
        if as_json:
            show.emit({"outputs": total, "not_confirmed_safe": left})
            return
        click.echo(
            f"\nStopped: {total - len(left)} of {total} outputs confirmed safe. A new start finds everything as it was left."
        )
        for name in left[:20]:
            click.echo(f"  {name} was not confirmed safe: look at it.", err=True)
        if len(left) > 20:
            click.echo(f"  and {len(left) - 20} more: see the log.", err=True)

    ctx.exit(run(service, started, ended, log_file))


def _own_name() -> str:
    """How this command is called from here: by its name where the shell would find it, else by its path."""
    import shutil

    found = shutil.which("cairnwind")
    if found is not None and os.path.realpath(found) == os.path.realpath(sys.argv[0]):
        return "cairnwind"
    return os.path.relpath(sys.argv[0])


@main.command()
@click.argument("site_file", type=click.Path(dir_okay=False))
@as_json
@click.pass_context
def check(ctx: click.Context, site_file: str, as_json: bool) -> None:
    """Read and check SITE_FILE without serving it; shows all its errors at once."""
    from dataclasses import asdict

    from cairnwind.cli import show
    from cairnwind.site import SiteFileError, check_site

    try:
        site, warnings, answers = check_site(site_file)
    except SiteFileError as error:
        if as_json:
            show.emit(
                {"file": site_file, "good": False, "findings": [asdict(found) for found in error.findings]}
            )
            ctx.exit(exits.code(error.code))
        raise
    if as_json:
        told = [asdict(found) for found in warnings.findings]
        asked = [each._asdict() for each in answers]
        show.emit({"file": site_file, "good": True, "findings": [], "warnings": told, "answers": asked})
        return
    if warnings.findings:
        click.echo("\n".join(_wrap(line) for line in warnings.shown().split("\n")) + "\n", err=True)
        count = len(warnings.findings)
        click.echo(
            f"{click.style('warning', fg='yellow')}: {count} {'thing' if count == 1 else 'things'} to look at; the file can be served as it is.",
            err=True,
        )
    click.echo(
        f"{site_file} is good: {site.name}, {len(site.boards)} boards, {len(site.outputs)} outputs, {len(site.inputs)} inputs."
    )
    if answers:
        count_of = {
            verdict: sum(each.verdict == verdict for each in answers)
            for verdict in ("found", "excluded", "not decided")
        }
        click.echo(
            f"Rules: {len(answers)} questions asked; {count_of['found']} faults found, {count_of['excluded']} excluded, {count_of['not decided']} not decided."
        )
    for each in answers:
        if each.verdict == "not decided":
            click.echo(
                f"  not decided of {each.kind} '{each.rule}': {each.question} {each.what or 'There are too many states to look at.'}"
            )


# --- looking ----------------------------------------------------------------------------------------------


@main.command()
@click.argument("name", required=False, shell_complete=_names("output, input, board"))
@click.option("--by-board", is_flag=True, help="By board instead of by place.")
@click.option(
    "--modbus", "remote", flag_value="modbus", help="The map of the Modbus server: which address is what."
)
@click.option("--surface", "remote", flag_value="surface", help="The addresses of control surfaces.")
@click.option("--broker", "remote", flag_value="broker", help="The topics at the broker.")
@click.option("--csv", "as_csv", is_flag=True, help="With a map: as CSV.")
@as_json
@click.pass_context
def look(
    ctx: click.Context, name: str | None, by_board: bool, remote: str | None, as_csv: bool, as_json: bool
) -> None:
    """What is what now: the site, or one output, input or board; or the map of a remote."""
    from cairnwind.cli import show

    site = _site(ctx)
    if remote is not None:
        from cairnwind.cli import remotes

        remotes.show_map(site, remote, name, as_csv=as_csv, as_json=as_json)
        return
    facts, outputs, inputs, boards = site.facts(), site.outputs(), site.inputs(), site.boards()
    if name is not None:
        by_board = name in {each["name"] for each in boards}
        key = "board" if by_board else "name"
        outputs = [each for each in outputs if each[key] == name]
        inputs = [each for each in inputs if each[key] == name]
        boards = [each for each in boards if each["name"] == name or not by_board]
        if not outputs and not inputs and not by_board:
            site.output(name)  # raises, with the nearest name
    if as_json:
        show.emit({"site": facts, "outputs": outputs, "inputs": inputs, "boards": boards})
    else:
        show.look(facts, outputs, inputs, boards, by_board=by_board)


@main.command()
@an_output
@click.option("--at", metavar="TIME", help="Why it was so then: 2026-11-23T18:00, in the site's zone.")
@as_json
@click.pass_context
def why(ctx: click.Context, output: str, at: str | None, as_json: bool) -> None:
    """Why an output is as it is, from wish to pin; or as it was, as far back as the journal reaches."""
    from cairnwind.cli import show

    form = _site(ctx).why(output, at)
    show.emit(form) if as_json else show.why(form, past=at is not None)


@main.command()
@click.argument("names", nargs=-1, shell_complete=_names("output, input"))
@click.option(
    "--link",
    "board",
    metavar="NAME",
    shell_complete=_names("board, remote"),
    help="Show what a board's link or a remote sends and receives instead.",
)
@click.option("--wave", is_flag=True, help="Draw what NAMES did lately, and follow them.")
@click.option(
    "--seconds",
    type=click.FloatRange(0.001, 300),
    default=10,
    show_default=True,
    help="With --wave: how much time is drawn.",
)
@click.option(
    "--save",
    type=click.Path(dir_okay=False, writable=True),
    help="With --wave: save it instead, as FILE.vcd or FILE.csv.",
)
@as_json
@click.pass_context
def watch(
    ctx: click.Context,
    names: tuple[str, ...],
    board: str | None,
    wave: bool,
    seconds: float,
    save: str | None,
    as_json: bool,
) -> None:
    """Show changes as they happen (of NAMES, or all), until Ctrl-C.

    Of inputs that are named, every edge is shown: what the line shows, and what counts after debounce and scale.
    """
    from cairnwind.cli import show

    site = _site(ctx)
    if wave or save:
        from cairnwind.cli import waves

        waves.watch(site, list(names), seconds, save, as_json)
        return
    if board is not None:
        _watch_link(site, board, as_json)
        return
    zone = ZoneInfo(site.facts()["timezone"])
    known = {each["name"] for each in [*site.outputs(), *site.inputs()]}
    for name in names:
        if name not in known:
            site.output(name)
    if not as_json and sys.stdout.isatty():
        click.echo(click.style("Watching; Ctrl-C ends it.", dim=True))
    shown: dict[str, str] = {}
    for change in site.changes():
        if change.kind == "afresh" and not as_json:
            for each in change.data["inputs"]:
                if each["name"] in names:
                    click.echo(show.reading(each, zone))
        if names and change.name not in names:
            continue
        if as_json:
            show.emit({"kind": change.kind, "id": change.id, "data": change.data})
            continue
        if change.kind == "input" and names:
            click.echo(show.reading(change.data, zone))
            sys.stdout.flush()
            continue
        line = show.change(change.kind, change.data, zone)
        if line is not None and shown.get(change.name) != line[12:]:
            shown[change.name] = line[12:]
            click.echo(line)
        sys.stdout.flush()


def _watch_link(site: Site, board: str, as_json: bool) -> None:
    """Follow a link's frames; those that were lost between two looks are counted."""
    import time

    from cairnwind.cli import show

    zone, last, first = ZoneInfo(site.facts()["timezone"]), 0, True
    look = site.remote_traffic if board in {each["name"] for each in site.remotes()} else site.traffic
    while True:
        found = look(board, after=last)
        frames = found["frames"][-20:] if first else found["frames"]
        if not first and frames and frames[0]["number"] > last + 1:
            click.echo(click.style(f"({frames[0]['number'] - last - 1} frames went by unseen)", dim=True))
        for frame in frames:
            show.emit(frame) if as_json else click.echo(show.frame(frame, zone))
            last = frame["number"]
        if first and not as_json:
            rounds = f"{found['rounds_a_second']:g} rounds a second, " if look == site.traffic else ""
            click.echo(click.style(f"{rounds}{found['errors']} errors; Ctrl-C ends it.", dim=True))
        first = False
        sys.stdout.flush()
        time.sleep(0.3)


@main.command()
@click.argument("name", required=False, shell_complete=_names("output, input"))
@click.option(
    "-n", "--number", type=click.IntRange(1, 1000), default=20, show_default=True, help="How many rows."
)
@click.option("--before", type=int, help="Rows before this number.")
@click.option(
    "--kind",
    metavar="KIND",
    help="Only these: command, change, input, plan, timer, ended, link, fault, clock …",
)
@click.option(
    "--by", "source", metavar="WHO", help="Only commands by these: part of a surface's or a key's name."
)
@click.option("--from", "begin", metavar="TIME", help="From then on: a date, or with a time.")
@click.option("--to", "end", metavar="TIME", help="Up to then.")
@click.option("--csv", "as_csv", is_flag=True, help="All rows that fit, as CSV.")
@click.option("--lines", "as_lines", is_flag=True, help="All rows that fit, as JSON Lines.")
@as_json
def journal(
    name: str | None, number: int, before: int | None, as_csv: bool, as_lines: bool, as_json: bool, **which: Any
) -> None:  # fmt: skip
    """What happened: commands with their outcomes, and every change; the newest last."""
    from cairnwind.cli import show

    site = _site(click.get_current_context())
    if as_csv or as_lines:
        import csv

        writer = csv.writer(sys.stdout)
        columns = ("sequence", "at", "kind", "subject", "text", "command", "source")
        if as_csv:
            writer.writerow(columns)
        for row in site.journal_of(subject=name, **which):
            writer.writerow([row[column] for column in columns]) if as_csv else show.emit(row)
        return
    rows = site.journal(name, limit=number, before=before, **which)[::-1]
    if as_json:
        show.emit(rows)
    elif rows:
        show.journal(rows, ZoneInfo(site.facts()["timezone"]))
        if len(rows) == number and rows[0]["sequence"] > 1:
            kept = "".join(
                f"--{'by' if key == 'source' else {'begin': 'from', 'end': 'to'}.get(key, key)} '{value}' "
                for key, value in which.items()
                if value
            )
            click.echo(
                click.style(
                    f"Earlier: cairnwind journal {name + ' ' if name else ''}{kept}--before {rows[0]['sequence']}",
                    dim=True,
                )
            )
    else:
        wanted = f" about '{name}'" if name else ""
        click.echo(f"Nothing{' like that' if any(which.values()) else ''} yet{wanted}.")


# --- commands ---------------------------------------------------------------------------------------------


@main.command(context_settings={"ignore_unknown_options": True})
@an_output
@click.argument("setting", nargs=-1, required=True)
@click.option("--over", metavar="TIME", help="Fade there, from what it is at, in so long: '3 s'.")
@click.option("--for", "lasting", metavar="TIME", help="For so long: '10 min'.")
@click.option("--until", metavar="TIME", help="Until then: 22:30, or a date with time.")
@click.option("--until-released", is_flag=True, help="Until released, whatever the plan does.")
@click.option("--when-possible", is_flag=True, help="Wait if a gate or a lost link stands in the way.")
@as_json
@click.pass_context
def turn(
    ctx: click.Context,
    output: str,
    setting: tuple[str, ...],
    over: str | None,
    lasting: str | None,
    until: str | None,
    until_released: bool,
    when_possible: bool,
    as_json: bool,
) -> None:
    """Turn OUTPUT on, off, to a setting like '40%', or 'toggle' it.

    \b
    lamps, fans    40%       half      '20% duty'
    colour lamps   coral     '#e07b1c' 'hue 30'
    sounders       A4        440Hz     (for 1 s unless --for says more)
    motors         60%       -60%      where they have a line to reverse them
    """
    if sum((lasting is not None, until is not None, until_released)) > 1:
        raise click.UsageError("Give one of --for, --until and --until-released.")
    lasting = "until released" if until_released else lasting
    _report(
        ctx,
        _site(ctx).turn(
            output, " ".join(setting), over=over, lasting=lasting, until=until, when_possible=when_possible
        ),
        as_json,
    )


@main.command()
@an_output
@as_json
@click.pass_context
def release(ctx: click.Context, output: str, as_json: bool) -> None:
    """End what persons claim on OUTPUT: the plan, or rest, has it again."""
    _report(ctx, _site(ctx).release(output), as_json)


@main.command()
@an_output
@click.argument("setting", nargs=-1)
@as_json
@click.pass_context
def hold(ctx: click.Context, output: str, setting: tuple[str, ...], as_json: bool) -> None:
    """Hold OUTPUT on (or at SETTING) until Ctrl-C; it ends with this command, however that ends."""
    import time

    from cairnwind.cli import show

    held = _site(ctx).hold(output, " ".join(setting) or "on")
    try:
        with held:
            assert held.outcome is not None
            if as_json:
                show.emit(held.outcome.form)
            else:
                fate = held.outcome.ending or held.outcome.outcome
                click.echo(f"Holding {output} at {held.outcome.words} ({fate}); Ctrl-C lets go.")
            sys.stdout.flush()
            while held.lost is None:
                time.sleep(0.05)
    except KeyboardInterrupt:
        if not as_json:
            click.echo(f"\nLet go of {output}.")
        return
    raise Trouble(
        "refused", f"The hold on {output} has ended: {held.lost}", "Hold again if it is still wanted."
    )


@main.command()
@click.option("--reason", default="", help="Shown to everybody while it lasts.")
@click.option("--reset", is_flag=True, help="End the all-stop.")
@as_json
@click.pass_context
def stop(ctx: click.Context, reason: str, reset: bool, as_json: bool) -> None:
    """All-stop: every output safe, now. It stays until a keeper resets it."""
    site = _site(ctx)
    _report(ctx, site.reset_stop() if reset else site.stop(reason), as_json)
    if reset and not as_json:
        back = [
            f"{each['name']} ({each['wanted']['words']})" for each in site.outputs() if each["wanted"]["on"]
        ]
        if back:
            click.echo(f"Claimed, and so on again: {', '.join(back)}.")


@main.command()
@an_output
@click.argument("tag")
@click.option("--reason", default="", help="Why it is locked out.")
@click.option(
    "--until",
    default="",
    metavar="TIME",
    help="When it is meant to come off; it stays until somebody takes it off.",
)
@click.option("--remove", is_flag=True, help="Take the tag off.")
@as_json
@click.pass_context
def lockout(
    ctx: click.Context, output: str, tag: str, reason: str, until: str, remove: bool, as_json: bool
) -> None:
    """Hang a named TAG on OUTPUT: it stays safe while someone works on it."""
    site = _site(ctx)
    _report(ctx, site.unlock(output, tag) if remove else site.lock(output, tag, reason, until), as_json)


def _report(ctx: click.Context, outcome: Outcome, as_json: bool) -> None:
    """Show an outcome; anything but driving, or one that failed, has an exit code of its own."""
    from cairnwind.cli import show

    if as_json:
        show.emit(outcome.form)
    else:
        what = f"{outcome.output}: {outcome.words}".rstrip(": ") if outcome.output else "all-stop"
        if outcome.ending:
            click.echo(f"{what} ({outcome.ending}: {outcome.text})")
        else:
            click.echo(f"{what} ({outcome.outcome}{': ' + outcome.reason if outcome.reason else ''})")
    if outcome.outcome in ("blocked", "waiting"):
        ctx.exit(exits.code("refused"))
    if outcome.outcome == "unreachable" or outcome.ending == "failed":
        ctx.exit(exits.code("unreachable"))


# --- the rest ---------------------------------------------------------------------------------------------


@main.command()
@click.argument("shell", type=click.Choice(["bash", "zsh", "fish"]))
def completion(shell: str) -> None:
    """Print the lines that make SHELL complete commands and names. For bash: eval "$(cairnwind completion bash)"."""
    from click.shell_completion import get_completion_class

    found = get_completion_class(shell)
    assert found is not None
    click.echo(found(main, {}, "cairnwind", "_CAIRNWIND_COMPLETE").source())
