"""Do suggestions survive: ten parts on four rigs in six polymers, each suggestion judged by a full simulation at fine resolution.

Usage: suggestions.py [--all] [--count N] [--seed S] [--workers N] ; a balanced draw of 60 by a seed, or every one of the 240 cases.
What was judged is kept in suggestions_judged.csv, a line a case with the state of the core that it was judged by, as it comes: one
that was stopped goes on, and cases that the present core has judged are not judged twice (``--again`` judges all anew).
A case without a suggestion counts as failed where a search over 40 full runs finds settings that hold with no more than the
accepted chance of failure, as it is asked of a suggestion; how many hold at typical figures only is counted. For suggestions that
hold, the energy is compared with the cheapest settings that a search over the map finds to hold in full (``--energy N`` cases).
"""

from __future__ import annotations

import argparse
import csv
import hashlib
import math
import time
from dataclasses import dataclass
from datetime import date
from itertools import product
from multiprocessing import get_context
from pathlib import Path
from typing import Final

import numpy as np
from scipy.stats import binomtest
from shapes import ROOT, UNSEEN, under

from mandorla.core.errors import MandorlaError
from mandorla.core.failure.registry import Judgement
from mandorla.core.failure.state import State
from mandorla.core.measure.models import Measurements
from mandorla.core.part.process import PartSource, Process
from mandorla.core.project.samples import sample
from mandorla.core.project.store import Bundle
from mandorla.core.results import keys
from mandorla.core.results.results import Results
from mandorla.core.rig.settings import Settings
from mandorla.core.tune.messages import tune_sentence
from mandorla.core.tune.window_map import LOADS, candidates, settings_at
from mandorla.core.units import celsius
from mandorla.core.warp.compensate import stl_bytes

PARTS: Final = (
    "winch-cradle",
    "oar-rack",
    "hatch-frame",
    "lamp-box",
    "sail-clips",
    "cuboid",
    "angle",
    "channel",
    "disc",
    "slab",
)
RIGS: Final = ("open", "passive", "heated", "hot")
# polymer, surface, plate and chamber (°C) to begin with
POLYMERS: Final = {
    "pla": ("polyetherimide_textured", 60.0, 30.0), "petg": ("polyetherimide_textured", 75.0, 30.0),
    "abs": ("polyetherimide_smooth", 100.0, 45.0), "pc": ("polyetherimide_smooth", 115.0, 55.0),
    "pa12": ("glass_fibre_laminate", 90.0, 45.0), "pp": ("bare_glass+glue", 85.0, 40.0),
}  # fmt: skip
SEARCH: Final = 40
BOOK: Final = Path(__file__).with_name("suggestions_judged.csv")
COLUMNS: Final = ("case", "ok", "kind", "said", "seconds", "core", "day")


@dataclass(frozen=True, slots=True)
class Case:
    """A part on a rig in a polymer."""

    part: str
    rig: str
    polymer: str


def bundle_of(case: Case) -> Bundle:
    """The case as a project."""
    base = sample("kiln" if case.rig == "hot" else "boathouse").project
    rig = base.rig
    if case.rig == "open":
        rig = rig.model_copy(update={"chamber": rig.chamber.model_copy(update={"enclosed": False})})
    elif case.rig == "passive":
        rig = rig.model_copy(update={"chamber": rig.chamber.model_copy(update={"heater_power": 0.0})})
    if case.part in UNSEEN:
        file, data = "part.stl", stl_bytes(UNSEEN[case.part]())
        unit = 0.001
    else:
        folder = ROOT / "src" / "mandorla" / "data" / "demo"
        path = next(
            p
            for p in (*folder.glob("*.stl"), *(folder / "parts").iterdir())
            if p.stem == case.part and p.suffix != ".gcode"
        )
        file, data, unit = path.name, path.read_bytes(), 0.001
    surface, bed, chamber = POLYMERS[case.polymer]
    project = base.model_copy(
        update={
            "rig": type(rig).model_validate(rig.model_dump()), "measurements": Measurements(), "scenarios": (), "builds": (),
            "part": PartSource(name=case.part, file=file, unit_scale=unit),
            "process": Process(polymer=case.polymer, **under(surface)),
            "settings": Settings(bed_first=celsius(bed), bed_rest=celsius(bed), chamber=celsius(chamber), soak_time=600.0,
                                 fan=0.5 if case.polymer in ("pla", "petg") else 0.1),
        }
    )  # fmt: skip
    return Bundle(project, {file: data})


