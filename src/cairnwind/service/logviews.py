"""HTTP for the log: its last lines, and from which level on its parts say something."""

from __future__ import annotations

import json
from collections.abc import Callable
from typing import Any

from flask import Response

from cairnwind.core.values.errors import CallerError
from cairnwind.service import logs
from cairnwind.service.asked import answer, caller, json_body, whole


class LogViews:
    """The views; `cairnwind.service.app` has the way in."""

    def routes(self, v1: str) -> dict[str, dict[str, Callable[..., Any]]]:
        """Their addresses."""
        return {f"{v1}/log": {"GET": self.lines}, f"{v1}/log/levels": {"PUT": self.set_level}}

    def lines(self) -> Response:
        """The last lines, or those after a number."""
        found = logs.recent.after(whole("after", 0) or 0)
        return answer(
            {
                "lines": [{"number": number, "line": json.loads(line)} for number, line in found],
                "levels": logs.parts(),
            }
        )

    def set_level(self) -> Response:
        """Another level, for a part and those below it."""
        body = json_body({"level", "part"})
        level, part = body.get("level"), body.get("part", logs.log.name)
        if not isinstance(level, str) or not isinstance(part, str):
            raise CallerError(
                "bad-value", "The request does not say which level.", f"Send one of {', '.join(logs.LEVELS)}."
            )
        logs.set_level(part, level)
        logs.log.warning("%s says %s and graver from now on, as %s wants", part, level, caller().text)
        return answer({"levels": logs.parts()})
