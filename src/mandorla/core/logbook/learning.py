"""What the prints of a workshop teach: the posterior of what they share, by importance weights, else by Markov chains.

References
----------
Importance weights and their effective sample size: A. B. Owen, Monte Carlo theory, methods and examples (2013), sec. 9.1 and 9.3.
Chains: J. Goodman and J. Weare, Comm. App. Math. Comp. Sci. 5 (2010) 65, as the library emcee has it.
"""

from __future__ import annotations

import hashlib
import logging
import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from functools import lru_cache
from typing import Final, NamedTuple

import emcee
import numpy as np
from scipy.optimize import minimize
from scipy.special import logsumexp

from mandorla.core.logbook.calibration import calibrate, too_sure
from mandorla.core.logbook.latent import (
    CLASS_SHARE,
    COMMON_FIGURES,
    MODEL_SHARE,
    OF_POLYMER,
    SPECIMENS,
    Layout,
    Names,
    Row,
    Stack,
    Use,
    half_normal,
    rows_of,
    use_now,
)
from mandorla.core.logbook.records import Machine, Plate, PlateEvent, Print
from mandorla.core.part.mesh import Floats
from mandorla.core.warp.unknowns import GRIP, MAGNET, MODEL

logging.getLogger("emcee").setLevel(logging.ERROR)  # how long chains are is said by what counts of them
ENOUGH: Final = 400.0  # effective sample size from which weights are used
DRAWS: Final = 4000  # of the posterior that are kept
_WEIGHED: Final = 20_000
_LOOK: Final = 2000  # draws that show whether the prior's would be enough
_STEPS: Final = (600, 1200)  # of the chains: left out, kept
_STEP: Final = 1e-4
_ROUNDS: Final = 4
_FREEDOM, _WIDER = 8.0, 1.1
_SEED: Final = 20260


@dataclass(frozen=True, slots=True)
class Experience:
    """The posterior of a workshop: draws (n, d) of its latent unknowns, how they were found and how many count
    (``effective``), how many prints it is from, started and entered; names and keys of machines and plates, and how their sides
    have been used. ``widen`` (at most 1) is the factor on ln odds by
    which stated chances were too sure."""

    layout: Layout
    draws: Floats
    method: str
    effective: float
    prints: int
    started: int
    machines: Mapping[str, str] = field(default_factory=dict)
    plates: Mapping[str, str] = field(default_factory=dict)
    used: Mapping[tuple[str, str], Use] = field(default_factory=dict)
    counts: Mapping[str, int] = field(default_factory=dict)
    widen: float = 1.0

    @property
    def digest(self) -> bytes:
        """What it says, as 16 bytes."""
        made = hashlib.blake2b(digest_size=16)
        made.update(np.ascontiguousarray(self.draws).tobytes())
        names = (sorted(self.machines.items()), sorted(self.plates.items()), sorted(self.used.items()))
        made.update(repr((self.layout, self.widen, *names)).encode())
        return made.digest()


class Place(NamedTuple):
    """Where a print happens: names of machine and plate, side, surface and polymer by key, ln spread of the library's grip."""

    machine: str
    plate: str
    side: str
    surface: str
    polymer: str
    grip_spread: float


class Joint(NamedTuple):
    """What is known of a place: draws (n, k) of its unknowns in the library's standard deviations, by name; how many prints tell
    of its polymer or its surface; the standard deviations ``before`` (k,) any print."""

    names: tuple[str, ...]
    draws: Floats
    prints: int
    before: tuple[float, ...]


def learn_prints(
    prints: Sequence[Print], events: Sequence[PlateEvent], machines: Sequence[Machine], plates: Sequence[Plate]
) -> Experience:
    """The posterior from all prints whose end is known.

    Parameters
    ----------
    prints, events
        All prints in their order, and what was done to plates.
    machines, plates
        What they refer to.

    Returns
    -------
    Experience
        Deterministic for equal books. Without an entered print its draws are the prior's.
    """
    prints = sorted(prints, key=lambda p: p.at)
    names = Names()
    rows, specimens, surfaces = rows_of(prints, events, names)
    layout = Layout(tuple(names.index), tuple(specimens), tuple(surfaces))
    draws, method, effective = posterior(rows, layout)
    entered = [p for p in prints if p.entered and p.evidence]
    counts: dict[str, int] = {}
    for p in entered:
        for about in (p.polymer, p.surface, f"{p.surface}|{p.polymer}"):
            counts[about] = counts.get(about, 0) + 1
    return Experience(
        layout, draws, method, effective, len(entered), len(prints), {m.name: m.key for m in machines},
        {p.name: p.key for p in plates}, use_now(prints, events), counts, too_sure(calibrate(prints)),
    )  # fmt: skip


