"""Reads a site file into the model: all its errors at once, each with its place and a remedy."""

from __future__ import annotations

from collections.abc import Iterable
from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING, Any, TypeVar

from cairnwind.boards import maps
from cairnwind.boards.facts import Broker
from cairnwind.core.facts.model import LOOPBACK, Board, Input, Output, Pin, Site, Supply
from cairnwind.core.values.errors import CallerError, unknown
from cairnwind.core.values.fact import replace
from cairnwind.core.values.quantities import duration, parse
from cairnwind.core.values.settings import KINDS
from cairnwind.site import convert, links, loads, pins, syntax, wiring
from cairnwind.site import remotes as ways
from cairnwind.site.tables import Page, Table
from cairnwind.site.trouble import Finding, SiteFileError

if TYPE_CHECKING:
    pass

T = TypeVar("T")
_TOP = (
    "site",
    "timezone",
    "latitude",
    "longitude",
    "supply",
    "board",
    "output",
    "input",
    "pad",
    "tune",
    "quiet",
    "group",
    "scene",
    "schedule",
    "interlock",
    "reflex",
    "regulator",
    "alarm",
    "guard",
    "remote",
    "service",
)
LINKS = tuple(links.KEYS)
INPUT_KINDS = ("contact", "analogue", "counter")
SOFTWARE_MOST = 200
"""Hertz: at 200 a tenth of a millisecond of jitter is 2 % of duty."""


def read_site(path: str | Path) -> Site:
    """The site that the file at ``path`` describes.

    Raises `SiteFileError` with every error of the file, or `CallerError` (``no-file``) if it cannot be opened.
    """
    return read_whole(path)[0]


def read_text(text: str, path: str) -> Site:
    """The site that a text describes; ``path`` is what it is called in errors. Raises `SiteFileError`."""
    return Reader(path, text).read()


def read_whole(path: str | Path) -> tuple[Site, Reader]:
    """The site of a file, and its reading, which has what it warns of. Raises as `read_site`."""
    try:
        text = Path(path).read_bytes().decode("utf-8")
    except OSError as error:
        raise CallerError(
            "no-file",
            f"The site file {path} cannot be read: {error.strerror}.",
            "Give the path of a site file.",
        ) from None
    except UnicodeDecodeError as error:
        raise CallerError(
            "no-file", f"The site file {path} is not UTF-8 text (byte {error.start}).", "Save it as UTF-8."
        ) from None
    reader = Reader(str(path), text.replace("\r\n", "\n"))
    return reader.read(), reader


