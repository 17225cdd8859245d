"""What is not known about a rig, unknown by unknown, and the possible rigs that follow from it.

Every unknown is a 90 % range on both sides of its typical value: library ranges of conductivities, joints and the emissivity on
top, the sensor's bias and place, the power that a heater of a given rating really draws, the scatter of convection correlations,
panels with their air films, leakage and exhaust, the machine's own heat, how upper and lower air mix, the chamber's sensor. A draw
is a point in units of those ranges: -1 the low end, +1 the high end; samples are normal with 1.645 standard
deviations at the ends. A rig that was fitted to measurements carries a covariance in the same units, the identity where nothing
was learned.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from typing import Final, NamedTuple

import numpy as np

from mandorla.core.materials.library_data import bed_materials
from mandorla.core.rig.bed import OwnProperties
from mandorla.core.rig.consumers import FITTED, Doing, consumers_of, own_heat_within
from mandorla.core.rig.model import Rig
from mandorla.core.thermal.network import Surroundings, surroundings
from mandorla.core.thermal.stack import EVEN, Floats, Lateral, Stack, build_stack

SENSOR_UNKNOWN: Final = 2.0  # K, bias and place of an unchecked thermistor
CONVECTION_UNKNOWN: Final = 0.15  # of h, the scatter of the published correlations
LEAKAGE_UNKNOWN: Final = 2.0  # times the stated leakage or a part of it: nobody measures it
POWER_UNKNOWN: Final = 0.05  # of the rated power: tolerance of the resistance and of the supply's voltage
PANELS_UNKNOWN: Final = 0.2  # of what the panels let through: materials, joints between them
FILMS_UNKNOWN: Final = 0.3  # of the panels' convection: correlations of free plates, used inside a box with parts in it
EXHAUST_UNKNOWN: Final = 0.3  # of a fan's flow, rated without the filter and the duct that it blows through
MIXING_UNKNOWN: Final = 2.0  # times as much or as little: an estimate that nothing was checked against
UNEVEN: Final = (
    2.5,
    0.1,
)  # K, and of its rise over the room: how far the air at one place is from the mean of its zone
CHAMBER_SENSOR_UNKNOWN: Final = 2.0  # K, bias and place of the chamber's sensor
MOST_AIR_CHANGES: Final = 200.0 / 3600  # 1/s, what the field of the chamber allows
AT_NINETY: Final = 1.6448536269514722  # standard deviations at the ends of a 90 % range
SENSOR, CONVECTION, LEAKAGE, POWER, PANELS = "sensor, bias and place", "convection", "leakage", "heater power", "panels"
FILMS, EXHAUST_FLOW, MACHINE_HEAT = "air films on the panels", "exhaust flow", "heat of motors and electronics"
MIXING, CHAMBER_SENSOR = "mixing of upper and lower air", "chamber sensor, bias and place"


@dataclass(slots=True)
class ParameterSample:
    """One possible rig: factors on conductivities and joints (L,), on convection, leakage, panels, their air films, exhaust, the
    machine's heat, mixing and heater power; shifts of the bed's and the chamber's sensor (K), emissivity on top."""

    k: list[float]
    joint: list[float]
    convection: float
    leakage: float
    panels: float
    power: float
    bias: float
    emissivity: float
    films: float = 1.0
    exhaust: float = 1.0
    machine: float = 1.0
    mixing: float = 1.0
    chamber_bias: float = 0.0


@dataclass(frozen=True, slots=True)
class RigUnknown:
    """An unknown: stable ``key``, name on screen, and how a draw takes it at ``z`` (-1 low end, 1 high end)."""

    key: str
    name: str
    apply: Callable[[ParameterSample, float], None]


def unevenness(rig: Rig, air: float) -> float:
    """90 % half width (K) of the air's temperature at one place of a closed chamber about the mean ``air`` (K) of its zone."""
    if not rig.chamber.enclosed:
        return 0.0
    most, share = UNEVEN
    return min(most, share * abs(air - rig.room_temperature))


def typical_sample(rig: Rig) -> ParameterSample:
    """The rig as it stands."""
    count = len(rig.bed.layers)
    emissivity = rig.bed.layers[0].properties().emissivity
    return ParameterSample([1.0] * count, [1.0] * count, 1.0, 1.0, 1.0, 1.0, 0.0, emissivity)


def between(low: float, high: float, z: float) -> float:
    """A factor about 1 with the ends ``low`` and ``high`` at -1 and 1, geometric so that it stays positive."""
    return float((high if z > 0 else low) ** abs(z))


