"""What a check says of volts, currents and the moment before software; maps and profiles as users write them."""

from __future__ import annotations

import tempfile
from fractions import Fraction
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from cairnwind.boards import maps, profiles
from cairnwind.core.physics import wiring
from cairnwind.core.values.errors import CallerError
from cairnwind.site import SiteFileError, held
from cairnwind.site.checked import check_site
from cairnwind.site.reader import read_site, read_text
from tests.conftest import faults

HEAD = 'site = "Bench"\n[board.shelf]\nlink = "simulated"\nmap = "header-34"\n'


def checked(folder: Path, text: str) -> tuple[list[str], list[str]]:
    """Errors and warnings, each with its remedy."""
    file = folder / "site.toml"
    file.write_text(HEAD + text, "utf-8")
    try:
        _, warnings, _ = check_site(file)
    except SiteFileError as error:
        return [f"{found.what}. {found.remedy}" for found in error.findings], []
    return [], [f"{found.what}. {found.remedy}" for found in warnings.findings]


@given(
    st.fractions(min_value=1, max_value=60, max_denominator=10),
    st.fractions(min_value=Fraction(1, 2), max_value=1, max_denominator=100),
)
def test_a_divider_never_gives_more_than_the_pin_bears(source: Fraction, share: Fraction) -> None:
    pin = source * share
    upper, lower, at_pin = wiring.divider(source, pin)
    assert at_pin == source * lower / (upper + lower)
    assert at_pin <= pin
    assert at_pin > pin * Fraction(65, 100), "and not much less either: the next value of the series"
    assert (
        any(upper == number * Fraction(10) ** decade for number in wiring.E12 for decade in range(-1, 7))
        or upper == 0
    )


@given(st.fractions(min_value=1000, max_value=10**6, max_denominator=1))
def test_a_bias_resistor_wins_over_the_pins_own_pull(pull: Fraction) -> None:
    ohms, share = wiring.bias(pull)
    assert share == pull / (pull + ohms) >= wiring.HIGH_SHARE


def test_an_input_that_gets_too_much_is_refused_with_its_divider(tmp_path: Path) -> None:
    (error,), _ = checked(tmp_path, '[input.x]\nkind = "contact"\npin = "shelf:J3-4"\nsource = "5 V"\n')
    assert "shelf:J3-4 (line 19) bears 3.6 V, and the source of x puts 5 V on it" in error
    assert "5.6 kohm from the source to the pin and 10 kohm from the pin to ground" in error
    assert "= 3.21 V" in error
    assert checked(tmp_path, '[input.x]\nkind = "contact"\npin = "shelf:J3-4"\nsource = "3.21 V"\n') == (
        [],
        [],
    )


@pytest.mark.parametrize(
    ("more", "said"),
    [
        (
            'pin = "shelf:J2-7"',
            "is pulled up before software runs, which turns x on. Fit 12 kohm from the pin to ground",
        ),
        ('pin = "shelf:J2-7"\nsense = "active-low"', ""),
        ('pin = "shelf:J2-7"\nsense = "active-low"\ncontact = "normally-closed"', "which turns x on"),
        (
            'pin = "shelf:J2-18"',
            "floats before software runs, so x may be half on. Fit 10 kohm from the pin to ground",
        ),
        ('pin = "shelf:J2-18"\nsense = "active-low"', "Fit 10 kohm from the pin to the pin's supply"),
        ('pin = "shelf:J2-7"\nbias = "12 kohm down"', ""),
        ('pin = "shelf:J2-7"\nbias = "47 kohm down"', "which turns x on"),
        ('pin = "shelf:J2-7"\nbias = "12 kohm up"', "which turns x on"),
    ],
)
def test_the_moment_before_software(more: str, said: str, tmp_path: Path) -> None:
    errors, warnings = checked(tmp_path, f'[output.x]\nkind = "relay"\n{more}\n')
    assert errors == []
    assert (said in warnings[0]) if said else not warnings, warnings


def test_currents_of_a_pin_a_bank_and_a_header(tmp_path: Path) -> None:
    (one,), _ = checked(tmp_path, '[output.x]\nkind = "relay"\npin = "shelf:J2-9"\ngives = "15 mA"\n')
    assert "shelf:J2-9 (line 41) gives at most 12 mA, and x takes 15 mA" in one
    many = "".join(
        f'[output.x{n}]\nkind = "relay"\npin = "shelf:J2-{n}"\ngives = "12 mA"\n' for n in (3, 4, 7, 9)
    )
    (bank,), _ = checked(tmp_path, many)
    assert "bank high of shelf may give 40 mA: x3 12 mA + x4 12 mA + x7 12 mA + x9 12 mA = 48 mA" in bank


