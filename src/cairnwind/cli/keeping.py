"""Commands for backups: made while the service runs, and put back while it does not."""

from __future__ import annotations

import os
from collections.abc import Mapping
from datetime import UTC, datetime
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from cairnwind.cli.main import as_json, main, site_of
from cairnwind.core.values.errors import CallerError, Trouble
from cairnwind.core.values.quantities import show_size

if TYPE_CHECKING:
    from cairnwind.folder import Folder
    from cairnwind.store.backups import About


@main.command()
@click.option(
    "--to",
    metavar="FILE",
    type=click.Path(path_type=Path),
    help="Write it here, too: a file of this machine, or a folder.",
)
@click.option("--list", "listed", is_flag=True, help="Show those that are there, the newest first.")
@as_json
@click.pass_context
def backup(ctx: click.Context, to: Path | None, listed: bool, as_json: bool) -> None:
    """Everything of the site in one file, made while it runs: site file and editions, maps, journal, plan, keys without their texts."""
    from cairnwind.cli import show

    site = site_of(ctx)
    if listed:
        found = site.backups()
        if as_json:
            show.emit(found)
        elif not found:
            click.echo(
                "There is none yet. To make one: cairnwind backup; each day: backup_at in [service] of the site file."
            )
        for each in () if as_json else found:
            click.echo(
                f"{each['made'][:16].replace('T', ' ')} UTC  {show_size(each['bytes']):>8}  {each['folder']}/{each['name']}"
            )
        return
    made = site.back_up()
    where = Path(made["folder"]) / made["name"]
    if to is not None:
        where = to / made["name"] if to.is_dir() else to
        site.fetch_backup(made["name"], where)
    if as_json:
        show.emit({**made, "file": str(where)})
        return
    click.echo(f"{where}, {show_size(made['bytes'])}, looked at whole.")
    for name in made["gone"]:
        click.echo(f"  {name} has gone by the rule of the site file")


@main.command()
@click.argument("file", type=click.Path(dir_okay=False, path_type=Path))
@click.option("--state", metavar="DIR", help="Where the service is to keep its state.")
@click.option(
    "--site",
    "folder",
    metavar="DIR",
    type=click.Path(path_type=Path),
    default=".",
    help="Where its site file is to be; here, if not said.",
)
@click.option(
    "--look", "only_look", is_flag=True, help="Only look whether FILE is whole, and say what is in it."
)
@click.option(
    "--replace",
    is_flag=True,
    help="Where there is a site already: put it in its place; what was there stays beside it.",
)
@as_json
@click.pass_context
def restore(
    ctx: click.Context,
    file: Path,
    state: str | None,
    folder: Path,
    only_look: bool,
    replace: bool,
    as_json: bool,
) -> None:
    """Put a backup back, on this machine or another, while no service runs there; says what is missing here."""
    from cairnwind import folder as folders
    from cairnwind.cli import show
    from cairnwind.store import backups

    about = backups.look(file)
    if only_look:
        show.emit(about.form) if as_json else _shown(file, about)
        return
    where = folders.Folder(
        state or ctx.obj["state"] or os.environ.get("CAIRNWIND_STATE") or folders.default()
    )
    site_file = folder / about.site_file
    there = [each for each in (where.database, site_file) if each.exists()]
    if there and not replace:
        raise CallerError(
            "taken", f"There is a site already: {', '.join(map(str, there))}.", "Give other folders with --state and --site; or --replace, and what is there stays beside it."
        )  # fmt: skip
    where.hold()
    try:
        names = backups.restore(file, about, where.database, folder, datetime.now(UTC))
    finally:
        where.let_go()
    left = _missing(site_file, where)
    if as_json:
        show.emit(
            {
                **about.form,
                "state": str(where.path),
                "restored": [str(folder / name) for name in names],
                "missing": left,
            }
        )
        return
    _shown(file, about)
    click.echo(
        f"It is in {where.path}, and {', '.join(str(folder / name) for name in names) or 'no site file'}."
    )
    click.echo(
        "Nothing is on by what somebody wanted then; lockouts, trips and the all-stop stand; who was signed in signs in anew."
    )
    for sentence in left:
        click.echo(f"{click.style('missing', fg='yellow')}: {sentence}", err=True)
    click.echo(f"To serve it: cairnwind serve {site_file} --state {where.path}")


def _shown(file: Path, about: About) -> None:
    files = len(about.files) - 1
    click.echo(
        f"{file} is whole: {about.site}, made on {about.made:%Y-%m-%d %H:%M} UTC with Cairnwind {about.version}; {about.rows:,} rows of the journal, "
        f"{files} file{'' if files == 1 else 's'} of the site."
    )


def _missing(site_file: Path, where: Folder) -> list[str]:
    """What there has to be said of a site that comes to this machine."""
    from cairnwind.boards.doctor import examine
    from cairnwind.service.around import look
    from cairnwind.site import read_site
    from cairnwind.site.beside import certificates, secrets

    if not site_file.exists():
        return ["a site file: it was served without one"]
    try:
        site = read_site(site_file)
    except Trouble as error:
        return [str(error)]
    left = [
        f"{each.what} {each.remedy}".strip()
        for each in (*examine(site), *look(site, where.path, running=False))
        if each.good is False
    ]
    for name in secrets(site):
        try:
            where.secret(name)
        except CallerError as error:
            left.append(f"{error.sentence} {error.remedy}")
    left += [
        f"the certificate or key {each}: it is not part of a backup."
        for each in certificates(site, private=True)
        if not each.exists()
    ]
    if where.key() is None:
        left.append(
            "the text of the first key: at the first start another is made for it, in the state folder."
        )
    return left


@main.command()
@click.option("-n", "number", type=click.IntRange(1), default=50, show_default=True, help="How many lines.")
@click.option("--follow", is_flag=True, help="And those that come.")
@click.option(
    "--level",
    type=click.Choice(("debug", "info", "warning", "error")),
    help="From now on, until the service ends, it says what is at least as grave.",
)
@click.option(
    "--part",
    default="cairnwind",
    show_default=True,
    help="With --level: this part of it alone, as the lines name it.",
)
@as_json
@click.pass_context
def log(ctx: click.Context, number: int, follow: bool, level: str | None, part: str, as_json: bool) -> None:
    """The last lines of the running service's log; at debug every request, with the id that its answer, its commands and their rows in the journal have."""
    from cairnwind.cli import show
    from cairnwind.cli.interrupts import Interrupts

    site = site_of(ctx)
    if level is not None:
        levels = site.set_log(level, part)
        show.emit(levels) if as_json else click.echo(
            "\n".join(f"{name}: {each}" for name, each in levels.items())
        )
        return
    with Interrupts() as stop:
        last = 0
        while True:
            lines = site.log(last)["lines"]
            for each in lines[-number:] if not last else lines:
                show.emit(each["line"]) if as_json else _line(each["line"])
            last = lines[-1]["number"] if lines else last
            if not follow or stop.asked:
                return
            stop.sleep(0.5)


def _line(line: Mapping[str, Any]) -> None:
    own = ("at", "level", "part", "text", "trace")
    colour = {"error": "red", "critical": "red", "warning": "yellow"}.get(line["level"])
    more = " ".join(f"{name}={value}" for name, value in line.items() if name not in own and value != "")
    click.echo(
        f"{line['at']}  {click.style(line['level'], fg=colour)}  {line['part']}: {line['text']}{f'  {more}' if more else ''}"
    )
    if "trace" in line:
        click.echo(line["trace"])
