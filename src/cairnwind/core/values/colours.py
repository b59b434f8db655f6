"""Colours as people write them: a name, '#e07b1c', or 'hue 30'; and what sRGB means in light.

Channels are parts per million. Names and numbers are those of the CSS Color Module (W3C), without the shades
that nobody tells apart on a lamp. The transfer function is that of IEC 61966-2-1 (sRGB).
"""

from __future__ import annotations

import colorsys
import re
from functools import lru_cache

from cairnwind.core.values.errors import CallerError, nearest

WHOLE = 1_000_000
NAMES = {
    "white": "ffffff", "red": "ff0000", "green": "008000", "lime": "00ff00", "blue": "0000ff", "yellow": "ffff00",
    "cyan": "00ffff", "magenta": "ff00ff", "orange": "ffa500", "gold": "ffd700", "amber": "ffbf00", "coral": "ff7f50",
    "salmon": "fa8072", "pink": "ffc0cb", "crimson": "dc143c", "brown": "a52a2a", "olive": "808000", "teal": "008080",
    "navy": "000080", "indigo": "4b0082", "violet": "ee82ee", "purple": "800080", "turquoise": "40e0d0",
    "lavender": "e6e6fa", "ivory": "fffff0", "linen": "faf0e6", "gray": "808080", "silver": "c0c0c0", "black": "000000",
}  # fmt: skip
_HUE = re.compile(r"hue\s+(\d{1,3}(?:\.\d+)?)(?:\s*(?:°|deg|degrees)?)")


def read(value: object) -> tuple[int, int, int]:
    """Red, green and blue of what was written, sRGB in parts per million. Raises `CallerError` (``bad-value``)."""
    if isinstance(value, list | tuple) and len(value) == 3:
        if all(type(part) is int and 0 <= part <= WHOLE for part in value):
            return value[0], value[1], value[2]
    if isinstance(value, str):
        word = value.strip().lower()
        text = NAMES.get(word) or (word[1:] if re.fullmatch(r"#[0-9a-f]{6}|#[0-9a-f]{3}", word) else "")
        if text:
            text = text if len(text) == 6 else "".join(each * 2 for each in text)
            red, green, blue = (round(int(text[at : at + 2], 16) * WHOLE / 255) for at in (0, 2, 4))
            return red, green, blue
        hue = _HUE.fullmatch(word)
        if hue and float(hue.group(1)) <= 360:
            red, green, blue = (
                round(part * WHOLE) for part in colorsys.hsv_to_rgb(float(hue.group(1)) / 360, 1, 1)
            )
            return red, green, blue
    hint = nearest(value, NAMES) if isinstance(value, str) else ""
    raise CallerError(
        "bad-value", f"{value!r} is no colour.", hint or "Write a name like coral, #e07b1c, or hue 30."
    )


def show(red: int, green: int, blue: int) -> str:
    """As a name where one fits, else as '#e07b1c'."""
    text = "".join(f"{round(part * 255 / WHOLE):02x}" for part in (red, green, blue))
    return _BY_NUMBER.get(text, f"#{text}")


_BY_NUMBER = {number: name for name, number in NAMES.items()}


@lru_cache(4096)
def linear(parts: int) -> int:
    """An sRGB channel as a share of light: c/12.92 up to 0.04045, else ((c + 0.055) / 1.055)^2.4."""
    share = parts / WHOLE
    light = share / 12.92 if share <= 0.04045 else ((share + 0.055) / 1.055) ** 2.4
    return round(light * WHOLE)


def encoded(light: int) -> int:
    """The inverse of `linear`."""
    share = light / WHOLE
    return round((share * 12.92 if share <= 0.0031308 else 1.055 * share ** (1 / 2.4) - 0.055) * WHOLE)
