"""Reads a site file into the model: all its errors at once, each with its place and a remedy."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from fractions import Fraction
from functools import partial
from pathlib import Path
from typing import Any

from cairnwind.boards import kinds, maps
from cairnwind.boards.facts import Broker
from cairnwind.core.facts.hardware import Board, Pin, Supply
from cairnwind.core.facts.inputs import Input
from cairnwind.core.facts.outputs import OUTPUT_KEYS, Output
from cairnwind.core.facts.site import LOOPBACK, SERVICE, Site
from cairnwind.core.values import entries
from cairnwind.core.values.errors import CallerError, known
from cairnwind.core.values.fact import replace
from cairnwind.core.values.keys import REQUIRED, Key, keys, names
from cairnwind.core.values.listing import listed
from cairnwind.core.values.quantities import parse
from cairnwind.core.values.settings import KINDS
from cairnwind.site import enabling, loads, pins, rows, syntax, wiring
from cairnwind.site import remotes as ways
from cairnwind.site.sharing import clashes
from cairnwind.site.tables import Page, Table
from cairnwind.site.trouble import Finding, SiteFileError

TABLES = (
    "supply", "board", "output", "outputs", "input", "pad", "tune", "quiet", "group", "scene", "schedule", "interlock", "reflex",
    "regulator", "alarm", "guard", "remote", "service",
)  # fmt: skip
TOP = [key for key in keys(Site) if not key.kinds]
SERVICE_KEYS = [key for key in keys(Site) if key.of(SERVICE) and key.kinds]
CERTIFICATE_KEY = Key("certificate_key", "the key of that certificate, another PEM file")
OUTPUT, INPUT = ({key.name: key for key in declared} for declared in (OUTPUT_KEYS, keys(Input)))
LINK = next(key for key in keys(Board) if key.name == "link")
SIMULATED = "simulated"
SERVICE_PORT = ("127.0.0.1", 8470)
BOM = "\ufeff"
"""What some editors put before the first character."""
DIMMED = Output("this", "lamp", Pin("", 0), frequency=Fraction(1))
"""An output that takes any level."""
SOFTWARE_MOST = 200
"""Hertz: at 200 a tenth of a millisecond of jitter is 2 % of duty."""


def read_site(path: str | Path) -> Site:
    """The site that the file at ``path`` describes.

    Raises `SiteFileError` with every error of the file, or `CallerError` (``no-file``) if it cannot be opened.
    """
    return read_text(text_of(path), str(path))


def read_text(text: str, path: str) -> Site:
    """The site that a text describes; ``path`` is what it is called in errors. Raises `SiteFileError`."""
    return Reader(path, text).read()


def text_of(path: str | Path) -> str:
    """What stands in a file. Raises `CallerError` (``no-file``)."""
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
    return text.removeprefix(BOM).replace("\r\n", "\n")


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
            {name: value for name, value in tables.items() if name not in TABLES},
        )
        facts = {key.field: value for key in TOP if tables and (value := top.take(key)) is not REQUIRED}
        top.nothing_else([*names(TOP), *TABLES])
        self.supplies = {name: self._supply(name, table) for name, table in self.named(tables, "supply")}
        remotes = Table(self, ("remote",), tables.get("remote", {}))
        if isinstance(remotes.values.get("broker"), dict):
            self.broker = ways.broker(remotes.within("broker"))
        others = ways.read(remotes)
        boards = [*self.named(tables, "board")]
        self.boards = {name: self._board(name, table) for name, table in boards}
        self.boards |= {
            name: replace(self.boards[name], enable=found)
            for name, table in boards
            if (found := table.get("enable", partial(enabling.read, name, self.boards), None))
        }
        tables, rowed = self._with_rows(tables)
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
        groups = {name: tuple(each for each in its if each in outputs) for name, its in rowed.items()} | {
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
        for path, value, error, grave in enabling.check(self.boards, outputs.values()):
            self.point(path, value, error, grave=grave)
        for output in outputs.values():
            for path, value, error, grave in (
                *wiring.suits(output), *wiring.reach(output, self.boards[output.pin.board])
            ):  # fmt: skip
                self.point(path, value, error, grave=grave)
        for path, value, error, grave in wiring.supplies(outputs.values(), self.supplies):
            self.point(path, value, error, grave=grave)
        for path, value, error in wiring.sums(outputs.values(), self.boards):
            self.point(path, value, error)
        facts |= self._service(Table(self, ("service",), tables.get("service", {})))
        for clash in clashes(self.boards, others, facts.get("listen", SERVICE_PORT)):
            self.point(clash.path, clash.value, clash.error)
        self._no_echoes(tables, {"output": outputs, "input": inputs})
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
        )

    def _with_rows(self, tables: dict[str, Any]) -> tuple[dict[str, Any], dict[str, list[str]]]:
        """The tables with an output for each of a row; and the names of those by row."""
        made: dict[str, Any] = {}
        rowed: dict[str, list[str]] = {}
        single = tables.get("output", {})
        taken = {*single, *tables.get("group", {})} if isinstance(single, dict) else set()

        def own(name: str, values: dict[str, Any], _: object) -> dict[str, dict[str, Any]]:
            return rows.members(name, values, lambda pin: pins.resolve(pin, self.boards))

        for name, table in self.named(tables, rows.KIND):
            found = table.need("pins", partial(own, name, table.values), rows.EXAMPLE) or {}
            for each in (name, *found):
                if each in taken:
                    self.point(
                        table.path, name, CallerError("", f"'{each}' is an output or a group already", "Give the row another name."), key=True
                    )  # fmt: skip
            taken |= {name, *found}
            made |= found
            self.rows |= dict.fromkeys(found, name)
            rowed[name] = list(found)
        if not rowed or not isinstance(single, dict):
            return tables, rowed
        return {**tables, "output": {**made, **single}}, rowed

    def _no_echoes(self, tables: dict[str, Any], made: dict[str, dict[str, Any]]) -> None:
        """What is wrong with a thing is said once: not again wherever it is named."""
        broken = [
            name
            for kind, things in made.items()
            for name in (tables[kind] if isinstance(tables.get(kind), dict) else {})
            if name not in things
        ]
        echoes = tuple(f" called '{name}'" for name in broken)
        self.findings[:] = [
            each
            for each in self.findings
            if not (each.what.startswith("There is no ") and echoes and each.what.endswith(echoes))
        ]

    # --- the tables ---------------------------------------------------------------------------------------

    def _file(self, value: object) -> str:
        """A path, from the site file's folder."""
        return str((Path(self.path).resolve().parent / entries.text(value)).resolve())

    def _service(self, table: Table) -> dict[str, Any]:
        values = table.fill([*SERVICE_KEYS, CERTIFICATE_KEY], SERVICE, {"certificate": self._file})
        key = table.get("certificate_key", self._file, "")
        certificate = values.pop("certificate", ""), key
        if any(certificate):
            values |= {"tls": "given", "certificate": certificate}
            if not all(certificate):
                table.missing(
                    "certificate", 'Give both: certificate = "site.pem" and certificate_key = "site.key".'
                )
        tls, host = values.get("tls", ""), values.get("listen", LOOPBACK)[0]
        if host not in LOOPBACK and not tls:
            table.point(
                "listen", f"{host} is reachable from elsewhere, and nothing says how that is protected",
                'Write tls = "self-made", or certificate and certificate_key; or tls = "plain" where the network may read along.',
            )  # fmt: skip
        if tls == "plain" and host not in LOOPBACK:
            self.point(
                ("service", "tls"), "plain",
                CallerError("", "keys and commands cross the network unprotected", 'tls = "self-made" protects them.'), grave=False,
            )  # fmt: skip
        return values

    def _supply(self, name: str, table: Table) -> Supply:
        return Supply(name, **{"volts": Fraction(0), **table.fill(keys(Supply))})

    def _board(self, name: str, table: Table) -> Board:
        link = table.take(LINK, partial(entries.choice, among=kinds.names()))
        kind = kinds.find(link) if link is not REQUIRED else None
        own = kind.keys if kind is not None else ()
        load = lambda value: maps.load(entries.text(value), *self._beside("maps"))  # noqa: E731
        values = table.fill(keys(Board), link, {"map": load}, names(own))
        known, implied = self._facts(kind, table) if kind is not None else (None, 1)
        values["line_count"] = (values.get("line_count", 0) or implied) + getattr(known, "more_lines", 0)
        placed = getattr(known, "placed", None)
        if placed is not None:
            known = placed(values["line_count"])
        if not (values.get("map") or values["line_count"] or table.has("map") or table.has("lines")):
            table.missing(
                "map", f'Give it a map (map = "{maps.names()[0]}") or its number of lines (lines = 16).'
            )
        if kind is not None and kind.by_broker and self.broker is None:
            table.missing(
                "broker", 'Say where the broker is: [remote.broker] address = "mqtt://127.0.0.1:1883".'
            )
        return Board(name, link if kind is not None else SIMULATED, facts=known, **values)

    def _facts(self, kind: kinds.Kind, table: Table) -> tuple[Any, int]:
        """The facts of a board's link, and the number of lines that they imply (0: a map or ``lines`` says)."""
        own = kind.keys
        reads = kind.reads(self._beside())
        found = {
            each.name: (each.field, value)
            for each in own
            if (value := table.take(each, reads.get(each.name))) is not REQUIRED
        }
        if kind.facts is None or any(each.needed and each.name not in found for each in own):
            return None, kind.lines(None)
        try:
            if kind.made is not None:
                made = kind.made(**{name: value for name, (_, value) in found.items()})
            else:
                made = kind.facts(**dict(found.values()))
        except CallerError as error:
            table.point(str(error.more.get("key", "link")), error.sentence, error.remedy)
            return None, kind.lines(None)
        return made, kind.lines(made)

    def _beside(self, folder: str = "") -> tuple[Path, ...]:
        """A folder of the user's own data, beside the site file; or where they are."""
        return (Path(self.path).resolve().parent / folder,)

    def _output(self, name: str, table: Table) -> Output | None:
        kind = self._kind(table, OUTPUT["kind"])
        pin = loads.first_pin(kind, table, self.boards)
        software = table.values.get("pwm") == "software"
        reads: dict[str, Callable[[Any], Any]] = {
            "frequency": partial(self._frequency, kind=kind, pin=pin, software=software),
            "draws": self._draws,
            "threshold": DIMMED.read,
            "switch": loads.switch,
        }
        values = table.fill(OUTPUT_KEYS, kind, reads)
        values |= loads.more(kind, pin, values.get("frequency"), table, self.boards)
        values["supply"], values["draws"] = values.get("draws") or ("", None)
        values |= {"kind": kind or "relay", "pin": pin or Pin("", 0), "levels": self._dims(kind, pin)}
        values.setdefault("rearm", KINDS[kind or "relay"].rearm)
        output = Output(name, **values)
        output = replace(output, safe=table.get("safe", output.read, output.off))
        output = replace(output, rest=table.get("rest", output.read, output.safe))
        if output.driver != "push-pull" and pin is not None:
            self._driven(output, table)
        if output.brakes and output.reversal != "two lines":
            table.point(
                "stands",
                "only a motor with two lines, one for each way, can be braked by both",
                'Give it its second line: reverse = "board:line-5".',
            )
        if output.takes == "tone" and (output.safe.on or output.rest.on):
            table.point(
                "rest" if table.has("rest") else "safe",
                "a sounder rests in silence",
                "Take it away: every tone has an end.",
            )
        self._served(pin, "output", table)
        return output if kind and pin else None

    def _driven(self, output: Output, table: Table) -> None:
        """Whether its pin can drive as is said."""
        if not self.boards[output.pin.board].drivers:
            table.point(
                "driver",
                f"{output.pin.both} always drives both ways",
                "Take it away: that is for lines of the kernel.",
            )
        elif output.frequency is not None and not output.by_software:
            table.point(
                "driver",
                f"PWM hardware drives both ways, whatever {output.pin.both} does else",
                "Take it, or the frequency, away.",
            )

    def _input(self, name: str, table: Table) -> Input | None:
        kind = self._kind(table, INPUT["kind"])
        values = table.fill(
            keys(Input),
            kind or "contact",
            dict.fromkeys(("pin", "second"), partial(pins.resolve, boards=self.boards)),
        )
        if "kind" not in values or "pin" not in values:
            return None
        self._served(values["pin"], values["kind"], table)
        if (values["kind"] == "encoder" or self._whole_knob(values["pin"])) and not self._turned(
            values["pin"], values.get("second"), table
        ):
            return None
        if values["kind"] == "analogue" and "scale" not in values:
            values.setdefault("unit", self.boards[values["pin"].board].unit(values["pin"].line))
        return Input(name, **values)

    def _whole_knob(self, pin: Pin) -> bool:
        return bool(self.boards[pin.board].knob(pin.line))

    def _turned(self, pin: Pin, second: Pin | None, table: Table) -> bool:
        """Whether an encoder has the lines that it needs; what is wrong with them is pointed at."""
        whole = self.boards[pin.board].knob(pin.line)
        if whole is not None:
            if table.values["kind"] != "encoder":
                table.point(
                    "kind",
                    f"{pin.both} is a whole knob",
                    'Say kind = "encoder", or name one way round of it: "dial+".',
                )
            elif not whole:
                table.point(
                    "pin",
                    f"{pin.both} is no knob",
                    f'Name a whole one among the keys of {pin.board}: "dial".',
                )
            elif second is not None:
                table.point("second", f"{pin.both} is a whole knob", "Take it away.")
            return True
        if second is None and not table.has("second"):
            table.missing("second", f'An encoder has two lines: second = "{pin.board}:line-{pin.line + 1}".')
        elif second is not None and (second.board != pin.board or second.line == pin.line):
            table.point(
                "second",
                "it is the same line as 'pin'"
                if second.board == pin.board
                else f"it is on another board than {pin.both}",
                f"Give another line of board {pin.board}.",
            )
        elif second is not None and self.boards[pin.board].paired and second.line != pin.line ^ 1:
            near = self.boards[pin.board].pin(pin.line ^ 1)
            table.point(
                "second",
                f"{pin.board} follows an encoder on two lines beside each other",
                f"Wire it to {near.both}.",
            )
        else:
            return second is not None
        return False

    def _served(self, pin: Pin | None, what: str, table: Table) -> None:
        """Whether a board has anything for such a thing."""
        board = self.boards.get(pin.board) if pin is not None else None
        if pin is not None and board is not None and what not in board.serves:
            table.point(
                "pin", f"{pin.both} is for {listed(sorted(board.serves))} alone: board {board.name} is reached by {board.link}",
                "Wire it to another board.",
            )  # fmt: skip

    def _kind(self, table: Table, key: Key) -> str | None:
        """What a table says that it is; what is wrong with that is said when the table is read."""
        assert key.read is not None
        try:
            kind: str = key.read(table.values.get(key.name))
        except CallerError:
            return None
        return kind

    def _dims(self, kind: str | None, pin: Pin | None) -> bool:
        """Whether the board dims this line by itself."""
        board = self.boards.get(pin.board) if pin else None
        return bool(pin and board and kind and KINDS[kind].dims and board.dims(pin.line))

    def _draws(self, value: object) -> tuple[str, Any]:
        if not isinstance(value, dict) or set(value) - {"supply", "current"} or len(value) < 2:
            raise CallerError(
                "",
                "this is not what an output draws",
                'Write draws = { supply = "coil-rail", current = "72 mA" }.',
            )
        return known("supply", value["supply"], self.supplies).name, parse(value["current"], "a current")

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
            if board and not board.software:
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
            instead = (
                ' Or, up to 200 Hz: pwm = "software".' if board.software and board.facts is not None else ""
            )
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
        whose = {board.name: self._lines_of(board) for board in self.boards.values()}
        channels: dict[tuple[str, str, int], Output] = {}
        wired: list[tuple[str, Output | Input]] = [("output", each) for each in outputs]
        wired += [("input", each) for each in inputs]
        for board in self.boards.values():
            if board.enable is not None:
                its = board.enable.pin
                taken = users.setdefault((whose[its.board], its.line), ("board", board.name))
                if taken[1] != board.name:
                    self.point(
                        ("board", board.name, "enable"), its.name,
                        CallerError("", f"{its.both} enables board {taken[1]} already", "Give each board a line of its own."),
                    )  # fmt: skip
        for kind, thing in wired:
            lines = list(thing.lines)
            if isinstance(thing, Output) and thing.pixels:
                lines = [*range(thing.pin.line, thing.pin.line + 3 * thing.pixels)]
            board = self.boards[thing.pin.board]
            for line in lines:
                other = users.setdefault((whose[board.name], line), (kind, thing.name))
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

    def _lines_of(self, board: Board) -> str:
        """By what the lines of a board are known: two boards may be the same chip."""
        share = kinds.share(board)
        return share.place if share is not None and share.lines else board.name

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
