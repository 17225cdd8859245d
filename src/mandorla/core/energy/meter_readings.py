"""A plug meter as people read it: a range of watts by eye, a total of some hours or days; against the prediction."""

from __future__ import annotations

from typing import NamedTuple

from mandorla.core.energy.use import EnergyUse, PhaseUse
from mandorla.core.measure.models import MeterReading
from mandorla.core.rig.consumers import Doing
from mandorla.core.units import METRIC, UnitPreferences, show

_STATES = {
    "idle": Doing.IDLE, "warm-up": Doing.WARM_UP, "soak": Doing.SOAK, "print": Doing.PRINT, "cool-down": Doing.COOL_DOWN
}  # fmt: skip


class ReadAgainst(NamedTuple):
    """A reading with what is predicted for it: ``low`` and ``high`` as read, ``predicted`` with its 90 % range (W or J); whether
    both ranges overlap, and whether it can be compared at all (``flagged`` says why not)."""

    reading: MeterReading
    low: float
    high: float
    predicted: tuple[float, float, float]
    agrees: bool
    flagged: str

    def words(self, prefs: UnitPreferences = METRIC) -> str:
        """What it comes to."""
        if self.flagged:
            return self.flagged
        kind = "power" if self.reading.kind == "power" else "energy"
        middle, low, high = (show(v, kind, prefs) for v in self.predicted)
        if self.agrees:
            return f"predicted {middle} ({low} to {high}): they agree"
        ratio = 0.5 * (self.low + self.high) / max(self.predicted[0], 1e-9)
        return f"predicted {middle} ({low} to {high}): the meter shows {ratio:.2f} times that"


def against(reading: MeterReading, use: EnergyUse) -> ReadAgainst:
    """A reading beside the prediction of the job as it is set.

    A power is the mean of its phase. A total counts the prints that were made in its span, each until it is taken off, and idle
    hours for the rest. One during which a print was stopped or begun again is flagged: the job that was counted never ran.
    """
    ends = (
        (reading.power_low, reading.power_high) if reading.kind == "power" else (reading.energy_low, reading.energy_high)
    )  # fmt: skip
    low, high = min(ends), max(ends)
    down, up = use.within
    share = (down / use.total, up / use.total) if down == down else (0.7, 1.3)
    if reading.kind == "power":
        phase = use.phase(_STATES[reading.state])
        if phase is None or phase.duration <= 0.0:
            return ReadAgainst(reading, low, high, (0.0, 0.0, 0.0), False, "this job has no such phase")
        value = phase.power
    else:
        ran = sum(p.duration for p in use.phases) * reading.prints
        idle = use.phase(Doing.IDLE)
        rest = reading.span - ran
        if rest < -0.1 * reading.span:
            return ReadAgainst(
                reading,
                low,
                high,
                (0.0, 0.0, 0.0),
                False,
                "so many prints do not fit into that time: check span and count",
            )
        value = reading.prints * use.total + max(rest, 0.0) * _idle(idle)
    flagged = "a print was stopped or begun again: it is kept, and not compared" if reading.interrupted else ""
    predicted = (value, share[0] * value, share[1] * value)
    return ReadAgainst(reading, low, high, predicted, low <= predicted[2] and high >= predicted[1], flagged)


def _idle(phase: PhaseUse | None) -> float:
    return phase.power if phase is not None else 0.0
