"""Questions about now: whether something is so, and what stands in its way."""

from __future__ import annotations

from typing import Any

from cairnwind.core.facts.conditions import Memory
from cairnwind.service.runtime import Runtime
from cairnwind.site.rules import the_language


def asked(runtime: Runtime, text: str) -> dict[str, Any]:
    """The answer, as JSON. Raises `CallerError` for what is no question of the language."""
    condition = the_language(runtime.site, runtime.rules).state(text)
    sight, memory = runtime.engine.sight, Memory()
    so = condition.look(sight, memory)
    instead = [] if so else [gap.text for gap in condition.missing(sight, memory)]
    return {"question": condition.text, "so": so, "instead": instead}
