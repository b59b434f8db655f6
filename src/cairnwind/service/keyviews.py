"""HTTP for keys: the list, new ones, pairing, sessions, signing in and out."""

from __future__ import annotations

import time
from collections.abc import Callable
from typing import Any
from urllib.parse import quote

import segno
from flask import Response, request

from cairnwind.core.facts.site import Site
from cairnwind.core.language.rights import KINDS
from cairnwind.core.values.errors import unknown
from cairnwind.remotes.address import outside
from cairnwind.service.asked import answer, caller, caller_key, json_body, need
from cairnwind.service.desk import Desk
from cairnwind.service.door import cookie_name
from cairnwind.service.keys import PAIR_MINUTES, key_form, limits_of
from cairnwind.service.shapes import moment
from cairnwind.store.reader import Session

LIMITS = {"only", "days", "from", "to", "until"}


class KeyViews:
    """The views; `cairnwind.service.app` has the way in."""

    def __init__(self, desk: Desk) -> None:
        self.desk, self.keys = desk, desk.keys

    @property
    def site(self) -> Site:
        """The site as it is wired now."""
        return self.desk.runtime.site

    def routes(self, v1: str) -> dict[str, dict[str, Callable[..., Any]]]:
        """Their addresses."""
        return {
            f"{v1}/keys": {"GET": self.get_keys, "POST": self.new},
            f"{v1}/keys/<path:name>": {"GET": self.get_key, "DELETE": self.revoke},
            f"{v1}/pairings": {"POST": self.pair},
            f"{v1}/sign-in-links": {"POST": self.make_link},
            f"{v1}/sessions": {"GET": self.get_sessions},
            f"{v1}/sessions/<id>": {"DELETE": self.end_session},
            f"{v1}/session": {"POST": self.sign_in, "GET": self.who, "DELETE": self.sign_out},
        }

    def get_keys(self) -> Response:
        """Every key, never its text."""
        return answer({"keys": [key_form(key, self.site.timezone) for key in self.keys.all()]})

    def get_key(self, name: str) -> Response:
        """One key, never its text."""
        found = self.keys.named(name)
        if found is None:
            raise unknown("key", name, [key.name for key in self.keys.all()])
        return answer(key_form(found, self.site.timezone))

    def new(self) -> Response:
        """A new key; this answer is the only place where its text is."""
        name, role, limits = self._asked()
        return answer(
            {"name": name, "key": self.keys.new(name, role, limits)},
            201,
            f"/api/v1/keys/{quote(name, safe='')}",
        )

    def revoke(self, name: str) -> Response:
        """End a key."""
        return answer({"name": self.keys.revoke(name).name})

    def pair(self) -> Response:
        """A link, and its QR code as rows of 0 and 1."""
        name, role, limits = self._asked()
        link = f"{outside(self.site, request.host_url)}#sign-in={self.keys.pair(name, role, limits)}"
        rows = ["".join("1" if dark else "0" for dark in row) for row in segno.make(link, micro=False).matrix]
        ends = time.time_ns() + PAIR_MINUTES * 60 * 10**9
        return answer({"link": link, "ends": moment(ends), "rows": rows}, 201, link)

    def _asked(self) -> tuple[str, str, dict[str, Any]]:
        body = json_body({"name", "role", *LIMITS})
        site = self.desk.runtime.site
        names = [*site.outputs, *site.groups, *KINDS]
        return need(body, "name"), need(body, "role"), limits_of(body, names, self.site.timezone)

    def make_link(self) -> Response:
        """A link that signs a browser in with the caller's key."""
        json_body(set(), empty=True)
        link = f"{outside(self.site, request.host_url)}#sign-in={self.keys.new_link(caller_key())}"
        return answer({"link": link}, 201, link)

    def get_sessions(self) -> Response:
        """Browsers that are signed in."""
        return answer({"sessions": [self._session(each) for each in self.keys.sessions()]})

    def _session(self, session: Session) -> dict[str, Any]:
        mine = request.environ["cairnwind.caller"][2].session
        return {
            "id": session.id, "key": session.key, "device": session.device, "made": moment(session.made), "ends": moment(session.ends),
            "used": moment(session.used), "this": session.hash == mine,
        }  # fmt: skip

    def end_session(self, id: str) -> Response:
        """End a session."""
        self.keys.end_session(id)
        return answer({"id": id})

    def sign_in(self) -> Response:
        """Use a one-time link."""
        token = need(json_body({"token"}), "token")
        device = _device(request.headers.get("User-Agent", ""))
        session = self.keys.sign_in(token, device, request.environ.get("REMOTE_ADDR", ""))
        response = answer({"signed_in": True}, 201, "/api/v1/session")
        response.set_cookie(
            cookie_name(request), session, max_age=30 * 86400, httponly=True, samesite="Strict", secure=request.is_secure
        )  # fmt: skip
        return response

    def who(self) -> Response:
        """Who one is."""
        key = caller_key()
        mine = key.outputs(self.desk.runtime.site)
        only = None if mine is None else [name for name in self.site.outputs if name in mine]
        return answer({"key": key.name, "role": key.role, "surface": caller().surface, "only": only})

    def sign_out(self) -> Response:
        """End this session."""
        self.keys.sign_out(request.cookies.get(cookie_name(request), ""))
        response = answer({"signed_in": False})
        response.delete_cookie(
            cookie_name(request), httponly=True, samesite="Strict", secure=request.is_secure
        )
        return response


def _device(agent: str) -> str:
    """A browser and its machine, in words, from what it says of itself."""
    browser = next((name for mark, name in _BROWSERS if mark in agent), "a browser")
    machine = next((name for mark, name in _MACHINES if mark in agent), "")
    return f"{browser} on {machine}" if machine else browser


_BROWSERS = (("Firefox/", "Firefox"), ("Edg/", "Edge"), ("Chrome/", "Chromium"), ("Safari/", "Safari"))
_MACHINES = (
    ("iPhone", "a phone"), ("Android", "a phone or tablet"), ("iPad", "a tablet"), ("Windows", "Windows"), ("Mac OS", "a Mac"), ("Linux", "Linux"),
)  # fmt: skip
