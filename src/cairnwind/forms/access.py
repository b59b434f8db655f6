"""Forms of who may: keys, sessions, passcodes."""

from __future__ import annotations

from typing import Annotated, TypedDict

from msgspec import Meta

from cairnwind.forms.basic import At, Role, Time


class _Hours(TypedDict("_HoursSaid", {"from": str | None, "to": str | None})):
    days: list[str]
    until: Time


class Code(_Hours):
    """Who has a passcode, and when it is good; never the code."""

    output: str
    owner: str
    once: bool


class CodeOf(TypedDict):
    """Whose code."""

    output: str
    owner: str


class Key(_Hours):
    """A key, never its text."""

    name: str
    role: Role
    only: Annotated[list[str], Meta(description="Outputs, groups and kinds that it may command; empty: all.")]
    made: At
    used: Time
    used_from: str | None


class Session(TypedDict):
    """A browser that is signed in."""

    id: str
    key: str
    device: str
    made: At
    ends: Time
    used: Time
    this: bool


class Who(TypedDict):
    """Who one is, and what one may command."""

    key: str
    role: Role
    surface: str
    only: list[str] | None


class Pairing(TypedDict):
    """A link that makes a key and signs a device in with it, once; and its QR code as rows of 0 and 1."""

    link: str
    ends: At
    rows: list[str]
