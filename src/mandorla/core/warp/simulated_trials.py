"""A small stand-in for the workshop: what the trials would show on a machine whose film and magnet are drawn by a seed."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Final, Literal

import numpy as np

from mandorla.core.materials.library_data import polymers
from mandorla.core.measure.trials import (
    TRIAL_KINDS,
    BowReading,
    CouponReading,
    CouponTrial,
    FeelerReading,
    FeelerTrial,
    PullReading,
    PullTrial,
    StripTrial,
    Trial,
)
from mandorla.core.warp.coupons import COUPON_ERROR, SHARE_ERROR, coupon_forces, library_grip, with_unknowns
from mandorla.core.warp.learned import NOTHING, MagnetLearned, magnet_of
from mandorla.core.warp.trials import (
    FEELER_MODEL,
    OF_POLYMER,
    POLES,
    PULL,
    SCALE_MODEL,
    STRIP_MODEL,
    OnSheet,
    film_stress,
    pull_forces,
    sheet_gaps,
    strip_bows,
    value_at,
)
from mandorla.core.warp.unknowns import moved_polymer

COUPONS_AT: Final = (-35.0, -25.0, -15.0, -5.0, 5.0)  # K from the peak
LEG: Final = 2.6e6  # Pa over the coupon's area at which its leg tears
SHIMS: Final = (0.0, 0.0, 0.0002, 0.0002, 0.0005, 0.0005, 0.001, 0.001)  # m
_STEP_DOWN: Final = 10.0  # K
_EVERY: Final = 0.01  # m of height, between two looks with the feeler


@dataclass(frozen=True, slots=True)
class Drawn:
    """A trial with readings, and the truth behind it: unknowns in standard deviations by name, the film's stress (Pa)."""

    trial: Trial
    truth: dict[str, float]
    film: float


def _truth(polymer: str, seed: int) -> dict[str, float]:
    rng = np.random.default_rng((seed, 41))
    names = [
        n
        for n in (*OF_POLYMER, PULL, POLES)
        if n != OF_POLYMER[-1] or polymers()[polymer].crystal_plateau.typical > 0.0
    ]
    return {name: float(np.clip(rng.normal(), -2.5, 2.5)) for name in names}


