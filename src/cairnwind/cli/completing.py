"""Completion in bash of words that bash itself would break: ``pin=shelf:J2-7`` is one word here.

Bash divides what is typed at its `COMP_WORDBREAKS`, to which the equals sign and the colon belong, and takes what it is given for the
last part of that. So it is given the line as it was typed, and gets back what follows the last break.
"""

from __future__ import annotations

import os
from typing import Any

from click.shell_completion import BashComplete, add_completion_class, split_arg_string

WHOLE_LINE = -1
"""The number of the word that is completed, where the words are the line up to the cursor."""


class Bash(BashComplete):
    """What bash asks, and is answered."""

    name = "bash"
    source_template = (
        BashComplete.source_template.replace('COMP_WORDS="${COMP_WORDS[*]}"', 'COMP_WORDS="${COMP_LINE:0:$COMP_POINT}"')
        .replace("COMP_CWORD=$COMP_CWORD", f'COMP_CWORD={WHOLE_LINE} COMP_BREAKS="$COMP_WORDBREAKS"')
        .replace("COMPREPLY+=($value)", 'COMPREPLY+=("$(printf %%q "$value")")')  # names have blanks, and are inserted quoted
    )  # fmt: skip
    _before = ""
    """Of the word that is completed: what bash takes for words before it."""

    def get_completion_args(self) -> tuple[list[str], str]:
        """The words before the one that is completed, and that one."""
        if int(os.environ["COMP_CWORD"]) != WHOLE_LINE:
            return super().get_completion_args()
        line = os.environ["COMP_WORDS"]
        words = split_arg_string(line)
        last = "" if line[-1:].isspace() and not line.endswith("\\ ") else words.pop()
        if line.endswith(last):  # nothing in it is quoted, so bash has broken it
            breaks = [last.rfind(each) for each in "=:" if each in os.environ["COMP_BREAKS"]]
            self._before = last[: max(breaks, default=-1) + 1]
        return words[1:], last

    def format_completion(self, item: Any) -> str:
        """One answer, without what bash has already."""
        return f"{item.type},{item.value.removeprefix(self._before)}"


add_completion_class(Bash)