def effective_size(weights: Floats) -> float:
    """Effective number of weighted draws: square of the sum over the sum of squares."""
    return float(weights.sum() ** 2 / np.maximum((weights**2).sum(), 1e-300))


def posterior(rows: Sequence[Row], layout: Layout) -> tuple[Floats, str, float]:
    """Draws (DRAWS, d) of the posterior, by which method, and how many of them count.

    Weights of the prior's draws, where enough of them count; else of draws about the mode, as wide as its curvature says; else
    chains of an affine-invariant ensemble.
    """
    rng, d = np.random.default_rng(_SEED), layout.size
    x = rng.standard_normal((_WEIGHED, d))
    if not rows:
        return np.asarray(x[:DRAWS], dtype=np.float32), "no print", float(DRAWS)
    stack = Stack(rows, layout)
    few = x[:_LOOK]
    logs = stack.logs(few)
    weights = np.exp(logs - logs.max())
    start = (few * weights[:, None]).sum(axis=0) / weights.sum()
    if effective_size(weights) >= 0.5 * ENOUGH * _LOOK / _WEIGHED:  # else all of them would not be enough either
        logs = stack.logs(x)
        weights = np.exp(logs - logs.max())
        if effective_size(weights) >= ENOUGH:
            return _drawn(x, weights, rng), "weights", effective_size(weights)
    modes = _modes(stack, start)
    proposals = modes
    for _ in range(_ROUNDS):  # each round as wide as the one before says, with the tails of a t distribution
        x, density = _proposed(proposals, rng)
        logs = -_minus_log(stack, x) - density
        weights = np.exp(logs - logs.max())
        if effective_size(weights) >= ENOUGH:
            return _drawn(x, weights, rng), "weights about the mode", effective_size(weights)
        tempered = weights**0.5 / (weights**0.5).sum()  # the few that weigh most would make it too narrow
        mean = tempered @ x
        wide = (x - mean).T @ ((x - mean) * tempered[:, None]) + 1e-6 * np.eye(d)
        proposals = [(mean, np.asarray(np.linalg.cholesky(wide))), *modes]
    mode, root = modes[0]
    walkers = max(64, 2 * (d + 1))
    chains = emcee.EnsembleSampler(
        walkers, d, lambda z: -_minus_log(stack, z), vectorize=True,
        moves=[(emcee.moves.DEMove(), 0.7), (emcee.moves.StretchMove(), 0.3)],
    )  # fmt: skip
    chains.random_state = np.random.RandomState(_SEED).get_state()
    chains.run_mcmc(mode + 0.5 * rng.standard_normal((walkers, d)) @ root.T, sum(_STEPS))
    kept = chains.get_chain(discard=_STEPS[0], flat=True)
    time = float(np.nanmax(emcee.autocorr.integrated_time(chains.get_chain(discard=_STEPS[0]), quiet=True)))
    rows_kept = rng.choice(kept.shape[0], DRAWS)
    return np.asarray(kept[rows_kept], dtype=np.float32), "chains", kept.shape[0] / max(time, 1.0)


Mode = tuple[Floats, Floats]  # its place (d,), and a root (d, d) of the covariance about it


def _minus_log(stack: Stack, z: Floats, *, upsets: bool = True) -> Floats:
    """Minus ln of prior times likelihood (n,)."""
    return np.asarray(0.5 * (z**2).sum(axis=1) - stack.logs(z, upsets=upsets))


def _modes(stack: Stack, start: Floats) -> list[Mode]:
    """The posterior's modes, most probable first. That prints may end for a reason of their own gives it several: one is looked for
    from the mode without such reasons, where every print has to be explained, one from the draws."""
    d = stack.layout.size

    def found_from(z: Floats, *, upsets: bool) -> tuple[float, Floats]:
        def with_slope(at: Floats) -> tuple[float, Floats]:
            around = np.concatenate([at[None, :], at + _STEP * np.eye(d), at - _STEP * np.eye(d)])
            values = _minus_log(stack, around, upsets=upsets)
            return float(values[0]), np.asarray((values[1 : d + 1] - values[d + 1 :]) / (2.0 * _STEP))

        done = minimize(with_slope, z, jac=True, method="L-BFGS-B", options={"maxiter": 200})
        return float(done.fun), np.asarray(done.x)

    explained = found_from(np.full(d, 0.1), upsets=False)[1]
    candidates = sorted((found_from(z, upsets=True) for z in (start, explained)), key=lambda row: row[0])
    kept = [candidates[0]]
    if np.linalg.norm(candidates[1][1] - kept[0][1]) > 0.3 and candidates[1][0] < kept[0][0] + 12.0:
        kept.append(candidates[1])
    return [(mode, _root_at(stack, mode)) for _, mode in kept]


