"""Every answer of a service in these tests is held against its description: nothing in it that is not described, and all that is."""

from __future__ import annotations

from collections import Counter
from typing import Any

import jsonschema
from flask import Response, request

from cairnwind.commands.paths import braces
from cairnwind.service import app as service
from cairnwind.service import calls

EACH = 12
"""Answers of one call and status that are looked at in one run of the tests."""
undescribed: list[str] = []
looked_at: Counter[tuple[str, str, int]] = Counter()
_described = calls.describe("0", "http://localhost")
_operations = {
    (method.upper(), path): operation
    for path, methods in _described["paths"].items()
    for method, operation in methods.items()
}
_validators: dict[tuple[str, str, int], Any] = {}


def _validator(method: str, path: str, status: int) -> Any:
    responses = _operations[method, path]["responses"]
    found = responses.get(str(status))
    if found is None:
        found = _described["components"]["responses"]["Problem"]
    ((_, content),) = found["content"].items()
    schema = {**content.get("schema", {}), "components": _described["components"]}
    return jsonschema.Draft202012Validator(schema)


def look(response: Response) -> Response:
    """Note what is in an answer and not in its description, or otherwise."""
    rule = request.url_rule
    if rule is None or not rule.rule.startswith(calls.V1) or "json" not in (response.content_type or ""):
        return response
    path = braces(rule.rule.removeprefix(calls.V1))
    key = request.method, path, response.status_code
    if looked_at[key] >= EACH or (request.method, path) not in _operations:
        return response
    looked_at[key] += 1
    if key not in _validators:
        _validators[key] = _validator(*key)
    for error in _validators[key].iter_errors(response.get_json()):
        where = "/".join(map(str, error.absolute_path))
        undescribed.append(f"{request.method} {path} {response.status_code}: {where}: {error.message[:300]}")
    return response


def install() -> None:
    """From now on, of every service that is started in this process."""
    make = service.make_app

    def made(*given: Any, **more: Any) -> Any:
        app = make(*given, **more)
        app.after_request_funcs.setdefault(None, []).append(look)
        return app

    service.make_app = made
