"""Bands of a heat-up's curves from what is not known: one unknown at a time, and sampled together (Latin hypercube)."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Final

import numpy as np
from scipy.stats import norm, qmc

from mandorla.core.rig.model import Rig
from mandorla.core.rig.settings import Criteria, Settings
from mandorla.core.runtime import RunContext
from mandorla.core.thermal.fuses import closed_fuses
from mandorla.core.thermal.heatup import HeatUp, course_of, ready_since, run_network, shape_of
from mandorla.core.thermal.lateral_conduction import LateralConduction
from mandorla.core.thermal.parameter_samples import (
    AT_NINETY,
    ParameterSample,
    combined,
    covariance_of,
    rig_of,
    rig_unknowns,
    root_of,
    sampled_rig,
    typical_sample,
    unevenness,
)
from mandorla.core.thermal.stack import Floats
from mandorla.core.thermal.start import start_of
from mandorla.core.thermal.steady import Band

SAMPLES: Final = 48
_SEED: Final = 5


@dataclass(frozen=True, slots=True)
class CurveBands:
    """90 % bands of a heat-up on the times ``time`` (m,) s: lower and upper (2, m) of each curve by name, K and W.

    ``ready`` (s) low, median, high of the ready time; ``never`` the share of samples that are not ready in time; ``energy`` (J)
    until ready of those that are. ``one_at_a_time`` K of the surface at the end by unknown, low and high; ``by_sum`` its
    root-sum-of-squares band, to compare with the sampled one. ``spread`` is the surface's, middle to coldest place (K), each end of
    each unknown with its own shape, combined.
    """

    time: Floats
    curves: dict[str, Floats]
    ready: tuple[float, float, float]
    never: float
    one_at_a_time: tuple[tuple[str, float, float], ...]
    by_sum: tuple[float, float]
    samples: int
    spread: Band
    energy: tuple[float, float, float]


def sampled_curves(
    rig: Rig, settings: Settings, spread: LateralConduction, draw: ParameterSample, steps: Floats
) -> dict[str, Floats]:
    """Curves (m+1,) of one possible rig from cold on, with the shape ``spread`` of its surface."""
    other, stack, s = sampled_rig(rig, draw, spread.at_sensor)
    T, state = start_of(other, stack, s)
    course, fuses = course_of(rig, settings, steps), closed_fuses(rig.bed, stack)
    run = run_network(other, course, stack, s, T, state, fuses)
    surface, _ = spread.moved(stack, np.concatenate([[0.0], np.cumsum(steps)]), run)
    return {
        "surface": surface, "reading": run.reading, "air": run.air, "frame": run.frame, "power": run.power,
        "chamber power": run.chamber_power, "lower air": run.lower,
    }  # fmt: skip


def curve_bands(
    rig: Rig,
    settings: Settings,
    criteria: Criteria,
    heat: HeatUp,
    run: RunContext | None = None,
    samples: int = SAMPLES,
) -> CurveBands:
    """March the quick model through every unknown's ends and through a sample of all together.

    Every sample of the curves has the shape of the surface of the rig as it stands; the spread is solved for each unknown's ends.
    The grid's and the step's own error (below 0.1 K, docs/theory.md) is added to the bands of temperatures.
    """
    run = run or RunContext()
    unknowns = rig_unknowns(rig)
    end = min(float(heat.time[-1]), heat.shown_until(settings.soak_time))
    steps = np.diff(heat.time[heat.time <= end + 1e-6])
    time = np.concatenate([[0.0], np.cumsum(steps)])
    rows: list[tuple[str, float, float]] = []
    spreads: list[tuple[float, float]] = []
    soaked = spread_of(heat.spread, heat.steady.surface, heat.steady.air)
    typical = spread_of(
        heat.spread, heat.at(end, heat.surface), heat.at(end, heat.air)
    )  # as the others, when the curves end
    total = 2 * len(unknowns) + samples
    for n, unknown in enumerate(unknowns):
        ends, uneven = [], []
        for z in (-1.0, 1.0):
            draw = typical_sample(rig)
            unknown.apply(draw, z)
            curves = sampled_curves(rig, settings, heat.spread, draw, steps)
            ends.append(float(curves["surface"][-1]))
            shape = shape_of(rig_of(rig, draw), settings)
            uneven.append(spread_of(shape, float(curves["surface"][-1]), float(curves["air"][-1])) - typical)
        rows.append((unknown.name, ends[0], ends[1]))
        spreads.append((uneven[0], uneven[1]))
        run.checkpoint(2.0 * (n + 1) / total, "one unknown at a time")
    points = qmc.LatinHypercube(len(unknowns), rng=np.random.default_rng(_SEED)).random(samples)
    covariance = covariance_of(rig, unknowns)
    at = norm.ppf(np.clip(points, 1e-6, 1 - 1e-6)) / AT_NINETY @ root_of(covariance).T
    kept: dict[str, list[Floats]] = {}
    ready, energies = [], []
    for i in range(samples):
        draw = typical_sample(rig)
        for unknown, value in zip(unknowns, at[i], strict=True):
            unknown.apply(draw, float(value))
        curves = sampled_curves(rig, settings, heat.spread, draw, steps)
        for name, curve in curves.items():
            kept.setdefault(name, []).append(curve)
        on_off = rig.bed.control.kind == "on-off"
        ready.append(
            ready_since(time, curves["reading"], curves["surface"], settings.bed_first, criteria, on_off=on_off)
        )
        energies.append(energy_until(time, curves, ready[-1]))
        run.checkpoint((2.0 * len(unknowns) + i + 1) / total, "all unknowns together")
    bands = {}
    for name, curve_list in kept.items():
        edges = np.quantile(np.stack(curve_list), [0.05, 0.95], axis=0)
        own = 0.0 if "power" in name else GRID_ERROR
        bands[name] = np.stack([edges[0] - own, edges[1] + own])
        if name in ("air", "lower air") and rig.chamber.enclosed:
            around_air = heat.air if name == "air" else heat.lower_air
            bands[name] = _in_one_place(rig, around_air[: time.size], bands[name])
        bands[name].setflags(write=False)
    base = float(heat.at(end, heat.surface))
    down, up = combined([(a - base, b - base) for _, a, b in rows], covariance)
    times = np.array(ready)
    there = times[np.isfinite(times)]
    around = middle_of(there)
    less, more = combined(spreads, covariance)
    rows.sort(key=lambda row: -abs(row[2] - row[1]))
    return CurveBands(
        time, bands, around, 1.0 - there.size / samples, tuple(rows), (base - down, base + up), samples,
        Band(soaked, max(0.0, soaked - less), soaked + more), middle_of(np.array(energies)[np.isfinite(times)]),
    )  # fmt: skip


def middle_of(values: Floats) -> tuple[float, float, float]:
    """5 %, median and 95 % of some values; NaN of none."""
    if values.size == 0:
        return (np.nan, np.nan, np.nan)
    low, middle, high = (float(v) for v in np.quantile(values, [0.05, 0.5, 0.95]))
    return low, middle, high


def spread_of(shape: LateralConduction, surface: float, air: float) -> float:
    """How much colder (K) the coldest place of a surface is than its middle, whose temperature and air (K) are given."""
    return (1.0 - float(shape.theta.min())) * (surface - air)


def energy_until(time: Floats, curves: dict[str, Floats], moment: float) -> float:
    """Energy (J) of both heaters until a moment (s); to the end where it never comes."""
    power = curves["power"] + curves["chamber power"]
    whole = np.concatenate([[0.0], np.cumsum(power[1:] * np.diff(time))])
    return float(np.interp(moment if np.isfinite(moment) else time[-1], time, whole))


def _in_one_place(rig: Rig, typical: Floats, band: Floats) -> Floats:
    """The band (2, m) of the air at one place of a zone, from that of the zone's mean."""
    own = np.array([unevenness(rig, float(T)) for T in typical])
    down, up = np.hypot(np.maximum(typical - band[0], 0.0), own), np.hypot(np.maximum(band[1] - typical, 0.0), own)
    return np.stack([np.minimum(band[0], typical - down), np.maximum(band[1], typical + up)])


GRID_ERROR: Final = 0.1  # K, worst of grid and step together in the warm-up (tests/core/test_heatup.py)
