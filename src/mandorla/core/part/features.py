"""What about a part's shape makes it lift, crack or come loose: found on its outlines and sections, each with its place."""

from __future__ import annotations

import math
from dataclasses import dataclass, replace
from typing import Final, Literal

import numpy as np

from mandorla.core.part.mesh import Floats, Mesh
from mandorla.core.part.sections import Sections, cut

Kind = Literal["long edge", "sharp corner", "section jump", "small foot", "thin plate", "small piece"]
LONG_EDGE: Final = 0.1  # m without a break or a bend
SHARP: Final = math.radians(60.0)  # turn of the outline without a radius
_CORNER_SIDE: Final = 0.006  # m of straight line on both sides of a sharp corner
_STRAIGHT: Final = math.radians(1.5)
JUMP: Final = 0.35  # of the larger section, within a slab or two
SLENDER: Final = 3.5  # height over the foot's narrow side
THIN: Final = 1.0 / 25.0  # height over length of a plate that has little to keep itself flat with
_PLATE: Final = 0.08  # m from which a plate is called one
SMALL: Final = 4e-4  # m² of a piece that stands by itself
_WHY: Final[dict[str, str]] = {
    "long edge": "contraction adds up along it and peels at its ends; a relief cut or a bend in it halves that",
    "sharp corner": "the peel gathers in it; a radius of some millimetres, or a round brim, spreads it",
    "section jump": "the larger section contracts against the smaller one: cracks start there",
    "small foot": "the nozzle's pull and the part's own bending act on little area: a brim or a broader foot",
    "thin plate": "too thin to stay flat by its own stiffness once it is free; ribs, or slower cooling",
    "small piece": "little area to hold, and short layers that stay hot: group it, or give it a brim",
}


@dataclass(frozen=True, slots=True)
class Feature:
    """One of them: its kind, where it is (m, in the part's own coordinates), its size in words and why it matters."""

    kind: Kind
    x: float
    y: float
    z: float
    size: str

    @property
    def why(self) -> str:
        """What it does and what helps."""
        return _WHY[self.kind]


def outlines_at(mesh: Mesh, height: float) -> list[Floats]:
    """Closed outlines (k, 2) m of the solid at a height, material on their left: outer ones run counter-clockwise."""
    t = mesh.triangles
    straddles = (t[:, :, 2].min(axis=1) < height) & (t[:, :, 2].max(axis=1) > height)
    if not straddles.any():
        return []
    segments = cut(t[straddles], np.full(int(straddles.sum()), height))
    grain = max(float(mesh.size.max()) * 1e-7, 1e-9)
    key = np.round(segments / grain).astype(np.int64)
    begins: dict[tuple[int, int], list[int]] = {}
    for i, (a, _) in enumerate(key):
        begins.setdefault((int(a[0]), int(a[1])), []).append(i)
    left, found = np.ones(len(segments), dtype=bool), []
    for start in range(len(segments)):
        if not left[start]:
            continue
        loop, here = [], start
        while left[here]:
            left[here] = False
            loop.append(segments[here, 0])
            follow = [i for i in begins.get((int(key[here, 1, 0]), int(key[here, 1, 1])), []) if left[i]]
            if not follow:
                break
            here = follow[0]
        if len(loop) >= 3:
            found.append(_merged(np.array(loop)))
    return [loop for loop in found if len(loop) >= 3]


def _merged(loop: Floats) -> Floats:
    """The loop without vertices at which it hardly turns."""
    ahead = np.roll(loop, -1, axis=0) - loop
    keep = np.hypot(ahead[:, 0], ahead[:, 1]) > 1e-9
    loop = loop[keep]
    if len(loop) < 3:
        return loop
    turn = _turns(loop)
    return np.asarray(loop[np.abs(turn) > _STRAIGHT])


def _turns(loop: Floats) -> Floats:
    """Change of direction (k,) at every vertex, positive to the left."""
    ahead = np.roll(loop, -1, axis=0) - loop
    direction = np.arctan2(ahead[:, 1], ahead[:, 0])
    return np.asarray(np.angle(np.exp(1j * (direction - np.roll(direction, 1)))))


def area_of(loop: Floats) -> float:
    """Signed area (m²) of an outline; negative for a hole."""
    x, y = loop.T
    return 0.5 * float(np.sum(x * np.roll(y, -1) - np.roll(x, -1) * y))


