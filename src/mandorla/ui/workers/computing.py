"""What the window has computed for it. Loads the numerics, so jobs import it late: the window is painted before that."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from functools import lru_cache
from pathlib import Path

from mandorla.core.errors import InputError
from mandorla.core.measure.compare import Comparison, compare
from mandorla.core.measure.fit import RigFit, fit_rig
from mandorla.core.part.process import Placement
from mandorla.core.project.full_warp import (
    ShapeLever,
    chances_of_bundle,
    compensated_part,
    expected_of,
    shape_levers,
    simulate_bundle,
    why_of,
)
from mandorla.core.project.models import Project
from mandorla.core.project.plate_look import PlateLook, look_at_plate
from mandorla.core.project.session import (
    PartGeometry,
    check_same_part,
    evaluate_bundle,
    geometry_of,
    read_part,
    read_print_file,
)
from mandorla.core.project.store import Bundle
from mandorla.core.rig.model import Rig
from mandorla.core.rig.settings import Criteria, Settings
from mandorla.core.runtime import RunContext
from mandorla.core.thermal.faults import FaultRun, Start, run_fault
from mandorla.core.thermal.heatup import HeatUp, heat_up
from mandorla.core.thermal.program import ProgramRun, run_program, soak
from mandorla.core.thermal.surface_history import SurfaceHistory, surface_history
from mandorla.core.thermal.tuning import Tuning, tune_regulator
from mandorla.core.thermal.unknowns import CurveBands, curve_bands
from mandorla.core.tune.chances import Chances
from mandorla.core.tune.evaluate import Evaluation
from mandorla.core.tune.levers import Cause, Lever
from mandorla.core.tune.rig_checks import RigCheck, check_rig
from mandorla.core.tune.window import Window, compute_window
from mandorla.core.units import UnitPreferences
from mandorla.core.warp.compensate import Checked, Compensation
from mandorla.core.warp.full import Resolution
from mandorla.core.warp.full_result import FullRun

NOW = "now"


@dataclass(frozen=True, slots=True)
class Quick:
    """What follows from a project by the quick models: the part as it stands, the verdicts, those of pinned scenarios."""

    geometry: PartGeometry | None
    evaluation: Evaluation
    pinned: dict[str, Evaluation]


def evaluate_project(bundle: Bundle) -> Quick:
    """Evaluate a project and its pinned scenarios. Raises :class:`MeshError` for a part that cannot be read."""
    geometry = geometry_of(bundle)
    part = bundle.project.part
    files = tuple((name, bundle.originals[name]) for name in part.files) if part is not None else ()
    pinned = {}
    for scenario in bundle.project.scenarios:
        update = {"settings": scenario.settings, "process": scenario.process, "scenarios": ()}
        pinned[scenario.name] = _pinned(bundle.project.model_copy(update=update), files)
    return Quick(geometry, evaluate_bundle(bundle, geometry), pinned)


@lru_cache(maxsize=8)
def _pinned(project: Project, files: tuple[tuple[str, bytes], ...]) -> Evaluation:
    """A pinned scenario changes only with its rig and part: it is kept while the present settings are edited."""
    bundle = Bundle(project, dict(files))
    return evaluate_bundle(bundle, geometry_of(bundle))


def window_of(project: Project, evaluation: Evaluation, run: RunContext) -> Window:
    """The operating window around an evaluation."""
    placement = project.part.placement if project.part is not None else Placement()
    return compute_window(project.rig, project.settings, project.criteria, evaluation, placement, run)


def surface_over_time(project: Project, horizon: float, run: RunContext) -> SurfaceHistory:
    """The surface map from a cold rig on, at the first-layer set points."""
    return surface_history(project.rig, project.settings, horizon, run)


def bands_of(project: Project, evaluation: Evaluation, run: RunContext) -> CurveBands:
    """Bands of the heat-up's curves from what is not known about the rig."""
    return curve_bands(project.rig, project.settings, project.criteria, evaluation.heat, run)


def tuning_of(project: Project, evaluation: Evaluation) -> Tuning:
    """Regulator terms from the model."""
    return tune_regulator(project.rig, project.settings, project.criteria, evaluation.heat)


def program_of(project: Project, evaluation: Evaluation) -> ProgramRun:
    """The project's set-point program on a cold rig; without one, the soak that its settings describe."""
    steps = project.program or soak(project.settings)
    return run_program(project.rig, project.settings, project.criteria, evaluation.heat, steps)


def checks_of(project: Project, evaluation: Evaluation, units: UnitPreferences) -> tuple[RigCheck, ...]:
    """All checks of the rig with their reasons."""
    return check_rig(project.rig, project.settings, project.criteria, evaluation.heat, units)


def fault_of(project: Project, key: str, start: Start) -> FaultRun:
    """What happens after a fault. Raises :class:`InputError` for one that the rig cannot have."""
    return run_fault(project.rig, project.settings, project.criteria, key, start)


