"""The docs, as pages: made when the package was, and the same without a network."""

from __future__ import annotations

import base64
import hashlib
import re
from collections.abc import Callable
from functools import lru_cache
from importlib.resources import files
from pathlib import Path
from typing import Any

from flask import Response, redirect, request, send_from_directory

from cairnwind.service.problems import problem

PAGES = Path(str(files("cairnwind.service").joinpath("help")))
INLINE = re.compile(rb"<script>(.*?)</script>", re.S)


class HelpViews:
    """The views; `cairnwind.service.app` has the way in."""

    def routes(self) -> dict[str, dict[str, Callable[..., Any]]]:
        """Their addresses."""
        return {
            "/help": {"GET": self.begin},
            "/help/": {"GET": self.page},
            "/help/<path:name>": {"GET": self.page},
        }

    def begin(self) -> Response:
        """The first page has its own folder, which what it links to lies in."""
        return redirect(f"{request.script_root}/help/", 308)  # type: ignore[return-value]

    def page(self, name: str = "index.html") -> Response:
        """A page, or what belongs to one."""
        if not (PAGES / "index.html").exists():
            return problem(
                "no-page", "The docs have not been built.", "Run 'make help-pages', or read them in docs/."
            )
        if not (PAGES / name).is_file():
            return problem("no-page", f"The docs have no page '{name}'.", "Begin at /help/.")
        response = send_from_directory(PAGES, name)
        response.headers["Cache-Control"] = "no-cache"
        if name.endswith(".html"):
            response.headers["Content-Security-Policy"] = _policy(name, (PAGES / name).stat().st_mtime_ns)
        return response


@lru_cache(100)
def _policy(name: str, changed: int) -> str:
    """The scripts that stand in a page are let run, and no other (CSP level 2, by their hashes)."""
    scripts = sorted(set(INLINE.findall((PAGES / name).read_bytes())))
    hashes = " ".join(
        f"'sha256-{base64.b64encode(hashlib.sha256(each).digest()).decode()}'" for each in scripts
    )
    own = "frame-ancestors 'none'; base-uri 'none'; form-action 'none'"
    return f"default-src 'self'; script-src 'self' {hashes}; style-src 'self' 'unsafe-inline'; img-src 'self' data:; {own}"
