"""The site file: every error with its place, all at once; and the scanner held against the parser."""

from __future__ import annotations

import tomllib
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from cairnwind.core.values.errors import CallerError
from cairnwind.demo import SITE_FILE
from cairnwind.site import SiteFileError, read_site
from cairnwind.site.scan import Scan

HEAD = 'site = "S"\n[board.shelf]\nlink = "simulated"\nmap = "header-34"\n[board.rack]\nlink = "simulated"\nlines = 4\n'


def errors(tmp_path: Path, text: str) -> SiteFileError:
    path = tmp_path / "site.toml"
    path.write_text(text, "utf-8")
    with pytest.raises(SiteFileError) as caught:
        read_site(path)
    return caught.value


def only(tmp_path: Path, text: str) -> Any:
    found = errors(tmp_path, text).findings
    assert len(found) == 1, found
    return found[0]


def test_the_demo_site_is_read_whole() -> None:
    site = read_site(SITE_FILE)
    vent = site.outputs["kiln-vent"]
    assert (vent.pin.both, vent.active_low, vent.normally_closed, float(vent.draws or 0)) == (
        "shelf:J2-9 (line 41)",
        True,
        False,
        0.072,
    )
    assert site.outputs["gallery"].dimmable
    assert not site.outputs["bench-lamp"].dimmable
    assert site.outputs["kiln"].rearm == "command"
    assert site.inputs["kiln-door"].words == ("closed", "open")


CASES = {
    "a bare number for a pin": ('[output.a]\nkind = "relay"\npin = 9\n', 3, 7, "9 alone is not a pin",
        ["shelf:J2-9 (position 9 of J2, which is line 41)", "shelf:J3-9", "shelf:line-9 (line 9, which comes out on J3-2)"]),
    "a bare number behind a board": ('[output.a]\nkind = "relay"\npin = "shelf:12"\n', 3, 7, "shelf:12 alone is not a pin", ["shelf:J2-12", "J2-6"]),
    "a supply position": ('[output.a]\nkind = "relay"\npin = "shelf:J2-19"\n', 3, 7, "shelf:J2-19 is 3.3 V, not a line", ["shelf:J2-18 (line 22)"]),
    "a line that comes out nowhere": ('[output.a]\nkind = "relay"\npin = "shelf:line-11"\n', 3, 7, "comes out nowhere", ["shelf:J2-11"]),
    "a line beyond the last": ('[output.a]\nkind = "relay"\npin = "rack:line-4"\n', 3, 7, "no line 4", ["0 to 3"]),
    "an unknown board": ('[output.a]\nkind = "relay"\npin = "shelv:J2-9"\n', 3, 7, "no board called 'shelv'", ["Did you mean 'shelf'?"]),
    "an unknown key": ('[output.a]\nkind = "relay"\npin = "shelf:J2-9"\nsens = "active-low"\n', 4, 1, "'sens' is not known for output a", ["Did you mean 'sense'?"]),
    "an unknown kind": ('[output.a]\nkind = "lampe"\npin = "shelf:J2-9"\n', 2, 8, "'lampe' is not one of", ["Did you mean 'lamp'?"]),
    "a missing pin": ('[output.a]\nkind = "relay"\n', 1, 9, "output a has no 'pin'", ["pin = \"board:J2-9\""]),
    "PWM on a pin that has none": ('[output.a]\nkind = "lamp"\npin = "shelf:J2-9"\nfrequency = "800 Hz"\n', 4, 13, "has no PWM", ["J2-14", "J2-6"]),
    "PWM for a relay": ('[output.a]\nkind = "relay"\npin = "shelf:J2-14"\nfrequency = "800 Hz"\n', 4, 13, "a relay is not dimmed", ["kind = \"lamp\""]),
    "a frequency without a unit": ('[output.a]\nkind = "lamp"\npin = "shelf:J2-14"\nfrequency = 800\n', 4, 13, "800 is not a frequency", ["1 kHz"]),
    "a name that is none": ('[output."Kiln Vent"]\nkind = "relay"\npin = "shelf:J2-9"\n', 1, 10, "cannot be a name", ["[output.kiln-vent]"]),
    "an en dash in a pin": ('[output.a]\nkind = "relay"\npin = "shelf:J2–9"\n', 3, 7, "is not a pin", ["Column 16 has an en dash (U+2013): write - instead"]),
    "typographic quotation marks": ('[output.a]\nkind = “relay”\npin = "shelf:J2-9"\n', 2, 8, "typographic quotation mark (U+201C)", ['Write " instead']),
    "a non-breaking space": ('[output.a]\nkind =\u00a0"relay"\npin = "shelf:J2-9"\n', 2, 7, "non-breaking space (U+00A0)", ["a plain space"]),
    "a level for an on/off output": ('[output.a]\nkind = "relay"\npin = "shelf:J2-9"\nrest = "40 %"\n', 4, 8, "a cannot be set to 40 %", ["threshold"]),
    "an unknown supply": ('[output.a]\nkind = "relay"\npin = "shelf:J2-9"\ndraws = { supply = "rail", current = "1 A" }\n', 4, 9, "no supply called 'rail'", ["no supply yet"]),
    "two words that are one": ('[input.a]\nkind = "contact"\npin = "shelf:J3-4"\nwords = ["open"]\n', 4, 9, "not two words", ["closed"]),
    "a name for two things": ('[output.a]\nkind = "relay"\npin = "shelf:J2-9"\n[input.a]\nkind = "contact"\npin = "shelf:J3-4"\n', 4, 8, "'a' is an output already", ["another name"]),
    "an address beyond loopback": ('[service]\nlisten = "0.0.0.0:80"\n', 2, 10, "reachable from elsewhere", ["tls = \"self-made\"", "plain"]),
    "a table twice": ('[output.a]\nkind = "relay"\npin = "shelf:J2-9"\n[output.a]\n', 4, 10, "[output.a] is there twice: first in line", ["another name"]),
}  # fmt: skip