def rig_unknowns(rig: Rig) -> tuple[RigUnknown, ...]:
    """All unknowns of a rig, in the order of its layers."""
    found: list[RigUnknown] = []

    def element(name: str, i: int, low: float, high: float) -> Callable[[ParameterSample, float], None]:
        return lambda d, z: getattr(d, name).__setitem__(i, between(low, high, z))

    def set_field(name: str, value: Callable[[float], float]) -> Callable[[ParameterSample, float], None]:
        return lambda d, z: setattr(d, name, value(z))

    def factor(name: str, share: float) -> Callable[[ParameterSample, float], None]:
        return set_field(name, lambda z: between(1.0 - share, 1.0 + share, z))

    def times(name: str, most: float) -> Callable[[ParameterSample, float], None]:
        return set_field(name, lambda z: between(1.0 / most, most, z))

    layers = rig.bed.layers
    for i, layer in enumerate(layers):
        ends = layer.conductivity_range()
        # less than 1e-6 m²K/W has no effect that could be read
        if 0.5 * (ends[1] - ends[0]) * layer.thickness / layer.properties().conductivity > 1e-6:
            found.append(
                RigUnknown(f"conductivity:{layer.key}", f"conductivity of {layer.name}", element("k", i, *ends))
            )
        if i < len(layers) - 1 and layer.contact_resistance > 0.0:
            found.append(
                RigUnknown(f"joint:{layer.key}", f"joint below {layer.name}", element("joint", i, *layer.joint_range()))
            )
    found.append(RigUnknown("sensor", SENSOR, set_field("bias", lambda z: SENSOR_UNKNOWN * z)))
    found.append(RigUnknown("power", POWER, factor("power", POWER_UNKNOWN)))
    found.append(RigUnknown("convection", CONVECTION, factor("convection", CONVECTION_UNKNOWN)))
    base, low, high = emissivity_range(rig)
    found.append(
        RigUnknown(
            f"emissivity:{layers[0].key}",
            f"emissivity of {layers[0].name}",
            set_field("emissivity", lambda z: min(1.0, base * between(low / base, high / base, z))),
        )
    )
    c = rig.chamber
    if c.enclosed:
        found.append(RigUnknown("panels", PANELS, factor("panels", PANELS_UNKNOWN)))
        found.append(RigUnknown("films", FILMS, factor("films", FILMS_UNKNOWN)))
        found.append(RigUnknown("mixing", MIXING, times("mixing", MIXING_UNKNOWN)))
        if c.air_changes > 0.0:
            found.append(RigUnknown("leakage", LEAKAGE, times("leakage", LEAKAGE_UNKNOWN)))
        if c.exhaust_flow * c.exhaust_fraction > 0.0:
            found.append(RigUnknown("exhaust", EXHAUST_FLOW, factor("exhaust", EXHAUST_UNKNOWN)))
        own = own_heat_within(rig, Doing.WARM_UP)
        if own > 0.0:
            found.append(RigUnknown("machine", MACHINE_HEAT, factor("machine", own)))
        if rig.heats_chamber:
            found.append(
                RigUnknown(
                    "chamber_sensor", CHAMBER_SENSOR, set_field("chamber_bias", lambda z: CHAMBER_SENSOR_UNKNOWN * z)
                )
            )
    return tuple(found)


class EmissivityRange(NamedTuple):
    """An emissivity and the ends of its range."""

    typical: float
    low: float
    high: float


class SampledRig(NamedTuple):
    """A rig of a sample, its stack and its surroundings."""

    rig: Rig
    stack: Stack
    surroundings: Surroundings


def emissivity_range(rig: Rig) -> EmissivityRange:
    """Emissivity on top."""
    top = rig.bed.layers[0]
    if top.own is None:
        e = bed_materials()[top.material].emissivity
        return EmissivityRange(e.typical, e.low, e.high)
    own = top.own
    high = min(1.0, own.emissivity * (1.0 + own.uncertainty))
    return EmissivityRange(own.emissivity, own.emissivity * (1.0 - own.uncertainty), high)


def covariance_of(rig: Rig, unknowns: Sequence[RigUnknown]) -> Floats:
    """Covariance (n, n) of the unknowns in units of their 90 % ranges: from the fit where there was one, else the identity."""
    found = np.eye(len(unknowns))
    if rig.fitted is None:
        return found
    place = {value.key: i for i, value in enumerate(rig.fitted.values)}
    known = [(n, place[u.key]) for n, u in enumerate(unknowns) if u.key in place]
    for n, i in known:
        for m, j in known:
            found[n, m] = rig.fitted.covariance[i][j]
    return found


def root_of(covariance: Floats) -> Floats:
    """A square root (n, n) of a covariance by its eigenvectors; rounding below zero is cut."""
    values, vectors = np.linalg.eigh(covariance)
    return np.asarray(vectors * np.sqrt(np.clip(values, 0.0, None)))


