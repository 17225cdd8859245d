"""Trials of film stress and magnet: what each would show for given unknowns, and what its readings teach about them.

Strip on steel: layers land on a clamped steel strip, cool and creep; freed, the pair bends as a bimetal (Timoshenko 1925) by the
stress that is left, and by the unlike expansion as it cools step by step. Spring scale: a magnet's pull over a gap of shims,
p A exp(-2 pi gap/width) (Halbach 1980). Feeler: the condensed plate under the project's part. The unknowns are those of the
predictions, each in standard deviations of the library's range, normal before; they are found by least squares with that prior, and
their covariance from the slopes at the solution.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, replace
from typing import Final

import numpy as np
from scipy.optimize import least_squares

from mandorla.core.errors import InputError, SolverError
from mandorla.core.materials.library_data import Polymer, bed_materials, polymers
from mandorla.core.materials.values import Value
from mandorla.core.measure.trials import CouponTrial, FeelerTrial, PullTrial, StripTrial, Trial
from mandorla.core.part.mesh import Floats
from mandorla.core.part.process import Placement
from mandorla.core.rig.bed import Bed
from mandorla.core.warp.condensed_plate import PLATE_SPREAD
from mandorla.core.warp.coupons import coupon_forces, key_of_trial, learn_grip, library_grip, with_learned
from mandorla.core.warp.estimate import Conditions, PartToPrint, body_of, condensed_of
from mandorla.core.warp.fe_case import foot_of, hold_of
from mandorla.core.warp.learned import NOTHING, Finding, GripLearned, Learned, MagnetLearned, PolymerLearned, magnet_of
from mandorla.core.warp.relaxation import ROOM, STEPS, cooling_strain, hot_share, increments_left, relaxation_time
from mandorla.core.warp.unknowns import (
    CREEP,
    CRYSTALS,
    EXPANSION,
    STIFFNESS,
    STRESS_FREE,
    Z90,
    moved_polymer,
    recentred,
)

STEEL: Final = "spring_steel"
OF_POLYMER: Final = (EXPANSION, STIFFNESS, STRESS_FREE, CREEP, CRYSTALS)
PULL, POLES = "magnet's pull", "width of its poles"
# standard errors that all readings of a trial share, and those of each: of a bow (section, temperature, moisture, beam theory), of
# a force (the coupon's size; it is never pulled quite straight), ln of a gap (it goes with the square of the moment that the
# condensed plate is right to)
STRIP_MODEL: Final = (0.10, 0.03)
SCALE_MODEL: Final = (0.04, 0.06)
FEELER_MODEL: Final = (2.0 * PLATE_SPREAD, 0.10)
LEAST_GAP: Final = 5e-5  # m, gap below which a feeler tells nothing
COOLED_IN: Final = 300.0  # s in which plate and strip follow a step of the set point
_STEP: Final = 0.02  # standard deviations, for slopes
BOUND: Final = 4.0  # standard deviations beyond which no unknown is taken


def bimetal_curvature(misfit: float, E: tuple[float, float], h: tuple[float, float]) -> float:
    """Curvature (1/m) of two bonded strips of moduli ``E`` (Pa) and thicknesses ``h`` (m) of which the first would be shorter by
    ``misfit``; towards the first.

    References
    ----------
    Timoshenko, Analysis of bi-metal thermostats, J. Opt. Soc. Am. 11 (1925), eq. 4.
    """
    n, m, h0 = E[0] / E[1], h[0] / h[1], h[0] + h[1]
    return 6.0 * misfit * (1.0 + m) ** 2 / (h0 * (3.0 * (1.0 + m) ** 2 + (1.0 + m * n) * (m * m + 1.0 / (m * n))))


def strip_bows(trial: StripTrial, polymer: Polymer) -> Floats:
    """Bow (m,) in m of a freed strip at each reading's temperature, in their order; its ends up is positive."""
    steel = bed_materials()[STEEL]
    layers = max(1, round(trial.thickness / trial.layer_height))
    # on the plate, the air above it: a thin strip has next to the plate's temperature
    warm, free = trial.plate, polymer.stress_free_temperature.typical
    age = trial.layer_time * (layers - 0.5 - np.arange(layers))
    first = min(warm, free)
    middles = (np.arange(STEPS[0]) + 0.5) / STEPS[0]
    T = [np.full(layers, free + (first - free) * x) for x in middles]
    falls = [np.full(layers, (free - first) / STEPS[0])] * STEPS[0]
    dt = [np.full(layers, trial.layer_time / STEPS[0])] * STEPS[0]
    # what waits under the next layers only creeps
    T.append(np.full(layers, first))
    falls.append(np.zeros(layers))
    dt.append(age)
    bows, now, alpha = [], warm, polymer.expansion.typical
    solid = polymer.modulus.typical * polymer.bead_factor.typical
    for reading in trial.readings:
        step = min(now, free) - min(reading.temperature, free)
        unlike = step * (1.0 - steel.expansion.typical / alpha)
        T += [np.full(layers, 0.5 * (now + reading.temperature)), np.full(layers, reading.temperature)]
        falls += [np.full(layers, unlike), np.zeros(layers)]
        dt += [np.full(layers, min(COOLED_IN, trial.wait)), np.full(layers, max(trial.wait - COOLED_IN, 0.0))]
        now = reading.temperature
        path = np.array(T)
        left = increments_left(path, np.array(falls), np.array(dt) / relaxation_time(path, polymer), polymer)
        stress = solid * alpha * float(left.sum(axis=0).mean())
        E = solid * float(hot_share(np.array([now]), polymer)[0])
        curvature = bimetal_curvature(stress / E, (E, steel.modulus.typical), (trial.thickness, trial.steel))
        bows.append(curvature * trial.length**2 / 8.0)
    return np.array(bows)


