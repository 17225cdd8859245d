"""The operating window against what it stands for: whole quick evaluations, and full simulations, at random points of ten parts.

Usage: window.py [--each N] [--seed S] [--checked] ; ``--checked`` takes the maps as the window shows them after a minute, moved by
what the search for suggestions has simulated. N points of each part, half of them where the chance that anything fails is between
10 and 90 %. Prints how far the map is off the evaluations; where it says what a full simulation would say (fails, or not), at all
points and at those where it is sure of that, how often the simulation disagrees; on what share of its area it is not sure of that;
on what share the outcome is open (10 to 90 %: as it is, with the magnet measured, with the quick models' own errors taken out as
well); and how long maps take.
"""

from __future__ import annotations

import argparse
import math
import time
from collections.abc import Mapping
from dataclasses import replace
from typing import Final

import numpy as np
from suggestions import PARTS, Case, bundle_of

from mandorla.__main__ import HELPER_LOADS
from mandorla.core import second_core
from mandorla.core.errors import MandorlaError
from mandorla.core.failure.registry import LIKELY
from mandorla.core.failure.state import State
from mandorla.core.project.store import Bundle
from mandorla.core.results import keys
from mandorla.core.results.results import Results
from mandorla.core.results.tune import ground_of
from mandorla.core.tune.window import Ground, painted
from mandorla.core.tune.window_map import Window, settings_at
from mandorla.core.warp.unknowns import MAGNET, MODEL

# a rig and a polymer for each part, so that every rig and polymer comes up
ON: Final = (
    ("heated", "asa"), ("heated", "abs"), ("open", "pla"), ("passive", "petg"), ("heated", "pla"), ("hot", "pc"), ("heated", "abs"),
    ("passive", "abs"), ("open", "petg"), ("hot", "pa12"),
)  # fmt: skip
SURE: Final = (0.10, 0.90)
MEASURED: Final = 0.25  # of the range of the magnet's pull that is left once a spring scale has read it (Verify)
MOST_WRONG, MOST_UNSURE = 0.05, 0.15


def open_with(w: Window, ground: Ground, left: Mapping[str, float]) -> float:
    """Share of a map's area whose outcome is open when only so much is ``left`` of the spreads of unknowns whose names begin so."""
    parts = {key: each.copy() for key, each in w.solved.parts.items()}
    for n, name in enumerate(w.solved.unknowns):
        for begins, share in left.items():
            if name.startswith(begins):
                for each in parts.values():
                    each[:, :, n] *= share
    other = painted(replace(w.solved, parts=parts), w.axes, ground, w.x.size)
    return float(((other.chance > SURE[0]) & (other.chance < SURE[1])).mean())


