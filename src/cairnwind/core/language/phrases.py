"""The command language: a phrase to what it means, and back to its canonical form.

    turn gallery to 40 % over 3 s for 10 min
    every 30 s blink bench-lamp 3 times
    turn yard on until sunrise, then wait 1 min, then play closing on bell

`read` understands a text by the names of a site and gives a `Phrase`, whose ``text`` is the canonical form: that
form reads to itself. `compile` makes the course that the engine carries out. Where a text may mean two things it
is not guessed: `read` raises `Asks` with both.
"""

from __future__ import annotations

import re
from dataclasses import replace
from fractions import Fraction
from functools import lru_cache
from typing import Any

from lark import Lark, Tree
from lark.exceptions import UnexpectedInput, UnexpectedToken

from cairnwind.core.facts.course import Lead
from cairnwind.core.language.sentences import (
    Asks,
    Command,
    Phrase,
    PhraseError,
    Target,
    Value,
    ends,
    quoted,
)
from cairnwind.core.language.words import (
    DROPPED,
    IT,
    KEYWORDS,
    KINDS,
    MOST,
    NOT,
    OF_KIND,
    STOPS,
    VERBS,
    Said,
    Thing,
    Vocabulary,
    Words,
    folded,
    pieces,
    stops,
)
from cairnwind.core.values import pitch
from cairnwind.core.values.errors import nearest
from cairnwind.core.values.moments import Moment
from cairnwind.core.values.quantities import NS, comma, show_duration
from cairnwind.core.values.settings import frequency

SHORTEST_EVERY = NS // 10
LONGEST = 366 * 86400 * NS
MOST_STEPS = 200


_COMMA = re.compile(r"(?<![\w,.])\d+(?:,\d+)+(?![\w,])|(?<![\w,.])\d+,\d+(?=\s*[a-zA-Zµ%])")


@lru_cache(1)
def _grammar() -> Lark:
    return Lark.open_from_package("cairnwind.core.language", "phrases.lark", parser="lalr", lexer=Words)


def readable(text: object, what: str, example: str) -> str:
    """A text of a length and of characters that can be read at all; ``what`` it is. Raises `PhraseError`."""
    if not isinstance(text, str) or not text.strip():
        raise PhraseError(f"There is no {what}.", example)
    if len(text) > MOST:
        raise PhraseError(f"The {what} has {len(text)} characters.", f"At most {MOST}; split it.")
    if not text.isprintable():
        odd = next(number for number, char in enumerate(text) if not char.isprintable())
        raise PhraseError(f"Character {odd + 1} of the {what} cannot be printed.", "Take it out.", odd)
    if (found := _COMMA.search(text)) is not None:
        asked = comma(found[0], found[0])
        raise PhraseError(asked.sentence, asked.remedy, *found.span())
    return text


def read(text: str, vocabulary: Vocabulary) -> Phrase:
    """The phrase that a text is. Raises `PhraseError`, and `Asks` where it may mean two things."""
    text = readable(text, "phrase", "Say what to do: turn bench-lamp on.")
    if stops(text):
        return Phrase((Command("stop"),))
    _see_meant(text, vocabulary)
    try:
        tree = _grammar().parse((text, vocabulary))
    except UnexpectedInput as error:
        raise _trouble(error, text, vocabulary) from None
    return _Reader(text, vocabulary).phrase(tree)


def _see_meant(text: str, vocabulary: Vocabulary) -> None:
    """Refuse what says what is not to be done, what asks whether to stop, and what is a schedule."""
    found = pieces(text)
    for number, piece in enumerate(found):
        if piece.fold in NOT and not vocabulary.match(found, number)[0]:
            raise PhraseError(
                "This says what is not to be done.",
                "Say what is to be done; nothing was.",
                piece.start,
                piece.end,
            )
    words = [piece.fold for piece in found]
    if text.rstrip().endswith("?") and not STOPS.isdisjoint(words):
        raise PhraseError("A question stops nothing.", "Say it without the question mark: stop everything.")
    if words and words[0] in ASKING and not vocabulary.match(found, 0)[0]:
        raise PhraseError(
            "That is a question.",
            "Ask it: cairnwind ask gallery is on; or: cairnwind why gallery.",
            *found[0][2:],
        )
    day = re.search(
        r"\bevery (weekday|weekend|day|morning|evening|night|(?:mon|tues|wednes|thurs|fri|satur|sun)day)s?\b",
        text,
        re.I,
    )
    if day is not None:
        raise PhraseError(f"'{day.group()}' is a schedule.", _line(text, day), *day.span())


