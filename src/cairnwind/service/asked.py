"""What comes with a request, read and checked; and how an answer is made of a form."""

from __future__ import annotations

from typing import Any

from flask import Response, request

from cairnwind.core.facts.claims import Source
from cairnwind.core.language.rights import Key
from cairnwind.core.values import jsontext
from cairnwind.core.values.errors import CallerError, unknown
from cairnwind.core.values.quantities import NS, duration
from cairnwind.service import shapes

CALLER = "cairnwind.caller"
"""Key of the WSGI environment: the key that was shown, the source that commands by it have, and who its streams belong to."""
BODY = "cairnwind.body"
"""Key of the WSGI environment: the body, once it was read."""
LONGEST_WAIT = 10.0


def caller_key() -> Key:
    """The key that came with the request."""
    found: Key = request.environ[CALLER][0]
    return found


def caller() -> Source:
    """Who asks, as a source of commands."""
    found: Source = request.environ[CALLER][1]
    return found


def answer(form: Any, status: int = 200, made: str = "") -> Response:
    """A form as a response; ``made`` is where what was made is found."""
    response = Response(shapes.dump(form), status, content_type="application/json")
    if made:
        response.headers["Location"] = made
    return response


def json_body(known: set[str], *, empty: bool = False) -> dict[str, Any]:
    """The request's JSON object; raises `CallerError` for anything else and for unknown members."""
    content = request.environ[BODY] = request.get_data(cache=True, parse_form_data=False)
    if empty and not content:
        return {}
    if not request.environ.get("CONTENT_TYPE", "").lower().startswith("application/json"):
        raise CallerError(
            "media", "The request's body is not marked as JSON.", "Send Content-Type: application/json."
        )
    try:
        body = jsontext.read(content)
    except ValueError as error:
        raise CallerError(
            "bad-body", f"The request's body is not valid JSON: {error}.", "Send one JSON object."
        ) from None
    if not isinstance(body, dict):
        raise CallerError("bad-body", "The request's body is not a JSON object.", "Send one JSON object.")
    for name in body:
        if name not in known:
            remedy = unknown("member", name, known).remedy
            raise CallerError(
                "bad-value", f"The request has a member '{name}' that is not known here.", remedy
            )
    return body


def need(body: dict[str, Any], name: str) -> str:
    """A text member that has to be there."""
    value = body.get(name)
    if not isinstance(value, str) or not value:
        raise CallerError("bad-value", f"The request has no text '{name}'.", f"Send '{name}' as a text.")
    return value


def text(body: dict[str, Any], name: str) -> str:
    """A text member of up to 500 characters, empty if absent."""
    value = body.get(name, "")
    if not isinstance(value, str) or len(value) > 500:
        raise CallerError(
            "bad-value", f"'{name}' is not a text of up to 500 characters.", "Send a short text."
        )
    return value


def waits(body: dict[str, Any]) -> float:
    """The member 'wait' in seconds, bounded; 0 if absent."""
    if "wait" not in body:
        return 0.0
    return min(duration(body["wait"]) / NS, LONGEST_WAIT)


def whole(name: str, default: int | None, low: int = 0, high: int = 2**62) -> int | None:
    """A whole number of the query."""
    text = request.args.get(name)
    if text is None:
        return default
    if not text.isascii() or not text.isdigit() or len(text) > 20 or not low <= int(text) <= high:
        raise CallerError(
            "bad-value",
            f"'{name}' is {text!r}, which is not a whole number from {low} to {high}.",
            "Mend the address.",
        )
    return int(text)
