"""The rig fitted to what was measured: bounded least squares with priors over one or several sessions at once.

Unknowns are those of the bands (thermal.parameter_samples), each in units of its 90 % range, with the range as its prior. Every
instrument has an offset of its own, which all of its channels and readings share, with its common uncertainty as prior. Priors of
the unknowns have heavy tails, for gross errors happen. Covariance from the Jacobian at the solution with normal priors, widened by
the Birge ratio where the residuals ask for it.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Final

import numpy as np
from scipy.optimize import OptimizeResult, least_squares

from mandorla.core.errors import InputError
from mandorla.core.measure.fitted_rig import Learned, fitted_rig, value_texts
from mandorla.core.measure.models import Measurements, Session
from mandorla.core.measure.next_measurement import extra_measurements
from mandorla.core.measure.observe import Observation, sharing
from mandorla.core.measure.session_case import SessionCase, curves_of, session_case_of
from mandorla.core.measure.single_cause_search import BOUND, heavy_tailed, try_each
from mandorla.core.rig.model import Rig
from mandorla.core.rig.settings import Criteria, Settings
from mandorla.core.runtime import RunContext
from mandorla.core.second_core import on_two_cores
from mandorla.core.thermal.parameter_samples import (
    AT_NINETY,
    ParameterSample,
    RigUnknown,
    covariance_of,
    rig_unknowns,
    root_of,
    typical_sample,
)
from mandorla.core.thermal.stack import Floats
from mandorla.core.units import METRIC, UnitPreferences

NOTHING_LEARNED: Final = 0.8  # share of the range before, above which the logs say little
_STEP: Final = 0.05  # of a 90 % range, for slopes
_OFFSET_BOUND: Final = 6.0  # standard uncertainties of an instrument's common error
_CAREFUL: Final = 0.15  # the same, for what is known in the end: the march's own small jumps do not count
_WIDE: Final = 0.6  # of a 90 % range, for slopes under a switching thermostat
WORSE: Final = 1.1  # times its misfit before, from which a series is said to fit worse
_KEPT: Final = 0.25  # of a 90 % range, by which the unknowns may move while slopes are kept
_ENOUGH: Final = 1e-3  # of the misfit, below which another step gains nothing that noise would not give
_CAUSES: Final = 2  # single causes that a fit begins from
_ALIKE: Final = 0.5  # of half chi squared, by which two valleys cannot be told apart
_AS_GOOD: Final = 0.1  # of what the best cause explains, by which another may explain less
CONVERGED: Final = "converged"
STOPPED: Final = "stopped before it converged"


@dataclass(frozen=True, slots=True)
class SeriesFit:
    """One observed series beside the model before and after: root of the mean square (K or W) and the curves (m,)."""

    session: str
    observation: Observation
    before: Floats
    after: Floats
    rms_before: float
    rms_after: float
    offset: float


@dataclass(frozen=True, slots=True)
class RigFit:
    """Result of a fit.

    ``covariance`` (n, n) of the unknowns in units of their 90 % ranges before, ``correlation`` (n, n); ``tied`` pairs that cannot
    be told apart, with their correlation; ``unlearned`` names about which the measurements say little; ``advice`` extra
    measurements that would help, best first: what, the unknown it helps most, the share of its range that would be left.
    """

    learned: tuple[Learned, ...]
    covariance: Floats
    correlation: Floats
    series: tuple[SeriesFit, ...]
    birge: float
    tied: tuple[tuple[str, str, float], ...]
    unlearned: tuple[str, ...]
    advice: tuple[tuple[str, str, float], ...]
    rig: Rig
    status: str

    @property
    def converged(self) -> bool:
        """Whether the solver came to its end."""
        return self.status == CONVERGED

    @property
    def warnings(self) -> tuple[str, ...]:
        """What is doubtful about the fit, gravest first: it stopped, unknowns at the end of their range, series that fit worse."""
        told = [] if self.converged else [f"The fit {self.status}: its figures are not final."]
        bound = [v.name for v in self.learned if v.at_bound]
        if bound:
            told.append(
                f"At the end of what is plausible: {', '.join(bound)}; something else is wrong, or its range is too narrow."
            )
        told += [
            f"“{s.observation.name}” of “{s.session}” fits worse than before ({s.rms_before:.1f} to {s.rms_after:.1f} rms)."
            for s in self.series
            if s.rms_after > WORSE * s.rms_before and s.rms_after > s.observation.noise
        ]
        return tuple(told)

    def learned_of(self, name: str) -> Learned:
        """The entry of an unknown."""
        return next(v for v in self.learned if v.name == name)


def choose_unknowns(rig: Rig, names: Sequence[str] | None) -> tuple[RigUnknown, ...]:
    """All unknowns, or those of given names. Raises :class:`InputError` naming what exists."""
    known = rig_unknowns(rig)
    if names is None:
        return known
    missing = [n for n in names if n not in {u.name for u in known}]
    if missing:
        raise InputError(f"There is no unknown “{missing[0]}”; there are: {', '.join(u.name for u in known)}.")
    return tuple(u for u in known if u.name in names)


@dataclass(frozen=True, slots=True)
class _Problem:
    """Residuals and slopes of a fit: parameters are the unknowns (n), then an offset of each group of series in ``free``, which
    share the common error of one instrument."""

    rig: Rig
    scenes: tuple[SessionCase, ...]
    unknowns: tuple[RigUnknown, ...]
    prior: Floats
    whiten: Floats
    observed: tuple[Observation, ...]
    free: tuple[tuple[int, ...], ...]
    run: RunContext
    made: list[int]

    @classmethod
    def of(cls, rig: Rig, scenes: Sequence[SessionCase], unknowns: tuple[RigUnknown, ...], run: RunContext) -> _Problem:
        """The problem of fitting these unknowns to these sessions."""
        observed = tuple(o for scene in scenes for o in scene.observations)
        prior = covariance_of(rig, unknowns) / AT_NINETY**2
        whiten: Floats = np.asarray(np.linalg.inv(root_of(prior + 1e-9 * np.eye(len(unknowns)))))
        return cls(rig, tuple(scenes), unknowns, prior, whiten, observed, sharing(observed), run, [0])

    @property
    def switching(self) -> bool:
        """Whether a thermostat switches: every curve has its scatter, and slopes are taken over a width that drowns it."""
        return any(scene.rig.bed.control.kind == "on-off" for scene in self.scenes)

    @property
    def limits(self) -> Floats:
        """Ends of what is plausible (n + offsets,), either way."""
        return np.concatenate([np.full(len(self.unknowns), BOUND), np.full(len(self.free), _OFFSET_BOUND)])

    def sample(self, z: Floats) -> ParameterSample:
        """The rig with values of the unknowns (n,)."""
        sample = typical_sample(self.rig)
        for unknown, value in zip(self.unknowns, z, strict=True):
            unknown.apply(sample, float(value))
        return sample

    def models(self, each: Sequence[Floats]) -> list[list[Floats]]:
        """The curves of all series for several values of the unknowns (n,)."""

        def told(_done: int) -> None:
            self.made[0] += 1
            share = self.made[0] / (20.0 * (len(self.unknowns) + 1))
            self.run.checkpoint(min(0.95, 0.3 + 0.65 * share), "fitting")

        return on_two_cores(curves_of, self.scenes, [self.sample(z) for z in each], told)

    def residuals(self, p: Floats) -> Floats:
        """Misfits over noise, then the priors of the unknowns and of the offsets."""
        return self.residuals_at([p])[0]

    def residuals_at(self, each: Sequence[Floats]) -> list[Floats]:
        """The same at several places."""
        n, found = len(self.unknowns), []
        for p, models in zip(each, self.models([p[:n] for p in each]), strict=True):
            offsets = self.offsets(p[n:])
            rows = [
                (o.value - m - offsets.get(k, 0.0) * o.common) / o.noise
                for k, (o, m) in enumerate(zip(self.observed, models, strict=True))
            ]
            found.append(np.concatenate([*rows, heavy_tailed(self.whiten @ p[:n]), p[n:]]))
        return found

    def offsets(self, shared: Floats) -> dict[int, float]:
        """Offset of every series that has one, in its own common uncertainties, from those of the groups (g,)."""
        return {k: float(value) for group, value in zip(self.free, shared, strict=True) for k in group}

    def jacobian(self, p: Floats, *, careful: bool = False) -> Floats:
        """Slopes of the residuals (rows, n + offsets): differences for the unknowns, to both sides and over a width where the model
        switches or where it is asked to be ``careful``; exact for the offsets."""
        n, asked, wide = len(self.unknowns), [p], _WIDE if self.switching else _CAREFUL
        both = self.switching or careful
        for i in range(n):
            step = _STEP if p[i] < BOUND - 2.0 * _STEP else -_STEP
            for end in (min(BOUND, p[i] + wide), max(-BOUND, p[i] - wide)) if both else (p[i] + step,):
                moved = p.copy()
                moved[i] = end
                asked.append(moved)
        base, *made = self.residuals_at(asked)
        found = np.zeros((base.size, p.size))
        for i in range(n):
            if both:
                (ahead, behind), (high, low) = made[2 * i : 2 * i + 2], (q[i] for q in asked[2 * i + 1 : 2 * i + 3])
            else:
                ahead, behind, high, low = made[i], base, asked[i + 1][i], p[i]
            found[:, i] = (ahead - behind) / (high - low)
        at, place = 0, {k: g for g, group in enumerate(self.free) for k in group}
        for k, o in enumerate(self.observed):
            if k in place:
                found[at : at + o.value.size, n + place[k]] = -o.common / o.noise
            at += o.value.size
        for j in range(len(self.free)):
            found[base.size - len(self.free) + j, n + j] = 1.0
        return found

    def starts(self) -> list[Floats]:
        """Where to begin: nothing wrong; and the best single causes, when they explain much and about as much as each other.

        A gross error lies in a valley of its own, which the way downhill from nothing wrong, or from another cause, may miss.
        """
        start = np.zeros(len(self.unknowns) + len(self.free))
        untouched, trials = try_each(self.rig, self.scenes, self.unknowns, self.run, (0.0, 0.3))
        if trials[0].cost >= untouched - 4.0:
            return [start]
        found, names = [start], [u.name for u in self.unknowns]
        for trial in trials[:_CAUSES]:
            if trial.cost <= trials[0].cost + _AS_GOOD * (untouched - trials[0].cost):
                other = start.copy()
                other[names.index(trial.unknown.name)] = trial.z
                found.append(other)
        return found

    def solved(self) -> OptimizeResult:
        """The deepest of the valleys reached from the starts (trust region reflective, within the limits); of those that are as
        good, the one that takes no unknown as far off as the others do."""
        limits, n = self.limits, len(self.unknowns)
        found = [
            least_squares(
                self.residuals, np.clip(p, -0.99 * limits, 0.99 * limits), jac=_KeptSlopes(self), bounds=(-limits, limits),
                method="trf", max_nfev=80, xtol=1e-4, ftol=_ENOUGH,
            )
            for p in self.starts()
        ]  # fmt: skip
        deepest = min(float(f.cost) for f in found)
        as_good = [f for f in found if float(f.cost) <= deepest + _ALIKE]
        return min(as_good, key=lambda f: float(np.abs(f.x[:n]).max()))


class _KeptSlopes:
    """Slopes on the way downhill, which are kept until the unknowns have moved away from where they were taken."""

    def __init__(self, problem: _Problem) -> None:
        self._problem = problem
        self._at: Floats | None = None
        self._slopes: Floats = np.empty(0)

    def __call__(self, p: Floats) -> Floats:
        n = len(self._problem.unknowns)
        if self._at is None or float(np.abs(p - self._at)[:n].max()) > _KEPT:
            self._at, self._slopes = p.copy(), self._problem.jacobian(p)
        return self._slopes


@dataclass(frozen=True, slots=True)
class _Posterior:
    """What is known of the unknowns after a fit: see :class:`RigFit` for covariance, correlation and Birge ratio."""

    birge: float
    information: Floats
    covariance: Floats
    spread: Floats
    correlation: Floats

    @classmethod
    def of(cls, problem: _Problem, solved: OptimizeResult) -> _Posterior:
        """From the slopes at the solution, with normal priors."""
        n, offsets = len(problem.unknowns), len(problem.free)
        slopes = problem.jacobian(solved.x, careful=True)
        rows = sum(o.value.size for o in problem.observed)
        chi = float((solved.fun[:rows] ** 2).sum())
        # series of the model's own error count as a few independent looks, not as many points
        looks = sum(min(o.value.size, 12) for o in problem.observed)
        birge = float(np.sqrt(max(1.0, chi / max(rows, 1)))) if looks > n else 1.0
        believed = np.zeros((n + offsets, n + offsets))
        believed[:n, :n], believed[n:, n:] = problem.whiten.T @ problem.whiten, np.eye(offsets)
        information = slopes[:rows].T @ slopes[:rows] / birge**2 + believed
        covariance: Floats = np.asarray(np.linalg.inv(information)[:n, :n] * AT_NINETY**2, dtype=np.float64)
        spread = np.sqrt(np.diag(covariance))
        covariance.setflags(write=False)
        return cls(birge, information, covariance, spread, np.asarray(covariance / np.outer(spread, spread)))


def fit_rig(
    rig: Rig, settings: Settings, criteria: Criteria, sessions: Sequence[Session], measurements: Measurements,
    originals: Mapping[str, bytes], day: str, names: Sequence[str] | None = None, run: RunContext | None = None,
    prefs: UnitPreferences = METRIC,
) -> RigFit:  # fmt: skip
    """Fit the chosen unknowns to one or several sessions at once.

    Parameters
    ----------
    rig, settings, criteria
        What is believed of the machine, and the set points it ran at.
    sessions, measurements, originals
        What was measured: the sessions to fit to, all measurements of the project, and the files they name.
    day
        Date of the fit, ISO 8601, kept with the fitted figures.
    names
        Of the unknowns to fit; all of them by default.

    Returns
    -------
    RigFit
        The fitted rig, its covariance, and what is doubtful about it.

    Raises
    ------
    InputError
        There is nothing to fit to or nothing to fit.
    Cancelled
        Asked to stop.
    """
    run = run or RunContext()
    if not sessions:
        raise InputError("A fit needs a session with a log or readings.")
    scenes = [session_case_of(rig, settings, criteria, s, measurements, originals) for s in sessions]
    unknowns = choose_unknowns(rig, names)
    if not unknowns:
        raise InputError("Nothing was chosen to be fitted.")
    n = len(unknowns)
    problem = _Problem.of(rig, scenes, unknowns, run)
    solved = problem.solved()
    z = solved.x[:n]
    # what is shown is not coarse
    before, after = ([c for s in scenes for c in s.predict(problem.sample(p))] for p in (np.zeros(n), z))
    known = _Posterior.of(problem, solved)
    learned = tuple(
        Learned(u.name, float(v), float(s), *value_texts(rig, u, float(v), prefs), bool(abs(v) > BOUND - 0.05))
        for u, v, s in zip(unknowns, z, known.spread, strict=True)
    )
    prior_share = np.sqrt(np.diag(problem.prior)) * AT_NINETY
    return RigFit(
        learned=learned,
        covariance=known.covariance,
        correlation=known.correlation,
        series=_series_fits(problem, before, after, solved.x[n:]),
        birge=known.birge,
        tied=tuple(
            (unknowns[i].name, unknowns[j].name, float(known.correlation[i, j]))
            for i in range(n)
            for j in range(i + 1, n)
            if _tied(known.information, problem.prior, i, j)
        ),
        unlearned=tuple(u.name for i, u in enumerate(unknowns) if known.spread[i] > NOTHING_LEARNED * prior_share[i]),
        advice=extra_measurements(scenes[0], unknowns, z, known.information, n, run),
        rig=fitted_rig(rig, unknowns, z, known.covariance, learned, [s.name for s in sessions], day),
        status=CONVERGED if solved.status > 0 else STOPPED,
    )


def _series_fits(
    problem: _Problem, before: Sequence[Floats], after: Sequence[Floats], shifts: Floats
) -> tuple[SeriesFit, ...]:
    names = [scene.name for scene in problem.scenes for _ in scene.observations]
    offsets = problem.offsets(shifts)
    return tuple(
        SeriesFit(
            name, o, old, new, float(np.sqrt(np.mean((o.value - old) ** 2))), float(np.sqrt(np.mean((o.value - new) ** 2))),
            offsets.get(k, 0.0) * o.common,
        )
        for k, (name, o, old, new) in enumerate(zip(names, problem.observed, before, after, strict=True))
    )  # fmt: skip


def _tied(information: Floats, prior: Floats, i: int, j: int) -> bool:
    """Whether the measurements alone correlate two unknowns so strongly that only their sum is known."""
    full = np.linalg.inv(information)
    pair = full[np.ix_([i, j], [i, j])]
    rho = pair[0, 1] / np.sqrt(pair[0, 0] * pair[1, 1])
    alone = 1.0 / np.sqrt(information[i, i])
    return bool(
        abs(rho) > 0.7 and np.sqrt(pair[0, 0]) > 1.8 * alone and np.sqrt(pair[0, 0]) > 0.3 * np.sqrt(prior[i, i])
    )