ASKING = {
    "is",
    "are",
    "was",
    "were",
    "what",
    "why",
    "when",
    "who",
    "how",
    "which",
    "does",
    "did",
    "do",
    "should",
    "has",
    "have",
}
_REPEAT = {"weekday": "FREQ=WEEKLY;BYDAY=MO,TU,WE,TH,FR", "weekend": "FREQ=WEEKLY;BYDAY=SA,SU"}


def _line(text: str, day: re.Match[str]) -> str:
    """The line that makes a schedule of what was said."""
    word = day.group(1).casefold()
    repeat = _REPEAT.get(word) or (
        f"FREQ=WEEKLY;BYDAY={word[:2].upper()}"
        if word not in ("day", "morning", "evening", "night")
        else "FREQ=DAILY"
    )
    rest = f"{text[: day.start()]} {text[day.end() :]}"
    time = re.search(r"\bat (\d{1,2}:\d{2}|noon|midnight|sunrise|sunset)\b", rest)
    if time:
        rest = rest.replace(time.group(), " ")
    said = " ".join(rest.split()).strip(",;.!? ") or "turn … on"
    begin = time.group(1) if time else "TIME"
    return f"Type: cairnwind plan add NAME --from {begin} --for '1 h' --repeat '{repeat}' '{said}'; or the same in the console's Plan."


WANTED = {
    "ON": "on", "OFF": "off", "TO": "to", "NAME": "a name", "DURATION": "a time like 10 min", "SHARE": "a level like 40 %", "ANGLE": "an angle like 45°",
    "CLOCK": "a time of day like 22:30", "SUN": "sunset", "COUNT": "3 times", "OVER": "over", "FOR": "for", "UNTIL": "until",
    "THEN": "then", "AND": "and", "SCENE": "scene", "IN": "in", "EXCEPT": "except", "TURN": "a verb like turn, fade, blink or play",
    "KIND": "all lamps",
}  # fmt: skip


def _trouble(error: UnexpectedInput, text: str, vocabulary: Vocabulary) -> PhraseError:
    token = error.token if isinstance(error, UnexpectedToken) else None
    expected = set(error.expected) if isinstance(error, UnexpectedToken) else set()
    wanted = [WANTED[each] for each in WANTED if each in expected]
    could = (
        f"Here could stand {', '.join(wanted[:-1])}{' or ' if len(wanted) > 1 else ''}{wanted[-1]}."
        if wanted
        else ""
    )
    if token is None or token.type == "$END" or not isinstance(token, Said):
        return PhraseError("The phrase is not finished.", could, len(text.rstrip()))
    at, end = token.start_pos or 0, token.end_pos or 0
    if (found := _input(text, vocabulary)) is not None:
        return found
    if token.type in ("UP", "DOWN") and "TURN" in expected:
        return PhraseError(f"What is to be {token} is not said.", f"Name it first: gallery {token}.", at, end)
    if str(token) in ("'", '"'):
        return PhraseError("A quotation mark is not closed.", "Close it, or take it away.", at, end)
    if token.type == "WORD" and "TURN" in expected and _is_verb(str(token), text[end:], vocabulary):
        verbs = "turn, fade, blink, play, run, start, stop, open, release or toggle"
        return PhraseError(f"'{token}' is no verb that is known here.", f"Say one of {verbs}.", at, end)
    if token.type == "WORD" and "NAME" in expected:
        return _no_name(token, text, vocabulary)
    if token.type == "WORD":
        # no verb that is only written alike: it would mean something else
        words = [word for word, kind in KEYWORDS.items() if kind in expected and kind not in VERBS]
        if not text[:at].strip() and (named := nearest(str(token), vocabulary.names())):
            return PhraseError(f"There is nothing called '{token}'.", named, at, end)
        hint = nearest(str(token), words)
        return PhraseError(f"'{token}' is not understood there.", hint or could, at, end)
    if token.type == "NAME" and "TO" in expected and "NAME" not in expected:
        return PhraseError(f"'{token}' cannot stand there.", could, at, end)
    return PhraseError(f"'{text[at:end]}' cannot stand there.", could, at, end)


def _input(text: str, vocabulary: Vocabulary) -> PhraseError | None:
    """An input that somebody wants to switch; None if none is named."""
    for input in vocabulary.site.inputs.values():
        for name in (input.name, input.label):
            found = re.search(rf"(?<![\w-]){re.escape(name)}(?![\w-])", text, re.I) if name else None
            if found is not None:
                return PhraseError(
                    f"{input.name} is an input: it is read, and not switched.", "Name an output: cairnwind look.", *found.span()
                )  # fmt: skip
    return None


