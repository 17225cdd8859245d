"""Results of one state and of all states around it: the evaluation, pinned scenarios, the judgement, the operating window."""

from __future__ import annotations

from functools import partial

from mandorla.core.errors import InputError
from mandorla.core.failure.registry import Judgement
from mandorla.core.part.geometry import PartGeometry
from mandorla.core.part.process import Placement
from mandorla.core.project.store import Bundle
from mandorla.core.results import keys
from mandorla.core.results.judged import judged
from mandorla.core.results.key import Key
from mandorla.core.results.registry import Have, computes
from mandorla.core.runtime import RunContext
from mandorla.core.tune.axes import Setup, axes_of
from mandorla.core.tune.best_of_others import compute_best
from mandorla.core.tune.measuring import Widened, widened_by
from mandorla.core.tune.operating_point import Evaluation, evaluate, judged_in_full, prepare_part
from mandorla.core.tune.through_runs import through_runs
from mandorla.core.tune.window import Ground, compute_window
from mandorla.core.tune.window_map import Window


def _placement(bundle: Bundle) -> Placement:
    part = bundle.project.part
    return part.placement if part is not None else Placement()


@computes(keys.EVALUATION)
def evaluation(_: Key[Evaluation], bundle: Bundle, have: Have, run: RunContext) -> Evaluation:
    """Heat-up, warp, limits and energy at the project's settings by the quick models."""
    p, geometry = bundle.project, have(keys.GEOMETRY)
    part = (
        None
        if geometry is None
        else prepare_part(geometry.sections, p.process, geometry.file, have(keys.LEARNED), have(keys.GAP_MAP))
    )
    return evaluate(p.rig, p.settings, p.criteria, part, _placement(bundle), heat=have(keys.HEAT_UP))


def _pinned(bundle: Bundle, name: str) -> Bundle:
    """The project as a pinned scenario has it. Raises InputError for one that is not pinned."""
    p = bundle.project
    pinned = next((s for s in p.scenarios if s.name == name), None)
    if pinned is None:
        raise InputError(f"There is no scenario “{name}”.")
    put = {"settings": pinned.settings, "process": pinned.process}
    return Bundle(p.model_copy(update=put), bundle.originals)


@computes(keys.SCENARIO)
def scenario(key: Key[Evaluation], bundle: Bundle, have: Have, run: RunContext) -> Evaluation:
    """The same at the settings and with the process of a pinned scenario. Raises InputError for one that is not pinned."""
    return have.beside(_pinned(bundle, key["scenario"])).get(keys.EVALUATION, run)


@computes(keys.SCENARIO_JUDGEMENT)
def scenario_judgement(key: Key[Judgement], bundle: Bundle, have: Have, run: RunContext) -> Judgement:
    """What the page would say of a pinned scenario; with ``check`` by a full run. Raises InputError for one that is not pinned."""
    quick = have(keys.SCENARIO.of(scenario=key["scenario"]))
    possible = quick.part is not None and not quick.fit_problem
    asked = have.beside(_pinned(bundle, key["scenario"]))
    return judged(asked, run, check=key["check"])[0] if possible else quick.judgement


@computes(keys.JUDGEMENT)
def judgement(key: Key[Judgement], bundle: Bundle, have: Have, run: RunContext) -> Judgement:
    """Every way to fail, by the quick models, or by a full run of this state where one is named."""
    p, e = bundle.project, have(keys.EVALUATION)
    if not key["full"]:
        return e.judgement
    full = have(keys.FULL_RUN.of(resolution=key["full"], bodies=key["bodies"]))
    return judged_in_full(e, p.rig, p.settings, p.criteria, full)


def ground_of(bundle: Bundle, e: Evaluation, geometry: PartGeometry | None) -> Ground:
    """What windows around the project's settings are computed on. Raises InputError without a part."""
    p, part = bundle.project, e.part
    if part is None or geometry is None:
        raise InputError("There is no part: open one first.")
    prepared = partial(prepare_part, geometry.sections, file=geometry.file, learned=part.learned, gaps=part.gaps)
    return Ground(Setup(p.rig, p.settings, p.process), p.criteria, e, _placement(bundle), prepared)


@computes(keys.WINDOW_AT_ONCE)
@computes(keys.WINDOW)
def window(key: Key[Window], bundle: Bundle, have: Have, run: RunContext) -> Window:
    """The operating window around the project's settings over two axes. Raises InputError without a part, or for an axis that has
    no effect."""
    geometry = have(keys.GEOMETRY)
    ground = ground_of(bundle, have(keys.EVALUATION), geometry)
    from_file = geometry is not None and geometry.file is not None
    axes = axes_of((key["x"], key["y"]), ground.setup, from_file=from_file)
    return compute_window(ground, axes, run, at_once=key.name == keys.WINDOW_AT_ONCE.name)


@computes(keys.WINDOW_AT_BEST)
def window_at_best(key: Key[Window], bundle: Bundle, have: Have, run: RunContext) -> Window:
    """A window on which the settings that are no axis are at their best at each point. Raises InputError without a part, or for an
    axis that has no effect."""
    geometry = have(keys.GEOMETRY)
    ground = ground_of(bundle, have(keys.EVALUATION), geometry)
    from_file = geometry is not None and geometry.file is not None
    axes = axes_of((key["x"], key["y"]), ground.setup, from_file=from_file)

    def grounds(setup: Setup) -> Ground:
        other = Bundle(bundle.project.model_copy(update={"settings": setup.settings}), bundle.originals)
        asked = have.beside(other)
        return ground_of(other, asked.get(keys.EVALUATION, run.silent()), asked.get(keys.GEOMETRY, run.silent()))

    return compute_best(ground, grounds, axes, run, from_file=from_file)


@computes(keys.MEASURING)
def measuring(_: Key[tuple[Widened, ...]], bundle: Bundle, have: Have, run: RunContext) -> tuple[Widened, ...]:
    """Which measurement would widen the almond of the usual map most. Raises InputError without a part."""
    ground = ground_of(bundle, have(keys.EVALUATION), have(keys.GEOMETRY))
    return widened_by(have(keys.WINDOW), ground, run)


@computes(keys.WINDOW_THROUGH_RUNS)
def window_through_runs(key: Key[Window], bundle: Bundle, have: Have, run: RunContext) -> Window:
    """A window moved so that it passes through the full simulations that suggestions were checked by."""
    ground = ground_of(bundle, have(keys.EVALUATION), have(keys.GEOMETRY))
    return through_runs(
        have(keys.WINDOW.of(x=key["x"], y=key["y"])), have(keys.SUGGESTIONS.of(check=key["check"])).runs, ground
    )
