"""What the tests of links share."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

import pytest

from cairnwind.boards.worker import Worker


@pytest.fixture(autouse=True)
def _no_link_outlives_its_test(monkeypatch: pytest.MonkeyPatch) -> Iterator[None]:
    """A test that fails before it closes its link must not fail those after it."""
    opened: list[Worker] = []
    take = Worker.open

    def taken(self: Worker, *facts: Any) -> None:
        opened.append(self)
        take(self, *facts)

    monkeypatch.setattr(Worker, "open", taken)
    yield
    for link in opened:
        link.close()