def _is_verb(word: str, rest: str, vocabulary: Vocabulary) -> bool:
    """Whether a word was meant as a verb: something of the site is named next, or it is like no name."""
    found = [piece for piece in pieces(rest) if piece.fold not in DROPPED]
    if found and (vocabulary.match(found, 0)[0] > 0 or (found[0].fold,) in KINDS):
        return True
    return word.isalpha() and not nearest(word, vocabulary.names())


def _no_name(token: Said, text: str, vocabulary: Vocabulary) -> PhraseError:
    """A name that nobody has given: the nearest, or those it may be part of."""
    at = token.start_pos or 0
    rest = text[at:].split()
    for size in range(min(4, len(rest)), 0, -1):  # "hoist lift up": as many words as belong to it
        words = folded(" ".join(rest[:size]))
        within = vocabulary.containing(words)
        if within:
            word = " ".join(rest[:size]).strip(",;")
            names = sorted({thing.name for thing in within})
            if len(names) > 1:
                return Asks(word, names, at, at + len(word))
            return PhraseError(
                f"There is nothing called '{word}'.", f"Did you mean '{names[0]}'?", at, at + len(word)
            )
    stop = next(
        (number for number, word in enumerate(rest) if number and (word.casefold().strip(",;") in KEYWORDS)),
        1,
    )
    word = " ".join(rest[:stop]).strip(",;")
    hint = nearest(word, vocabulary.names()) or nearest(rest[0], vocabulary.names())
    return PhraseError(
        f"There is nothing called '{word}'.", hint or "See: cairnwind look.", at, at + len(word)
    )


COUNTED = ("blink", "breathe", "play")
TAILS = {
    "on": {"over", "for", "until"}, "off": {"over", "for", "until"}, "to": {"over", "for", "until"}, "toggle": {"for", "until"},
    "fade": {"over", "for", "until"}, "blink": {"times", "for", "until"}, "breathe": {"times", "over", "for", "until"},
    "flicker": {"for", "until"}, "play": {"times", "for", "until"}, "pulse": {"for"}, "run": {"for", "until"},
    "release": set(), "release_scene": set(), "stop": set(), "up": {"for", "until"}, "down": {"for", "until"},
    "open": {"for", "until"}, "close": {"for", "until"},
}  # fmt: skip


