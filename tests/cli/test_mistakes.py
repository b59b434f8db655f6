"""Ninety mistakes that beginners make, and what is said of each: what, where, and what to do, by the names that they use.

Those of a file's grammar and of single values are in tests/site/test_reader.py; here are commands, and what only several tables or the
machine make a mistake.
"""

from __future__ import annotations

import shlex
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest

from cairnwind.cli.main import main
from cairnwind.demo import SITE_FILE
from tests.conftest import Running

COMMANDS = """
turn kiln 40%                          | 2 | kiln cannot be set to 40 %: its kind is on/off. | give it a 'threshold'
turn kiln foo                          | 2 | kiln: 'foo' is neither on nor off. | Write on or off.
turn kiln 7,5%                         | 2 | has a comma in its number | Write 7.5%
turn bell 40%                          | 2 | '40%' is neither a pitch nor a frequency. | A4
turn gallery 140%                      | 2 | '140%' is outside 0 to 100 %. | from 0 % to 100 %
turn shelf-colour blurple              | 2 | 'blurple' is no colour. | Did you mean 'purple'?
turn kiln-door on                      | 4 | kiln-door is an input: it is read, and not switched. | cairnwind ask
turn galery on                         | 4 | There is no output called 'galery'. | Did you mean 'gallery'?
turn gallery                           | 2 | Missing argument 'SETTING...'. | cairnwind turn [OPTIONS] OUTPUT SETTING...
turn                                   | 2 | Missing argument 'OUTPUT'. | --help
turn gallery on --for                  | 2 | Option '--for' requires an argument. | --help
turn gallery on --for soon             | 2 | 'soon' is not a time. | 500 ms
turn gallery on --until yesterday      | 2 | 'yesterday' is over already. | a time to come
turn gallery on --for '1 h' --until 22:00 | 2 | Give one of --for, --until and --until-released. | --help
do turn kiln-door on                   | 2 | kiln-door is an input: it is read, and not switched. | Name an output
do turn galery on                      | 2 | There is nothing called 'galery'. | Did you mean 'gallery'?
do turn gallery to 1,500 %             | 2 | '1,500' can be read as 1500 and as 1.500. | 1500, or 1.500
do switch                              | 2 | The phrase is not finished. | Here could stand on
do frobnicate gallery                  | 2 | 'frobnicate' is no verb that is known here. | Say one of turn
pretend gallery on                     | 4 | There is no input called 'gallery'. | Did you mean 'gallery-knob'?
pretend kiln-door ajar                 | 2 | 'ajar' is not a state of kiln-door. | closed or open
pretend kiln-temperature '20 F'        | 2 | '20 F' is neither volts nor °C. | 21 °C
firmware ask --port /dev/ttyUSB9       | 6 | There is no serial port /dev/ttyUSB9. | Ports here
try shelf:J2-99 output                 | 4 | Board shelf has no position J2-99. | Did you mean 'J2-9'?
try shelf:J2-13 output                 | 2 | shelf:J2-13 is ground, not a line. | Lines beside it
try shelf output                       | 2 | 'shelf' is not a pin. | board:J2-9
try shelf:7 output                     | 2 | alone is not a pin | Say which
try nope:J2-1 output                   | 4 | There is no board called 'nope'. | Known: clay-side
try clay-side:line-0 pwm 1kHz 5%       | 5 | clay-side:line-0 belongs to output clay-store. | cairnwind turn clay-store
try clay-side:line-9 pwm 1kHz 5%       | 5 | clay-side:line-9 has no PWM. | No free pin of clay-side has it.
hold nothing                           | 4 | There is no output called 'nothing'. | Known: bell
why kiln-dor                           | 4 | There is no output called 'kiln-dor'. | Did you mean
why kiln --at noonish                  | 2 | 'noonish' is not a time. | yesterday, 10 min ago
ask kiln is hot                        | 2 | 'kiln' is never 'hot'. | It is off or on
ask kiln-dor is open                   | 2 | There is nothing called 'kiln-dor'. | Did you mean 'kiln-door'?
plan add x 'turn gallery on' --from 25:00 | 2 | '25:00' is not a time of day. | 22:30
plan add x 'turn galery on' --from 18:00  | 2 | There is nothing called 'galery'. | Did you mean 'gallery'?
plan drop nothing                      | 4 | There is no schedule called 'nothing'. | Known:
run breathe kiln                       | 2 | kiln: a breathe needs levels between off and on, and it has none. | Blink it
run spin gallery                       | 2 | 'spin' | --help
play nothere                           | 2 | 'nothere' is neither a pitch nor a frequency. | A4
steer trolley 400 0                    | 2 | 400.0 is not in the range | --help
steer nope 0 0                         | 4 | There is no pad called 'nope'. | Known: hoist, trolley
key revoke nobody                      | 4 | There is no key called 'nobody'. | Known:
key new                                | 2 | Missing option '--for'. | --help
lockout gallery                        | 2 | Missing argument 'TAG'. | --help
records nope                           | 4 | There is no input or output called 'nope'. | Known:
records --from 31.12.                  | 2 | '31.12.' is not a time. | 2026-11-23
journal --from 24:77                   | 2 | '24:77' is not a time. | 21:23
look nope                              | 4 | There is no output called 'nope'. | Known:
watch nope                             | 4 | There is no output called 'nope'. | Known:
pins nope                              | 4 | There is no board called 'nope'. | Known: clay-side
wire led                               | 2 | Missing option '--supply'. | --help
wire led --supply 3 --forward '2,1 V' --current 5mA | 2 | '2,1 V' has a comma in its number. | Write 2.1 V.
fit 440 --timer nothing                | 4 | There is no timer called 'nothing'. | Known:
rehearse --from 2026-13-01             | 2 | '2026-13-01' is not a time. | Write it like
timers cancel 99                       | 4 | There is no timer 99; it may be over. | cairnwind timers
code gallery                           | 2 | gallery has no guard. | without a code
reset nothing --by A                   | 4 | There is no trip called 'nothing'. | Known: emergency button
alarms x --acknowledge --by A          | 4 | There is no alarm called 'x'. | Known:
resume x                               | 4 | There is no reflex called 'x'. | Known:
attest gallery --by A                  | 5 | gallery: it is known to be off. | Nothing has to be attested.
editions 99                            | 4 | There is no edition 99. | cairnwind editions
back 99                                | 4 | There is no edition 99. | cairnwind editions
back 1                                 | 2 | Edition 1 is what is served. | cairnwind editions
draft apply                            | 2 | The draft is empty. | --draft
draft take 4                           | 4 | The draft has no change 4. | It is empty.
walk nope                              | 4 | There is no board called 'nope'. | Known:
check /nonexistent                     | 8 | The site file /nonexistent cannot be read | Give the path
new /nonexistent/x.toml --name x       | 8 | The site file /nonexistent/x.toml cannot be written | another path
add output                             | 2 | Which output? No name is given. | Give its name.
add output porch                       | 8 | output porch has no 'kind' | Say what it is: relay
add output porch kind=lamp             | 8 | output porch has no 'pin' | pin = "board:J2-9"
add output porch kind=lamb pin=shelf:J3-9 | 8 | 'lamb' is not one of relay, lamp | Did you mean 'lamp'?
add output porch kind=lamp pin=shelf:J2-9 | 8 | is used twice: by output kiln-vent and by output porch | another pin
add output porch kind=lamp pin=shelf:J3-9 load=7,500W | 8 | '7,500W' can be read as 7500 and as 7.500 | Write 7500W, or 7.500W.
add output 'Porch lamp' kind=lamp pin=shelf:J3-9 | 2 | 'Porch lamp' cannot be a name | give it a label
add output gallery kind=lamp pin=shelf:J3-9 | 5 | There is an output 'gallery' already. | another name
add output porch lamp                  | 2 | 'lamp' is no KEY=VALUE | label="Porch lamp"
add thing x                            | 2 | 'thing' is not one of 'output' | --help
add board b link=simulatd map=header-34 | 8 | 'simulatd' is not one of | Did you mean 'simulated'?
add board b link=expander chip=ports-16 bus=simulated switches=0 | 8 | boards clay-side and b are both at address 0x20 on bus simulated | Set the switches
add interlock 'x' 'needs=kiln-dor is closed' 'outputs=["kiln"]' | 8 | There is nothing called 'kiln-dor' | Did you mean 'kiln-door'?
change output gallery                  | 2 | What is to be otherwise of gallery? | keys with values
change output galery label=x           | 4 | There is no output called 'galery'. | Did you mean 'gallery'?
change output gallery lable=x          | 8 | 'lable' is not known for output gallery | Did you mean 'label'?
rename output gallery                  | 2 | Missing argument 'TO'. | --help
rename output gallery kiln             | 5 | 'kiln' is the name of another output. | another name
remove output gallery                  | 8 | output gallery is still spoken of | in the same draft
remove board nope                      | 4 | There is no board called 'nope'. | Known:
frobnicate                             | 2 | No such command 'frobnicate'. | --help
demo --port 99999999                   | 2 | 99999999 is not in the range | --help
""".strip().split("\n")

