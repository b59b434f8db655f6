"""The words of a phrase, and the names that a site gives to things, as the grammar takes them.

Hyphens are spaces, case does not count, articles and polite words fall away: phrases are also spoken. A name is
the longest run of words that the site knows. Written just as the site file has it, a name is that thing; said
another way it may fit several, and then somebody has to ask.
"""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator, Mapping
from fractions import Fraction
from typing import Any, NamedTuple

from lark import Token
from lark.lexer import Lexer

from cairnwind.core.facts.site import Site
from cairnwind.core.values.moments import SUN
from cairnwind.core.values.quantities import NS, UNITS


class Thing(NamedTuple):
    """What a name may mean."""

    kind: str
    """'output', 'place', 'group', 'scene', 'tune' or 'it'; in conditions also 'input', 'board', 'supply' or 'trip'."""
    name: str


KEYWORDS = {
    "turn": "TURN", "switch": "TURN", "set": "TURN", "dim": "TURN", "put": "TURN", "make": "TURN", "bring": "TURN", "toggle": "TOGGLE", "fade": "FADE",
    "blink": "BLINK", "flash": "BLINK", "breathe": "BREATHE", "flicker": "FLICKER", "play": "PLAY", "sound": "PLAY",
    "pulse": "PULSE", "run": "RUN", "start": "START", "begin": "START", "activate": "START", "light": "START", "stop": "STOP", "halt": "STOP",
    "kill": "STOP", "cut": "STOP", "deactivate": "STOP", "flip": "TOGGLE", "power": "TURN", "scene": "SCENE", "release": "RELEASE", "wait": "WAIT",
    "pause": "WAIT", "then": "THEN", "on": "ON", "off": "OFF", "out": "OFF", "to": "TO", "over": "OVER", "for": "FOR",
    "until": "UNTIL", "till": "UNTIL", "released": "RELEASED", "after": "AFTER", "before": "BEFORE", "at": "AT",
    "in": "IN", "every": "EVERY", "each": "EVERY", "and": "AND", "all": "ALL", "everything": "ALL", "except": "EXCEPT",
    "but": "EXCEPT", "from": "FROM", "hue": "HUE", "plus": "PLUS", "minus": "MINUS", "by": "BY", "up": "UP", "down": "DOWN", "brighter": "UP", "dimmer": "DOWN", "darker": "DOWN",
}  # fmt: skip
VERBS = {"TURN", "TOGGLE", "FADE", "BLINK", "BREATHE", "FLICKER", "PLAY", "PULSE", "RUN", "RELEASE", "WAIT", "STOP", "START", "OPEN", "CLOSE"}  # fmt: skip
KINDS = {
    ("lamps",): "lamps", ("lights",): "lamps", ("colour", "lamps"): "colour lamps", ("color", "lamps"): "colour lamps",
    ("relays",): "relays", ("fans",): "fans", ("sounders",): "sounders", ("heaters",): "heaters",
    ("motors",): "motors", ("locks",): "locks",
}  # fmt: skip
OF_KIND = {"lamps": ("lamp", "colour-lamp"), "colour lamps": ("colour-lamp",), "relays": ("relay",), "fans": ("fan",),
           "sounders": ("sounder",), "heaters": ("heater",), "motors": ("motor",), "locks": ("lock",)}  # fmt: skip