def judged(bundle: Bundle, settings: Settings, resolution: str) -> Judgement:
    """The judgement of settings by a full simulation."""
    other = Bundle(bundle.project.model_copy(update={"settings": settings}), bundle.originals)
    results = Results(other)
    return results.get(keys.JUDGEMENT.of(full=resolution, bodies="all"))


def holds_in_full(judgement: Judgement) -> tuple[bool, str]:
    """Whether what was simulated holds at typical figures; what fails."""
    lost = [k for k in LOADS if judgement.state(k) is State.FAILS or (
        k in judgement.assessed and judgement.assessed[k].margin < 0.0)]  # fmt: skip
    return not lost, ", ".join(lost)


def searched(bundle: Bundle, results: Results) -> tuple[Settings | None, int]:
    """Settings that hold in full at draft within the accepted chance, among 40 over the map from the likeliest on; how many hold at
    typical figures only."""
    window = results.get(keys.WINDOW)
    p, rng = bundle.project, np.random.default_rng(3)
    rows, columns = np.nonzero(window.machine_ok & window.reachable)
    order = np.argsort(window.chance[rows, columns] + 1e-3 * rng.random(rows.size))
    typical = 0
    for k in order[:: max(1, order.size // SEARCH)][:SEARCH]:
        settings = settings_at(window.point(int(rows[k]), int(columns[k])), p.rig, p.settings)
        try:
            judgement = judged(bundle, settings, "draft")
        except MandorlaError:
            continue
        typical += holds_in_full(judgement)[0]
        if judgement.anything <= p.criteria.risk and judgement.whole is not State.FAILS:
            return settings, typical
    return None, typical


def tried(case: Case) -> dict[str, str | float | bool]:
    """What is suggested for a case, and what the full simulation at fine resolution says of it."""
    began = time.perf_counter()
    row: dict[str, str | float | bool] = {
        "case": name_of(case),
        "ok": False,
        "said": "",
        "kind": "",
    }
    try:
        bundle = bundle_of(case)
        results = Results(bundle)
        e = results.get(keys.EVALUATION)
        if e.fit_problem:
            return row | {
                "ok": True,
                "kind": "does not fit",
                "said": e.fit_problem,
                "seconds": time.perf_counter() - began,
            }
        found = results.get(keys.SUGGESTIONS).offers
        openers = results.get(keys.OPENERS)
        row["said"] = tune_sentence(
            results.get(keys.WINDOW), e.judgement, found, openers, bundle.project.rig, bundle.project.settings
        )
        if not found:
            better, typical = searched(bundle, results)
            row["kind"] = (
                "none, but there is" if better is not None else f"none, rightly ({typical} hold at typical figures)"
            )
            row["ok"] = better is None
        else:
            kinds = []
            for s in {str(s.settings): s for s in found}.values():
                ok, lost = holds_in_full(judged(bundle, s.settings, "fine"))
                kinds.append(f"{s.key} {s.proof}: {'holds' if ok else 'fails by ' + lost}")
            row["kind"], row["ok"] = "; ".join(kinds), all("fails by" not in k for k in kinds)
    except MandorlaError as error:
        row["kind"] = f"refused: {error}"
    return row | {"seconds": time.perf_counter() - began}


def drawn(count: int, seed: int) -> list[Case]:
    """A balanced draw: every part, rig and polymer as often as the others, within one."""
    every = [Case(*c) for c in product(PARTS, RIGS, POLYMERS)]
    rng = np.random.default_rng(seed)
    rng.shuffle(every)  # type: ignore[arg-type]
    used: dict[str, int] = {}
    chosen: list[Case] = []
    while len(chosen) < min(count, len(every)):
        best = min(
            (c for c in every if c not in chosen),
            key=lambda c: (
                max(used.get(c.part, 0) / 6, used.get(c.rig, 0) / 15, used.get(c.polymer, 0) / 10)
                + 0.01 * (used.get(c.part, 0) + used.get(c.rig, 0) + used.get(c.polymer, 0))
            ),
        )
        chosen.append(best)
        for name in (best.part, best.rig, best.polymer):
            used[name] = used.get(name, 0) + 1
    return chosen


def energy_ratio(case: Case) -> float:
    """Energy of the cheapest suggestion over that of the cheapest of 40 points of the map that hold within the accepted chance,
    by the quick estimate and by a full run at draft, as a suggestion has to."""
    bundle = bundle_of(case)
    results = Results(bundle)
    cheap = next((s for s in results.get(keys.SUGGESTIONS).offers if s.key == "cheapest"), None)
    if cheap is None:
        return math.nan
    window, p = results.get(keys.WINDOW), bundle.project
    points = sorted(candidates(window, "cheapest", -1.0), key=lambda q: q.energy)
    for point in points[:: max(1, len(points) // SEARCH)]:
        if point.energy >= cheap.energy:
            break
        settings = settings_at(point, p.rig, p.settings)
        e = Results(Bundle(p.model_copy(update={"settings": settings}), bundle.originals)).get(keys.EVALUATION)
        if e.judgement.anything > p.criteria.risk or e.energy is None:
            continue
        full = judged(bundle, settings, "draft")
        if full.anything <= p.criteria.risk and full.whole is not State.FAILS:
            return cheap.energy / e.energy.total
    return 1.0


def state_of_core() -> str:
    """A short name of the present state of the core's sources."""
    digest = hashlib.sha256()
    folder = ROOT / "src" / "mandorla" / "core"
    for path in sorted(folder.rglob("*.py")):
        digest.update(path.relative_to(folder).as_posix().encode() + path.read_bytes())
    return digest.hexdigest()[:8]


def name_of(case: Case) -> str:
    """A case as it is listed."""
    return f"{case.part}, {case.rig}, {case.polymer}"


def kept() -> dict[str, dict[str, str]]:
    """What was judged before, by case; the latest line of a case counts."""
    if not BOOK.exists():
        return {}
    with BOOK.open(newline="") as file:
        return {row["case"]: row for row in csv.DictReader(file)}


def keep(rows: dict[str, dict[str, str]]) -> None:
    """Write the book, sorted by case."""
    other = BOOK.with_suffix(".new")
    with other.open("w", newline="") as file:
        writer = csv.DictWriter(file, COLUMNS, lineterminator="\n")
        writer.writeheader()
        writer.writerows(rows[name] for name in sorted(rows))
    other.replace(BOOK)


def told(rows: list[dict[str, str]], core: str) -> str:
    """The sum of what was judged, and how much of it by the present core."""
    good = sum(row["ok"] == "True" for row in rows)
    interval = binomtest(good, len(rows)).proportion_ci(method="wilson")
    own = [row for row in rows if row["core"] == core]
    return (
        f"{good} of {len(rows)} survive ({100 * interval.low:.0f} to {100 * interval.high:.0f} % at 95 %); "
        f"{sum(not row['said'] for row in rows)} without an answer in words; asked for: 57 of 60\n"
        f"by the present core ({core}): {sum(row['ok'] == 'True' for row in own)} of {len(own)}; the others by earlier ones"
    )


def main() -> int:
    """Print a row for every case as it comes, then the sum."""
    parser = argparse.ArgumentParser()
    parser.add_argument("--all", action="store_true")
    parser.add_argument("--count", type=int, default=60)
    parser.add_argument("--seed", type=int, default=14)
    parser.add_argument("--workers", type=int, default=2)
    parser.add_argument("--energy", type=int, default=0)
    parser.add_argument("--skip", type=int, default=0, help="leave out the first of the draw")
    parser.add_argument("--again", action="store_true", help="judge what the present core has judged already, too")
    options = parser.parse_args()
    every = drawn(len(PARTS) * len(RIGS) * len(POLYMERS) if options.all else options.count, options.seed)
    book, core = kept(), state_of_core()
    judged_now = [c for c in every if not options.again and book.get(name_of(c), {}).get("core") == core]
    cases = [c for c in every[options.skip :] if c not in judged_now]
    cases.sort(key=lambda c: book.get(name_of(c), {}).get("day", ""))  # what was never judged, or longest ago, first
    with get_context("spawn").Pool(options.workers, maxtasksperchild=4) as pool:
        for row in pool.imap(tried, cases):
            print(
                f"{'ok  ' if row['ok'] else 'FAIL'} {row['case']:32s} {row.get('seconds', 0.0):5.0f} s  {row['kind']}",
                flush=True,
            )
            if not row["ok"] or "none" in str(row["kind"]):
                print(f"       {row['said']}", flush=True)
            known = {c: str(row[c]) for c in ("case", "ok", "kind", "said")}
            book[known["case"]] = known | {
                "seconds": f"{row['seconds']:.0f}", "core": core, "day": date.today().isoformat()
            }  # fmt: skip
            keep(book)
        print(told([book[name_of(c)] for c in every if name_of(c) in book], core))
        if options.energy:
            ratios = [r for r in pool.imap(energy_ratio, every[: options.energy]) if math.isfinite(r)]
            most = f"most {max(ratios):.2f} of {len(ratios)}"
            print(f"energy over the best found: median {np.median(ratios):.2f}, {most}; asked for 1.15")
    return 0


if __name__ == "__main__":
    raise SystemExit(main())
