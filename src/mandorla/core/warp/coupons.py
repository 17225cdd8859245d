"""Pull-off coupons: what a coupon's force says of the grip of a polymer on a side against its temperature.

Small coupons are printed on a side and pulled straight off with a spring scale at several plate temperatures. The force is grip
times area times ``SHARE``: the pull is never quite straight and the edge opens first. A coupon whose leg tore before it came
off says only that the grip is more. Unknown are the level of the grip, the temperature of its peak and what is left of it cold,
each with the library's range as prior; the most probable values are found by least squares, their covariance from the slopes
there."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from typing import Final

import numpy as np
from scipy.optimize import least_squares
from scipy.special import log_ndtr

from mandorla.core.errors import InputError
from mandorla.core.materials.library_data import polymers
from mandorla.core.materials.plate_library import Adhesion, PlateSurface, plate_surfaces, side_states
from mandorla.core.materials.values import Value
from mandorla.core.measure.trials import CouponTrial
from mandorla.core.part.mesh import Floats
from mandorla.core.part.plates import OnTop, coating_of
from mandorla.core.part.process import Process
from mandorla.core.warp.adhesion import temperature_factor
from mandorla.core.warp.learned import GripLearned
from mandorla.core.warp.unknowns import Z90

SHARE: Final = 0.6  # of grip times area that a coupon's force is (edge opens first; 0.45 to 0.8, unchecked)
SHARE_ERROR: Final = 0.18  # ln, one standard deviation, that all coupons share
COUPON_ERROR: Final = 0.12  # ln, of each coupon: its size, its foot, how straight it was pulled
_STEP: Final = 1e-3
_BOUND: Final = 4.0


def place_key(polymer: str, plate: str, side: str, surface: str, coating: str) -> str:
    """What a grip is of: a polymer on a side of a plate under a coating, or on any side of a surface."""
    return "|".join((polymer, plate, side if plate else "", surface, coating))


def key_of_trial(trial: CouponTrial) -> str:
    """What a trial's grip is of."""
    return place_key(trial.polymer, trial.on_plate, trial.on_side, trial.surface, trial.coating)


def library_grip(trial: CouponTrial) -> Adhesion:
    """The library's grip of what was pulled. Raises :class:`InputError` where it knows none."""
    if trial.surface not in plate_surfaces() or trial.polymer not in polymers():
        raise InputError(f"“{trial.name}”: polymer or surface is not in the library.")
    top = OnTop(plate_surfaces()[trial.surface], None, coating_of(trial.coating)).with_grip(
        trial.polymer, trial.surface
    )
    if trial.polymer not in top.grip:
        raise InputError(
            f"“{trial.name}”: no grip of this polymer is known on that side, there is nothing to compare with."
        )
    return top.grip[trial.polymer]


def with_unknowns(grip: Adhesion, z: Sequence[float]) -> Adhesion:
    """A grip with level, peak and cold fraction at standard deviations (3,) of the library's ranges."""
    level = _at(grip.strength, z[0]) / grip.strength.typical
    peak, cold = _shifted(grip.peak_temperature, z[1]), min(_at(grip.cold_fraction, z[2]), 1.0)
    return replace(
        grip, strength=_only(grip.strength, grip.strength.typical * level),
        fracture_energy=_only(grip.fracture_energy, grip.fracture_energy.typical * level),
        peak_temperature=_only(grip.peak_temperature, peak), cold_fraction=_only(grip.cold_fraction, cold),
    )  # fmt: skip


def _at(value: Value, z: float) -> float:
    end = value.high if z > 0.0 else value.low
    return float(value.typical * (end / value.typical) ** (abs(z) / Z90))


def _shifted(value: Value, z: float) -> float:
    end = value.high if z > 0.0 else value.low
    return float(value.typical + (end - value.typical) * abs(z) / Z90)


def _only(value: Value, typical: float) -> Value:
    return Value(typical, typical, typical, value.source)


