"""Relay boards that are sold: what their profile says of coils, inputs and registers, and nothing else."""

from __future__ import annotations

from collections.abc import Collection, Iterable, Iterator, Mapping
from contextlib import contextmanager

from cairnwind.boards.facts import Relays
from cairnwind.boards.link import LineError, Seen
from cairnwind.boards.master import WHOLE, Master, runs
from cairnwind.boards.wire import Put
from cairnwind.core.facts.trials import Trial
from cairnwind.core.values.errors import BoardError
from cairnwind.core.values.settings import FULL


class SoldLink(Master):
    """The link to a board by its profile."""

    @property
    def profile(self) -> Relays:
        """What its manual says."""
        assert self.facts.profile is not None
        return self.facts.profile

    def meet(self) -> None:
        """See `Master`."""
        self._ask("read_coils", self.profile.coil, count=1)

    def adopt(self, come: Collection[int], gone: Collection[int]) -> None:
        """Its coils need no setting up."""

    def put(self, levels: Mapping[int, Put]) -> Mapping[int, int]:
        """Write what has changed, coils side by side together; read back what the board then has."""
        profile = self.profile
        first_level = profile.lines + profile.inputs + len(profile.analogue)
        plain = {line: put.parts > 0 for line, put in levels.items() if line < profile.lines}
        for first, states in runs(plain):
            if profile.one_by_one or not states[1:]:  # many know the function for one coil alone
                for number, state in enumerate(states):
                    self._ask("write_coil", profile.coil + first + number, state)
            else:
                self._ask("write_coils", profile.coil + first, states)
        shown: dict[int, int] = {}
        if plain:
            bits = self._ask("read_coils", profile.coil, count=profile.lines)
            shown = {line: FULL if bits[line] else 0 for line in plain}
        for line, put in levels.items():
            if line >= first_level:
                register, full = profile.levels[line - first_level]
                counts = round(put.parts * full / FULL)
                self._ask("write_register", register, counts)
                now = self._ask("read_holding_registers", register, count=1)[0]
                shown[line] = put.parts if now == counts else now * FULL // full
        return shown

    def look(self) -> None:
        """See `Master`."""
        profile = self.profile
        coils = self._ask("read_coils", profile.coil, count=profile.lines, quiet=True)
        for line in range(profile.lines):
            self.observed(line, FULL if coils[line] else 0)
        first = profile.lines
        if profile.inputs:
            with self._unknown_where_refused(range(first, first + profile.inputs)):
                states = self._ask(
                    "read_discrete_inputs", profile.first_input, count=profile.inputs, quiet=True
                )
                for number in range(profile.inputs):
                    self.seen(first + number, bool(states[number]))
        for number, register in enumerate(profile.analogue):
            line = first + profile.inputs + number
            if line in self.inputs or line in self.tried:
                with self._unknown_where_refused((line,)):
                    count = register.read(
                        self._ask("read_input_registers", register.at, count=register.words, quiet=True)
                    )
                    if count is None:
                        self.unknown(line)
                    elif register.form == "float":
                        self.measured(line, round(count * 1000), 0, count * float(register.volts))
                    else:
                        full = {"u16": WHOLE, "s16": WHOLE >> 1}.get(register.form, 0)
                        self.measured(line, int(count), full, count * float(register.volts))

    @contextmanager
    def _unknown_where_refused(self, lines: Iterable[int]) -> Iterator[None]:
        """What the board refuses to tell of inputs is not known of these, and is nobody else's fault."""
        try:
            yield
        except LineError:
            for line in lines:
                self.unknown(line)

    def attempt_now(self, line: int, trial: Trial | None) -> None:
        """No bare pin of it can be tried."""
        raise BoardError(
            "pin", f"lines of {self.board.name} are what its profile says; give it a name to use it", ""
        )

    def survey(self) -> Mapping[int, Seen]:
        """Levels as last read."""
        return {line: seen._replace(functions=frozenset()) for line, seen in super().survey().items()}
