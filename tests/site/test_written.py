"""What the site file may say is declared once: read, checked, documented and shown from that; a kind of link is one file."""

from __future__ import annotations

import tomllib
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest

from cairnwind.boards import doctor, kinds, links
from cairnwind.core.facts.outputs import OUTPUT_KEYS
from cairnwind.core.values.errors import CallerError
from cairnwind.demo import SITE_FILE
from cairnwind.site import SiteFileError, read_site
from cairnwind.site.page import page, tables
from cairnwind.site.written import written
from tests.conftest import Running

HEADED = ['site = "x"', "[board.near]", 'link = "simulated"', "lines = 8", "[output.it]"]
KEYS = [(table.head, key) for table in tables() for key in table.keys]


def value(text: str) -> Any:
    """A value of the site file."""
    return tomllib.loads(f"it = {text}")["it"]


@pytest.mark.parametrize(
    ("head", "key"), [pytest.param(head, key, id=f"{head} {key.name}") for head, key in KEYS if key.unsaid and key.read]
)  # fmt: skip
def test_what_the_docs_say_of_what_is_not_written_is_what_holds(head: str, key: Any) -> None:
    assert key.read(value(key.unsaid)) == key.default, f"{head} {key.name}"


def test_what_is_shown_of_a_thing_is_what_stands_in_the_file() -> None:
    site, tables = read_site(SITE_FILE), tomllib.loads(Path(SITE_FILE).read_text("utf-8"))
    for group in ("output", "input", "board"):
        for name, table in tables[group].items():
            head, found = written(site, name)
            shown = {key.name: value(text) for key, text in found if text is not None}
            assert (head, shown) == (f"{group}.{name}", table)
    with pytest.raises(CallerError, match="no output, input or board called 'galery'") as error:
        written(site, "galery")
    assert "'gallery'" in error.value.remedy


COPPER = '''
"""Boards at the end of a copper wire."""

from cairnwind.boards.kinds import Kind
from cairnwind.boards.links.simulated import SimulatedLink
from cairnwind.core.values import entries
from cairnwind.core.values.fact import fact
from cairnwind.core.values.keys import written


@fact
class Copper:
    """What is known of the wire."""

    length: int = written("how long it is, in metres", lambda value: entries.whole(value, 1, 99), needed="Say length = 3.")
    gauge: str = written("how thick it is", entries.text, default="thin", unsaid='"thin"')
    pairs = 4

    def dims(self, line: int) -> bool:
        return line < self.pairs


class CopperLink(SimulatedLink):
    """A wire that is simulated."""


KIND = Kind("a board at the end of a copper wire", lambda board, _: CopperLink(board), Copper, lines=lambda its: 8)
'''
BOARD = """
site = "Copper"
[board.near]
link = "copper"
length = 3
[output.lamp]
kind = "lamp"
pin = "near:line-2"
[output.pump]
kind = "relay"
pin = "near:line-7"
"""


@pytest.fixture
def copper(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Iterator[None]:
    """One file more among the links."""
    (tmp_path / "more").mkdir()
    (tmp_path / "more" / "copper.py").write_text(COPPER, "utf-8")
    monkeypatch.setattr(links, "__path__", [*links.__path__, str(tmp_path / "more")])
    kinds.names.cache_clear()
    yield
    monkeypatch.undo()
    kinds.names.cache_clear()


@pytest.mark.usefixtures("copper")
def test_a_new_kind_of_link_is_one_file(tmp_path: Path) -> None:
    running = Running(tmp_path, BOARD)
    try:
        running.site.turn("lamp", "40 %")
        running.site.turn("pump", "on")
        assert [each["driven"]["words"] for each in running.site.outputs()] == ["40 %", "on"]
        shown = {key["name"]: (key["value"], key["unsaid"]) for key in running.site.written("near")["keys"]}
        assert (shown["length"], shown["gauge"]) == (("3", ""), (None, '"thin"'))
        looked = running.cli("look", "near", "--written")
        assert "how long it is, in metres" in looked.stdout
        assert any(
            "nothing of this machine" in each.what for each in doctor.examine(read_site(running.site_file))
        )
    finally:
        running.end()
    assert '### `[board.NAME]` with `link = "copper"`' in page()
    bad = tmp_path / "bad.toml"
    bad.write_text(BOARD.replace("length = 3", 'length = 300\nguage = "fat"'), "utf-8")
    with pytest.raises(SiteFileError) as error:
        read_site(bad)
    assert [(found.line, found.column) for found in error.value.findings] == [(5, 10), (6, 1)]
    assert "Did you mean 'gauge'?" in error.value.shown()


def test_every_key_of_an_output_is_refused_where_its_value_is_nonsense(tmp_path: Path) -> None:
    """One table with all keys of its kind, each with a value that cannot be any of them."""
    for kind in ("lamp", "fan", "motor", "colour-lamp", "relay"):
        names = [
            key.name
            for key in OUTPUT_KEYS
            if key.of(kind) and key.name not in ("kind", "pin", "lamps", "pins")
        ]
        lines = [f"{name} = 1970-01-01" for name in names]
        file = tmp_path / "site.toml"
        file.write_text("\n".join([*HEADED, f'kind = "{kind}"', 'pin = "near:line-1"', *lines]), "utf-8")
        with pytest.raises(SiteFileError) as error:
            read_site(file)
        assert {found.line for found in error.value.findings} >= set(
            range(len(HEADED) + 3, len(HEADED) + 3 + len(names))
        )
