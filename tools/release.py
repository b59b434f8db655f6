"""Makes a release of the tree as it stands: dates its heading in the changelog, builds the packages, writes its page and the sums, commits and tags.

Usage: release.py VERSION [--dry]. Nothing leaves this machine: what is to be pushed is said at the end. `--dry` changes nothing, and prints the page.
"""

from __future__ import annotations

import hashlib
import re
import subprocess
import sys
import tomllib
from datetime import UTC, datetime
from pathlib import Path

ROOT = Path(__file__).parent.parent
CHANGELOG = ROOT / "CHANGELOG.md"
DIST = ROOT / "dist"


def git(*words: str) -> str:
    """What git answers."""
    return subprocess.run(
        ["git", "-C", ROOT, *words], check=True, capture_output=True, text=True
    ).stdout.strip()


def heading(version: str) -> re.Pattern[str]:
    """The heading of a version in the changelog, as long as it is not released."""
    return re.compile(rf"^## {re.escape(version)} \(unreleased\)$", re.M)


def amiss(version: str) -> list[str]:
    """What has to be put right first."""
    found = []
    if git("status", "--porcelain"):
        found.append("The tree has changes that are not committed.")
    said = tomllib.loads((ROOT / "pyproject.toml").read_text("utf-8"))["project"]["version"]
    for where, name in ((said, "pyproject.toml"), (_own(), "src/cairnwind/__init__.py")):
        if where != version:
            found.append(f"{name} says that this is {where}, not {version}.")
    if heading(version).search(CHANGELOG.read_text("utf-8")) is None:
        found.append(f"CHANGELOG.md has no heading '## {version} (unreleased)'.")
    if git("tag", "--list", f"v{version}"):
        found.append(f"There is a tag v{version} already.")
    return found


def _own() -> str:
    text = (ROOT / "src" / "cairnwind" / "__init__.py").read_text("utf-8")
    found = re.search(r'__version__ = "(.+)"', text)
    return found[1] if found else "nothing"


def notes(version: str) -> str:
    """What the changelog says of a version."""
    text = CHANGELOG.read_text("utf-8")
    found = re.search(rf"^## {re.escape(version)} .*?\n(.*?)(?=^## |\Z)", text, re.M | re.S)
    return found[1].strip() if found else ""


def page(version: str, files: list[Path]) -> str:
    """The page of a release: what is new, how to come to it, what it consists of."""
    rows = "\n".join(f"| `{each.name}` | {each.stat().st_size:,} | `{digest(each)}` |" for each in files)
    return (
        f"# Cairnwind {version}\n\n{notes(version)}\n\n## Come to it\n\n    pip install --upgrade cairnwind=={version}\n\n"
        "Then start the service anew. Its database is brought up to date at that start, and what was there before stays beside it; a service of an older version does not take\n"
        "it back ([running.md](docs/running.md#an-upgrade)). `cairnwind backup` before it costs nothing.\n\n"
        f"## Its files\n\n| file | bytes | SHA-256 |\n|---|---|---|\n{rows}\n\n"
        f"Made from commit `{git('rev-parse', 'HEAD')}`; `make package` in that commit makes the same bytes. What was tested, and how: `make test`.\n"
    )


def digest(file: Path) -> str:
    """SHA-256, in hexadecimal."""
    return hashlib.sha256(file.read_bytes()).hexdigest()


def made(version: str) -> list[Path]:
    """The packages of this version that are in `dist/`."""
    return sorted(each for each in DIST.glob(f"cairnwind-{version}*") if each.suffix in (".whl", ".gz"))


def main(version: str, *, dry: bool) -> None:
    """All of it, or the page alone."""
    if found := amiss(version):
        sys.exit("\n".join([*found, "Nothing was done."]))
    if dry:
        print(page(version, made(version)))
        return
    today = datetime.now(UTC).date().isoformat()
    CHANGELOG.write_text(
        heading(version).sub(f"## {version} ({today})", CHANGELOG.read_text("utf-8")), "utf-8"
    )
    git("commit", "-q", "-m", f"Release {version}", "CHANGELOG.md")
    subprocess.run([sys.executable, ROOT / "tools" / "package.py", DIST], check=True)
    files = made(version)
    (DIST / "SHA256SUMS").write_text("".join(f"{digest(each)}  {each.name}\n" for each in files))
    (DIST / f"cairnwind-{version}.md").write_text(page(version, files), "utf-8")
    git("tag", "-a", f"v{version}", "-m", f"Cairnwind {version}")
    print(
        f"Made: commit and tag v{version}; in dist/: {len(files)} packages, SHA256SUMS, cairnwind-{version}.md (the page)."
    )
    print(
        f"To be done by hand: git push --follow-tags; upload the packages; put the page beside the tag v{version}."
    )


if __name__ == "__main__":
    words = [each for each in sys.argv[1:] if each != "--dry"]
    if len(words) != 1:
        sys.exit(str(__doc__))
    main(words[0], dry="--dry" in sys.argv)