def pull_forces(trial: PullTrial, pull: float, width: float) -> Floats:
    """Force (m,) in N at each reading's gap, of a magnet's pull (Pa) and the width of a pair of its poles (m)."""
    gaps = np.array([r.gap for r in trial.readings])
    return np.asarray(pull * trial.width * trial.depth * np.exp(-2.0 * np.pi * gaps / width))


@dataclass(frozen=True, slots=True)
class OnSheet:
    """What a feeler trial is read under: a part where it stands on a bed, and the room (K)."""

    part: PartToPrint
    bed: Bed
    placement: Placement
    room: float
    bare: float
    draft: float


def sheet_gaps(trial: FeelerTrial, on: OnSheet, polymer: Polymer, magnet: MagnetLearned) -> Floats:
    """Gap (m,) in m under the sheet's corner at each reading's height, by the condensed plate; nought where nothing lies loose."""
    hold = hold_of(on.bed, foot_of(on.part, on.placement), Learned(magnet=magnet))
    heights = np.array([r.height for r in trial.readings])
    if hold is None:
        return np.zeros(heights.size)
    at = Conditions(
        trial.plate, trial.plate, np.full(len(on.part.sections.corners), trial.plate), trial.chamber, trial.fan, on.room,
        draft=on.draft, bare=on.bare,
    )  # fmt: skip
    part = replace(on.part, polymer=polymer)
    plate = condensed_of(part, body_of(part, at), hold, (on.placement.x, on.placement.y))
    gaps, _ = plate.run(1.0)
    return np.asarray(np.interp(heights, np.concatenate([[0.0], plate.heights]), np.concatenate([[0.0], gaps])))


def value_at(value: Value, z: float) -> float:
    """A figure at ``z`` standard deviations of its range."""
    end = value.high if z > 0.0 else value.low
    return float(value.typical * (end / value.typical) ** (abs(z) / Z90))