def draw_trial(
    kind: Literal["strip", "pull", "feeler", "coupon"], polymer: str, plate: float, chamber: float, seed: int, day: str,
    on: OnSheet | None = None, key: str = "trial-1", pulled_off: CouponTrial | None = None,
) -> Drawn:  # fmt: skip
    """A trial as a workshop would hand it in, on a machine drawn by a seed; all trials of one seed are of one machine.

    Parameters
    ----------
    kind, polymer, plate, chamber
        What is done, with which polymer, at which temperatures (K).
    seed, day, key
        Of the machine; the trial's day and key.
    on
        The part that a feeler trial is read under.
    pulled_off
        What coupons are printed on: a trial whose readings are drawn anew.

    Raises
    ------
    ValueError
        For a feeler trial without a part, or coupons without what they are printed on.
    """
    truth, rng = _truth(polymer, seed), np.random.default_rng((seed, tuple(TRIAL_KINDS).index(kind)))
    material = moved_polymer(polymers()[polymer], {k: v for k, v in truth.items() if k in OF_POLYMER})
    film = film_stress(material)
    library = magnet_of(NOTHING)
    pull, width = value_at(library.pull, truth[PULL]), value_at(library.pole_width, truth[POLES])
    if kind == "strip":
        # no lower than a workshop's room
        steps = np.maximum(plate - _STEP_DOWN * np.arange(int((plate - 296.15) / _STEP_DOWN) + 2), 296.15)
        strip = StripTrial(
            key=key, name="Strip on steel", date=day, polymer=polymer, plate=plate, chamber=chamber,
            readings=tuple(BowReading(temperature=float(T), bow=0.0) for T in np.unique(steps)[::-1]),
        )  # fmt: skip
        bows = strip_bows(strip, material)
        bows = bows * np.exp(STRIP_MODEL[0] * rng.normal()) * (1.0 + STRIP_MODEL[1] * rng.normal(size=bows.size))
        bows = bows + rng.uniform(-1, 1, bows.size) * strip.accuracy
        read = tuple(
            r.model_copy(update={"bow": float(np.round(b, 4))}) for r, b in zip(strip.readings, bows, strict=True)
        )
        return Drawn(strip.model_copy(update={"readings": read}), truth, film)
    if kind == "pull":
        coupon = PullTrial(
            key=key, name="Spring scale", date=day, readings=tuple(PullReading(gap=g, force=1.0) for g in SHIMS)
        )
        force = pull_forces(coupon, pull, width)
        force = force * np.exp(SCALE_MODEL[0] * rng.normal()) * (1.0 + SCALE_MODEL[1] * rng.normal(size=force.size))
        force = force + rng.uniform(-1, 1, force.size) * coupon.accuracy
        pulled = tuple(
            r.model_copy(update={"force": float(max(np.round(f, 1), 0.1))})
            for r, f in zip(coupon.readings, force, strict=True)
        )
        return Drawn(coupon.model_copy(update={"readings": pulled}), truth, film)
    if kind == "coupon":
        if pulled_off is None:
            raise ValueError("coupons are printed on a side")
        return _draw_coupons(pulled_off.model_copy(update={"key": key, "date": day}), truth, film, seed)
    if on is None:
        raise ValueError("a feeler trial is read under a part")
    top = on.part.sections.height
    heights = np.unique(np.append(np.arange(_EVERY, top, _EVERY), top))[:40]
    feeler = FeelerTrial(
        key=key, name="Feeler under the sheet", date=day, plate=plate, chamber=chamber,
        readings=tuple(FeelerReading(height=float(h), gap=0.0) for h in heights),
    )  # fmt: skip
    magnet = MagnetLearned(type(library.pull)(pull, pull, pull, ""), type(library.pull)(width, width, width, ""))
    gaps = sheet_gaps(feeler, on, material, magnet) * float(np.exp(FEELER_MODEL[0] * rng.normal()))
    gaps = gaps * np.exp(FEELER_MODEL[1] * rng.normal(size=gaps.size))
    gaps = np.clip(gaps + rng.uniform(-1, 1, gaps.size) * feeler.accuracy, 0.0, 0.05)
    felt = tuple(
        r.model_copy(update={"gap": float(np.round(g, 5))}) for r, g in zip(feeler.readings, gaps, strict=True)
    )
    return Drawn(feeler.model_copy(update={"readings": felt}), truth, film)


def _draw_coupons(trial: CouponTrial, truth: dict[str, float], film: float, seed: int) -> Drawn:
    """Coupons at temperatures about the library's peak, two each; some legs tear before the strongest come off."""
    library, rng = library_grip(trial), np.random.default_rng((seed, 43))
    z = np.clip(rng.normal(size=3), -2.5, 2.5)
    there = with_unknowns(library, [float(v) for v in z])
    T = np.repeat(library.peak_temperature.typical + np.array(COUPONS_AT), 2)
    trial = trial.model_copy(
        update={"readings": tuple(CouponReading(temperature=float(v), force=1.0) for v in np.maximum(T, 290.0))}
    )
    force = coupon_forces(trial, there) * np.exp(SHARE_ERROR * rng.normal())
    force = force * np.exp(COUPON_ERROR * rng.normal(size=force.size)) + rng.uniform(-1, 1, force.size) * trial.accuracy
    leg = LEG * trial.width * trial.depth * rng.uniform(0.8, 1.2, force.size)
    torn = force > leg
    read = tuple(
        r.model_copy(update={"force": float(max(np.round(min(f, s), 1), 0.1)), "torn": bool(t)})
        for r, f, s, t in zip(trial.readings, force, leg, torn, strict=True)
    )
    grips = dict(zip(("grip", "its peak", "its cold share"), (float(v) for v in z), strict=True))
    return Drawn(trial.model_copy(update={"readings": read}), {**truth, **grips}, film)