BASE = 'site = "x"\n[board.near]\nlink = "simulated"\nmap = "header-34"\n'
CHIP = '[board.{}]\nlink = "expander"\nchip = "ports-16"\nbus = "/dev/i2c-1"\nswitches = 0\n'
LINE = '[board.{}]\nlink = "modbus"\nport = "/dev/ttyUSB0"\nbaud = {}\nunit = {}\n'
SMALL = '[board.s]\nlink = "modbus"\nport = "/dev/ttyUSB0"\n'
FILES = {
    "two chips with the same switches": (CHIP.format("a") + CHIP.format("b"), "boards a and b are both at address 0x20 on bus /dev/i2c-1", "switches"),
    "two units of one number": (LINE.format("a", 9600, 1) + LINE.format("b", 9600, 1), "are both unit 1 on serial port /dev/ttyUSB0", "unit = 2"),
    "two speeds on one line": (LINE.format("a", 9600, 1) + LINE.format("b", 19200, 2), "all there have the same", "the same baud, parity, stop_bits, echo and rs485"),
    "two framings at one address": (LINE.format("a", 9600, 1).replace("/dev/ttyUSB0", "box:502") + LINE.format("b", 9600, 2).replace("/dev/ttyUSB0", "box:502") + 'framing = "rtu"\n', "TCP frames at board a", "the same framing"),
    "a host on a board's line": (SMALL + '[remote.line.host]\nport = "/dev/ttyUSB0"\nkey = "x"\n', "is taken: by board s and by remote host", "another port"),
    "two listeners": ('[remote.modbus]\nlisten = "127.0.0.1:8470"\nclients = { "127.0.0.1" = "x" }\n', "port 8470 is where the service itself listens", "another"),
    "one strip twice": ('[board.a]\nlink = "strip"\ndevice = "/dev/spidev0.0"\nlamps = 8\n[board.b]\nlink = "strip"\ndevice = "/dev/spidev0.0"\nlamps = 8\n', "boards a and b are both the strip", "Join them"),
    "one line of one chip twice": ('[board.a]\nlink = "kernel"\nchip = "gpiochip0"\nlines = 8\n[board.b]\nlink = "kernel"\nchip = "gpiochip0"\nlines = 8\n[output.l]\nkind = "relay"\npin = "a:line-1"\n[output.m]\nkind = "relay"\npin = "b:line-1"\n', "is used twice: by output l and by output m", "another pin"),
    "PWM where a small board has none": (SMALL + '[output.l]\nkind = "lamp"\npin = "s:line-4"\nfrequency = "2 kHz"\n', "s:line-4 has no PWM", "line-14, line-15, line-28, line-29"),
    "a line that is the board's own": (SMALL + '[input.l]\nkind = "contact"\npin = "s:line-8"\n', "is the board's own", "0 to 7, 9 to 23"),
    "tones where there are none": (SMALL + '[output.l]\nkind = "sounder"\npin = "s:line-4"\n', "makes no tones", "s:line-31"),
    "an analogue input where there is none": (SMALL + '[input.l]\nkind = "analogue"\npin = "s:line-14"\n', "has no analogue input", "line-0, line-1"),
    "PWM of a chip without": ('[board.a]\nlink = "expander"\nchip = "ports-16"\nbus = "simulated"\n[output.l]\nkind = "lamp"\npin = "a:line-1"\nfrequency = "2 kHz"\n', "a:line-1 has no PWM", "No line of a has it."),
    "PWM of the kernel without a chip for it": ('[board.a]\nlink = "kernel"\nchip = "gpiochip0"\nmap = "header-34"\n[output.l]\nkind = "lamp"\npin = "a:J2-6"\nfrequency = "2 kHz"\n', "a:J2-6 (line 12) has no PWM", 'pwm = "software"'),
    "a key twice": ('[output.l]\nkind = "lamp"\nkind = "relay"\npin = "near:J2-10"\n', "kind is there twice: first in line 6", "Remove one"),
    "a table of no kind": ('[outptu.l]\npin = "near:J2-10"\n', "'outptu' is not known here", "Did you mean 'output'?"),
}  # fmt: skip