@dataclass(frozen=True, slots=True)
class _Readings:
    """Residuals of the trials of one polymer, as a function of all unknowns in ``names``: those of the predictions, then one a
    trial for what all of its readings share."""

    names: tuple[str, ...]
    trials: tuple[Trial, ...]
    polymer: Polymer | None
    on: OnSheet | None

    def residuals(self, z: Floats) -> Floats:
        """What was read minus what the model says, over its standard uncertainty; then the prior."""
        by = dict(zip(self.names, (float(v) for v in z), strict=True))
        polymer = (
            moved_polymer(self.polymer, {k: v for k, v in by.items() if k in OF_POLYMER}) if self.polymer else None
        )
        library = magnet_of(NOTHING)
        pull, width = value_at(library.pull, by.get(PULL, 0.0)), value_at(library.pole_width, by.get(POLES, 0.0))
        rows = []
        for trial in self.trials:
            if isinstance(trial, StripTrial):
                assert polymer is not None
                bows, read = strip_bows(trial, polymer), np.array([r.bow for r in trial.readings])
                bows = bows * np.exp(STRIP_MODEL[0] * by[own_error(trial)])
                rows.append((read - bows) / np.hypot(trial.accuracy / np.sqrt(3.0), STRIP_MODEL[1] * np.abs(bows)))
            elif isinstance(trial, PullTrial):
                force, read = pull_forces(trial, pull, width), np.array([r.force for r in trial.readings])
                force = force * np.exp(SCALE_MODEL[0] * by[own_error(trial)])
                rows.append((read - force) / np.hypot(trial.accuracy / np.sqrt(3.0), SCALE_MODEL[1] * force))
            elif isinstance(trial, FeelerTrial):
                assert polymer is not None
                assert self.on is not None
                magnet = MagnetLearned(replace(library.pull, typical=pull), replace(library.pole_width, typical=width))
                gaps, read = sheet_gaps(trial, self.on, polymer, magnet), np.array([r.gap for r in trial.readings])
                gaps = gaps * np.exp(FEELER_MODEL[0] * by[own_error(trial)])
                u = np.hypot(FEELER_MODEL[1], trial.accuracy / np.sqrt(3.0) / (gaps + LEAST_GAP))
                rows.append(np.log((read + LEAST_GAP) / (gaps + LEAST_GAP)) / u)
        return np.concatenate([*rows, z])


def learn(trials: Sequence[Trial], on: OnSheet | None = None) -> Learned:
    """What trials teach about the polymers they are of, and about the magnet.

    Parameters
    ----------
    trials
        Those that are used; a trial without readings teaches nothing.
    on
        The part and the bed that feeler trials were read under.

    Returns
    -------
    Learned
        Means and covariances in standard deviations of the library's ranges; ``problems`` says in words which trials teach nothing,
        and why.
    """
    read: list[Trial] = []
    problems: list[str] = []
    grips, grip_findings = grips_of([t for t in trials if isinstance(t, CouponTrial)], problems)
    for trial in trials:
        if not trial.used or not trial.readings or isinstance(trial, CouponTrial):
            continue
        if isinstance(trial, StripTrial) and trial.polymer not in polymers():
            problems.append(f"“{trial.name}”: there is no polymer “{trial.polymer}” in the library.")
        elif isinstance(trial, FeelerTrial) and (on is None or on.part.process.polymer not in polymers()):
            problems.append(
                f"“{trial.name}” is read under the part that was printed: open it, in a polymer of the library."
            )
        else:
            read.append(trial)
    by_polymer: dict[str, list[Trial]] = {}
    for trial in read:
        key = trial.polymer if isinstance(trial, StripTrial) else ""
        if isinstance(trial, FeelerTrial) and on is not None:
            key = on.part.process.polymer
        by_polymer.setdefault(key, []).append(trial)
    pulls = by_polymer.pop("", [])
    known: dict[str, PolymerLearned] = {}
    magnet: MagnetLearned | None = None
    groups: list[tuple[str, list[Trial]]] = [("", pulls)] if pulls else []
    for key, own in by_polymer.items():
        # a feeler sees film and magnet together: what the scale says of the magnet is solved with it
        groups.append((key, [*own, *(pulls if any(isinstance(t, FeelerTrial) for t in own) else [])]))
    taught = 0
    for key, own in groups:
        try:
            learned, seen = _solved(_readings(own, polymers()[key] if key else None, on))
        except SolverError as error:
            problems.append(f"{', '.join(f'“{t.name}”' for t in own)}: {error}")
            continue
        taught += len(own)
        if learned is not None:
            known[key] = learned
        magnet = seen if seen is not None else magnet
    count = min(taught, len(read)) + sum(
        isinstance(t, CouponTrial) and t.used and key_of_trial(t) in grips for t in trials
    )
    return Learned(known, magnet, grips, count, (*findings_of(known, magnet), *grip_findings), tuple(problems))


