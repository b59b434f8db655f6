"""Watches the disk that the journal is on: what may come to hurt is said before it does."""

from __future__ import annotations

import shutil
import statistics
from pathlib import Path

from cairnwind.core.values.quantities import show_size
from cairnwind.store.writer import Writer

LITTLE = (100 * 10**6, 500 * 10**6)
"""Bytes left below which it is said; each is said once."""
SLOW = 0.25
"""Seconds that commits may take before it is said: whoever commands waits so long. Above `Writer`'s own bound they count as failed."""
FEW = 8
"""Commits that tell whether it is slow."""


class DiskWatch:
    """Looks at the disk of a folder, and at how long a writer's commits take."""

    def __init__(self, folder: Path, writer: Writer) -> None:
        self._folder, self._writer = folder, writer

    def look(self) -> str:
        """What there is to say, in words that stay the same while it does; empty: nothing. Not asked while nothing can be written at all."""
        try:
            free = shutil.disk_usage(self._folder).free
        except OSError as error:
            return f"its disk cannot be asked: {error.strerror}"
        low = next((each for each in LITTLE if free < each), None)
        if low is not None:
            return f"its disk has less than {show_size(low)} left"
        times = self._writer.times()
        if len(times) >= FEW and statistics.median(times) > SLOW:
            return f"its disk takes more than {SLOW:g} s for a commit"
        return ""
