"""What was given with a command, read into its declaration; and the schema of that.

Errors name the field by the name that surfaces use, say what it has to be, and what to do.
"""

from __future__ import annotations

import re
from collections.abc import Mapping
from functools import lru_cache
from typing import Any

import msgspec
from msgspec import ValidationError, convert
from msgspec.structs import FieldInfo, fields

from cairnwind.commands.declaring import Command
from cairnwind.core.values.errors import CallerError, unknown

WORDS: dict[Any, str] = {str: "text", int: "whole number", float: "number", bool: "true or false"}


def read(kind: type[Command], given: Mapping[str, Any]) -> Command:
    """The command that somebody gives. Raises `CallerError` (``bad-value``)."""
    for name in given:
        if name not in names(kind):
            remedy = unknown("member", str(name), names(kind)).remedy
            raise CallerError(
                "bad-value", f"The request has a member '{name}' that is not known here.", remedy
            )
    for name, field in names(kind).items():
        if field.required and given.get(name) in (None, ""):
            raise _missing(field)
    try:
        return convert(given, kind)
    except ValidationError as error:
        raise _wrong(kind, str(error)) from None


@lru_cache
def names(kind: type[Command]) -> Mapping[str, FieldInfo]:
    """Its fields, by the names that surfaces use."""
    return {each.encode_name: each for each in fields(kind)}


def meaning(field: FieldInfo) -> msgspec.Meta:
    """What a field means, and its bounds."""
    found = getattr(field.type, "__metadata__", None)
    if found is None:  # it may be left out
        found = next(each.__metadata__ for each in field.type.__args__ if hasattr(each, "__metadata__"))
    meta: msgspec.Meta = found[0]
    return meta


def holds(field: FieldInfo) -> type | None:
    """The plain type of what a field holds; None if it may be of several."""
    types = [field.type, *getattr(field.type, "__args__", ())]
    plain = [getattr(each, "__origin__", each) for each in types]
    plain += [getattr(each, "__origin__", None) for each in plain]
    return next((each for each in plain if each in (str, int, float, bool, list)), None)


def _kind(field: FieldInfo) -> str:
    """What a field holds, in words."""
    plain, meta = holds(field), meaning(field)
    if plain is list:
        return "list of texts"
    word = WORDS.get(plain, "value")
    if meta.max_length:
        return f"{word} of {meta.min_length or 'up'} to {meta.max_length} characters"
    if meta.ge is not None and meta.le is not None and meta.le < 10**9:
        return f"{word} from {meta.ge:g} to {meta.le:g}"
    return word


def _missing(field: FieldInfo) -> CallerError:
    said = (meaning(field).extra or {}).get("missing")
    if said is not None:
        return CallerError("bad-value", *said)
    kind, name = _kind(field), field.encode_name
    return CallerError("bad-value", f"The request has no {kind} '{name}'.", f"Send '{name}' as a {kind}.")


def _wrong(kind: type[Command], said: str) -> CallerError:
    found = re.search(r"at `\$\.([^.`\[]+)", said)
    field = names(kind).get(found[1]) if found else None
    if field is None:
        return CallerError("bad-value", f"This is no {kind.word}: {said}.", "See the description of the API.")
    deeper = re.search(r"^(.*) - at `\$\.([^`]+)`", said)
    if deeper is not None and re.search(r"[.\[]", deeper[2]):
        remedy = f"Send {_first_down(meaning(field).description)}"
        return CallerError("bad-value", f"'{deeper[2]}' cannot be that: {_first_down(deeper[1])}.", remedy)
    what = _kind(field)
    so = "neither true nor false" if what == "true or false" else f"not a {what}"
    remedy = (
        "Send true or false."
        if what == "true or false"
        else f"Send a {what}: {_first_down(meaning(field).description)}"
    )
    return CallerError("bad-value", f"'{field.encode_name}' is {so}.", remedy)


def _first_down(text: str | None) -> str:
    return (text or "")[:1].lower() + (text or "")[1:]


def schema(kind: type[Command], without: frozenset[str] = frozenset()) -> dict[str, Any]:
    """The JSON Schema of what is given with a command, but for what stands in its address."""
    (_,), components = msgspec.json.schema_components([kind], ref_template="#/{name}")
    found: dict[str, Any] = _inlined(components[kind.__name__], components)
    found.pop("title", None)
    found.pop("description", None)
    found["properties"] = {name: each for name, each in found["properties"].items() if name not in without}
    found["required"] = [name for name in found.get("required", ()) if name not in without]
    if not found["required"]:
        del found["required"]
    example = {name: value for name, value in kind.example.items() if name not in without}
    return {**found, "examples": [example]} if example else found


def _inlined(schema: Any, components: Mapping[str, Any]) -> Any:
    """A schema in which what is described elsewhere stands where it is spoken of."""
    if isinstance(schema, dict):
        if "$ref" in schema:
            return _inlined(components[schema["$ref"].rpartition("/")[2]], components)
        return {key: _inlined(each, components) for key, each in schema.items() if key != "title"}
    return [_inlined(each, components) for each in schema] if isinstance(schema, list) else schema
