"""Packages that not every site needs: what is said where one of them is not installed."""

from __future__ import annotations

from importlib.util import find_spec

from cairnwind.core.values.errors import CallerError

EXTRAS = {"broker": "paho", "discovery": "zeroconf", "midi": "mido", "plot": "matplotlib"}
"""What is installed beside the service by a name of its own, and what it brings."""


def needs(extra: str, what: str) -> None:
    """``what`` cannot be done without a package. Raises `CallerError` (``package``) where it is not installed."""
    if find_spec(EXTRAS[extra]) is None:
        raise CallerError(
            "package",
            f"{what} needs a package that is not installed.",
            f"Install it beside the service: pip install 'cairnwind[{extra}]'",
        )
