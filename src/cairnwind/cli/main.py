"""The command ``cairnwind``: the group of all commands, what they share, and how their errors are shown.

Each command calls the client library, or starts a service; none decides anything.
"""

from __future__ import annotations

import importlib
import json
import os
import sys
from collections.abc import Callable
from typing import TYPE_CHECKING, Any

import click

from cairnwind import __version__
from cairnwind.cli import exits
from cairnwind.core.values.errors import Trouble
from cairnwind.core.values.visible import all_visible, visible

if TYPE_CHECKING:
    from cairnwind.client import Outcome, Site


ELSEWHERE = {
    **dict.fromkeys(("serve", "demo", "check"), "serving"),
    **dict.fromkeys(("look", "why", "trace", "watch", "journal"), "looking"),
    **dict.fromkeys(("turn", "release", "hold", "stop", "lockout"), "commanding"),
    **dict.fromkeys(("pins", "map", "try", "identify", "pretend", "chain", "doctor"), "hardware"),
    **dict.fromkeys(("play", "run", "fit", "compare", "steer"), "light"),
    **dict.fromkeys(("add", "change", "rename", "remove", "draft", "editions", "back"), "editing"),
    "new": "beginning",
    "walk": "walking",
    "service": "installing",
    **dict.fromkeys(("backup", "restore", "log"), "keeping"),
    "wire": "wiring",
    "do": "prompt",
    **dict.fromkeys(("plan", "timers", "records"), "planning"),
    "firmware": "firmware",
    "rehearse": "rehearse",
    "key": "keys",
    **dict.fromkeys(("remotes", "sites"), "remotes"),
    **dict.fromkeys(
        ("rules", "ask", "reset", "alarms", "attest", "open", "code", "resume", "reload", "clock"), "safe"
    ),
}
"""Commands and the modules that have them."""


def _declared() -> Any:
    """Commands of the table that have no command line of their own; loaded only for those."""
    return importlib.import_module("cairnwind.cli.declared")


class Commands(click.Group):
    """Shows our errors once, on stderr, with an exit code that means something.

    Commands of other modules are loaded when they are asked for: 'serve' has outputs to make safe first.
    """

    def list_commands(self, ctx: click.Context) -> list[str]:
        """All of them."""
        return sorted({*self.commands, *ELSEWHERE, *_declared().words()})

    def get_command(self, ctx: click.Context, name: str) -> click.Command | None:
        """One, loaded if need be."""
        if name in ELSEWHERE and name not in self.commands:
            importlib.import_module(f"cairnwind.cli.{ELSEWHERE[name]}")
        found: click.Command | None = self.commands.get(name) or _declared().command(name)
        return found

    def main(self, *args: Any, **more: Any) -> Any:
        """Run as a program. What is wrong with how it was called is said as all else is."""
        try:
            result = super().main(*args, **{**more, "standalone_mode": False})
        except click.UsageError as error:
            line = error.ctx.get_usage().removeprefix("Usage: ") if error.ctx is not None else "cairnwind"
            remedy = f"{' '.join(line.split())} (and --help)"
            complain(Trouble("usage", error.format_message(), remedy))
            sys.exit(exits.code("usage"))
        except click.ClickException as error:
            complain(Trouble("file", error.format_message(), ""))
            sys.exit(exits.OTHER)
        except click.Abort:  # a question that was not answered, or with no
            click.echo(err=True)
            sys.exit(exits.OTHER)
        sys.exit(result if isinstance(result, int) else 0)

    def invoke(self, ctx: click.Context) -> Any:
        """Run; a `Trouble` becomes its sentence, its remedy and its exit code."""
        try:
            return super().invoke(ctx)
        except Trouble as error:
            complain(error)
            ctx.exit(exits.code(error.code))
        except KeyboardInterrupt:
            click.echo(err=True)
            ctx.exit(exits.INTERRUPTED)
        except BrokenPipeError:  # the reader of a pipe has had enough
            os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())
            ctx.exit(0)


def complain(error: Trouble) -> None:
    """Show an error on stderr: what, where, and what to do; as problem details where JSON was asked for."""
    if "--json" in sys.argv:
        form = {
            "type": f"urn:cairnwind:problem:{error.code}",
            "detail": error.sentence,
            "remedy": error.remedy,
            "code": error.code,
        }
        click.echo(json.dumps({**form, **getattr(error, "more", {})}, default=str), err=True)
        return
    shown = getattr(error, "shown", None)  # a site file's errors, each with its place
    if shown is not None:
        findings(shown())
    if difference := getattr(error, "more", {}).get("difference"):
        click.echo(visible_lines(str(difference)), err=True)
    click.echo(f"{click.style('error', fg='red')}{wrap(f'     : {visible(error.sentence)}')[5:]}", err=True)
    if error.remedy:
        click.echo(wrap(f"       {visible(error.remedy)}"), err=True)


