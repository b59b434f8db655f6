"""Whatever a parser is given it takes, or refuses in words, in bounded time and memory; briefly here, and for as long as one likes:

``python -m tests.test_fuzz MINUTES [PARSER ...]``. What was found is a case of the parser's own tests.
"""

from __future__ import annotations

import itertools
import resource
import sys
import time
from collections.abc import Callable
from typing import Any
from zoneinfo import ZoneInfo

import pytest
from hypothesis import HealthCheck, given, seed, settings
from hypothesis import strategies as st
from pythonosc.osc_packet import OscPacket

from cairnwind.commands.reading import read as read_command
from cairnwind.commands.table import COMMANDS
from cairnwind.core.explain import replay
from cairnwind.core.facts import plan
from cairnwind.core.language import forms, schedules
from cairnwind.core.physics import sound
from cairnwind.core.values import dates, jsontext, moments, quantities
from cairnwind.core.values import settings as values
from cairnwind.core.values.errors import Trouble
from cairnwind.demo import SITE_FILE
from cairnwind.remotes import modbuspdu, osc
from cairnwind.remotes.intake import Intake
from cairnwind.service.doorman import Connection, Refused, whole
from cairnwind.site import page, read_text
from cairnwind.site.calendars import read as read_calendar
from tests.core.saltmarsh import PLAN, SITE, at

MOST_SECONDS, MEMORY = 1.0, 2 << 30
NOW = at("2026-12-01 12:00")
LANGUAGE = forms.language(SITE)


def of(*tokens: str, between: str = " ", most: int = 30) -> st.SearchStrategy[str]:
    """Tokens of a language, with anything in between."""
    one = st.one_of(st.sampled_from(tokens), st.sampled_from(tokens), st.text(max_size=8))
    return st.lists(one, max_size=most).map(between.join)


WORDS = (
    "turn", "on", "off", "gallery", "yard", "the", "to", "40 %", "for", "10 min", "at", "18:30", "every", "weekday", "and", "then",
    "wait", "release", "all lamps", "half past six", "in an hour", "sunset", "is", "above", "not", "(", ")", "or", "becomes",
    "kiln-door", "open", "3 kW", "blink", "9" * 60, "%", "\u202e", ";", ":", ",", "!", "?", "stop", "until released", "over", "dim",
    "a bit brighter", "-1", "1e9 h", "toggle", "between", "20:00", "is on for", "scene", "it", "again", "an hour and a half",
)  # fmt: skip
PARTS = (
    "INTERVAL", "BYDAY", "BYMONTHDAY", "COUNT", "BYSETPOS", "BYHOUR", "BYMINUTE", "BYWEEKNO", "BYYEARDAY", "BYMONTH", "UNTIL", "WKST",
    "FREQ",
)  # fmt: skip
NUMBERS = (
    "1",
    "-1",
    "31",
    "53",
    "366",
    "0",
    "9999",
    "MO",
    "2SU",
    "-1FR",
    "20270101",
    "20271231T000000Z",
    "x",
    "10000",
    "",
)
RULES = st.builds(
    lambda how, parts: f"FREQ={how}" + "".join(f";{name}={','.join(some)}" for name, some in parts),
    st.sampled_from(("DAILY", "YEARLY", "MONTHLY", "WEEKLY", "HOURLY", "MINUTELY", "SECONDLY")),
    st.lists(st.tuples(st.sampled_from(PARTS), st.lists(st.sampled_from(NUMBERS), min_size=1, max_size=3)), max_size=4),
)  # fmt: skip
LINES = st.builds(
    lambda name, more, value: f"{name}{more}:{value}",
    st.sampled_from((
        "SUMMARY", "DTSTART", "DTEND", "DURATION", "RRULE", "RDATE", "EXDATE", "EXRULE", "RECURRENCE-ID", "STATUS", "UID", "SEQUENCE",
        "X-CAIRNWIND-FORM", "X-CAIRNWIND-NAME", "GEO", "TRANSP", "DTSTAMP", "BEGIN", "END",
    )),
    st.sampled_from((
        "", "", ";TZID=Europe/London", ";TZID=Nowhere/At_All", ";TZID=W. Europe Standard Time", ";VALUE=DATE", ";VALUE=PERIOD",
        ";RANGE=THISANDFUTURE", ';X="a;b"', ";TZID=UTC", ";TZID=/evil/../etc/passwd",
    )),
    st.one_of(RULES, st.text(max_size=20), st.sampled_from((
        "20270105T180000Z", "20270105T180000", "20270105", "99991231T235959Z", "00010101T000000", "20271332T250000", "P1D", "PT24H",
        "PT0S", "-PT1H", "P9999999D", "PT99999999999S", "turn yard on", "turn yard on for 5 min", "CANCELLED", "9" * 400, "VEVENT",
        "20270105T180000Z/PT1H", "20270105T180000Z,20270106T180000Z", "a", "b",
    ))),
)  # fmt: skip
EVENTS = st.builds(
    lambda uid, month, hour, more: "\r\n".join((
        "BEGIN:VEVENT", f"UID:{uid}", "SUMMARY:turn yard on", f"DTSTART;TZID=Europe/London:2027{month:02d}10T{hour:02d}3000", *more,
        "END:VEVENT", "",
    )),
    st.sampled_from("ab"), st.integers(1, 12), st.integers(0, 23), st.lists(LINES, max_size=6),
)  # fmt: skip
CALENDARS = st.one_of(
    st.lists(EVENTS, max_size=4).map(lambda some: f"BEGIN:VCALENDAR\r\nVERSION:2.0\r\nPRODID:x\r\n{''.join(some)}END:VCALENDAR\r\n".encode()),
    st.binary(max_size=200),
)  # fmt: skip
FILE = SITE_FILE.read_text("utf-8").split("\n")
KEYS = sorted({key.name for table in page.tables() for key in table.keys})
ATOMS = (
    "nan",
    "-1",
    '"x"',
    "1e999",
    "true",
    "9" * 20,
    '"gallery"',
    '"coil-rail"',
    "07:00:00",
    "2026-11-01",
    "2026-11-01T00:00:00Z",
)
TOML = st.recursive(
    st.one_of(st.sampled_from(ATOMS), of(*WORDS).map(lambda text: f'"{text}"')),
    lambda inner: st.one_of(
        st.lists(inner, max_size=3).map(lambda some: f"[{', '.join(some)}]"),
        st.lists(st.tuples(st.sampled_from(KEYS), inner), max_size=3, unique_by=lambda one: one[0]).map(
            lambda some: f"{{ {', '.join(f'{key} = {value}' for key, value in some)} }}"
        ),
    ),
    max_leaves=4,
)


