"""The words of conditions: a text cut into the terminals of the grammar.

They are cut as those of phrases are (`cairnwind.core.language.words`): hyphens are spaces, case does not count, and a name is
the longest run of words that the site knows. What stands after 'is' is read by whose name stood before it:
'hoist-top is below' is a word of that switch, 'kiln-temperature is below 900 °C' a bound.
"""

from __future__ import annotations

from collections.abc import Iterator
from fractions import Fraction
from typing import Any

from lark import Token
from lark.lexer import Lexer

from cairnwind.core.facts import conditions as co
from cairnwind.core.facts.claims import Rank
from cairnwind.core.facts.inputs import TURNS
from cairnwind.core.facts.site import Site
from cairnwind.core.language.words import Said, Thing, Vocabulary, folded, pieces, said
from cairnwind.core.values.quantities import NS, UNITS

TWICE = NS * 6 // 10
"""Nanoseconds within which a second press makes a double one, if nobody says."""
WRONG_WITHIN = 600 * NS
KINDS = ("output", "group", "input", "board", "supply", "trip")
WORDS = {
    "and": "AND", "or": "OR", "not": "NOT", "is": "IS", "are": "IS", "becomes": "BECOMES", "become": "BECOMES",
    "for": "FOR", "between": "BETWEEN", "within": "WITHIN", "any": "ANY", "all": "ALL", "both": "ALL", "by": "BY", "claimed": "CLAIMED",
    "has": "HAS", "twice": "TWICE", "(": "LPAR", ")": "RPAR", "plus": "PLUS", "minus": "MINUS", "+": "PLUS", "-": "MINUS", "−": "MINUS",
}  # fmt: skip
_BOUNDS = {
    ("above",): (True, False), ("over",): (True, False), ("more", "than"): (True, False), ("below",): (False, False),
    ("under",): (False, False), ("less", "than"): (False, False), ("at", "least"): (True, True), ("at", "most"): (False, True),
}  # fmt: skip
BOUND_WORDS = {
    (True, False): "above",
    (False, False): "below",
    (True, True): "at least",
    (False, True): "at most",
}
_DAYS = {name.casefold(): frozenset((number,)) for number, name in enumerate(co.DAYS)} | {
    f"{name.casefold()}s": frozenset((number,)) for number, name in enumerate(co.DAYS)
} | {"weekdays": co.WEEKDAYS, "weekends": co.WEEKEND, "weekend": co.WEEKEND}  # fmt: skip
IS = ("is", "are", "becomes", "become", "has")
SUN = ("sunrise", "sunset", "dawn", "dusk")
TIMES = {unit.casefold(): factor for unit, factor in UNITS["a time"].items()}
RANKS = {rank.word: rank for rank in Rank}
WANTED = {
    "NAME": "a name", "IS": "is", "STATE": "what it may be", "COMPARED": "above or below", "QUANTITY": "a value",
    "DURATION": "a time like 30 s", "CLOCK": "a time of day like 22:30", "AND": "and", "OR": "or", "FOR": "for",
    "WITHIN": "within", "RPAR": "a closing bracket", "WHO": "plan, reflex, person, hand or a name in quotes",
    "DAYS": "on weekdays", "BETWEEN": "between", "NOT": "not",
}  # fmt: skip


class Questions(Lexer):
    """The lexer that the grammar is given; what it lexes is a text with the vocabulary of its site."""

    def __init__(self, conf: object) -> None:
        pass

    def lex(self, data: tuple[str, Vocabulary]) -> Iterator[Token]:  # type: ignore[override]
        """The terminals of the text."""
        return iter(Cut(*data).tokens())


