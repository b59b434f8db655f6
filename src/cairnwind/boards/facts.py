"""What data files say of chips and of boards that are sold, and where the message broker is. Facts only: nothing is opened here."""

from __future__ import annotations

import math
import re
import struct
from collections.abc import Mapping, Sequence
from fractions import Fraction
from functools import partial
from typing import NamedTuple

from cairnwind.core.facts.telling import LEAST_SEVERITY, WHICH_EVENTS, WHICH_OUTPUTS
from cairnwind.core.values import entries
from cairnwind.core.values.errors import CallerError
from cairnwind.core.values.fact import fact, field
from cairnwind.core.values.keys import written
from cairnwind.core.values.quantities import duration


@fact
class Chip:
    """A port expander or PWM controller, as its datasheet describes it: a register profile.

    Registers of a chip with more than eight lines come in pairs, the low one first.
    """

    name: str
    title: str
    lines: int
    base: int
    """Address with all switches off."""
    switches: int
    """Number of address switches; switch 0 is worth 1."""
    kind: str = "ports"
    """'ports' (on and off) or 'pwm'."""
    registers: Mapping[str, int] = field(default_factory=dict)
    direction_in: int = 1
    """What a direction bit is for an input."""
    writes: tuple[tuple[int, int], ...] = ()
    """(register, value) to be written first."""
    clock: Fraction = Fraction(0)
    """Hertz, of a PWM controller."""
    counts: int = 0
    """Counts of one PWM period."""
    stride: int = 0
    """Registers from one PWM channel to the next."""
    after_reset: Mapping[str, int] = field(default_factory=dict)
    """What registers hold when it has got its supply; 0 unless said."""

    @property
    def width(self) -> int:
        """Bytes of a register: those of a chip with more than eight lines come in pairs."""
        return 2 if self.lines > 8 and self.kind == "ports" else 1

    def address(self, switches: int) -> int:
        """The address with the switches set to this number."""
        return self.base + switches


class Register(NamedTuple):
    """An input register that is a reading, or two of them."""

    at: int
    volts: Fraction
    """Of a count."""
    form: str = "u16"
    """One of `FORMS`."""
    low_first: bool = False
    """Of two words the low one comes first."""

    @property
    def words(self) -> int:
        """How many registers it takes."""
        return 1 if self.form.endswith("16") else 2

    def read(self, words: Sequence[int]) -> float | None:
        """The count that stands there; None where it is no number."""
        raw = b"".join(word.to_bytes(2, "big") for word in (reversed(words) if self.low_first else words))
        (found,) = struct.unpack(FORMS[self.form], raw)
        return float(found) if math.isfinite(found) else None


FORMS = {"u16": ">H", "s16": ">h", "u32": ">I", "s32": ">i", "float": ">f"}
"""What stands in registers, the highest byte of each first, as Modbus has it."""


@fact
class Relays:
    """A Modbus board that is sold: which coil is which line, and what its registers mean."""

    name: str
    title: str
    lines: int
    coil: int = 0
    """Address of line 0's coil."""
    inputs: int = 0
    """Discrete inputs: lines from ``lines`` on."""
    first_input: int = 0
    analogue: tuple[Register, ...] = ()
    """Lines after the inputs."""
    levels: tuple[tuple[int, int], ...] = ()
    """(holding register, counts at full): lines after those, to be dimmed."""
    one_by_one: bool = False
    """It knows no function for several coils at once."""


PORTS = {"mqtt": 1883, "mqtts": 8883, "ws": 80, "wss": 443}


def _address(value: object) -> tuple[bool, str, int, str]:
    """Whether it is encrypted, its host, its port, and the path of a websocket."""
    match = re.fullmatch(
        r"(mqtts?|wss?)://([\w.-]+|\[[0-9a-fA-F:.]+\])(?::(\d{1,5}))?(/[\w./-]*)?", str(value)
    )
    if (
        match is None
        or (match[4] and not match[1].startswith("ws"))
        or int(match[3] or 1) not in range(1, 65536)
    ):
        raise CallerError(
            "",
            f"{value!r} is not the address of a broker.",
            'Write "mqtt://host:1883", "mqtts://host:8883", "mqtts://[::1]:8883", or "wss://host/mqtt".',
        )
    path = (match[4] or "/mqtt") if match[1].startswith("ws") else ""
    return match[1] in ("mqtts", "wss"), match[2].strip("[]"), int(match[3] or PORTS[match[1]]), path


def _band(value: object) -> float:
    if isinstance(value, bool) or not isinstance(value, int | float) or value < 0:
        raise CallerError("", f"{value!r} is not a width.", "Write how far a value has to move, in its unit.")
    return float(value)


@fact
class Broker:
    """Where the message broker is, and how to sign in to it."""

    host: str = written(
        'where it is: `"mqtt://host:1883"`, `"mqtts://host:8883"`, or by a websocket `"wss://host/mqtt"`',
        _address,
        name="address",
        needed='Say where it is: address = "mqtt://127.0.0.1:1883".',
    )
    port: int
    secure: bool = False
    path: str = ""
    """Of a websocket; empty: it is none."""
    user: str = written("who signs in to it", entries.text, default="")
    secret: str = written(
        "the name of the password: a file of the state folder, or an environment variable",
        entries.text,
        default="",
    )
    key: str = written(
        "whose key those carry who command by it; nobody commands by it unless said", entries.text, default=""
    )
    version: str = written(
        'of the protocol: `"5"` or `"3.1.1"`',
        partial(entries.choice, among=("5", "3.1.1")),
        default="5",
        unsaid='"5"',
    )
    authority: str = written(
        "the path of the certificate that signed the broker's; those that the machine trusts unless said",
        entries.text,
        default="",
    )
    certificate: str = written(
        "the path of the certificate by which this service shows the broker who it is",
        entries.text,
        default="",
    )
    certificate_key: str = written(
        "the path of that certificate's key; in the same file unless said", entries.text, default=""
    )
    every: int = written(
        "time between two messages on the state of one output, at least",
        partial(duration, longest=3600), name="at_most_every", default=100_000_000, unsaid='"100 ms"',
    )  # fmt: skip
    """Nanoseconds."""
    readings: int = written(
        "time between two messages on a value that moves, at least",
        partial(duration, longest=3600), name="readings_every", default=5_000_000_000, unsaid='"5 s"',
    )  # fmt: skip
    """Nanoseconds."""
    band: float = written(
        "how far a value has to move to be told before that",
        _band,
        name="readings_band",
        default=0.0,
        unsaid="0",
    )
    again: int = written(
        "time after which an input that has not changed is told again, so that what is steady differs from what is dead",
        partial(duration, longest=86400), name="again_every", default=60_000_000_000, unsaid='"60 s"',
    )  # fmt: skip
    """Nanoseconds."""
    tells: bool = written(
        "whether anything of the site is told there at all", entries.flag, default=True, unsaid="true"
    )
    events: tuple[str, ...] = WHICH_EVENTS
    outputs: tuple[str, ...] = WHICH_OUTPUTS
    severity: str = LEAST_SEVERITY
    name: str = "broker"
