"""Random projects with fields at and between their limits: each gives answers of finite figures, or is refused in words.

Usage: extreme_rigs.py [--projects N] [--first K] [--seed S] [--tuned M] [--checked C] [--jobs J]. Every field of machine,
settings, process and criteria may take its least, its most, or anything between; combinations that a project refuses at once do
not count. One in M of those with a part is tuned by the quick models, one in C with the full simulations that check what is offered
and what would help (0: none). A test runs some of them.
"""

from __future__ import annotations

import argparse
import collections
import math
import random
import sys
import time
import traceback
import warnings
from collections.abc import Iterator
from dataclasses import dataclass
from multiprocessing import get_context
from pathlib import Path
from typing import Any

import numpy as np
from pydantic import BaseModel

sys.path.insert(0, str(Path(__file__).resolve().parents[1]))

from tests.core.bundles import small_bundle

from mandorla.core.errors import InputError, MandorlaError
from mandorla.core.project.models import Project
from mandorla.core.project.paths import get_value, meaning_at, set_value
from mandorla.core.project.samples import SAMPLES, sample
from mandorla.core.project.store import Bundle
from mandorla.core.results import keys
from mandorla.core.results.results import Results

AREAS = ("rig", "settings", "process", "criteria", "part")
ASKED = (keys.EVALUATION, keys.RIG_CHECKS, keys.FAULT, keys.FIRST_TO_MEASURE)
PRINTED = (keys.PLUG_COURSE, keys.COOL_DOWN, keys.ON_BACKUP)  # of projects with a part
TUNED = (keys.SUGGESTIONS.of(check=False), keys.OPENERS.of(check=False))
CHECKED = (
    keys.SUGGESTIONS.of(check=True),
    keys.OPENERS.of(check=True),
    keys.LEVER_WORTH.of(simulated=True),
    keys.BACKUP_IN_FULL,
)
JUDGED = {keys.LEVER_WORTH.name}  # what starts from the judgement that is shown

_TOLD = 50  # projects between lines of progress


class Nonsense(AssertionError):
    """A figure that nothing has."""


@dataclass
class Outcome:
    """What came of one project."""

    kind: str
    where: str = ""
    changed: tuple[str, ...] = ()


def fields_of(model: BaseModel, path: str) -> Iterator[str]:
    """Every numeric field below a model."""
    for name in type(model).model_fields:
        value, here = getattr(model, name), f"{path}.{name}"
        if isinstance(value, BaseModel):
            yield from fields_of(value, here)
        elif isinstance(value, tuple):
            for n, item in enumerate(value):
                if isinstance(item, BaseModel):
                    yield from fields_of(item, f"{here}.{n}")
        elif isinstance(value, float):
            yield here


def drawn(project: Project, path: str, rng: random.Random) -> float | None:
    """A value for a field; None where it has no limits."""
    meaning = meaning_at(project, path)
    if meaning is None:
        return None
    low, high = meaning.low, meaning.high
    kind = rng.random()
    if kind < 0.2:
        return low
    if kind < 0.4:
        return high
    if low > 0.0 and high / low > 20.0:
        return float(math.exp(rng.uniform(math.log(low), math.log(high))))
    return rng.uniform(low, high)


def extreme(seed: int, n: int) -> tuple[Bundle, tuple[str, ...]]:
    """A project, and what was changed in it."""
    rng = random.Random(f"rigs {seed} {n}")
    bundle = rng.choice([small_bundle, *(lambda k=k: sample(k) for k in sorted(SAMPLES))])()
    project = bundle.project
    paths = [p for area in AREAS if (m := get_value(project, area)) is not None for p in fields_of(m, area)]
    changed = []
    for path in rng.sample(paths, min(len(paths), rng.choice((1, 2, 4, 8, 16)))):
        value = drawn(project, path, rng)
        if value is None:
            continue
        try:
            project = set_value(project, path, value)
            changed.append(f"{path}={value:.4g}")
        except InputError:
            continue
    return Bundle(project, bundle.originals), tuple(changed)


