"""Mandorla's own temperature map: lightness rises evenly from deep slate over moss to pale sand.

The control points lie on a line of even CIELAB lightness steps (L* 22 to 92), so equal temperature steps look equal and
the map also reads in grey; it is neither a rainbow nor the palette of an imager.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

# L*, a*, b* at even steps of lightness
_CONTROL = np.array(
    [
        [22.0, 4.0, -24.0],
        [34.0, -2.0, -26.0],
        [46.0, -14.0, -14.0],
        [58.0, -20.0, 8.0],
        [70.0, -12.0, 32.0],
        [81.0, 4.0, 40.0],
        [92.0, 4.0, 24.0],
    ]
)
_WHITE = np.array([0.95047, 1.0, 1.08883])


def _lab_to_rgb(lab: NDArray[np.float64]) -> NDArray[np.float64]:
    """sRGB (n, 3) 0-1 from CIELAB (D65), CIE 15:2004 and IEC 61966-2-1."""
    fy = (lab[:, 0] + 16.0) / 116.0
    f = np.column_stack([fy + lab[:, 1] / 500.0, fy, fy - lab[:, 2] / 200.0])
    xyz = np.where(f > 6 / 29, f**3, 3 * (6 / 29) ** 2 * (f - 4 / 29)) * _WHITE
    to_rgb = np.array(
        [[3.2404542, -1.5371385, -0.4985314], [-0.9692660, 1.8760108, 0.0415560], [0.0556434, -0.2040259, 1.0572252]]
    )
    linear = np.clip(xyz @ to_rgb.T, 0.0, 1.0)
    return np.asarray(np.where(linear <= 0.0031308, 12.92 * linear, 1.055 * linear ** (1 / 2.4) - 0.055))


def temperature_colors(n: int = 256) -> NDArray[np.uint8]:
    """The map as (n, 3) bytes, cold to hot."""
    at = np.linspace(0.0, 1.0, len(_CONTROL))
    wanted = np.linspace(0.0, 1.0, n)
    lab = np.column_stack([np.interp(wanted, at, _CONTROL[:, i]) for i in range(3)])
    return np.round(255 * _lab_to_rgb(lab)).astype(np.uint8)