DROPPED = {
    "the",
    "please",
    "kindly",
    "thanks",
    "now",
    "again",
    "just",
    "also",
    "hey",
    "ok",
    "okay",
    "let's",
    "immediately",
}
OPENING = {"open": "OPEN", "unlock": "OPEN", "close": "CLOSE", "shut": "CLOSE", "lock": "CLOSE"}
"""Verbs only where an output follows: else they are words of an output's own."""
STEPS = {"bit": 10, "little": 10, "slightly": 10, "touch": 10, "much": 40, "lot": 40}
"""Percent by which 'a bit brighter' goes up; without such a word it is twice a bit."""
NOT = {
    "don't",
    "dont",
    "not",
    "never",
    "didn't",
    "doesn't",
    "shouldn't",
    "mustn't",
    "won't",
    "can't",
    "cannot",
    "no",
}
STOPS = {"stop", "halt", "allstop"}
AROUND_STOP = {
    "all", "everything", "it", "now", "emergency", "right", "immediately", "at", "once", "please", "the", "whole", "lot", "thing", "of",
    "is", "to", "must", "then", "and", "kindly", "hey", "ok", "okay", "this", "that",
}  # fmt: skip
"""What may be said around a stop that means everything."""
_POLITE = (
    ("thank", "you"),
    ("could", "you"),
    ("can", "you"),
    ("would", "you"),
    ("will", "you"),
    ("i", "want"),
    ("i'd", "like"),
    ("right", "now"),
)
RAISED = {
    "raise": "UP", "increase": "UP", "brighten": "UP", "lower": "DOWN", "decrease": "DOWN", "reduce": "DOWN", "darken": "DOWN",
}  # fmt: skip
IT = Thing("it", "it")
"""What was spoken of just before."""
_SPOKEN = {word: number for number, word in enumerate(
    ["one", "two", "three", "four", "five", "six", "seven", "eight", "nine", "ten", "eleven", "twelve", "thirteen", "fourteen", "fifteen", "sixteen", "seventeen", "eighteen", "nineteen", "twenty"], 1,
)} | {"thirty": 30, "forty": 40, "fifty": 50, "sixty": 60, "seventy": 70, "eighty": 80, "ninety": 90, "hundred": 100}  # fmt: skip
_OFTEN = {"once": 1, "twice": 2, "thrice": 3}
_TIMES = {unit.casefold(): factor for unit, factor in UNITS["a time"].items()} | {"hrs": Fraction(3600), "secs": Fraction(1), "mins": Fraction(60)}  # fmt: skip
_DEGREES = ("°", "deg", "degree", "degrees")
_HERTZ = {unit.casefold(): factor for unit, factor in UNITS["a frequency"].items()} | {"hertz": Fraction(1), "kilohertz": Fraction(1000)}  # fmt: skip
_PIECES = re.compile(
    r"""(?P<quoted>'[^']+'|"[^"]+") | (?P<clock>\d{1,2}:\d{2}(?::\d{2})?(?![\w:])) | (?P<hash>\#[0-9a-fA-F]{3,6}\b)
    | (?P<pitch>\b[A-Ga-g](?:\#|♯|♭|b|B)?\d(?![\w.,:]*\w)) | (?P<number>\d+(?:[.,]\d+)?) | (?P<word>[^\W\d_]+(?:['’][^\W\d_]+)?)
    | (?P<mark>[%,;+\-−()]) | (?P<other>\S)""",
    re.X,
)
MOST = 2000
"""Characters of a phrase."""


def stops(text: str) -> bool:
    """Whether a text is an all-stop, however it is said: never one that is denied, and never a question."""
    words = [piece.fold for piece in pieces(text.replace("-", " ")) if piece.kind == "word"]
    asked = text.rstrip().rstrip("\"'”’)").endswith("?")
    others = [word for word in words if word not in STOPS]
    return (
        len(others) < len(words) and not asked and set(others) <= AROUND_STOP and set(words).isdisjoint(NOT)
    )


class Piece(NamedTuple):
    """A part of the text as it stands there."""

    kind: str
    text: str
    start: int
    end: int

    @property
    def fold(self) -> str:
        """Without regard to case and to how its apostrophe is written."""
        return self.text.casefold().replace("’", "'")


class Said(Token):
    """A terminal with what it means."""

    payload: Any
    """By type: DURATION nanoseconds; COUNT, NUMBER and SHARE (percent) numbers; CLOCK seconds; NAME the things."""


def said(type: str, pieces: list[Piece], payload: Any = None) -> Said:
    """The terminal that some pieces make."""
    found = Said(
        type, " ".join(piece.text for piece in pieces), start_pos=pieces[0].start, end_pos=pieces[-1].end
    )
    found.payload = payload
    return found


