"""What a condition means: the tree of a text made into the nodes of a `Condition`."""

from __future__ import annotations

from collections.abc import Callable
from fractions import Fraction
from itertools import count
from typing import Any

from lark import Token, Tree

from cairnwind.core.facts import conditions as co
from cairnwind.core.facts.claims import Rank
from cairnwind.core.facts.conditions import Condition, Dependency, Node, Value, View
from cairnwind.core.facts.inputs import TURNS
from cairnwind.core.language.asking import (
    BOUND_WORDS,
    KINDS,
    TWICE,
    WRONG_WITHIN,
    states,
)
from cairnwind.core.language.sentences import Asks, PhraseError
from cairnwind.core.language.words import Said, Thing, Vocabulary
from cairnwind.core.values.errors import CallerError, nearest
from cairnwind.core.values.moments import Moment
from cairnwind.core.values.quantities import parse, show_duration


class Maker:
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
            token = _token(tree, "STATE")
            inside = self.turned(thing, token) if token.payload in TURNS else self.state(thing, token)
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
            raise PhraseError(f"'{name}' is a supply.", f"Compare it: {name} is above 1 A.", *span(token))
        if meant in ("known", "unknown"):
            found, say = self.known(thing)
            ask = (lambda view: found(view)) if meant == "known" else (lambda view: not found(view))
            return co.Test(number, f"{name} is {meant}", ((kind, name),), ask, say)
        if meant in TURNS and thing.kind == "input" and self.site.inputs[name].kind == "encoder":
            raise PhraseError(
                f"'{name}' is {meant} for a moment only.", f"Say: {name} becomes {meant}.", *span(token)
            )
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

    def turned(self, thing: Thing, token: Said) -> co.Test:
        """An encoder at one of its steps."""
        kind, name = thing
        if kind != "input" or self.site.inputs[name].kind != "encoder":
            raise self.no_state(thing, token)
        say = lambda view: f"{name} is not turned"  # noqa: E731
        ask = _of_turn(name, 1 if token.payload == TURNS[1] else -1)
        return co.Test(next(self._number), f"{name} is {token.payload}", ((kind, name),), ask, say)

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
            unit = self.site.inputs[thing.name].measure
            fix = f"It has a value: {thing.name} is above 40 {unit}".rstrip() + "."
            if self.site.inputs[thing.name].kind == "encoder":
                fix = f"Say: {thing.name} becomes {TURNS[1]}; or compare what it has counted: {thing.name} is above 40."
        else:
            could = list(states(thing, self.site))
            fix = (
                nearest(str(token), could) or f"It is {' or '.join(dict.fromkeys(could))}, known or unknown."
            )
        return PhraseError(f"'{thing.name}' is never '{token}'.", fix, *span(token))

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
                    "The first of the two is not the lower one.", "Say the lower one first.", *span(low)
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
                    f"'{token}' is not how far {name} is on.", "Compare it with percent: 40 %.", *span(token)
                )
            bound, shown = float(number), f"{number} %"
            read = lambda view: co.share(view.setting(name))  # noqa: E731
            say = lambda view: co.show_output(output, view)  # noqa: E731
        elif kind == "supply":
            try:
                bound = float(parse(f"{number} {unit}", "a current"))
            except CallerError as error:
                raise PhraseError(error.sentence, error.remedy, *span(token)) from None
            shown = f"{number} {unit}"
            read = lambda view: None if (found := view.load(name)) is None else float(found)  # noqa: E731
            say = lambda view: f"{name} gives {_amperes(view.load(name))}"  # noqa: E731
        elif kind == "input" and self.site.inputs[name].valued:
            input = self.site.inputs[name]
            own = input.measure
            if unit and _unit(unit) != _unit(own):
                raise PhraseError(
                    f"{name} is in {own}, not in {unit}.", f"Write {number} {own}.", *span(token)
                )
            bound, shown, slack = float(number), f"{number} {own}".rstrip(), input.hysteresis
            read = lambda view: view.value(name)  # noqa: E731
            say = lambda view: co.show_input(input, view)  # noqa: E731
        else:
            raise PhraseError(
                f"'{name}' has no value to compare.", self.no_state(thing, token).remedy, *span(token)
            )
        ask = lambda view: None  # noqa: E731
        text = f"{name} is {BOUND_WORDS[above, equal]} {shown}"
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
                "Where the site is, is not known.", "Give it latitude and longitude.", *span(tokens[0])
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


def _of_turn(name: str, way: int) -> Callable[[View], Value]:
    def ask(view: View) -> Value:
        now = view.way(name)
        return None if now is None else now == way

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


def span(token: Said) -> tuple[int, int]:
    """Where in the text a terminal stands."""
    return token.start_pos or 0, token.end_pos or 0


def _where(tree: Any) -> tuple[int, int]:
    tokens: list[Said] = list(tree.scan_values(lambda each: isinstance(each, Token)))
    return (tokens[0].start_pos or 0, tokens[-1].end_pos or 0) if tokens else (0, 0)
