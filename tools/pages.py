"""Writes docs/calls.md (each call, the role that it needs, what it does), docs/commands.md (each command) and docs/site-file.md (each key)."""

from pathlib import Path

from cairnwind.commands.page import table
from cairnwind.service.calls import role_table
from cairnwind.site.page import page

CALLS = """\
# Every call, and the role that it needs

Made from the code by `python tools/pages.py`; a test holds it against the running service. *watch* may look, *operate* may
command, *keep* may also do what only a keeper may. How to call is in [api.md](api.md), every form in `/api/v1/openapi.json`.

"""
COMMANDS = """\
# Every command

Made from the code by `python tools/pages.py`. Each is declared once, in `src/cairnwind/commands`, and is the same by every way in:
by HTTP as it stands here; as a method of the serial line with the same names; as `do/<command>` at the broker; as a method of
the client's `Site`; at the command line, where a word of its own is `cairnwind <command>`. A `?` marks what may be left out.

*First*: it is never counted, shed or overtaken. *Paced*: it is counted by key, and refused in plain words while too much waits.
*operate* is any key that may command its outputs, *keep* a keeper's.

"""

SITE_FILE = """\
# The site file

TOML, UTF-8. `cairnwind check FILE` reads it and shows all errors at once. Quantities are written as people write them, with
their unit: `"800 Hz"`, `"20 ms"`, `"72 mA"`, `"40 %"`. Names are small letters, digits and single hyphens. A pin is `board:J2-9`
(connector and position) or `board:line-41` (the chip's line), never a bare number.

Made from the code by `python tools/pages.py`: each key is declared once, where what it fills is declared. *Words in italics* are
the kinds that have a key, where not all do. `cairnwind look NAME --written` shows what the file says of a thing, and what else it
could say.

"""

Path("docs/site-file.md").write_text(f"{SITE_FILE}{page()}\n", "utf-8")
Path("docs/calls.md").write_text(f"{CALLS}{role_table()}\n", "utf-8")
Path("docs/commands.md").write_text(f"{COMMANDS}{table()}\n", "utf-8")