def visible_lines(text: str) -> str:
    """Lines of somebody's, with nothing in them that a terminal would obey."""
    return "\n".join(visible(line) for line in text.split("\n"))


def findings(text: str) -> None:
    """Show what was found in a file, on stderr, with a blank line after it."""
    click.echo("\n".join(wrap(line) for line in visible(text).split("\n")) + "\n", err=True)


def wrap(line: str) -> str:
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


def site_of(ctx: click.Context) -> Site:
    """The service that this command is for. Raises `CallerError` (``no-service``, ``key``)."""
    from cairnwind.client import Site

    given = ctx.obj or {}
    state = ctx.params.get("state") or given.get("state")
    site = Site(
        given.get("address"), os.environ.get("CAIRNWIND_KEY"), state=state, surface="cairnwind-command-line",
        fingerprint=os.environ.get("CAIRNWIND_FINGERPRINT"),
    )  # fmt: skip
    if not ctx.params.get("as_json"):
        site.cleans = all_visible  # nobody who may write a name, a reason or a note writes to this terminal
    return site


def site_soon(ctx: click.Context) -> Site:
    """The same for completion, which does not wait long."""
    from cairnwind.client import Site

    root = ctx.find_root().params
    return Site(root.get("address"), os.environ.get("CAIRNWIND_KEY"), state=root.get("state"), timeout=0.7)


def names_of(kind: str) -> Callable[..., list[str]]:
    """Completion of names from the running service; silent when there is none."""

    def complete(ctx: click.Context, param: click.Parameter, incomplete: str) -> list[str]:
        try:
            site = site_soon(ctx)
            found = [each["name"] for each in (site.outputs() if "output" in kind else [])]
            found += [each["name"] for each in (site.inputs() if "input" in kind else [])]
            found += [each["name"] for each in (site.boards() if "board" in kind else [])]
            found += [each["name"] for each in (site.remotes() if "remote" in kind else [])]
            found += [each["name"] for each in (site.keys() if "key" in kind else [])]
            if "schedule" in kind:
                found += [each["name"] for each in site.plan()["schedules"]]
            if "rule" in kind:
                wanted = kind.removeprefix("rule ")
                found += [each["name"] for each in site.rules() if each["kind"] == wanted]
        except Exception:
            return []
        return [name for name in found if name.startswith(incomplete)]

    return complete


def settings_of(ctx: click.Context, param: click.Parameter, incomplete: str) -> list[str]:
    """Completion of what the output that was named can be set to; silent when there is no service."""
    try:
        output = site_soon(ctx).output(str(ctx.params.get("output")))
    except Exception:
        return []
    off, on = output["words"]
    words = [on, off, "toggle"]
    if output["takes"] == "level" and output["dimmable"]:
        words += ["20%", "40%", "60%", "80%", "half"]
    elif output["takes"] == "colour":
        from cairnwind.core.values.colours import NAMES

        words += sorted(NAMES)
    elif output["takes"] == "tone":
        words += ["A4", "440Hz"]
    elif output["takes"] == "drive":
        words += ["50%", "-50%"]
    return [word for word in words if word.startswith(incomplete)]


def pins_of(ctx: click.Context, param: click.Parameter, incomplete: str) -> list[str]:
    """Completion of pins that are free, once their board is named."""
    try:
        site = site_soon(ctx)
        board, colon, _ = incomplete.partition(":")
        if not colon:
            return [f"{each['name']}:" for each in site.boards() if each["name"].startswith(board)]
        found = [str(each["pin"]) for each in site.pins(board) if each["pin"] and not each["user"]]
    except Exception:
        return []
    return [pin for pin in found if pin.startswith(incomplete)]


def phrases_of(ctx: click.Context, param: click.Parameter, incomplete: str) -> list[str]:
    """Completion of the next word of a phrase: a verb first, then names."""
    from cairnwind.core.language.words import KEYWORDS, VERBS

    if not ctx.params.get("phrase"):
        words = sorted(word for word, kind in KEYWORDS.items() if kind in VERBS)
        return [word for word in words if word.startswith(incomplete)]
    return names_of("output")(ctx, param, incomplete)


as_json = click.option("--json", "as_json", is_flag=True, help="Print JSON.")
an_output = click.argument("output", shell_complete=names_of("output"))


def report(ctx: click.Context, outcome: Outcome, as_json: bool) -> None:
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


@main.command()
@click.argument("shell", type=click.Choice(["bash", "zsh", "fish"]))
def completion(shell: str) -> None:
    """Print the lines that make SHELL complete commands and names. For bash: eval "$(cairnwind completion bash)"."""
    from click.shell_completion import get_completion_class

    importlib.import_module("cairnwind.cli.completing")
    found = get_completion_class(shell)
    assert found is not None
    click.echo(found(main, {}, "cairnwind", "_CAIRNWIND_COMPLETE").source())


if "_CAIRNWIND_COMPLETE" in os.environ:
    importlib.import_module("cairnwind.cli.completing")