@st.composite
def sites(draw: st.DrawFn) -> str:
    """The demo's site file with some lines changed, doubled or gone."""
    lines = list(FILE)
    for _ in range(draw(st.integers(1, 5))):
        place = draw(st.integers(0, len(lines) - 1))
        match draw(st.sampled_from("dvvvtkk")):
            case "d":
                del lines[place]
            case "v":
                lines[place] = f"{lines[place].split('=')[0]}= {draw(TOML)}"
            case "k":
                lines.insert(place, f"{draw(st.sampled_from(KEYS))} = {draw(TOML)}")
            case _:
                lines.insert(place, draw(st.sampled_from(FILE)))
    return "\n".join(lines)


def calendar(content: bytes) -> None:
    for line in read_calendar(content, PLAN, {}, NOW):
        assert line.why
        assert line.title.isprintable()
        if line.form:
            made = schedules.make(line.form, PLAN, "database")
            list(itertools.islice(plan.ahead(made, NOW), 20))
            assert schedules.form_of(
                schedules.make(schedules.form_of(made), PLAN, "database")
            ) == schedules.form_of(made)


def recurrence(given: tuple[str, str]) -> None:
    rule, starts = given
    made = schedules.make(
        {"name": "x", "do": "turn yard on", "from": "18:00", "for": "1 h", "repeat": rule, "starts": starts}, PLAN, "test"
    )  # fmt: skip
    list(itertools.islice(plan.ahead(made, NOW), 5))
    plan.Walker(made).at(NOW)


def small(text: str) -> None:
    zone = ZoneInfo("Europe/London")
    readers: tuple[Callable[[str], Any], ...] = (
        moments.read, quantities.duration, sound.tune, lambda text: dates.wall(text, zone),
        *(lambda text, takes=takes: values.read(text, takes) for takes in ("level", "tone", "colour", "drive")),
    )  # fmt: skip
    for read in readers:
        with_words(read, text)


def with_words(read: Callable[[Any], Any], given: Any) -> None:
    """A refusal is one in words."""
    try:
        read(given)
    except Trouble as error:
        assert error.sentence


def message(packet: bytes) -> None:
    try:
        found = [each.message for each in OscPacket(packet).messages]
    except Exception:
        return  # the package has a dozen ways to say that this is none, and the remote takes them all
    for each in found:
        osc.whole(each.dgram)


def request(pdu: bytes) -> None:
    try:
        modbuspdu.decode(pdu)
    except modbuspdu.Illegal as error:
        assert modbuspdu.refused(pdu, error)
    modbuspdu.words(pdu)


def head(text: bytes) -> None:
    conn = Connection.__new__(Connection)
    conn.come, conn.body_from, conn.since = bytearray(text), 0, 0.0
    try:
        assert 0 <= whole(conn) <= len(text)
    except Refused:
        pass


