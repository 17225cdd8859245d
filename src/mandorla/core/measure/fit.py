"""The rig fitted to what was measured: bounded least squares with priors over one or several sessions at once.

Unknowns are those of the bands (thermal.draws), each in units of its 90 % range, with the range as its prior. Every channel has an
offset of its own with its instrument's common uncertainty as prior. Priors of the unknowns have heavy tails, for gross errors
happen. Covariance from the Jacobian at the solution with normal priors, widened by the Birge ratio where the residuals ask for it.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Final

import numpy as np
from scipy.optimize import least_squares

from mandorla.core.errors import InputError
from mandorla.core.measure.fitted_rig import Learned, fitted_rig, value_texts
from mandorla.core.measure.models import Measurements, Session
from mandorla.core.measure.next_measurement import extra_measurements
from mandorla.core.measure.observe import Observation
from mandorla.core.measure.session_case import scene_of
from mandorla.core.measure.single_cause_search import BOUND, heavy_tailed, try_each
from mandorla.core.rig.model import Rig
from mandorla.core.rig.settings import Criteria, Settings
from mandorla.core.runtime import RunContext
from mandorla.core.thermal.parameter_samples import (
    AT_NINETY,
    RigUnknown,
    covariance_of,
    rig_unknowns,
    root_of,
    typical_draw,
)
from mandorla.core.thermal.stack import Floats
from mandorla.core.units import METRIC, UnitPreferences

NOTHING_LEARNED: Final = 0.8  # share of the range before, above which the logs say little
_WIDE: Final = 0.6  # of a 90 % range, for slopes under a switching thermostat
WORSE: Final = 1.1  # times its misfit before, from which a series is said to fit worse
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


def fit_rig(
    rig: Rig, settings: Settings, criteria: Criteria, sessions: Sequence[Session], measurements: Measurements,
    originals: Mapping[str, bytes], day: str, names: Sequence[str] | None = None, run: RunContext | None = None,
    prefs: UnitPreferences = METRIC,
) -> RigFit:  # fmt: skip
    """Fit the chosen unknowns (all by default) to one or several sessions at once.

    Raises :class:`InputError` when there is nothing to fit to, :class:`Cancelled` when asked to stop.
    """
    run = run or RunContext()
    if not sessions:
        raise InputError("A fit needs a session with a log or readings.")
    scenes = [scene_of(rig, settings, criteria, s, measurements, originals) for s in sessions]
    unknowns = choose_unknowns(rig, names)
    if not unknowns:
        raise InputError("Nothing was chosen to be fitted.")
    n = len(unknowns)
    series = [(scene, i) for scene in scenes for i in range(len(scene.observations))]
    observed = [scene.observations[i] for scene, i in series]
    prior = covariance_of(rig, unknowns) / AT_NINETY**2
    whiten = np.linalg.inv(root_of(prior + 1e-9 * np.eye(n)))
    free = [k for k, o in enumerate(observed) if o.common > 0.0]
    count = [0]
    # under a thermostat every curve has the switching's own scatter: slopes are taken over a width that drowns it
    switching = any(s.rig.bed.control.kind == "on-off" for s in scenes)

    def models(z: Floats) -> list[Floats]:
        draw = typical_draw(rig)
        for unknown, value in zip(unknowns, z, strict=True):
            unknown.apply(draw, float(value))
        count[0] += 1
        run.checkpoint(min(0.95, 0.3 + 0.65 * count[0] / (20.0 * (n + 1))), "fitting")
        return [curve for scene in scenes for curve in scene.predict(draw)]

    def residuals(p: Floats) -> Floats:
        offsets = dict(zip(free, p[n:], strict=True))
        rows = [
            (o.value - m - offsets.get(k, 0.0) * o.common) / o.noise
            for k, (o, m) in enumerate(zip(observed, models(p[:n]), strict=True))
        ]
        return np.concatenate([*rows, heavy_tailed(whiten @ p[:n]), p[n:]])

    def jacobian(p: Floats) -> Floats:
        base = residuals(p)
        found = np.zeros((base.size, p.size))
        for i in range(n):
            if switching:
                low, high = max(-BOUND, p[i] - _WIDE), min(BOUND, p[i] + _WIDE)
                ahead, behind = p.copy(), p.copy()
                ahead[i], behind[i] = high, low
                found[:, i] = (residuals(ahead) - residuals(behind)) / (high - low)
                continue
            step = 0.05 if p[i] < BOUND - 0.1 else -0.05
            q = p.copy()
            q[i] += step
            found[:, i] = (residuals(q) - base) / step
        at = 0
        place = {k: n + j for j, k in enumerate(free)}
        for k, o in enumerate(observed):
            if k in place:
                found[at : at + o.value.size, place[k]] = -o.common / o.noise
            at += o.value.size
        for j in range(len(free)):
            found[base.size - len(free) + j, n + j] = 1.0
        return found

    start = np.zeros(n + len(free))
    limits = np.concatenate([np.full(n, BOUND), np.full(len(free), 6.0)])
    before = models(start[:n])
    starts = [start]
    before_all, trials = try_each(rig, scenes, unknowns, run, (0.0, 0.3))
    if trials[0].cost < before_all - 4.0:
        # a gross error lies in a valley of its own, which the way downhill from nothing wrong may miss
        other = start.copy()
        other[[u.name for u in unknowns].index(trials[0].unknown.name)] = trials[0].z
        starts.append(other)
    solved = min(
        (
            least_squares(
                residuals, np.clip(p, -0.99 * limits, 0.99 * limits), jac=jacobian, bounds=(-limits, limits), method="trf",
                max_nfev=25, xtol=1e-4, ftol=1e-4,
            )
            for p in starts
        ),
        key=lambda found: float(found.cost),
    )  # fmt: skip
    z = solved.x[:n]
    after = models(z)
    J: Floats = np.asarray(solved.jac, dtype=np.float64)
    rows = sum(o.value.size for o in observed)
    chi = float((solved.fun[:rows] ** 2).sum())
    # series of the model's own error count as a few independent looks, not as many points
    looks = sum(min(o.value.size, 12) for o in observed)
    birge = float(np.sqrt(max(1.0, chi / max(rows, 1)))) if looks > n else 1.0
    believed = np.zeros((n + len(free), n + len(free)))
    believed[:n, :n], believed[n:, n:] = whiten.T @ whiten, np.eye(len(free))
    information = J[:rows].T @ J[:rows] / birge**2 + believed
    covariance: Floats = np.asarray(np.linalg.inv(information)[:n, :n] * AT_NINETY**2, dtype=np.float64)
    spread = np.sqrt(np.diag(covariance))
    correlation: Floats = np.asarray(covariance / np.outer(spread, spread), dtype=np.float64)
    prior_share = np.sqrt(np.diag(prior)) * AT_NINETY
    learned = tuple(
        Learned(
            u.name,
            float(z[i]),
            float(spread[i]),
            *value_texts(rig, u, float(z[i]), prefs),
            bool(abs(z[i]) > BOUND - 0.05),
        )
        for i, u in enumerate(unknowns)
    )
    # tied: a strong correlation between two of which neither is well known by itself
    tied = tuple(
        (unknowns[i].name, unknowns[j].name, float(correlation[i, j]))
        for i in range(n) for j in range(i + 1, n)
        if _tied(information, prior, i, j)
    )  # fmt: skip
    unlearned = tuple(u.name for i, u in enumerate(unknowns) if spread[i] > NOTHING_LEARNED * prior_share[i])
    advice = extra_measurements(scenes[0], unknowns, z, information, n, run)
    fits = []
    offsets = dict(zip(free, solved.x[n:], strict=True))
    for k, (scene, i) in enumerate(series):
        o = scene.observations[i]
        fits.append(
            SeriesFit(
                scene.name, o, before[k], after[k], float(np.sqrt(np.mean((o.value - before[k]) ** 2))),
                float(np.sqrt(np.mean((o.value - after[k]) ** 2))), offsets.get(k, 0.0) * o.common,
            )
        )  # fmt: skip
    new = fitted_rig(rig, unknowns, z, covariance, learned, [s.name for s in sessions], day)
    covariance.setflags(write=False)
    return RigFit(
        learned, covariance, correlation, tuple(fits), birge, tied, unlearned, advice, new,
        CONVERGED if solved.status > 0 else STOPPED,
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
