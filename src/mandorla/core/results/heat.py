"""Results of the stage Heat-up: the curves, their bands, the surface, flatness, balance, regulation, faults and checks."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, replace
from typing import Final

import numpy as np

from mandorla.core.errors import SolverError
from mandorla.core.failure.rig_checks import RigCheck, check_rig
from mandorla.core.part.sections import are_inside
from mandorla.core.project.store import Bundle
from mandorla.core.results import keys
from mandorla.core.results.key import Key
from mandorla.core.results.registry import Have, computes
from mandorla.core.runtime import RunContext
from mandorla.core.thermal.advice import Moves, Saving, SetPoints, savings, set_points_for, surface_moves
from mandorla.core.thermal.bow import SETTLED, Bow, bow_map, thermal_bow
from mandorla.core.thermal.build_differences import BuildDifference, build_difference
from mandorla.core.thermal.faults import FaultRun, run_fault
from mandorla.core.thermal.heatup import HeatUp, heat_up, shape_of
from mandorla.core.thermal.ledger import from_bed, from_chamber
from mandorla.core.thermal.pid_tuning import PidTuning, tune_regulator
from mandorla.core.thermal.program import ProgramRun, run_program, soak
from mandorla.core.thermal.stack import Floats, build_stack
from mandorla.core.thermal.steady import solve_steady
from mandorla.core.thermal.surface_history import SurfaceHistory, surface_history
from mandorla.core.thermal.uncertainty_bands import CurveBands, curve_bands
from mandorla.core.tune.operating_point import place_on_bed

NOW: Final = "now"
REMEDIES: Final = ("none", "shims", "pane", "flat")
_MOMENTS: Final = 41  # height maps of the plate along the heat-up


@dataclass(frozen=True, slots=True)
class PlateFlatness:
    """The bow of the plate and its height maps: ``moments`` (m,) s, ``maps`` (m, ny, nx) m; ``settled_within`` m."""

    bow: Bow
    moments: Floats
    maps: Floats
    settled_within: float = SETTLED

    def map_at(self, time: float) -> Floats:
        """The height map (ny, nx) m at a time, between the kept ones in proportion."""
        i = int(np.clip(np.searchsorted(self.moments, time), 1, self.moments.size - 1))
        width = self.moments[i] - self.moments[i - 1]
        share = float(np.clip((time - self.moments[i - 1]) / width, 0.0, 1.0)) if width > 0.0 else 1.0
        return np.asarray((1.0 - share) * self.maps[i - 1] + share * self.maps[i])


@dataclass(frozen=True, slots=True)
class HeatBalance:
    """W off the bed and out of the chamber while it holds, by way; what common changes would save, most first."""

    from_bed: Mapping[str, float]
    from_chamber: Mapping[str, float]
    savings: tuple[Saving, ...]


@dataclass(frozen=True, slots=True)
class Regulation:
    """Regulator terms from the model, and the set-point program run on a cold rig."""

    tuning: PidTuning
    program: ProgramRun


@computes(keys.HEAT_UP)
def heating(_: Key[HeatUp], bundle: Bundle, __: Have, run: RunContext) -> HeatUp:
    """The heat-up at the first layers' set points, with the bands of its steady state."""
    p = bundle.project
    return heat_up(p.rig, p.settings, p.criteria)


@computes(keys.CURVE_BANDS)
def bands(_: Key[CurveBands], bundle: Bundle, have: Have, run: RunContext) -> CurveBands:
    """Bands of the curves from what is not known about the rig."""
    p = bundle.project
    return curve_bands(p.rig, p.settings, p.criteria, have(keys.HEAT_UP), run)


@computes(keys.SURFACE_HISTORY)
def surface(_: Key[SurfaceHistory], bundle: Bundle, have: Have, run: RunContext) -> SurfaceHistory:
    """The surface map from a cold rig on, at the first layers' set points."""
    p = bundle.project
    return surface_history(p.rig, p.settings, have(keys.HEAT_UP).shown_until(p.settings.soak_time), run)


@computes(keys.PLATE_FLATNESS)
def flatness(_: Key[PlateFlatness], bundle: Bundle, have: Have, run: RunContext) -> PlateFlatness:
    """Bow and height maps along the heat-up."""
    p, heat = bundle.project, have(keys.HEAT_UP)
    moments = np.linspace(0.0, heat.shown_until(p.settings.soak_time), _MOMENTS)
    maps = []
    for k, at in enumerate(moments):
        run.checkpoint(k / _MOMENTS, "height maps of the plate")
        maps.append(bow_map(p.rig, heat, float(at)))
    found = np.stack(maps)
    for array in (moments, found):
        array.setflags(write=False)
    return PlateFlatness(thermal_bow(p.rig, heat), moments, found)


@dataclass(frozen=True, slots=True)
class OverAir:
    """The bed with a plate over air, and with something done about it, by remedy: the largest gap ``most`` and its mean over
    the part's foot, or over the bed without one, in m; ``coldest`` and ``hottest`` of the surface there in K; the ``surface``
    (ny, nx) K with the places ``x``, ``y`` m of its cells."""

    most: float
    mean: float
    coldest: float
    hottest: float
    x: Floats
    y: Floats
    surface: Floats


