"""The command language: what is understood, in how many ways it can be said, and what is asked back."""

from __future__ import annotations

import re
from pathlib import Path

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from cairnwind.core.facts.claims import RELEASED, lasting
from cairnwind.core.language import phrases
from cairnwind.core.language.sentences import Asks, PhraseError
from cairnwind.core.physics.programs import Program
from cairnwind.core.values.errors import CallerError
from cairnwind.core.values.moments import Moment
from cairnwind.core.values.quantities import NS, show_duration
from cairnwind.core.values.settings import FULL, OFF, ON, Level
from tests.core.saltmarsh import PLAN, SITE, VOCABULARY, changes, rehearse, say

LAMPS = ["gallery", "window"]
TIMES = st.integers(100, 10**6).map(lambda milliseconds: show_duration(milliseconds * NS // 1000))
MOMENTS = st.one_of(
    st.times().map(lambda time: f"{time:%H:%M}"),
    st.builds(
        lambda by, sign, span: f"{by} {sign} {span}",
        st.sampled_from(["sunset", "sunrise", "dawn", "dusk"]), st.sampled_from("+-"), st.integers(1, 600).map(lambda minutes: f"{minutes} min"),
    ),
)  # fmt: skip
TARGETS = st.one_of(
    st.lists(st.sampled_from(list(SITE.outputs)), min_size=1, max_size=4, unique=True).map(" and ".join),
    st.sampled_from(
        [
            "all lamps",
            "everything",
            "showroom",
            "everything in glaze room",
            "all lamps except window",
            "all motors in kiln room",
        ]
    ),
)
ENDS = st.one_of(
    st.just(""), TIMES.map(" for {}".format), MOMENTS.map(" until {}".format), st.just(" until released")
)
COMMANDS = st.one_of(
    st.builds("turn {} {}{}".format, TARGETS, st.sampled_from(["on", "off"]), ENDS),
    st.builds("turn {} to {} %{}".format, st.sampled_from(LAMPS), st.integers(1, 100), ENDS),
    st.builds("fade {} to {} % over {}{}".format, st.sampled_from(LAMPS), st.integers(0, 100), TIMES, ENDS),
    st.builds("blink {} {} times".format, st.sampled_from(LAMPS), st.integers(1, 99)),
    st.builds("toggle {}".format, TARGETS),
    st.builds("play {} on bell".format, st.sampled_from(["welcome", "closing", "A4", "Bb3", "1000 Hz"])),
    st.sampled_from(
        [
            "run scene opening",
            "release showroom",
            "release scene closing",
            "all-stop",
            "pulse glaze-store for 400 ms",
        ]
    ),
)
LEADS = st.one_of(
    st.just(""),
    TIMES.map("after {} ".format),
    MOMENTS.map("at {} ".format),
    TIMES.map(lambda span: f"every {span} 3 times "),
)
PHRASES = st.builds(
    lambda lead, parts: lead + "; ".join(parts), LEADS,
    st.lists(st.one_of(COMMANDS, COMMANDS, TIMES.map("wait {}".format)), min_size=1, max_size=4),
).filter(lambda text: any(word in text for word in ("turn", "fade", "blink", "toggle", "play", "run", "release", "stop", "pulse")))  # fmt: skip


@settings(max_examples=300)
@given(PHRASES)
def test_the_canonical_form_reads_to_itself(text: str) -> None:
    phrase = phrases.read(text, VOCABULARY)
    again = phrases.read(phrase.text, VOCABULARY)
    assert again == phrase
    assert again.text == phrase.text


@settings(max_examples=200)
@given(PHRASES, st.randoms(use_true_random=False))
def test_it_may_be_said_in_other_words(text: str, chance) -> None:  # type: ignore[no-untyped-def]
    spoken = text
    for word, others in (("turn ", ["switch ", "set ", "please turn "]), (" and ", [", ", ", and "]), ("; ", [" then ", ", then ", " and then "]),
                         ("-", [" "]), (" %", ["%", " percent"]), ("wait ", ["pause ", "wait for "])):  # fmt: skip
        if word == "-":
            spoken = re.sub(r"(?<=[a-z0-9])-(?=[a-z0-9])", lambda _: chance.choice(["-", " "]), spoken)
        else:
            spoken = spoken.replace(word, chance.choice([word, *others]))
    spoken = "".join(
        chance.choice([letter, letter.upper()]) if letter not in "ABh" else letter for letter in spoken
    )
    spoken = spoken.replace(" scene ", chance.choice([" scene ", " the scene "]))
    assert phrases.read(spoken, VOCABULARY) == phrases.read(text, VOCABULARY), spoken


@settings(max_examples=400)
@given(st.one_of(st.text(max_size=60), st.lists(st.sampled_from(
    ["turn", "gallery", "bench", "lamp", "on", "off", "to", "40", "%", "over", "for", "until", "3", "times", "10", "min", "sunset", "-", "all", "lamps", "everything", "in", "room", "and", ",", ";", "then", "'", "every", "after", "22:30", "half"]
), max_size=12).map(" ".join)))  # fmt: skip
def test_whatever_is_said_is_understood_or_refused_in_words(text: str) -> None:
    try:
        course = PLAN.course(text)
    except CallerError as error:
        assert error.sentence.endswith((".", "?"))
        if isinstance(error, PhraseError):
            assert 0 <= error.at <= max(len(text), 0) + 1
    else:
        assert phrases.read(course.text, VOCABULARY).text == course.text


@pytest.mark.parametrize(
    ("text", "word", "choices"),
    [
        ("turn hoist on", "hoist", ("hoist-down", "hoist-up")),
        ("turn yard on for 10", "10", ("10 s", "10 min")),
        ("turn yard on until 7", "7", ("07:00", "19:00")),
        ("turn path on", "path", ("path-1", "path-2")),
    ],
)
def test_it_asks_back_naming_both(text: str, word: str, choices: tuple[str, ...]) -> None:
    with pytest.raises(Asks) as asked:
        phrases.read(text, VOCABULARY)
    assert text[asked.value.at : asked.value.end] == word
    assert set(choices) <= set(asked.value.choices)
    for choice in asked.value.choices:
        phrases.read(text[: asked.value.at] + choice + text[asked.value.end :], VOCABULARY)


def test_a_series_whose_end_may_be_two_things_is_asked_about() -> None:
    with pytest.raises(Asks, match="each round") as asked:
        phrases.read("every 30 s blink bench-lamp 3 times for 10 min", VOCABULARY)
    assert "every 30 s for 10 min blink bench-lamp 3 times" in asked.value.choices[1]
    assert phrases.read("every 30 s for 10 min blink bench-lamp 3 times", VOCABULARY).lead is not None


@pytest.mark.parametrize(
    ("text", "word", "sentence", "remedy"),
    [
        ("turn galery on", "galery", "nothing called 'galery'", "'gallery'"),
        ("turn gallery too 40 %", "too", "not understood there", "'to'"),
        ("turn vent on", "vent", "nothing called 'vent'", "'kiln-vent'"),
        ("turn the kiln room off", "kiln room", "is a place", "everything in kiln room"),
        ("turn gallery on off", "off", "cannot stand there", "for"),
        ("turn yard on until sunset for 5 min", "for", "cannot both be said", "one of them"),
        ("run gallery", "gallery", "is an output", "scene"),
        ("turn yard on 3 times", "turn", "is not for on", "every 1 min 3 times"),
        ("pulse glaze-store", "pulse", "needs its length", "for 400 ms"),
    ],
)
def test_an_error_points_at_the_word_and_offers_what_could_be_meant(
    text: str, word: str, sentence: str, remedy: str
) -> None:
    with pytest.raises(PhraseError) as wrong:
        phrases.read(text, VOCABULARY)
    assert text[wrong.value.at :].startswith(word)
    assert sentence in wrong.value.sentence
    assert remedy in wrong.value.remedy


def test_what_outputs_do_not_take_is_refused_whole() -> None:
    for text, match in (("turn kiln and gallery to 40 %", "kiln cannot be set to 40 %"), ("play welcome on gallery", "gallery"),
                        ("turn gallery to mauve", "'mauve'"), ("turn bell on for 1 h", None)):  # fmt: skip
        if match:
            with pytest.raises(CallerError, match=match):
                PLAN.course(text)


def test_what_is_done() -> None:
    (step,) = PLAN.course("turn all lamps in gallery to half until released").steps
    assert [(order.output, order.lifetime) for order in step.orders] == [
        (name, RELEASED) for name in ("gallery", "window", "shelf-colour")
    ]
    assert step.orders[0].wanted == Level(FULL // 2)
    first, second, third = (
        PLAN.course(
            "turn yard on for 1 h 30 min then wait 90 seconds and then turn yard off until sunset - 20 min"
        ).steps[:1]
        + PLAN.course("turn yard on; wait 90 s; turn yard off until 20 minutes before sunset").steps
    )
    assert first.orders[0].lifetime == lasting(90 * 60 * NS)
    assert (second.after, third.after) == (0, 90 * NS)
    assert (second.orders[0].wanted, third.orders[0].wanted) == (ON, OFF)
    assert third.orders[0].until == Moment(sun="sunset", offset=-20 * 60 * NS)
    scene = PLAN.course("run opening for 1 h")
    assert {order.scene for step in scene.steps for order in step.orders} == {"opening"}
    fade = scene.steps[0].orders[0].wanted
    assert isinstance(fade, Program)
    assert fade.length == 5 * NS
    tune = PLAN.course("play welcome on bell twice").steps[0].orders[0].wanted
    assert isinstance(tune, Program)
    assert tune.times == 2
    assert PLAN.course("turn kiln contactor on").text == "turn kiln on", "by its label"


EXAMPLES = re.findall(
    r"^\| `([^`]+)` \| `([^`]+)` \|$",
    Path(__file__).parents[2].joinpath("docs/phrases.md").read_text("utf-8"),
    re.M,
)


def test_the_examples_of_the_docs_are_true() -> None:
    assert len(EXAMPLES) >= 30
    for said, understood in EXAMPLES:
        assert PLAN.course(said).text == understood, said


AROUND = ("all", "everything", "now", "it", "at once", "please", "immediately", "emergency", "right now")


@settings(max_examples=200)
@given(st.sampled_from(["stop", "halt", "Stop", "HALT", "all-stop"]), st.lists(st.sampled_from(AROUND), max_size=3), st.booleans(),
       st.sampled_from(["", ".", "!", "!!", " ."]))  # fmt: skip
def test_a_stop_is_understood_however_it_is_said_and_never_when_it_is_denied_or_asked(
    word: str, around: list[str], before: bool, end: str
) -> None:
    said = " ".join([*around, word] if before else [word, *around])
    assert phrases.read(said + end, VOCABULARY).text == "all-stop"
    for wrong in (
        f"don't {said}",
        f"do not {said}{end}",
        f"never {said}",
        f"{said}?",
        f"should I {said}?",
        f"could you {said} ?",
    ):
        try:
            course = PLAN.course(wrong)
        except CallerError:
            continue
        assert not any(step.stop for step in course.steps), wrong


@given(st.sampled_from(EXAMPLES), st.text(".!? ", max_size=3))
def test_how_a_sentence_ends_refuses_nothing(example: tuple[str, str], end: str) -> None:
    said, understood = example
    assert (
        phrases.read(said + (end if "stop" not in understood else end.replace("?", "")), VOCABULARY).text
        == understood
    )


@pytest.mark.parametrize(
    ("text", "match", "remedy"),
    [
        ("gallery 40", "'40' may be 40 % or 40 % duty", "which one"),
        ("every weekday at 6:30 turn yard on", "'every weekday' is a schedule", "--from 6:30 --for '1 h' --repeat 'FREQ=WEEKLY;BYDAY=MO,TU,WE,TH,FR' 'turn yard on'"),
        ("turn it off in ten minutes", "What 'it' is was not said", "its name"),
        ("a bit brighter", "What is to be brighter", "gallery brighter"),
        ("fire the kiln", "'fire' is no verb", "turn, fade"),
        ("is the gallery on?", "a question", "cairnwind ask"),
        ("kiln a bit brighter", "not dimmed", "on or off"),
        ("open kiln", "not opened or closed", "on or off"),
        ("turn gallery up by 200 %", "1 to 100 %", "up by 10 %"),
        ("turn yard on; wait 1 h; turn yard off in 10 min", "before what comes before it", "order"),
    ],
)  # fmt: skip
def test_what_cannot_be_done_is_refused_with_what_can(text: str, match: str, remedy: str) -> None:
    with pytest.raises(CallerError) as caught:
        PLAN.course(text)
    assert match in caught.value.sentence
    assert remedy in caught.value.remedy


def test_brighter_goes_up_from_what_is_wanted_then() -> None:
    found = rehearse((), "2026-11-23 12:00", "2026-11-23 12:10", [
        ("2026-11-23 12:01", say("turn gallery to 40 %", "a")), ("2026-11-23 12:02", say("gallery a bit brighter", "b")),
        ("2026-11-23 12:03", say("turn gallery down by 15 %", "c")), ("2026-11-23 12:04", say("gallery much darker", "d")),
    ])  # fmt: skip
    assert changes(found, "gallery") == [
        ("12:01:00", "40 %"),
        ("12:02:00", "50 %"),
        ("12:03:00", "35 %"),
        ("12:04:00", "off"),
    ]
