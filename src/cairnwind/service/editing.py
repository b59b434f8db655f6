"""Changes of the site from any surface: at once, or gathered in a draft that is looked at, rehearsed, applied or dropped.

A draft belongs to a key. It is a list of changes on top of the edition that it was begun on, so that nothing of what others apply
meanwhile is overwritten: it is applied to what they made of it, by whoever has seen that.
"""

from __future__ import annotations

import tomllib
from collections.abc import Callable, Iterable, Sequence
from typing import NamedTuple

from msgspec import ValidationError, convert, to_builtins

from cairnwind.core.facts import events as ev
from cairnwind.core.facts.claims import Source
from cairnwind.core.facts.difference import Names
from cairnwind.core.language import schedules
from cairnwind.core.values.errors import CallerError
from cairnwind.service.editions import Editions, Origin
from cairnwind.service.reloading import Reloading, Served
from cairnwind.service.startup import clock
from cairnwind.site import rows
from cairnwind.site.drafting import Preview, difference_of, preview
from cairnwind.site.editing import edited
from cairnwind.site.edits import Edit
from cairnwind.site.renaming import followed
from cairnwind.store import reader
from cairnwind.store.writer import Row, Writer, form

MOST = 500
"""Changes of a draft."""
NAMED = ("code", "usage", "reading", "place", "key")
"""What the store keeps by the name of an output or an input."""


class Draft(NamedTuple):
    """Changes of one person that are not applied yet."""

    base: int
    """The edition that they were begun on."""
    changes: tuple[Edit, ...]
    wall: int
    """When it was changed last, in nanoseconds UTC."""


