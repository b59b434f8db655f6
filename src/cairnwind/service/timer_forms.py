"""The JSON forms of timers and of how they reach a frequency: for HTTP, and for the command line without a service."""

from __future__ import annotations

from typing import Any

from cairnwind.core.physics import pwm
from cairnwind.core.values.errors import CallerError
from cairnwind.core.values.quantities import parse


def timer_form(timer: pwm.Timer) -> dict[str, Any]:
    """A timer as a JSON object."""
    low, high = timer.reach
    return {
        "name": timer.name, "title": timer.title, "clock": timer.clock, "prescalers": list(timer.prescalers), "width": timer.width,
        "fixed": timer.fixed or None, "slope": "dual" if timer.dual else "single", "finer": timer.finer, "duty_width": timer.duty_width or None,
        "lowest_hertz": float(low), "highest_hertz": float(high), "channels": {channel: list(pins) for channel, pins in timer.channels.items()},
    }  # fmt: skip


def fit_form(timer: pwm.Timer, hertz: str, duty: str, first: str) -> dict[str, Any]:
    """Candidates and the best as a JSON object. Raises `CallerError` for what is no frequency, duty or order."""
    if first not in (pwm.ERROR, pwm.RESOLUTION):
        raise CallerError("bad-value", f"'{first}' is no order.", "Say error or resolution.")
    asked, share = parse(hertz, "a frequency", bare="hz"), parse(duty, "a share", bare="%") / 100
    found = pwm.candidates(timer, asked, share)
    best = pwm.best(timer, asked, share, first)
    waves = [[float(at), float(level)] for at, level in pwm.edges(timer, best)]
    return {
        "timer": timer_form(timer), "hertz": float(asked), "duty": float(share * 100), "first": first, "beyond": pwm.beyond(timer, asked),
        "best": fit_row(best), "candidates": [fit_row(each) for each in found], "wave": {"seconds": float(2 / best.hertz), "edges": waves},
    }  # fmt: skip


def fit_row(fit: pwm.Fit) -> dict[str, Any]:
    """One candidate."""
    return {
        "prescaler": fit.prescaler, "period": fit.period, "compare": fit.compare, "hertz": float(fit.hertz), "error_percent": float(fit.error),
        "duty": float(fit.duty * 100), "duty_error_percent": float(fit.duty_error), "steps": fit.steps, "period_ns": float(fit.period_ns),
        "in_reach": fit.in_reach,
    }  # fmt: skip
