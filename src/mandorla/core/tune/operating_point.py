"""One evaluation of a project: heat-up, warp, limits and energy, with a verdict for each."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import Final

import numpy as np

from mandorla.core.energy.course import plug_course
from mandorla.core.energy.money import cost_from
from mandorla.core.energy.use import EnergyUse, Heated, energy_use, hot_end_loss, melt_energy
from mandorla.core.failure.case import FailureCase
from mandorla.core.failure.print_words import log_ends
from mandorla.core.failure.registry import Judgement, judge
from mandorla.core.failure.state import LimitCheck, State
from mandorla.core.part.gcode import PrintFile
from mandorla.core.part.mesh import Floats
from mandorla.core.part.print_time import plan_from_file, plan_print
from mandorla.core.part.process import Placement, Process
from mandorla.core.part.sections import Sections, grid_inside
from mandorla.core.rig.consumers import Doing
from mandorla.core.rig.model import Rig
from mandorla.core.rig.settings import Criteria, Settings
from mandorla.core.thermal.heatup import HeatUp, heat_up
from mandorla.core.thermal.network import OnPlate
from mandorla.core.thermal.print_course import COOLED, PrintCourse, Printing, print_course
from mandorla.core.thermal.steady import SteadyState, solve_printing, solve_steady
from mandorla.core.warp.along_print import AlongPrint
from mandorla.core.warp.condensed_plate import PlateLift, plate_lift
from mandorla.core.warp.estimate import (
    Conditions,
    LayerMechanics,
    PartToPrint,
    WarpEstimate,
    body_of,
    condensed_of,
    estimate_warp,
    prepare,
)
from mandorla.core.warp.fe_case import foot_of, hold_of
from mandorla.core.warp.fe_result import FullRun
from mandorla.core.warp.first_layer import FirstLayerState, GapMap, factors_at, first_layer_state
from mandorla.core.warp.history import FIRST_LAYERS
from mandorla.core.warp.learned import NOTHING, Learned
from mandorla.core.warp.on_plate import lifted_with_plate
from mandorla.core.warp.part_on_plate import part_on_plate

LEAST_AIR: Final = 3.0  # K that the air beside a part in a closed chamber is known to at best
_LAST: Final = 0.9  # of the print, after which the room counts in which a part cools down
EVEN: Final = 3.0  # K below the bed's middle that still count as its even zone


@dataclass(frozen=True, slots=True)
class Evaluation:
    """Everything the console and the stages show for one set of settings."""

    heat: HeatUp
    rest: SteadyState
    part: PartToPrint | None
    warp: WarpEstimate | None
    conditions: Conditions | None
    coldest: float
    ready_time: float
    energy: EnergyUse | None
    judgement: Judgement
    fit_problem: str
    even_foot: float = float("nan")
    plate: PlateLift | None = None
    first: FirstLayerState | None = None
    lift_limit: float = float("nan")
    course: PrintCourse | None = None

    @property
    def limits(self) -> tuple[LimitCheck, ...]:
        """Every single rating."""
        return self.judgement.limits

    @property
    def state(self) -> State:
        """The worst of all that decides the whole."""
        return self.judgement.whole


def place_on_bed(points: Floats, placement: Placement) -> Floats:
    """Plan points (m, 2) of the (already turned) part in bed coordinates."""
    return np.asarray(points + np.array([placement.x, placement.y]))


def fits_on_bed(rig: Rig, sections: Sections, placement: Placement) -> str:
    """Empty when the part stands on the bed and below the chamber's roof, else what is wrong."""
    points = np.array(
        [[x, y] for x in (sections.x_extent[:, 0].min(), sections.x_extent[:, 1].max())
         for y in (sections.y_extent[:, 0].min(), sections.y_extent[:, 1].max())]
    )  # fmt: skip
    on_bed = np.abs(place_on_bed(points, placement)).max(axis=0)
    half = np.array([rig.bed.width, rig.bed.depth]) / 2
    reach = np.array(rig.printable) / 2
    if (on_bed > reach + 1e-6).any() and not (on_bed > half + 1e-6).any():
        over = 1e3 * float((on_bed - reach).max())
        return f"The part reaches {over:.0f} mm beyond what the nozzle reaches; the plate is larger than that."
    if (on_bed > half + 1e-6).any():
        over = 1e3 * float((on_bed - half).max())
        return f"The part reaches {over:.0f} mm over the edge of the {rig.name} bed."
    if rig.chamber.enclosed and sections.height > rig.chamber.height:
        return f"The part is {1e3 * (sections.height - rig.chamber.height):.0f} mm taller than the chamber."
    return ""


