"""The quick warp estimate against the full simulation over a designed set: shapes, polymers and chambers, on a rigid plate.

Usage: quick_against_full.py [--write] ; prints rank correlations and the shares within a factor of 1.5; --write renews the
picture in docs/screenshots and the table in docs/quick-against-full.csv.
"""

from __future__ import annotations

import csv
import sys
import time
from pathlib import Path

import numpy as np
from scipy.stats import norm, spearmanr

sys.path.insert(0, str(Path(__file__).resolve().parents[1]))

from tests.core.bodies import block

from mandorla.core.part.mesh import Mesh
from mandorla.core.part.process import Placement, Process
from mandorla.core.part.sections import slice_solid
from mandorla.core.project.samples import sample
from mandorla.core.tune.operating_point import prepare_part
from mandorla.core.units import celsius
from mandorla.core.warp.estimate import PRINTED_FIT, RELEASED_FIT, Conditions, estimate_warp
from mandorla.core.warp.fe_case import PrintedPart, full_run
from mandorla.core.warp.fe_model import Boxes

ROOT = Path(__file__).resolve().parents[1]
SHAPES = {
    "bar": (0.20, 0.03, 0.025),
    "block": (0.12, 0.06, 0.02),
    "plate": (0.15, 0.12, 0.010),
    "cube": (0.06, 0.06, 0.05),
}
# polymer, surface, plate's surface in °C, chambers in °C
MATERIALS = (
    ("pla", "polyetherimide_textured", 60.0, (22.0, 26.0, 30.0, 34.0, 38.0)),
    ("asa", "polyetherimide_textured", 98.0, (25.0, 35.0, 50.0, 60.0, 75.0)),
    ("pc", "polyetherimide_textured", 112.0, (30.0, 50.0, 70.0, 85.0, 100.0)),
    ("abs", "polyetherimide_smooth", 100.0, (30.0, 45.0, 60.0, 72.0, 84.0)),
)


def cases() -> list[tuple[str, Mesh, str, str, float, float]]:
    """All combinations."""
    return [
        (name, block(*size), polymer, surface, plate, chamber)
        for name, size in SHAPES.items() for polymer, surface, plate, chambers in MATERIALS for chamber in chambers
    ]  # fmt: skip


def compared() -> list[dict[str, object]]:
    """A row for every case: lift at the end, off flat after release, margin, of both."""
    bed = sample("boathouse").project.rig.bed
    bed = bed.model_copy(update={"layers": tuple(x.model_copy(update={"bonded": True}) for x in bed.layers)})
    rows: list[dict[str, object]] = []
    for name, mesh, polymer, surface, plate, chamber in cases():
        part = prepare_part(slice_solid(mesh), Process(polymer=polymer, surface=surface))
        hot = celsius(plate)
        at = Conditions(hot, hot, np.full(len(part.sections.corners), hot), celsius(chamber), 0.2, celsius(22.0))
        quick = estimate_warp(part, at, with_bands=False)
        began = time.perf_counter()
        full = full_run(
            PrintedPart(part, at, mesh, bed, Placement(), lambda p, hot=hot: np.full(len(p), hot)), Boxes("draft")
        )
        rows.append(
            {
                "shape": name, "polymer": polymer, "chamber": chamber,
                "quick_margin": quick.margin, "full_margin": float(full.margin[-1].min()),
                "quick_lift": quick.printed_lift, "full_lift": full.printed_lift,
                "quick_released": abs(quick.released_lift), "full_released": full.released_lift,
                "quick_crack": quick.crack_index, "full_crack": float(full.crack.max(initial=0.0)),
                "detached": float(full.detached[-1]), "stopped": full.stopped, "seconds": time.perf_counter() - began,
            }
        )  # fmt: skip
        r = rows[-1]
        print(
            f"{name:6s} {polymer:5s} {chamber:5.0f}  margin {r['quick_margin']:6.2f} {r['full_margin']:6.2f}  lift "
            f"{1e3 * quick.printed_lift:7.3f} {1e3 * full.printed_lift:7.3f}  released {1e3 * abs(quick.released_lift):7.3f} "
            f"{1e3 * full.released_lift:7.3f}  let go {r['detached']:.2f}  {r['seconds']:5.1f} s {full.stopped}", flush=True,
        )  # fmt: skip
    return rows


def picture(rows: list[dict[str, object]], path: Path) -> None:
    """The scatter of lift, release and margin."""
    import matplotlib as mpl  # of this picture only

    mpl.use("Agg")
    from matplotlib import pyplot as plt

    figure, axes = plt.subplots(1, 3, figsize=(12.5, 4.3))
    marks = {"bar": "o", "block": "s", "plate": "^", "cube": "D"}
    inks = {"pla": "#b0452f", "asa": "#1f5c57", "pc": "#6b4a9b", "abs": "#b98a1e"}
    for axis, what, title, scale in zip(
        axes, ("lift", "released", "margin"), ("Lift at the end, mm", "Off flat after release, mm", "Hold margin"), (1e3, 1e3, 1.0),
        strict=True,
    ):  # fmt: skip
        x = np.array([float(r[f"full_{what}"]) for r in rows]) * scale  # type: ignore[arg-type]
        y = np.array([float(r[f"quick_{what}"]) for r in rows]) * scale  # type: ignore[arg-type]
        for a, b, r in zip(x, y, rows, strict=True):
            axis.plot(
                max(a, 1e-3), max(b, 1e-3), marks[str(r["shape"])], color=inks[str(r["polymer"])], ms=5, alpha=0.8
            )
        ends = np.array([max(1e-3, min(x.min(), y.min())), max(x.max(), y.max())])
        axis.plot(ends, ends, color="#888888", lw=1)
        for factor in (1.5, 1 / 1.5):
            axis.plot(ends, factor * ends, color="#888888", lw=0.7, ls="--")
        axis.set(xscale="log", yscale="log", xlabel="full simulation", ylabel="quick estimate", title=title)
    for key, mark in marks.items():
        axes[0].plot([], [], mark, color="#444444", label=key)
    for key, ink in inks.items():
        axes[0].plot([], [], "o", color=ink, label=key.upper())
    axes[0].legend(fontsize=7, frameon=False)
    figure.tight_layout()
    figure.savefig(path, dpi=90)


