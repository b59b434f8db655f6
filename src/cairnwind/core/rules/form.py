"""What every kind of interlock is read with: the table of a site file, key by key, with errors that say which key is at fault."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from typing import Any, Protocol, TypeVar

from cairnwind.core.facts.conditions import Condition
from cairnwind.core.facts.site import Site
from cairnwind.core.values.errors import CallerError, at_fault, unknown
from cairnwind.core.values.quantities import duration

T = TypeVar("T")


class Words(Protocol):
    """The language that conditions are written in."""

    @property
    def site(self) -> Site:
        """What is wired."""

    def state(self, text: object) -> Condition:
        """The condition of a text, about what is so. Raises `CallerError`."""


class Form:
    """One table. Errors carry the key at fault in ``more["key"]``, where that is known."""

    def __init__(self, form: Mapping[str, Any], words: Words) -> None:
        self.form, self.words, self.site = form, words, words.site

    def __contains__(self, key: str) -> bool:
        """Whether it says anything under a key."""
        return key in self.form

    def take(self, key: str, read: Callable[[Any], T]) -> T:
        """What it says under a key, read."""
        return take(self.form, key, read)

    def get(self, key: str, read: Callable[[Any], T], unless: T) -> T:
        """The same, or ``unless`` it says nothing."""
        return take(self.form, key, read) if key in self.form else unless

    def time(self, key: str, unless: int = 0) -> int:
        """A duration in nanoseconds."""
        return self.get(key, duration, unless)

    def outputs(self, key: str = "outputs") -> tuple[str, ...]:
        """Names of outputs; those of groups count for all in them."""
        return self.take(key, lambda value: outputs(value, self.site))

    def condition(self, key: str) -> Condition:
        """Something that is so or not."""
        return self.take(key, self.words.state)


def take(form: Mapping[str, Any], key: str, read: Callable[[Any], T]) -> T:
    """What a table says under a key, read."""
    try:
        if key not in form:
            raise CallerError(
                "bad-value", f"'{form.get('name', 'an interlock')}' has no '{key}'.", f"Give it '{key}'."
            )
        return read(form[key])
    except CallerError as error:
        raise at_fault(key, error) from None


def outputs(value: object, site: Site) -> tuple[str, ...]:
    """Names of outputs and groups, as a list."""
    if not isinstance(value, list) or not value or not all(isinstance(each, str) for each in value):
        raise CallerError(
            "bad-value", "this is not a list of outputs.", 'Write their names: ["kiln", "pug-mill"].'
        )
    found: dict[str, None] = {}
    for each in value:
        if each in site.groups:
            found.update(dict.fromkeys(site.groups[each]))
        elif each in site.outputs:
            found[each] = None
        else:
            raise unknown("output", each, [*site.outputs, *site.groups])
    return tuple(found)
