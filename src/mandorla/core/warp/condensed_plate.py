"""A loose plate with the part on it, condensed to two beams: how far the part lifts it, and how much more it would stand.

Along either direction the part and the sheet below it bend as one beam on the seat: the seat presses only, the magnet pulls with
p exp(-gap/reach), clips are springs. Films of the quick estimate come on block by block, each with the moment of its force about
the plate, and what is born on a bent plate is born without stress. In-plane the seat holds the foot where it is. Deflections are
small beside what shape they have (Hermite beams); the largest gap is that of both directions together. How much more moment the
hold stands is found by running with the films' force scaled, up to the fold at which the plate comes off. Constants are fitted
against full simulations (benchmarks/plate_lift.py).
"""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import Final, NamedTuple

import numpy as np

from mandorla.core.compiled import compiled
from mandorla.core.part.mesh import Floats
from mandorla.core.warp.banded import beam_solve
from mandorla.core.warp.fe_result import NOTICED, noticed_height
from mandorla.core.warp.loose_plate import SEAT, SheetHold
from mandorla.core.warp.strip import END_REGION

_ON_PART: Final = 14  # elements of a beam from the part's middle to its end, and from there to the plate's edge
_BEYOND: Final = 7
_STEPS: Final = 8  # steps in which the blocks come on
_TURNS: Final = 100
_NEWTON: Final = 60  # of them that may be Newton's
_PLAIN: Final = 4  # turns without one, where there is none
_AGREED: Final = 3e-4  # relative change of the deflection at which a step is done
SPILL: Final = 1.0  # of the sheet's own length on its magnet: how much of it beside the part bends along
# fitted by benchmarks/plate_lift.py: share of the films' moment that arrives; height over length above which films and stiffness
# count less and less (Saint-Venant); exponent of the foot's solid share (thin walls pull locally); share of the magnet's pull with
# which the plate counts as off
MOMENT: Final = 1.12
DEPTH: Final = 0.5
HOLLOW: Final = 0.25
LEFT: Final = 0.18
_SCALES: Final = 1.25  # steps of the films' force in which the fold is looked for
_FAR: Final = 1e7  # times the films' force beyond which nothing is looked for
_LEAST: Final = 0.02  # and below which
PLATE_SPREAD: Final = 0.22  # ln-standard deviation of the moment that a plate stands, against full simulations


class BeamBlocks(NamedTuple):
    """What stands along one direction, block by block from the plate up (m,): ``half`` length and height of the ``middle`` in m,
    film force ``N`` in N, bending stiffness about the plate that it adds (``EI``) in N m²."""

    half: Floats
    middle: Floats
    N: Floats
    EI: Floats


class BeamSeat(NamedTuple):
    """What is below one beam: nodes ``x`` (n,) m, ``area`` (n,) m² of seat and ``clips`` (n,) N/m at them, bending stiffness of the
    sheet (N m²), the magnet's ``pull`` in Pa and its ``reach`` in m."""

    x: Floats
    area: Floats
    clips: Floats
    EI: float
    pull: Floats
    reach: float


@dataclass(frozen=True, slots=True)
class PlateLift:
    """What a loose plate does: largest ``gap`` (m) by the end of the print, ``height`` (m) from which it is noticed (inf: never),
    whether it comes ``off`` altogether; ``stands``: how many times the films' force brings it to the accepted gap or off;
    what it is called and held by."""

    gap: float
    height: float
    off: bool
    stands: float
    name: str
    keeper: str
    magnet: bool = True

    @property
    def noticed(self) -> bool:
        """Whether the gap counts as lifted at all."""
        return self.off or self.gap > NOTICED


@compiled
def _band(EI: Floats, x: Floats, K: Floats) -> None:
    """Lower band (2n, 4), diagonal last, of Hermite beams in deflection and slope at their ends, in a row."""
    K[:, :] = 0.0
    for e in range(x.size - 1):
        L = x[e + 1] - x[e]
        k = EI[e] / L**3
        K[2 * e, 3] += 12.0 * k
        K[2 * e + 1, 2] += 6.0 * L * k
        K[2 * e + 1, 3] += 4.0 * L * L * k
        K[2 * e + 2, 1] -= 12.0 * k
        K[2 * e + 2, 2] -= 6.0 * L * k
        K[2 * e + 2, 3] += 12.0 * k
        K[2 * e + 3, 0] += 6.0 * L * k
        K[2 * e + 3, 1] += 2.0 * L * L * k
        K[2 * e + 3, 2] -= 6.0 * L * k
        K[2 * e + 3, 3] += 4.0 * L * L * k


@compiled
def _held_at(seat: BeamSeat, beams: Floats, w: Floats, tangent: bool, K: Floats, load: Floats) -> None:
    """Add what holds the beams at the deflections ``w`` (2n,), to their band ``K`` and to their ``load`` (2n,): the seat, the clips
    and the magnet, by its ``tangent`` or by its pull over its way."""
    K[:, :] = beams
    for i in range(seat.x.size):
        gap = w[2 * i] - seat.pull[i] / SEAT
        held = SEAT
        if gap > 0.0:
            pull = seat.pull[i] * math.exp(-gap / seat.reach)
            held = -pull / seat.reach if tangent else pull / w[2 * i]
            if tangent:
                load[2 * i] -= (pull - held * w[2 * i]) * seat.area[i]
        K[2 * i, 3] += (held + 50.0) * seat.area[i] + (seat.clips[i] if w[2 * i] > 0.0 else 0.0)
    K[1, 3] += 1e6 * K[1, 3]  # the middle does not tilt