def foot_on_even_zone(heat: HeatUp, sections: Sections, placement: Placement, within: float = EVEN) -> float:
    """Share of the part's convex foot whose plate is less than ``within`` K colder than the bed's middle, soaked.

    Sampled on a grid of some 900 points inside the outline.
    """
    points = place_on_bed(grid_inside(sections.footprint), placement)
    state = heat.steady
    colder = (state.surface - state.air) * (1.0 - heat.spread.at(points))
    return float((colder <= within).mean())


def prepare_part(
    sections: Sections,
    process: Process,
    file: PrintFile | None = None,
    learned: Learned = NOTHING,
    gaps: GapMap | None = None,
) -> PartToPrint:
    """Bind a part's sections to a process, or to the G-code that prints it, with what trials have taught and the first layer's
    gap."""
    plan = plan_print(sections, process) if file is None else plan_from_file(sections, process, file)
    return prepare(sections, plan, process, learned=learned, gaps=gaps)


def conditions_of(
    rig: Rig, heat: HeatUp, course: PrintCourse, settings: Settings, part: PartToPrint, placement: Placement
) -> Conditions:
    """The temperatures the part is printed at.

    The machine is marched through the print (``course``): plate and chamber are their means while the rest is printed, and the
    part's history departs from them as they do.
    """
    middle = place_on_bed(np.zeros((1, 2)), placement)
    corners = place_on_bed(np.array([[c.x, c.y] for c in part.sections.corners]), placement)
    at_middle = float(heat.spread.at(middle)[0])
    plate = course.air + (course.surface - course.air) * at_middle
    first, air, _ = _while_rest(course)
    rest_plate = course.mean(plate, first)
    blows = np.maximum(moving_air(rig, settings), course.blows * (not rig.chamber.enclosed))
    return Conditions(
        plate_first=float(course.means(plate, np.array([0.0, first]))[0]),
        plate_rest=rest_plate,
        corner_plate=plate_under(heat, course, corners),
        corner_first=None if part.gaps is None else factors_at(part.process, texture_of(part), part.gaps, corners),
        chamber=air,
        fan=settings.fan,
        room=course.mean(course.room, _LAST * float(course.time[-1])),
        draft=course.mean(np.sqrt(blows)) ** 2,
        bare=bare_plate(rig, part.whole),
        plate_within=_within(heat, "surface", 3.0),
        chamber_within=_within(heat, "air", LEAST_AIR if rig.chamber.enclosed else 2.0),
        along=AlongPrint(course.time, plate - rest_plate, course.air - air, blows),
    )


def _while_rest(course: PrintCourse) -> tuple[float, float, float]:
    """When the rest of a print begins (s), and the means of air and surface (K) from then on."""
    first = min(course.lowered, 0.5 * float(course.time[-1]))
    return first, course.mean(course.air, first), course.mean(course.surface, first)


def plate_under(heat: HeatUp, course: PrintCourse, places: Floats) -> Floats:
    """The plate's surface (k,) K at places (k, 2) m from the bed's middle, its mean while the rest is printed."""
    _, air, surface = _while_rest(course)
    return np.asarray(air + (surface - air) * heat.spread.at(places))