def test_a_users_own_map_and_profile_beside_the_site_file(tmp_path: Path) -> None:
    maps.write(tmp_path / "maps" / "mine.toml", 'Learned from "x"', {"K1": {1: (5, "lamp"), 3: (9, "")}})
    (tmp_path / "profiles").mkdir()
    (tmp_path / "profiles" / "mine.toml").write_text(
        "lines = 8\nbase = 0x70\nswitches = 2\n[register]\noutput = 1\n"
    )
    text = '[board.b]\nlink = "simulated"\nmap = "mine"\n[board.c]\nlink = "expander"\nchip = "mine"\nbus = "simulated"\nswitches = 3\n'
    assert checked(
        tmp_path,
        text + '[output.x]\nkind = "lamp"\npin = "b:K1-3"\n[output.y]\nkind = "lamp"\npin = "c:line-7"\n',
    ) == ([], [])
    site, _, _ = check_site(tmp_path / "site.toml")
    assert (site.outputs["x"].pin.line, site.boards["c"].facts.address) == (9, 0x73)
    ((error), *_), _ = checked(tmp_path, text + '[output.x]\nkind = "lamp"\npin = "b:line-3"\n')
    assert "Position K1-3 was perhaps meant" in error
    ((error), *_), _ = checked(
        tmp_path, text + '[output.y]\nkind = "lamp"\npin = "c:line-1"\nfrequency = "1 kHz"\n'
    )
    assert "c:line-1 has no PWM" in error


@pytest.mark.parametrize(
    ("text", "said"),
    [
        ("[J1]\n1 = { line = 3 }\n2 = { line = 3 }", "line 3 is at J1-1 and at J1-2"),
        ("[J1]\n1 = { lines = 3 }", "J1-1 is no position"),
        ('[J1]\n1 = { line = 3, power_on = "warm" }', "J1-1 is 'warm' at power-on"),
        ('[J1]\n1 = { line = 3, volts = "3 A" }', "'3 A' is not a voltage"),
        ('[J1]\n1 = { line = 3, bank = "x" }', "no bank called 'x'"),
        ("[J1]\nx = { line = 3 }", "J1 has a position 'x'"),
        ("[J1", "cannot be read"),
    ],
)
def test_a_map_that_is_wrong_says_where(text: str, said: str, tmp_path: Path) -> None:
    (tmp_path / "bad.toml").write_text(text)
    with pytest.raises(CallerError) as caught:
        maps.read(tmp_path / "bad.toml")
    assert said in caught.value.sentence


def test_every_shipped_profile_can_be_read() -> None:
    kinds = {}
    for name in profiles.names():
        try:
            kinds[name] = profiles.chip(name).kind
        except CallerError:
            kinds[name] = f"{profiles.relays(name).lines} relays"
    assert kinds == {
        "ports-8": "ports", "ports-16": "ports", "pwm-16": "pwm", "relays-8": "8 relays", "relays-4-analogue": "4 relays",
    }  # fmt: skip


@pytest.mark.parametrize(
    ("table", "said"),
    [
        ('link = "kernel"\nlines = 8', "has no 'chip'"),
        ('link = "expander"\nchip = "ports-16"', "has no 'bus'"),
        ('link = "expander"\nchip = "ports-17"\nbus = "simulated"', "Did you mean 'ports-16'?"),
        (
            'link = "expander"\nchip = "ports-16"\nbus = "simulated"\nswitches = 8',
            "not a whole number from 0 to 7",
        ),
        ('link = "modbus"\nport = "COM 3"', "is not a port"),
        ('link = "modbus"\nport = "/dev/ttyUSB0"\nbaud = 12345', "is not one of the values possible"),
        ('link = "modbus"\nport = "/dev/ttyUSB0"\nbus = "x"', "'bus' is not known for board b"),
        (
            'link = "broker"\nlines = 2\ncommand = { topic = "a/{line}", on = "1", off = "0" }',
            "Say where the broker is",
        ),
        (
            'link = "broker"\nlines = 2\ncommand = { topic = "a/+/{line}", on = "1", off = "0" }',
            "has a wildcard",
        ),
        ('link = "kernel"\nchip = "sim0"\npwm = "pwm/0"', "'pwm/0' is no such device"),
    ],
)
def test_a_board_that_lacks_something_says_what(table: str, said: str, tmp_path: Path) -> None:
    errors, _ = checked(tmp_path, f"[board.b]\n{table}\n")
    assert any(said in error for error in errors), errors


