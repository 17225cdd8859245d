"""The quick warp estimate against the full simulation: fitted on ten seen shapes, judged on ten that it has not seen, rigid plate.

Usage: quick_against_full.py [--write] [--fit] [--resolution draft] ; prints ranks and shares within a factor of 1.5 with their 95 %
intervals (Wilson; Fisher for ranks). --fit runs the seen shapes as well and prints the constants they ask for. --write renews the
picture in docs/screenshots and the table in docs/quick-against-full.csv.
"""

from __future__ import annotations

import argparse
import csv
import math
from pathlib import Path

import numpy as np
from scipy.stats import binomtest, spearmanr
from shapes import ROOT, SEEN, UNSEEN, cases_of, compare_all

from mandorla.core.warp.estimate import CRACK_FIT, HOLD_FIT, PRINTED_FIT, RELEASED_FIT

Rows = list[dict[str, float | str]]
FLOORS = {"lift": 5e-5, "released": 5e-5, "crack": 0.05}
BONDED = 3.6  # hold margin from which a full simulation's grip has not opened
EACH = 7  # cases of every unseen shape


def column(rows: Rows, name: str) -> np.ndarray:
    """A column as numbers."""
    return np.array([float(r[name]) for r in rows])


def share(good: int, of: int) -> str:
    """A share with its 95 % interval."""
    ends = binomtest(good, of).proportion_ci(method="wilson")
    return f"{100 * good / of:3.0f} % ({100 * ends.low:.0f} to {100 * ends.high:.0f}) of {of}"


def rank(x: np.ndarray, y: np.ndarray) -> str:
    """Spearman's correlation with its 95 % interval."""
    r = float(spearmanr(x, y).statistic)
    z, s = math.atanh(min(r, 0.9999)), 1.96 / math.sqrt(max(x.size - 3, 1))
    return f"{r:.3f} ({math.tanh(z - s):.2f} to {math.tanh(z + s):.2f})"


def judged(rows: Rows, title: str) -> None:
    """Print how the quick figures stand beside the full ones."""
    print(f"{title}: {len(rows)} cases")
    for what, floor in FLOORS.items():
        x, y = (np.maximum(column(rows, f"{kind}_{what}"), floor) for kind in ("full", "quick"))
        off = np.log(y / x)
        near = int((np.abs(off) <= math.log(1.5)).sum())
        spread = f"median {np.exp(np.median(off)):.2f}, ln-rms {np.std(off):.2f}"
        print(f"  {what:9s} rank {rank(x, y)}; within 1.5 {share(near, off.size)}; {spread}")
    x, y = (np.minimum(column(rows, f"{kind}_margin"), 40.0) for kind in ("full", "quick"))
    bonded = (x > BONDED) & (y > 1.0)
    near = np.abs(np.log(np.maximum(y, 1e-3) / np.maximum(x, 1e-3))) <= math.log(1.5)
    alike = (x < 1.0) == (y < 1.0)
    print(f"  margin    rank {rank(x, y)}; while bonded within 1.5 {share(int(near[bonded].sum()), int(bonded.sum()))}, "
          f"else loose or not {share(int(alike[~bonded].sum()), int((~bonded).sum()))}, together "
          f"{share(int(np.where(bonded, near, alike).sum()), x.size)}")  # fmt: skip


def terms(rows: Rows) -> np.ndarray:
    """ln of height over length, wall over width, share of the outline that the foot covers (n, 3), as the estimate has them."""
    slender = np.clip(column(rows, "height") / column(rows, "length"), 0.03, 3.0)
    walls = np.clip(column(rows, "thick") / column(rows, "width"), 0.03, 1.0)
    return np.log(np.column_stack([slender, walls, np.clip(column(rows, "foot"), 0.1, 1.0)]))


def fitted(rows: Rows) -> None:
    """Print the constants that the seen shapes ask for: what is to be added to those that stand."""
    shape, margin = terms(rows), column(rows, "quick_margin")
    one = np.ones(len(rows))
    full = column(rows, "full_margin")
    held = (full > BONDED) & (full < 42.0)
    c, *_ = np.linalg.lstsq(np.column_stack([one, shape])[held], np.log(full[held] / margin[held]), rcond=None)
    print(f"hold      {tuple(round(float(v), 3) for v in np.add(HOLD_FIT, c))}")
    m = np.log(np.clip(margin, 0.3, 17.0))
    for what, now in (("lift", PRINTED_FIT), ("released", RELEASED_FIT), ("crack", CRACK_FIT)):
        x = np.column_stack([one, shape]) if what == "crack" else np.column_stack([one, m, m * m, shape])
        quick, true = column(rows, f"quick_{what}"), column(rows, f"full_{what}")
        keep = (true > 0.5 * FLOORS[what]) & (quick > 1e-7)
        for _ in range(4):  # what is off by more than e is left to the spread
            c, *_ = np.linalg.lstsq(x[keep], np.log(true[keep] / quick[keep]), rcond=None)
            keep = (
                (true > 0.5 * FLOORS[what])
                & (quick > 1e-7)
                & (np.abs(np.log(true / np.maximum(quick, 1e-9)) - x @ c) < 1.0)
            )
        print(f"{what:9s} {tuple(round(float(v), 3) for v in np.add(now, c))}")


def picture(rows: Rows, path: Path) -> None:
    """The scatter of lift, release and margin."""
    import matplotlib as mpl  # of this picture only

    mpl.use("Agg")
    from matplotlib import pyplot as plt

    figure, axes = plt.subplots(1, 3, figsize=(12.5, 4.3))
    shapes, polymers = (list(dict.fromkeys(str(r[k]) for r in rows)) for k in ("shape", "polymer"))
    marks = dict(zip(shapes, "os^Dv<>ph*", strict=False))
    inks = dict(
        zip(
            polymers,
            ("#b0452f", "#1f5c57", "#b98a1e", "#6b4a9b", "#2f6fb0", "#8c8c2f", "#a0508c", "#444444"),
            strict=False,
        )
    )
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


def main() -> int:
    """Print, and write if asked to."""
    parser = argparse.ArgumentParser()
    parser.add_argument("--write", action="store_true")
    parser.add_argument("--fit", action="store_true")
    parser.add_argument("--resolution", default="draft")
    options = parser.parse_args()
    unseen = compare_all(cases_of(list(UNSEEN), EACH), options.resolution)
    judged(unseen, "unseen shapes")
    if options.fit:
        seen = compare_all(cases_of(list(SEEN)), options.resolution)
        judged(seen, "seen shapes")
        fitted(seen)
    if options.write:
        picture(unseen, ROOT / "docs" / "quick-against-full.png")
        with (ROOT / "docs" / "quick-against-full.csv").open("w", newline="", encoding="utf-8") as file:
            writer = csv.DictWriter(file, list(unseen[0]), lineterminator="\n")
            writer.writeheader()
            writer.writerows({k: f"{v:.4g}" if isinstance(v, float) else v for k, v in r.items()} for r in unseen)
    return 0


if __name__ == "__main__":
    raise SystemExit(main())
