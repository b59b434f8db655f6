"""What can be wrong, and whose fault it is.

Every error carries a code, a sentence and a remedy, once. The command line, HTTP and the console show the
same three; only the dress differs. Codes that mean something to a script
are in `cairnwind.cli.exits` and `cairnwind.service.problems`.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from typing import TypeVar

T = TypeVar("T")

LONGEST = 600
"""Characters of a sentence: of a value that is longer the middle is left out."""


ACCEPT_CLOCK = "If it is right, a keeper accepts it: cairnwind clock --accept --by NAME."
"""What to do where the clock is not believed."""


class Trouble(Exception):
    """Base of the two kinds of error that are shown to people."""

    def __init__(self, code: str, sentence: str, remedy: str = "") -> None:
        if len(sentence) > LONGEST:
            sentence = f"{sentence[: LONGEST * 2 // 3]} … {sentence[-LONGEST // 3 :]}"
        super().__init__(sentence)
        self.code = code
        self.sentence = sentence
        self.remedy = remedy
        self.more: dict[str, object] = {}
        """What else a program may want to know of it."""

    def __str__(self) -> str:
        return f"{self.sentence} {self.remedy}".strip()


class CallerError(Trouble):
    """The caller is wrong: a name, a value, a file, a right."""


def at_fault(key: str, error: CallerError) -> CallerError:
    """The error, with the key that it is about."""
    error.more["key"] = key
    return error


class BoardError(Trouble):
    """The board is wrong: it does not answer, or not with what was asked of it."""


def nearest(name: str, known: Iterable[str]) -> str:
    """ "Did you mean 'x'?" for the known name closest to ``name``, or an empty string."""
    import difflib  # only when something is wrong: it is not needed on the way to safe

    by_fold = {each.casefold(): each for each in known}
    close = difflib.get_close_matches(name.casefold(), by_fold, n=1, cutoff=0.55)
    return f"Did you mean '{by_fold[close[0]]}'?" if close else ""


def unknown(kind: str, name: str, known: Iterable[str]) -> CallerError:
    """The error for a name that nobody has given to anything of this kind."""
    names = sorted(known)
    hint = nearest(name, names)
    if hint:
        remedy = hint
    elif names:
        few = ", ".join(names[:12])
        remedy = f"Known: {few}{', …' if len(names) > 12 else ''}."
    else:
        remedy = f"The site has no {kind} yet."
    return CallerError("unknown-name", f"There is no {kind} called '{name}'.", remedy)


def known(kind: str, name: object, among: Mapping[str, T]) -> T:
    """What is called so; an error for anything else, be it no name at all."""
    if not isinstance(name, str) or name not in among:
        raise unknown(kind, str(name), among)
    return among[name]
