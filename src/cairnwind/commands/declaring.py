"""What a declaration of a command is, and what it is asked for when somebody gives it."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping, Sequence
from typing import Annotated, Any, ClassVar, Protocol, TypeVar

from msgspec import UNSET, Meta, Struct, UnsetType, to_builtins

from cairnwind.core.facts import events as ev
from cairnwind.core.facts.claims import Claim, Instant, Source
from cairnwind.core.facts.site import Site

__all__ = [
    "BY", "DECLARED", "FIRST", "NUMBER", "OF_EVENT", "OUTPUT", "PACED", "SHORT", "SPAN", "UNSET", "Ask", "Command", "Lane",
    "UnsetType", "declare", "field",
]  # fmt: skip

Lane = bool | Callable[[Any], bool]
"""Whether it goes first, and is never counted nor shed; or by what it says."""
FIRST, PACED = True, False
C = TypeVar("C", bound="Command")


class Editing(Protocol):
    """Changes of the site file. Each raises `CallerError`, and then nothing was changed."""

    def change(self, source: Source, changes: Sequence[Any], reason: str) -> ev.Outcome:
        """Apply changes at once."""

    def add(self, source: Source, changes: Sequence[Any]) -> ev.Outcome:
        """Put changes into a draft."""

    def take_out(self, source: Source, number: int) -> ev.Outcome:
        """Take one out again."""

    def drop(self, source: Source) -> ev.Outcome:
        """Forget a draft."""

    def apply(self, source: Source, reason: str, seen: int | None) -> ev.Outcome:
        """Apply a draft."""

    def back(self, source: Source, number: int, reason: str) -> ev.Outcome:
        """Go back to an edition."""


class Ask(Protocol):
    """One command on its way: who gives it and when, and what it may look at."""

    at: Instant
    command: str
    source: Source
    once: bool
    """It is known to have come once only: a toggle may be carried out."""
    found: dict[str, Any]
    """What its declaration has found and needs again."""

    @property
    def site(self) -> Site:
        """What is wired."""

    @property
    def rules(self) -> Any:
        """The rules, as the site file was read last."""

    @property
    def planned(self) -> Any:
        """The language of phrases, with scenes."""

    @property
    def schedules(self) -> Mapping[str, Any]:
        """The plan."""

    @property
    def timers(self) -> Mapping[int, Any]:
        """What is still to come."""

    @property
    def claims(self) -> Mapping[int, Claim]:
        """Those that stand, by number."""

    def renewal(self, event: ev.Renew) -> ev.Renew:
        """The same; where it asks for what the hold has already, it only keeps that."""

    def passcode(self, output: str, code: str) -> tuple[str, int] | None:
        """Whose code this is, and its number if it is used up by that; None if it is none. Raises `CallerError` (``wait``)."""

    def reload(self) -> ev.Outcome:
        """Have the site file read anew."""

    @property
    def editing(self) -> Editing:
        """What changes the site file."""

    def hold(self, kind: str) -> str:
        """The slot of a hold of this kind, of whoever gives the command."""

    def schedule(self, name: str) -> dict[str, Any]:
        """A schedule as HTTP shows it."""


class Command(Struct, forbid_unknown_fields=True, kw_only=True):
    """A command as it is given. What follows is said by `declare`, but for the line of help, which is the first of its docstring."""

    word: ClassVar[str] = ""
    makes: ClassVar[tuple[type, ...]] = ()
    """The events that it may become."""
    role: ClassVar[str] = ""
    lane: ClassVar[Lane] = PACED
    method: ClassVar[str] = ""
    path: ClassVar[str] = ""
    status: ClassVar[int] = 200
    commit_first: ClassVar[bool] = False
    """What it does away from safe waits until it is recorded: doing it twice, or unrecorded, would be wrong."""
    anybody: ClassVar[bool] = False
    """It is of no output in particular, and open to any key that may operate anything."""
    waits: ClassVar[bool] = False
    """Whoever gives it may wait for what becomes of it."""
    secret: ClassVar[bool] = False
    """What it carries is not to be seen by anybody else."""
    typed: ClassVar[str] = ""
    """How it is given at the command line, where that has a command of its own for it."""
    example: ClassVar[Mapping[str, Any]] = {}

    def event(self, ask: Ask) -> ev.Command:
        """What it asks of the engine. Raises `CallerError` where a name or a value is wrong."""
        raise NotImplementedError

    def at_once(self, ask: Ask) -> ev.Outcome | None:
        """What it comes to, where it is no event; None if it is one."""
        return None

    def told(self, ask: Ask, outcome: ev.Outcome) -> dict[str, Any]:
        """What else is answered."""
        return {}

    @classmethod
    def concerns(cls, event: Any, ask: Ask) -> Iterable[str]:
        """The outputs that an event concerns; an empty name for what belongs to none."""
        return [getattr(event, "output", "")]

    @property
    def given(self) -> dict[str, Any]:
        """Its fields as they were given, by the names that surfaces use."""
        found: dict[str, Any] = to_builtins(self)
        return found

    @classmethod
    def help(cls) -> str:
        """Its line of help."""
        return (cls.__doc__ or "").strip().partition("\n")[0]


DECLARED: dict[str, type[Command]] = {}
"""By word."""
OF_EVENT: dict[type, type[Command]] = {}
"""By event: the declaration that says its role, its lane and what it concerns."""


def declare(
    word: str, *, makes: type | tuple[type, ...], role: str, lane: Lane, address: str, status: int = 200, commit_first: bool = False,
    anybody: bool = False, waits: bool = False, secret: bool = False, typed: str = "", example: Mapping[str, Any] | None = None,
) -> Callable[[type[C]], type[C]]:  # fmt: skip
    """Declare a command: see `Command` for what each of these says. ``address`` is a method and a path, as in 'POST /notes'."""

    def put(cls: type[C]) -> type[C]:
        if word in DECLARED:
            raise TypeError(f"two commands are called '{word}'")
        if role not in ("operate", "keep"):
            raise TypeError(f"'{word}': '{role}' is no role that gives commands")
        if not cls.help():
            raise TypeError(f"'{word}' has no line of help")
        cls.word, cls.role, cls.status = word, role, status
        cls.lane = staticmethod(lane) if callable(lane) else lane
        cls.method, cls.path = address.split(" ")
        cls.commit_first, cls.anybody, cls.waits, cls.secret = commit_first, anybody, waits, secret
        cls.typed, cls.example = typed, example or {}
        cls.makes = makes if isinstance(makes, tuple) else (makes,)
        DECLARED[word] = cls
        for kind in cls.makes:
            known = OF_EVENT.setdefault(kind, cls)
            same_lane = callable(lane) or callable(known.lane) or known.lane == lane
            if (known.role, known.commit_first, known.anybody) != (
                role,
                commit_first,
                anybody,
            ) or not same_lane:
                raise TypeError(f"'{word}' and '{known.word}' say otherwise of {kind.__name__}")
        return cls

    return put


# --- fields that many have ---------------------------------------------------------------------------------------


def field(says: str, *, of: str = "", missing: tuple[str, str] | None = None, **bounds: Any) -> Meta:
    """What a field means, and its bounds. ``of``: the kind of thing that it names; ``missing``: what is said where it is not there."""
    schema = bounds.pop("schema", None)
    extra = {"of": of, "missing": missing}
    if schema is not None:
        return Meta(description=says, extra_json_schema=schema, extra=extra, **bounds)
    return Meta(description=says, extra=extra, **bounds)


OUTPUT = Annotated[str, field("The output.", of="output", min_length=1)]
SHORT = Annotated[str, field("Up to 500 characters.", max_length=500)]
BY = Annotated[
    str,
    field(
        "Who does it, by name.",
        min_length=1,
        max_length=60,
        missing=("Nobody is named.", 'Send {"by": "Anna"}.'),
    ),
]
NUMBER = Annotated[int, field("Its number.", ge=0, le=2**62)]
SPAN = Annotated[
    Any,
    field(
        "A time as people write it: '3 s', '10 min'; a number is seconds.",
        schema={"type": ["string", "number"]},
    ),
]