def compare_builds(project: Project, run: RunContext) -> dict[str, HeatUp]:
    """Heat-ups of the kept builds at the present set points, and of the present rig as “now”."""
    found = {}
    machines = [*((b.name, b.rig) for b in project.builds), (NOW, project.rig)]
    for i, (name, rig) in enumerate(machines):
        run.checkpoint(i / len(machines), "comparing builds")
        found[name] = _heat_up_of(rig, project.settings, project.criteria)
    return found


@lru_cache(maxsize=16)
def _heat_up_of(rig: Rig, settings: Settings, criteria: Criteria) -> HeatUp:
    return heat_up(rig, settings, criteria, with_bands=False)


def read_part_file(path: Path, unit_scale: float, run: RunContext) -> bytes:
    """The bytes of a mesh file that is a printable part. Raises :class:`MeshError` or :class:`InputError`."""
    try:
        data = path.read_bytes()
    except OSError as error:
        raise InputError(f"“{path}” cannot be read: {error.strerror}.") from error
    run.checkpoint(0.1, "reading the mesh")
    read_part(data, path.name, unit_scale)
    return data


def read_gcode_file(path: Path, bundle: Bundle, run: RunContext) -> bytes:
    """The bytes of G-code that prints a project's part. Raises :class:`MeshError` or :class:`InputError`."""
    source = bundle.project.part
    if source is None:
        raise InputError("Open the part first: G-code tells how it is printed, not what it is.")
    try:
        data = path.read_bytes()
    except OSError as error:
        raise InputError(f"“{path}” cannot be read: {error.strerror}.") from error
    run.checkpoint(0.1, "reading the G-code")
    file = read_print_file(data, path.name, source.filament)
    drawn = read_part(bundle.originals[source.file], source.file, source.unit_scale * source.scale, source.placement)
    check_same_part(file, drawn, path.name)
    return data


def compared(bundle: Bundle, session: int, units: UnitPreferences, run: RunContext) -> Comparison:
    """One session against the present rig. Raises :class:`InputError` when nothing in it can be compared."""
    p = bundle.project
    return compare(
        p.rig, p.settings, p.criteria, p.measurements.sessions[session], p.measurements, bundle.originals, run, units
    )


def fitted(
    bundle: Bundle,
    sessions: tuple[int, ...],
    unknowns: tuple[str, ...],
    day: str,
    units: UnitPreferences,
    run: RunContext,
) -> RigFit:
    """The present rig fitted to some sessions."""
    p = bundle.project
    chosen = [p.measurements.sessions[i] for i in sessions]
    return fit_rig(p.rig, p.settings, p.criteria, chosen, p.measurements, bundle.originals, day, unknowns, run, units)


def full_warp(
    bundle: Bundle, geometry: PartGeometry, evaluation: Evaluation, resolution: Resolution, run: RunContext,
    grown: Callable[[FullRun], None], together: bool,
) -> FullRun:  # fmt: skip
    """The full simulation; ``grown`` is called with what there is after every lump."""
    return simulate_bundle(bundle, geometry, evaluation, resolution, run, grown, together=together)


def full_expected(
    bundle: Bundle, geometry: PartGeometry, resolutions: tuple[Resolution, ...], together: bool
) -> dict[Resolution, tuple[float, float]]:
    """Seconds and bytes that a full simulation will take here at each resolution."""
    return {r: expected_of(bundle, geometry, r, together=together) for r in resolutions}


def plate_of(bundle: Bundle, geometry: PartGeometry, evaluation: Evaluation, run: RunContext) -> PlateLook | None:
    """Whether the loose plate is pulled off its seat, at a glance."""
    return look_at_plate(bundle, geometry, evaluation, run)


def why(
    bundle: Bundle, geometry: PartGeometry, evaluation: Evaluation, prefs: UnitPreferences, run: RunContext
) -> tuple[tuple[Cause, ...], tuple[Lever, ...]]:
    """Causes and levers of a project's part, ranked."""
    return why_of(bundle, geometry, evaluation, prefs, run)


def chances(
    bundle: Bundle, geometry: PartGeometry | None, evaluation: Evaluation, full: FullRun | None, run: RunContext
) -> Chances:
    """Probabilities of the failures of a project's part."""
    look = look_at_plate(bundle, geometry, evaluation, run) if full is None else None
    return chances_of_bundle(bundle, evaluation, full, run, None if look is None else look.gap)


def compensated(
    bundle: Bundle, geometry: PartGeometry, evaluation: Evaluation, found: FullRun, foot_flat: bool, run: RunContext
) -> tuple[Compensation, Checked]:
    """The part pre-deformed against a run's release, checked by a second run."""
    return compensated_part(bundle, geometry, evaluation, found, foot_flat=foot_flat, run=run)


def shapes(
    bundle: Bundle, geometry: PartGeometry, evaluation: Evaluation, prefs: UnitPreferences, run: RunContext
) -> tuple[ShapeLever, ...]:
    """Other shapes of the part, each simulated in full."""
    return shape_levers(bundle, geometry, evaluation, prefs, run)
