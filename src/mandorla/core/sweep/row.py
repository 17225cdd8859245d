"""One computation of a sweep as a row of plain values; runs in a process of its own, here or on a cluster."""

from __future__ import annotations

import math
import time
from functools import lru_cache
from pathlib import Path
from typing import Any, Final

from mandorla.core.errors import MandorlaError
from mandorla.core.failure.messages import lift_in
from mandorla.core.input_file import bytes_of
from mandorla.core.part.process import PartSource
from mandorla.core.project.store import Bundle, read_bundle
from mandorla.core.results.keys import EVALUATION, FULL_RUN, JUDGEMENT
from mandorla.core.results.results import Results
from mandorla.core.sweep.plan import Task, edited, experience_of

FIGURES: Final = (
    "status", "judged_by", "probability_of_any", "fails_first", "hold_margin", "lift_m", "crack_index", "ready_s", "print_s",
    "mass_kg", "energy_J", "energy_low_J", "energy_high_J", "cost", "error", "seconds",
)  # fmt: skip
DIED: Final = "the worker died"


@lru_cache(maxsize=8)
def _opened(path: str, part: str, unit: float) -> Bundle:
    bundle = read_bundle(Path(path))
    if not part:
        return bundle
    file = Path(part)
    placement = bundle.project.part.placement if bundle.project.part is not None else None
    source: dict[str, Any] = {"name": file.stem, "file": file.name, "unit_scale": unit}
    if placement is not None:
        source["placement"] = placement
    project = bundle.project.model_copy(update={"part": PartSource(**source), "runs": ()})
    return Bundle(project, {**bundle.originals, file.name: bytes_of(file)})


def named(task: Task) -> dict[str, Any]:
    """What a row is of."""
    return {"key": task.key, "project": Path(task.project).name, "part": Path(task.part).name if task.part else ""}


def row_of(task: Task) -> dict[str, Any]:
    """Compute one row; what is refused stands in its ``error``."""
    began = time.monotonic()
    row = named(task) | dict(task.edits) | dict.fromkeys(FIGURES, "")
    try:
        row |= _figures(task)
    except MandorlaError as error:
        row |= {"status": "error", "error": str(error).replace("\n", " ")}
    row["seconds"] = round(time.monotonic() - began, 3)
    return row


def _figures(task: Task) -> dict[str, Any]:
    bundle = _opened(task.project, task.part, task.part_unit)
    project = edited(bundle.project, task.edits)
    taught = experience_of(task.logbook) if task.logbook and project.criteria.from_prints else None
    results = Results(Bundle(project, bundle.originals), None, taught)
    e = results.get(EVALUATION)
    judgement, by = e.judgement, "quick"
    if task.full and e.part is not None and not e.fit_problem:
        results.get(FULL_RUN.of(resolution=task.full, bodies="all"))
        judgement, by = results.get(JUDGEMENT.of(full=task.full, bodies="all")), task.full
    ways = judgement.assessed
    found: dict[str, Any] = {
        "status": judgement.whole.value, "judged_by": by, "probability_of_any": judgement.anything, "fails_first": judgement.first,
        "ready_s": e.ready_time,
    }  # fmt: skip
    if "adhesion" in ways:
        found["hold_margin"] = math.exp(ways["adhesion"].margin)
    if "cracks" in ways:
        found["crack_index"] = math.exp(-ways["cracks"].margin)
    if "flatness" in ways:
        found["lift_m"] = lift_in(judgement, e.lift_limit)
    if e.part is not None and e.energy is not None:
        low, high = e.energy.within
        found |= {
            "print_s": e.part.plan.duration, "mass_kg": e.part.plan.mass, "energy_J": e.energy.total, "energy_low_J": low,
            "energy_high_J": high, "cost": e.energy.cost,
        }  # fmt: skip
    return {k: "" if isinstance(v, float) and not math.isfinite(v) else v for k, v in found.items()}
