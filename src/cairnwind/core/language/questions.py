"""Reading the question language: a text to a `Condition`, by the names of a site and the words of its things.

The words are cut as those of phrases are (`cairnwind.core.language.words`): hyphens are spaces, case does not count, and a
name is the longest run of words that the site knows. What stands after 'is' is read by whose name stood before it:
'hoist-top is below' is a word of that switch, 'kiln-temperature is below 900 °C' a bound.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterable, Iterator
from fractions import Fraction
from functools import lru_cache
from itertools import count
from typing import Any

from lark import Lark, Token, Tree
from lark.exceptions import UnexpectedInput, UnexpectedToken
from lark.lexer import Lexer

from cairnwind.core.facts import conditions as co
from cairnwind.core.facts.claims import Rank
from cairnwind.core.facts.conditions import Condition, Dependency, Node, Value, View
from cairnwind.core.facts.model import Site
from cairnwind.core.language.phrases import readable
from cairnwind.core.language.sentences import Asks, PhraseError
from cairnwind.core.language.words import Said, Thing, Vocabulary, folded, pieces, said
from cairnwind.core.values.errors import CallerError, nearest
from cairnwind.core.values.moments import Moment
from cairnwind.core.values.quantities import NS, UNITS, parse, show_duration

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
_BOUND_WORDS = {
    (True, False): "above",
    (False, False): "below",
    (True, True): "at least",
    (False, True): "at most",
}
_DAYS = {name.casefold(): frozenset((number,)) for number, name in enumerate(co.DAYS)} | {
    f"{name.casefold()}s": frozenset((number,)) for number, name in enumerate(co.DAYS)
} | {"weekdays": co.WEEKDAYS, "weekends": co.WEEKEND, "weekend": co.WEEKEND}  # fmt: skip
IS = ("is", "are", "becomes", "become", "has")
_SUN = ("sunrise", "sunset", "dawn", "dusk")
_TIMES = {unit.casefold(): factor for unit, factor in UNITS["a time"].items()}
_RANKS = {rank.word: rank for rank in Rank}
WANTED = {
    "NAME": "a name", "IS": "is", "STATE": "what it may be", "COMPARED": "above or below", "QUANTITY": "a value",
    "DURATION": "a time like 30 s", "CLOCK": "a time of day like 22:30", "AND": "and", "OR": "or", "FOR": "for",
    "WITHIN": "within", "RPAR": "a closing bracket", "WHO": "plan, reflex, person, hand or a name in quotes",
    "DAYS": "on weekdays", "BETWEEN": "between", "NOT": "not",
}  # fmt: skip


def names(site: Site, trips: Iterable[str] = ()) -> Vocabulary:
    """What conditions may be about: outputs, groups, inputs, boards, supplies and trips."""
    found = Vocabulary(site)
    for input in site.inputs.values():
        found.add(Thing("input", input.name), input.name, own=True)
        found.add(Thing("input", input.name), input.label)
    for kind, each in (("board", site.boards), ("supply", site.supplies), ("trip", trips)):
        for name in each:
            found.add(Thing(kind, name), name, own=True)
    return found


class Questions(Lexer):
    """The lexer that the grammar is given; what it lexes is a text with the vocabulary of its site."""

    def __init__(self, conf: object) -> None:
        pass

    def lex(self, data: tuple[str, Vocabulary]) -> Iterator[Token]:  # type: ignore[override]
        """The terminals of the text."""
        return iter(_Cut(*data).tokens())


@lru_cache(1)
def _grammar() -> Lark:
    return Lark.open_from_package(
        "cairnwind.core.language", "conditions.lark", parser="lalr", lexer=Questions
    )


def read(text: object, vocabulary: Vocabulary) -> Condition:
    """The condition that a text is. Raises `PhraseError`, and `Asks` where it may mean two things."""
    text = readable(text, "condition", "Write one: kiln-door is closed.")
    try:
        tree = _grammar().parse((text, vocabulary))
    except UnexpectedInput as error:
        raise _trouble(error, text, vocabulary) from None
    except RecursionError:
        raise PhraseError("The condition is nested too deeply.", "Split it.") from None
    node = _Maker(text, vocabulary).node(tree.children[0])
    return Condition(node.text, node)


# --- words ----------------------------------------------------------------------------------------------------


class _Cut:
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
            rank = _RANKS.get(word)
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
        if word in _SUN:
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
            for state, what in _states(thing, self.site).items():
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
            if unit in _TIMES and size == 1:
                text = self.found[at].text.replace(",", ".")
                return self.add("DURATION", at, 2, round(Fraction(text) * _TIMES[unit] * NS))
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


def _states(thing: Thing, site: Site) -> dict[str, str | bool]:
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
        case "board":
            return {"up": True, "down": False}
        case "trip":
            return {"tripped": True, "reset": False}
    return {}


# --- meaning --------------------------------------------------------------------------------------------------


class _Maker:
    """From the grammar's tree to nodes."""

    def __init__(self, text: str, vocabulary: Vocabulary) -> None:
        self.text, self.vocabulary = text, vocabulary
        self.site = vocabulary.site
        self._number = count()

    def node(self, tree: Any) -> Node:
        """The node of a tree."""
        make: Callable[[Any], Node] = getattr(self, f"on_{tree.data}")
        return make(tree)

    def on_either(self, tree: Any) -> Node:
        """Several with 'or' between them."""
        each = tuple(self.node(child) for child in tree.children if isinstance(child, Tree))
        return (
            each[0]
            if len(each) == 1
            else co.Any_(next(self._number), " or ".join(part.text for part in each), each)
        )

    def on_both(self, tree: Any) -> Node:
        """Several with 'and' between them."""
        each = tuple(self.node(child) for child in tree.children if isinstance(child, Tree))
        text = " and ".join(f"({part.text})" if isinstance(part, co.Any_) else part.text for part in each)
        return each[0] if len(each) == 1 else co.All(next(self._number), text, each)

    def on_denied(self, tree: Any) -> Node:
        """'not' before something."""
        inside = self.node(tree.children[-1])
        return co.Not(next(self._number), f"not {_bound(inside)}", inside)

    def on_primary(self, tree: Any) -> Node:
        """Something in brackets."""
        return self.node(next(child for child in tree.children if isinstance(child, Tree)))

    def on_lasting(self, tree: Any) -> Node:
        """'for' after something."""
        inside = self.node(tree.children[0])
        span = tree.children[-1].payload
        if any(isinstance(node, co.Becomes) for node in Condition("", inside).nodes):
            raise PhraseError("A moment does not last.", "Say 'is' instead of 'becomes'.", *_where(tree))
        outputs = tuple(name for kind, name in Condition("", inside).about if kind == "output")
        text = f"{_bound(inside)} for {show_duration(span)}"
        return co.Lasting(next(self._number), text, inside, span, outputs)

    def things(self, tree: Any) -> tuple[str, list[Thing]]:
        """The subject of a test: 'any', 'all' or nothing, and the things that are meant."""
        token: Said = tree.children[-1]
        kinds = ("group",) if tree.data != "one" else KINDS
        meant = {thing: exact for thing, exact in token.payload.items() if thing.kind in kinds}
        meant = {thing: exact for thing, exact in meant.items() if exact} or meant
        if not str(token).startswith(
            ("'", '"')
        ):  # trips are named in quotes where something else is called the same
            meant = {thing: exact for thing, exact in meant.items() if thing.kind != "trip"} or meant
        if tree.data == "one" and len(meant) > 1:
            meant = {thing: exact for thing, exact in meant.items() if thing.kind != "group"} or meant
        at, end = token.start_pos or 0, token.end_pos or 0
        if not meant:
            what = "group" if tree.data != "one" else "output, input, board or supply"
            raise PhraseError(f"'{token}' is no {what}.", "See: cairnwind look.", at, end)
        if len(meant) > 1:
            raise Asks(str(token), [f"{thing.kind} {thing.name}" for thing in meant], at, end)
        thing = next(iter(meant))
        if tree.data != "one":
            word = "any" if tree.data == "any_of" else "all"
            return word, [Thing("output", name) for name in self.site.groups[thing.name]]
        if thing.kind == "group":
            raise Asks(str(token), [f"any of {thing.name}", f"all of {thing.name}"], at, end)
        return "", [thing]

    def spread(self, tree: Any, make: Callable[[Thing], Node]) -> Node:
        """A test of one thing, or of any or all of a group."""
        word, things = self.things(tree.children[0])
        each = tuple(make(thing) for thing in things)
        if len(each) == 1 and not word:
            return each[0]
        kind = co.Any_ if word == "any" else co.All
        return kind(
            next(self._number), (" or " if word == "any" else " and ").join(part.text for part in each), each
        )

    def on_state(self, tree: Any) -> Node:
        """'x is on'."""
        return self.spread(tree, lambda thing: self.state(thing, _token(tree, "STATE")))

    def on_state_not(self, tree: Any) -> Node:
        """'x is not on'."""

        def make(thing: Thing) -> Node:
            inside = self.state(thing, _token(tree, "STATE"))
            return co.Not(next(self._number), inside.text.replace(" is ", " is not ", 1), inside)

        return self.spread(tree, make)

    def on_becomes(self, tree: Any) -> Node:
        """'x becomes on'."""
        return self.becoming(tree, 0)

    def on_twice(self, tree: Any) -> Node:
        """'x becomes pressed twice within 600 ms'."""
        spans = [each.payload for each in _tokens(tree, "DURATION")]
        return self.becoming(tree, spans[0] if spans else TWICE)

    def becoming(self, tree: Any, twice: int) -> Node:
        """A moment."""
        tail = f" twice within {show_duration(twice)}" if twice else ""

        def make(thing: Thing) -> Node:
            inside = self.state(thing, _token(tree, "STATE"))
            return co.Becomes(
                next(self._number), inside.text.replace(" is ", " becomes ", 1) + tail, inside, twice
            )

        return self.spread(tree, make)

    def state(self, thing: Thing, token: Said) -> co.Test:
        """A thing in a state."""
        meant = token.payload
        kind, name = thing
        number = next(self._number)
        ask: Callable[[View], Value]
        say: Callable[[View], str]
        if kind == "supply":
            raise PhraseError(f"'{name}' is a supply.", f"Compare it: {name} is above 1 A.", *_at(token))
        if meant in ("known", "unknown"):
            found, say = self.known(thing)
            ask = (lambda view: found(view)) if meant == "known" else (lambda view: not found(view))
            return co.Test(number, f"{name} is {meant}", ((kind, name),), ask, say)
        if not isinstance(meant, bool):
            raise self.no_state(thing, token)
        match kind:
            case "output":
                output = self.site.outputs[name]
                ask = _of_output(name, meant)
                say = lambda view: co.show_output(output, view)  # noqa: E731
                words = output.words[meant]
            case "input":
                input = self.site.inputs[name]
                if input.valued:
                    raise self.no_state(thing, token)
                ask = _of_input(name, meant)
                say = lambda view: co.show_input(input, view)  # noqa: E731
                words = input.words[meant]
            case "board":
                ask = lambda view: view.up(name) == meant  # noqa: E731
                say = lambda view: f"board {name} {'answers' if view.up(name) else 'does not answer'}"  # noqa: E731
                words = "up" if meant else "down"
            case _:
                ask = lambda view: view.tripped(name) == meant  # noqa: E731
                say = lambda view: f"'{name}' is {'tripped' if view.tripped(name) else 'not tripped'}"  # noqa: E731
                words = "tripped" if meant else "reset"
        shown = f"'{name}'" if kind == "trip" else name
        return co.Test(number, f"{shown} is {words}", ((kind, name),), ask, say)

    def known(self, thing: Thing) -> tuple[Callable[[View], bool], Callable[[View], str]]:
        """Whether anything is known of it."""
        kind, name = thing
        if kind == "output":
            return (lambda view: view.setting(name) is not None), lambda view: co.show_output(
                self.site.outputs[name], view
            )
        if kind == "input" and self.site.inputs[name].valued:
            return (lambda view: view.value(name) is not None), lambda view: co.show_input(
                self.site.inputs[name], view
            )
        if kind == "input":
            return (lambda view: view.active(name) is not None), lambda view: co.show_input(
                self.site.inputs[name], view
            )
        return (lambda view: True), lambda view: f"{name} is known"

    def no_state(self, thing: Thing, token: Said) -> PhraseError:
        """It is never that."""
        if thing.kind == "input" and self.site.inputs[thing.name].valued:
            unit = self.site.inputs[thing.name].unit or "V"
            fix = f"It has a value: {thing.name} is above 40 {unit}."
        else:
            states = list(_states(thing, self.site))
            fix = (
                nearest(str(token), states)
                or f"It is {' or '.join(dict.fromkeys(states))}, known or unknown."
            )
        return PhraseError(f"'{thing.name}' is never '{token}'.", fix, *_at(token))

    def on_compare(self, tree: Any) -> Node:
        """'x is above 40 %'."""
        above, equal = _token(tree, "COMPARED").payload
        return self.spread(tree, lambda thing: self.compare(thing, above, equal, _token(tree, "QUANTITY")))

    def on_within(self, tree: Any) -> Node:
        """'x is between 38 C and 42 C', both included."""
        low, high = _tokens(tree, "QUANTITY")

        def make(thing: Thing) -> Node:
            each = (self.compare(thing, True, True, low), self.compare(thing, False, True, high))
            if each[0].bound >= each[1].bound:
                raise PhraseError(
                    "The first of the two is not the lower one.", "Say the lower one first.", *_at(low)
                )
            return co.All(next(self._number), " and ".join(part.text for part in each), each)

        return self.spread(tree, make)

    def compare(self, thing: Thing, above: bool, equal: bool, token: Said) -> co.Compare:
        """A thing against a bound."""
        kind, name = thing
        number, unit = token.payload
        about: Dependency = (kind, name)
        read: Callable[[View], float | None]
        say: Callable[[View], str]
        slack = 0.0
        if kind == "output":
            output = self.site.outputs[name]
            if unit not in ("%", "percent"):
                raise PhraseError(
                    f"'{token}' is not how far {name} is on.", "Compare it with percent: 40 %.", *_at(token)
                )
            bound, shown = float(number), f"{number} %"
            read = lambda view: co.share(view.setting(name))  # noqa: E731
            say = lambda view: co.show_output(output, view)  # noqa: E731
        elif kind == "supply":
            try:
                bound = float(parse(f"{number} {unit}", "a current"))
            except CallerError as error:
                raise PhraseError(error.sentence, error.remedy, *_at(token)) from None
            shown = f"{number} {unit}"
            read = lambda view: None if (found := view.load(name)) is None else float(found)  # noqa: E731
            say = lambda view: f"{name} gives {_amperes(view.load(name))}"  # noqa: E731
        elif kind == "input" and self.site.inputs[name].valued:
            input = self.site.inputs[name]
            own = input.unit or "V"
            if unit and _unit(unit) != _unit(own):
                raise PhraseError(
                    f"{name} is in {own}, not in {unit}.", f"Write {number} {own}.", *_at(token)
                )
            bound, shown, slack = float(number), f"{number} {own}", input.hysteresis
            read = lambda view: view.value(name)  # noqa: E731
            say = lambda view: co.show_input(input, view)  # noqa: E731
        else:
            raise PhraseError(
                f"'{name}' has no value to compare.", self.no_state(thing, token).remedy, *_at(token)
            )
        ask = lambda view: None  # noqa: E731
        text = f"{name} is {_BOUND_WORDS[above, equal]} {shown}"
        return co.Compare(next(self._number), text, (about,), ask, say, read, above, bound, equal, slack)

    def on_claimed(self, tree: Any) -> Node:
        """'x is claimed by person', or by somebody by name."""
        who = _token(tree, "WHO").payload

        def make(thing: Thing) -> Node:
            if thing.kind != "output":
                raise PhraseError(
                    f"Nobody claims '{thing.name}'.", "Only outputs are claimed.", *_where(tree)
                )
            name = thing.name

            def ask(view: View) -> Value:
                claim = view.leader(name)
                if claim is None:
                    return False
                if isinstance(who, Rank):
                    return claim.rank is who
                return who in (claim.slot.partition(":")[2], claim.source.who, claim.source.surface)

            def say(view: View) -> str:
                claim = view.leader(name)
                return f"{name} is claimed by {claim.text if claim else 'nobody'}"

            shown = who.word if isinstance(who, Rank) else f"'{who}'"
            return co.Test(next(self._number), f"{name} is claimed by {shown}", (("claims", name),), ask, say)

        return self.spread(tree, make)

    def on_wrong(self, tree: Any) -> Node:
        """'glaze-store has 3 wrong codes within 10 min'."""
        number, unit = _token(tree, "QUANTITY").payload
        spans = [each.payload for each in _tokens(tree, "DURATION")]
        span = spans[0] if spans else WRONG_WITHIN
        if unit or not number.isdigit() or not 1 <= int(number) <= 1000:
            raise PhraseError(
                f"'{number} {unit}' is no number of codes.", "Say 3 wrong codes.", *_where(tree)
            )

        def make(thing: Thing) -> Node:
            name = thing.name
            if thing.kind != "output":
                raise PhraseError(f"'{name}' is no output.", "Only outputs are guarded.", *_where(tree))
            text = f"{name} has {number} wrong codes within {show_duration(span)}"
            return co.Wrong(
                next(self._number), text, (("guard", name),), lambda view: view.wrong_codes(name, span) >= int(number),
                lambda view: f"{name} had {view.wrong_codes(name, span)} wrong codes", name, span,
            )  # fmt: skip

        return self.spread(tree, make)

    def on_hours(self, tree: Any) -> Node:
        """'between 22:00 and 06:30'."""
        start, end = (self.moment(each) for each in tree.children if isinstance(each, Tree))
        if start == end:
            raise PhraseError("It ends when it begins.", "Say two times of day.", *_where(tree))
        return co.Hours(next(self._number), f"between {start.text} and {end.text}", start, end)

    def moment(self, tree: Any) -> Moment:
        """A time of day."""
        tokens: list[Said] = list(tree.children)
        if tokens[0].type == "CLOCK":
            return Moment(tokens[0].payload)
        if self.site.latitude is None:
            raise PhraseError(
                "Where the site is, is not known.", "Give it latitude and longitude.", *_at(tokens[0])
            )
        offset = 0
        if len(tokens) > 1:
            offset = tokens[2].payload * (1 if tokens[1].type == "PLUS" else -1)
        return Moment(sun=tokens[0].payload, offset=offset)

    def on_days(self, tree: Any) -> Node:
        """'on weekdays'."""
        meant: frozenset[int] = _token(tree, "DAYS").payload
        word = {co.WEEKDAYS: "weekdays", co.WEEKEND: "weekends"}.get(meant)
        return co.Days(
            next(self._number), f"on {word or ' and '.join(co.DAYS[day] for day in sorted(meant))}", meant
        )


