"""What many forms have: times, roles, words."""

from __future__ import annotations

from typing import Annotated, Any, Literal

from msgspec import Meta

Time = Annotated[str | None, Meta(extra_json_schema={"format": "date-time"})]
At = Annotated[str, Meta(extra_json_schema={"format": "date-time"})]
Free = Annotated[dict[str, Any], Meta(description="Whatever there is to say of it.")]
Percent = float
Role = Literal["watch", "operate", "keep"]
Word = Literal["driving", "waiting", "blocked", "refused", "unreachable", "not recorded"]