@pytest.mark.parametrize("name", CASES)
def test_an_error_says_where_what_and_what_to_do(name: str, tmp_path: Path) -> None:
    text, line, column, what, remedies = CASES[name]
    found = only(tmp_path, HEAD + text)
    above = HEAD.count("\n")
    assert (found.line - above, found.column) == (line, column), found
    assert what in found.what
    for remedy in remedies:
        assert remedy in found.remedy


def test_a_pin_used_twice_names_both_users(tmp_path: Path) -> None:
    text = (
        HEAD
        + '[output.a]\nkind = "relay"\npin = "shelf:J2-9"\n[input.b]\nkind = "contact"\npin = "shelf:line-41"\n'
    )
    found = only(tmp_path, text)
    assert found.what == "shelf:J2-9 (line 41) is used twice: by output a and by input b"


def test_outputs_that_share_a_timer_share_its_frequency(tmp_path: Path) -> None:
    lamp = '[output.{}]\nkind = "lamp"\npin = "shelf:{}"\nfrequency = "{}"\n'
    text = HEAD + lamp.format("a", "J2-14", "800 Hz") + lamp.format("b", "J2-15", "1 kHz")
    found = only(tmp_path, text)
    assert "b and a share timer T0 of shelf, and so one frequency: a has 800 Hz" in found.what
    (tmp_path / "good.toml").write_text(
        HEAD + lamp.format("a", "J2-14", "800 Hz") + lamp.format("b", "J2-8", "1 kHz")
    )
    assert len(read_site(tmp_path / "good.toml").outputs) == 2


def test_all_errors_come_at_once_past_what_cannot_be_read(tmp_path: Path) -> None:
    """Broken statements are skipped, what they held is not called missing, and the rest is checked too."""
    text = HEAD + (
        "[output.a\nkind = “relay”\npin = 9\n"
        '[output.b]\nkind = "lmp"\npin = “shelf:J2-9”\noops\nwords = ["a",\n  "b"\n'
        '[output.c]\nkind = "relay"\npin = "shelf:J2-77"\n'
    )
    found = errors(tmp_path, text)
    lines = [(finding.line - HEAD.count("\n"), finding.what) for finding in found.findings]
    assert [line for line, _ in lines] == [1, 2, 5, 6, 7, 8, 12]
    assert not any("no 'pin'" in what for _, what in lines)
    shown = found.shown()
    for finding in found.findings:
        assert f"site.toml:{finding.line}:{finding.column}: " in shown
    assert str(found).startswith(f"{tmp_path}/site.toml has 7 errors.")