def sampled_rig(rig: Rig, draw: ParameterSample, lateral: Lateral = EVEN, doing: Doing = Doing.WARM_UP) -> SampledRig:
    """The rig of a draw, its stack and its surroundings while it is ``doing`` something."""
    bed = rig.bed
    sensor = bed.sensor.model_copy(update={"bias": bed.sensor.bias + draw.bias})
    heater = bed.heater.model_copy(update={"power": bed.heater.power * draw.power})
    chamber = rig.chamber.model_copy(update={"sensor_bias": rig.chamber.sensor_bias + draw.chamber_bias})
    changed = {"bed": bed.model_copy(update={"sensor": sensor, "heater": heater}), "chamber": chamber}
    other = rig.model_copy(update=changed)
    stack = replace(build_stack(bed, k_scale=draw.k, joint_scale=draw.joint), lateral=lateral)
    s = surroundings(rig, draw.emissivity, stack.emissivity_bottom, doing)
    s = s._replace(
        convection=s.convection * draw.convection, leak_flow=s.leak_flow * draw.leakage, mid=s.mid * draw.panels,
        films=s.films * draw.films, exhaust_flow=s.exhaust_flow * draw.exhaust, mixing=s.mixing * draw.mixing,
        heat_lower=s.heat_lower * draw.machine, heat_upper=s.heat_upper * draw.machine,
    )  # fmt: skip
    return SampledRig(other, stack, s)


def rig_of(rig: Rig, draw: ParameterSample) -> Rig:
    """The rig of a draw with every figure in its own field, each within what its field allows."""
    layers = []
    for i, layer in enumerate(rig.bed.layers):
        change: dict[str, object] = {}
        if draw.joint[i] != 1.0:
            change["contact_resistance"] = min(layer.contact_resistance * draw.joint[i], 1.0)
        emissivity = draw.emissivity if i == 0 else layer.properties().emissivity
        if draw.k[i] != 1.0 or emissivity != layer.properties().emissivity:
            p = layer.properties()
            low, high = layer.conductivity_range()
            ratio = high / low
            own = OwnProperties(**(p.model_dump() | {
                "conductivity": float(np.clip(p.conductivity * draw.k[i], 0.005, 500.0)),
                "emissivity": float(np.clip(emissivity, 0.01, 1.0)),
                "uncertainty": float(np.clip((ratio - 1.0) / (ratio + 1.0), 0.01, 0.9)),
            }))  # fmt: skip
            change["own"] = own
        layers.append(layer.model_copy(update=change))
    bed, c, chamber = rig.bed, rig.corrections, rig.chamber
    return rig.model_copy(update={
        "bed": bed.model_copy(update={
            "layers": tuple(layers), "sensor": bed.sensor.model_copy(update={"bias": bed.sensor.bias + draw.bias}),
            "heater": bed.heater.model_copy(update={"power": bed.heater.power * draw.power}),
        }),
        "chamber": chamber.model_copy(update={
            "air_changes": min(chamber.air_changes * draw.leakage, MOST_AIR_CHANGES),
            "exhaust_flow": chamber.exhaust_flow * draw.exhaust,
            "sensor_bias": chamber.sensor_bias + draw.chamber_bias,
        }),
        "plug": rig.plug if draw.machine == 1.0 else rig.plug.model_copy(update={"consumers": tuple(
            v.model_copy(update={
                "power_low": v.power_low * draw.machine, "power": v.power * draw.machine,
                "power_high": v.power_high * draw.machine, "origin": FITTED,
            }) if v.inside > 0.0 else v for v in consumers_of(rig)
        )}),
        "corrections": c.model_copy(update={
            "convection": c.convection * draw.convection, "panels": c.panels * draw.panels,
            "films": c.films * draw.films, "mixing": c.mixing * draw.mixing,
        }),
    })  # fmt: skip


def combined(changes: Sequence[tuple[float, float]], covariance: Floats) -> tuple[float, float]:
    """How far down and up a figure may lie, from its change at each unknown's low and high end (n pairs).

    Root of the sum of squares where nothing was measured; with a covariance the correlated sum over the mean slopes, its
    two sides in proportion to the uncorrelated ones.
    """
    pairs = np.array(changes).reshape(-1, 2)
    scale = np.sqrt(np.diag(covariance))
    down = float(np.sqrt(np.sum((scale * np.minimum(pairs, 0.0).min(axis=1)) ** 2)))
    up = float(np.sqrt(np.sum((scale * np.maximum(pairs, 0.0).max(axis=1)) ** 2)))
    slope = 0.5 * (pairs[:, 1] - pairs[:, 0])
    plain = float(np.sqrt(np.sum((scale * slope) ** 2)))
    if plain <= 0.0:
        return down, up
    share = float(np.sqrt(max(0.0, slope @ covariance @ slope))) / plain
    return down * share, up * share
