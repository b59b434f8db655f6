"""Commands that have a site served for good on this machine, and that end it."""

from __future__ import annotations

import os
import shutil
import subprocess
import sys
from collections.abc import Iterable, Iterator
from pathlib import Path
from typing import TYPE_CHECKING

import click

from cairnwind.cli.main import as_json, main
from cairnwind.core.values.errors import CallerError

if TYPE_CHECKING:
    from cairnwind.core.facts.site import Site
    from cairnwind.service.unit import Unit

NAMED = click.option(
    "--name", default="cairnwind", show_default=True, help="Of the unit, its user and its folders: one for each site of this machine."
)  # fmt: skip
DRY = click.option("--dry", is_flag=True, help="Show what would be done, and do nothing.")
YES = click.option("--yes", is_flag=True, help="Do not ask.")
ROOT = click.option(
    "--root", default="", metavar="DIR", help="The tree of another machine, an image: files are put there, and nothing is started."
)  # fmt: skip


@main.group()
def service() -> None:
    """Serve a site for good: a unit of systemd with a user of its own, let near what the site has wired and nothing else."""


@service.command()
@click.argument("site_file", type=click.Path(dir_okay=False))
@NAMED
@ROOT
@click.option("--program", metavar="PATH", help="The command that the unit calls, where it is not this one.")
@click.option("--replace", is_flag=True, help="Put SITE_FILE in place of another that is served already.")
@DRY
@YES
@as_json
def install(
    site_file: str, name: str, root: str, program: str | None, replace: bool, dry: bool, yes: bool, as_json: bool,
) -> None:  # fmt: skip
    """Have SITE_FILE served from the start of this machine on. What it puts where is shown first."""
    from cairnwind.cli import show
    from cairnwind.service.unit import unit
    from cairnwind.site.checked import check_site

    site, warnings, _ = check_site(site_file)
    its = unit(name, site, Path(program) if program else _own(), elsewhere=bool(root))
    copies = _copies(Path(site_file), site, its, root, replace)
    files, commands = its.files(), its.commands(root)
    if as_json:
        dry = dry or not yes  # nobody could be asked
        told = {str(to): str(source) for source, to in copies}
        shown = {"name": name, "files": files, "copies": told, "commands": commands, "done": not dry}
    else:
        _show(files, copies, commands)
        if warnings.findings:
            click.echo(f"cairnwind check {site_file} has {len(warnings.findings)} things to say of it.")
    if not dry:
        _as_root(root)
        if not yes:
            click.confirm("Do it?", abort=True)
        _do(copies, files, commands, root)
    if as_json:
        show.emit(shown)
    if as_json or root or dry:
        return
    click.echo(f"{site.name} is served, now and from each start of this machine on.")
    click.echo(f"  how it fares   systemctl status {name}; journalctl -u {name}")
    click.echo(f"  its site file  {its.site_file}; after a change: systemctl reload {name}")
    click.echo(f"  the console    sudo -u {name} {its.program} --state {its.state} key link")
    click.echo(f"  to end it      {its.program} service remove --name {name}")


@service.command()
@NAMED
@ROOT
@DRY
@YES
def remove(name: str, root: str, dry: bool, yes: bool) -> None:
    """End what 'install' began. Its site file, its state and its user stay."""
    paths = [each for each in _unit_files(name) if _placed(root, each).exists()]
    if not paths:
        raise CallerError(
            "unknown-name",
            f"No unit called {name} was installed here.",
            "systemctl list-units shows what is there.",
        )
    there = [f"--root={root}"] if root else ["--now"]
    commands = [["systemctl", *there, "disable", f"{name}.service"]]
    click.echo("This is done:")
    for command in commands:
        click.echo(f"  {' '.join(command)}")
    for path in paths:
        click.echo(f"  rm {path}")
    click.echo(f"/etc/{name}, /var/lib/{name} and the user {name} stay.")
    if dry:
        return
    _as_root(root)
    if not yes:
        click.confirm("Do it?", abort=True)
    _run(commands)
    for path in paths:
        _placed(root, path).unlink()
    if not root:
        _run([["systemctl", "daemon-reload"]])