@compiled
def _settle(seat: BeamSeat, beams: Floats, F: Floats, w: Floats) -> None:
    """Deflections ``w`` (2n,) that the forces ``F`` (2n,) leave, from those before on.

    Newton's steps. Where the magnet gives way faster than the beams are stiff, there is no such step: then some turns with its pull
    over its way, which always lead on, until there is one again, or nothing moves any more.
    """
    n = seat.x.size
    K, now = np.empty(beams.shape), np.empty(2 * n)
    plain, calm = 0, False
    for turn in range(_TURNS):
        tangent = plain == 0 and turn < _NEWTON
        now[:] = F
        _held_at(seat, beams, w, tangent, K, now)
        beam_solve(K, now)
        if tangent and not (K[:, 3] > 0.0).all():
            if calm:
                break
            plain = _PLAIN
            continue
        plain = max(plain - 1, 0)
        change, size = 0.0, 1e-7
        for i in range(n):
            change, size = max(change, abs(now[2 * i] - w[2 * i])), max(size, abs(now[2 * i]))
        w[:] = now
        calm = change < _AGREED * size
        if calm and (tangent or turn >= _NEWTON):
            break
        if calm:
            plain = 0


@compiled
def _lift_beam(seat: BeamSeat, blocks: BeamBlocks, scale: float, steps: int) -> tuple[Floats, Floats, Floats]:
    """Print a part on one beam with the films' force scaled: the largest gap and the share of the pull that is left (steps,), and
    the deflection (n,) m at the end."""
    x, n, m = seat.x, seat.x.size, blocks.half.size
    EI = np.full(n - 1, seat.EI)
    w, F, beams = np.zeros(2 * n), np.zeros(2 * n), np.empty((2 * n, 4))
    gaps, kept = np.zeros(steps), np.ones(steps)
    most = seat.pull.max()
    weight = seat.area * seat.pull / most if most > 0.0 else seat.area
    whole = weight.sum()
    done = 0
    for s in range(steps):
        end = (m * (s + 1)) // steps
        for j in range(done, end):
            for e in range(n - 1):
                if 0.5 * (x[e] + x[e + 1]) >= blocks.half[j]:
                    break
                # born without stress on what is bent already
                L = x[e + 1] - x[e]
                k, down, t, u = blocks.EI[j] / L**3, w[2 * e] - w[2 * e + 2], w[2 * e + 1], w[2 * e + 3]
                shear = k * (12.0 * down + 6.0 * L * (t + u))
                F[2 * e] += shear
                F[2 * e + 1] += k * L * (6.0 * down + L * (4.0 * t + 2.0 * u))
                F[2 * e + 2] -= shear
                F[2 * e + 3] += k * L * (6.0 * down + L * (2.0 * t + 4.0 * u))
                EI[e] += blocks.EI[j]
                fade = min(1.0, (blocks.half[j] - 0.5 * (x[e] + x[e + 1])) / (END_REGION * blocks.middle[j]))
                M = scale * blocks.N[j] * blocks.middle[j] * fade
                F[2 * e + 1] -= M
                F[2 * e + 3] += M
        done = end
        _band(EI, x, beams)
        _settle(seat, beams, F, w)
        left = 0.0
        for i in range(n):
            gap = max(w[2 * i] - seat.pull[i] / SEAT, 0.0)
            gaps[s] = max(gaps[s], gap)
            left += weight[i] * math.exp(-gap / seat.reach) if most > 0.0 else weight[i]
        kept[s] = left / whole
    return gaps, kept, w[::2].copy()


@dataclass(frozen=True, slots=True)
class CondensedPlate:
    """Both beams of a part on a loose plate, ready to be loaded; ``steps`` (m,) are the heights (m) that the steps end at."""

    hold: SheetHold
    beams: tuple[tuple[BeamSeat, BeamBlocks], ...]
    heights: Floats

    def run(self, scale: float) -> tuple[Floats, Floats]:
        """Largest gap (m) and share of the pull that is left after each step (steps,), both directions together."""
        gaps, lost = np.zeros(self.heights.size), np.zeros(self.heights.size)
        for seat, blocks in self.beams:
            gap, kept, _ = _lift_beam(seat, blocks, MOMENT * scale, self.heights.size)
            gaps, lost = gaps + gap, lost + (1.0 - kept)
        return gaps, 1.0 - lost

    def stands(self, limit: float, gap: float, off: bool) -> float:
        """How many times the films' force lifts the plate by ``limit`` (m) or off, below 1 where it does already; ``gap`` and
        ``off`` at the force as it is. At most 1e7, at least a fiftieth."""

        def fails(at: float) -> bool:
            lifted, lost = 0.0, 0.0
            for seat, blocks in self.beams:
                gaps, kept, _ = _lift_beam(seat, blocks, MOMENT * at, self.heights.size)
                lifted, lost = lifted + float(gaps[-1]), lost + 1.0 - float(kept[-1])
                if lifted > limit or 1.0 - lost < LEFT:
                    return True
            return False

        step = 1.0 / _SCALES if off or gap > limit else _SCALES
        inner, outer = 1.0, step
        while fails(outer) == (step < 1.0):
            inner, outer = outer, outer * step
            step = step**1.3  # the farther, the less it matters where
            if not _LEAST < outer < _FAR:
                return outer
        for _ in range(3):
            middle = math.sqrt(inner * outer)
            if fails(middle) == (step < 1.0):
                inner = middle
            else:
                outer = middle
        return math.sqrt(inner * outer)