def find_features(mesh: Mesh, sections: Sections) -> tuple[Feature, ...]:
    """All of them, the gravest kinds of the part first as listed in ``Kind``."""
    foot = outlines_at(mesh, min(0.5 * sections.dz, 2e-4) + 1e-7)
    outer = [loop for loop in foot if area_of(loop) > 0.0]
    found: list[Feature] = []
    for loop in outer:
        found += _edges(loop) + _corners(loop)
    found += _jumps(sections)
    found += _foot(mesh, sections, outer)
    order = list(_WHY)
    return tuple(sorted(found, key=lambda f: order.index(f.kind)))


def turned_features(features: tuple[Feature, ...], degrees: int) -> tuple[Feature, ...]:
    """The features of the part turned about the vertical by a multiple of 90 degrees."""
    c, s = ((1.0, 0.0), (0.0, 1.0), (-1.0, 0.0), (0.0, -1.0))[(degrees // 90) % 4]
    return tuple(replace(f, x=c * f.x - s * f.y, y=s * f.x + c * f.y) for f in features)


def _edges(loop: Floats) -> list[Feature]:
    ahead = np.roll(loop, -1, axis=0) - loop
    length = np.hypot(ahead[:, 0], ahead[:, 1])
    found = []
    for i in np.argsort(-length)[:4]:
        if length[i] >= LONG_EDGE:
            x, y = loop[i] + 0.5 * ahead[i]
            found.append(Feature("long edge", float(x), float(y), 0.0, f"{1e3 * length[i]:.0f} mm"))
    return found


def _corners(loop: Floats) -> list[Feature]:
    ahead = np.roll(loop, -1, axis=0) - loop
    length = np.hypot(ahead[:, 0], ahead[:, 1])
    turn = _turns(loop)
    sharp = (turn > SHARP) & (length > _CORNER_SIDE) & (np.roll(length, 1) > _CORNER_SIDE)
    picked = sorted(np.flatnonzero(sharp), key=lambda i: -turn[i])[:6]
    return [
        Feature("sharp corner", float(loop[i, 0]), float(loop[i, 1]), 0.0, f"{180 - math.degrees(turn[i]):.0f}° inside")
        for i in picked
    ]


def _jumps(sections: Sections) -> list[Feature]:
    """Heights at which the section changes by a third and stays changed; neighbours count once."""
    area, n = sections.area, sections.area.size
    if n < 12:
        return []
    before = np.array([area[max(0, i - 4) : i - 1].mean() if i > 1 else area[0] for i in range(n)])
    after = np.array([area[i + 1 : i + 4].mean() if i < n - 2 else area[-1] for i in range(n)])
    change = np.abs(after - before) / np.maximum(np.maximum(after, before), 1e-12)
    change[:4] = change[-4:] = 0.0
    found: list[Feature] = []
    while (i := int(np.argmax(change))) >= 0 and change[i] >= JUMP and len(found) < 4:
        x, y = sections.x_extent[i, 1], 0.5 * float(sections.y_extent[i].sum())
        word = "smaller" if after[i] < before[i] else "larger"
        found.append(
            Feature(
                "section jump",
                float(x),
                y,
                float(sections.z[i]),
                f"{100 * change[i]:.0f} % {word} at {1e3 * sections.z[i]:.0f} mm",
            )
        )
        change[max(0, i - 8) : i + 9] = 0.0
    return found


def _foot(mesh: Mesh, sections: Sections, outer: list[Floats]) -> list[Feature]:
    found: list[Feature] = []
    size = mesh.size
    height, longest = float(size[2]), float(size[:2].max())
    hull = sections.footprint
    narrow = float(np.ptp(hull, axis=0).min())
    middle = 0.5 * (hull.min(axis=0) + hull.max(axis=0))
    if height > SLENDER * narrow:
        found.append(
            Feature(
                "small foot",
                float(middle[0]),
                float(middle[1]),
                0.0,
                f"{height / narrow:.1f} times as tall as its foot",
            )
        )
    if longest > _PLATE and height < THIN * longest:
        found.append(Feature("thin plate", float(middle[0]), float(middle[1]), height, f"{1e3 * height:.1f} mm thick"))
    if len(outer) > 1:
        for loop in sorted(outer, key=area_of):
            if area_of(loop) < SMALL and len(found) < 8:
                x, y = loop.mean(axis=0)
                found.append(
                    Feature("small piece", float(x), float(y), 0.0, f"{1e4 * area_of(loop):.1f} cm² by itself")
                )
    return found