@pytest.mark.parametrize(
    ("content", "what"), [(b"\xff\xfe", "not UTF-8"), (None, "cannot be read"), (b"", "the file is empty")]
)
def test_a_file_that_is_none(content: bytes | None, what: str, tmp_path: Path) -> None:
    path = tmp_path / "site.toml"
    if content is not None:
        path.write_bytes(content)
    with pytest.raises(CallerError) as caught:
        read_site(path)
    assert what in str(caught.value) + getattr(caught.value, "shown", str)()


# --- the scanner against the parser -----------------------------------------------------------------------

KEYS = st.from_regex(r"[A-Za-z0-9_-]{1,6}", fullmatch=True)
QUOTED = st.text(st.characters(codec="utf-8", exclude_categories=["Cc", "Cs"]), max_size=6)
SCALARS = st.one_of(
    st.integers(-99, 99).map(str), st.booleans().map(lambda each: str(each).lower()), st.just("1979-05-27T07:32:00Z"),
    QUOTED.map(lambda text: '"' + text.replace("\\", "\\\\").replace('"', '\\"') + '"'),
    QUOTED.map(lambda text: "'" + text.replace("'", "") + "'"), QUOTED.map(lambda text: "'''\n" + text.replace("'", "") + "#'''"),
)  # fmt: skip
SPACE = st.sampled_from(["", " ", "  "])


@st.composite
def value(draw: Any, depth: int = 2) -> str:
    kind = draw(st.sampled_from(["scalar", "scalar", "array", "table"])) if depth else "scalar"
    if kind == "array":
        inner = draw(st.lists(value(depth - 1), max_size=3))
        joint = draw(st.sampled_from([",", ", ", ",\n  ", ", # a remark, with ] in it\n"]))
        return "[" + joint.join(inner) + draw(st.sampled_from(["", "\n"])) + "]"
    if kind == "table":
        pairs = draw(st.dictionaries(KEYS, value(0), max_size=3))
        return "{" + ", ".join(f"{key} = {each}" for key, each in pairs.items()) + "}"
    return str(draw(SCALARS))


@st.composite
def documents(draw: Any) -> str:
    lines: list[str] = []
    for number in range(draw(st.integers(1, 4))):
        header = draw(st.sampled_from(["[t{}]", "[t{}.u]", '[ "q {}" . v ]', "[[a]]", "[[a]]\n[a.s{}]"]))
        lines.append(header.format(number))
        for key, each in draw(st.dictionaries(KEYS, value(), max_size=3)).items():
            lines.append(
                f"{draw(SPACE)}{key}{draw(SPACE)}={draw(SPACE)}{each}{draw(st.sampled_from(['', ' # why']))}"
            )
    return "\n".join(lines)


def paths(value: Any, at: tuple[str | int, ...] = ()) -> set[tuple[str | int, ...]]:
    found = {at} if at else set()
    items = value.items() if isinstance(value, dict) else enumerate(value) if isinstance(value, list) else ()
    for key, each in items:
        found |= paths(each, (*at, key))
    return found


@given(documents())
def test_the_scanner_finds_what_the_parser_finds(text: str) -> None:
    try:
        tables = tomllib.loads(text)
    except tomllib.TOMLDecodeError:
        return  # the same key twice in a table of an array, say
    scan = Scan(text)
    implied = {("t0",), ("t1",), ("t2",), ("t3",), ("q 0",), ("q 1",), ("q 2",), ("q 3",)}
    assert paths(tables) - implied == set(scan.marks) - implied
    for path, mark in scan.marks.items():
        found: Any = tables
        for step in path:
            found = found[step]
        if not isinstance(found, dict | list):
            assert tomllib.loads(f"x = {text[mark.value : mark.end]}")["x"] == found