def coupon_forces(trial: CouponTrial, grip: Adhesion) -> Floats:
    """Force (m,) in N at which each coupon comes off."""
    T = np.array([r.temperature for r in trial.readings])
    return np.asarray(SHARE * trial.width * trial.depth * grip.strength.typical * temperature_factor(T, grip))


def learn_grip(trials: Sequence[CouponTrial]) -> GripLearned:
    """The grip from all coupons of one polymer on one side. Raises :class:`InputError` where the library knows no grip there."""
    grip = library_grip(trials[0])

    def residuals(z: Floats) -> Floats:
        there, rows = with_unknowns(grip, [float(v) for v in z[:3]]), []
        for n, trial in enumerate(trials):
            said = coupon_forces(trial, there) * np.exp(SHARE_ERROR * z[3 + n])
            read = np.array([r.force for r in trial.readings])
            u = np.hypot(COUPON_ERROR, trial.accuracy / np.sqrt(3.0) / np.maximum(said, 1e-6))
            off = np.log(read / said) / u
            torn = np.array([r.torn for r in trial.readings])
            # torn: the grip is more than that; its probability as a residual of the same weight
            rows.append(np.where(torn, np.sqrt(np.maximum(-2.0 * log_ndtr(-off), 0.0)), off))
        return np.concatenate([*rows, z])

    n = 3 + len(trials)
    found = least_squares(
        residuals, np.zeros(n), bounds=(-_BOUND, _BOUND), diff_step=[_STEP] * n, xtol=1e-6, max_nfev=80
    )
    slopes = np.stack(
        [(residuals(found.x + d) - residuals(found.x - d)) / (2.0 * _STEP) for d in _STEP * np.eye(n)], axis=1
    )
    rows = found.fun.size - n
    birge2 = max(1.0, float((found.fun[:rows] ** 2).sum()) / max(rows, 1))
    half = Z90 * np.sqrt(np.diag(np.linalg.inv(slopes[:rows].T @ slopes[:rows] / birge2 + np.eye(n))))
    z = found.x
    source = "pull-off coupons of this workshop"
    level = [_at(grip.strength, float(v)) / grip.strength.typical for v in (z[0] - half[0], z[0], z[0] + half[0])]
    peak = [_shifted(grip.peak_temperature, float(v)) for v in (z[1] - half[1], z[1], z[1] + half[1])]
    cold = [min(_at(grip.cold_fraction, float(v)), 1.0) for v in (z[2] - half[2], z[2], z[2] + half[2])]
    coupons = sum(len(t.readings) for t in trials)
    return GripLearned(_ordered(level, source), _ordered(peak, source), _ordered(cold, source), coupons)


def _ordered(values: list[float], source: str) -> Value:
    low, typical, high = values
    return Value(low, typical, high, source)


def with_learned(grip: Adhesion, learned: GripLearned) -> Adhesion:
    """A grip with what coupons said of it."""

    def scaled(v: Value) -> Value:
        low, typical, high = (v.typical * x for x in (learned.level.low, learned.level.typical, learned.level.high))
        return Value(low, typical, high, learned.level.source)

    return replace(
        grip, strength=scaled(grip.strength), fracture_energy=scaled(grip.fracture_energy), peak_temperature=learned.peak,
        cold_fraction=learned.cold,
    )  # fmt: skip


def surface_with(surface: PlateSurface, process: Process, learned: GripLearned) -> PlateSurface:
    """A surface whose grip of the printed polymer is what coupons said of it; a state that is not clean counts on top."""
    key, top = process.polymer, OnTop(plate_surfaces()[process.surface_key], None, coating_of(process.coating))
    held = with_learned(top.with_grip(key, surface.name).grip[key], learned)
    if process.plate_state != "clean":
        state = side_states()[process.plate_state].factor
        held = replace(held, strength=held.strength.times(state), fracture_energy=held.fracture_energy.times(state))
    return replace(surface, grip={**surface.grip, key: held})
