"""Inputs: buttons, switches and sensors on pins, and what their lines or volts stand for."""

from __future__ import annotations

from fractions import Fraction
from functools import partial

from cairnwind.core.facts.hardware import CABLE, LABEL, PLACE, SENSES, Pin, either
from cairnwind.core.physics import scaling
from cairnwind.core.physics.scaling import Loop, Thermistor, along, back
from cairnwind.core.values import entries
from cairnwind.core.values.fact import fact
from cairnwind.core.values.keys import written
from cairnwind.core.values.quantities import duration

INPUT_KINDS = ("contact", "analogue", "counter", "encoder")
STATES = ("contact", "counter")
"""Kinds of input whose line is high or low."""
COUNTS = ("counter", "encoder")
"""Kinds of input that count, over restarts too."""
TURNS = ("turned down", "turned up")
"""What an encoder becomes at each of its steps, for a moment."""


@fact
class Input:
    """A named button, switch or sensor on a pin."""

    name: str
    kind: str = written(
        either(INPUT_KINDS),
        partial(entries.choice, among=INPUT_KINDS),
        needed=f"Say what it is: {' or '.join(INPUT_KINDS)}.",
    )
    pin: Pin = written("where it is wired", needed='Say where it is wired: pin = "board:J3-4".')
    second: Pin | None = written(
        "the second of its two lines, of the same board; turned the way in which this one follows the first, it counts up",
        default=None,
        kinds=("encoder",),
    )
    per_step: int = written(
        "how often its two lines change from one rest to the next: 4, 2 or 1",
        partial(entries.one_of, among=(4, 2, 1)),
        default=4,
        unsaid="4",
        kinds=("encoder",),
    )
    label: str = LABEL
    place: str = PLACE
    cable: str = CABLE
    active_low: bool = written(
        '`"active-high"` or `"active-low"`',
        partial(entries.second, among=SENSES),
        name="sense",
        default=False,
        unsaid='"active-high"',
        kinds=STATES,
    )
    words: tuple[str, str] = written(
        "its own two words, inactive first",
        entries.words,
        default=("closed", "open"),
        unsaid='["closed", "open"]',
        kinds=("contact",),
    )
    pull: str = written(
        '`"up"`, `"down"` or `"none"`',
        partial(entries.choice, among=("up", "down", "none")),
        default="none",
        unsaid='"none"',
        kinds=(*STATES, "encoder"),
    )
    debounce: int = written(
        "how long a new state must last before it counts; it counts at once unless said",
        partial(duration, longest=60),
        default=0,
        kinds=STATES,
    )
    """Nanoseconds."""
    source: Fraction | None = written(
        "the volts that its source puts on the wire: held against what the pin bears",
        partial(entries.a, "voltage"),
        default=None,
    )
    unit: str = written(
        'what its value is in: `"°C"`; volts without a scale',
        entries.text,
        default="",
        kinds=("analogue", *COUNTS),
    )
    scale: tuple[tuple[float, float], ...] | Thermistor | Loop | None = written(
        'points of volts and value, two or more: `[["0.5 V", -40], ["2.5 V", 85]]`; or `{ thermistor = "10 kohm", beta = 3950, '
        'series = "10 kohm", volts = "3.3 V", side = "below" }`, `steinhart = [a, b, c]` in place of the first two; or a loop of 4 to 20 mA and the resistor it is measured at: `{ loop = "250 ohm", points = [["4 mA", 0], ["20 mA", 10]] }`',
        scaling.read,
        default=None,
        kinds=("analogue",),
    )
    """Points of (volts, value) that its value is on straight lines through, a thermistor, or a current loop."""
    every: int = written(
        "time between two readings that count; as the board gives them unless said",
        partial(duration, longest=3600),
        default=0,
        kinds=("analogue",),
    )
    """Nanoseconds."""
    median: int = written(
        "of so many readings the middle one counts",
        partial(entries.whole, low=3, high=99),
        default=0,
        kinds=("analogue",),
    )
    settles: int = written(
        "the time in which it follows a step to 63 %; at once unless said",
        partial(duration, longest=3600),
        default=0,
        kinds=("analogue",),
    )
    """Nanoseconds."""
    plausible: tuple[float, float] = written(
        "two numbers: values beyond these are not believed, and it is unknown",
        entries.plausible,
        default=(float("-inf"), float("inf")),
        kinds=("analogue",),
    )
    hysteresis: float = written(
        "how far a value has to come back before a comparison with it is no longer true",
        entries.number,
        default=0.0,
        unsaid="0",
        kinds=("analogue", *COUNTS),
    )
    stale: int = written(
        "a silence after which it is unknown; it may be silent for ever unless said", duration, default=0
    )
    """Nanoseconds."""
    pulse: float = written(
        "what one pulse, or one step, stands for, in its unit",
        entries.number,
        default=1.0,
        unsaid="1",
        kinds=COUNTS,
    )
    window: int = written(
        "its value is what came in the last so long; all that it has ever counted, kept over restarts, unless said",
        partial(duration, longest=86400),
        default=0,
        kinds=("counter",),
    )
    """Nanoseconds."""

    @property
    def lines(self) -> tuple[int, ...]:
        """Its line; of an encoder both, the first one first."""
        return (self.pin.line,) if self.second is None else (self.pin.line, self.second.line)

    @property
    def analogue(self) -> bool:
        """Whether it is measured."""
        return self.kind == "analogue"

    @property
    def counts(self) -> bool:
        """Whether it counts pulses or steps, for good."""
        return self.kind in COUNTS

    @property
    def valued(self) -> bool:
        """Whether it has a value instead of two states."""
        return self.kind != "contact"

    @property
    def measure(self) -> str:
        """The unit that its value is in; empty for what is only counted."""
        return self.unit or ("V" if self.analogue else "")

    @property
    def repeat(self) -> int:
        """Nanoseconds after which an unchanged reading is told again; 0: it need not be."""
        if self.median or self.settles:
            return self.every or 100_000_000
        return self.stale // 3

    def value(self, volts: float) -> float | None:
        """The scaled value at so many volts on the pin; None where they stand for none."""
        if self.scale is None:
            return volts
        return (
            self.scale.value(volts) if isinstance(self.scale, Thermistor | Loop) else along(self.scale, volts)
        )

    def volts(self, value: float) -> float:
        """The volts that stand for a value: the inverse of `value`."""
        scale = self.scale
        if scale is None:
            return value
        if isinstance(scale, Loop):
            return scale.at(value)
        if not isinstance(scale, Thermistor):
            return back(scale, value)
        low, high = scale.volts * 0.0021, scale.volts * 0.9979
        falling = (scale.value(low) or 0.0) > (scale.value(high) or 0.0)
        for _ in range(50):
            middle = (low + high) / 2
            if ((scale.value(middle) or 0.0) > value) == falling:
                low = middle
            else:
                high = middle
        return low

    def say(self, active: bool | None) -> str:
        """The state in this input's words."""
        return "unknown" if active is None else self.words[1 if active else 0]
