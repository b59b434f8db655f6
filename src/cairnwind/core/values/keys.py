"""Keys of the site file, each declared once: what it means, how it is read, what holds where it is not written.

A fact says of a field that it is such a key by giving it `written(...)` as its default. From that the site file is read, checked
and documented, and whoever edits it is told what may be written. What a key is read from may depend on what stands around it
(a pin needs the boards): such a key has no ``read``, and the reader of its table brings one.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable
from functools import partial
from typing import Any, NamedTuple, TypeVar, overload

T = TypeVar("T")
REQUIRED: Any = object()
"""The default of a field that has none."""


class Key(NamedTuple):
    """One key of a table."""

    name: str
    """As it is written."""
    says: str
    """What it means, in Markdown."""
    read: Callable[[Any], Any] | None = None
    """From the value in the file to the value of the model; raises `CallerError`. None: the reader of its table knows."""
    default: Any = REQUIRED
    """What holds where it is not written, as a value of the model."""
    unsaid: str = ""
    """The same as it would be written; empty where nothing can be written for it."""
    needed: str = ""
    """It has to be there: what to do where it is not."""
    kinds: tuple[str, ...] = ()
    """Only these kinds of what its table describes have it; empty: all."""
    field: str = ""
    """The field of the fact that it fills; empty: it makes part of one."""

    def of(self, kind: str | None) -> bool:
        """Whether a kind has it."""
        return not self.kinds or kind in self.kinds

    @property
    def choices(self) -> tuple[str, ...]:
        """What may be written, where that is one of a few words."""
        among: tuple[str, ...] = self.read.keywords.get("among", ()) if isinstance(self.read, partial) else ()
        return among


class Declared(NamedTuple):
    """What stands as the default of a field that is a key, until its fact is made."""

    key: Key
    name: str

    def of(self, field: str) -> Key:
        """The key, once it is known of which field."""
        return self.key._replace(name=self.name or field, field=field)


@overload
def written(
    says: str, read: Callable[[Any], Any] | None = ..., *, needed: str = ..., name: str = ..., kinds: tuple[str, ...] = ...
) -> Any: ...  # fmt: skip
@overload
def written(
    says: str, read: Callable[[Any], Any] | None = ..., *, default: T, unsaid: str = ..., needed: str = ..., name: str = ...,
    kinds: tuple[str, ...] = ...,
) -> T: ...  # fmt: skip
def written(
    says: str, read: Callable[[Any], Any] | None = None, *, default: Any = REQUIRED, unsaid: str = "", needed: str = "",
    name: str = "", kinds: tuple[str, ...] = (),
) -> Any:  # fmt: skip
    """Say of a field of a fact that it is a key of the site file; ``name`` where that is called otherwise than the field."""
    return Declared(Key("", says, read, default, unsaid, needed, kinds), name)


def keys(fact: type[Any]) -> tuple[Key, ...]:
    """The keys that a fact declares, in its order."""
    found: tuple[Key, ...] = getattr(fact, "__keys__", ())
    return found


def names(declared: Iterable[Key], kind: str | None = None) -> list[str]:
    """What may be written of a kind."""
    return [each.name for each in declared if each.of(kind)]