def grips_of(trials: Sequence[CouponTrial], problems: list[str]) -> tuple[dict[str, GripLearned], tuple[Finding, ...]]:
    """What coupons say of the grip of each side, and in figures; what cannot be asked is added to ``problems``."""
    by_place: dict[str, list[CouponTrial]] = {}
    for trial in trials:
        if trial.used and trial.readings:
            by_place.setdefault(key_of_trial(trial), []).append(trial)
    grips: dict[str, GripLearned] = {}
    findings: list[Finding] = []
    for key, own in by_place.items():
        try:
            library, grips[key] = library_grip(own[0]), learn_grip(own)
        except InputError as error:
            problems.append(str(error))
            continue
        s, g, name = library.strength, grips[key], polymers()[own[0].polymer].name
        after = replace(
            s, low=s.typical * g.level.low, typical=s.typical * g.level.typical, high=s.typical * g.level.high
        )
        findings.append(Finding(f"Grip of {name}, {own[0].name}", "stress", own[0].polymer, s, after))
        findings.append(Finding("It is best at", "temperature", own[0].polymer, library.peak_temperature, g.peak))
    return grips, tuple(findings)


def film_stress(polymer: Polymer) -> float:
    """Stress (Pa) of a printed film that has cooled from its stress-free temperature to 23 °C in an hour and a half, held flat."""
    solid = polymer.modulus.typical * polymer.bead_factor.typical
    free = np.array([polymer.stress_free_temperature.typical])
    return solid * float(cooling_strain(free, ROOM, polymer)[0])


def findings_of(known: Mapping[str, PolymerLearned], magnet: MagnetLearned | None) -> tuple[Finding, ...]:
    """Film stress of each polymer and the magnet's figures, before and after, each with its 90 % range."""
    found = []
    for key, learned in known.items():
        polymer, n = polymers()[key], len(learned.names)

        def stress(z: Floats, polymer: Polymer = polymer, names: tuple[str, ...] = learned.names) -> float:
            return film_stress(moved_polymer(polymer, dict(zip(names, (float(v) for v in z), strict=True))))

        ends = []
        for mean, covariance in ((np.zeros(n), np.eye(n)), (learned.mean, learned.covariance)):
            middle = stress(mean)
            slope = np.array([np.log(stress(mean + d) / stress(mean - d)) / (2.0 * _STEP) for d in _STEP * np.eye(n)])
            half = Z90 * float(np.sqrt(slope @ covariance @ slope))
            ends.append(Value(middle * np.exp(-half), middle, middle * np.exp(half), polymer.expansion.source))
        found.append(Finding(f"Film stress of {polymer.name}, cold", "stress", key, ends[0], ends[1]))
    if magnet is not None:
        library = magnet_of(NOTHING)
        found.append(Finding("Magnet's pull", "magnet_pull", "", library.pull, magnet.pull))
        found.append(Finding("Width of a pair of its poles", "length", "", library.pole_width, magnet.pole_width))
    return tuple(found)


@dataclass(frozen=True, slots=True)
class TrialShown:
    """A trial's readings (m,) in SI beside what the model says before the trials and with what they taught; ``at`` (m,) is what was
    varied (temperature K, gap m, height m), ``kinds`` of both axes."""

    key: str
    at: Floats
    read: Floats
    before: Floats
    after: Floats
    kinds: tuple[str, str]


