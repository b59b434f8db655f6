"""Descriptions of timers: data, one TOML file each. A user's own stand in a folder ``timers`` beside the site file."""

from __future__ import annotations

import tomllib
from collections.abc import Sequence
from functools import cache
from pathlib import Path

from cairnwind.core.physics.pwm import Timer
from cairnwind.core.values.errors import CallerError, unknown
from cairnwind.core.values.quantities import parse

HERE = Path(__file__).parent
_KEYS = {"title", "clock", "prescalers", "width", "fixed", "dual", "finer", "duty_width", "channels"}


def names(beside: Sequence[Path] = ()) -> list[str]:
    """The descriptions there are."""
    return sorted({path.stem for folder in (*beside, HERE) for path in folder.glob("*.toml")})


def load(name: str, *beside: Path) -> Timer:
    """The timer of this name, sought in the folders first. Raises `CallerError` (``unknown-name``, ``bad-map``)."""
    for folder in beside:
        path = folder / f"{name}.toml"
        if path.is_file() and "/" not in name:
            return read(path)  # each time: it may have been changed
    if "/" not in name and (HERE / f"{name}.toml").is_file():
        return _shipped(name)
    raise unknown("timer", name, names(beside))


@cache
def _shipped(name: str) -> Timer:
    return read(HERE / f"{name}.toml")


def read(path: Path) -> Timer:
    """The timer of a file. Raises `CallerError` (``bad-map``) that says what is wrong."""
    try:
        data = tomllib.loads(path.read_text("utf-8"))
        odd = set(data) - _KEYS
        if odd:
            raise ValueError(f"'{sorted(odd)[0]}' is not known")
        prescalers = tuple(sorted(data["prescalers"]))
        numbers = {
            key: data.get(key, default)
            for key, default in (("width", 0), ("fixed", 0), ("finer", 1), ("duty_width", 0))
        }
        whole = [*prescalers, *numbers.values()]
        if not prescalers or any(type(each) is not int for each in whole) or min(prescalers) < 1:
            raise ValueError("prescalers, width, fixed, finer and duty_width are whole numbers")
        if (
            not 1 <= numbers["width"] <= 32
            or not 1 <= numbers["finer"] <= 256
            or not 0 <= numbers["fixed"] <= 2 ** numbers["width"]
        ):
            raise ValueError(
                "the counter has 1 to 32 bits, the fixed period fits into it, and 'finer' is 1 to 256"
            )
        clock = parse(data["clock"], "a frequency")
        if not 1 <= clock <= 10**9:
            raise ValueError("the clock runs at 1 Hz to 1 GHz")
        channels = {str(channel): tuple(pins) for channel, pins in data.get("channels", {}).items()}
        return Timer(
            path.stem, str(data.get("title", path.stem)), int(clock), prescalers, numbers["width"], numbers["fixed"],
            bool(data.get("dual", False)), numbers["finer"], numbers["duty_width"], channels,
        )  # fmt: skip
    except KeyError as error:
        what = f"it has no {error}"
    except CallerError as error:
        what = error.sentence.rstrip(".")
    except (OSError, UnicodeDecodeError, tomllib.TOMLDecodeError, ValueError, TypeError) as error:
        what = str(error)
    raise CallerError("bad-map", f"The timer description {path} cannot be used: {what}.", "Mend the file.")
