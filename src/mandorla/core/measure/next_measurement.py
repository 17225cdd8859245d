"""Which further measurement would help a fit most, computed from the model's slopes."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Final

import numpy as np

from mandorla.core.measure.observe import MODEL_ERROR
from mandorla.core.measure.session_case import SessionCase
from mandorla.core.runtime import RunContext
from mandorla.core.thermal.heatup import SWING, shape_of, smoothed
from mandorla.core.thermal.parameter_samples import AT_NINETY, RigUnknown, rig_of, typical_sample
from mandorla.core.thermal.stack import Floats
from mandorla.core.thermal.uncertainty_bands import sampled_curves

POWER_SHARE: Final = 0.02  # of the largest power, standard: a usual plug meter


@dataclass(frozen=True, slots=True)
class Extra:
    """A measurement that could be made: what, on which curve, at which share of the run, standard uncertainty, from which rig."""

    what: str
    role: str
    u: float
    whole: bool
    at: float = 1.0


EXTRAS: Final = (
    Extra("the surface's middle with a calibrated probe, soaked", "surface", 0.7, whole=False),
    Extra("a log of the surface's middle over the whole warm-up", "surface", 0.7, whole=True),
    Extra("a log of the chamber's air over the whole warm-up", "air", 0.5, whole=True),
    Extra("a plug meter's log over the whole warm-up", "power", 0.0, whole=True),
    Extra("the sensor compared with a calibrated probe in the plate, soaked", "plate", 0.5, whole=False),
    Extra("a log of the frame", "frame", 0.7, whole=True),
)


def extra_measurements(
    scene: SessionCase, unknowns: Sequence[RigUnknown], z: Floats, information: Floats, n: int, run: RunContext
) -> tuple[tuple[str, str, float], ...]:
    """Which further measurement would help most: for each, the unknown that it helps most and the share of its range that is left.

    Every candidate's information is computed from the model's slopes at the solution and added; best first.
    """

    time = np.concatenate([[0.0], np.cumsum(scene.steps)])

    def curves(i: int, step: float) -> Mapping[str, Floats]:
        draw = typical_sample(scene.rig)
        for j, unknown in enumerate(unknowns):
            unknown.apply(draw, float(z[j]) + (step if j == i else 0.0))
        spread = shape_of(rig_of(scene.rig, draw), scene.settings)
        found = sampled_curves(scene.rig, scene.settings, spread, draw, scene.steps)
        if scene.rig.bed.control.kind == "on-off":
            # what a thermostat's switching does at a moment tells nothing: means over its swing are compared
            found = {name: smoothed(time, curve, SWING) for name, curve in found.items()}
        plate = found["reading"] - (draw.bias + scene.rig.bed.sensor.bias)
        return {**found, "power": found["power"] + found["chamber power"], "plate": plate}

    base = curves(-1, 0.0)
    slopes: list[dict[str, Floats]] = []
    for i in range(n):
        moved = curves(i, 0.1)
        slopes.append({k: (moved[k] - base[k]) / 0.1 for k in base})
        run.checkpoint(0.95 + 0.05 * i / n, "asking what to measure next")
    now = np.sqrt(np.diag(np.linalg.inv(information))[:n]) * AT_NINETY
    found = []
    for extra in EXTRAS:
        if extra.role in ("air", "frame") and not scene.rig.chamber.enclosed:
            continue
        size = base[extra.role].size
        at = np.linspace(size // 12, size - 1, 12).astype(int) if extra.whole else np.array([size - 1])
        u = extra.u if extra.role != "power" else POWER_SHARE * float(base["power"].max())
        noise = u if extra.role == "power" else MODEL_ERROR
        rows = np.array([[slopes[i][extra.role][k] for i in range(n)] for k in at]) / noise
        # the instrument's common error takes one combination away
        common = np.full(len(at), u / noise)
        weight = np.eye(len(at)) - np.outer(common, common) / (1.0 + common @ common)
        more = information.copy()
        more[:n, :n] += rows.T @ weight @ rows
        then = np.sqrt(np.diag(np.linalg.inv(more))[:n]) * AT_NINETY
        best = int(np.argmax(now - then))
        if now[best] - then[best] > 0.03:
            found.append((extra.what, unknowns[best].name, float(now[best]), float(then[best])))
    found.sort(key=lambda row: row[3] - row[2])
    return tuple((what, name, left) for what, name, _, left in found[:3])
