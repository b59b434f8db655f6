"""Text that anybody may have written, made fit for a terminal: nothing in it moves the cursor, colours, hides or turns round.

Control characters (C0, C1, delete), those that change the direction of writing, and separators of lines and paragraphs are
shown as what they are: ``\\x1b``. New lines and tabs stay.
"""

from __future__ import annotations

import re
from typing import Any

UNSAFE = re.compile(
    "[\x00-\x08\x0b-\x1f\x7f-\x9f\u061c\u200e\u200f\u2028\u2029\u202a-\u202e\u2066-\u2069\ufeff]"
)
"""All of them."""


def visible(text: str) -> str:
    """The text, with what is unsafe shown as what it is."""
    if text.isascii() and text.isprintable():  # nearly always
        return text
    return UNSAFE.sub(lambda found: _name(ord(found[0])), text)


def all_visible(form: Any) -> Any:
    """The same for every text in a form, names of members included."""
    if isinstance(form, str):
        return visible(form)
    if isinstance(form, dict):
        return {visible(name): all_visible(each) for name, each in form.items()}
    if isinstance(form, list):
        return [all_visible(each) for each in form]
    return form


def escaped(text: str) -> str:
    """JSON that a terminal may show: what is unsafe as JSON escapes it, so that it still says the same."""
    return UNSAFE.sub(lambda found: f"\\u{ord(found[0]):04x}", text)


def _name(code: int) -> str:
    return f"\\x{code:02x}" if code < 0x100 else f"\\u{code:04x}"
