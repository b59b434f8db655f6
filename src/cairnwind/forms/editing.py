"""Forms of the site file as it is changed: drafts, editions, what may be written."""

from __future__ import annotations

from typing import Annotated, Any, Literal, NotRequired, TypedDict

from msgspec import Meta

from cairnwind.forms.basic import At, Free
from cairnwind.forms.plan import Difference


class Finding(TypedDict):
    """Something in a site file that is wrong, or to be looked at."""

    line: Annotated[int, Meta(description="From 1.")]
    column: Annotated[int, Meta(description="From 1.")]
    text: Annotated[str, Meta(description="What stands there.")]
    what: str
    remedy: str


class SitePreview(TypedDict):
    """What changes of the site file would come to."""

    good: Annotated[bool, Meta(description="They could be applied.")]
    lines: Annotated[str, Meta(description="The difference of the file, as a unified diff.")]
    words: Annotated[list[str], Meta(description="The same, a sentence each.")]
    errors: Annotated[list[Finding], Meta(description="Why they cannot be applied.")]
    new: Annotated[list[Finding], Meta(description="What the check finds because of them.")]
    old: Annotated[list[Finding], Meta(description="What it finds as it is.")]


class EditForm(TypedDict):
    """One change of a site file."""

    do: Literal["add", "change", "rename", "remove"]
    what: str
    name: NotRequired[str]
    keys: NotRequired[Free]
    to: NotRequired[str]


class DraftForm(TypedDict):
    """Changes of one person that are not applied yet."""

    edition: Annotated[int, Meta(description="What is served now.")]
    base: Annotated[int, Meta(description="The edition that the draft was begun on.")]
    since: Annotated[
        str, Meta(description="What others have applied since, as a unified diff; empty: nothing.")
    ]
    changes: list[EditForm]
    words: Annotated[list[str], Meta(description="Each change in a few words.")]
    at: At
    others: Annotated[list[str], Meta(description="Who else has a draft.")]
    preview: Annotated[
        SitePreview | None,
        Meta(description="What it would come to; null: it is empty, or can no longer be made."),
    ]
    trouble: Annotated[
        str, Meta(description="Why it can no longer be made of what is served now; empty: it can.")
    ]


class CalledOtherwise(TypedDict):
    """A name of an output or input, and what it is called instead."""

    before: str
    after: str


class Edition(TypedDict):
    """A state of the site file that was applied."""

    number: int
    at: At
    author: Annotated[
        str, Meta(description="The key by which it was applied; empty: it was found at a start.")
    ]
    how: Literal["start", "reload", "edit", "draft", "back"]
    reason: str
    served: Annotated[bool, Meta(description="It is what is served now.")]
    renamed: Annotated[list[CalledOtherwise], Meta(description="Outputs and inputs that it calls otherwise.")]


class EditionWhole(Edition):
    """The same with its text."""

    text: str
    against: Annotated[int, Meta(description="The edition that it is compared with; 0: an empty file.")]
    difference: Annotated[str, Meta(description="From that one to it, as a unified diff.")]


class DraftRehearsed(TypedDict):
    """What would be different under a draft."""

    differences: list[Difference]


class Offer(TypedDict):
    """A key of a table of the site file, and what may be written for it."""

    name: str
    says: Annotated[str, Meta(description="What it means, in Markdown.")]
    needed: Annotated[bool, Meta(description="It has to be written.")]
    unsaid: Annotated[str, Meta(description="What holds where it is not written.")]
    choices: Annotated[
        list[str], Meta(description="All that is possible, where that is few; empty: it is free.")
    ]
    value: Annotated[Any, Meta(description="What is written now; null: nothing.")]


class Offers(TypedDict):
    """What may be written of a thing."""

    what: str
    kind: str
    keys: list[Offer]