class Editing:
    """Drafts, and what is applied of them."""

    def __init__(self, served: Served, reloading: Reloading, store: reader.Reader, writer: Writer) -> None:
        self._served, self._reloading, self._store, self._writer = served, reloading, store, writer

    @property
    def editions(self) -> Editions:
        """What was applied so far."""
        return self._reloading.editions

    # --- drafts -------------------------------------------------------------------------------------------

    def draft(self, owner: str) -> Draft:
        """The draft of a person; a new one is empty."""
        found = self._store.draft(owner)
        if found is None:
            return Draft(self.editions.number, (), clock().wall)
        try:
            return Draft(found.base, tuple(convert(found.form, list[Edit])), found.wall)
        except ValidationError:
            return Draft(self.editions.number, (), clock().wall)  # of a version that knew other changes

    def others(self, owner: str) -> list[str]:
        """Who else has a draft."""
        return [name for name, _ in self._store.drafts() if name != owner]

    def add(self, source: Source, changes: Sequence[Edit]) -> ev.Outcome:
        """Add to the draft of whoever asks. Raises `CallerError` where a change cannot be, and then none is added."""
        draft = self.draft(source.who)
        text = edited(self._reloading.file[1], draft.changes)
        edited(text, changes)
        if len(draft.changes) + len(changes) > MOST:
            raise CallerError("too-large", f"A draft has {MOST} changes at most.", "Apply it, then go on.")
        base = draft.base if draft.changes else self.editions.number
        self._put(source.who, base, (*draft.changes, *changes))
        return self._said(f"in the draft: {'; '.join(each.words for each in changes)}")

    def take_out(self, source: Source, number: int) -> ev.Outcome:
        """Take one change out of the draft, by its number from 1."""
        draft = self.draft(source.who)
        if not 1 <= number <= len(draft.changes):
            count = len(draft.changes)
            raise CallerError(
                "unknown-name", f"The draft has no change {number}.", f"It has {count}: cairnwind draft." if count else "It is empty."
            )  # fmt: skip
        gone = draft.changes[number - 1]
        left = draft.changes[: number - 1] + draft.changes[number:]
        edited(self._reloading.file[1], left)  # what stays must not need it
        if left:
            self._put(source.who, draft.base, left)
        else:
            self._drop(source.who)
        return self._said(f"no longer in the draft: {gone.words}")

    def drop(self, source: Source) -> ev.Outcome:
        """Forget the draft."""
        count = len(self.draft(source.who).changes)
        self._drop(source.who)
        return self._said(
            f"the draft is dropped: {count} {'change' if count == 1 else 'changes'}"
            if count
            else "there was no draft"
        )

    def _put(self, owner: str, base: int, changes: Iterable[Edit]) -> None:
        self._writer.put_and_wait([("draft", (owner, base, form(to_builtins(list(changes))), clock().wall))])

    def _drop(self, owner: str) -> None:
        self._writer.put_and_wait([("no draft", (owner,))])

    def _said(self, text: str) -> ev.Outcome:
        return ev.Outcome("", 0, "driving", "", text)

    # --- seen before --------------------------------------------------------------------------------------

    def preview(self, changes: Sequence[Edit]) -> Preview:
        """What changes would come to. Raises `CallerError` where one cannot be."""
        path, text = self._reloading.file
        after, names = edited(text, changes), renamed(changes, text)
        return preview(path, text, after, lambda: self._reloading.would_rewire(after, names))

    def since(self, base: int) -> str:
        """What others have applied since an edition, as a unified diff; empty: nothing."""
        if base == self.editions.number:
            return ""
        now = self.editions.find(self.editions.number)
        return difference_of(
            self.editions.find(base).text, now.text, (f"edition {base}", f"edition {now.number}")
        )

    # --- applied ------------------------------------------------------------------------------------------

    def change(self, source: Source, changes: Sequence[Edit], reason: str) -> ev.Outcome:
        """Apply changes at once."""
        said = reason or "; ".join(each.words for each in changes)[:500]
        return self._apply(source, changes, Origin(source.who, "edit", said))

    def apply(self, source: Source, reason: str, seen: int | None) -> ev.Outcome:
        """Apply the draft of whoever asks. ``seen``: the edition that they have seen it on; the one that it was begun on unless said."""
        draft = self.draft(source.who)
        if not draft.changes:
            raise CallerError(
                "bad-value",
                "The draft is empty.",
                "Put something into it: cairnwind add output NAME … --draft.",
            )
        said = reason or "; ".join(each.words for each in draft.changes)[:500]
        outcome = self._apply(
            source, draft.changes, Origin(source.who, "draft", said), draft.base if seen is None else seen
        )
        if outcome.outcome not in ("refused", "not recorded"):
            self._drop(source.who)
        return outcome

    def back(self, source: Source, number: int, reason: str) -> ev.Outcome:
        """Have the site file as it was at an edition."""
        then = self.editions.find(number)
        if number == self.editions.number:
            raise CallerError("bad-value", f"Edition {number} is what is served.", "See: cairnwind editions.")
        said = f"back to edition {number}{f': {reason}' if reason else ''}"
        names = renamed_back(
            list(each.names.items()) for each in reversed(self._store.renames()) if each.edition > number
        )
        return self._changed(source, lambda _: then.text, Origin(source.who, "back", said), names)

    def _apply(
        self, source: Source, changes: Sequence[Edit], origin: Origin, seen: int | None = None
    ) -> ev.Outcome:
        try:
            names = renamed(changes, self._reloading.file[1])
            return self._changed(source, lambda text: edited(text, changes), origin, names, seen)
        except CallerError as error:
            gone = next(
                (
                    each
                    for each in changes
                    if each.do == "remove" and f"called '{each.name}'" in error.sentence
                ),
                None,
            )
            if error.code != "site-file" or gone is None:
                raise
            place = error.sentence.partition(": ")[0]
            raise CallerError(
                "site-file", f"{gone.what} {gone.name} is still spoken of: {place}.",
                "Take that out in the same draft: put both into it with --draft. Nothing was changed.",
            ) from None  # fmt: skip

    def _changed(
        self,
        source: Source,
        edit: Callable[[str], str],
        origin: Origin,
        names: Names,
        seen: int | None = None,
    ) -> ev.Outcome:
        """Another text; and what the store and the plan keep by name is found under the new one."""
        text = self._reloading.file[1]
        outcome = self._reloading.change(source, edit, origin, seen=seen, renamed=names)
        if names and outcome.outcome not in ("refused", "not recorded"):
            rows: list[Row] = [("renamed", (self.editions.number, one, other)) for one, other in names]
            aside = [
                f" {number}" for number in range(len(names))
            ]  # no name has a blank: two may exchange theirs
            for (one, _), between in zip(names, aside, strict=True):
                rows += [(f"{kind} renamed", (between, one)) for kind in NAMED]
            for (_, other), between in zip(names, aside, strict=True):
                rows += [(f"{kind} renamed", (other, between)) for kind in NAMED]
            self._writer.put_and_wait(rows)
            self._follow_plan(source, text, names)
        return outcome

    def _follow_plan(self, source: Source, text: str, names: Names) -> None:
        """Schedules that people have added speak of what is called otherwise by its new name."""
        added = [
            each
            for each in list(self._served.machine.engine.planning.schedules.values())
            if each.origin == "database"
        ]
        forms = [schedules.form_of(each) for each in added]
        for one, said in zip(forms, followed(text, names, [str(each["do"]) for each in forms]), strict=True):
            if said != one["do"]:
                made = schedules.make({**one, "do": said}, self._served.planned, "database")
                self._served.submit(
                    ev.Plan(clock(), self._served.command_id(), source, "put", made.name, made)
                )


def renamed(changes: Iterable[Edit], text: str) -> Names:
    """Outputs and inputs of a file that are called otherwise by these changes, from the first name to the last."""
    tables = tomllib.loads(text)
    found: dict[str, str] = {}
    first_of: dict[str, str] = {}
    """By row: what it was called in the file."""

    def note(name: str, to: str) -> None:
        found[next((one for one, other in found.items() if other == name), name)] = to

    for each in changes:
        if each.do != "rename":
            continue
        if each.what in ("output", "input"):
            note(each.name, each.to)
        elif each.what == rows.KIND:
            first = first_of[each.to] = first_of.pop(each.name, each.name)
            for member in rows.names(tables, first):
                note(f"{each.name}{member[len(first) :]}", f"{each.to}{member[len(first) :]}")
    return tuple((one, other) for one, other in found.items() if one != other)


def renamed_back(editions: Iterable[Sequence[tuple[str, str]]]) -> Names:
    """What things are called again that were renamed, edition by edition, given the newest first."""
    found: dict[str, str] = {}
    for names in editions:
        now = {before: name for name, before in found.items()}
        found |= {now.get(other, other): one for one, other in names}
    return tuple((one, other) for one, other in found.items() if one != other)