@given(st.dictionaries(st.integers(0, 60), st.one_of(st.sampled_from(["P8_11", "P8_12", "J2-9", "SDA", "GPIO 17", "P8_0", ""]), st.text("ABc1 _-.\"\\", max_size=8)), max_size=8))  # fmt: skip
def test_a_map_of_the_names_of_lines_can_be_read_and_has_each_once(names: dict[int, str]) -> None:
    found = maps.of_names(sorted(names.items()))
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "own.toml"
        maps.write(path, "by names", found)
        read = maps.read(path)
    there = {line: position.title for line, position in read.lines.items()}
    assert there.items() <= {line: name for line, name in names.items() if name}.items()
    unique = {line for line, name in names.items() if name and [*names.values()].count(name) == 1}
    places = [position.name for position in read.positions.values()]
    assert len(places) == len(set(places)) == len(there)
    if all(name in ("P8_11", "P8_12", "J2-9", "SDA", "GPIO 17", "") for name in names.values()):
        assert there.keys() >= unique
        assert "P8_11" not in names.values() or "P8-11" in read.positions


ENABLED = """
[board.host]
link = "kernel"
chip = "soc"
map = "header-34"
[board.chain]
link = "expander"
chip = "ports-8"
bus = "simulated"
enable = {enable}
[output.x]
kind = "relay"
pin = "chain:line-0"
"""


@pytest.mark.parametrize(
    ("enable", "more", "said"),
    [
        ('"chain:line-1"', "", "board chain cannot enable itself"),
        ('"shelf:J2-9"', "", "shelf:J2-9 is of a board whose link is simulated, and only lines of the kernel"),
        ('"host:J2-99"', "", "Board host has no position J2-99"),
        ("5", "", "5 is not what enables a board"),
        ('{ pin = "host:J2-9", sens = "active-low" }', "", "'sens' is not known of an enable line. Did you mean 'sense'"),
        ('{ pin = "host:J2-9", switches = "all" }', "", "'all' is not one of outputs, supply"),
        ('"host:J2-9"', '[output.y]\nkind = "relay"\npin = "host:J2-9"\n', "used twice: by board chain and by output y"),
        ('"host:J2-9"', '[board.b]\nlink = "expander"\nchip = "ports-8"\nbus = "/dev/i2c-9"\nenable = "host:J2-9"\n', "enables board chain already"),
    ],
)  # fmt: skip
def test_what_cannot_enable_a_board(tmp_path: Path, enable: str, more: str, said: str) -> None:
    errors, _ = checked(tmp_path, ENABLED.replace("{enable}", enable) + more)
    assert any(said.lower() in each.lower() for each in errors), errors


def test_what_an_enable_line_leaves_on_is_warned_of(tmp_path: Path) -> None:
    text = ENABLED.replace("{enable}", '{ pin = "host:J2-9", bias = "12 kohm down" }')
    assert checked(tmp_path, text) == ([], [])
    _, (floats,) = checked(tmp_path, text.replace(', bias = "12 kohm down"', ""))
    assert "is pulled up before software runs, which turns board chain on" in floats
    assert "12 kohm from the pin to ground" in floats
    _, (safe,) = checked(tmp_path, text + 'safe = "on"\n')
    assert (
        "x is safe when it is on, and host:J2-9 (line 41), which enables board chain, leaves it off" in safe
    )
    _, (contact,) = checked(tmp_path, text + 'contact = "normally-closed"\n')
    assert "leaves it on" in contact
    _, (kept,) = checked(tmp_path, text + 'on_stop = "keep"\n')
    assert "goes off then" in kept


HELD = """
site = "Bench"
[board.host]
link = "kernel"
chip = "soc"
map = "header-34"
[board.chain]
link = "expander"
chip = "ports-8"
bus = "/dev/i2c-1"
[board.dimmer]
link = "expander"
chip = "pwm-16"
bus = "/dev/i2c-2"
[board.box]
link = "modbus"
port = "/dev/ttyUSB0"
[board.near]
link = "simulated"
lines = 4
[board.bought]
link = "modbus"
port = "/dev/ttyUSB1"
profile = "relays-8"
[output.x]
kind = "relay"
"""