class _Reader:
    """From the grammar's tree to a phrase."""

    def __init__(self, text: str, vocabulary: Vocabulary) -> None:
        self.text, self.vocabulary = text, vocabulary
        self.site = vocabulary.site
        self.spoken_of: tuple[tuple[Target, ...], tuple[Target, ...]] = ((), ())
        """The targets of the command before: what 'it' is."""

    def _no_double_end(self, child: Any, command: Command, lead: Lead | None, series: bool) -> None:
        """Ask back where an end may be that of each round or of the whole series."""
        if (
            lead is not None
            and lead.every
            and not series
            and command.times
            and (command.span or command.until)
        ):
            end = ends(command.span, command.until)[0]
            bare = replace(command, span=0, until=None)
            each = f"each round: every {show_duration(lead.every)} {bare.text} (which ends by itself)"
            whole = f"the series: every {show_duration(lead.every)} {end} {bare.text}"
            raise Asks(end, (each, whole), *self.where(child))

    def _one(
        self, child: Any, lead: Lead | None, series: bool, parts: list[Command | int], *, alone: bool
    ) -> tuple[Command, Lead | None]:
        """One command of a phrase, and when the whole begins by what is said with it; a wait before it is added to the parts."""
        command, later, counted = self.command(child)
        if later is not None and later.after and parts and lead is None:
            # "turn it on and turn it off again in ten minutes": so long after the phrase, not after what was before it
            waited = sum(part for part in parts if isinstance(part, int))
            if later.after <= waited:
                raise PhraseError(
                    "That would be before what comes before it.",
                    "Say it in its order.",
                    *self.where(child),
                )
            parts.append(later.after - waited)
        elif later is not None:
            if lead is not None or not alone:
                at = self.where(child)
                raise PhraseError(
                    "A phrase has one time when it begins.",
                    "Put it first: after 5 min turn … on; then …",
                    *at,
                )
            lead = later
        if counted and lead is not None and lead.every and not lead.times:
            lead = lead._replace(times=counted)
        elif counted:
            raise PhraseError(
                f"'{counted} times' is not for {command.verb}.",
                f"Say how often: every 1 min {counted} times {command.text}.",
                *self.where(child),
            )
        self._no_double_end(child, command, lead, series)
        return command, lead

    def phrase(self, tree: Any) -> Phrase:
        lead: Lead | None = None
        parts: list[Command | int] = []
        children = [each for each in tree.children if isinstance(each, Tree)]
        series = False
        for child in children:
            if child.data in ("lead_after", "lead_at", "lead_every"):
                lead = self.lead(child)
                series = bool(lead.times or lead.span or lead.until)
            elif child.data == "wait":
                parts.append(self.duration(child.children[-1]))
            else:
                command, lead = self._one(child, lead, series, parts, alone=len(children) == 1)
                parts.append(command)
        if len(parts) > MOST_STEPS:
            raise PhraseError(f"The phrase has {len(parts)} steps.", f"At most {MOST_STEPS}.")
        if all(isinstance(part, int) for part in parts):
            raise PhraseError("The phrase only waits.", "Say what to do.")
        return Phrase(tuple(parts), lead)

    def where(self, node: Any) -> tuple[int, int]:
        """Where a part of the tree stands in the text."""
        found = (
            list(node.scan_values(lambda each: isinstance(each, Said))) if isinstance(node, Tree) else [node]
        )
        return (found[0].start_pos or 0, found[-1].end_pos or 0) if found else (0, len(self.text))

    def lead(self, tree: Any) -> Lead:
        kids = [
            each
            for each in tree.children
            if isinstance(each, Tree) or str(getattr(each, "type", "")) == "COUNT"
        ]
        match tree.data:
            case "lead_after":
                return Lead(after=self.duration(kids[0]))
            case "lead_at":
                return Lead(at=self.moment(kids[0]))
        every = self.duration(kids[0])
        if every < SHORTEST_EVERY:
            raise PhraseError(
                "That is too often.", "A series has 100 ms or more from round to round.", *self.where(tree)
            )
        found = Lead(every=every)
        for kid in kids[1:]:
            if not isinstance(kid, Tree):
                found = found._replace(times=self.count(kid))
                continue
            word, value = kid.children
            if str(word) and getattr(word, "type", "") == "FOR":
                found = found._replace(span=self.duration(value))
            else:
                found = found._replace(until=self.moment(value))
        return found

    def command(self, tree: Any) -> tuple[Command, Lead | None, int]:
        """A command, when it is to begin if it says so, and a count that is not its own."""
        head, *tails = tree.children
        found = self.head(head)
        later: Lead | None = None
        counted = 0
        allowed = TAILS[found.verb]
        given: set[str] = set()
        for tail in tails:
            name = str(tail.data)
            kid = next((each for each in tail.children if isinstance(each, Tree)), None)
            slot = {
                "for_": "for",
                "released": "until",
                "over": "over",
                "until": "until",
                "times": "times",
            }.get(name, "lead")
            if slot in given or (slot in ("for", "until") and given & {"for", "until"}):
                first = next(iter(given & {"for", "until"}), slot)
                raise PhraseError(
                    f"'{slot}' and '{first}' cannot both be said of one command." if slot != first else f"'{slot}' is said twice.",
                    "Say one of them.", *self.where(tail),
                )  # fmt: skip
            given.add(slot)
            if name == "times" and found.verb not in COUNTED:
                counted = self.count(tail.children[0])
                continue
            if slot != "lead" and slot not in allowed:
                able = ", ".join(sorted(allowed)) or "neither a time nor a count"
                verb = found.verb.replace("_", " ")
                raise PhraseError(
                    f"'{slot}' does not go with {verb}.", f"It takes {able}.", *self.where(tail)
                )
            match name:
                case "over":
                    found = replace(found, over=self.duration(kid))
                case "for_":
                    found = replace(found, span=self.duration(kid))
                case "until":
                    found = replace(found, until=self.moment(kid))
                case "released":
                    found = replace(found, released=True)
                case "times":
                    found = replace(found, times=self.count(tail.children[0]))
                case _:
                    later = self.lead(tail)
        if found.verb == "pulse" and not found.span:
            raise PhraseError(
                "A pulse needs its length.",
                "Say it with for: pulse glaze-store for 400 ms.",
                *self.where(tree),
            )
        if found.verb == "fade" and not found.over:
            raise PhraseError(
                "A fade needs its time.", f"Say it with over: {found.text} over 3 s.", *self.where(tree)
            )
        return found, later, counted

    def head(self, tree: Any) -> Command:
        verb = str(tree.data)
        kids = [each for each in tree.children if isinstance(each, Tree)]
        values = [self.value(kid) for kid in kids if kid.data in ("value", "level")]
        if verb == "stop":
            return Command(verb)
        if verb == "start":
            verb = self.started(kids[0])
            if verb == "run":
                return Command(verb, scene=self.one(self.single(kids[0]), ("scene",)).name)
        if verb in ("run", "release_scene"):
            return Command(verb, scene=self.one(kids[-1], ("scene",)).name)
        targets, spared = self.targets(next(kid for kid in kids if kid.data == "targets"))
        found = Command(
            verb, targets, spared, values[-1] if values else None, values[0] if len(values) > 1 else None
        )
        if not found.outputs:
            raise PhraseError("That means nothing that is there.", "See: cairnwind look.", *self.where(tree))
        if verb in ("up", "down"):
            found = replace(found, percent=self.step(tree, kids))
        times = [kid for kid in kids if kid.data == "duration"]
        if times:
            found = replace(found, lit=self.duration(times[0]), dark=self.duration(times[1]))
        if verb == "to" and found.value is not None and found.value.text in ("on", "off"):
            found = replace(found, verb=found.value.text, value=None)
        return found

    def single(self, tree: Any) -> Any:
        """The name of targets that are one name; None where they are more."""
        names = list(tree.find_data("name"))
        return names[0] if len(names) == 1 and not list(tree.find_data("kind")) else None

    def started(self, tree: Any) -> str:
        """What 'start' means of a name: a scene is run, an output is on."""
        name = self.single(tree)
        kinds = {thing.kind for thing in name.children[0].payload} if name is not None else set()
        if "scene" in kinds and kinds & {"output", "group"}:
            at, end = self.where(name)
            word = self.text[at:end]
            raise Asks(word, (f"scene {word}", f"'{word}'"), at, end)
        return "run" if "scene" in kinds else "on"

    def step(self, tree: Any, kids: list[Any]) -> int:
        """By how many percent something goes up or down."""
        by = next((kid for kid in kids if kid.data == "by"), None)
        if by is None:
            way: Said = next(each for each in tree.children if getattr(each, "type", "") in ("UP", "DOWN"))
            return int(way.payload)
        token = by.children[-1]
        share, _ = token.payload
        if share.denominator != 1 or not 1 <= share <= 100:
            raise PhraseError("A step is 1 to 100 %, in whole percent.", "Say: up by 10 %.", *self.where(by))
        return int(share)

    def targets(self, tree: Any) -> tuple[tuple[Target, ...], tuple[Target, ...]]:
        some = [
            tuple(self.target(kid) for kid in each.children if isinstance(kid, Tree))
            for each in tree.children
            if isinstance(each, Tree)
        ]
        if not any(target.text for target in some[0]):
            return self.spoken_of
        self.spoken_of = some[0], some[1] if len(some) > 1 else ()
        return self.spoken_of

    def target(self, tree: Any) -> Target:
        kids: list[Any] = [each for each in tree.children if isinstance(each, Tree)]
        outputs = self.site.outputs
        if tree.data == "one" and self.spoken_of[0] and IT in kids[0].children[0].payload:
            return Target("", ())
        if tree.data == "one":
            thing = self.one(kids[0], ("output", "group"))
            return Target(
                quoted(thing.name), self.site.groups[thing.name] if thing.kind == "group" else (thing.name,)
            )
        place = self.one(kids[-1], ("place",)).name if kids else ""
        here = [output for output in outputs.values() if not place or output.place == place]
        within = f" in {quoted(place)}" if place else ""
        if tree.data == "everything":
            return Target(f"everything{within}", tuple(output.name for output in here))
        kind = next(
            each for each in tree.children if not isinstance(each, Tree) and each.type == "KIND"
        ).payload
        return Target(
            f"all {kind}{within}", tuple(output.name for output in here if output.kind in OF_KIND[kind])
        )

    def one(self, tree: Any, kinds: tuple[str, ...]) -> Thing:
        """What a name means where only things of some kinds can stand."""
        token: Said = tree.children[0]
        found: list[Thing] = [thing for thing in token.payload if thing.kind in kinds]
        at, end = token.start_pos or 0, token.end_pos or 0
        if not found and IT in token.payload:
            raise PhraseError(
                f"What '{self.text[at:end]}' is was not said before.", "Give its name.", at, end
            )
        if len(found) > 1:  # written as one of them is called, it is that one
            found = [thing for thing in found if token.payload[thing]] or found
        if len(found) > 1:
            raise Asks(self.text[at:end], sorted(thing.name for thing in found), at, end)
        if not found:
            other = next(iter(token.payload))
            word = {"output": "an output", "place": "a place"}.get(other.kind, f"a {other.kind}")
            instead = {"place": f"Say 'everything in {quoted(other.name)}'.", "tune": f"Say 'play {quoted(other.name)} on …'.",
                       "scene": f"Say 'run scene {quoted(other.name)}'."}.get(other.kind, "") if "output" in kinds else ""  # fmt: skip
            raise PhraseError(
                f"'{self.text[at:end]}' is {word}, which cannot stand there.",
                instead or f"Give the name of a {kinds[0]}.",
                at,
                end,
            )
        return found[0]

    def value(self, tree: Any) -> Value:
        token: Said = tree.children[-1]
        match token.type:
            case "SHARE":
                share, duty = token.payload
                return Value(f"{_digits(share)} %{' duty' if duty else ''}")
            case "HERTZ":
                return Value(frequency(round(token.payload * 1000)))
            case "ANGLE":
                return Value(f"{_digits(token.payload)}°")
            case "NUMBER" if len(tree.children) > 1:
                return Value(f"hue {_digits(token.payload)}")
            case "NUMBER":
                number, at, end = _digits(token.payload), token.start_pos or 0, token.end_pos or 0
                raise Asks(self.text[at:end], (f"{number} %", f"{number} % duty"), at, end)
            case "ON" | "OFF":
                return Value(token.type.lower())
        written = str(token)[:1].upper() + str(token)[1:].lower()
        note = pitch.number(written)
        tune = next((thing.name for thing in (token.payload or ()) if thing.kind == "tune"), "")
        if note is not None and not tune:
            return Value(written)
        return Value(quoted(tune) if tune else str(token).casefold(), tune)

    def duration(self, tree: Any) -> int:
        token: Said = tree.children[0]
        at, end = token.start_pos or 0, token.end_pos or 0
        if token.type == "NUMBER":
            number = _digits(token.payload)
            raise Asks(self.text[at:end], (f"{number} s", f"{number} min"), at, end)
        if not 0 < token.payload <= LONGEST:
            raise PhraseError(
                f"'{self.text[at:end]}' is out of range for a time.",
                "Give more than nothing and at most a year.",
                at,
                end,
            )
        return int(token.payload)

    def count(self, token: Said) -> int:
        at, end = token.start_pos or 0, token.end_pos or 0
        if token.payload.denominator != 1 or not 1 <= token.payload <= 1_000_000:
            raise PhraseError(
                f"'{self.text[at:end]}' is no number of times.", "Give a whole number from 1.", at, end
            )
        return int(token.payload)

    def moment(self, tree: Any) -> Moment:
        data = str(tree.data)
        tokens = [each for each in tree.children if not isinstance(each, Tree)]
        times = [self.duration(each) for each in tree.children if isinstance(each, Tree)]
        times += [each.payload for each in tokens if each.type == "DURATION"]
        if data == "moment":
            token = tokens[0]
            at, end = token.start_pos or 0, token.end_pos or 0
            if token.type == "CLOCK":
                return Moment(token.payload)
            hour = token.payload
            if hour.denominator == 1 and 0 <= hour <= 24:
                late = (int(hour) + 12) % 24
                raise Asks(
                    self.text[at:end],
                    (f"{int(hour) % 24:02d}:00", f"{late:02d}:00")
                    if hour <= 12
                    else (f"{int(hour) % 24:02d}:00", f"{hour} min"),
                    at,
                    end,
                )
            raise PhraseError(f"'{self.text[at:end]}' is no time of day.", "Write it like 22:30.", at, end)
        if self.site.latitude is None or self.site.longitude is None:
            raise PhraseError(
                "The sun's times need to know where the site is.",
                "Give the site file its latitude and longitude.",
                *self.where(tree),
            )
        by = next(each.payload for each in tokens if each.type == "SUN")
        before = data == "before_sun" or any(each.type == "MINUS" for each in tokens)
        return Moment(sun=by, offset=(-1 if before else 1) * sum(times))


def _digits(number: Fraction) -> str:
    return f"{float(number):.10g}"


# --- what is to be done ---------------------------------------------------------------------------------------
