"""Every command of the docs is typed as it stands there, page by page and in its order, on a site as the page has one; what stands below one as its
output is held against what it prints. None of them is only read.
"""

from __future__ import annotations

import os
import re
import shlex
import shutil
import signal
import subprocess
import sys
import time
import tomllib
from collections.abc import Iterator
from pathlib import Path
from typing import Any, NamedTuple

import click
import pytest

from cairnwind import __version__
from cairnwind.cli.main import main
from cairnwind.client import Site
from cairnwind.demo import SITE_FILE
from tests.conftest import CAIRNWIND, ROOT, Demo, Process, cairnwind, spawn

PAGES = [
    "README.md",
    "CONTRIBUTING.md",
    *sorted(f"docs/{each.name}" for each in (ROOT / "docs").glob("*.md")),
]
OWN = ("docs/first-evening.md",)
"""Pages that make a site of their own."""
STAYS = ("serve", "demo", "watch", "hold", "identify", "walk")
"""Commands that go on until they are interrupted."""
READ = {
    # what a machine must have that this one has not
    "firmware load": "a programmer", "firmware ask": "a board", "firmware settle": "a board", "firmware describe": "a board",
    "service install": "root; tools/fresh_machine.py types it", "service remove": "root; tools/fresh_machine.py types it",
    "restore": "no service that runs there; tests/service/test_backups.py", "do": "a terminal, for its prompt",
    "reload": "", "walk": "somebody at the board",
}  # fmt: skip
"""Commands whose lines are read by the command line and not carried out, by their first words, and why."""


class Line(NamedTuple):
    """A command of a page: where it stands, its words, and what stands below it as its output."""

    page: str
    number: int
    text: str
    says: str
    """The remark behind it."""
    output: tuple[str, ...]

    @property
    def words(self) -> list[str]:
        """Without the name of the program."""
        return shlex.split(self.text)[1:]


def lines(page: str) -> Iterator[Line]:
    """The commands in blocks of a page, be they indented or fenced."""
    rows = (ROOT / page).read_text("utf-8").split("\n")
    fenced = False
    for at, row in enumerate(rows):
        if row.lstrip().startswith("```"):
            fenced = not fenced
            continue
        if not (fenced or row.startswith("    ")):
            continue
        found = re.fullmatch(
            r"\s*(\$ )?(cairnwind (?:[^#'\"]|'[^']*'|\"[^\"]*\"|(?<=\S)#)+?)\s*(?:\s#\s?(.*))?", row
        )
        if found is None:
            continue
        output = []
        if found[1]:
            for below in rows[at + 1 :]:
                if not below.strip() or below.lstrip().startswith(("$ ", "```")):
                    break
                output.append(below.strip())
        yield Line(page, at + 1, found[2].replace(" [--fuses]", ""), found[3] or "", tuple(output))


ALL = {page: list(lines(page)) for page in PAGES}


def test_there_are_commands_and_none_is_missed() -> None:
    """What looks like one is one: so many begin so, and all of them were understood."""
    for page, found in ALL.items():
        text = (ROOT / page).read_text("utf-8")
        typed = re.findall(
            r"^(?:    |\t)?(?:\$ )?cairnwind [a-z]", re.sub(r"^(?![ \t`$c]).*$", "", text, flags=re.M), re.M
        )
        assert len(found) >= len([each for each in typed if each.startswith(("    ", "\t"))]), page
    assert sum(map(len, ALL.values())) > 130


EVENTS = """\
BEGIN:VCALENDAR
VERSION:2.0
PRODID:-//a calendar//EN
BEGIN:VEVENT
UID:1@house
DTSTAMP:20261101T000000Z
DTSTART;TZID=Europe/London:20270101T180000
DTEND;TZID=Europe/London:20270101T200000
SUMMARY:turn gallery to 40 %
END:VEVENT
END:VCALENDAR
"""
MARCH = b"MThd\0\0\0\6\0\1\0\2\0\x60" + b"".join(
    b"MTrk" + len(track).to_bytes(4, "big") + track
    for track in (
        b"\0\xff\x51\3\7\xa1\x20\0\xff\x2f\0",
        b"\0\x90\x3c\x40\x30\x80\x3c\x40\0\x90\x40\x40\x30\x80\x40\x40\0\xff\x2f\0",
    )
)
"""A Standard MIDI File of two tracks: a tempo, and two notes."""


