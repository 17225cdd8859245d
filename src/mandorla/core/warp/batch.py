"""Copies on one plate: the chance of each by its place, how many are lost, and what follows where they belong together.

Copies share what is not known of polymer, plate and models, so that they fail together for the most part: the chance that any
is lost is that of the worst placed one at least. What differs between places is the plate's temperature and the first layer's
gap."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Final

import numpy as np
from scipy.special import ndtr

from mandorla.core.part.mesh import Floats
from mandorla.core.warp.estimate import (
    FAR,
    Conditions,
    Demand,
    PartToPrint,
    body_of,
    bonded_demand,
    grip_along,
    margins,
)

LOCAL: Final = (
    0.20  # ln of the grip, one standard deviation from place to place of one plate (finger marks, wear; unchecked)
)
_DRAWS: Final = 4000
_SEED: Final = 11


@dataclass(frozen=True, slots=True)
class Copy:
    """One body on the plate: its ``number``, its middle (m from the bed's), the plate (K) at its coldest corner, hold margin
    and the chance that a corner comes off."""

    number: int
    x: float
    y: float
    plate: float
    margin: float
    chance: float


@dataclass(frozen=True, slots=True)
class Batch:
    """All copies, the chance that ``any`` is lost, how many are ``lost`` on average, and in 1 of 20 prints (``many``)."""

    copies: tuple[Copy, ...]
    any: float
    lost: float
    many: int

    @property
    def worst(self) -> Copy:
        """The copy that is likeliest to be lost."""
        return max(self.copies, key=lambda c: c.chance)


@dataclass(frozen=True, slots=True)
class Placed:
    """A body as it stands: its part, its corners' places (k, 2) m from the bed's middle, plate (k,) K and grip (k,) over that
    in the first layer's nominal gap there."""

    part: PartToPrint
    corners: Floats
    plate: Floats
    contact: Floats


def batch_of(
    bodies: Sequence[Placed], at: Conditions, margin: float, spread: float, by_run: Floats | None = None
) -> Batch:
    """Chances of all bodies at one state.

    Parameters
    ----------
    bodies
        The bodies in their order; like ones may share a part.
    at
        The temperatures that all are printed at.
    margin, spread
        The judgement's ln hold margin of what holds least, and its standard deviation: the worst placed copy has just these,
        the others stand by their places against it.

    by_run
        Hold margin (n,) of each body by a full simulation of all of them, which knows more than their places; None without one.

    Returns
    -------
    Batch
        From common samples of what all copies share, and of what each place has by itself.
    """
    known: dict[int, Demand] = {}
    found, ln = [], []
    for n, body in enumerate(bodies):
        if id(body.part) not in known:
            known[id(body.part)] = bonded_demand(body.part, body_of(body.part, at))
        demand = known[id(body.part)]
        each = [
            float(margins(demand, grip_along(body.part, at, float(T), float(c))).min())
            for T, c in zip(body.plate, body.contact, strict=True)
        ]
        ln.append(math.log(min(max(min(each), 0.05), FAR)))
        x, y = (float(v) for v in body.corners.mean(axis=0))
        found.append((n + 1, x, y, float(body.plate.min())))
    values = np.array(ln) if by_run is None else np.log(np.clip(by_run, 0.05, FAR))
    values = margin + values - values.min()
    local = min(LOCAL, 0.5 * spread)
    rng = np.random.default_rng(_SEED)
    common = math.sqrt(spread**2 - local**2) * rng.standard_normal(_DRAWS)
    own = local * rng.standard_normal((_DRAWS, values.size))
    gone = values + common[:, None] + own < 0.0
    chance = ndtr(-values / max(spread, 1e-9))
    return Batch(
        tuple(
            Copy(*row, math.exp(float(v)), float(p)) for row, v, p in zip(found, values, chance, strict=True)
        ),
        max(float(gone.any(axis=1).mean()), float(chance.max())), float(chance.sum()),
        int(np.quantile(gone.sum(axis=1), 0.95)),
    )  # fmt: skip
