"""Answers that are large go out compressed to whoever takes that (RFC 9110, section 8.4): gzip, at a level that costs little."""

from __future__ import annotations

import gzip
from functools import lru_cache

from flask import Response, request

LEAST = 4096
"""Bytes: what fits into few packets is sent as it is."""
LEVEL = 1
TEXTS = (
    "application/json",
    "application/problem+json",
    "application/td+json",
    "text/",
    "application/javascript",
    "image/svg+xml",
)


def pack(response: Response) -> Response:
    """Compress an answer, where it is worth that and whoever asked takes it."""
    if not (response.content_type or "").startswith(TEXTS) or "Content-Encoding" in response.headers:
        return response
    known = response.content_length
    if response.status_code == 304 or (known is not None and known < LEAST):
        return response
    response.headers.add("Vary", "Accept-Encoding")
    if "gzip" not in request.headers.get("Accept-Encoding", "") or not request.accept_encodings["gzip"]:
        return response
    response.direct_passthrough = False
    data = response.get_data()
    if len(data) < LEAST:
        return response
    immutable = "immutable" in response.headers.get("Cache-Control", "")
    response.set_data(_once(data) if immutable else gzip.compress(data, LEVEL, mtime=0))
    response.headers["Content-Encoding"] = "gzip"
    return response


@lru_cache(32)
def _once(data: bytes) -> bytes:
    """A file of the console, as small as it goes."""
    return gzip.compress(data, 9, mtime=0)
