"""What levers promise against full simulations: every lever of four cases that a field can set, pulled in full as well.

Usage: levers_in_full.py [--workers N] ; prints for each failure how far the change of its margin (ln) by the quick models is off
that of the full simulations, by the size of the change; and how far the chance that anything fails is off, by the quick models
alone and as *Levers* tells it from the full simulation of the place; the few that it simulates itself are true by that and are
left out of these. Half of a change is taken for its standard deviation.
"""

from __future__ import annotations

import argparse
from multiprocessing import get_context
from typing import Final, NamedTuple

import manifold3d as m3
import numpy as np
import trimesh

from mandorla.core.errors import MandorlaError
from mandorla.core.project.begin import begun_project
from mandorla.core.project.facts import facts_of
from mandorla.core.project.samples import sample
from mandorla.core.project.store import Bundle
from mandorla.core.results import keys
from mandorla.core.results.results import Results
from mandorla.core.tune.window_map import LOADS
from mandorla.core.warp.compensate import stl_bytes

FAR: Final = 3.0  # ln of a margin from which all are alike
SIZES: Final = ((0.0, 0.1), (0.1, 0.4), (0.4, 9.0))


class Pulled(NamedTuple):
    """A lever: the changes of margins by the quick models and in full (ln, by failure), the chances by the quick models, as they
    are told, and in full; whether what is told was simulated."""

    case: str
    name: str
    quick: dict[str, float]
    full: dict[str, float]
    chances: tuple[float, float, float]
    simulated: bool


def _solid(x: float, y: float, z: float, wall: float = 0.0) -> bytes:
    """A block (mm), or a box open on top."""
    made = m3.Manifold.cube((x, y, z))
    if wall:
        made -= m3.Manifold.cube((x - 2 * wall, y - 2 * wall, z)).translate((wall, wall, wall))
    mesh = made.to_mesh()
    return stl_bytes(trimesh.Trimesh(1e-3 * np.asarray(mesh.vert_properties)[:, :3], np.asarray(mesh.tri_verts)))


def cases() -> dict[str, Bundle]:
    """A winch cradle at its own machine, a long block and a plate in ABS on a magnet sheet, a tall nylon box on an open machine."""

    def made(kind: dict[str, object], polymer: str, shape: bytes) -> Bundle:
        return begun_project(facts_of(kind), polymer, ("part.stl", shape, 0.001))

    return {
        "cradle, ASA": sample("boathouse"),
        "block, ABS": made({"kind": "closed", "width": 0.26, "depth": 0.26}, "abs", _solid(180.0, 60.0, 40.0)),
        "plate, ABS": made({"kind": "closed"}, "abs", _solid(160.0, 90.0, 12.0)),
        "tall box, PA12": made({"kind": "open", "width": 0.235, "depth": 0.235}, "pa12", _solid(60.0, 60.0, 180.0, 4.0)),
    }  # fmt: skip


def _margins(found: object) -> dict[str, float]:
    return {k: min(a.margin, FAR) for k, a in found.assessed.items() if k in LOADS}  # type: ignore[attr-defined]


def pulled(case: str) -> list[Pulled]:
    """Every lever of a case."""
    bundle = cases()[case]
    results, found = Results(bundle), []
    now, full = results.get(keys.EVALUATION).judgement, results.get(keys.JUDGEMENT.of(full="draft"))
    quick = {v.name: v.chance for v in results.get(keys.CAUSES_AND_LEVERS).levers}
    for v in results.get(keys.LEVERS_IN_FULL.of(full="draft")).levers:
        if v.barred or v.drastic or v.changes is None or v.judged is None:
            continue
        other = Bundle(bundle.project.model_copy(update=dict(v.changes)), bundle.originals)
        try:
            there = Results(other).get(keys.JUDGEMENT.of(full="draft"))
        except MandorlaError:
            continue
        a, b, c, d = (_margins(j) for j in (now, v.judged, full, there))
        both = [k for k in a if k in b and k in c and k in d]
        found.append(
            Pulled(
                case, v.name, {k: b[k] - a[k] for k in both}, {k: d[k] - c[k] for k in both},
                (quick[v.name], v.chance, there.anything), v.simulated,
            )
        )  # fmt: skip
    return found


def main() -> None:
    """Pull all, print both tables."""
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("--workers", type=int, default=2)
    with get_context("spawn").Pool(parser.parse_args().workers) as pool:
        found = [p for part in pool.imap_unordered(pulled, cases()) for p in part]
    print(
        f"{len(found)} levers\nchange of a margin (ln), error of the quick models' (root mean square, levers), by its size"
    )
    for key in sorted(LOADS):
        changes = np.array([(p.quick[key], p.full[key]) for p in found if key in p.quick]).reshape(-1, 2)
        cells = []
        for low, high in SIZES:
            size = np.abs(changes[:, 0])
            error = (changes[:, 1] - changes[:, 0])[(size >= low) & (size < high)]
            cells.append(f"{np.sqrt(np.mean(error**2)):5.2f} of {error.size:3d}" if error.size else "    –       ")
        print(f"  {key:14s} below 0.1: {cells[0]}   0.1 to 0.4: {cells[1]}   above: {cells[2]}")
    print(
        "chance that anything fails: mean error in points, by the quick models and as it is told, "
        f"{sum(p.simulated for p in found)} that are simulated left out"
    )
    found = [p for p in found if not p.simulated]
    for case in dict.fromkeys(p.case for p in found):
        chances = np.array([p.chances for p in found if p.case == case])
        quick, known = (100 * np.abs(chances[:, k] - chances[:, 2]).mean() for k in (0, 1))
        print(f"  {case:16s} {len(chances):3d} levers: quick {quick:4.1f}, told {known:4.1f}")
    chances = np.array([p.chances for p in found])
    quick, known = (100 * np.abs(chances[:, k] - chances[:, 2]).mean() for k in (0, 1))
    print(f"  {'all':16s} {len(chances):3d} levers: quick {quick:4.1f}, told {known:4.1f}")


if __name__ == "__main__":
    main()
