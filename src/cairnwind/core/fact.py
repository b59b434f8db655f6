"""Facts: frozen dataclasses that are quick to make.

Events, effects and pictures are made by the dozen for every command. The ``__init__`` that `dataclass` writes
for a frozen class goes through ``object.__setattr__`` for each field, which takes about as long as the decision
itself; this one writes the slots directly. Two facts are equal only if they are the same one: nobody asks.
"""

from __future__ import annotations

from dataclasses import MISSING, FrozenInstanceError, dataclass, field, fields
from typing import Any, TypeVar, dataclass_transform

T = TypeVar("T")


@dataclass_transform(frozen_default=True, eq_default=False, field_specifiers=(field,))
def fact(cls: type[T]) -> type[T]:
    """Make ``cls`` a frozen dataclass with slots, compared by identity."""
    # frozen=True would write five methods for each class, which takes longer than all the rest of a start's imports
    made = dataclass(slots=True, eq=False, init=False, repr=False)(cls)
    made.__setattr__ = made.__delattr__ = _frozen  # type: ignore[method-assign]
    made.__repr__ = _show  # type: ignore[method-assign]
    names: dict[str, Any] = {}
    parameters, body = ["self"], []
    for each in fields(made):  # type: ignore[arg-type]
        names[f"set_{each.name}"] = getattr(made, each.name).__set__
        value = each.name
        if each.default is not MISSING:
            names[f"default_{each.name}"] = each.default
            parameters.append(f"{each.name}=default_{each.name}")
        elif each.default_factory is not MISSING:
            names[f"make_{each.name}"] = each.default_factory
            parameters.append(f"{each.name}=None")
            value = f"make_{each.name}() if {each.name} is None else {each.name}"
        else:
            parameters.append(each.name)
        body.append(f"    set_{each.name}(self, {value})")
    exec(f"def __init__({', '.join(parameters)}):\n" + "\n".join(body or ["    pass"]), names)  # noqa: S102
    made.__init__ = names["__init__"]  # type: ignore[method-assign]
    return made


def _frozen(self: Any, name: str, *value: Any) -> None:
    raise FrozenInstanceError(f"{type(self).__name__} is a fact: '{name}' cannot be changed")


def _show(self: Any) -> str:
    inside = ", ".join(f"{each.name}={getattr(self, each.name)!r}" for each in fields(self))
    return f"{type(self).__name__}({inside})"


def alike(one: Any, other: Any) -> bool:
    """Whether two facts say the same: field by field, and what has a text of its own by that."""
    if type(one) is not type(other):
        return False
    if hasattr(one, "__dataclass_fields__"):
        return all(alike(getattr(one, each.name), getattr(other, each.name)) for each in fields(one))
    if hasattr(one, "text") and hasattr(
        one, "_fields"
    ):  # a condition, a course: made of functions, and named by what it says
        return bool(one.text == other.text)
    return bool(one == other)