def pieces(text: str) -> list[Piece]:
    """The text in pieces; hyphens within and between words are gone."""
    found = [Piece(str(match.lastgroup), match.group(), *match.span()) for match in _PIECES.finditer(text)]
    return [
        each
        for number, each in enumerate(found)
        if not (each.text == "-" and 0 < number < len(found) - 1
                and found[number - 1].end == each.start and found[number + 1].start == each.end
                and found[number - 1].kind != "mark")
    ]  # fmt: skip


def folded(name: str) -> tuple[str, ...]:
    """A name as the words that it is found by."""
    return tuple(piece.fold for piece in pieces(name) if piece.kind != "mark")


class Vocabulary:
    """The names of a site: outputs by name and label, places, groups, scenes and tunes."""

    def __init__(self, site: Site, scenes: Iterable[str] = ()) -> None:
        self.site = site
        self.scenes = tuple(scenes)
        self._things: dict[str, tuple[tuple[Thing, bool], ...]] = {}
        """By words, with blanks between: what they may mean, and whether that is its own name and not a label."""
        self._longest = 1
        for output in site.outputs.values():
            thing = Thing("output", output.name)
            self.add(thing, output.name, own=True)
            self.add(thing, output.label)
        for place in dict.fromkeys(output.place for output in site.outputs.values()):
            self.add(Thing("place", place), place)
        for kind, names in (("group", site.groups), ("scene", self.scenes), ("tune", site.tunes)):
            for name in names:
                self.add(Thing(kind, name), name, own=True)

    def add(self, thing: Thing, name: str, *, own: bool = False) -> None:
        """Take a name for a thing; ``own``: it is what the thing is called, and not a label."""
        words = folded(name)
        if words:
            known = dict(self._things.get(" ".join(words), ()))
            known[thing] = own or known.get(thing, False)
            self._things[" ".join(words)] = tuple(known.items())
            self._longest = max(self._longest, len(words))

    def match(self, found: list[Piece], at: int) -> tuple[int, Mapping[Thing, bool]]:
        """How many pieces from ``at`` make a name, the most possible, and what it may mean; 0 if none do."""
        words: list[str] = []
        for piece in found[at : at + self._longest]:
            if piece.kind == "mark":
                break
            words.append(piece.fold)
        for length in range(len(words), 0, -1):
            things = self._things.get(" ".join(words[:length]))
            if things:
                return length, dict(things)
        return 0, {}

    def containing(self, words: tuple[str, ...]) -> list[Thing]:
        """Things in whose names these words stand side by side."""
        inside = f" {' '.join(words)} "
        found = {
            thing: None
            for name, things in self._things.items()
            if inside in f" {name} "
            for thing, _ in things
        }
        return list(found)

    def names(self) -> list[str]:
        """Every name as it is shown."""
        return list(dict.fromkeys(thing.name for things in self._things.values() for thing, _ in things))


class Words(Lexer):
    """The lexer that the grammar is given; what it lexes is a text with the vocabulary of its site."""

    def __init__(self, conf: object) -> None:
        pass

    def lex(self, data: tuple[str, Vocabulary]) -> Iterator[Token]:  # type: ignore[override]
        """The terminals of the text."""
        return iter(tokens(*data))


def tokens(text: str, vocabulary: Vocabulary) -> list[Said]:
    """The terminals of a text."""
    found = pieces(text)
    while found and found[-1].text in ".!?…,;":
        found.pop()  # how a sentence ends says nothing of what it asks for
    found = [each._replace(text=";") if each.text in ".!" else each for each in found]
    out: list[Said] = []
    at = 0
    while at < len(found):
        at += _next(found, at, out, vocabulary)
    return _joined(out)


def _next(found: list[Piece], at: int, out: list[Said], vocabulary: Vocabulary) -> int:
    """Add what begins at ``at``; returns how many pieces that took."""
    piece = found[at]
    if piece.kind == "quoted":
        return _quoted(piece, out, vocabulary)
    size = (
        _named(found, at, out, vocabulary) or _polite(found, at, out) or _timed(found, at, out) or _meant(found, at, out)
        or _counted(found, at, out)
    )  # fmt: skip
    if size:
        return size
    if piece.kind == "clock":
        return _clock(found, at, out)
    marks = {",": "COMMA", ";": "THEN", "+": "PLUS", "-": "MINUS", "−": "MINUS"}
    out.append(said(marks.get(piece.fold) or _keyword(found, at) or "WORD", [piece]))
    return 1


