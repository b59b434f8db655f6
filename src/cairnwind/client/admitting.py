"""Who may, and the ways in and out: keys, sessions, remotes."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any
from urllib.parse import quote

from cairnwind.client.answers import keywords
from cairnwind.client.wire import Wire

if TYPE_CHECKING:
    from cairnwind import forms


class Admitting(Wire):
    """Who comes in, and how."""

    def keys(self) -> list[forms.Key]:
        """Every key: role, limits, last use; never its text. Needs a key with the role keep, as do the calls below."""
        found: list[forms.Key] = self._get("/keys")["keys"]
        return found

    def new_key(self, name: str, role: str, **limits: Any) -> str:
        """A new key; its text is given here and nowhere else. ``limits``: ``only`` (outputs, groups, kinds), ``days``, ``from_``, ``to``, ``until``."""
        text: str = self._post("/keys", {"name": name, "role": role, **keywords(limits)})["key"]
        return text

    def revoke(self, name: str) -> None:
        """End a key, with its sessions and streams, at once."""
        self.call("DELETE", f"/keys/{quote(name, safe='')}")

    def pair(self, name: str, role: str, **limits: Any) -> forms.Pairing:
        """A link that makes a key and signs a device in with it, once, within 5 minutes: ``link``, ``ends``, ``rows`` of its QR code."""
        return self._post("/pairings", {"name": name, "role": role, **keywords(limits)})

    def sessions(self) -> list[forms.Session]:
        """Browsers that are signed in."""
        found: list[forms.Session] = self._get("/sessions")["sessions"]
        return found

    def end_session(self, id: str) -> None:
        """Sign a browser out."""
        self.call("DELETE", f"/sessions/{quote(id, safe='')}")

    def who(self) -> forms.Who:
        """Who one is here: ``key``, ``role``, and the outputs that one may command (``only``; None: all)."""
        return self._get("/session")

    def sign_in_link(self) -> str:
        """A link that signs a browser in to the console, once, within 15 minutes. Needs a key with the role keep."""
        link: str = self.call("POST", "/sign-in-links", {})["link"]
        return link

    def remotes(self) -> list[forms.Remote]:
        """The ways in and out, and how they fare."""
        return self._rows("/remotes")

    def sites(self, *, look: bool = False) -> forms.Sites:
        """Other sites at the broker: those of which something is used here, those that use something of this one; with ``look`` all that have left
        word there, which takes a second."""
        return self._get("/sites?look=yes" if look else "/sites")

    def remote_map(self, name: str) -> list[forms.MapRow]:
        """What the addresses of a remote stand for."""
        rows: list[forms.MapRow] = self._get(f"/remotes/{quote(name, safe='')}/map")["rows"]
        return rows

    def remote_traffic(self, name: str, *, after: int = 0) -> forms.Traffic:
        """What went over a remote after frame ``after``, raw and decoded."""
        return self._get(f"/remotes/{quote(name, safe='')}/traffic?after={after}")
