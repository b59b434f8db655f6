"""One life of a service, for the recorder: it starts, does what is acknowledged line by line, and ends well or at once.

``python -m tests.power.workload FOLDER LIFE [crash]``; what was asked and what was answered stands in FOLDER/state/told, in order.
"""

from __future__ import annotations

import json
import os
import sys
from pathlib import Path
from typing import Any

from cairnwind.client import Site
from cairnwind.folder import Folder
from cairnwind.service.serve import Service
from cairnwind.site import read_site

TIMES = 3


def main(folder: Path, life: int, *, crash: bool) -> None:
    """Live."""
    service = Service(read_site(folder / "site.toml"), Folder(folder / "state"), 0)
    service.start()
    told = os.open(folder / "state" / "told", os.O_WRONLY | os.O_CREAT | os.O_APPEND, 0o600)

    def tell(word: str, about: str, what: object) -> None:
        os.write(told, f"{json.dumps([word, about, what])}\n".encode())

    def has(about: str, what: object, outcome: Any) -> None:
        tell("has", about, what)
        if sequence := getattr(outcome, "sequence", None) or outcome.get("sequence"):
            tell("has", f"row {sequence}", True)

    there = Site(state=folder / "state")
    tell("has", "key", Folder(folder / "state").key())
    for number in range(TIMES):
        one, last = f"{life}.{number}", f"{life}.{number - 1}"
        on = (life + number) % 2 == 0
        tell("asks", "vent", on)
        has("vent", on, there.turn("vent", "on" if on else "off"))
        tell("asks", f"lockout {one}", True)
        has(f"lockout {one}", True, there.lock("yard", one, "it is mended"))
        if number:
            tell("asks", f"lockout {last}", False)
            has(f"lockout {last}", False, there.unlock("yard", last))
        tell("asks", f"schedule {one}", True)
        has(
            f"schedule {one}",
            True,
            there.add_schedule(**{"name": one, "do": "turn gallery on for 1 min", "from": "06:00"}),
        )
        tell("asks", f"phone {one}", True)
        tell("has", f"phone {one}", there.new_key(f"phone {one}", "watch"))
    if crash:
        os._exit(1)
    service.stop()


if __name__ == "__main__":
    main(Path(sys.argv[1]), int(sys.argv[2]), crash=len(sys.argv) > 3)