@pytest.mark.parametrize(
    ("x", "enable", "then", "missing"),
    [
        ('pin = "host:J2-9"\nsense = "active-low"', "", (True, True, True), ""),  # which its own pull-up has off
        ('pin = "host:J2-9"', "", (False, False, False), "Fit 12 kohm from host:J2-9 to ground"),
        ('pin = "host:J2-9"\nbias = "12 kohm down"', "", (True, True, True), ""),
        ('pin = "host:J2-9"\nbias = "100 kohm down"', "", (False, False, False), "Fit 12 kohm"),  # too weak
        ('pin = "host:J2-9"\nsense = "active-low"\nbias = "12 kohm down"', "", (False, False, False), ""),  # the wrong way
        ('pin = "chain:line-0"', "", (True, False, False), "Give board chain an enable line"),
        ('pin = "chain:line-0"\nbias = "10 kohm down"', "", (True, False, True), "Give board chain an enable line"),
        ('pin = "chain:line-0"', '{ pin = "host:J2-9", bias = "12 kohm down" }', (True, True, True), ""),
        ('pin = "chain:line-0"', '{ pin = "host:J2-9", sense = "active-low" }', (True, True, True), ""),
        ('pin = "chain:line-0"', '"host:J2-9"', (False, False, False), ""),  # whose pull-up enables it
        ('pin = "chain:line-0"\ncontact = "normally-closed"', '{ pin = "host:J2-9", bias = "12 kohm down" }', (False, False, False), ""),
        ('pin = "dimmer:line-0"', "", (True, False, True), "Give board dimmer an enable line"),
        ('pin = "dimmer:line-0"\nsense = "active-low"', "", (True, False, False), "Give board dimmer an enable line"),
        ('pin = "host:J2-9"\nresets = "host:J2-11"', "", (True, True, False), ""),
        ('pin = "near:line-1"\nresets = "near:line-2"', "", (True, False, False), ""),  # where nobody ends it
        ('pin = "box:line-3"', "", (True, True, False), "Fit 10 kohm from box:line-3 to ground"),
        ('pin = "bought:line-0"', "", (True, False, True), "Give board bought an enable line"),
        ('pin = "bought:line-0"\ncontact = "normally-closed"', "", (True, False, False), "Give board bought an enable line"),
    ],
)  # fmt: skip
def test_what_has_an_output_when_the_service_does_not(
    x: str, enable: str, then: tuple[bool, ...], missing: str
) -> None:
    text = HELD + x
    if enable:
        text = text.replace('bus = "/dev/i2c-1"', f'bus = "/dev/i2c-1"\nenable = {enable}')
    (found,) = held.held(read_text(text, "site.toml"))
    assert (found.stop.safe, found.killed.safe, found.power.safe) == then, found
    assert missing in found.remedy
    assert bool(held.in_words([found])) == (False in then)
    assert held.read(found.form) == found


def test_an_own_chip_has_an_own_timer(tmp_path: Path) -> None:
    """Ten bits and three prescalers: of 8 MHz, 1 kHz is a thousand counts, and 10 kHz eight hundred; it can do no 5 Hz."""
    for folder, text in (
        ("chips/mine.toml", 'title = "Mine"\nlines = 8\ntimers = [[4, 5]]\nclock = "ten"\n'),
        ("timers/ten.toml", 'title = "Ten bits"\nclock = "8 MHz"\nprescalers = [1, 8, 64]\nwidth = 10\n'),
    ):
        (tmp_path / folder).parent.mkdir()
        (tmp_path / folder).write_text(text)
    site = (
        'site = "x"\n[board.b]\nlink = "modbus"\nport = "/dev/ttyUSB9"\nchip = "mine"\n'
        '[output.lamp]\nkind = "lamp"\npin = "b:line-4"\nfrequency = "HERTZ"\n'
    )

    def steps(hertz: str) -> int:
        file = tmp_path / "site.toml"
        file.write_text(site.replace("HERTZ", hertz))
        return read_site(file).outputs["lamp"].steps

    assert faults(tmp_path, site.replace("HERTZ", "1 kHz")) == ""
    assert (steps("1 kHz"), steps("10 kHz")) == (1000, 800)
    assert "5 Hz" in faults(tmp_path, site.replace("HERTZ", "5 Hz"))
    (tmp_path / "timers" / "ten.toml").unlink()
    assert "describes no chip: There is no timer called 'ten'" in faults(tmp_path, site)