def main() -> int:
    """Print the table."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--each", type=int, default=6)
    parser.add_argument("--seed", type=int, default=21)
    parser.add_argument("--checked", action="store_true", help="maps moved by what suggestions have simulated")
    options = parser.parse_args()
    second_core.allow(*HELPER_LOADS)  # as the window and the commands do
    second_core.ready(60.0)
    rng = np.random.default_rng(options.seed)
    off, energy_off, unsure, seconds = [], [], [], []
    undecided, measured, both = [], [], []
    verdicts: list[tuple[bool, bool, bool]] = []  # between 10 and 90 %, sure, right
    for part, (rig, polymer) in zip(PARTS, ON, strict=True):
        bundle = bundle_of(Case(part, rig, "abs" if polymer == "asa" else polymer))
        results = Results(bundle)
        if results.get(keys.EVALUATION).fit_problem:
            print(f"{part:14s} {rig:8s} {polymer:5s} does not fit")
            continue
        began = time.perf_counter()
        w = results.get(keys.WINDOW)
        seconds.append(time.perf_counter() - began)
        if options.checked:
            w = results.get(keys.SUGGESTIONS).window
        between = (w.chance > SURE[0]) & (w.chance < SURE[1])
        unsure.append(float(w.not_sure.mean()))
        undecided.append(float(between.mean()))
        ground = ground_of(bundle, results.get(keys.EVALUATION), results.get(keys.GEOMETRY))
        measured.append(open_with(w, ground, {MAGNET: MEASURED}))
        both.append(open_with(w, ground, {MAGNET: MEASURED, MODEL: 0.0}))
        places = [tuple(p) for p in np.argwhere(between)]
        chosen = [places[k] for k in rng.integers(len(places), size=options.each // 2)] if places else []
        clear = np.argwhere(~between)
        if len(clear):
            chosen += [tuple(clear[k]) for k in rng.integers(len(clear), size=options.each - len(chosen))]
        said = []
        for i, j in chosen:
            p = bundle.project
            point = w.point(int(i), int(j))
            settings = settings_at(point, p.rig, p.settings)
            room = p.rig if p.rig.heats_chamber else p.rig.model_copy(update={"room_temperature": point.y})
            other = Results(Bundle(p.model_copy(update={"settings": settings, "rig": room}), bundle.originals))
            e = other.get(keys.EVALUATION)
            there = w.nearest_point(settings.bed_rest, settings.chamber if p.rig.heats_chamber else point.y)
            off.append(abs(there.chance - e.judgement.anything))
            if e.energy is not None:
                energy_off.append(abs(there.energy / e.energy.total - 1.0))
            try:
                full = other.get(keys.JUDGEMENT.of(full="draft", bodies="all"))
            except MandorlaError as error:
                said.append(f"not simulated ({error})")
                continue
            q = float(w.in_full[w.index_of(there.x, there.y)])
            sure, right = not SURE[0] < q < SURE[1], (full.whole is State.FAILS) == (q >= LIKELY)
            verdicts.append((SURE[0] < there.chance < SURE[1], sure, right))
            if not right:
                word = "surely" if sure else "perhaps"
                said.append(
                    f"{word} {100 * q:.0f} % ({100 * there.chance:.0f} % in all) and {full.whole.value}, {full.first or 'nothing'}"
                )
        print(
            f"{part:14s} {rig:8s} {polymer:5s} {seconds[-1]:5.1f} s  not sure {100 * unsure[-1]:4.1f} %, open "
            f"{100 * undecided[-1]:4.1f} %  {'; '.join(said)}",
            flush=True,
        )
    found = np.array(verdicts)
    sure, wrong = int(found[:, 1].sum()), int((found[:, 1] & ~found[:, 2]).sum())
    share = wrong / max(sure, 1)
    print(
        f"chance off the evaluation: median {np.median(off):.3f}, 90 % {np.quantile(off, 0.9):.3f}, largest {max(off):.3f}"
    )
    print(f"energy off the evaluation: median {np.median(energy_off):.4f}, largest {max(energy_off):.4f}")
    print(f"maps: median {np.median(seconds):.1f} s, asked 2: {'met' if np.median(seconds) <= 2.0 else 'missed'}")
    inside = found[found[:, 0]]
    print(
        f"{len(found)} points, {len(inside)} of them between 10 and 90 %: a full simulation disagrees at "
        f"{int((~found[:, 2]).sum())}; "
        f"sure at {sure} ({int(inside[:, 1].sum())} of them between), of which {wrong} disagree, {100 * share:.0f} %; "
        f"asked {100 * MOST_WRONG:.0f} at most: {'met' if share <= MOST_WRONG else 'missed'}"
    )
    mean = float(np.mean(unsure)) if unsure else math.nan
    met = "met" if mean <= MOST_UNSURE else "missed"
    print(f"not sure on {100 * mean:.0f} % of the area; asked {100 * MOST_UNSURE:.0f} at most: {met}")
    print(
        f"outcome open on {100 * np.mean(undecided):.0f} % of the area; with the magnet's pull known to a quarter of its range "
        f"{100 * np.mean(measured):.0f} %, the quick models' own errors taken out as well {100 * np.mean(both):.0f} %"
    )
    return 0


if __name__ == "__main__":
    raise SystemExit(main())