def through_print(
    rig: Rig, heat: HeatUp, rest: SteadyState, settings: Settings, part: PartToPrint, over: OnPlate
) -> PrintCourse:
    """The machine marched through the print of a part."""
    first = float(part.plan.layer_time[0]) * max(1.0, round(FIRST_LAYERS / part.process.layer_height))
    return print_course(rig, settings, heat, rest, Printing(part.plan.duration, first, over))


def texture_of(part: PartToPrint) -> float:
    """Depth (m) of the texture that is printed on."""
    return part.surface.texture_depth.typical


def first_layer_of(part: PartToPrint, placement: Placement) -> FirstLayerState | None:
    """The first layer of all bodies; None where nothing is known of its gap."""
    if part.gaps is None:
        return None
    return first_layer_state(part.process, texture_of(part), part.gaps, part.whole.footprint, placement)


def moving_air(rig: Rig, settings: Settings) -> float:
    """Speed (m/s) of the air over a part: a closed chamber's circulation, or the room's draft; or the side fans."""
    return max(rig.chamber.circulation if rig.chamber.enclosed else rig.draft, rig.side_fans * settings.side_fan)


def over_plate(rig: Rig, part: PartToPrint, settings: Settings) -> OnPlate:
    """What a print does to the machine, half-way through it."""
    around = settings.chamber if rig.heats_chamber else rig.room_temperature
    air = moving_air(rig, settings)
    there = part_on_plate(part, around, settings.fan, air)
    fan_speed = max(there.fan_speed, rig.side_fans * settings.side_fan)
    return OnPlate(min(1.0, there.foot / rig.bed.area), there.through, fan_speed, own_heat_of(rig, part, around))


def own_heat_of(rig: Rig, part: PartToPrint, around: float) -> float:
    """W that hot end and molten polymer bring into a closed chamber whose air is at ``around`` (K)."""
    if not rig.chamber.enclosed:
        return 0.0
    nozzle = part.polymer.deposition_temperature.typical
    melt = melt_energy(part.plan.mass, part.polymer, nozzle, around).typical / max(part.plan.duration, 1.0)
    return hot_end_loss(rig, nozzle, around).typical * rig.plug.hot_end_inside + melt


def _within(heat: HeatUp, name: str, least: float) -> float:
    """90 % half width (K) of a predicted temperature: of its band, at least ``least``."""
    band = heat.bands.get(name)
    return max(least, 0.5 * (band.high - band.low)) if band is not None else least


def bare_plate(rig: Rig, sections: Sections) -> float:
    """Plate (m) that goes on beyond a part on either side, the mean of both directions; at least 5 mm."""
    size = np.array([np.ptp(sections.x_extent[0]), np.ptp(sections.y_extent[0])])
    return float(max(0.005, 0.5 * (np.array([rig.bed.width, rig.bed.depth]) - size).mean()))