def _ahead(found: list[Piece], at: int) -> list[str]:
    """The piece and the two after it, without regard to case."""
    return [each.fold for each in found[at : at + 3]] + ["", ""]


def _keyword(found: list[Piece], at: int) -> str:
    """The terminal of a word that has one of its own."""
    word, ahead = found[at].fold, _ahead(found, at)
    return KEYWORDS.get(word) or ("KIND" if (word,) in KINDS or tuple(ahead[:2]) in KINDS else "")


def _quoted(piece: Piece, out: list[Said], vocabulary: Vocabulary) -> int:
    """A name in quotes, exactly as it is."""
    inner = piece.text[1:-1]
    inside = pieces(inner)
    length, things = vocabulary.match(inside, 0) if inside else (0, {})
    whole = things if length == len(inside) else {}
    out.append(said("NAME" if whole else "WORD", [piece], {thing: thing.name == inner for thing in whole}))
    return 1


def _named(found: list[Piece], at: int, out: list[Said], vocabulary: Vocabulary) -> int:
    """The longest name that begins here."""
    length, things = vocabulary.match(found, at)
    keyword = _keyword(found, at)
    if length > 1 or (length == 1 and not keyword and not _measured(found, at)):
        run = found[at : at + length]
        out.append(said("NAME", run, _as_written(run, things)))
        return length
    return 0


def _polite(found: list[Piece], at: int, out: list[Said]) -> int:
    """What politeness adds, and the words for a stop."""
    word, ahead = found[at].fold, _ahead(found, at)
    if tuple(ahead[:2]) in _POLITE:
        return 2
    if word in DROPPED:
        return 1
    if tuple(ahead[:2]) in (("all", "stop"), ("emergency", "stop")):
        out.append(said("STOP", found[at : at + 2]))
        return 2
    if tuple(ahead[:2]) == ("of", "the"):
        return 2
    return 0


def _timed(found: list[Piece], at: int, out: list[Said]) -> int:
    """'every minute', 'half past six'."""
    piece = found[at]
    word, ahead = piece.fold, _ahead(found, at)
    if word == "every" and ahead[1] in _TIMES and ahead[1] not in ("s", "h", "d"):
        out += [
            said("EVERY", [piece]),
            said("DURATION", found[at + 1 : at + 2], round(_TIMES[ahead[1]] * NS)),
        ]
        return 2
    if (
        word in ("half", "quarter")
        and ahead[1] in ("past", "to")
        and (hour := _hour(found, at + 2)) is not None
    ):
        minutes = (hour[0] * 60 + (30 if word == "half" else 15) * (1 if ahead[1] == "past" else -1)) % 1440
        if (word, ahead[1]) != ("half", "to"):
            out.append(said("CLOCK", found[at : at + 2 + hour[1]], minutes * 60))
            return 2 + hour[1]
    return 0


def _meant(found: list[Piece], at: int, out: list[Said]) -> int:
    """Words that mean a direction, a stop, something that was named before, or a kind."""
    piece = found[at]
    word, ahead = piece.fold, _ahead(found, at)
    if word in RAISED:
        out += [said("TURN", [piece]), said(RAISED[word], [piece])]
        return 1
    if word == "shut" and ahead[1] in ("off", "down"):
        out.append(said("STOP", found[at : at + 2]))
        return 2
    if word in ("it", "them"):
        out.append(said("NAME", [piece], {IT: True}))
        return 1
    if word in ("o", "o'clock"):
        return 2 if ahead[1] == "clock" else 1
    if tuple(ahead[:2]) in KINDS or (word,) in KINDS:
        size = 2 if tuple(ahead[:2]) in KINDS else 1
        out.append(said("KIND", found[at : at + size], KINDS[tuple(ahead[:size])]))
        return size
    return 0