def trial_shown(trial: Trial, learned: Learned, on: OnSheet | None) -> TrialShown:
    """A trial with its curves. Raises InputError for a polymer that is unknown, or a feeler without its part."""
    ways = []
    for state in (NOTHING, learned):
        magnet = magnet_of(state)
        if isinstance(trial, StripTrial):
            if trial.polymer not in polymers():
                raise InputError(f"There is no polymer “{trial.polymer}” in the library.")
            ways.append(strip_bows(trial, recentred(polymers()[trial.polymer], state)))
        elif isinstance(trial, PullTrial):
            ways.append(pull_forces(trial, magnet.pull.typical, magnet.pole_width.typical))
        elif isinstance(trial, CouponTrial):
            known = state.grips.get(key_of_trial(trial))
            grip = library_grip(trial)
            ways.append(coupon_forces(trial, grip if known is None else with_learned(grip, known)))
        else:
            if on is None:
                raise InputError("A feeler trial needs the part that was printed: open it first.")
            polymer = recentred(polymers()[on.part.process.polymer], state)
            ways.append(sheet_gaps(trial, on, polymer, magnet))
    if isinstance(trial, StripTrial):
        at, read, kinds = (
            [r.temperature for r in trial.readings],
            [r.bow for r in trial.readings],
            ("temperature", "length"),
        )
    elif isinstance(trial, CouponTrial):
        at, read, kinds = (
            [r.temperature for r in trial.readings],
            [r.force for r in trial.readings],
            ("temperature", "force"),
        )
    elif isinstance(trial, PullTrial):
        at, read, kinds = [r.gap for r in trial.readings], [r.force for r in trial.readings], ("length", "force")
    else:
        at, read, kinds = (
            [r.height for r in trial.readings],
            [r.gap for r in trial.readings],
            ("large_length", "length"),
        )
    return TrialShown(trial.key, np.array(at), np.array(read), ways[0], ways[1], kinds)


def own_error(trial: Trial) -> str:
    """Name of the unknown that stands for what all readings of a trial share."""
    return f"trial {trial.key}"


def _readings(trials: Sequence[Trial], polymer: Polymer | None, on: OnSheet | None) -> _Readings:
    names = []
    if polymer is not None:
        names += [n for n in OF_POLYMER if n != CRYSTALS or polymer.crystal_plateau.typical > 0.0]
    if any(not isinstance(t, StripTrial) for t in trials):
        names += [PULL, POLES]
    names += [own_error(t) for t in trials]
    return _Readings(tuple(names), tuple(trials), polymer, on)


def _solved(problem: _Readings) -> tuple[PolymerLearned | None, MagnetLearned | None]:
    n = len(problem.names)
    found = least_squares(
        problem.residuals, np.zeros(n), bounds=(-BOUND, BOUND), diff_step=[1e-3] * n, xtol=1e-6, max_nfev=60
    )
    if not np.all(np.isfinite(found.x)) or found.status <= 0:
        raise SolverError("the readings fit no plausible figures; check their units and temperatures")
    slopes = _slopes(problem.residuals, found.x)
    rows = found.fun.size - n
    # readings that scatter more than they claim widen what is left (Birge)
    birge2 = max(1.0, float((found.fun[:rows] ** 2).sum()) / max(rows, 1))
    covariance = np.linalg.inv(slopes[:rows].T @ slopes[:rows] / birge2 + np.eye(n))
    polymer = [i for i, name in enumerate(problem.names) if name in OF_POLYMER]
    learned = None
    if polymer:
        own = np.asarray(covariance[np.ix_(polymer, polymer)], dtype=np.float64)
        values, vectors = np.linalg.eigh(own)
        root = vectors @ np.diag(np.sqrt(np.clip(values, 0.0, None))) @ vectors.T
        learned = PolymerLearned(tuple(problem.names[i] for i in polymer), found.x[polymer], own, np.asarray(root))
    magnet = None
    if PULL in problem.names:
        library = magnet_of(NOTHING)
        ends = []
        for name, value in ((PULL, library.pull), (POLES, library.pole_width)):
            i = problem.names.index(name)
            half = Z90 * float(np.sqrt(covariance[i, i]))
            low, typical, high = (value_at(value, float(found.x[i]) + d) for d in (-half, 0.0, half))
            ends.append(replace(value, low=low, typical=typical, high=high, source="trials of this workshop"))
        magnet = MagnetLearned(ends[0], ends[1])
    return learned, magnet


def _slopes(residuals: Callable[[Floats], Floats], z: Floats) -> Floats:
    """Central slopes (rows, n) of residuals."""
    return np.stack([(residuals(z + d) - residuals(z - d)) / (2.0 * _STEP) for d in _STEP * np.eye(z.size)], axis=1)
