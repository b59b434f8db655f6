"""Facts: frozen records that are quick to make.

Events, effects and pictures are made by the dozen for every command; each is a `msgspec` record, which is made in a
sixth of the time that a frozen dataclass takes. Two facts are equal only if they are the same one: nobody asks.
"""

from __future__ import annotations

from typing import Any, TypeVar, cast, dataclass_transform

from msgspec import Struct, defstruct, field
from msgspec.structs import force_setattr
from msgspec.structs import replace as _replace

from cairnwind.core.values.keys import REQUIRED, Declared, written

__all__ = ["alike", "derive", "fact", "field", "replace"]
T = TypeVar("T")


@dataclass_transform(frozen_default=True, eq_default=False, field_specifiers=(field, written))
def fact(cls: type[T]) -> type[T]:
    """Make ``cls``, which says its fields as a dataclass does, a frozen record that is compared by identity; or ``cls`` is such a record and adds fields to it.

    Fields that are keys of the site file (`cairnwind.core.values.keys`) are found by `keys`.
    """
    if isinstance(cls, type(Struct)):
        return cast(type[T], cls)  # it says more of another fact, and is one already
    inside = {name: value for name, value in cls.__dict__.items() if name not in ("__dict__", "__weakref__")}
    declared = {name: value.of(name) for name, value in inside.items() if isinstance(value, Declared)}
    inside |= {name: each.default for name, each in declared.items()}
    fields = [
        (name, Any, value) if (value := inside.pop(name, REQUIRED)) is not REQUIRED else (name, Any)
        for name in inside.pop("__annotations__", {})
    ]
    if declared:
        inside["__keys__"] = tuple(declared.values())
    made = defstruct(
        cls.__name__,
        fields,
        bases=(_Fact,),
        namespace=inside,
        module=cls.__module__,
        frozen=True,
        eq=False,
        gc=False,
    )
    return cast(type[T], made)


class _Fact(Struct, frozen=True, eq=False, gc=False):
    """What all facts are."""


def replace(it: T, **changes: Any) -> T:
    """The same fact but for what has changed."""
    return cast(T, _replace(cast(Struct, it), **changes))


def derive(it: Any, name: str, value: Any) -> None:
    """Fill in a field that follows from the others; for `__post_init__` of a fact, and nowhere else."""
    force_setattr(it, name, value)


def alike(one: Any, other: Any) -> bool:
    """Whether two facts say the same: field by field, and what has a text of its own by that."""
    if type(one) is not type(other):
        return False
    if isinstance(one, Struct):
        return all(alike(getattr(one, name), getattr(other, name)) for name in one.__struct_fields__)
    if hasattr(one, "text") and hasattr(
        one, "_fields"
    ):  # a condition, a course: made of functions, and named by what it says
        return bool(one.text == other.text)
    return bool(one == other)