def constants(rows: list[dict[str, object]]) -> None:
    """The calibration that these cases ask for: what is to stand in PRINTED_FIT and RELEASED_FIT, and where it lets go."""
    heights = {name: size[2] / max(size[:2]) for name, size in SHAPES.items()}
    margin = np.array([float(r["quick_margin"]) for r in rows])  # type: ignore[arg-type]
    slender = np.array([heights[str(r["shape"])] for r in rows])
    known = np.log(np.clip(margin, 0.3, 13.0))
    terms = np.column_stack([np.ones(len(rows)), known, np.log(np.clip(slender, 0.06, 0.9)), known**2])
    for what, now, some in (("lift", PRINTED_FIT, [0, 1, 2, 3]), ("released", RELEASED_FIT, [0, 1])):
        x = np.array([float(r[f"quick_{what}"]) for r in rows])  # type: ignore[arg-type]
        y = np.array([float(r[f"full_{what}"]) for r in rows])  # type: ignore[arg-type]
        big = (np.maximum(x, y) > 2e-5) & (x > 2e-6) & (y > 2e-6)
        off = np.log(y[big] / x[big])
        c, *_ = np.linalg.lstsq(terms[big][:, some], off, rcond=None)
        found = np.array(now)
        found[some] += c
        near = count = 0
        for name in SHAPES:  # every shape from the others
            mine = np.array([r["shape"] == name for r in rows])
            away, *_ = np.linalg.lstsq(terms[big & ~mine][:, some], np.log(y[big & ~mine] / x[big & ~mine]), rcond=None)
            left = np.log(y[big & mine] / x[big & mine]) - terms[big & mine][:, some] @ away
            near, count = near + int((np.abs(left) <= np.log(1.5)).sum()), count + left.size
        print(f"{what:9s} fit now {now}, asked for {tuple(float(round(v, 3)) for v in found)}; a shape left out: "
              f"{100 * near / count:.0f} % within 1.5")  # fmt: skip
    gone = np.array([float(r["full_margin"]) < 1.0 or float(r["detached"]) > 0.0 for r in rows])  # type: ignore[arg-type]

    def likelihood(v: tuple[float, float]) -> float:
        away = (np.log(margin) - v[0]) / v[1]
        return float(norm.logcdf(-away[gone]).sum() + norm.logcdf(away[~gone]).sum())

    best = max(((mu, s) for mu in np.linspace(-1.6, 0.3, 96) for s in np.linspace(0.05, 0.5, 46)), key=likelihood)
    print(f"the full simulation lets go at a quick margin of {np.exp(best[0]):.2f}, ln-spread {best[1]:.2f}")


def main() -> int:
    """Print, and write if asked to."""
    rows = compared()
    sound = [r for r in rows if not r["stopped"]]
    print(f"{len(rows)} cases, {len(rows) - len(sound)} came loose in the full simulation")
    for what, floor in (("lift", 2e-5), ("released", 2e-5), ("margin", 0.0), ("crack", 1e-3)):
        x = np.array([float(r[f"full_{what}"]) for r in sound])  # type: ignore[arg-type]
        y = np.array([float(r[f"quick_{what}"]) for r in sound])  # type: ignore[arg-type]
        big = np.maximum(x, y) > floor
        ratio = (y[big] + 1e-12) / (x[big] + 1e-12)
        near = float(np.mean(np.abs(np.log(ratio)) <= np.log(1.5)))
        count = int(big.sum())
        print(f"{what:9s} rank correlation {spearmanr(x, y).statistic:.3f}; within a factor 1.5: {100 * near:.0f} % of {count}; "
              f"median ratio {np.median(ratio):.2f}")  # fmt: skip
    for name in SHAPES:
        over = [np.log(float(r["full_crack"]) / float(r["quick_crack"])) for r in sound
                if r["shape"] == name and min(float(r["full_crack"]), float(r["quick_crack"])) > 1e-3]  # type: ignore[arg-type]  # fmt: skip
        print(f"crack index of a {name}: full over quick {np.exp(np.median(over)):.2f}, ln-spread {np.std(over):.2f}")
    constants(sound)
    if "--write" in sys.argv:
        picture(rows, ROOT / "docs" / "screenshots" / "quick-against-full.png")
        with (ROOT / "docs" / "quick-against-full.csv").open("w", newline="", encoding="utf-8") as file:
            writer = csv.DictWriter(file, list(rows[0]), lineterminator="\n")
            writer.writeheader()
            writer.writerows({k: f"{v:.4g}" if isinstance(v, float) else v for k, v in r.items()} for r in rows)
    return 0


if __name__ == "__main__":
    raise SystemExit(main())
