"""Writes the description of the API as it is to a file: `python tools/describe.py FILE`."""

import json
import sys
from pathlib import Path

from cairnwind.service import calls

Path(sys.argv[1]).write_text(json.dumps(calls.describe("0", "http://localhost")), "utf-8")
