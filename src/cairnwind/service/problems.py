"""Errors as problem details (RFC 9457): the code, the sentence and the remedy that every surface shows."""

from __future__ import annotations

from typing import Any

from flask import Response, has_request_context, request
from werkzeug.exceptions import HTTPException

from cairnwind.core.values.errors import Trouble
from cairnwind.service.shapes import dump

STATUS = {
    "bad-value": 400, "bad-body": 400, "key": 401, "sign-in": 401, "role": 403, "origin": 403, "host": 421,
    "unknown-name": 404, "no-claim": 404, "no-page": 404, "bad-phrase": 400, "asks-back": 400, "method": 405, "refused": 409, "late": 412, "too-large": 413,
    "media": 415, "token": 422, "wait": 429, "rate": 429, "reload": 409, "site-file": 409, "no-file": 409, "edition": 409, "taken": 409, "by-hand": 409, "package": 409, "backup": 409, "engine": 500, "unreachable": 503, "busy": 503, "not-recorded": 507,
}  # fmt: skip
MEANS = {
    "bad-value": "a value that cannot be, or is missing",
    "bad-body": "what was sent is no JSON object, or has members that are not known",
    "key": "no key, or one that is not known (any more)",
    "sign-in": "the sign-in link or session is over",
    "role": "the key has no right to that: its role, its outputs, its hours",
    "origin": "a page of another origin may not use this service",
    "host": "it was asked under a name that is not its own: `names` in `[service]`",
    "unknown-name": "nothing is called so; the nearest name is offered",
    "no-claim": "this claim has ended",
    "no-page": "there is no such address",
    "bad-phrase": "a phrase or condition that is not understood; the place is pointed at",
    "asks-back": "it may mean two things: `choices` has them, nothing was done",
    "method": "this address is not asked that way",
    "refused": "a rule forbids it now; `reason` has which",
    "late": "it came after what it goes on from had ended",
    "too-large": "more was sent than is taken",
    "media": "JSON is expected",
    "token": "an `Idempotency-Key` was used for something else",
    "wait": "too many wrong keys or codes: try again later",
    "rate": "too many commands by this key; moves to off are always taken",
    "reload": "the site file cannot be taken as it is; nothing was changed",
    "site-file": "the site file has errors; each is listed",
    "no-file": "this service has no site file that it could change",
    "edition": "the site has been changed meanwhile: look at that first",
    "taken": "the name, pin or address is somebody's already",
    "by-hand": "the file was changed by hand: `cairnwind reload` takes that in",
    "package": "an optional part is not installed",
    "backup": "a backup cannot be made, read or put back",
    "engine": "a fault of Cairnwind's own; the log has more",
    "unreachable": "the board does not answer",
    "busy": "too much waits: try again",
    "not-recorded": "the journal cannot be written; only moves toward off are carried out",
}
"""What each code says, in a line of the docs."""
TITLES = {
    400: "The request cannot be understood", 401: "Not signed in", 403: "Not allowed", 404: "Not there",
    405: "Not done that way", 409: "Refused", 412: "Too late", 413: "Too large", 415: "Not JSON", 421: "Not this host",
    422: "Used already", 429: "Too often", 500: "Cairnwind is at fault", 503: "Not now", 507: "Not recorded",
}  # fmt: skip


AGAIN = {429: 1, 503: 5}
"""By status: after how many seconds it is worth another try, where nothing else is known."""


def _below() -> str:
    """Where a proxy has put the service."""
    return request.script_root if has_request_context() else ""


def problem(code: str, sentence: str, remedy: str = "", **more: Any) -> Response:
    """A response of type ``application/problem+json``."""
    status = STATUS.get(code, 400)
    form = {
        "type": f"urn:cairnwind:problem:{code}", "title": TITLES[status], "status": status, "detail": sentence,
        "remedy": remedy, "code": code, "help": f"{_below()}/help/when-things-fail.html#{code}", **more,
    }  # fmt: skip
    response = Response(dump(form), status, content_type="application/problem+json")
    if status in AGAIN:
        response.headers["Retry-After"] = str(AGAIN[status])
    return response


OF_OUTCOME = {"refused": "refused", "unreachable": "unreachable", "not recorded": "not-recorded"}
"""The codes of outcomes that are problems."""


def from_trouble(error: Trouble) -> Response:
    """The problem of one of our errors."""
    more = dict(error.more)
    after = more.pop("retry_after", None)
    response = problem(error.code, error.sentence, error.remedy, **more)
    if after is not None:
        response.headers["Retry-After"] = str(after)
    return response


def from_http(error: HTTPException) -> Response:
    """The problem of what Flask refuses by itself."""
    match error.code:
        case 404:
            return problem("no-page", "There is nothing at this address.", "The API begins at /api/v1/site.")
        case 405:
            allowed = sorted(set(getattr(error, "valid_methods", None) or ()) - {"OPTIONS"})
            response = problem(
                "method",
                "This address does not take that method.",
                f"It takes {', '.join(allowed)}." if allowed else "",
            )
            response.headers["Allow"] = ", ".join(allowed)
            return response
        case 413:
            return problem("too-large", "The request's body is larger than 64 kB.", "Send less at once.")
        case 415:
            return problem(
                "media", "The request's body is not marked as JSON.", "Send Content-Type: application/json."
            )
        case 400:
            return problem("bad-body", "The request's body is not valid JSON.", "Send one JSON object.")
        case _:
            return problem("engine", error.description or error.name, "")