def check(results: Results) -> None:
    """Nonsense where a temperature, a time or an energy is none."""
    e = results.get(keys.EVALUATION)
    heat = e.heat
    for name in ("surface", "reading", "air", "lower_air", "frame", "wall", "cells"):
        values = np.asarray(getattr(heat, name))
        if not np.isfinite(values).all() or values.min() <= 0.0 or values.max() > 5000.0:
            raise Nonsense(f"{name} of {values.min():.3g} to {values.max():.3g} K")
    if not (np.isfinite(heat.power).all() and heat.power.min() >= -1e-6):
        raise Nonsense(f"power of {heat.power.min():.3g} W")
    if not (math.isnan(e.ready_time) or e.ready_time >= 0.0):
        raise Nonsense(f"ready in {e.ready_time}")
    if e.energy is not None and not (math.isfinite(e.energy.total) and e.energy.total >= 0.0):
        raise Nonsense(f"an energy of {e.energy.total}")
    for key, a in e.judgement.assessed.items():
        if not (math.isnan(a.probability) or 0.0 <= a.probability <= 1.0) or math.isinf(a.margin):
            raise Nonsense(f"{key}: chance {a.probability}, margin {a.margin}")
    if not (math.isnan(e.judgement.anything) or 0.0 <= e.judgement.anything <= 1.0):
        raise Nonsense(f"a chance of {e.judgement.anything}")


def outcome(seed: int, n: int, tuned: int = 10, checked: int = 0) -> Outcome:
    """Everything that is asked of one project; one in ``tuned`` and ``checked`` is tuned so (0: none)."""
    bundle, changed = extreme(seed, n)
    results = Results(bundle)
    try:
        bundle.check_originals()
        printed = bundle.project.part is not None
        tune = (*(TUNED if tuned and n % tuned == 0 else ()), *(CHECKED if checked and n % checked == 0 else ()))
        for key in (*ASKED, *((*PRINTED, *tune) if printed else ())):
            results.get(results.as_judged(key) if key.name in JUDGED else key)
        check(results)
    except MandorlaError as error:
        return Outcome("refused", f"{type(error).__name__}: {error.message[:90]}", changed)
    except Nonsense as error:
        return Outcome("nonsense", str(error), changed)
    except Exception as error:  # noqa: BLE001  what is outside of our own tree is what is looked for
        ours = next(
            (f for f in reversed(traceback.extract_tb(error.__traceback__)) if "/mandorla/" in f.filename), None
        )
        where = f"{Path(ours.filename).name}:{ours.lineno}" if ours is not None else ""
        return Outcome("outside", f"{type(error).__name__} at {where}: {str(error)[:60]}", changed)
    return Outcome("answered", "", changed)


def _one(task: tuple[int, int, int, int]) -> tuple[int, Outcome]:
    warnings.simplefilter("error")
    return task[1], outcome(*task)


def main() -> int:
    """Print the table; 1 where something was neither answered nor refused."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--projects", type=int, default=2000)
    parser.add_argument("--first", type=int, default=0)
    parser.add_argument("--seed", type=int, default=1)
    parser.add_argument("--tuned", type=int, default=10)
    parser.add_argument("--checked", type=int, default=10)
    parser.add_argument("--jobs", type=int, default=2)
    asked = parser.parse_args()
    kinds: collections.Counter[str] = collections.Counter()
    places: dict[str, list[Any]] = collections.defaultdict(list)
    began = time.perf_counter()
    tasks = [(asked.seed, n, asked.tuned, asked.checked) for n in range(asked.first, asked.first + asked.projects)]
    with get_context("spawn").Pool(asked.jobs) as pool:
        for k, (n, found) in enumerate(pool.imap_unordered(_one, tasks), start=1):
            kinds[found.kind] += 1
            if found.where:
                places[f"{found.kind}: {found.where}"].append((n, found.changed))
            if found.kind in ("outside", "nonsense") or k % _TOLD == 0:
                print(f"{k:6d} projects, {time.perf_counter() - began:.0f} s: {dict(kinds)}", flush=True)
    print(f"{asked.projects} projects in {time.perf_counter() - began:.0f} s: "
          + ", ".join(f"{kinds[k]} {k}" for k in ("answered", "refused", "outside", "nonsense")))  # fmt: skip
    for place, where in sorted(places.items(), key=lambda kv: -len(kv[1])):
        print(f"  {len(where):4d} times {place}")
        if not place.startswith("refused"):
            print(f"       project {where[0][0]}: {', '.join(where[0][1])[:300]}")
    return 1 if kinds["outside"] + kinds["nonsense"] else 0


if __name__ == "__main__":
    raise SystemExit(main())
