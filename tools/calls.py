"""Writes docs/calls.md: each call, the role that it needs, what it does."""

from pathlib import Path

from cairnwind.service.calls import role_table

HEAD = """\
# Every call, and the role that it needs

Made from the code by `python tools/calls.py`; a test holds it against the running service. *watch* may look, *operate* may
command, *keep* may also do what only a keeper may. How to call is in [api.md](api.md), every form in `/api/v1/openapi.json`.

"""

Path("docs/calls.md").write_text(f"{HEAD}{role_table()}\n", "utf-8")
