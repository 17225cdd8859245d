"""What a plug meter's log says of a rig's own figures: base load and peak, ready to be taken over with where they come from."""

from __future__ import annotations

import math
from typing import Final, NamedTuple

from mandorla.core.measure.energy import BEFORE_HEATING, EnergyCheck
from mandorla.core.rig.consumers import Doing, Plug, bed_supply, consumers_of, drawn
from mandorla.core.rig.model import Rig

IDLE_WITHIN: Final = 0.10  # of a base load that was read before heating: the meter, and what it draws at other times
INFERRED_WITHIN: Final = 0.30  # of one that is what the heaters do not explain: their prediction is in it
_FACTOR: Final = (0.2, 5.0)  # of what was assumed, beyond which a base load is of something else


class MeterFound(NamedTuple):
    """What is taken over: the ``plug`` with consumers scaled to the base load, the bed heater's ``power`` (W; NaN where the peak
    does not tell it), and in ``words`` what was done and what was not."""

    plug: Plug
    power: float
    words: str


def found_by_meter(rig: Rig, check: EnergyCheck, session: str) -> MeterFound:
    """Scale the consumers so that they draw the base load that was found, and take the peak for the bed's power where nothing else
    heats.

    A base load before heating is what the machine draws idle; one that the heaters do not explain is what it draws while it holds.
    The steady draw is left to the fit: it tells of losses, not of consumers.
    """
    before = check.base_from == BEFORE_HEATING
    doing, within = (Doing.IDLE, IDLE_WITHIN) if before else (Doing.WARM_UP, INFERRED_WITHIN)
    now, consumers = drawn(rig, doing), consumers_of(rig)
    factor = check.base / now if now > 0.0 else float("nan")
    words, plug = [], rig.plug
    if math.isfinite(factor) and _FACTOR[0] <= factor <= _FACTOR[1]:
        origin = f"plug meter, {session}"
        scaled = tuple(c.scaled(factor, within, origin) if c.share(doing) > 0.0 else c for c in consumers)
        plug = plug.model_copy(update={"consumers": scaled})
        words.append(
            f"{'idle' if before else 'while it holds'} its consumers draw {check.base:.0f} W instead of {now:.0f} W"
        )
    else:
        words.append(
            f"a base load of {check.base:.0f} W is too far from the assumed {now:.0f} W to be the same consumers"
        )
    power = float("nan")
    if not rig.heats_chamber:
        load = sum(c.power * c.share(Doing.WARM_UP) for c in plug.consumers or consumers)
        power = (check.peak - load) * bed_supply(rig).typical / max(rig.bed.control.power_limit, 1e-6)
        ratio = power / rig.bed.heater.power
        if 0.7 <= ratio <= 1.3:
            words.append(f"the peak makes {power:.0f} W of the bed's heater")
        else:
            power = float("nan")
            words.append("the peak does not fit the bed's heater: bins too long, or not at full power")
    else:
        words.append("the peak is of bed and chamber heater together and tells neither")
    words.append("the steady draw belongs to the fit")
    return MeterFound(plug, power, "; ".join(words) + ".")
