"""What prints have taught, in the form in which predictions take it: joint with what trials have taught."""

from __future__ import annotations

import math
from dataclasses import replace
from typing import TYPE_CHECKING, Final

import numpy as np

from mandorla.core.logbook.learning import Experience, Joint, Place, joint_of
from mandorla.core.warp.adhesion import adhesion_of
from mandorla.core.warp.coupons import place_key
from mandorla.core.warp.cracks import CRACK_MODEL
from mandorla.core.warp.estimate import MODEL_SPREAD
from mandorla.core.warp.learned import Learned, MagnetLearned, PolymerLearned, magnet_of
from mandorla.core.warp.unknowns import CRACK_ERROR, GRIP, HOLD_ERROR, MAGNET, Z90

if TYPE_CHECKING:
    from mandorla.core.materials.values import Value
    from mandorla.core.part.mesh import Floats
    from mandorla.core.part.process import Process

ERRORS: Final = {HOLD_ERROR: MODEL_SPREAD, CRACK_ERROR: CRACK_MODEL}


def grip_spread_of(process: Process) -> float:
    """ln standard deviation of the library's grip of what is printed on. Raises :class:`InputError` where it knows none."""
    strength = adhesion_of(process.plate_surface(), process.polymer).strength
    return math.log(strength.high / strength.low) / (2.0 * Z90)


def place_of(process: Process, machine: str) -> Place:
    """Where a process prints, as prints are asked about it."""
    own = process.own_plate
    return Place(
        machine,
        own.name if own is not None else "",
        process.side,
        process.surface_key,
        process.polymer,
        grip_spread_of(process),
    )


def symmetric_root(covariance: Floats) -> Floats:
    """The symmetric square root (n, n) of a covariance."""
    values, vectors = np.linalg.eigh(covariance)
    return np.asarray((vectors * np.sqrt(np.maximum(values, 0.0))) @ vectors.T)


def with_prints(learned: Learned, experience: Experience, process: Process, machine: str) -> Learned:
    """What trials have taught, with what prints have: both are normal about the library's figures, so that their precisions add.

    Where coupons told the level of a grip, that is one more reading of it. Where stated chances were too sure, all spreads are
    taken wider.
    """
    if not experience.prints:
        return learned
    place = place_of(process, machine)
    joint = joint_of(experience, place)
    names = tuple(n for n in joint.names if n != MAGNET)
    draws = joint.draws[:, [joint.names.index(n) for n in names]]
    mean, precision = draws.mean(axis=0), np.linalg.inv(np.cov(draws.T))
    pull = precision @ mean
    before = learned.polymers.get(process.polymer)
    if before is not None:
        at = [names.index(n) for n in before.names]
        own = np.linalg.inv(before.covariance)
        precision[np.ix_(at, at)] += own - np.eye(len(at))
        pull[at] += own @ before.mean
    key = place_key(process.polymer, process.plate, process.side, process.surface_key, process.coating)
    grips = dict(learned.grips)
    if key in grips:
        level, k = grips[key].level, names.index(GRIP)
        m, s = (
            math.log(level.typical) / place.grip_spread,
            math.log(level.high / level.low) / (2.0 * Z90 * place.grip_spread),
        )
        precision[k, k] += 1.0 / s**2 - 1.0
        pull[k] += m / s**2
        wide = math.exp(Z90 * place.grip_spread)
        grips[key] = replace(grips[key], level=replace(level, low=1.0 / wide, typical=1.0, high=wide))
    covariance = np.linalg.inv(precision)
    covariance = 0.5 * (covariance + covariance.T)
    mean, covariance = covariance @ pull, covariance / experience.widen**2
    known = PolymerLearned(names, mean, covariance, symmetric_root(covariance), ERRORS)
    return replace(
        learned, polymers={**learned.polymers, process.polymer: known}, grips=grips, prints=joint.prints,
        magnet=_magnet(learned, joint),
    )  # fmt: skip


def _magnet(learned: Learned, joint: Joint) -> MagnetLearned | None:
    """The magnet's pull with what prints said of it; trials with a scale or a feeler know it better by far."""
    if learned.magnet is not None:
        return learned.magnet
    known, z = magnet_of(learned), joint.draws[:, joint.names.index(MAGNET)]
    m, s = float(z.mean()), float(z.std())
    if abs(m) < 0.1 and s > 0.9:
        return None

    def moved(v: Value) -> Value:
        spread = math.log(v.high / v.low) / (2.0 * Z90)
        low, typical, high = (v.typical * math.exp(spread * (m + k * Z90 * s)) for k in (-1.0, 0.0, 1.0))
        return replace(v, low=low, typical=typical, high=high)

    return MagnetLearned(moved(known.pull), known.pole_width)
