"""The site file, changed: at once, or by a draft; its editions."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any
from urllib.parse import quote

from cairnwind.client.answers import Outcome, outcome_of, query
from cairnwind.client.wire import Wire

if TYPE_CHECKING:
    from collections.abc import Sequence

    from cairnwind import forms


class Editing(Wire):
    """What is wired and ruled, made otherwise. All of this needs a key with the role keep.

    A change is a dictionary: ``{"do": "change", "what": "output", "name": "gallery", "keys": {"label": "The gallery"}}``.
    """

    def add(self, what: str, name: str = "", /, *, reason: str = "", **keys: Any) -> Outcome:
        """Add a thing to the site: ``site.add("output", "porch", kind="lamp", pin="shelf:J2-10")``; ``from_`` is the key 'from'."""
        return self.edit(edit("add", what, name, keys), reason=reason)

    def change(self, what: str, name: str = "", /, *, reason: str = "", **keys: Any) -> Outcome:
        """Change keys of a thing of the site; None takes a key away."""
        return self.edit(edit("change", what, name, keys), reason=reason)

    def rename(self, what: str, name: str, to: str, /, *, reason: str = "") -> Outcome:
        """Have a thing called otherwise, wherever the site speaks of it."""
        return self.edit({"do": "rename", "what": what, "name": name, "to": to}, reason=reason)

    def remove(self, what: str, name: str = "", /, *, reason: str = "") -> Outcome:
        """Take a thing out of the site."""
        return self.edit(edit("remove", what, name, {}), reason=reason)

    def edit(self, *changes: dict[str, Any], reason: str = "") -> Outcome:
        """Apply changes, all of them or none. Raises `CallerError` (``site-file``, ``reload``, ``edition``)."""
        body = {"changes": list(changes), "reason": reason}
        return outcome_of(self.call("POST", "/site-file/edits", body))

    def would_edit(self, *changes: dict[str, Any]) -> forms.SitePreview:
        """What changes would come to."""
        return self._post("/site-file/preview", {"changes": list(changes)})

    def offers(self, what: str, *, kind: str = "", name: str = "") -> forms.Offers:
        """What may be written of a thing, key by key."""
        asked = query({"kind": kind or None, "name": name or None})
        return self._get(f"/site-file/offers/{quote(what, safe='')}?{asked}")

    # --- drafts -------------------------------------------------------------------------------------------

    def draft(self) -> forms.DraftForm:
        """The draft of this key: its changes, what they would come to, what others have applied since."""
        return self._get("/draft")

    def into_draft(self, *changes: dict[str, Any]) -> Outcome:
        """Put changes into the draft."""
        return outcome_of(self.call("POST", "/draft/changes", {"changes": list(changes)}))

    def rehearse_draft(self, begin: str, end: str) -> forms.DraftRehearsed:
        """What would be different under the draft in a time to come, or gone by."""
        return self._post("/draft/rehearsals", {"from": begin, "to": end})

    # --- editions -----------------------------------------------------------------------------------------

    def editions(self) -> Sequence[forms.Edition]:
        """Every state of the site file that was applied, the newest first."""
        found: list[forms.Edition] = self._get("/editions")
        return found

    def edition(self, number: int, *, against: int | None = None) -> forms.EditionWhole:
        """One of them, with what is different in it from another."""
        return self._get(f"/editions/{number}?{query({'against': against})}")


def edit(do: str, what: str, name: str, keys: dict[str, Any]) -> dict[str, Any]:
    """A change as it is sent."""
    found: dict[str, Any] = {"do": do, "what": what}
    if name:
        found["name"] = name
    if keys:
        found["keys"] = {key.removesuffix("_"): value for key, value in keys.items()}
    return found