class Cut:
    """From text to terminals."""

    def __init__(self, text: str, vocabulary: Vocabulary) -> None:
        self.found = pieces(text)
        self.vocabulary = vocabulary
        self.site = vocabulary.site
        self.out: list[Said] = []
        self.subject: tuple[Thing, ...] = ()
        """What the last name may mean."""

    def tokens(self) -> list[Said]:
        """All of them."""
        at = 0
        while at < len(self.found):
            at += self.next(at)
        return self.out

    def add(self, kind: str, at: int, size: int, payload: Any = None) -> int:
        """One terminal of so many pieces."""
        self.out.append(said(kind, self.found[at : at + size], payload))
        return size

    def fold(self, at: int) -> str:
        """A piece without regard to case, or nothing past the end."""
        return self.found[at].fold if 0 <= at < len(self.found) else ""

    def next(self, at: int) -> int:
        """Add what begins at ``at``; returns how many pieces that took."""
        piece, word = self.found[at], self.fold(at)
        last = self.out[-1].type if self.out else ""
        before = self.out[-2].type if len(self.out) > 1 else ""
        if last in ("IS", "BECOMES") or (last == "NOT" and before == "IS"):
            if word == "not" and last == "IS":
                return self.add("NOT", at, 1)
            size = self.state(at)
            if size:
                return size
        if last == "BY":
            rank = RANKS.get(word)
            return self.add("WHO", at, 1, rank if rank is not None else piece.text.strip("'\""))
        if word in ("the", "link", "board", "load") and not self.vocabulary.match(self.found, at)[0]:
            return 1
        if word == "of" and (last in ("ANY", "ALL") or self.fold(at - 1) == "load"):
            return 1
        if piece.kind == "quoted":
            return self.quoted(at)
        if piece.kind == "number" or (
            piece.text in "-−+" and last != "SUN" and self.fold(at + 1)[:1].isdigit()
        ):
            return self.number(at, last)
        return self.timed(at) or self.named(at)

    def quoted(self, at: int) -> int:
        """A name in quotes, exactly as it is."""
        piece = self.found[at]
        inside = pieces(piece.text[1:-1])
        length, things = self.vocabulary.match(inside, 0) if inside else (0, {})
        exact = {each: True for each in things if each.name == piece.text[1:-1]} if things else {}
        whole = exact or (things if length == len(inside) else {})
        self.subject = tuple(whole)
        return self.add("NAME" if whole else "WORD", at, 1, dict(whole))

    def timed(self, at: int) -> int:
        """Days, hours and the sun; 0 if it is none of them."""
        piece, word = self.found[at], self.fold(at)
        if word in ("on", "at") and self.days(at + 1):
            return 1
        if self.days(at):
            return self.take_days(at)
        if word in SUN:
            return self.add("SUN", at, 1, word)
        if word in ("noon", "midnight"):
            return self.add("CLOCK", at, 1, 0 if word == "midnight" else 12 * 3600)
        if piece.kind == "clock":
            hours, minutes, *seconds = map(int, piece.text.split(":"))
            right = hours < 24 and minutes < 60 and sum(seconds) < 60
            return self.add("CLOCK" if right else "WORD", at, 1, hours * 3600 + minutes * 60 + sum(seconds))
        return 0

    def named(self, at: int) -> int:
        """A name, or a word of the language."""
        word = self.fold(at)
        length, things = self.vocabulary.match(self.found, at)
        if length and (length > 1 or word not in WORDS):
            run = self.found[at : at + length]
            words = tuple(each.fold for each in run)
            self.subject = tuple(things)
            meant = {thing: own and folded(thing.name) == words for thing, own in things.items()}
            return self.add("NAME", at, length, meant)
        if tuple(self.fold(at + n) for n in (0, 1)) in (("wrong", "code"), ("wrong", "codes")):
            return self.add("WRONG", at, 2)
        bound = self.bound(at)
        if bound:
            return self.add("COMPARED", at, len(bound), _BOUNDS[bound])
        return self.add(WORDS.get(word, "WORD"), at, 1)

    def bound(self, at: int) -> tuple[str, ...]:
        """The words of a comparison that begins here."""
        return next(
            (each for each in _BOUNDS if tuple(self.fold(at + n) for n in range(len(each))) == each), ()
        )

    def state(self, at: int) -> int:
        """A state of the subject, if one begins here: its own words come before all others."""
        word = self.fold(at)
        best = 0
        meaning: str | bool = ""
        for thing in self.subject:
            for state, what in states(thing, self.site).items():
                words = folded(state)
                if len(words) > best and tuple(self.fold(at + n) for n in range(len(words))) == words:
                    best, meaning = len(words), what
        if best:
            return self.add("STATE", at, best, meaning)
        if word in ("known", "unknown"):
            return self.add("STATE", at, 1, word)
        if word in ("claimed", "between") or self.bound(at) or self.found[at].kind == "number":
            return 0
        return self.add("WORD", at, 1)

    def number(self, at: int, last: str) -> int:
        """A number with its unit: a time after 'for' and 'within', else whatever unit stands there."""
        size = 1 if self.found[at].kind == "number" else 2
        if last in ("FOR", "WITHIN", "PLUS", "MINUS"):
            unit = self.fold(at + size)
            if unit in TIMES and size == 1:
                text = self.found[at].text.replace(",", ".")
                return self.add("DURATION", at, 2, round(Fraction(text) * TIMES[unit] * NS))
            return self.add("WORD", at, size)
        end = at + size
        while (
            end < len(self.found)
            and self.fold(end) not in (*WORDS, ",", "wrong")
            and self.found[end].kind != "clock"
        ):
            end += 1
        number = "".join(each.text for each in self.found[at : at + size]).replace("−", "-")
        unit = "".join(each.text for each in self.found[at + size : end])
        return self.add("QUANTITY", at, end - at, (number, unit))

    def days(self, at: int) -> bool:
        """Whether a day of the week stands there."""
        return self.fold(at) in _DAYS

    def take_days(self, at: int) -> int:
        """Days with what binds them: 'monday, tuesday and friday'."""
        end, meant = at, frozenset[int]()
        while self.days(end):
            meant |= _DAYS[self.fold(end)]
            end += 1
            if self.fold(end) == "," and self.days(end + 1):
                end += 1
            elif self.fold(end) == "and" and self.days(end + 1):
                end += 1  # 'and on Friday' is another condition
        return self.add("DAYS", at, end - at, meant)


def states(thing: Thing, site: Site) -> dict[str, str | bool]:
    """What a thing may be said to be, and what that means."""
    match thing.kind:
        case "output":
            off, on = site.outputs[thing.name].words
            return {"off": False, "on": True, off: False, on: True}
        case "group":
            return {"off": False, "on": True}
        case "input" if not site.inputs[thing.name].valued:
            inactive, active = site.inputs[thing.name].words
            return {inactive: False, active: True}
        case "input" if site.inputs[thing.name].kind == "encoder":
            return {word: word for word in TURNS}
        case "board":
            return {"up": True, "down": False}
        case "trip":
            return {"tripped": True, "reset": False}
    return {}
