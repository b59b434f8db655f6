"""What can be wrong in a site file, where, and what to do about it."""

from __future__ import annotations

from dataclasses import dataclass

from cairnwind.core.values.errors import CallerError


@dataclass(frozen=True, slots=True, order=True)
class Finding:
    """One thing that is wrong: line and column count from 1, ``text`` is what stands there."""

    line: int
    column: int
    text: str
    what: str
    remedy: str


class Findings:
    """Findings of one file, in its order, and how they are shown."""

    def __init__(self, path: str, findings: list[Finding], source: str) -> None:
        self.path = path
        self.findings = tuple(sorted(findings))
        self.lines = source.split("\n")

    def shown(self) -> str:
        """All findings as text: the place, the line, a caret, what is wrong and the remedy."""
        parts = []
        for found in self.findings:
            line = self.lines[found.line - 1] if found.line <= len(self.lines) else ""
            caret = " " * (found.column - 1) + "^" * max(
                1, min(len(found.text), len(line) - found.column + 1)
            )
            parts.append(
                f"{self.path}:{found.line}:{found.column}: {found.what}\n"
                f"    {line}\n    {caret}\n    {found.remedy}"
            )
        return "\n\n".join(parts)


class SiteFileError(Findings, CallerError):
    """A site file with at least one finding. Carries all of them, in the order of the file."""

    def __init__(self, path: str, findings: list[Finding], source: str) -> None:
        Findings.__init__(self, path, findings, source)
        count = len(self.findings)
        CallerError.__init__(
            self,
            "site-file",
            f"{path} has {count} {'error' if count == 1 else 'errors'}.",
            "Nothing was changed; mend the file and try again.",
        )
