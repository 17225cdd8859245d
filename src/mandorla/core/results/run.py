"""Results of the stage Run: the cool-down, and the sheet of every step."""

from __future__ import annotations

from typing import Final, NamedTuple

import numpy as np

from mandorla.core.errors import InputError
from mandorla.core.part.mesh import Floats
from mandorla.core.project.store import Bundle
from mandorla.core.results import keys
from mandorla.core.results.key import Key
from mandorla.core.results.registry import Have, computes
from mandorla.core.run.forecast import Ready
from mandorla.core.run.mishaps import GoOn, PowerCut, go_on, power_cut
from mandorla.core.run.noticed import Noticed, noticed
from mandorla.core.run.plant import PartBody, Watched
from mandorla.core.run.sheet import SheetOf, Step, sheet
from mandorla.core.run.sliced import Wanted, wanted_of
from mandorla.core.runtime import RunContext
from mandorla.core.thermal.cool_down import FILM, CoolDown, cool_down
from mandorla.core.thermal.network import OnPlate
from mandorla.core.tune.operating_point import Evaluation, over_plate
from mandorla.core.warp.cooling_stress import CoolingStress, cooling_stress


@computes(keys.COOLING_STRESS)
def thick(_: Key[CoolingStress], bundle: Bundle, have: Have, run: RunContext) -> CoolingStress:
    """How the part's thickest section stands its cool-down. Raises InputError without a part."""
    e = have(keys.EVALUATION)
    if e.part is None:
        raise InputError("There is no part: open one first.")
    cool = have(keys.COOL_DOWN)
    return cooling_stress(e.part, max(float((cool.part - cool.air).max()), 0.0), FILM[1])


@computes(keys.POWER_CUT)
def cut(_: Key[PowerCut], bundle: Bundle, have: Have, run: RunContext) -> PowerCut:
    """What a power cut does at some heights. Raises InputError without a part."""
    e = have(keys.EVALUATION)
    if e.part is None:
        raise InputError("There is no part: open one first.")
    return power_cut(bundle.project.rig, bundle.project.settings, e, have(keys.COOL_DOWN))


@computes(keys.GO_ON)
def lifted(_: Key[GoOn | None], bundle: Bundle, have: Have, run: RunContext) -> GoOn | None:
    """Whether a print that was seen to lift is worth going on; None where no lift is stated. Raises InputError without a part."""
    e, plan = have(keys.EVALUATION), bundle.project.run_plan
    if e.part is None:
        raise InputError("There is no part: open one first.")
    return go_on(e, plan.seen_lift, plan.seen_at) if plan.seen_lift > 0.0 else None


class WatchStart(NamedTuple):
    """What a watch begins with: the machine and its print, and seconds until ready as planned."""

    watched: Watched
    planned: Ready


_NO_PART: Final = OnPlate(0.0, 8.0, 0.0, 0.0)


@computes(keys.WATCH_START)
def watch_start(_: Key[WatchStart], bundle: Bundle, have: Have, run: RunContext) -> WatchStart:
    """The machine as it is watched; without a part it is watched while it warms up and holds."""
    p, e, ready = bundle.project, have(keys.EVALUATION), have(keys.CURVE_BANDS).ready
    over, first, duration, body = _NO_PART, 0.0, 0.0, PartBody()
    if e.part is not None:
        clock = np.concatenate([[0.0], np.cumsum(e.part.column.time)])
        tops = np.concatenate([[0.0], e.part.column.top])
        first = float(np.interp(3.0 * p.process.layer_height, tops, clock))
        over, duration = over_plate(p.rig, e.part, p.settings), e.part.plan.duration
        capacity, planned, share = body_of(e)
        body = PartBody(capacity, share, planned)
    hot = p.process.nozzle_temperature or p.process.material().deposition_temperature.typical
    return WatchStart(
        Watched(p.rig, p.settings, p.criteria, e.heat, over, first, duration, hot, body),
        Ready(*(float(v) for v in ready)),
    )


