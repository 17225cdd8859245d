"""A map on which what is no axis is not held but at its best at each point: the lower envelope of coarse maps."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from itertools import product
from typing import Any, Final

import numpy as np

from mandorla.core.part.mesh import Floats
from mandorla.core.runtime import RunContext
from mandorla.core.tune.axes import AXES, Axis, Setup
from mandorla.core.tune.window import Ground, compute_window
from mandorla.core.tune.window_map import Window

_LEVELS: Final = {"bed": (0.35, 0.55, 0.75), "chamber": (0.45, 0.6, 0.75), "soak": (0.0, 0.5), "fan": (0.0, 0.5)}
_MOST: Final = 18  # combinations of what is varied
_FIELDS: Final = (
    "margin", "chance", "lift", "crack", "energy", "duration", "cost", "air", "part_level", "machine_level", "all_level", "worst",
    "tightest",
)  # fmt: skip


def _varied(ground: Ground, axes: tuple[Axis, Axis], *, from_file: bool) -> list[tuple[Axis, list[float]]]:
    """What is not held, with the values that are tried: the present one, and some along its axis."""
    used = {a.key for a in axes}
    beds = {"bed", "bed_first", "bed_rest"}
    found = []
    for key, shares in _LEVELS.items():
        axis = AXES[key]
        if key in used or (key == "bed" and used & beds) or axis.missing(ground.setup, from_file):
            continue
        ends, now = ground.span(axis), axis.value(ground.setup)
        values = [
            now,
            *(v for s in shares if abs((v := ends.low + s * (ends.high - ends.low)) - now) > 2.0 * axis.step),
        ]
        found.append((axis, values))
    # the least important gives way where there are too many
    while found and np.prod([len(v) for _, v in found]) > _MOST:
        longest = max(range(len(found)), key=lambda k: (len(found[k][1]), k))
        axis, values = found[longest]
        found[longest] = (axis, values[:-1])
    return found


def compute_best(
    ground: Ground,
    grounds: Callable[[Setup], Ground],
    axes: tuple[Axis, Axis],
    run: RunContext | None = None,
    *,
    from_file: bool,
) -> Window:
    """The map with the others at their best: where something holds what takes least energy, else what is likeliest to hold.

    Each combination of the others' values has a coarse map; spreads are those of its own present point. Raises
    :class:`Cancelled` when asked to stop.
    """
    run = run or RunContext()
    varied = _varied(ground, axes, from_file=from_file)
    every = list(product(*(values for _, values in varied)))
    maps: list[Window] = []
    for k, values in enumerate(every):
        run.checkpoint(k / len(every), "the others at their best")
        setup = ground.setup
        for (axis, _), value in zip(varied, values, strict=True):
            setup = axis.put(setup, value)
        on = ground if setup == ground.setup else grounds(setup)
        maps.append(compute_window(on, axes, run.silent(), at_once=True))
    first = _alike(maps)
    rank = np.stack([np.where(w.level >= 0.0, 1e-12 * w.energy, 1.0 + w.unlikely) for w in first])
    pick = np.argmin(rank, axis=0)

    def chosen(name: str) -> Floats:
        return np.asarray(np.take_along_axis(np.stack([getattr(w, name) for w in first]), pick[None], axis=0)[0])

    best = {
        path: np.array([values[n] for values in every])[pick]
        for n, (axis, _) in enumerate(varied) for path in axis.paths[:1]
    }  # fmt: skip
    fields: dict[str, Any] = {name: chosen(name) for name in _FIELDS}
    status = (
        "found"
        if (np.take_along_axis(np.stack([w.level for w in first]), pick[None], axis=0)[0] >= 0.0).any()
        else "empty"
    )
    return replace(first[0], **fields, best=best, nearest=None, cheapest=None, status=status, passive=None)


def _alike(maps: list[Window]) -> list[Window]:
    """The maps on the axes of the first, with the same list of ways: spans and ways may differ by what was varied."""
    x, y = maps[0].x, maps[0].y
    ways = tuple(dict.fromkeys(name for w in maps for name in w.ways))
    found = []
    for w in maps:
        columns = np.abs(w.x[None, :] - x[:, None]).argmin(axis=1)
        rows = np.abs(w.y[None, :] - y[:, None]).argmin(axis=1)
        at = np.ix_(rows, columns)
        index = np.array([ways.index(name) for name in w.ways], dtype=np.int8)
        moved: dict[str, Any] = {name: getattr(w, name)[at] for name in _FIELDS if name != "tightest"}
        found.append(replace(w, x=x, y=y, ways=ways, tightest=index[w.tightest[at]], **moved))
    return found
