"""What one build has over another, with the range that it has when both share what is not known about them."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Final

import numpy as np
from scipy.stats import norm, qmc

from mandorla.core.rig.model import Rig
from mandorla.core.rig.settings import Criteria, Settings
from mandorla.core.runtime import RunContext
from mandorla.core.thermal.heatup import HeatUp, ready_since
from mandorla.core.thermal.parameter_samples import (
    AT_NINETY,
    covariance_of,
    rig_unknowns,
    root_of,
    typical_sample,
)
from mandorla.core.thermal.stack import Floats
from mandorla.core.thermal.steady import Band
from mandorla.core.thermal.uncertainty_bands import energy_until, middle_of, sampled_curves

SAMPLES: Final = 32
_SEED: Final = 9
_LEAST: Final = 1800.0  # s, that both are marched at least


@dataclass(frozen=True, slots=True)
class BuildDifference:
    """A build minus the present one, each figure with its 90 % range: ready time s, surface K, energy until ready J, power to hold
    W."""

    ready: Band
    surface: Band
    energy: Band
    power: Band


def build_difference(
    build: Rig, present: Rig, settings: Settings, criteria: Criteria, heat: HeatUp, now: HeatUp,
    run: RunContext | None = None, samples: int = SAMPLES,
) -> BuildDifference:  # fmt: skip
    """March both builds through common samples: what is the same unknown in both (a layer's joint, the convection) has one value.

    Parameters
    ----------
    build, present
        The machines.
    heat, now
        Their heat-ups at the settings.

    Returns
    -------
    BuildDifference
        NaN for a figure of which one of both has none.

    Raises
    ------
    Cancelled
        When asked to stop.
    """
    run = run or RunContext()
    until = min(
        max(_LEAST, *(1.3 * h.ready_time for h in (heat, now) if np.isfinite(h.ready_time))), float(now.time[-1])
    )
    until = min(until, float(heat.time[-1]))
    steps = np.diff(now.time[now.time <= until + 1e-6])
    time = np.concatenate([[0.0], np.cumsum(steps)])
    keys = sorted({u.key for rig in (build, present) for u in rig_unknowns(rig)})
    points = qmc.LatinHypercube(len(keys), rng=np.random.default_rng(_SEED)).random(samples)
    normal = dict(zip(keys, norm.ppf(np.clip(points, 1e-6, 1.0 - 1e-6)).T / AT_NINETY, strict=True))
    rows = []
    for i in range(samples):
        pair = []
        for rig, of in ((build, heat), (present, now)):
            unknowns = rig_unknowns(rig)
            z = root_of(covariance_of(rig, unknowns)) @ np.array([normal[u.key][i] for u in unknowns])
            draw = typical_sample(rig)
            for unknown, value in zip(unknowns, z, strict=True):
                unknown.apply(draw, float(value))
            curves = sampled_curves(rig, settings, of.spread, draw, steps)
            ready = ready_since(
                time, curves["reading"], curves["surface"], settings.bed_first, criteria, on_off=rig.bed.control.kind == "on-off"
            )  # fmt: skip
            tail = time > 0.9 * time[-1]
            power = curves["power"] + curves["chamber power"]
            pair.append([ready, curves["surface"][-1], energy_until(time, curves, ready), power[tail].mean()])
        rows.append(np.array(pair[0]) - np.array(pair[1]))
        run.checkpoint((i + 1) / samples, "what builds differ by")
    table = np.array(rows)
    return BuildDifference(*(_band(table[:, k]) for k in range(4)))


def _band(values: Floats) -> Band:
    low, middle, high = middle_of(values[np.isfinite(values)])
    return Band(middle, low, high)