@computes(keys.OVER_AIR)
def over_air(_: Key[dict[str, OverAir]], bundle: Bundle, have: Have, run: RunContext) -> dict[str, OverAir]:
    """The soaked surface over the air below a loose plate, with each thing that can be done about it; empty without any."""
    p, part = bundle.project, have(keys.EVALUATION).part
    gap = p.rig.bed.air_gap
    if gap is None:
        return {}
    found = {}
    for remedy in REMEDIES:
        bed = p.rig.bed.model_copy(update={"air_gap": gap.model_copy(update={"remedy": remedy})})
        rig = p.rig.model_copy(update={"bed": bed})
        spread = shape_of(rig, p.settings)
        even = solve_steady(
            rig, p.settings.bed_rest, p.settings.chamber, replace(build_stack(bed), lateral=spread.at_sensor)
        )
        state = spread.centred(even)
        surface = spread.surface(state.surface, state.air)
        x, y = spread.x, spread.y
        inside = np.isfinite(surface)
        if part is not None and p.part is not None:
            outline = place_on_bed(part.whole.footprint, p.part.placement)
            under = are_inside(np.stack(np.meshgrid(x, y), axis=-1), outline)
            inside = under if under.any() else inside
        air = np.zeros(surface.shape) if bed.air_gap is None else bed.air_gap.over(x, y)
        surface.setflags(write=False)
        found[remedy] = OverAir(
            float(air[inside].max()), float(air[inside].mean()), float(surface[inside].min()), float(surface[inside].max()),
            x, y, surface,
        )  # fmt: skip
    return found


@computes(keys.HEAT_BALANCE)
def balance(_: Key[HeatBalance], bundle: Bundle, have: Have, run: RunContext) -> HeatBalance:
    """Where every watt goes while the first layers' set point holds, and what would save power at the rest's."""
    p, flows = bundle.project, have(keys.HEAT_UP).steady.flows
    chamber = from_chamber(flows) if p.rig.chamber.enclosed else {}
    return HeatBalance(from_bed(flows), chamber, savings(p.rig, p.settings))


@computes(keys.REGULATION)
def regulation(_: Key[Regulation], bundle: Bundle, have: Have, run: RunContext) -> Regulation:
    """Regulator terms, and the project's program; without one, the soak that its settings describe."""
    p, heat = bundle.project, have(keys.HEAT_UP)
    steps = p.program or soak(p.settings)
    tuned = tune_regulator(p.rig, p.settings, p.criteria, heat)
    run.checkpoint(0.5, "the program")
    return Regulation(tuned, run_program(p.rig, p.settings, p.criteria, heat, steps))


@computes(keys.FIRST_TO_MEASURE)
def first_to_measure(_: Key[tuple[Moves, ...]], bundle: Bundle, have: Have, run: RunContext) -> tuple[Moves, ...]:
    """What is worth measuring first."""
    p = bundle.project
    return surface_moves(p.rig, p.settings, have(keys.HEAT_UP))


@computes(keys.SET_POINTS)
def set_points(_: Key[SetPoints | None], bundle: Bundle, have: Have, run: RunContext) -> SetPoints | None:
    """Set points for the wanted surface; None where there are none."""
    p = bundle.project
    try:
        return set_points_for(p.rig, p.settings, have(keys.HEAT_UP), p.criteria.surface_wanted)
    except SolverError:  # the answer that the view gives: nothing reaches the wanted temperature
        return None


@computes(keys.BUILD_HEAT_UPS)
def builds(_: Key[dict[str, HeatUp]], bundle: Bundle, have: Have, run: RunContext) -> dict[str, HeatUp]:
    """Heat-ups of the kept builds at the present set points, and of the present rig as “now”."""
    p = bundle.project
    found = {}
    for i, build in enumerate(p.builds):
        run.checkpoint(i / (len(p.builds) + 1), "comparing builds")
        found[build.name] = heat_up(build.rig, p.settings, p.criteria, with_bands=False)
    return {**found, NOW: have(keys.HEAT_UP)}


@computes(keys.BUILD_DIFFERENCES)
def differences(
    _: Key[dict[str, BuildDifference]], bundle: Bundle, have: Have, run: RunContext
) -> dict[str, BuildDifference]:
    """What each kept build has over the present rig, with its range."""
    p, heats = bundle.project, have(keys.BUILD_HEAT_UPS)
    return {
        build.name: build_difference(build.rig, p.rig, p.settings, p.criteria, heats[build.name], heats[NOW], run)
        for build in p.builds
    }


@computes(keys.FAULT)
def fault(key: Key[FaultRun], bundle: Bundle, _: Have, run: RunContext) -> FaultRun:
    """What happens after a fault. Raises InputError for one that the rig cannot have."""
    p = bundle.project
    return run_fault(p.rig, p.settings, p.criteria, key["fault"], key["start"], run=run)


@computes(keys.RIG_CHECKS)
def checks(key: Key[tuple[RigCheck, ...]], bundle: Bundle, have: Have, run: RunContext) -> tuple[RigCheck, ...]:
    """All checks of the rig with their reasons, in the units asked for."""
    p = bundle.project
    return check_rig(p.rig, p.settings, p.criteria, have(keys.HEAT_UP), key["units"], run)