@pytest.fixture(scope="module")
def saltmarsh(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Running]:
    text = SITE_FILE.read_text("utf-8").replace('port = "/dev/ttyUSB0"', 'port = "simulated"')
    found = Running(tmp_path_factory.mktemp("mistakes"), text)
    yield found
    found.end()


def said(capsys: Any, *args: str) -> tuple[int, str]:
    """The exit code, and what stands on stderr."""
    with pytest.raises(SystemExit) as end:
        main.main(list(args), prog_name="cairnwind")
    code = end.value.code
    return int(code) if isinstance(code, int) else 0, capsys.readouterr().err


@pytest.mark.parametrize("line", COMMANDS)
def test_a_mistake_of_a_command(
    line: str, saltmarsh: Running, capsys: Any, monkeypatch: pytest.MonkeyPatch
) -> None:
    command, code, sentence, remedy = (part.strip() for part in line.split(" | "))
    monkeypatch.setenv("COLUMNS", "200")
    before = saltmarsh.site_file.read_text("utf-8")
    found, text = said(capsys, "--state", str(saltmarsh.folder / "state"), *shlex.split(command))
    flat = " ".join(text.split())
    assert sentence in flat, text
    assert remedy in flat, text
    assert (found, text.count("error:")) == (int(code), 1), text
    assert "Traceback" not in text
    assert saltmarsh.site_file.read_text("utf-8") == before, "nothing is half done"