def evaluate(
    rig: Rig,
    settings: Settings,
    criteria: Criteria,
    part: PartToPrint | None,
    placement: Placement,
    *,
    with_bands: bool = True,
    heat: HeatUp | None = None,
) -> Evaluation:
    """Evaluate one set of settings with the quick models; without a part only the thermal side.

    ``heat`` is the heat-up of the same rig and settings where it is known already.
    """
    heat = heat if heat is not None else heat_up(rig, settings, criteria, with_bands=with_bands)
    ready = heat.ready_time
    if part is None:
        rest = heat.spread.centred(solve_steady(rig, settings.bed_rest, settings.chamber, heat.stack))
        judgement = judge(FailureCase(rig, settings, criteria, heat, rest))
        return Evaluation(heat, rest, None, None, None, float("nan"), ready, None, judgement, "")
    over = over_plate(rig, part, settings)
    rest = heat.spread.centred(solve_printing(rig, settings.bed_rest, settings.chamber, heat.stack, over))
    course = through_print(rig, heat, rest, settings, part, over)
    at = conditions_of(rig, heat, course, settings, part, placement)
    body = body_of(part, at)
    warp = estimate_warp(part, at, body, with_bands=with_bands)
    held = (heat.power_changes if with_bands else {}, heat.steady.power + heat.steady.chamber_power)
    energy = energy_use(
        rig,
        phases_of(settings, criteria, heat, course),
        (part.polymer, part.plan.mass),
        criteria.price,
        at.chamber,
        held,
    )
    energy = replace(energy, unfinished=not np.isfinite(course.cools))
    if criteria.tariff.bands:  # the mean price of the hours in which it runs
        running = plug_course(rig, heat, course, energy)
        cost = cost_from(running, criteria.tariff, criteria.price, criteria.tariff.starts_at)
        energy = replace(energy, price=cost / energy.total)
    fit_problem = fits_on_bed(rig, part.whole, placement)
    plate = loose_plate_of(rig, part, body, placement, criteria)
    warp = lifted_with_plate(warp, plate, part.learned)
    unknown = log_ends(course)
    if unknown:
        warp = replace(warp, notes=(*warp.notes, unknown))
    first = first_layer_of(part, placement)
    judgement = judge(FailureCase(rig, settings, criteria, heat, rest, part, at, warp, plate, fit_problem, first=first))
    return Evaluation(
        heat=heat, rest=rest, part=part, warp=warp, conditions=at, coldest=float(at.corner_plate.min()),
        ready_time=ready, energy=energy, judgement=judgement, fit_problem=fit_problem,
        even_foot=foot_on_even_zone(heat, part.whole, placement), plate=plate, lift_limit=criteria.lift_limit, first=first,
        course=course,
    )  # fmt: skip


def phases_of(settings: Settings, criteria: Criteria, heat: HeatUp, course: PrintCourse) -> tuple[Heated, ...]:
    """What both heaters give from phase to phase, as marched."""
    begins = course.begins - settings.soak_time
    warming = heat.time <= begins + 1e-6
    steps = np.diff(heat.time[warming])

    def most(power: Floats, chamber: Floats) -> tuple[float, float]:
        k = int(np.argmax(power + chamber))
        return float(power[k]), float(chamber[k])

    warm_up = Heated(
        Doing.WARM_UP, begins, float(heat.power[warming][1:] @ steps), float(heat.chamber_power[warming][1:] @ steps),
        most(heat.power[warming], heat.chamber_power[warming]),
    )  # fmt: skip
    length = float(course.time[-1])
    cools = course.cools if np.isfinite(course.cools) else COOLED
    return (
        warm_up,
        Heated(Doing.SOAK, settings.soak_time, *course.soaked, course.soaked_peak),
        Heated(Doing.PRINT, length, *course.heat, most(course.power, course.chamber_power)),
        Heated(Doing.COOL_DOWN, cools, 0.0, 0.0, (0.0, 0.0)),
        Heated(Doing.IDLE, criteria.taken_off, 0.0, 0.0, (0.0, 0.0)),
    )


def loose_plate_of(
    rig: Rig, part: PartToPrint, body: LayerMechanics, placement: Placement, criteria: Criteria
) -> PlateLift | None:
    """What a loose plate does under a part whose layers are as ``body`` says; None where nothing lies loose."""
    hold = hold_of(rig.bed, foot_of(part, placement), part.learned)
    if hold is None:
        return None
    return plate_lift(condensed_of(part, body, hold, (placement.x, placement.y)), criteria.lift_limit)


def judged_in_full(e: Evaluation, rig: Rig, settings: Settings, criteria: Criteria, full: FullRun) -> Judgement:
    """The judgement of an evaluation whose state has been simulated in full."""
    return judge(
        FailureCase(
            rig, settings, criteria, e.heat, e.rest, e.part, e.conditions, e.warp, e.plate, e.fit_problem, full, e.first
        )
    )
