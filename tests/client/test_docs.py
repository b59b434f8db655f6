"""The examples of docs/client.md run, on the demo."""

from __future__ import annotations

import re

import pytest

from tests.conftest import ROOT, Demo

EXAMPLES = re.findall(
    r"## ([^\n]+)\n.*?```python\n(.*?)```",
    "".join((ROOT / "docs" / name).read_text("utf-8") for name in ("client.md", "growing.md")),
    re.S,
)


@pytest.mark.parametrize(("title", "text"), EXAMPLES, ids=[title for title, _ in EXAMPLES])
def test_an_example_runs(title: str, text: str, demo: Demo, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setenv("CAIRNWIND_STATE", demo.state)
    exec(text, {})


def test_there_are_examples_of_everything() -> None:
    assert len(EXAMPLES) >= 6