@pytest.mark.parametrize("name", FILES)
def test_a_mistake_of_a_site_file_is_said_once(name: str, tmp_path: Path, capsys: Any) -> None:
    text, what, remedy = FILES[name]
    file = tmp_path / "site.toml"
    file.write_text(BASE + text, "utf-8")
    code, shown = said(capsys, "check", str(file))
    assert code == 8
    assert what in shown, shown
    assert remedy in shown, shown
    assert "has 1 error." in shown, "one wrong thing is one error"


def test_what_is_wrong_with_a_thing_is_not_said_again_wherever_it_is_named(
    tmp_path: Path, capsys: Any
) -> None:
    file = tmp_path / "site.toml"
    file.write_text(
        "\ufeff" + BASE + '[output.l]\nkind = "lamp"\npin = "near:J2-99"\n[output.m]\nkind = "lamp"\npin = "near:J2-10"\n'
        '[group.g]\noutputs = ["l", "m"]\n[quiet]\nfrom = "22:00"\nto = "07:00"\nexcept = ["l"]\n[[interlock]]\nname = "a"\nexcludes = ["l", "m"]\n',
        "utf-8",
    )  # fmt: skip
    code, shown = said(capsys, "check", str(file))
    assert (code, "has 1 error." in shown) == (8, True), shown
    assert "Board near has no position J2-99" in shown


def test_with_json_what_is_wrong_is_a_problem(
    saltmarsh: Running, capsys: Any, monkeypatch: pytest.MonkeyPatch
) -> None:
    import json

    for args, code in ((("turn", "galery", "on", "--json"), "unknown-name"), (("turn", "--json"), "usage")):
        monkeypatch.setattr("sys.argv", ["cairnwind", *args])
        _, text = said(capsys, "--state", str(saltmarsh.folder / "state"), *args)
        problem = json.loads(text)
        assert problem["code"] == code
        assert problem["detail"]
        assert problem["remedy"]


def test_what_could_be_served_and_cannot_be_meant_is_warned_of(
    saltmarsh: Running, tmp_path: Path, capsys: Any
) -> None:
    file = tmp_path / "site.toml"
    file.write_text(
        BASE + '[input.t]\nkind = "analogue"\npin = "near:J3-10"\nscale = [[0, 0], [3.3, 100]]\nunit = "C"\nplausible = [0, 100]\n'
        '[[alarm]]\nname = "hot"\nwhen = "t is above 150"\n[[alarm]]\nname = "warm"\nwhen = "t is above 50"\n'
        '[remote.line.host]\nport = "/dev/ttyUSB0"\nkey = "bench host"\n[remote.line.other]\nport = "/dev/ttyUSB1"\nkey = "first key"\n',
        "utf-8",
    )  # fmt: skip
    with pytest.raises(SystemExit) as end:
        main.main(["--state", str(saltmarsh.folder / "state"), "check", str(file)], prog_name="cairnwind")
    shown = capsys.readouterr().err
    assert end.value.code in (0, None)
    assert "t is plausible from 0 to 100 C, so it is never known to be above 150" in shown
    assert shown.count("is plausible from") == 1, "the other alarm can be"
    assert "remote host carries the key 'bench host', which nobody has made" in shown
    assert "remote other carries" not in shown