class Reader(Page):
    """One reading of one file: what of it is wired."""

    def __init__(self, path: str, text: str) -> None:
        super().__init__(path, text)
        self.boards: dict[str, Board] = {}
        self.supplies: dict[str, Supply] = {}
        self.broker: Broker | None = None

    def read(self) -> Site:
        """The site, but for what `cairnwind.site.plans` reads. Raises `SiteFileError`."""
        tables = {
            name: value
            for name, value in self.parsed.tables.items()
            if not name.startswith(syntax.UNREADABLE)
        }
        if not tables and not self.findings:
            self.findings.append(
                Finding(1, 1, "", "the file is empty", 'Begin with site = "a name" and a [board.…] table.')
            )
        top = Table(
            self,
            (),
            {name: value for name, value in tables.items() if name not in _TOP[4:]},
        )
        facts = {
            "name": top.get("site", convert.text, ""),
            "timezone": top.get("timezone", convert.zone, "UTC"),
            "latitude": top.get("latitude", partial(convert.between, low=-90.0, high=90.0), None),
            "longitude": top.get("longitude", partial(convert.between, low=-180.0, high=180.0), None),
        }
        top.nothing_else(_TOP)
        if tables and not facts["name"]:
            top.missing("site", 'Give the site a name: site = "Saltmarsh Kiln House".')
        self.supplies = {name: self._supply(name, table) for name, table in self.named(tables, "supply")}
        remotes = Table(self, ("remote",), tables.get("remote", {}))
        if isinstance(remotes.values.get("broker"), dict):
            self.broker = ways.broker(Table(self, ("remote", "broker"), remotes.values["broker"]))
        others = ways.read(remotes)
        self.boards = {name: self._board(name, table) for name, table in self.named(tables, "board")}
        outputs = {
            name: output
            for name, table in self.named(tables, "output")
            if (output := self._output(name, table))
        }
        inputs = {
            name: input for name, table in self.named(tables, "input") if (input := self._input(name, table))
        }
        for name in outputs.keys() & inputs.keys():
            self.point(
                ("input", name),
                name,
                CallerError("", f"'{name}' is an output already", "Give the input another name."),
                key=True,
            )
        pads = {
            name: pad
            for name, table in self.named(tables, "pad")
            if (pad := loads.pad(name, table, outputs, inputs))
        }
        tunes = {
            name: tune for name, table in self.named(tables, "tune") if (tune := loads.tune(name, table))
        }
        quiet = loads.quiet(Table(self, ("quiet",), tables["quiet"]), outputs) if "quiet" in tables else None
        groups = {
            name: members
            for name, table in self.named(tables, "group")
            if (members := loads.group(name, table, outputs))
        }
        self._pins_once([*outputs.values()], [*inputs.values()])
        self._timers_agree(outputs.values())
        things: list[Output | Input] = [*outputs.values(), *inputs.values()]
        for thing in things:
            for line in thing.lines:
                here = (
                    replace(thing, pin=self.boards[thing.pin.board].pin(line))
                    if line != thing.pin.line
                    else thing
                )
                for path, value, error, grave in wiring.check(here, self.boards):
                    self.point(path, value, error, grave=grave)
        for output in outputs.values():
            for path, value, error, grave in wiring.suits(output):
                self.point(path, value, error, grave=grave)
        for path, value, error, grave in wiring.supplies(outputs.values(), self.supplies):
            self.point(path, value, error, grave=grave)
        for path, value, error in wiring.sums(outputs.values(), self.boards):
            self.point(path, value, error)
        service = Table(self, ("service",), tables.get("service", {}))
        listen = service.get("listen", convert.listen, ("127.0.0.1", 8470))
        durability = service.get("durability", partial(convert.choice, among=("power", "process")), "power")
        tls = service.get("tls", partial(convert.choice, among=("self-made", "plain")), "")
        certificate = (
            service.get("certificate", self._file, ""),
            service.get("certificate_key", self._file, ""),
        )
        names = service.get("names", convert.hosts, ())
        if any(certificate):
            tls = "given"
            if not all(certificate):
                service.missing(
                    "certificate", 'Give both: certificate = "site.pem" and certificate_key = "site.key".'
                )
        if listen and listen[0] not in LOOPBACK and not tls:
            service.point(
                "listen", f"{listen[0]} is reachable from elsewhere, and nothing says how that is protected",
                'Write tls = "self-made", or certificate and certificate_key; or tls = "plain" where the network may read along.',
            )  # fmt: skip
        if tls == "plain" and listen and listen[0] not in LOOPBACK:
            self.point(
                ("service", "tls"), "plain",
                CallerError("", "keys and commands cross the network unprotected", 'tls = "self-made" protects them.'), grave=False,
            )  # fmt: skip
        service.nothing_else(("listen", "durability", "tls", "certificate", "certificate_key", "names"))
        if self.findings:
            raise SiteFileError(self.path, self.findings, self.text)
        return Site(
            **facts,
            supplies=self.supplies,
            boards=self.boards,
            outputs=outputs,
            inputs=inputs,
            pads=pads,
            tunes=tunes,
            quiet=quiet,
            groups=groups,
            source=(self.path, self.text),
            broker=self.broker,
            remotes=others,
            listen=listen,
            tls=tls,
            certificate=certificate,
            names=names,
            durability=durability,
        )

    # --- the tables ---------------------------------------------------------------------------------------

    def _file(self, value: object) -> str:
        """A path, from the site file's folder."""
        return str((Path(self.path).resolve().parent / convert.text(value)).resolve())

    def _supply(self, name: str, table: Table) -> Supply:
        volts = table.need(
            "volts", lambda value: parse(value, "a voltage", bare="v"), "Say its voltage: volts = 5."
        )
        limit = table.get("limit", lambda value: parse(value, "a current"), None)
        table.nothing_else(("volts", "limit"))
        return Supply(name, volts or parse(0, "a voltage", bare="v"), limit)

    def _board(self, name: str, table: Table) -> Board:
        link = table.need(
            "link", partial(convert.choice, among=LINKS), 'Say how it is reached: link = "simulated".'
        )
        header = table.get("map", lambda value: maps.load(convert.text(value), *self._beside("maps")), None)
        lines = table.get("lines", convert.count, 0)
        label = table.get("label", convert.text, "")
        answers_after = table.get("answers_after", duration, 0)
        known, implied = links.read(link, table, self._beside("profiles")) if link else (None, 1)
        table.nothing_else((*links.COMMON, *(links.KEYS[link] if link else table.values)))
        if not (header or lines or implied or table.has("map") or table.has("lines")):
            table.missing(
                "map", f'Give it a map (map = "{maps.names()[0]}") or its number of lines (lines = 16).'
            )
        if link == "broker" and self.broker is None:
            table.missing(
                "broker", 'Say where the broker is: [remote.broker] address = "mqtt://127.0.0.1:1883".'
            )
        return Board(name, link or LINKS[0], header, lines or implied, label, answers_after, known)

    def _beside(self, folder: str) -> tuple[Path, ...]:
        """The folder of the user's own data, beside the site file."""
        return (Path(self.path).resolve().parent / folder,)

    def _output(self, name: str, table: Table) -> Output | None:
        kind = table.need(
            "kind", partial(convert.choice, among=tuple(KINDS)), f"Say what it is: {' or '.join(KINDS)}."
        )
        pin = loads.first_pin(kind, table, self.boards)
        hertz = table.get(
            "frequency",
            partial(self._frequency, kind=kind, pin=pin, software=table.values.get("pwm") == "software"),
            None,
        )
        draws = table.get("draws", self._draws, ("", None))
        output = Output(
            name, kind or "relay", pin or Pin("", 0),
            label=table.get("label", convert.text, ""),
            place=table.get("place", convert.text, ""),
            active_low=table.get("sense", partial(convert.choice, among=("active-high", "active-low")), "active-high") == "active-low",
            normally_closed=table.get("contact", partial(convert.choice, among=("normally-open", "normally-closed")), "normally-open") == "normally-closed",
            rearm=table.get("rearm", partial(convert.choice, among=("auto", "command")), KINDS[kind or "relay"].rearm),
            auto_off=table.get("auto_off", duration, 0),
            rated=table.get("rated", convert.rated, (0, 0)),
            on_stop=table.get("on_stop", partial(convert.choice, among=("safe", "keep")), "safe"),
            frequency=hertz,
            threshold=table.get("threshold", lambda value: Output("this", "lamp", Pin("", 0), frequency=parse(1, "a frequency", bare="hz")).read(value), None),
            words=table.get("words", convert.words, ("off", "on")),
            supply=draws[0], draws=draws[1],
            load=table.get("load", lambda value: parse(value, "a power"), None),
            bias=table.get("bias", convert.bias, None),
            levels=self._dims(kind, pin),
            by_software=table.get("pwm", partial(convert.choice, among=("hardware", "software")), "hardware") == "software",
            **{"gives": table.get("gives", lambda value: parse(value, "a current"), None), **loads.more(kind, pin, hertz, table, self.boards)},
        )  # fmt: skip
        output = replace(output, safe=table.get("safe", output.read, output.off))
        output = replace(output, rest=table.get("rest", output.read, output.safe))
        table.nothing_else(
            (
                "kind",
                "pin",
                "label",
                "place",
                "sense",
                "contact",
                "rearm",
                "on_stop",
                "auto_off",
                "rated",
                "frequency",
                "threshold",
                "words",
                "draws",
                "load",
                "gives",
                "bias",
                "pwm",
                "safe",
                "rest",
                *loads.known(kind),
            )
        )
        if output.takes == "tone" and (output.safe.on or output.rest.on):
            table.point(
                "rest" if table.has("rest") else "safe",
                "a sounder rests in silence",
                "Take it away: every tone has an end.",
            )
        return output if kind and pin else None

    def _input(self, name: str, table: Table) -> Input | None:
        kind = table.need(
            "kind", partial(convert.choice, among=INPUT_KINDS), f"Say what it is: {' or '.join(INPUT_KINDS)}."
        )
        pin = table.need(
            "pin", partial(pins.resolve, boards=self.boards), 'Say where it is wired: pin = "board:J3-4".'
        )
        input = Input(
            name, kind or "contact", pin or Pin("", 0),
            label=table.get("label", convert.text, ""),
            place=table.get("place", convert.text, ""),
            pull=table.get("pull", partial(convert.choice, among=("up", "down", "none")), "none"),
            active_low=table.get("sense", partial(convert.choice, among=("active-high", "active-low")), "active-high") == "active-low",
            words=table.get("words", convert.words, ("closed", "open")),
            debounce=table.get("debounce", partial(duration, longest=60), 0),
            source=table.get("source", lambda value: parse(value, "a voltage"), None),
            unit=table.get("unit", convert.text, ""),
            scale=table.get("scale", convert.scale, None),
            every=table.get("every", partial(duration, longest=3600), 0),
            median=table.get("median", partial(convert.whole, low=3, high=99), 0),
            settles=table.get("settles", partial(duration, longest=3600), 0),
            plausible=table.get("plausible", convert.plausible, (float("-inf"), float("inf"))),
            hysteresis=table.get("hysteresis", convert.number, 0.0),
            stale=table.get("stale", duration, 0),
            pulse=table.get("pulse", convert.number, 1.0),
            window=table.get("window", partial(duration, longest=86400), 0),
        )  # fmt: skip
        own = {
            "contact": ("pull", "sense", "words", "debounce"),
            "counter": ("pull", "sense", "debounce", "unit", "pulse", "window", "hysteresis"),
            "analogue": ("unit", "scale", "every", "median", "settles", "plausible", "hysteresis"),
        }[kind or "contact"]
        table.nothing_else(("kind", "pin", "label", "place", "source", "stale", *own))
        return input if kind and pin else None

    def _dims(self, kind: str | None, pin: Pin | None) -> bool:
        """Whether the board dims this line by itself."""
        board = self.boards.get(pin.board) if pin else None
        dims = getattr(board.facts, "dims", None) if board else None
        return bool(pin and kind and dims and KINDS[kind].dims and dims(pin.line))

    def _draws(self, value: object) -> tuple[str, Any]:
        if not isinstance(value, dict) or set(value) - {"supply", "current"} or len(value) < 2:
            raise CallerError(
                "",
                "this is not what an output draws",
                'Write draws = { supply = "coil-rail", current = "72 mA" }.',
            )
        if value["supply"] not in self.supplies:
            raise unknown("supply", str(value["supply"]), self.supplies)
        return value["supply"], parse(value["current"], "a current")

    def _frequency(self, value: object, kind: str | None, pin: Pin | None, software: bool) -> Any:
        hertz = parse(value, "a frequency")
        if hertz <= 0:
            raise CallerError(
                "",
                f"'{value}' is not a frequency to dim by",
                "Give one above 0 Hz: 800 Hz is good for lamps.",
            )
        if kind == "sounder":
            raise CallerError(
                "",
                "a sounder has the frequency of its tone",
                "Take it away; say the tone when it is to sound.",
            )
        if kind and not KINDS[kind].dims:
            raise CallerError(
                "",
                f"a {kind} is not dimmed: its contacts would chatter and burn",
                'Take the frequency away, or say kind = "lamp".',
            )
        board = self.boards.get(pin.board) if pin else None
        if software:
            if board and board.link not in ("kernel", "simulated"):
                raise CallerError(
                    "",
                    f"a program cannot switch a pin of {board.name} fast enough",
                    "Software PWM is for lines of the kernel.",
                )
            if hertz > SOFTWARE_MOST:
                raise CallerError(
                    "",
                    f"{float(hertz):g} Hz is too fast for a program",
                    f"Software PWM goes up to {SOFTWARE_MOST} Hz, with the jitter that 'make bench' shows.",
                )
            return hertz
        can = board.can(pin.line) if pin and board else None
        if pin and board and can is not None and "pwm" not in can:
            able = ", ".join(
                board.pin(line).name.split(":")[1] for line in board.lines if "pwm" in (board.can(line) or ())
            )
            instead = ' Or, up to 200 Hz: pwm = "software".' if board.link == "kernel" else ""
            raise CallerError(
                "",
                f"{pin.both} has no PWM, so it cannot be dimmed",
                (
                    f"Positions of {board.name} that have it: {able}."
                    if able
                    else f"No line of {board.name} has it."
                )
                + instead,
            )
        return hertz

    # --- what several tables must agree on ----------------------------------------------------------------

    def _pins_once(self, outputs: list[Output], inputs: list[Input]) -> None:
        users: dict[tuple[str, int], tuple[str, str]] = {}
        channels: dict[tuple[str, str, int], Output] = {}
        wired: list[tuple[str, Output | Input]] = [("output", each) for each in outputs]
        wired += [("input", each) for each in inputs]
        for kind, thing in wired:
            lines = list(thing.lines)
            if isinstance(thing, Output) and thing.pixels:
                lines = [*range(thing.pin.line, thing.pin.line + 3 * thing.pixels)]
            board = self.boards[thing.pin.board]
            for line in lines:
                other = users.setdefault((board.name, line), (kind, thing.name))
                if other != (kind, thing.name):
                    self.point(
                        (kind, thing.name, "pin"),
                        thing.pin.name,
                        CallerError(
                            "",
                            f"{board.pin(line).both} is used twice: by {' '.join(other)} and by {kind} {thing.name}",
                            "Give one of the two another pin.",
                        ),
                    )
                    break
                there = board.position(line)
                if (
                    isinstance(thing, Output)
                    and thing.modulates(line)
                    and there is not None
                    and there.channel is not None
                ):
                    first = channels.setdefault((board.name, there.timer, there.channel), thing)
                    if first is not thing:
                        self.point(("output", thing.name, "pin"), thing.pin.name, CallerError(
                            "", f"{there.name} is the same channel {there.channel} of timer {there.timer} as {first.pin.position}, which {first.name} has: it comes out on one of the two",
                            "Move one of them to a pin of another channel.",
                        ))  # fmt: skip

    def _timers_agree(self, outputs: Iterable[Output]) -> None:
        set_by: dict[tuple[str, str], Output] = {}
        for output in outputs:
            board = self.boards[output.pin.board]
            timers = {
                timer for line in output.lines if output.modulates(line) and (timer := board.timer(line))
            }
            for timer in sorted(timers):
                first = set_by.setdefault((board.name, timer), output)
                tones = first is not output and "tone" in (first.takes, output.takes)
                if first.frequency == output.frequency and not tones:
                    continue
                shared = ", ".join(
                    board.pin(line).name.split(":")[1] for line in board.lines if board.timer(line) == timer
                )
                free = ", ".join(
                    board.pin(line).name.split(":")[1]
                    for line in board.lines
                    if board.timer(line) not in ("", timer) and (board.name, board.timer(line)) not in set_by
                )
                has = (
                    "is a sounder, whose tones change it"
                    if first.takes == "tone"
                    else f"has {float(first.frequency or 0):g} Hz"
                )
                at = "pin" if output.frequency is None else "frequency"
                self.point(("output", output.name, at), output.frequency or output.pin.name, CallerError(
                    "", f"{output.name} and {first.name} share timer {timer} of {board.name}, and so one frequency: {first.name} {has}",
                    f"{'Move' if tones else 'Give both the same frequency, or move'} one to a pin of another timer ({timer} serves {shared}{f'; free of it: {free}' if free else ''}).",
                ))  # fmt: skip
