"""Makes what is installed, into dist/: a source package, a wheel for any machine, and one with the demo's board as a program for this one.

Usage: package.py [DIST]. The console has to be built. Made anew from the same commit they are the same bytes.
"""

from __future__ import annotations

import gzip
import io
import os
import shutil
import subprocess
import sys
import tarfile
import tempfile
from pathlib import Path

ROOT = Path(__file__).parent.parent
BUILT = ("src/cairnwind/service/console", "src/cairnwind/service/help", "src/cairnwind/boards/images/board")
PACKED = (
    "src",
    "CHANGELOG.md",
    "LICENSE",
    "MANIFEST.in",
    "README.md",
    "SECURITY.md",
    "pyproject.toml",
    "setup.py",
)


def git(*words: str) -> str:
    """What git answers."""
    return subprocess.run(["git", "-C", ROOT, *words], check=True, capture_output=True, text=True).stdout


def copied(tree: Path) -> None:
    """Only what belongs to it: what git does not leave out, and what is built from that."""
    files = [each for each in git("ls-files", "-coz", "--exclude-standard", *PACKED).split("\0") if each]
    for each in BUILT:
        path = ROOT / each
        files += [
            str(found.relative_to(ROOT))
            for found in ([path] if path.is_file() else path.rglob("*"))
            if found.is_file()
        ]
    for each in files:
        if (ROOT / each).exists():
            (tree / each).parent.mkdir(parents=True, exist_ok=True)
            shutil.copy(ROOT / each, tree / each)


def built(tree: Path, kind: str, dist: Path) -> str:
    """The name of what the package's own builder has made, in a process of its own: it remembers folders."""
    words = f"from setuptools import build_meta; name = build_meta.build_{kind}({str(dist)!r}); print(); print(name)"
    asked = subprocess.run([sys.executable, "-c", words], cwd=tree, capture_output=True, text=True)
    if asked.returncode:
        sys.exit(asked.stderr.strip().splitlines()[-1])
    return asked.stdout.split()[-1]


def levelled(path: Path, moment: int) -> None:
    """The same archive, by name and of one moment and nobody's."""
    with tarfile.open(path) as had:
        entries = sorted(((each, had.extractfile(each)) for each in had), key=lambda entry: entry[0].name)
        packed = io.BytesIO()
        with tarfile.open(fileobj=packed, mode="w", format=tarfile.PAX_FORMAT) as new:
            for entry, data in entries:
                entry.mtime, entry.uid, entry.gid, entry.uname, entry.gname = moment, 0, 0, "", ""
                entry.mode = 0o755 if entry.isdir() or entry.mode & 0o100 else 0o644
                entry.pax_headers = {}
                new.addfile(entry, data)
    with path.open("wb") as file, gzip.GzipFile("", "wb", fileobj=file, mtime=moment) as out:
        out.write(packed.getvalue())


def main(dist: Path) -> None:
    """All three."""
    os.umask(0o022)
    dist.mkdir(parents=True, exist_ok=True)
    moment = int(git("log", "-1", "--format=%ct"))
    os.environ["SOURCE_DATE_EPOCH"] = str(moment)
    made = []
    with tempfile.TemporaryDirectory() as place:
        tree = Path(place) / "tree"
        tree.mkdir()
        copied(tree)
        for kind in ("sdist", "wheel", "plain"):
            shutil.rmtree(tree / "build", ignore_errors=True)
            if kind == "plain":
                (tree / BUILT[-1]).unlink(missing_ok=True)
            made.append(dist / built(tree, "sdist" if kind == "sdist" else "wheel", dist))
    levelled(made[0], moment)
    for path in dict.fromkeys(made):
        print(f"{path.stat().st_size:>10,} bytes  {path.name}")


if __name__ == "__main__":
    main(Path(sys.argv[1] if len(sys.argv) > 1 else ROOT / "dist").absolute())
