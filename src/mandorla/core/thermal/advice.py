"""Advice from the quick model: the set point for a wanted surface temperature, and what changes of the machine would save."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any, Final

import numpy as np

from mandorla.core.errors import SolverError
from mandorla.core.rig.bed import BedLayer
from mandorla.core.rig.chamber import SIDES, Panel, PanelLayer
from mandorla.core.rig.model import Rig
from mandorla.core.rig.settings import Settings
from mandorla.core.thermal.heatup import HeatUp
from mandorla.core.thermal.parameter_samples import ParameterSample, rig_unknowns, sampled_rig, typical_sample
from mandorla.core.thermal.steady import solve_steady

_CLOSE: Final = 0.02  # K
MIXING: Final = 0.01  # m³/s of a small fan inside a chamber
FOAM: Final = 0.010  # m, what is added below or on the panels


@dataclass(frozen=True, slots=True)
class SetPoints:
    """Set points (K) for a wanted centre of the surface: ``rest`` when soaked, ``first`` at the start of the print.

    ``within`` tells whether both lie below the machine's limit and its power is enough.
    """

    wanted: float
    first: float
    rest: float
    within: bool


@dataclass(frozen=True, slots=True)
class Moves:
    """An unknown of a rig by key and name, and by how much (K, 90 %) it moves the surface at one set point."""

    key: str
    name: str
    moves: float


def surface_moves(rig: Rig, settings: Settings, heat: HeatUp) -> tuple[Moves, ...]:
    """What is not known of a rig by how much it moves its soaked surface, most first: that is worth measuring."""
    lateral = heat.spread.at_sensor

    def surface(draw: ParameterSample) -> float:
        other, stack, around = sampled_rig(rig, draw, lateral)
        return solve_steady(other, settings.bed_first, settings.chamber, stack, around).surface

    base, found = surface(typical_sample(rig)), []
    for unknown in rig_unknowns(rig):
        moved = []
        for z in (-1.0, 1.0):
            draw = typical_sample(rig)
            unknown.apply(draw, z)
            moved.append(abs(surface(draw) - base))
        found.append(Moves(unknown.key, unknown.name, max(moved)))
    return tuple(sorted(found, key=lambda m: -m.moves))


def set_points_for(rig: Rig, settings: Settings, heat: HeatUp, wanted: float) -> SetPoints:
    """Set points that give the wanted surface temperature (K), by the secant method on the steady state.

    The first layers start when the rig is ready and soaked for ``settings.soak_time``; what the surface then still lacks of its
    steady state in the present heat-up is added. Raises :class:`SolverError` when no set point is found.
    """

    def reached(target: float) -> tuple[float, bool]:
        state = heat.spread.centred(solve_steady(rig, target, settings.chamber, heat.stack))
        return state.surface, state.reachable

    low, high = wanted, wanted + max(heat.offset, 0.5)
    f_low, _ = reached(low)
    ok = True
    for _ in range(30):
        f_high, ok = reached(high)
        if abs(f_high - wanted) < _CLOSE or not ok:
            break
        slope = (f_high - f_low) / (high - low)
        if not np.isfinite(slope) or slope < 0.05:
            raise SolverError(f"no set point gives a surface of {wanted:.1f} K on “{rig.name}”")
        low, f_low, high = high, f_high, high + (wanted - f_high) / slope
    ready = heat.ready_time if np.isfinite(heat.ready_time) else float(heat.time[-1])
    lacking = heat.steady.surface - heat.at(min(ready + settings.soak_time, float(heat.time[-1])), heat.surface)
    first = high + max(lacking, 0.0)
    return SetPoints(wanted, first, high, bool(ok and max(first, high) <= rig.limits.bed_max))


@dataclass(frozen=True, slots=True)
class Saving:
    """A change of the machine: what it is, the electrical power (W) that it saves while printing, the chamber it gives (K)."""

    what: str
    saved: float
    chamber: float


def _total(rig: Rig, settings: Settings) -> tuple[float, float]:
    state = solve_steady(rig, settings.bed_rest, settings.chamber)
    return state.power + state.chamber_power, state.air


def _foam_below(rig: Rig) -> Rig:
    taken = {layer.name for layer in rig.bed.layers}
    name = next(n for n in ("Added foam", "Added foam 2", "Added foam 3") if n not in taken)
    layers = (*rig.bed.layers, BedLayer(name=name, material="silicone_foam", thickness=FOAM))
    return rig.model_copy(update={"bed": rig.bed.model_copy(update={"layers": layers})})


def _foil_below(rig: Rig) -> Rig:
    last = rig.bed.layers[-1]
    bright = last.model_copy(update={"own": last.properties().model_copy(update={"emissivity": 0.1})})
    return rig.model_copy(update={"bed": rig.bed.model_copy(update={"layers": (*rig.bed.layers[:-1], bright)})})


def _chamber(rig: Rig, **changes: Any) -> Rig:
    return rig.model_copy(update={"chamber": rig.chamber.model_copy(update=changes)})


def _all_panels(rig: Rig, change: Callable[[Panel], Panel]) -> Rig:
    panels = rig.chamber.panels
    return _chamber(rig, panels=panels.model_copy(update={side: change(getattr(panels, side)) for side in SIDES}))


def _lined_panels(rig: Rig) -> Rig:
    foam = PanelLayer(material="rigid_foam", thickness=FOAM)
    return _all_panels(rig, lambda p: p.model_copy(update={"layers": (foam, *p.layers)}))


def _foil_inside(rig: Rig) -> Rig:
    return _all_panels(rig, lambda p: p.model_copy(update={"foil": True}))


def _closed(rig: Rig) -> Rig:
    bed = rig.bed
    size = {"width": bed.width + 0.2, "depth": bed.depth + 0.2, "height": max(bed.width, bed.depth) + 0.2}
    return rig.model_copy(
        update={"chamber": rig.chamber.model_copy(update={"enclosed": True, "heater_power": 0.0, **size})}
    )


def machine_changes(rig: Rig) -> tuple[tuple[str, Rig], ...]:
    """Common changes of a machine that keep heat in or spread it, by name."""
    changes: list[tuple[str, Callable[[Rig], Rig]]] = [("10 mm of foam added below the bed", _foam_below)]
    if rig.bed.layers[-1].properties().emissivity > 0.3:
        changes.append(("bright foil on the underside", _foil_below))
    if rig.chamber.enclosed:
        c = rig.chamber
        changes.append(("panels lined with 10 mm of foam", _lined_panels))
        if not all(p.foil for p in c.panels.each()):
            changes.append(("reflective foil inside the panels", _foil_inside))
        if c.air_changes > 0.0:
            changes.append(("half the leakage", lambda r: _chamber(r, air_changes=0.5 * c.air_changes)))
        if c.exhaust_flow * c.exhaust_fraction > 0.0:
            changes.append(("the exhaust at half", lambda r: _chamber(r, exhaust_fraction=0.5 * c.exhaust_fraction)))
        if c.vent_area > 0.0:
            changes.append(("vents closed", lambda r: _chamber(r, vent_area=0.0)))
        if c.circulation_flow <= 0.0:
            changes.append(("a fan that circulates the air inside", lambda r: _chamber(r, circulation_flow=MIXING)))
    else:
        changes.append(("a closed chamber of 4 mm panels", _closed))
    return tuple((what, change(rig)) for what, change in changes)


def savings(rig: Rig, settings: Settings) -> tuple[Saving, ...]:
    """What common changes would save in steady operation at the present set points, most first."""
    power, _ = _total(rig, settings)
    found = []
    for what, changed in machine_changes(rig):
        other, air = _total(changed, settings)
        found.append(Saving(what, power - other, air))
    return tuple(sorted(found, key=lambda s: -s.saved))
