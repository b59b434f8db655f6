"""The prompt: ``cairnwind do`` without a phrase. For now it takes the commands below, with history and completion."""

from __future__ import annotations

import shlex
import sys
from collections.abc import Iterable
from typing import TYPE_CHECKING, Any

import click

from cairnwind.cli.main import _complain, _site, main
from cairnwind.core.errors import CallerError, Trouble, nearest

if TYPE_CHECKING:
    from prompt_toolkit.completion import Completion

COMMANDS = ("turn", "release", "run", "play", "try", "why", "look", "pins")
LEAVE = ("bye", "exit", "quit")


@main.command(name="do", context_settings={"ignore_unknown_options": True})
@click.argument("words", nargs=-1)
@click.pass_context
def do(ctx: click.Context, words: tuple[str, ...]) -> None:
    """A prompt for turn, release, run, play, try, why, look and pins, with history and completion; or do WORDS once."""
    if words:
        _run(ctx, list(words))
        return
    _site(ctx).facts()  # fails here, in words, if there is no service
    for line in _lines(ctx):
        try:
            said = shlex.split(line)
            if said and said[0] in LEAVE:
                return
            if said:
                _run(ctx, said)
        except ValueError:
            _complain(CallerError("bad-value", "A quotation mark is not closed.", "Close it, and try again."))
        except Trouble as error:
            _complain(error)
        except click.UsageError as error:
            click.echo(f"{click.style('error', fg='red')}: {error.format_message()}", err=True)
        except (click.exceptions.Exit, SystemExit):
            pass
        except KeyboardInterrupt:
            click.echo()


def _run(ctx: click.Context, words: list[str]) -> None:
    if words[0] not in COMMANDS:
        hint = nearest(words[0], COMMANDS) or f"Known here: {', '.join(COMMANDS)}."
        raise CallerError("bad-value", f"'{words[0]}' is not known here.", hint)
    command = main.get_command(ctx, words[0])
    assert command is not None
    with command.make_context(words[0], words[1:], parent=ctx.find_root()) as inner:
        command.invoke(inner)


def _lines(ctx: click.Context) -> Iterable[str]:
    if not sys.stdin.isatty():
        for line in sys.stdin:
            yield line.strip()
        return
    from prompt_toolkit import PromptSession
    from prompt_toolkit.history import FileHistory

    from cairnwind.folder import running

    state = (ctx.find_root().params.get("state")) or None
    session: Any = PromptSession(
        history=FileHistory(str(running(state).path / "prompt-history")), completer=_completer(ctx)
    )
    click.echo(
        click.style(
            f"{', '.join(COMMANDS)}; Tab completes, the arrow keys bring back, Ctrl-D leaves.", dim=True
        )
    )
    while True:
        try:
            yield session.prompt("cairnwind> ")
        except KeyboardInterrupt:
            continue
        except EOFError:
            return


def _completer(ctx: click.Context) -> Any:
    from prompt_toolkit.completion import Completer
    from prompt_toolkit.completion import Completion as Made

    site = _site(ctx)

    class Names(Completer):
        """Commands first, then names of the running site, then what may follow."""

        def get_completions(self, document: Any, event: Any) -> Iterable[Completion]:
            words = document.text_before_cursor.split(" ")
            begin = words[-1]
            if len(words) == 1:
                options = list(COMMANDS)
            elif len(words) == 2:
                options = self._names(words[0])
            else:
                options = {
                    "turn": ["on", "off", "toggle", "half"],
                    "try": ["output", "pwm", "tone", "input", "count", "analogue"],
                }.get(words[0], [])
            for option in options:
                if option.startswith(begin):
                    yield Made(option, -len(begin))

        def _names(self, verb: str) -> list[str]:
            try:
                if verb == "pins":
                    return [each["name"] for each in site.boards()]
                if verb == "try":
                    return [
                        pin["pin"]
                        for board in site.boards()
                        for pin in site.pins(board["name"])
                        if pin["pin"] and not pin["user"]
                    ]
                return [each["name"] for each in site.outputs()]
            except Trouble:
                return []

    return Names()
