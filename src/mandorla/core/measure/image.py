"""A radiometric matrix as a map over the bed: perspective from four corners, patches with their own emissivity."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Final, NamedTuple

import numpy as np

from mandorla.core.errors import InputError
from mandorla.core.materials.library_data import lookup, seen_surfaces
from mandorla.core.measure import infrared
from mandorla.core.measure.matrix_file import shown_matrix
from mandorla.core.measure.models import Instrument, Patch, StoredImage
from mandorla.core.measure.open_lid import UNKNOWN
from mandorla.core.thermal.stack import Floats

CELLS: Final = 96
INSIDE: Final = 0.96  # share of the bed's width and depth that a map covers


def homography(corners: Sequence[tuple[float, float]], width: float, depth: float) -> Floats:
    """The (3, 3) projective map from the bed (m from its middle) to the picture (column, row), direct linear transform.

    Raises :class:`InputError` for corners that make no convex quadrangle.
    """
    if len(corners) != 4:
        raise InputError("All four corners of the bed are needed: front left, front right, rear right, rear left.")
    p = np.array(corners, dtype=np.float64)
    edge = np.roll(p, -1, axis=0) - p
    cross = edge[:, 0] * np.roll(edge, -1, axis=0)[:, 1] - edge[:, 1] * np.roll(edge, -1, axis=0)[:, 0]
    if not (np.all(cross > 1e-9) or np.all(cross < -1e-9)):
        raise InputError(
            "The four corners must follow each other around the bed: front left, front right, rear right, rear left."
        )
    bed = np.array([(-1, -1), (1, -1), (1, 1), (-1, 1)]) * np.array([width / 2, depth / 2])
    rows = []
    for (x, y), (u, v) in zip(bed, p, strict=True):
        rows += [[x, y, 1, 0, 0, 0, -u * x, -u * y, -u], [0, 0, 0, x, y, 1, -v * x, -v * y, -v]]
    h = np.linalg.svd(np.array(rows))[2][-1].reshape(3, 3)
    return np.asarray(h / h[2, 2])


class OnBed(NamedTuple):
    """A matrix over the bed: ``x`` (nx,) and ``y`` (ny,) m from its middle, ``shown`` temperatures (ny, nx) in K, NaN in holes."""

    x: Floats
    y: Floats
    shown: Floats


def on_bed(matrix: Floats, h: Floats, width: float, depth: float, cells: int = CELLS) -> OnBed:
    """The matrix resampled over the bed, bilinear; holes stay holes."""
    nx = cells
    ny = max(8, round(cells * depth / width))
    # the outermost part, where a cell of the picture sees bed and surroundings at once, is left out
    x = ((np.arange(nx) + 0.5) / nx - 0.5) * INSIDE * width
    y = ((np.arange(ny) + 0.5) / ny - 0.5) * INSIDE * depth
    xx, yy = np.meshgrid(x, y)
    q = np.stack([xx, yy, np.ones_like(xx)], axis=-1) @ h.T
    u, v = q[..., 0] / q[..., 2], q[..., 1] / q[..., 2]
    rows, columns = matrix.shape
    inside = (u >= 0) & (u <= columns - 1) & (v >= 0) & (v <= rows - 1)
    i, j = np.clip(u.astype(int), 0, columns - 2), np.clip(v.astype(int), 0, rows - 2)
    fu, fv = u - i, v - j
    found = (
        matrix[j, i] * (1 - fu) * (1 - fv) + matrix[j, i + 1] * fu * (1 - fv)
        + matrix[j + 1, i] * (1 - fu) * fv + matrix[j + 1, i + 1] * fu * fv
    )  # fmt: skip
    return OnBed(x, y, np.where(inside, found, np.nan))


def _inside(patch: Patch, x: Floats, y: Floats, shrink: float = 1.0) -> np.ndarray[tuple[int, int], np.dtype[np.bool_]]:
    across = np.abs(x[None, :] - patch.x) <= shrink * patch.width / 2
    return np.asarray(across & (np.abs(y[:, None] - patch.y) <= shrink * patch.depth / 2))


@dataclass(frozen=True, slots=True)
class SeenMap:
    """An image over the bed: ``shown`` and ``true`` (ny, nx) K on ``x``, ``y`` m, ``emissivity`` used and ``u`` K standard.

    ``patches`` gives for each its name, shown and true mean (K); ``found_emissivity`` that of the bed's surface from the reference
    patches, with its standard uncertainty, None without any; ``warnings`` in words.
    """

    x: Floats
    y: Floats
    shown: Floats
    true: Floats
    emissivity: float
    u: Floats
    patches: tuple[tuple[str, float, float], ...]
    found_emissivity: tuple[float, float] | None
    warnings: tuple[str, ...]


def see(
    stored: StoredImage,
    data: bytes,
    instrument: Instrument,
    width: float,
    depth: float,
    film_thickness: float | None = None,
    cooled: float = 0.0,
) -> SeenMap:
    """The true surface map behind an image.

    The bed's emissivity comes from reference patches on it where there are any (the ring around each compared with the patch), else
    from what was entered, else from the library. Uncertainties: emissivity, reflected temperature (3 K), instrument's limits,
    and what the surface has ``cooled`` by (K) through an open lid, which is added.
    """
    instrument = instrument.as_set(stored.setting)
    matrix = shown_matrix(stored, data)
    x, y, shown = on_bed(matrix, homography(stored.corners, width, depth), width, depth)
    band = (instrument.band_low, instrument.band_high)
    library = lookup(seen_surfaces(), stored.surface, "surface")
    e, ue = library.emissivity.typical, 0.5 * (library.emissivity.high - library.emissivity.low) / 1.645
    if stored.emissivity > 0.0:
        e, ue = stored.emissivity, 0.02
    found, means = [], []
    covered = np.zeros(shown.shape, dtype=bool)
    for patch in stored.patches:
        covered |= _inside(patch, x, y, 1.15)
    for patch in stored.patches:
        surface = lookup(seen_surfaces(), patch.surface, f"patch {patch.name}")
        own = patch.emissivity or surface.emissivity.typical
        on = _inside(patch, x, y, 0.8) & np.isfinite(shown)
        if not on.any():
            raise InputError(f"The patch “{patch.name}” lies outside what the image shows of the bed.")
        here = float(shown[on].mean())
        true = float(infrared.true_temperature(here, own, instrument.emissivity, stored.reflected, band))
        means.append((patch.name, here, true))
        ring = _inside(patch, x, y, 2.2) & ~covered & np.isfinite(shown)
        if surface.reference and ring.any() and np.isfinite(true):
            u_own = 0.5 * (surface.emissivity.high - surface.emissivity.low) / 1.645
            values = [
                infrared.emissivity_of(
                    float(shown[ring].mean()), instrument.emissivity,
                    float(infrared.true_temperature(here, own + d, instrument.emissivity, stored.reflected, band)) + dT,
                    stored.reflected, band,
                )
                for d, dT in ((0.0, 0.0), (u_own, 0.0), (0.0, 0.3))
            ]  # fmt: skip
            found.append((values[0], float(np.hypot(values[1] - values[0], values[2] - values[0]))))
    measured = None
    if found:
        w = np.array([1.0 / max(u, 1e-3) ** 2 for _, u in found])
        e = float(np.clip((w * [v for v, _ in found]).sum() / w.sum(), 0.02, 1.0))
        ue = float(max(1.0 / np.sqrt(w.sum()), min(u for _, u in found) * 0.7))  # references of one kind err alike
        measured = (e, ue)

    def convert(value: float, mirror: float) -> Floats:
        return infrared.true_temperature(shown, min(max(value, 0.02), 1.0), instrument.emissivity, mirror, band)

    true_map = convert(e, stored.reflected)
    by_e = 0.5 * (convert(e + ue, stored.reflected) - convert(e - ue, stored.reflected))
    by_mirror = 0.5 * (convert(e, stored.reflected + 3.0) - convert(e, stored.reflected - 3.0))
    limit = (instrument.accuracy + instrument.accuracy_of_reading * np.abs(shown - 273.15)) / np.sqrt(3.0)
    u = np.sqrt(by_e**2 + by_mirror**2 + limit**2 + (UNKNOWN * cooled) ** 2)
    true_map = true_map + cooled
    for patch in stored.patches:
        true_map[_inside(patch, x, y)] = np.nan
    warnings = list(infrared.warnings_for(stored.angle, library.film, film_thickness, e))
    if not np.isfinite(true_map).any():
        raise InputError("No temperature explains this image with this emissivity and reflected temperature.")
    if not found:
        warnings.append("No reference patch on it: the emissivity is taken from the library, not from this bed.")
    return SeenMap(x, y, shown, true_map, e, u, tuple(means), measured, tuple(warnings))
