"""What people say aloud, brought into the form of a phrase or of a question: for assistants, which pass on what they have heard."""

from __future__ import annotations

import re

POLITE = re.compile(
    r"^(?:(?:hey|ok|okay|hello|please|now|and|so|could you|can you|would you|will you|i want you to|let us|let's)\b[ ,]*)+|[ ,]*\b(?:please|now then|thanks|thank you)$",
    re.I,
)
SAID: tuple[tuple[str, str], ...] = (
    (r"(?:stop|halt) (?:everything|it all|all)|emergency stop|everything stop", "all-stop"),
    (r"lights? out|good night|everything off", "turn all lamps off"),
    (r"(?:switch|put|shut|turn) (on|off) (.+)", r"turn \2 \1"),
    (r"(?:switch|put|shut|turn) (.+) (on|off)( .+)?", r"turn \1 \2\3"),
    (r"(?:dim|set|bring|put|turn) (.+?) (?:down |up )?to (.+)", r"turn \1 to \2"),
    (r"(?:all (?:of )?(?:the )?)(.+) (on|off)", r"turn all \1 \2"),
    (r"(?:the )?(.+) (on|off)", r"turn \1 \2"),
    (r"(?:run|begin|start) (?:the )?(.+?) scene", r"run scene \1"),
)
"""What people say, and the phrase that it is."""
IS_IT = re.compile(r"(?:is|are) (?:the )?(.+?) (on|off|open|closed|shut|running|pressed|released)", re.I)


def plain(sentence: str) -> str:
    """What was said without what is only polite."""
    said = re.sub(r"[.!?]+\s*$", "", sentence.strip())
    while (shorter := POLITE.sub("", said).strip()) != said:
        said = shorter
    return said


def asks(sentence: str) -> bool:
    """Whether it is a question: then nothing is done by it, whatever it speaks of."""
    return sentence.rstrip().endswith("?") or IS_IT.fullmatch(plain(sentence)) is not None


def question(sentence: str) -> str:
    """The question of the language that it is; as it stands, without its mark, where it is none of those."""
    said = plain(sentence)
    found = IS_IT.fullmatch(said)
    return f"{found[1]} is {found[2]}" if found is not None else said


def phrase(sentence: str) -> str:
    """The phrase that it is."""
    said = plain(sentence)
    for form, meant in SAID:
        if re.fullmatch(form, said, re.I):
            said = re.sub(form, meant, said, flags=re.I)
            break
    return re.sub(r"\b(light)(s?)\b", r"lamp\2", said, flags=re.I) if "all" in said.lower().split() else said