@computes(keys.NOTICED)
def noticed_in_time(_: Key[tuple[Noticed, ...]], bundle: Bundle, have: Have, run: RunContext) -> tuple[Noticed, ...]:
    """From which size on what goes wrong is noticed in time, by machines drawn about the project's."""
    return noticed(have(keys.WATCH_START).watched, run)


def body_of(e: Evaluation) -> tuple[float, float, float]:
    """Of the part: heat capacity over its surface (J/m²K), mean temperature (K) at the end of the print, the plate's share."""
    part, at = e.part, e.conditions
    assert part is not None
    assert at is not None
    blocks = part.column
    foot = float(blocks.gross_area[0])
    surface = float((blocks.perimeter * (blocks.top - blocks.bottom)).sum()) + foot + float(blocks.gross_area[-1])
    capacity = part.plan.mass * part.polymer.specific_heat.typical / max(surface, 1e-9)
    share = min(0.9, 2.0 * foot / max(surface, 1e-9))
    return capacity, (1.0 - share) * at.chamber + share * at.plate_rest, share


@computes(keys.COOL_DOWN)
def cooling(_: Key[CoolDown], bundle: Bundle, have: Have, run: RunContext) -> CoolDown:
    """Plate, chamber and part after the last layer. Raises InputError without a part."""
    p, e = bundle.project, have(keys.EVALUATION)
    if e.part is None or e.course is None:
        raise InputError("There is no part: open one first.")
    over = over_plate(p.rig, e.part, p.settings)
    return cool_down(p.rig, p.settings, e.heat, e.course, over, body_of(e), p.run_plan.ramp)


@computes(keys.RUN_SHEET)
def run_sheet(key: Key[tuple[Step, ...]], bundle: Bundle, have: Have, run: RunContext) -> tuple[Step, ...]:
    """Every step of the run in its order, as it was edited. Raises InputError without a part."""
    p, e = bundle.project, have(keys.EVALUATION)
    if e.part is None:
        raise InputError("There is no part: a run sheet is made for one.")
    plate, bands = have(keys.PLATE_USE.of(units=key["units"])), have(keys.CURVE_BANDS)
    judgement = have(keys.JUDGEMENT.of(full=key["full"], bodies=key["bodies"]))
    low, middle, high = (v if np.isfinite(v) else e.ready_time for v in bands.ready)
    ready = e.ready_time if np.isfinite(e.ready_time) else float(e.heat.time[-1])
    of = SheetOf(
        p.rig, p.settings, p.process, p.criteria, e, judgement,
        (min(low, ready), ready, max(high, middle, ready)) if np.isfinite(ready) else (0.0, 0.0, 0.0),
        have(keys.PLATE_FLATNESS).bow.settled, plate.steps, have(keys.COOL_DOWN), plate.lets_go,
    )  # fmt: skip
    return sheet(of, p.run_plan, key["units"])


def mass_course(e: Evaluation) -> tuple[Floats, Floats]:
    """Seconds after the first layer, and the mass (kg) that is laid by then."""
    part = e.part
    assert part is not None
    blocks = part.column
    volume = blocks.area * (blocks.top - blocks.bottom)
    share = np.concatenate([[0.0], np.cumsum(volume)]) / max(float(volume.sum()), 1e-12)
    return np.concatenate([[0.0], np.cumsum(blocks.time)]), share * part.plan.mass


@computes(keys.PLANNED_TARGETS)
def planned_targets(_: Key[Wanted], bundle: Bundle, have: Have, run: RunContext) -> Wanted:
    """What a sliced file is held against."""
    p = bundle.project
    return wanted_of(p.rig, p.settings, p.process)


@computes(keys.MASS_COURSE)
def laid(_: Key[tuple[Floats, Floats]], bundle: Bundle, have: Have, run: RunContext) -> tuple[Floats, Floats]:
    """The mass that is laid against time. Raises InputError without a part."""
    e = have(keys.EVALUATION)
    if e.part is None:
        raise InputError("There is no part: open one first.")
    return mass_course(e)
