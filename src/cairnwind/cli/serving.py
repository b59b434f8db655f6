"""Commands that need no service: to start one, for a site or for the demo, and to check a site file."""

from __future__ import annotations

import os
import sys
from collections.abc import Callable, Sized
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from cairnwind.cli import exits
from cairnwind.cli.main import as_json, findings, main

if TYPE_CHECKING:
    from cairnwind.core.facts.site import Site


KEY_REMEDY = "Make it while the service runs: cairnwind key new NAME --role operate."


def _state_options(command: Callable[..., Any]) -> Callable[..., Any]:
    command = click.option(
        "--port", type=click.IntRange(0, 65535), help="Port to listen on; 0 takes a free one."
    )(command)
    return click.option("--state", metavar="DIR", help="Where the service keeps its state.")(command)


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
    from cairnwind.site import read_site, read_text

    path = (
        state
        or ctx.obj["state"]
        or os.environ.get("CAIRNWIND_STATE")
        or folder.default(folder.DEMO if demo else "cairnwind")
    )
    box = None
    if site_file is None:
        from cairnwind import demo as saltmarsh

        site, box = saltmarsh.site(broker, Path(path))
    else:
        site = read_site(site_file)

    def again(text: str, path: str) -> Site:
        """The same, when it is read anew."""
        found = read_text(text, path)
        if site_file is None:
            found = saltmarsh.fitted(found, box)
        return silenced(found) if muted else found

    if muted:
        from cairnwind.boards.registry import muted as silenced

        site = silenced(site)
    service = Service(site, folder.Folder(path), port, again)
    service.discoverable = voice
    terminal = sys.stdout.isatty()
    log_file = str(service.folder.path / "service.log") if terminal or demo else None
    world = None
    if demo:
        from cairnwind.demo.world import World

        world = World(site, service.machine.links, box)

    def started(service: Service) -> None:
        if demo:
            for key in ("crane controller", "hall tablet", "store door", *(["broker"] if broker else [])):
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


def _count(things: Sized, what: str) -> str:
    return f"{len(things)} {what}{'' if len(things) == 1 else 's'}"


@main.command()
@click.argument("site_file", type=click.Path(dir_okay=False))
@click.option(
    "--held", "holding", is_flag=True, help="Show what has each output after a stop, a kill and a power cut."
)
@as_json
@click.pass_context
def check(ctx: click.Context, site_file: str, holding: bool, as_json: bool) -> None:
    """Read and check SITE_FILE without serving it; shows all its errors at once."""
    from dataclasses import asdict

    from cairnwind.cli import show
    from cairnwind.site import SiteFileError, held
    from cairnwind.site.checked import check_site

    try:
        site, warnings, answers = check_site(site_file)
    except SiteFileError as error:
        if as_json:
            show.emit(
                {"file": site_file, "good": False, "findings": [asdict(found) for found in error.findings]}
            )
            ctx.exit(exits.code(error.code))
        raise
    from cairnwind.service.around import state_of, unknown_keys

    has = held.held(site)
    missing = [
        f"remote {way} carries the key '{name}', which nobody has made"
        for way, name in unknown_keys(site, state_of(ctx.obj["state"]))
    ]
    if as_json:
        told = [asdict(found) for found in warnings.findings]
        told += [{"line": 0, "column": 0, "text": "", "what": each, "remedy": KEY_REMEDY} for each in missing]
        asked = [each._asdict() for each in answers]
        rows = [each.form for each in has]
        show.emit(
            {
                "file": site_file,
                "good": True,
                "findings": [],
                "warnings": told,
                "answers": asked,
                "held": rows,
            }
        )
        return
    if warnings.findings:
        findings(warnings.shown())
        count = len(warnings.findings)
        click.echo(
            f"{click.style('warning', fg='yellow')}: {count} {'thing' if count == 1 else 'things'} to look at; the file can be served as it is.",
            err=True,
        )
    click.echo(
        f"{site_file} is good: {site.name}, {_count(site.boards, 'board')}, {_count(site.outputs, 'output')}, {_count(site.inputs, 'input')}."
    )
    loose = held.in_words(has)
    for sentence in loose:
        click.echo(f"{click.style('warning', fg='yellow')}: {sentence}", err=True)
    if loose and not holding:
        click.echo(f"What is missing: cairnwind check --held {site_file}", err=True)
    if holding:
        show.held([each.form for each in has])
    for sentence in missing:
        click.echo(f"{click.style('warning', fg='yellow')}: {sentence}. {KEY_REMEDY}", err=True)
    if answers:
        count_of = {
            verdict: sum(each.verdict == verdict for each in answers)
            for verdict in ("found", "excluded", "not decided")
        }
        click.echo(
            f"Rules: {_count(answers, 'question')} asked; {count_of['found']} {'fault' if count_of['found'] == 1 else 'faults'} found, {count_of['excluded']} excluded, {count_of['not decided']} not decided."
        )
    for each in answers:
        if each.verdict == "not decided":
            click.echo(
                f"  not decided of {each.kind} '{each.rule}': {each.question} {each.what or 'There are too many states to look at.'}"
            )
