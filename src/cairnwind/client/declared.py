"""Every command of the table as a method: ``site.note("lamp changed", about="gallery")``.

Commands that have a method of their own here take the same things in a nicer form; all others are made from their declarations,
so that a new one needs nothing here.
"""

from __future__ import annotations

from collections.abc import Callable
from typing import TYPE_CHECKING, Any
from urllib.parse import quote

from cairnwind.client.answers import Outcome, keywords, outcome_of
from cairnwind.client.wire import Wire

if TYPE_CHECKING:
    from cairnwind.commands.declaring import Command


class Declared(Wire):
    """What is asked of a service in the words of its table."""

    def command(self, word: str, *given: Any, wait: str | None = None, **named: Any) -> Outcome:
        """Give a command of the table by its word; its fields in their order, or by name (``from_`` is 'from').

        ``wait`` is how long to wait for what becomes of it, where it is something that boards are told. Raises `CallerError` where
        there is no such command, and the service's own errors.
        """
        kind = _kind(word)
        if kind is None:
            from cairnwind.commands.table import COMMANDS
            from cairnwind.core.values.errors import unknown

            raise unknown("command", word, COMMANDS)
        return self._give(kind, given, named, wait)

    def _give(
        self, kind: type[Command], given: tuple[Any, ...], named: dict[str, Any], wait: str | None
    ) -> Outcome:
        from cairnwind.commands.paths import filled
        from cairnwind.commands.reading import names, read

        fields = names(kind)
        if len(given) > len(fields):
            raise TypeError(f"{kind.word}() takes {', '.join(fields)}")
        body = {**dict(zip(fields, given, strict=False)), **keywords(named)}
        read(kind, body)  # what is wrong is said here in the same words, without a call
        path = filled(kind.path, lambda _, name: quote(str(body.pop(name)), safe=""))
        if wait is not None and kind.waits:
            body["wait"] = wait
        return outcome_of(self.call(kind.method, path, None if kind.method == "DELETE" else body))

    def __getattr__(self, word: str) -> Callable[..., Outcome]:
        kind = None if word.startswith("_") else _kind(word)
        if kind is None:
            raise AttributeError(f"a site has no '{word}'")

        def give(*given: Any, wait: str | None = None, **named: Any) -> Outcome:
            return self._give(kind, given, named, wait)

        give.__name__, give.__doc__ = word, kind.__doc__
        return give

    def __dir__(self) -> list[str]:
        from cairnwind.commands.table import COMMANDS

        return sorted({*super().__dir__(), *COMMANDS})


def _kind(word: str) -> type[Command] | None:
    from cairnwind.commands.table import COMMANDS  # not needed by those that have a method of their own

    return COMMANDS.get(word)
