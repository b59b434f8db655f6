"""Outputs: the loads on pins, what settings they take, and what these are at their pins.

Sense and contact are recorded here and applied in `cairnwind.boards.wire`, nowhere else.
"""

from __future__ import annotations

import re
from collections.abc import Callable
from fractions import Fraction
from functools import partial
from typing import TYPE_CHECKING, TypeVar

from cairnwind.core.facts.hardware import CABLE, LABEL, PLACE, SENSES, STEPS, Pin, either
from cairnwind.core.physics.light import STRAIGHT, Light
from cairnwind.core.physics.shaping import Shape
from cairnwind.core.values import colours, entries
from cairnwind.core.values.errors import CallerError
from cairnwind.core.values.fact import derive, fact
from cairnwind.core.values.keys import Key, keys, written
from cairnwind.core.values.quantities import NS, duration
from cairnwind.core.values.settings import (
    FULL,
    KINDS,
    MOST,
    OFF,
    ZERO,
    Colour,
    Drive,
    Level,
    Setting,
    Tone,
    brief,
    read,
    show,
)

if TYPE_CHECKING:
    from cairnwind.core.physics.programs import Program

T = TypeVar("T")
EXAMPLES = {
    "level": "a level like 40 %, on or off",
    "colour": "a colour like coral, #e07b1c or hue 30",
    "tone": "a tone like A4 or 440 Hz",
    "drive": "a drive from -100 % to 100 %",
}


@fact
class Switch:
    """The transistor between a pin and its load: volts, amperes, and seconds to switch on and off."""

    volts: Fraction
    current: Fraction
    rise: Fraction
    fall: Fraction


ANGLE = re.compile(r"([-−+]?\d+(?:\.\d+)?)\s*(?:°|deg|degrees?)")
DRIVERS = ("push-pull", "open-drain", "open-source")