def _of_output(name: str, meant: bool) -> Callable[[View], Value]:
    def ask(view: View) -> Value:
        setting = view.setting(name)
        return None if setting is None else setting.on == meant

    return ask


def _of_input(name: str, meant: bool) -> Callable[[View], Value]:
    def ask(view: View) -> Value:
        active = view.active(name)
        return None if active is None else active == meant

    return ask


def _amperes(load: Fraction | None) -> str:
    return "nobody knows how much" if load is None else co.show_value(float(load), "A")


def _unit(text: str) -> str:
    """A unit without what people leave out."""
    return text.replace("°", "").replace(" ", "").replace("degrees", "C").replace("percent", "%")


def _bound(node: Node) -> str:
    """Its text, in brackets where that is more than one thing."""
    return f"({node.text})" if isinstance(node, co.All | co.Any_ | co.Not | co.Lasting) else node.text


def _token(tree: Any, kind: str) -> Said:
    return _tokens(tree, kind)[0]


def _tokens(tree: Any, kind: str) -> list[Said]:
    return [each for each in tree.children if isinstance(each, Said) and each.type == kind]


def _at(token: Said) -> tuple[int, int]:
    return token.start_pos or 0, token.end_pos or 0


def _where(tree: Any) -> tuple[int, int]:
    tokens: list[Said] = list(tree.scan_values(lambda each: isinstance(each, Token)))
    return (tokens[0].start_pos or 0, tokens[-1].end_pos or 0) if tokens else (0, 0)