def beam_seat(hold: SheetHold, axis: int, half: float, across: float, middle: tuple[float, float]) -> BeamSeat:
    """The seat below one beam: a part's foot of half length ``half`` and width ``across`` (m), which stands ``middle`` (m) from
    the bed's middle, on the plate as far as its nearer edge."""
    own = (4.0 * hold.stiffness * hold.reach / max(hold.pull, 500.0)) ** 0.25
    edge = max(hold.half[axis] - abs(middle[axis] - hold.middle[axis]), half * 1.02)
    other = 1 - axis
    width = min(2.0 * hold.half[other], across + 2.0 * SPILL * own)
    x = np.concatenate(
        [np.linspace(0.0, half, _ON_PART + 1), half + (edge - half) * np.linspace(0.0, 1.0, _BEYOND + 1)[1:]]
    )
    borders = np.concatenate([[x[0]], 0.5 * (x[1:] + x[:-1]), [x[-1]]])
    clips = np.zeros(x.size)
    for place in hold.clips:
        # a clip off to the side holds by what the sheet between passes on
        aside = max(0.0, abs(place[other] - middle[other]) - 0.5 * across)
        at = abs(place[axis] - middle[axis])
        clips[int(np.abs(x - at).argmin())] += 0.5 * hold.clip_stiffness * math.exp(-aside / own)
    area = np.diff(borders) * width
    pull = np.full(x.size, hold.pull)
    if hold.discs:
        # what pulls on both sides of the middle, under as much of the plate as the beam is wide
        places, each = hold.points()
        away = places + np.array(hold.middle) - np.array(middle)
        under = np.abs(away[:, other]) <= 0.5 * width
        there, _ = np.histogram(np.abs(away[under, axis]), bins=borders, weights=each[under])
        pull = hold.pull * 0.5 * there / area
    return BeamSeat(x, area, clips, hold.stiffness * width, pull, hold.reach)


def plate_lift(plate: CondensedPlate, limit: float) -> PlateLift:
    """What a loose plate does under a part; ``limit`` (m) is the gap that is accepted."""
    gaps, kept = plate.run(1.0)
    off = bool(kept[-1] < LEFT)
    lost = np.flatnonzero(kept < LEFT)
    height = min(noticed_height(plate.heights, gaps), float(plate.heights[lost[0]]) if lost.size else math.inf)
    hold = plate.hold
    return PlateLift(
        float(gaps[-1]), height, off, plate.stands(limit, float(gaps[-1]), off), hold.name, hold.keeper, hold.pull > 0.0
    )


def condensed(
    hold: SheetHold, halves: tuple[Floats, Floats], edges: Floats, widths: tuple[Floats, Floats], modulus: Floats,
    stress: Floats, plane: tuple[float, float], middle: tuple[float, float],
) -> CondensedPlate:  # fmt: skip
    """The condensed plate of a part.

    Parameters
    ----------
    hold
        How the plate is held.
    halves, widths
        Half lengths and effective widths (m,) along and across both directions, m.
    edges
        Heights (m+1,) of the blocks, m.
    modulus, stress
        Modulus and film stress (m,) of the gross section, Pa.
    plane
        Plate effect on the modulus (m,) and on the film force, along both directions alike.
    middle
        The foot's middle from the bed's, m.
    """
    beams = []
    thickness, level = np.diff(edges), 0.5 * (edges[1:] + edges[:-1])
    for axis in (0, 1):
        half, width = halves[axis], widths[axis]
        seat = beam_seat(hold, axis, float(half[0]), 2.0 * float(halves[1 - axis][0]), middle)
        near = np.exp(-((level / (2.0 * DEPTH * half)) ** 2))
        solid = np.clip(width / (2.0 * halves[1 - axis]), 0.02, 1.0) ** HOLLOW
        N = plane[1] * stress * width * thickness * near * solid
        EI = plane[0] * modulus * width * (edges[1:] ** 3 - edges[:-1] ** 3) / 3.0 * near
        beams.append((seat, BeamBlocks(half, level, N, EI)))
    steps = min(_STEPS, level.size)
    ends = edges[(level.size * (np.arange(steps) + 1)) // steps]
    return CondensedPlate(hold, tuple(beams), np.asarray(ends))