@fact
class Output:
    """A named load on a pin."""

    name: str
    kind: str = written(
        f"{either(KINDS)}; heaters, motors and locks re-arm by command unless said",
        partial(entries.choice, among=tuple(KINDS)),
        needed=f"Say what it is: {' or '.join(KINDS)}.",
    )
    pin: Pin = written("where it is wired", needed='Say where it is wired: pin = "board:J2-9".')
    label: str = LABEL
    place: str = PLACE
    cable: str = CABLE
    active_low: bool = written(
        '`"active-high"` or `"active-low"`: written once, here; everywhere else on means the load is on',
        partial(entries.second, among=SENSES),
        name="sense",
        default=False,
        unsaid='"active-high"',
    )
    normally_closed: bool = written(
        '`"normally-open"` or `"normally-closed"`: with the latter a dead coil leaves the load on',
        partial(entries.second, among=("normally-open", "normally-closed")),
        name="contact",
        default=False,
        unsaid='"normally-open"',
    )
    driver: str = written(
        f"how its pin drives, on a line of the kernel: {either(DRIVERS)}; an open drain pulls low and lets go, an open source pulls high and lets go",
        partial(entries.choice, among=DRIVERS),
        default="push-pull",
        unsaid='"push-pull"',
    )
    frequency: Fraction | None = written(
        "PWM of a lamp, colour lamp, fan or motor: makes it dimmable; all pins of a timer share it",
        default=None,
    )
    """Hertz."""
    by_software: bool = written(
        '`"software"`: PWM by a thread, on a line of the kernel without its own, up to 200 Hz',
        partial(entries.second, among=("hardware", "software")),
        name="pwm",
        default=False,
        unsaid='"hardware"',
    )
    threshold: Level | None = written("of an on/off output: levels from here on count as on", default=None)
    safe: Setting = written("the setting that gates and failures send it to; off unless said", default=OFF)
    rest: Setting = written("the setting that nobody claims; `safe` unless said", default=OFF)
    rearm: str = written(
        '`"auto"`, or `"command"`: after a stop, a lost link or a restart it takes a new command',
        partial(entries.choice, among=("auto", "command")),
        default="auto",
        unsaid='"auto"',
    )
    on_stop: str = written(
        '`"safe"`, or `"keep"`: stays as it is when the service stops in good order',
        partial(entries.choice, among=("safe", "keep")),
        default="safe",
        unsaid='"safe"',
    )
    proof: str = written(
        'what shows by itself whether it is on: `"kiln-aux is closed"`, of an auxiliary contact or a current sensor; its board is not believed alone then',
        entries.text,
        default="",
    )
    proof_within: int = written(
        "how long after its board's word the proof may take",
        partial(duration, longest=600),
        default=NS,
        unsaid='"1 s"',
    )
    """Nanoseconds."""
    auto_off: int = written(
        "a time after which what a person has on goes off, if they did not say how long", duration, default=0
    )
    """Nanoseconds; 0: it does not."""
    rated: tuple[int, int] = written(
        'what it is good for: `"100000 switchings"`, `"25000 h"`, or a list of both',
        entries.rated,
        default=(0, 0),
    )
    """How many switchings and how many nanoseconds on; 0: not said."""
    words: tuple[str, str] = written(
        'its own two words, off first: `["shut", "open"]`',
        entries.words,
        default=("off", "on"),
        unsaid='["off", "on"]',
    )
    draws: Fraction | None = written(
        'what it draws when it is on: `{ supply = "coil-rail", current = "72 mA" }`', default=None
    )
    """Amperes from its supply when on."""
    supply: str = ""
    load: Fraction | None = written('what it switches: `"85 W"`', partial(entries.a, "power"), default=None)
    """Watts."""
    gives: Fraction | None = written(
        'what the pin itself has to give or take: `"5 mA"`', partial(entries.a, "current"), default=None
    )
    """Amperes."""
    bias: tuple[Fraction, str] | None = written(
        'the resistor that holds it before software runs: `"12 kohm down"`', entries.bias, default=None
    )
    """Ohms, and 'up' or 'down'."""
    switch: Switch | None = written(
        "for `check`: `{ volts, current, rise, fall }` of the transistor", default=None
    )
    levels: bool = False
    """Its board dims it by itself: it has levels without a PWM frequency of ours."""
    others: tuple[int, ...] = ()
    """More lines of the same board: green and blue of a colour lamp, the line that reverses a motor."""
    brakes: bool = written(
        "of a motor with two lines: whether it is held while it stands, by both lines on, or runs out with both off: "
        '`"brake"` or `"coast"`',
        partial(entries.second, among=("coast", "brake")),
        name="stands",
        default=False,
        unsaid='"coast"',
        kinds=("motor",),
    )
    degrees: tuple[float, float] = written(
        "where the pulses of `travel` put it; it is told degrees, or how far it is between the two in percent",
        partial(entries.range_of, example="degrees = [-45, 45]"),
        default=(0.0, 180.0),
        unsaid="[0, 180]",
        kinds=("servo",),
    )
    volts: tuple[Fraction, Fraction] | None = None
    """Of what is told volts by a converter at its pin: those at its least and at full; off is none."""
    latching: int = 0
    """Of a relay with two coils that stays where it was put: how long a coil gets current, in nanoseconds; 0: it is none."""
    reversal: str = ""
    """Of a motor with a line to reverse it: 'two lines' (one for each way) or 'direction' (PWM and a line for the way)."""
    light: Light = STRAIGHT
    steps: int = STEPS
    """How many duties its timer tells apart."""
    shape: Shape | None = None
    pixels: int = 0
    """Of a run on a strip: how many."""
    millihertz: int = 0
    """Its PWM frequency in millihertz; 0 where it has none. Follows from `frequency`, and is asked for at every step."""

    def __post_init__(self) -> None:
        frequency = self.frequency
        found = 0 if frequency is None else frequency.numerator * 1000 // frequency.denominator
        derive(self, "millihertz", found)

    @property
    def lines(self) -> tuple[int, ...]:
        """Every line it is wired to."""
        return (self.pin.line, *self.others)

    @property
    def takes(self) -> str:
        """What it is set to: 'level', 'colour', 'tone' or 'drive'."""
        return "drive" if self.reversal else KINDS[self.kind].takes

    @property
    def off(self) -> Setting:
        """Its zero."""
        return ZERO[self.takes]

    @property
    def full(self) -> Setting:
        """What a plain 'on' is."""
        return MOST[self.takes]

    @property
    def dimmable(self) -> bool:
        """Whether it has settings between off and on."""
        return self.frequency is not None or self.levels or self.takes in ("colour", "tone")

    @property
    def modulated(self) -> bool:
        """Whether its pins are given PWM by us."""
        return self.frequency is not None or self.takes == "tone"

    def modulates(self, line: int) -> bool:
        """Whether we give one of its lines PWM."""
        return self.modulated and not (self.reversal == "direction" and line != self.pin.line)

    def hertz(self, line: int, setting: Setting) -> int:
        """The frequency of one of its lines in millihertz; 0 where it has none."""
        if type(setting) is Tone:
            return setting.millihertz
        if type(setting) is Level and setting.millihertz:
            return setting.millihertz
        if self.frequency is None or (self.reversal == "direction" and line != self.pin.line):
            return 0
        return self.millihertz

    def duties(self, setting: Setting) -> tuple[int, ...]:
        """How far each of its lines is on for a setting, in parts per million, in the order of `lines`."""
        match setting:
            case Level(parts, _, raw):
                if self.latching:
                    return (FULL, 0) if parts else (0, FULL)
                return (parts if raw or self.light is STRAIGHT else self.light.duty(parts),)
            case Tone(millihertz, loudness):
                return (loudness // 2 if millihertz else 0,)
            case Drive(parts):
                if self.brakes and not parts:
                    return FULL, FULL
                if self.reversal == "direction":
                    return abs(parts), FULL if parts < 0 else 0
                return max(0, parts), max(0, -parts)
            case Colour():
                if not setting.on:
                    return 0, 0, 0
                shares = [colours.linear(part) for part in setting]
                return tuple(
                    self.light.of_light(share, channel) if share else 0
                    for channel, share in enumerate(shares)
                )

    def shown(self, duties: tuple[int, ...]) -> Setting:
        """The setting that stands behind what its lines are found at: the inverse of `duties`, as near as that goes."""
        match self.takes:
            case "colour":
                top = [self.light.of_light(FULL, channel) for channel in range(3)]
                red, green, blue = (
                    colours.encoded(
                        min(FULL, (duty - self.light.floor) * FULL // max(1, most - self.light.floor))
                    )
                    if duty
                    else 0
                    for duty, most in zip(duties, top, strict=True)
                )
                return Colour(red, green, blue)
            case "tone":
                return Tone(0 if not duties[0] else 1_000_000, min(FULL, duties[0] * 2))
            case "drive" if self.reversal == "direction":
                return Drive(-duties[0] if duties[1] > FULL // 2 else duties[0])
            case "drive":
                return Drive(duties[0] - duties[1])  # both on is a brake, both off lets it run out
        if self.latching:
            return Level(FULL if duties[0] > duties[1] else 0)
        return Level(duties[0] if self.light is STRAIGHT else self.light.level(duties[0]))

    def counts(self, setting: Setting) -> tuple[int, ...]:
        """What tells two settings apart at its pins: the counts of its timers, and the frequency of a tone."""
        steps = self.steps
        if type(setting) is Level:  # asked at every step of every fade
            duty = setting.parts if setting.raw or self.light is STRAIGHT else self.light.duty(setting.parts)
            return ((duty * steps + FULL // 2) // FULL or (duty > 0),)
        found = tuple([(duty * steps + FULL // 2) // FULL or (duty > 0) for duty in self.duties(setting)])
        return (*found, setting.millihertz) if type(setting) is Tone else found

    def say(self, setting: Setting | Program) -> str:
        """The setting in this output's words."""
        if self.kind == "servo" and isinstance(setting, Level) and setting.parts:
            return f"{self.angle(setting):g}°"
        if not isinstance(setting, tuple):
            return setting.text  # of a program
        text = show(brief(setting), self.words, dimmable=self.dimmable)
        if self.volts is not None and isinstance(setting, Level) and setting.parts:
            low, high = self.volts
            text += f" ({float(low + (high - low) * setting.parts / FULL):.3g} V)"
        return text

    def admit(self, setting: Setting) -> Setting:
        """The setting as this output can have it.

        A level between 0 and 100 % of an on/off output becomes off or on by its threshold; without one it
        raises `CallerError` (``bad-value``): the same on every surface.
        """
        if type(setting) is not type(self.off):
            raise CallerError(
                "bad-value",
                f"{self.name} cannot be set to {show(setting)}: it takes a {self.takes}.",
                f"Give it {EXAMPLES[self.takes]}.",
            )
        if (
            self.reversal
            and self.frequency is None
            and isinstance(setting, Drive)
            and abs(setting.parts) not in (0, FULL)
        ):
            raise CallerError(
                "bad-value",
                f"{self.name} cannot be set to {show(setting)}: its pins are used without PWM.",
                "Say 100 %, -100 % or off.",
            )
        if not isinstance(setting, Level) or setting.parts in (0, FULL) or self.dimmable:
            if isinstance(setting, Level) and (setting.raw or setting.millihertz) and self.frequency is None:
                raise CallerError(
                    "bad-value",
                    f"{self.name} cannot be set to {show(setting)}: its pin is used without PWM.",
                    "Say a level, on or off.",
                )
            return setting
        if self.threshold is not None:
            return Level(FULL) if setting >= self.threshold else OFF
        why = "its kind is on/off" if not KINDS[self.kind].dims else "its pin is used without PWM"
        fix = "Say on or off" + (
            ", or give it a 'frequency' in the site file."
            if KINDS[self.kind].dims
            else ", or give it a 'threshold' in the site file."
        )
        raise CallerError("bad-value", f"{self.name} cannot be set to {show(setting)}: {why}.", fix)

    def fits(self, program: Program) -> Program:
        """The program, if this output can be given it. Raises `CallerError` (``bad-value``)."""
        if any(type(segment.end) is not type(self.off) for segment in program.segments):
            raise CallerError(
                "bad-value",
                f"{self.name}: a {program.word} is not for what takes a {self.takes}.",
                "Give it to an output that does.",
            )
        if not self.dimmable and any(segment.shape != "hold" for segment in program.segments):
            raise CallerError(
                "bad-value",
                f"{self.name}: a {program.word} needs levels between off and on, and it has none.",
                "Blink it, or "
                + ("give it a 'frequency' in the site file." if KINDS[self.kind].dims else "say on or off."),
            )
        return program

    def angle(self, level: Level) -> float:
        """Degrees of a servo at a level, to a tenth."""
        low, high = self.degrees
        return round(low + (high - low) * level.parts / FULL, 1)

    def _turned(self, text: object) -> Setting | None:
        """The level of so many degrees: a hair above none at its lower end, for at none it gets no pulse. None where none are said."""
        said = ANGLE.fullmatch(text.strip()) if self.kind == "servo" and isinstance(text, str) else None
        if said is None:
            return None
        (low, high), degrees = self.degrees, float(said[1].replace("−", "-"))
        if not low <= degrees <= high:
            raise CallerError(
                "bad-value", f"{self.name} turns from {low:g}° to {high:g}°, not to {degrees:g}°.", f"Say {low:g}° to {high:g}°."
            )  # fmt: skip
        return Level(max(1, round((degrees - low) / (high - low) * FULL)))

    def read(self, text: object) -> Setting:
        """Read what a person wrote as a setting of this output. Raises `CallerError` (``bad-value``)."""
        turned = self._turned(text)
        if turned is not None:
            return turned
        try:
            return self.named(lambda: self.admit(read(text, self.takes, self.words)))
        except CallerError as bad:
            if (
                self.takes != "level"
                or self.dimmable
                or self.threshold is not None
                or "or a word for one" not in bad.sentence
            ):
                raise
            off, on = self.words
            raise CallerError(
                bad.code, f"{self.name}: {text!r} is neither {on} nor {off}.", f"Write {on} or {off}."
            ) from None

    def named(self, make: Callable[[], T]) -> T:
        """What ``make`` gives; its `CallerError` begins with the output's name."""
        try:
            return make()
        except CallerError as bad:
            if self.name in bad.sentence:
                raise
            raise CallerError(bad.code, f"{self.name}: {bad.sentence}", bad.remedy) from None


OUTPUT_KEYS = (
    *keys(Output),
    Key("pins", 'instead of `pin`: `{ red = "…", green = "…", blue = "…" }`', kinds=("colour-lamp",)),
    Key("white", 'its white balance: `["100 %", "80 %", "70 %"]`', kinds=("colour-lamp",)),
    Key("lamps", "on a strip: how many from `pin` on are one", partial(entries.whole, low=1, high=1000), 1, "1", kinds=("colour-lamp",)),
    Key("curve", '`"lightness"` (with PWM), `"straight"`, `"power 1.8"`, or a table `[[0, 0], [50, 20], [100, 100]]` of level and duty', kinds=("lamp",)),
    Key("floor", "the least duty that lights", entries.share, 0, '"0 %"', kinds=("lamp", "colour-lamp")),
    Key("ceiling", "the most duty that it gets", partial(entries.share, low=1), FULL, '"100 %"', kinds=("lamp", "colour-lamp")),
    Key("trim", "what matches it to its neighbours", partial(entries.share, low=1), FULL, '"100 %"', kinds=("lamp",)),
    Key("lowest", "the duty that 1 % is", entries.share, 0, '"0 %"', kinds=("fan",)),
    Key("kick", "full for so long when it starts; not at all unless said", partial(duration, longest=30), 0, kinds=("fan",)),
    Key("resets", 'of a latching relay: its second coil, `"board:line-5"`; `pin` is the one that sets it', kinds=("relay",)),
    Key("pulse", "of a latching relay: how long a coil gets current", partial(duration, longest=1), 50_000_000, '"50 ms"', kinds=("relay",)),
    Key("reverse", 'its second line, or `{ direction = "…" }`', kinds=("motor",)),
    Key("pause", "how long it stands before it turns round; not at all unless said", partial(duration, longest=30), 0, kinds=("motor",)),
    Key("ramp", "the time from nothing to full; at once unless said", partial(duration, longest=30), 0, kinds=("motor",)),
    Key("travel", "the pulses at its two ends", entries.widths, (10**6, 2 * 10**6), '["1 ms", "2 ms"]', kinds=("servo",)),
    Key(
        "volts", 'of what is told volts, by a converter at its pin: those at its least and at full, `["1 V", "10 V"]`; off is 0 V',
        entries.voltages, kinds=("lamp", "fan"),
    ),
    Key("converter", "the volts that its converter makes of full duty", partial(entries.a, "voltage"), Fraction(10), '"10 V"', kinds=("lamp", "fan")),
    Key("led", 'instead of `gives`, for `check`: `{ forward = "2.1 V", resistor = "220 ohm", count = 1 }`'),
)  # fmt: skip
"""Those that fill fields of an output, and those that fields are put together from."""