def _trouble(error: UnexpectedInput, text: str, vocabulary: Vocabulary) -> PhraseError:
    token = error.token if isinstance(error, UnexpectedToken) else None
    expected = set(error.expected) if isinstance(error, UnexpectedToken) else set()
    wanted = [WANTED[each] for each in WANTED if each in expected]
    could = (
        f"Here could stand {', '.join(wanted[:-1])}{' or ' if len(wanted) > 1 else ''}{wanted[-1]}."
        if wanted
        else ""
    )
    if not isinstance(token, Said) or token.type == "$END":
        return PhraseError("The condition is not finished.", could, len(text.rstrip()))
    at, end = _at(token)
    if token.type == "WORD" and "NAME" in expected:
        words = text[at:].replace(")", " ").split()
        stop = next((n for n, word in enumerate(words) if n and word.casefold() in WORDS), len(words))
        name = " ".join(words[:stop])
        return PhraseError(
            f"There is nothing called '{name}'.",
            nearest(name, vocabulary.names()) or "See: cairnwind look.",
            at,
            at + len(name),
        )
    if token.type == "WORD" and "IS" in expected:  # a name that begins like one that the site knows
        start = _begin(text, at, vocabulary)
        name = " ".join(re.split(rf"\s(?:{'|'.join(IS)})\b", text[start:])[0].split())
        return PhraseError(
            f"There is nothing called '{name}'.",
            nearest(name, vocabulary.names()) or "See: cairnwind look.",
            start,
            start + len(name),
        )
    if token.type == "WORD" and "STATE" in expected:
        subject = next((Thing(*thing) for thing in _subject(text, at, vocabulary)), None)
        if subject is not None:
            return _Maker(text, vocabulary).no_state(subject, token)
    return PhraseError(f"'{text[at:end]}' cannot stand there.", could, at, end)


def _begin(text: str, before: int, vocabulary: Vocabulary) -> int:
    """Where the last name before a place begins."""
    last = [token for token in _Cut(text[:before], vocabulary).tokens() if token.type == "NAME"]
    return (last[-1].start_pos or 0) if last else before


def _subject(text: str, before: int, vocabulary: Vocabulary) -> list[Thing]:
    """What the last name before a place means."""
    last = [token for token in _Cut(text[:before], vocabulary).tokens() if token.type == "NAME"]
    return [thing for thing in last[-1].payload if thing.kind in KINDS] if last else []