def _root_at(stack: Stack, mode: Floats) -> Floats:
    """A root of the covariance that the curvature at a mode says; never wider than twice the prior."""
    d, h = stack.layout.size, 0.02
    eye = h * np.eye(d)
    pairs = np.array([mode + a + b for a in eye for b in eye] + [mode + a - b for a in eye for b in eye])
    values = _minus_log(stack, np.concatenate([pairs, 2.0 * mode - pairs])).reshape(4, d, d)
    curvature = (values[0] - values[1] - values[3] + values[2]) / (4.0 * h * h)
    own, vectors = np.linalg.eigh(0.5 * (curvature + curvature.T))
    return np.asarray(vectors / np.sqrt(np.maximum(own, 0.25)))


def _proposed(modes: Sequence[Mode], rng: np.random.Generator) -> tuple[Floats, Floats]:
    """Draws (n, d) from t distributions about some modes, and the ln density (n,) of their mixture."""
    d = modes[0][0].size
    n = _WEIGHED // len(modes)
    t = rng.standard_normal((n * len(modes), d)) * np.sqrt(_FREEDOM / rng.chisquare(_FREEDOM, n * len(modes)))[:, None]
    x = np.concatenate([m + _WIDER * t[k * n : (k + 1) * n] @ root.T for k, (m, root) in enumerate(modes)])
    logs = []
    for m, root in modes:
        z = np.linalg.solve(_WIDER * root, (x - m).T).T
        logs.append(-0.5 * (_FREEDOM + d) * np.log1p((z**2).sum(axis=1) / _FREEDOM) - np.linalg.slogdet(root)[1])
    return x, np.asarray(logsumexp(np.array(logs), axis=0))


def _drawn(x: Floats, weights: Floats, rng: np.random.Generator) -> Floats:
    return np.asarray(x[rng.choice(x.shape[0], DRAWS, p=weights / weights.sum())], dtype=np.float32)


@lru_cache(maxsize=64)
def _before(name: str) -> Floats:
    """Draws (DRAWS,) of an unknown that no print has touched: standard normal, the same for everybody."""
    seed = int.from_bytes(hashlib.blake2b(name.encode(), digest_size=8).digest(), "little")
    found = np.random.default_rng(seed).standard_normal(DRAWS)
    found.setflags(write=False)
    return found


def joint_of(e: Experience, place: Place) -> Joint:
    """What prints say of a place: draws of the film's unknowns, joints, grip, magnet and the quick model's scale."""
    x, index = e.draws, {name: k for k, name in enumerate(e.layout.names)}

    def latent(name: str) -> Floats:
        return np.asarray(x[:, index[name]], dtype=float) if name in index else _before(name)

    found = {unknown: latent(f"{place.polymer}|{unknown}") for unknown in OF_POLYMER}
    grip = math.sqrt(CLASS_SHARE) * latent(f"grip|class|{place.surface}")
    grip = grip + math.sqrt(1.0 - CLASS_SHARE) * latent(f"grip|pair|{place.surface}|{place.polymer}")
    plate = e.plates.get(place.plate, "")
    ln = np.zeros(x.shape[0])
    specimen = f"{plate}|{place.side}"
    if specimen in e.layout.specimens:
        ln = ln + e.layout.specimen(x, e.layout.specimens.index(specimen))
    elif e.layout.specimens:  # another specimen: as unlike as those that are known
        scale = half_normal(x[:, len(e.layout.names)])
        ln = ln + SPECIMENS * scale * _before(f"specimen {specimen}")
    if place.surface in e.layout.surfaces:
        use = e.used.get((plate, place.side), Use(0, 0))
        ln = ln - e.layout.used(x, e.layout.surfaces.index(place.surface), use)
    found[GRIP] = grip + ln / place.grip_spread
    machine = e.machines.get(place.machine, "")
    found[MAGNET] = latent(f"{machine}|{MAGNET}")
    for figure in COMMON_FIGURES:
        common = math.sqrt(MODEL_SHARE) * latent(f"model|{figure}")
        found[f"{MODEL}, {figure}"] = common + math.sqrt(1.0 - MODEL_SHARE) * _before(f"own model {figure}")
    prints = max(e.counts.get(place.polymer, 0), e.counts.get(place.surface, 0))
    before = tuple(math.hypot(1.0, SPECIMENS / place.grip_spread) if n == GRIP else 1.0 for n in found)
    return Joint(tuple(found), np.stack(list(found.values()), axis=1), prints, before)
