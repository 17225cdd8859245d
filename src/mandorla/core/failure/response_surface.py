"""A quadratic stand-in for a slow smooth function of a few normal unknowns, with its error on points held back, and its indices."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
from scipy.special import ndtri
from scipy.stats import qmc

from mandorla.core.part.mesh import Floats


@dataclass(frozen=True, slots=True)
class ResponseSurface:
    """``coefficients`` (terms, outputs) of the quadratic in standard normal unknowns, ``errors`` (outputs,) rms where tried."""

    coefficients: Floats
    errors: Floats

    def __call__(self, points: Floats) -> Floats:
        """Outputs (n, outputs) at points (n, unknowns)."""
        return np.asarray(terms(points) @ self.coefficients)


def terms(z: Floats) -> Floats:
    """Constant, linear, square and mixed terms (n, 1 + k + k(k+1)/2) of points (n, k)."""
    i, j = np.triu_indices(z.shape[1])
    return np.column_stack([np.ones(len(z)), z, z[:, i] * z[:, j]])


def design(count: int, unknowns: int, seed: int) -> Floats:
    """Quasi-random points (count, unknowns) of standard normals (Sobol 1967, scrambled), not beyond 2.6 standard deviations."""
    u = qmc.Sobol(unknowns, rng=np.random.default_rng(seed)).random(count)
    return np.asarray(ndtri(np.clip(u, 0.005, 0.995)))


def fit_response_surface(
    function: Callable[[Floats], Floats], unknowns: int, fitted: int, held_back: int, seed: int
) -> ResponseSurface:
    """Fit a quadratic to ``fitted`` points of a function of one point (unknowns,) and try it on ``held_back`` others."""
    points = np.concatenate([design(fitted, unknowns, seed), design(held_back, unknowns, seed + 1)])
    found = np.array([function(z) for z in points])
    coefficients, *_ = np.linalg.lstsq(terms(points[:fitted]), found[:fitted], rcond=None)
    off = terms(points[fitted:]) @ coefficients - found[fitted:]
    return ResponseSurface(coefficients, np.sqrt(np.mean(off**2, axis=0)))


def first_order(x: Floats, y: Floats, bins: int = 48) -> float:
    """First-order Sobol index of x (n,) for y (n,): variance of y's mean in equally filled bins of x, less what chance alone gives,
    over the variance of y (Saltelli et al., Global Sensitivity Analysis, 2008)."""
    groups = np.array_split(y[np.argsort(x, kind="stable")], bins)
    total = float(np.var(y))
    if total <= 0.0:
        return 0.0
    between = float(np.var([g.mean() for g in groups])) - total / groups[0].size
    return float(np.clip(between / total, 0.0, 1.0))