@pytest.fixture(scope="module")
def desk(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """A folder with the files that commands of the docs speak of."""
    folder = tmp_path_factory.mktemp("desk")
    text = SITE_FILE.read_text("utf-8")
    (folder / "site.toml").write_text(text, "utf-8")
    (folder / "new.toml").write_text(text.replace('"07:30"', '"08:30"'), "utf-8")
    (folder / "events.ics").write_text(EVENTS.replace("\n", "\r\n"), "utf-8")
    (folder / "march.mid").write_bytes(MARCH)
    (folder / "FILE").write_text("")
    return folder


def read_by_the_command_line(words: list[str]) -> None:
    """Read a command as it would be before anything is done. Raises what Click raises."""
    command: click.Command = main
    context = click.Context(main, info_name="cairnwind")
    rest = list(words)
    while isinstance(command, click.Group):
        taken = (
            command.make_context(command.name, rest, parent=context, ignore_unknown_options=False)
            if command is not main
            else None
        )
        if command is main:
            while rest and rest[0].startswith("--"):  # where the service is
                rest = rest[2:]
        elif taken is not None:
            context, rest = taken, [*taken._protected_args, *taken.args]
        if not rest and command.invoke_without_command:
            return
        name, found, rest = command.resolve_command(context, rest)
        assert found is not None, name
        command = found
    command.make_context(command.name, list(rest), parent=context)


@pytest.mark.parametrize(
    "line",
    [each for found in ALL.values() for each in found],
    ids=lambda each: f"{Path(each.page).stem}:{each.number}",
)
def test_it_is_a_command_with_these_options(line: Line, desk: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """Whatever a line needs to be carried out, it is read as it stands."""
    monkeypatch.chdir(desk)
    read_by_the_command_line(line.words)


INLINE = sorted(
    {each for page in PAGES for each in re.findall(r"`(cairnwind [^`<]+)`", (ROOT / page).read_text("utf-8"))}
)


@pytest.mark.parametrize("text", INLINE)
def test_what_is_named_within_a_sentence_is_there(
    text: str, desk: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """The command and its options; what stands for a name there (NAME, FILE) need not be one."""
    monkeypatch.chdir(desk)
    words = [
        each for each in shlex.split(text.partition(" > ")[0])[1:] if each not in ("…", "[…]", "<command>")
    ]
    try:
        read_by_the_command_line(words)
    except (click.MissingParameter, click.BadParameter):
        pass  # a word that stands for something
    except click.UsageError as error:
        assert isinstance(error, click.exceptions.NoArgsIsHelpError), f"{text}: {error.message}"


def test_what_make_is_asked_for_is_there() -> None:
    rules = set(re.findall(r"^([a-z][a-z-]*):", (ROOT / "Makefile").read_text("utf-8"), re.M))
    asked = {
        word
        for page in PAGES
        for word in re.findall(r"(?:^    |`)make ([a-z][a-z-]+)", (ROOT / page).read_text("utf-8"), re.M)
    }
    assert asked - {"the"} <= rules  # 'make the gallery a bit brighter' is a phrase
    assert len(asked) > 8


def test_what_stands_there_as_toml_is_toml() -> None:
    blocks = [
        each
        for page in PAGES
        for each in re.findall(r"^```toml\n(.*?)^```", (ROOT / page).read_text("utf-8"), re.M | re.S)
    ]
    assert len(blocks) > 20
    for each in blocks:
        assert tomllib.loads(each), each


def test_a_release_is_shown_and_refused_where_something_is_amiss(tmp_path: Path) -> None:
    tree = tmp_path / "tree"
    subprocess.run(["git", "clone", "-q", ROOT, tree], check=True)
    shutil.copy(
        ROOT / "tools" / "release.py", tree / "tools" / "release.py"
    )  # as it is here, committed or not
    subprocess.run(["git", "-C", tree, "add", "-A"], check=True)
    subprocess.run(
        [
            "git",
            "-C",
            tree,
            "-c",
            "user.name=a",
            "-c",
            "user.email=a@b",
            "commit",
            "-qam",
            "as it is",
            "--allow-empty",
        ],
        check=True,
    )

    def release(*words: str) -> subprocess.CompletedProcess[str]:
        return subprocess.run(
            [sys.executable, tree / "tools" / "release.py", *words],
            capture_output=True,
            text=True,
            check=False,
        )

    shown = release(__version__, "--dry")
    assert shown.returncode == 0, shown.stderr
    assert shown.stdout.startswith(f"# Cairnwind {__version__}\n\n")
    assert "pip install --upgrade" in shown.stdout
    wrong = release("9.9.9", "--dry")
    assert wrong.returncode == 1
    assert f"pyproject.toml says that this is {__version__}, not 9.9.9." in wrong.stderr
    (tree / "README.md").write_text("something else")
    assert "not committed" in release(__version__).stderr
    assert (
        not subprocess.run(["git", "-C", tree, "tag"], capture_output=True, text=True, check=True)
        .stdout.strip()
        .endswith(__version__)
    )


def stays(words: list[str]) -> bool:
    """Whether a command goes on until somebody ends it."""
    return (
        words[0] in STAYS
        or (words[0] == "try" and "--for" not in words)
        or "--follow" in words
        or "--sweep" in words
    )


def read_only(words: list[str]) -> bool:
    """Whether a command is not carried out here."""
    first = " ".join(words[:2])
    return (
        first in READ or words[0] == "restore" or words == ["do"] or (words[0] == "walk" and len(words) > 1)
    )


class Typed:
    """A folder in which commands are typed, and the service that they find."""

    def __init__(self, folder: Path, state: str = "") -> None:
        self.folder, self.state = folder, state

    def serve(self, file: str) -> Any:
        """A service of this file, in the state folder that all others find."""
        state = self.folder / "state"
        state.mkdir(exist_ok=True, mode=0o700)
        process = Process(self.folder / file, state)
        self.state = str(state)
        return process

    def type(self, line: Line) -> subprocess.CompletedProcess[str]:
        """Type it; what goes on is interrupted once it has said or done something."""
        words = line.words
        if words[:2] in (["timers", "extend"], ["timers", "cancel"]):
            words[2] = str(Site(state=self.state).timers()[-1]["id"])
        environment = {
            "CAIRNWIND_STATE": self.state,
            "HOME": str(self.folder),
            "NO_COLOR": "1",
            "COLUMNS": "200",
        }
        if not stays(words):
            return cairnwind(
                *words, env=environment, cwd=self.folder, input="4711\n" if words[0] == "code" else "y\n"
            )
        process = spawn(
            CAIRNWIND,
            *words,
            env={**os.environ, **environment},
            cwd=self.folder,
            stdin=subprocess.PIPE,
            stdout=subprocess.PIPE,
            stderr=subprocess.PIPE,
        )
        assert process.stdin is not None
        process.stdin.write("y\n")  # to whoever asks whether nobody is near
        process.stdin.flush()
        time.sleep(2.0)
        if process.poll() is None:
            process.send_signal(signal.SIGINT)
        out, said = process.communicate(timeout=30)
        code = 0 if process.returncode in (0, 130, -signal.SIGINT) else process.returncode
        return subprocess.CompletedProcess(words, code, out, said)


def refused(line: Line) -> bool:
    """Whether the page says that this one is refused."""
    return bool(re.search(r"\brefused\b", line.says)) or any(
        each.startswith("error:") for each in line.output
    )


def check(line: Line, found: subprocess.CompletedProcess[str]) -> None:
    """What it came to is what the page says."""
    where = f"{line.page}:{line.number}: {line.text}\n{found.stdout}{found.stderr}"
    if refused(line):
        assert found.returncode not in (0, 1, 3), where
    elif line.words[0] in ("ask", "look", "doctor"):  # which end with what they found
        assert found.returncode in (0, 1, 2), where
    else:
        assert found.returncode == 0, where
    said = " ".join((found.stdout + found.stderr).split())
    for each in line.output:
        assert " ".join(each.split()) in said, where


@pytest.mark.parametrize("page", OWN)
def test_a_page_that_makes_a_site(page: str, tmp_path: Path) -> None:
    typed = Typed(tmp_path)
    process = None
    for line in ALL[page]:
        if line.words[0] == "demo":
            continue
        if line.words[0] == "serve":
            process = typed.serve(line.words[1])
            continue
        if line.words[:2] == ["key", "pair"]:
            continue
        check(line, typed.type(line))
    assert process is not None
    process.kill()


@pytest.mark.parametrize(
    "page",
    [
        page
        for page, found in ALL.items()
        if page not in OWN and any(not read_only(each.words) for each in found)
    ],
)
def test_a_page_on_the_demo(page: str, tmp_path: Path, desk: Path) -> None:
    demo = Demo(tmp_path)
    typed = Typed(desk, demo.state)
    wrong = []
    for line in ALL[page]:
        if read_only(line.words) or line.words[0] in ("serve", "demo"):
            continue
        try:
            check(line, typed.type(line))
        except AssertionError as error:
            wrong.append(str(error).split("\nassert ")[0])
    assert not wrong, "\n\n".join(wrong)
    demo.end()
