"""HTTP for the site file as it is changed: drafts, what changes would come to, editions, what may be written."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import asdict
from typing import Any
from zoneinfo import ZoneInfo

from flask import Response, request
from msgspec import ValidationError, convert, to_builtins

from cairnwind.core.language import schedules
from cairnwind.core.values import spokentimes
from cairnwind.core.values.errors import CallerError
from cairnwind.service import rehearsals, shapes
from cairnwind.service.asked import answer, caller, json_body, need, whole
from cairnwind.service.bounded import Bounded
from cairnwind.service.desk import Desk
from cairnwind.service.editing import renamed
from cairnwind.service.planviews import REHEARSED_MOST
from cairnwind.service.startup import clock
from cairnwind.site.drafting import Preview, difference_of
from cairnwind.site.edits import Edit
from cairnwind.site.offering import offers
from cairnwind.store.reader import Edition

WEEK = 8 * 86400 * 10**9
"""Nanoseconds of a time gone by that can be gone through again here."""


class SiteViews:
    """The views; `cairnwind.service.app` has the way in. What they are asked to do is in the table of commands."""

    def __init__(self, desk: Desk) -> None:
        self.runtime = desk.runtime
        self._rehearsing = Bounded(
            "a rehearsal", "Rehearse a shorter time, or on a machine of your own: cairnwind draft rehearse."
        )

    def routes(self, v1: str) -> dict[str, dict[str, Callable[..., Any]]]:
        """Their addresses."""
        return {
            f"{v1}/site-file/changes": {"GET": self.get_changes},
            f"{v1}/site-file/preview": {"POST": self.preview},
            f"{v1}/site-file/offers/<what>": {"GET": self.get_offers},
            f"{v1}/draft": {"GET": self.get_draft},
            f"{v1}/draft/rehearsals": {"POST": self.rehearse},
            f"{v1}/editions": {"GET": self.get_editions},
            f"{v1}/editions/<int:number>": {"GET": self.get_edition},
        }

    def get_changes(self) -> Response:
        """What another reading of the site file would change."""
        return answer({"changes": self.runtime.reloading.would_change()})

    def preview(self) -> Response:
        """What changes would come to."""
        changes = _changes(json_body({"changes"}).get("changes"))
        return answer(preview_form(self.runtime.editing.preview(changes)))

    def get_offers(self, what: str) -> Response:
        """What may be written of a thing."""
        kind, name = request.args.get("kind", ""), request.args.get("name", "")
        found = [
            {
                "name": each.key.name, "says": each.key.says, "needed": bool(each.key.needed), "unsaid": each.key.unsaid,
                "choices": list(each.choices), "value": each.value,
            }
            for each in offers(self.runtime.site, what, kind, name)
        ]  # fmt: skip
        return answer({"what": what, "kind": kind, "keys": found})

    def get_draft(self) -> Response:
        """The draft of whoever asks."""
        editing, owner = self.runtime.editing, caller().who
        draft = editing.draft(owner)
        found, trouble = None, ""
        if draft.changes:
            try:
                found = preview_form(editing.preview(draft.changes))
            except CallerError as error:
                trouble = f"{error.sentence} {error.remedy}".strip()
        return answer({
            "edition": editing.editions.number, "base": draft.base, "since": editing.since(draft.base) if draft.changes else "",
            "changes": to_builtins(list(draft.changes)), "words": [each.words for each in draft.changes], "at": shapes.moment(draft.wall),
            "others": editing.others(owner), "preview": found, "trouble": trouble,
        })  # fmt: skip

    def rehearse(self) -> Response:
        """What would be different under the draft of whoever asks: by the plan, or with what a time gone by has brought."""
        body, runtime = json_body({"from", "to"}), self.runtime
        zone = ZoneInfo(runtime.site.timezone)
        begin, end = (spokentimes.wall(need(body, key), zone, clock().wall) for key in ("from", "to"))
        changes = runtime.editing.draft(caller().who).changes
        if not changes:
            return answer({"differences": []})
        past = end <= clock().wall
        if not begin < end <= begin + (WEEK if past else REHEARSED_MOST):
            raise CallerError(
                "bad-value",
                "'to' is not after 'from', or too long after it.",
                "62 days to come, or 8 days gone by, at most.",
            )
        seen = runtime.editing.preview(changes)
        if seen.errors:
            first = seen.errors[0]
            raise CallerError("site-file", f"The draft cannot be applied: {first.what}.", first.remedy)
        path, text = runtime.reloading.file
        added = [
            (schedules.form_of(each), schedules.state_of(each, None))
            for each in list(runtime.engine.planning.schedules.values())
            if each.origin == "database"
        ]
        gone_by = rehearsals.gone_by(runtime.reader, runtime.site, begin, end) if past else ([], [])
        found = self._rehearsing.run(
            rehearsals.under, path, text, seen.text, dict(renamed(changes, text)), added, begin, end, *gone_by
        )
        return Response(found, content_type="application/json")

    def get_editions(self) -> Response:
        """All of them, the newest first."""
        renamed = self._renamed()
        return answer([self._edition(each, renamed) for each in self.runtime.editing.editions.all()])

    def _renamed(self) -> dict[int, dict[str, str]]:
        return {each.edition: each.names for each in self.runtime.reader.renames()}

    def get_edition(self, number: int) -> Response:
        """One, with its text and what is different in it from another."""
        editions = self.runtime.editing.editions
        found = editions.find(number)
        against = whole("against", number - 1) or 0
        before = editions.find(against).text if against else ""
        lines = difference_of(
            before, found.text, (f"edition {against}" if against else "nothing", f"edition {number}")
        )
        return answer(
            {
                **self._edition(found, self._renamed()),
                "text": found.text,
                "against": against,
                "difference": lines,
            }
        )

    def _edition(self, each: Edition, renamed: Mapping[int, Mapping[str, str]]) -> dict[str, Any]:
        return {
            "number": each.number, "at": shapes.moment(each.wall), "author": each.author, "how": each.how, "reason": each.reason,
            "served": each.number == self.runtime.editing.editions.number,
            "renamed": [{"before": one, "after": other} for one, other in renamed.get(each.number, {}).items()],
        }  # fmt: skip


def preview_form(found: Preview) -> dict[str, Any]:
    """What changes would come to, as a form."""
    return {
        "good": not found.errors, "lines": found.lines, "words": list(found.words),
        **{name: [asdict(each) for each in getattr(found, name)] for name in ("errors", "new", "old")},
    }  # fmt: skip


def _changes(value: Any) -> list[Edit]:
    try:
        return convert(value, list[Edit])
    except ValidationError as error:
        raise CallerError(
            "bad-value", f"These are no changes: {error}.", 'Send [{"do": "change", "what": "output", "name": "gallery", "keys": {…}}].'
        ) from None  # fmt: skip