def topic(given: tuple[str, str]) -> None:
    taken: list[Any] = []
    intake = Intake("top", ("off", "shut"), taken.append, lambda *_: None)
    one = type("Message", (), {"topic": f"top/{given[0]}", "payload": given[1].encode("utf-8", "replace")})
    intake.sort(one)
    assert intake._next() is one


def command(given: tuple[str, Any]) -> None:
    read_command(COMMANDS[given[0]], given[1])


def table(text: str) -> None:
    replay.of_table(text, SITE, lambda time: dates.wall(time, ZoneInfo("Europe/London")))


ANYTHING = st.recursive(
    st.one_of(st.none(), st.booleans(), st.integers(), st.floats(), st.text(max_size=20), st.sampled_from(WORDS)),
    lambda inner: st.one_of(st.lists(inner, max_size=4), st.dictionaries(st.text(max_size=8), inner, max_size=4)),
    max_leaves=10,
)  # fmt: skip
PARSERS: dict[str, tuple[st.SearchStrategy[Any], Callable[[Any], Any]]] = {
    "calendars": (CALENDARS, calendar),
    "recurrences": (st.tuples(RULES, st.sampled_from(("1970-01-01", "2024-02-29", "2026-11-01"))), recurrence),
    "phrases": (of(*WORDS), PLAN.course),
    "conditions": (of(*WORDS), LANGUAGE.condition),
    "site files": (sites(), lambda text: read_text(text, "a test's")),
    "values": (st.one_of(of(*WORDS, most=6), of("20", "T", ":", "-", "h", "min", "A4", "tempo", "Hz", "#", "1e", between="")), small),
    "JSON": (of("{", "}", "[", "]", '"', ":", ",", "1e9", "-", "\\u", "null", "9" * 30, between="", most=200).map(str.encode), jsontext.read),
    "commands": (st.sampled_from(sorted(COMMANDS)).flatmap(lambda word: st.tuples(st.just(word), st.dictionaries(st.sampled_from(sorted({"output", "setting", "reason", "name", "do", "claim", "for", "by", "pin", "phrase"})), ANYTHING, max_size=4))), command),
    "OSC": (st.one_of(st.binary(max_size=300), of("/out/", "gallery", "#bundle\0", "\0\0\0\x10", ",fis", "[", "\0", between="").map(str.encode)), message),
    "OSC patterns": (of("/", "out", "*", "?", "[a-z]", "[!", "]", "{", ",", "}", "stop", "gallery", between="", most=60), lambda text: osc.matching(text, ["/stop", "/out/gallery", "/out/" + "a" * 60])),
    "Modbus": (st.one_of(st.binary(min_size=1, max_size=260), st.binary(max_size=8).map(lambda rest: bytes((rest[:1] or b"\1")[:1]) + rest)), request),
    "HTTP": (of("GET / HTTP/1.1\r\n", "Content-Length: ", "Transfer-Encoding: chunked", "\r\n", "5", "ffffffffffff", "\r\n\r\n", "0", ";", "x" * 300, between="").map(str.encode), head),
    "topics": (st.tuples(of("out", "gallery", "want", "off", "do", "stop", "phrase", "all-stop", between="/", most=5), of(*WORDS)), topic),
    "tables of inputs": (of("time,input,state\n", "2026-12-01T10:00", ",", "kiln-door", "open", "\n", '"', between=""), table),
}  # fmt: skip


def take(name: str, given: Any) -> None:
    """One case."""
    begin = time.thread_time()
    try:
        PARSERS[name][1](given)
    except Trouble as error:
        assert error.sentence
    except ValueError:
        assert name == "JSON"
    assert time.thread_time() - begin < MOST_SECONDS, "it takes too long"


def many(name: str, cases: int, number: int = 0) -> None:
    """So many cases."""

    @seed(number)
    @settings(max_examples=cases, deadline=None, database=None, suppress_health_check=list(HealthCheck))
    @given(given=PARSERS[name][0])
    def each(given: Any) -> None:
        take(name, given)

    each()


@pytest.mark.parametrize("name", PARSERS)
def test_whatever_a_parser_is_given(name: str) -> None:
    many(
        name, 15 if name == "site files" else 150
    )  # the same cases each time: what fails here is the fault of what was changed


def main() -> None:
    """For as long as one likes."""
    resource.setrlimit(resource.RLIMIT_AS, (MEMORY, MEMORY))
    for name in sys.argv[2:] or PARSERS:
        end, cases, number = time.monotonic() + 60 * float(sys.argv[1]), 0, time.time_ns() % 10**9
        while time.monotonic() < end:
            number += 1
            cases += 50
            many(name, 50, number)
        most = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss // 1024
        print(f"{name}: {cases:,} cases, none that it could not take; {most} MB", flush=True)


if __name__ == "__main__":
    main()
