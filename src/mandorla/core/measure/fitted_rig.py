"""The fitted rig as a new version: every figure in its own field, the covariance and where it all comes from beside it."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from mandorla.core.rig.consumers import Doing, own_heat
from mandorla.core.rig.fitted import Fitted, FittedValue, mark_of
from mandorla.core.rig.model import Rig
from mandorla.core.thermal import parameter_samples
from mandorla.core.thermal.parameter_samples import RigUnknown, rig_of, typical_sample
from mandorla.core.thermal.stack import Floats
from mandorla.core.units import METRIC, UnitPreferences, show


@dataclass(frozen=True, slots=True)
class Learned:
    """One unknown after the fit: ``z`` in 90 % ranges before, its share of the range that is left, text before and after."""

    name: str
    z: float
    share: float
    before: str
    after: str
    at_bound: bool


def value_texts(rig: Rig, unknown: RigUnknown, z: float, prefs: UnitPreferences = METRIC) -> tuple[str, str]:
    """An unknown's figure before and after, with its unit."""
    draw = typical_sample(rig)
    unknown.apply(draw, z)
    name, bed = unknown.name, rig.bed
    for i, layer in enumerate(bed.layers):
        if name == f"conductivity of {layer.name}":
            k = layer.properties().conductivity
            return show(k, "conductivity", prefs), show(k * draw.k[i], "conductivity", prefs)
        if name == f"joint below {layer.name}":
            r = layer.contact_resistance
            return show(r, "contact_resistance", prefs), show(r * draw.joint[i], "contact_resistance", prefs)
    if name == parameter_samples.SENSOR:
        b = bed.sensor.bias
        return show(b, "temperature_difference", prefs), show(b + draw.bias, "temperature_difference", prefs)
    if name == parameter_samples.POWER:
        return show(bed.heater.power, "power", prefs), show(bed.heater.power * draw.power, "power", prefs)
    if name == parameter_samples.LEAKAGE:
        a = rig.chamber.air_changes
        return show(a, "air_changes", prefs), show(a * draw.leakage, "air_changes", prefs)
    c = rig.chamber
    if name == parameter_samples.EXHAUST_FLOW:
        return show(c.exhaust_flow, "air_flow", prefs), show(c.exhaust_flow * draw.exhaust, "air_flow", prefs)
    if name == parameter_samples.MACHINE_HEAT:
        own = own_heat(rig, Doing.WARM_UP)
        heat = own.lower + own.upper
        return show(heat, "power", prefs), show(heat * draw.machine, "power", prefs)
    if name == parameter_samples.CHAMBER_SENSOR:
        b = c.sensor_bias
        return show(b, "temperature_difference", prefs), show(b + draw.chamber_bias, "temperature_difference", prefs)
    if name == parameter_samples.FILMS:
        return f"× {rig.corrections.films:.2f}", f"× {rig.corrections.films * draw.films:.2f}"
    if name == parameter_samples.MIXING:
        return f"× {rig.corrections.mixing:.2f}", f"× {rig.corrections.mixing * draw.mixing:.2f}"
    if name == parameter_samples.CONVECTION:
        return f"× {rig.corrections.convection:.2f}", f"× {rig.corrections.convection * draw.convection:.2f}"
    if name == parameter_samples.PANELS:
        return f"× {rig.corrections.panels:.2f}", f"× {rig.corrections.panels * draw.panels:.2f}"
    return f"{bed.layers[0].properties().emissivity:.2f}", f"{draw.emissivity:.2f}"


def fitted_rig(
    rig: Rig,
    unknowns: Sequence[RigUnknown],
    z: Floats,
    covariance: Floats,
    learned: Sequence[Learned],
    logs: Sequence[str],
    day: str,
) -> Rig:
    """The rig with the fitted figures in their fields, and where they come from."""
    draw = typical_sample(rig)
    for unknown, value in zip(unknowns, z, strict=True):
        unknown.apply(draw, float(value))
    values = tuple(
        FittedValue(key=u.key, name=v.name, before=v.before, after=v.after, share=min(v.share, 3.0))
        for u, v in zip(unknowns, learned, strict=True)
    )
    fitted = Fitted(
        date=day, logs=tuple(logs), base=mark_of(rig), values=values,
        covariance=tuple(tuple(float(c) for c in row) for row in covariance),
    )  # fmt: skip
    changed = rig_of(rig, draw).model_copy(update={"fitted": fitted})
    return Rig.model_validate(changed.model_dump())
