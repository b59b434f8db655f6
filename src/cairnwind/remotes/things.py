"""The site as a W3C Thing Description 1.1: what a caller may command, as properties and actions with their forms.

Each output and input is a property that can be observed, what changes of a kind is an event (by one answer after another, which any
client of HTTP can do with its key, or as a stream), and each output is, for keys that operate, an action that makes a claim; phrases and
the all-stop are actions of the whole. See https://www.w3.org/TR/wot-thing-description11/.
"""

from __future__ import annotations

from collections.abc import Collection
from typing import Any, get_args

from cairnwind import forms
from cairnwind.core.facts.outputs import Output
from cairnwind.core.facts.site import Site

V1 = "/api/v1"
OUTCOME: dict[str, Any] = {
    "type": "object",
    "properties": {
        "outcome": {"type": "string", "enum": list(get_args(forms.Word))},
        "reason": {"type": "string", "description": "Why it is not carried out, or not yet."},
        "remedy": {"type": "string", "description": "What to do."},
        "sequence": {"type": "integer", "description": "Its row in the journal."},
        "command": {
            "type": "string",
            "description": "Its id, under which the events tell what became of it.",
        },
    },
}
"""What a command is answered with, as far as a thing's consumer needs it."""
_WORDS: dict[str, Any] = {
    "type": "object",
    "properties": {"on": {"type": "boolean"}, "words": {"type": "string"}},
}
OUTPUT: dict[str, Any] = {
    "type": "object",
    "properties": {
        "name": {"type": "string"}, "state": {"type": "string"}, "wanted": _WORDS, "confirmed": _WORDS, "reason": {"type": "string"},
    },
}  # fmt: skip
INPUT: dict[str, Any] = {
    "type": "object",
    "properties": {"name": {"type": "string"}, "state": {"type": "string"}, "active": {}, "value": {}, "unit": {"type": "string"}},
}  # fmt: skip
"""What an output and an input are, as far as that; the API's description has all."""
EVENTS: tuple[tuple[str, str, dict[str, Any]], ...] = (
    ("output", "An output has changed", OUTPUT), ("input", "An input has changed", INPUT),
    ("board", "A board is there or away", {"type": "object"}),
    ("site", "An all-stop, a trip, a lockout or an alarm has changed", {"type": "object"}),
)  # fmt: skip


def description(site: Site, url: str, only: Collection[str] | None, *, operates: bool) -> dict[str, Any]:
    """The Thing Description of a site at ``url``; ``only`` these outputs (None: all), with actions if the key operates."""
    outputs = [output for output in site.outputs.values() if only is None or output.name in only]
    properties: dict[str, Any] = {"all-stop": _read("All-stop", {"type": "object"}, f"{V1}/all-stop")}
    for output in outputs:
        properties[output.name] = _read(
            output.label or output.name, OUTPUT, f"{V1}/outputs/{output.name}", changes=True
        )
    for input in site.inputs.values():
        properties[f"input-{input.name}"] = _read(
            input.label or input.name, INPUT, f"{V1}/inputs/{input.name}", changes=True
        )
    actions: dict[str, Any] = {
        "ask": _act(
            "Ask whether something is so",
            {"type": "object", "required": ["question"], "properties": {"question": {"type": "string"}}},
            f"{V1}/questions",
            "POST",
            answers={
                "type": "object",
                "properties": {
                    "so": {"oneOf": [{"type": "boolean"}, {"type": "null"}]},
                    "instead": {"type": "array", "items": {"type": "string"}},
                },
            },
        )
    }
    if operates:
        actions["phrase"] = _act(
            "Say what to do", {"type": "object", "required": ["phrase"], "properties": {"phrase": {"type": "string"}}}, f"{V1}/phrases", "POST"
        )  # fmt: skip
        actions["stop"] = _act(
            "Everything safe, now",
            {"type": "object", "properties": {"reason": {"type": "string"}}},
            f"{V1}/all-stop",
            "PUT",
        )
        for output in outputs:
            properties_of = {
                "output": {"type": "string", "const": output.name},
                "setting": _setting(output),
                "for": {"type": "string"},
            }
            given = {"type": "object", "required": ["output", "setting"], "properties": properties_of}
            actions[f"turn-{output.name}"] = _act(
                f"Turn {output.label or output.name}", given, f"{V1}/claims", "POST"
            )
    form: dict[str, Any] = {
        "@context": "https://www.w3.org/2022/wot/td/v1.1",
        "id": f"urn:cairnwind:{''.join(each if each.isalnum() else '-' for each in site.name.lower())}",
        "title": site.name, "base": url, "securityDefinitions": {"key": {"scheme": "bearer", "in": "header"}}, "security": ["key"],
        "properties": properties, "actions": actions,
        "events": {
            kind: {"title": title, "data": schema, "forms": _told(f"{V1}/events/{kind}", "subscribeevent", "unsubscribeevent")}
            for kind, title, schema in EVENTS
        },
        "links": [{"href": f"{V1}/openapi.json", "rel": "service-desc", "type": "application/json"}],
    }  # fmt: skip
    return form


def _read(title: str, schema: dict[str, Any], href: str, *, changes: bool = False) -> dict[str, Any]:
    forms = [{"href": href, "contentType": "application/json", "op": ["readproperty"]}]
    if changes:
        forms += _told(f"{href}/changes", "observeproperty", "unobserveproperty")
    return {"title": title, **schema, "readOnly": True, "observable": changes, "forms": forms}


def _told(href: str, *op: str) -> list[dict[str, Any]]:
    """How to be told: one answer after another, or a stream."""
    return [
        {"href": f"{href}?next", "subprotocol": "longpoll", "contentType": "application/json", "op": [*op]},
        {"href": href, "subprotocol": "sse", "contentType": "text/event-stream", "op": [*op]},
    ]


def _act(
    title: str, schema: dict[str, Any], href: str, method: str, *, answers: dict[str, Any] | None = None
) -> dict[str, Any]:
    form = {"href": href, "contentType": "application/json", "op": ["invokeaction"], "htv:methodName": method}
    return {
        "title": title, "input": schema, "output": answers or OUTCOME, "safe": answers is not None, "idempotent": False, "synchronous": True,
        "forms": [form],
    }  # fmt: skip


def _setting(output: Output) -> dict[str, Any]:
    if output.takes == "level" and output.dimmable:
        return {
            "oneOf": [
                {"type": "string", "enum": [*output.words, "toggle"]},
                {"type": "number", "minimum": 0, "maximum": 100, "unit": "percent"},
            ]
        }
    return (
        {"type": "string", "enum": [*output.words, "toggle"]}
        if output.takes == "level"
        else {"type": "string"}
    )