def _counted(found: list[Piece], at: int, out: list[Said]) -> int:
    """The sun, hours that have names, numbers."""
    piece, word = found[at], found[at].fold
    if word in SUN:
        out.append(said("SUN", [piece], word))
        return 1
    if word in ("noon", "midday", "midnight"):
        out.append(said("CLOCK", [piece], 0 if word == "midnight" else 12 * 3600))
        return 1
    if word in _OFTEN:
        out.append(said("COUNT", [piece], _OFTEN[word]))
        return 1
    if (number := _number(found, at)) is not None:
        return _quantity(found, at, out, *number)
    if word in ("a", "an"):
        return 1
    return 0


def _as_written(run: list[Piece], things: Mapping[Thing, bool]) -> Mapping[Thing, bool]:
    """What the name may mean, and whether it stands there just as that thing is called."""
    words = tuple(piece.fold for piece in run)
    return {thing: own and folded(thing.name) == words for thing, own in things.items()}


def _measured(found: list[Piece], at: int) -> bool:
    """Whether a number with its unit begins here, so that it is not a name."""
    return _number(found, at) is not None and at + 1 < len(found) and (
        found[at + 1].fold in _TIMES or found[at + 1].fold in _HERTZ or found[at + 1].fold in ("%", "percent", "times", "time", *_DEGREES)
    )  # fmt: skip


def _number(found: list[Piece], at: int) -> tuple[Fraction, int] | None:
    """A number and how many pieces it takes: digits, a spoken one, 'a' before a unit, 'half', a sign before it."""
    piece = found[at]
    after = found[at + 1] if at + 1 < len(found) else None
    if piece.kind == "number":
        return Fraction(piece.text.replace(",", ".")), 1
    if piece.fold in _SPOKEN:
        tens = _SPOKEN[piece.fold]
        if tens >= 20 and after is not None and _SPOKEN.get(after.fold, 10) < 10:
            return Fraction(tens + _SPOKEN[after.fold]), 2
        return Fraction(tens), 1
    if (
        piece.fold in ("a", "an")
        and after is not None
        and after.fold in _TIMES
        and after.fold not in ("s", "h", "d")
    ):
        return Fraction(1), 1
    if piece.fold == "half":
        if (
            after is not None
            and after.fold in ("a", "an")
            and at + 2 < len(found)
            and found[at + 2].fold in _TIMES
        ):
            return Fraction(1, 2), 2
        return None
    if piece.text in "-−+" and after is not None and after.kind == "number":
        before = found[at - 1].fold if at else ""
        if before not in SUN:
            sign = 1 if piece.text == "+" else -1
            return sign * Fraction(after.text.replace(",", ".")), 2
    return None


def _quantity(found: list[Piece], at: int, out: list[Said], number: Fraction, size: int) -> int:
    """A number with what follows it."""
    unit = found[at + size].fold if at + size < len(found) else ""
    run = found[at : at + size + 1]
    if unit in ("%", "percent"):
        duty = at + size + 1 < len(found) and found[at + size + 1].fold == "duty"
        out.append(said("SHARE", found[at : at + size + 1 + duty], (number, duty)))
        return size + 1 + duty
    if unit in _HERTZ:
        out.append(said("HERTZ", run, number * _HERTZ[unit]))
        return size + 1
    if unit in _DEGREES:
        out.append(said("ANGLE", run, number))
        return size + 1
    if unit in ("times", "time"):
        out.append(said("COUNT", run, number))
        return size + 1
    if unit in ("am", "pm") and number.denominator == 1 and 1 <= number <= 12:
        out.append(said("CLOCK", run, (int(number) % 12 + 12 * (unit == "pm")) * 3600))
        return size + 1
    if _and_a_half(found, at + size):
        number, size = number + Fraction(1, 2), size + 3
        unit = found[at + size].fold if at + size < len(found) else ""
    if unit in _TIMES and number >= 0:
        total, end = number * _TIMES[unit], at + size + 1
        while (more := _number(found, end) if end < len(found) else None) is not None and more[0] >= 0:
            there = end + more[1]
            if there >= len(found) or found[there].fold not in _TIMES:
                break
            total, end = total + more[0] * _TIMES[found[there].fold], there + 1
        if _and_a_half(found, end):
            total, end = total + _TIMES[unit] / 2, end + 3
        elif (
            unit == "h"
            and end < len(found)
            and found[end].kind == "number"
            and found[end].start == found[end - 1].end
        ):
            total, end = total + Fraction(found[end].text) * 60, end + 1  # 1h30
        out.append(said("DURATION", found[at:end], round(total * NS)))
        return end - at
    out.append(said("NUMBER", found[at : at + size], number))
    return size


