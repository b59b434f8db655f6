"""Profiles: what a chip's datasheet says, or a relay board's manual, as data. One TOML file each.

Our own stand beside this file; a user's own stand in a folder ``profiles`` beside the site file, and come first.
A file is for an expander (it has ``base``) or for a Modbus board (it has ``coils``). See docs/boards.md.
"""

from __future__ import annotations

import tomllib
from collections.abc import Sequence
from fractions import Fraction
from pathlib import Path
from typing import Any

from cairnwind.boards.facts import FORMS, Chip, Register, Relays
from cairnwind.core.values.errors import CallerError, unknown
from cairnwind.core.values.quantities import parse

HERE = Path(__file__).parent
FOLDER = "profiles"
PORT_REGISTERS = ("direction", "output", "input", "pull-up")
PWM_REGISTERS = ("mode", "prescale", "first")


def _folders(beside: Sequence[Path]) -> list[Path]:
    return [*(each / FOLDER for each in beside), HERE]


def names(beside: Sequence[Path] = ()) -> list[str]:
    """The profiles there are."""
    return sorted({path.stem for folder in _folders(beside) for path in folder.glob("*.toml")})


def chip(name: str, beside: Sequence[Path] = ()) -> Chip:
    """The expander or PWM controller of this name. Raises `CallerError`."""
    data = _data(name, beside)
    if "base" not in data:
        raise CallerError(
            "bad-profile", f"The profile {name} is not one of an expander.", "It has no 'base' address."
        )
    kind = data.get("kind", "ports")
    registers = data.get("register", {})
    known = PWM_REGISTERS if kind == "pwm" else PORT_REGISTERS
    for key in (*registers, *data.get("reset", {})):
        if key not in known:
            raise CallerError(
                "bad-profile", f"The profile {name} has a register '{key}'.", f"Known: {', '.join(known)}."
            )
    for key in ("output",) if kind == "ports" else known:
        if key not in registers:
            raise CallerError(
                "bad-profile", f"The profile {name} has no register '{key}'.", f"Add [register] {key} = 0x…"
            )
    lines = data.get("lines", 8)
    if kind == "ports" and lines not in (8, 16):
        raise CallerError("bad-profile", f"The profile {name} has {lines} lines.", "An expander has 8 or 16.")
    return Chip(
        name, str(data.get("title", name)), lines, data["base"], data.get("switches", 0), kind, registers,
        data.get("direction_in", 1), tuple((pair[0], pair[1]) for pair in data.get("writes", ())),
        parse(data["clock"], "a frequency") if "clock" in data else Fraction(0), data.get("counts", 0), data.get("stride", 0), data.get("reset", {}),
    )  # fmt: skip


def relays(name: str, beside: Sequence[Path] = ()) -> Relays:
    """The Modbus board of this name. Raises `CallerError`."""
    data = _data(name, beside)
    if "coils" not in data:
        raise CallerError(
            "bad-profile", f"The profile {name} is not one of a Modbus board.", "It has no 'coils'."
        )
    for entry in data.get("analogue", ()):
        if entry.get("form", "u16") not in FORMS:
            raise CallerError(
                "bad-profile", f"The profile {name} has a register of the form '{entry['form']}'.", f"Known: {', '.join(FORMS)}."
            )  # fmt: skip
    analogue = tuple(
        Register(
            entry["register"],
            parse(entry["a_count"], "a voltage"),
            entry.get("form", "u16"),
            entry.get("low_first", False) is True,
        )
        for entry in data.get("analogue", ())
    )
    levels = tuple((entry["register"], entry["full"]) for entry in data.get("level", ()))
    return Relays(
        name, str(data.get("title", name)), data["coils"], data.get("first_coil", 0), data.get("inputs", 0),
        data.get("first_input", 0), analogue, levels, data.get("one_by_one", False) is True,
    )  # fmt: skip


def _data(name: str, beside: Sequence[Path]) -> dict[str, Any]:
    for folder in _folders(beside):
        path = folder / f"{name}.toml"
        if path.is_file() and "/" not in name:
            try:
                return tomllib.loads(path.read_text("utf-8"))
            except (OSError, UnicodeDecodeError, tomllib.TOMLDecodeError) as error:
                raise CallerError(
                    "bad-profile", f"The profile {path} cannot be read: {error}.", "Mend it."
                ) from None
    raise unknown("profile", name, names(beside))