def _do(
    copies: Iterable[tuple[Path, Path]], files: dict[str, str], commands: Iterable[list[str]], root: str
) -> None:
    for source, to in copies:
        to.parent.mkdir(parents=True, exist_ok=True)
        if source.is_dir():
            shutil.copytree(source, to, dirs_exist_ok=True)
            continue
        if to.exists() and to.read_bytes() != source.read_bytes():
            shutil.copy2(to, f"{to}.before")
        shutil.copy2(source, to)
    for path, text in files.items():
        _placed(root, path).parent.mkdir(parents=True, exist_ok=True)
        _placed(root, path).write_text(text, "utf-8")
    _run(commands)


def _unit_files(name: str) -> Iterator[str]:
    yield f"/etc/systemd/system/{name}.service"
    yield f"/etc/udev/rules.d/60-{name}.rules"
    for kind in ("sysusers", "tmpfiles"):
        yield f"/etc/{kind}.d/{name}.conf"


def _own() -> Path:
    """This command, where it really is."""
    called = Path(sys.argv[0])
    if called.name == "__main__.py":
        called = Path(sys.executable).with_name("cairnwind")
    return Path(shutil.which(str(called)) or called).resolve()


def _placed(root: str, path: str) -> Path:
    return Path(root + path) if root else Path(path)


def _copies(file: Path, site: Site, its: Unit, root: str, replace: bool) -> list[tuple[Path, Path]]:
    """What is copied, and whereto: the site file, and what of the user's own is beside it. Raises `CallerError`."""
    from cairnwind.site.beside import FOLDERS, certificates

    there = _placed(root, its.site_file)
    if there.exists() and there.samefile(file):
        return []
    if there.exists() and there.read_bytes() != file.read_bytes() and not replace:
        raise CallerError(
            "taken",
            f"{there} is there already, and is another site file than {file}.",
            f"To serve what is there, name that; to have this one in its place: --replace (the other stays as {there.name}.before).",
        )
    folder = file.resolve().parent
    beside = [folder / each for each in FOLDERS if (folder / each).is_dir()]
    beside += [
        each for each in certificates(site, private=True) if each.is_relative_to(folder) and each.exists()
    ]
    return [
        (file, there),
        *((each, there.parent / each.relative_to(folder)) for each in dict.fromkeys(beside)),
    ]


def _show(files: dict[str, str], copies: Iterable[tuple[Path, Path]], commands: Iterable[list[str]]) -> None:
    for source, to in copies:
        click.echo(f"{click.style(str(to), bold=True)}: a copy of {source}")
    for path, text in files.items():
        click.echo(f"\n{click.style(path, bold=True)}")
        for line in text.splitlines():
            click.echo(f"    {line}".rstrip())
    click.echo("\nThen:")
    for command in commands:
        click.echo(f"    {' '.join(command)}")
    click.echo()


def _as_root(root: str) -> None:
    if os.geteuid() and not root:
        raise CallerError(
            "permission", "Only root may tell the machine what it serves; nothing was done.", f"Type: sudo {_own()} {' '.join(sys.argv[1:])}"
        )  # fmt: skip


def _run(commands: Iterable[list[str]]) -> None:
    for command in commands:
        try:
            done = subprocess.run(command, capture_output=True, text=True)
        except FileNotFoundError:
            raise CallerError(
                "device", f"There is no {command[0]} here: this machine is not looked after by systemd.", "docs/running.md has what other machines need."
            ) from None  # fmt: skip
        if done.returncode:
            raise CallerError(
                "device", f"'{' '.join(command)}' failed: {done.stderr.strip() or f'exit code {done.returncode}'}.", "What was put there stays; mend that, and try again."
            )  # fmt: skip