def _and_a_half(found: list[Piece], at: int) -> bool:
    return [each.fold for each in found[at : at + 3]] == ["and", "a", "half"]


def _hour(found: list[Piece], at: int) -> tuple[int, int] | None:
    """An hour of the clock, and how many pieces it takes, with the half of the day where that is said."""
    number = _number(found, at) if at < len(found) else None
    if number is None or number[0].denominator != 1 or not 0 <= number[0] <= 24:
        return None
    hour, size = int(number[0]), number[1]
    half = found[at + size].fold if at + size < len(found) else ""
    if half in ("am", "pm") and 1 <= hour <= 12:
        return hour % 12 + 12 * (half == "pm"), size + 1
    return hour, size


def _clock(found: list[Piece], at: int, out: list[Said]) -> int:
    hours, minutes, *seconds = map(int, found[at].text.split(":"))
    half = found[at + 1].fold if at + 1 < len(found) else ""
    size = 2 if half in ("am", "pm") and 1 <= hours <= 12 else 1
    if size == 2:
        hours = hours % 12 + 12 * (half == "pm")
    second = hours * 3600 + minutes * 60 + sum(seconds)
    right = hours < 24 and minutes < 60 and sum(seconds) < 60
    out.append(said("CLOCK" if right else "WORD", found[at : at + size], second))
    return size


_SHARES = {"half": 50, "halfway": 50, "full": 100, "maximum": 100}
_COMPLETE = {
    "ON",
    "OFF",
    "SHARE",
    "DURATION",
    "CLOCK",
    "COUNT",
    "RELEASED",
    "UP",
    "DOWN",
    "HERTZ",
    "ANGLE",
    "SUN",
}
"""What may end a clause: an 'and' after it begins another."""


def _step(out: list[Said], at: int) -> int:
    """By how much it goes up or down: percent."""
    beside = [out[near].casefold() for near in (at - 1, at + 1) if 0 <= near < len(out)]
    return next((STEPS[word] for word in beside if word in STEPS), 20)


def _joined(out: list[Said]) -> list[Said]:
    """What only the next word decides: 'and' before a verb is 'then', 'in' before a time is 'after', 'half' is a share."""
    made: list[Said] = []
    for number, each in enumerate(out):
        after = out[number + 1].type if number + 1 < len(out) else ""
        before = made[-1].type if made else ""
        kind = each.type
        if kind in ("AND", "COMMA") and (after == "THEN" or (kind == "COMMA" and after == "AND")):
            continue
        if kind in ("AND", "COMMA") and before in _COMPLETE and after in ("NAME", "KIND", "ALL"):
            each.type = "THEN"  # "turn the gallery on and the window off"
        elif kind in ("AND", "COMMA") and after in VERBS:
            if not any(other.type in VERBS for other in made):
                continue  # "after 5 min, turn …"
            each.type = "THEN"
        elif kind == "IN" and after in ("DURATION", "NUMBER"):
            each.type = "AFTER"
        elif kind == "WORD" and each.casefold() in _SHARES:
            each.type, each.payload = "SHARE", (Fraction(_SHARES[each.casefold()]), False)
        elif kind == "WORD" and each.casefold() in STEPS:
            continue
        elif kind in ("UP", "DOWN"):
            each.payload = _step(out, number)
        elif (
            kind == "WORD"
            and each.casefold() in OPENING
            and after in ("NAME", "KIND", "ALL")
            and before in ("", "THEN", "AND")
        ):
            each.type = OPENING[each.casefold()]
        elif kind == "ALL" and before == "ALL":
            continue
        made.append(each)
    return made
