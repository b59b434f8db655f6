"""Facts: frozen dataclasses that are quick to make.

Events, effects and pictures are made by the dozen for every command. The ``__init__`` that `dataclass` writes
for a frozen class goes through ``object.__setattr__`` for each field, which takes about as long as the decision
itself; this one writes the slots directly. Two facts are equal only if they are the same one: nobody asks.
"""

from __future__ import annotations

from dataclasses import MISSING, dataclass, field, fields
from typing import Any, TypeVar, dataclass_transform

T = TypeVar("T")


@dataclass_transform(frozen_default=True, eq_default=False, field_specifiers=(field,))
def fact(cls: type[T]) -> type[T]:
    """Make ``cls`` a frozen dataclass with slots, compared by identity."""
    made = dataclass(frozen=True, slots=True, eq=False, init=False)(cls)
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
