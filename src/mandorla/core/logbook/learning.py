"""What the prints of a workshop teach: the posterior of what they share, by importance weights, else by Markov chains.

References
----------
Importance weights and their effective sample size: A. B. Owen, Monte Carlo theory, methods and examples (2013), sec. 9.1 and 9.3.
Chains: J. Goodman and J. Weare, Comm. App. Math. Comp. Sci. 5 (2010) 65, as the library emcee has it.
"""

from __future__ import annotations

import hashlib
import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from functools import lru_cache
from typing import Final, NamedTuple

import emcee
import numpy as np
from scipy.optimize import minimize

from mandorla.core.logbook.latent import (
    CLASS_SHARE,
    COMMON_FIGURES,
    MODEL_SHARE,
    OF_POLYMER,
    SPECIMENS,
    Layout,
    Names,
    Row,
    Use,
    half_normal,
    log_likelihood,
    row_log,
    rows_of,
    use_now,
)
from mandorla.core.logbook.records import Machine, Plate, PlateEvent, Print
from mandorla.core.part.mesh import Floats
from mandorla.core.warp.unknowns import GRIP, MAGNET, MODEL

ENOUGH: Final = 400.0  # effective sample size from which weights are used
DRAWS: Final = 4000  # of the posterior that are kept
_WEIGHED: Final = 20_000
_STEPS: Final = (600, 1200)  # of the chains: left out, kept
_STEP: Final = 1e-4
_ROUNDS: Final = 4
_FREEDOM, _WIDER = 8.0, 1.1
_SEED: Final = 20260


@dataclass(frozen=True, slots=True)
class Experience:
    """The posterior of a workshop: draws (n, d) of its latent unknowns, how they were found and how many count
    (``effective``), how many prints it is from, started and entered; names and keys of machines and plates, and how their sides
    have been used."""

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

    @property
    def digest(self) -> bytes:
        """What it says, as 16 bytes."""
        made = hashlib.blake2b(digest_size=16)
        made.update(np.ascontiguousarray(self.draws).tobytes())
        made.update(
            repr(
                (self.layout, sorted(self.machines.items()), sorted(self.plates.items()), sorted(self.used.items()))
            ).encode()
        )
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
    of its polymer or its surface."""

    names: tuple[str, ...]
    draws: Floats
    prints: int


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
        {p.name: p.key for p in plates}, use_now(prints, events), counts,
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
    logs = log_likelihood(rows, x, layout)
    weights = np.exp(logs - logs.max())
    if effective_size(weights) >= ENOUGH:
        return _drawn(x, weights, rng), "weights", effective_size(weights)

    def minus_log(z: Floats) -> Floats:
        return np.asarray(0.5 * (z**2).sum(axis=1) - log_likelihood(rows, z, layout))

    def with_slope(z: Floats) -> tuple[float, Floats]:
        at = np.concatenate([z[None, :], z + _STEP * np.eye(d), z - _STEP * np.eye(d)])
        values = minus_log(at)
        return float(values[0]), np.asarray((values[1 : d + 1] - values[d + 1 :]) / (2.0 * _STEP))

    start = (x * weights[:, None]).sum(axis=0) / weights.sum()
    mode = minimize(with_slope, start, jac=True, method="L-BFGS-B", options={"maxiter": 300}).x
    h = 1e-2
    slopes = np.array([(with_slope(mode + e)[1] - with_slope(mode - e)[1]) / (2.0 * h) for e in h * np.eye(d)])
    values, vectors = np.linalg.eigh(0.5 * (slopes + slopes.T))
    root = vectors / np.sqrt(np.maximum(values, 0.25))
    mean, draw_root = mode, root
    for _ in range(_ROUNDS):  # each round as wide as the one before says, with the tails of a t distribution
        t = rng.standard_normal((_WEIGHED, d)) * np.sqrt(_FREEDOM / rng.chisquare(_FREEDOM, _WEIGHED))[:, None]
        x = mean + _WIDER * t @ draw_root.T
        logs = -minus_log(x) + 0.5 * (_FREEDOM + d) * np.log1p((t**2).sum(axis=1) / _FREEDOM)
        weights = np.exp(logs - logs.max())
        if effective_size(weights) >= ENOUGH:
            return _drawn(x, weights, rng), "weights about the mode", effective_size(weights)
        tempered = weights**0.5 / (weights**0.5).sum()  # the few that weigh most would make it too narrow
        mean = tempered @ x
        draw_root = np.linalg.cholesky((x - mean).T @ ((x - mean) * tempered[:, None]) + 1e-6 * np.eye(d))
    walkers = max(64, 2 * (d + 1))
    chains = emcee.EnsembleSampler(
        walkers, d, lambda z: -minus_log(z), vectorize=True,
        moves=[(emcee.moves.DEMove(), 0.7), (emcee.moves.StretchMove(), 0.3)],
    )  # fmt: skip
    chains.random_state = np.random.RandomState(_SEED).get_state()
    chains.run_mcmc(mode + 0.5 * rng.standard_normal((walkers, d)) @ root.T, sum(_STEPS))
    kept = chains.get_chain(discard=_STEPS[0], flat=True)
    time = float(np.nanmax(emcee.autocorr.integrated_time(chains.get_chain(discard=_STEPS[0]), quiet=True)))
    rows_kept = rng.choice(kept.shape[0], DRAWS)
    return np.asarray(kept[rows_kept], dtype=np.float32), "chains", kept.shape[0] / max(time, 1.0)


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
    return Joint(tuple(found), np.stack(list(found.values()), axis=1), prints)


def surprise(rows: Sequence[Row], e: Experience) -> dict[str, float]:
    """ln likelihood of each print (by key) under the posterior: how well it is explained by what all prints say."""
    found: dict[str, float] = {}
    for row in rows:
        logs = row_log(row, np.asarray(e.draws, dtype=float), e.layout)
        found[row.print_key] = found.get(row.print_key, 0.0) + float(np.log(np.mean(np.exp(logs))))
    return found
