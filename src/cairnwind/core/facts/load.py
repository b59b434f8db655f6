"""What an output takes at a setting, by its stated load."""

from __future__ import annotations

from cairnwind.core.facts.outputs import Output
from cairnwind.core.values.settings import FULL, Setting


def power(output: Output, setting: Setting) -> float:
    """Watts at a setting: its load by the mean duty of its lines that are lit; 0 where no load is stated.

    A dimmed load takes its power in proportion to its duty, which holds for LEDs and heaters and is an upper
    bound for motors.
    """
    if output.load is None:
        return 0.0
    duties = output.duties(setting)
    share = duties[0] if output.takes == "drive" else sum(duties) / len(duties)
    return float(output.load) * share / FULL
