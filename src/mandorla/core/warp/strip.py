"""Incremental Timoshenko half-strip on normal and shear springs, a block of layers at a time.

Unknowns at each node are the axial displacement u at the underside, the deflection w and the rotation psi, with
u_x(z) = u - z psi. A block's free contraction acts as a force at its mid plane on what stands up to there (midpoint rule);
the springs of the grip are softened by the part's own compliance. Half the length is solved, symmetric about x = 0.
References: Timoshenko, Bi-metal thermostats, 1925; Hetenyi, Beams on elastic foundation, 1946; the factors of the
plate effect, of the end region and of the local compliance were found against full three-dimensional solutions.
"""

from __future__ import annotations

from typing import Final, NamedTuple

import numpy as np

from mandorla.core.compiled import compiled
from mandorla.core.part.mesh import Floats
from mandorla.core.warp.banded import strip_solve

CORNER_FACTOR: Final = 1.4  # corner peel over mid-edge peel of the strip
NORMAL_COMPLIANCE: Final = 0.7  # of the part's own height over E
SHEAR_COMPLIANCE: Final = 1.0  # of the part's own height over G
END_REGION: Final = 0.3  # of the height, over which the film force enters
_SHEAR_FACTOR: Final = 5.0 / 6.0


class StripBlocks(NamedTuple):
    """Blocks of one half-strip, from the foot up, arrays (m,).

    ``bottom``, ``top`` and ``half`` length in m, effective ``width`` and ``plan_width`` in m, moduli while printing and cold in Pa,
    free contractions: of the ``fresh`` film, of what follows until the end of the print (``late``), of the ``cooling`` down.
    ``poisson`` of the polymer.
    """

    bottom: Floats
    top: Floats
    half: Floats
    width: Floats
    plan_width: Floats
    E_print: Floats
    E_cold: Floats
    fresh: Floats
    late: Floats
    cooling: Floats
    poisson: float


class StripBond(NamedTuple):
    """What holds the strip: stiffness ``kn`` normal and ``kt`` along the plate in N/m³; ``strength`` (m,) Pa and ``energy`` (m,)
    J/m² while each block is printed, the last ones until the release."""

    kn: float
    kt: float
    strength: Floats
    energy: Floats


class StripBrim(NamedTuple):
    """A brim beyond the part: axial stiffness ``EA`` in N (0: none) and ``height`` of its layer in m."""

    EA: float
    height: float


class StripRun(NamedTuple):
    """Result of one half-strip.

    ``x`` (n,) m of the nodes; peak ``peel`` (m,) Pa by block with the corner factor; ``capacity`` (m,) Pa; ``detached`` share by
    block (m+1,; the last one after cooling); end ``deflection`` m by block (m+2,; printed after each block, then after cool-down,
    after release); deflection along x after release, ``released`` (n,) m. ``outermost`` (m+2,) Pa is the pull at the end, with the
    corner factor, and ``kn`` (m+2,) N/m³ the bond with what is soft above it, after each block, contracted, and cold.
    """

    x: Floats
    peel: Floats
    capacity: Floats
    detached: Floats
    deflection: Floats
    released: Floats
    outermost: Floats
    kn: Floats

    def times(self, k: float) -> StripRun:
        """The bonded strip where everything contracts ``k`` times as much."""
        return self._replace(
            peel=k * self.peel, deflection=k * self.deflection, released=k * self.released, outermost=k * self.outermost
        )

    def lets_go(self, strength: Floats, energy: Floats) -> bool:
        """Whether a strip that was bonded all along would have let go anywhere, of a bond of such ``strength`` (m,) Pa and
        ``energy`` (m,) J/m²; where not, it is the strip that may let go."""
        last = self.outermost.size - strength.size
        s, e = (np.concatenate([v, np.full(last, v[-1])]) for v in (strength, energy))
        return bool(((self.outermost > s) & (np.square(self.outermost) / (2.0 * self.kn) > e)).any())


class _Stiffness(NamedTuple):
    """Axial, coupling, bending and shear stiffness of each element (n-1,): E dA, z E dA, z² E dA."""

    EA: Floats
    ES: Floats
    EI: Floats
    GA: Floats


def strip_nodes(half_foot: float, half_most: float, brim: float, coarse: int = 18, fine: float = 500.0) -> Floats:
    """Node positions (n,) in m: graded towards the footprint's end, then over the overhang or the brim.

    Elements are half the foot over ``fine`` at its end and over ``coarse`` in its middle.
    """
    finest = half_foot / fine
    ratio = 1.3
    sizes = [finest]
    while sum(sizes) < half_foot:
        sizes.append(min(sizes[-1] * ratio, half_foot / coarse))
    steps = np.array(sizes[::-1])
    inner = np.concatenate([[0.0], np.cumsum(steps)])
    inner *= half_foot / inner[-1]
    reach = max(half_most, half_foot + brim)
    if reach <= half_foot * 1.0001:
        return inner
    outer = half_foot + (reach - half_foot) * np.linspace(0.0, 1.0, 7)[1:]
    if brim > 0.0:
        outer = np.unique(np.concatenate([outer, [half_foot + brim]]))
    return np.concatenate([inner, outer])


@compiled
def _assemble(B: Floats, x: Floats, section: _Stiffness, kn: Floats, kt: Floats, pinned: bool) -> None:
    """Lower band of the stiffness, with springs kn, kt per node (n,) in N/m."""
    n = x.size
    B[:, :] = 0.0
    for e in range(n - 1):
        L = x[e + 1] - x[e]
        a, s, i, g = section.EA[e] / L, section.ES[e] / L, section.EI[e] / L, section.GA[e] * _SHEAR_FACTOR / L
        p = 3 * e
        # axial and bending, coupled because the reference line is the underside
        B[p, 5] += a
        B[p + 3, 5] += a
        B[p + 3, 2] -= a
        B[p + 2, 5] += i
        B[p + 5, 5] += i
        B[p + 5, 2] -= i
        B[p + 2, 3] -= s
        B[p + 5, 3] -= s
        B[p + 5, 0] += s
        B[p + 3, 4] += s
        # shear, one integration point: gamma = dw/dx - psi
        B[p + 1, 5] += g
        B[p + 4, 5] += g
        B[p + 4, 2] -= g
        q = 0.5 * g * L
        B[p + 2, 4] += q
        B[p + 5, 1] += q
        B[p + 4, 3] -= q
        B[p + 5, 4] -= q
        r = 0.25 * g * L * L
        B[p + 2, 5] += r
        B[p + 5, 5] += r
        B[p + 5, 2] += r
    stiffest = 0.0
    for j in range(3 * n):
        stiffest = max(stiffest, B[j, 5])
    for j in range(n):
        B[3 * j, 5] += kt[j]
        B[3 * j + 1, 5] += kn[j]
    # symmetry about x = 0, and w = 0 there once no spring holds the strip
    B[0, 5] += 1e8 * stiffest
    B[2, 5] += 1e8 * stiffest
    if pinned:
        B[1, 5] += 1e8 * stiffest


@compiled
def _film_load(f: Floats, x: Floats, N: float, z: float, end: float, region: float) -> None:
    """Add the nodal forces of a contraction force N at height z that enters over ``region`` before ``end``."""
    for e in range(x.size - 1):
        middle = 0.5 * (x[e] + x[e + 1])
        if middle >= end:
            break
        here = N * min(1.0, (end - middle) / region)
        p = 3 * e
        f[p] += here
        f[p + 3] -= here
        f[p + 2] -= here * z
        f[p + 5] += here * z


@compiled
def _no_stiffness(elements: int) -> _Stiffness:
    return _Stiffness(np.zeros(elements), np.zeros(elements), np.zeros(elements), np.zeros(elements))


@compiled
def _add_slice(section: _Stiffness, x: Floats, half: float, a: float, b: float, s: float) -> None:
    """Add the material between heights a and b, of s = modulus times width, to the elements within the half length."""
    for e in range(x.size - 1):
        if 0.5 * (x[e] + x[e + 1]) < half:
            section.EA[e] += s * (b - a)
            section.ES[e] += s * (b * b - a * a) / 2.0
            section.EI[e] += s * (b**3 - a**3) / 3.0
            section.GA[e] += s * (b - a)


@compiled
def _add_new_halves(section: _Stiffness, x: Floats, blocks: StripBlocks, step: int) -> None:
    """The upper half of the block below and the lower half of this one come to stand."""
    for j in range(max(0, step - 1), min(step + 1, blocks.bottom.size)):
        middle = 0.5 * (blocks.bottom[j] + blocks.top[j])
        a, b = (middle, blocks.top[j]) if j < step else (blocks.bottom[j], middle)
        _add_slice(section, x, blocks.half[j], a, b, blocks.E_print[j] * blocks.width[j])


@compiled
def _as_plate(
    section: _Stiffness, raw: _Stiffness, plane: float, nu: float, h: float, foot: Floats, brim: StripBrim
) -> None:
    """Stiffness with the plate effect; beyond the part the brim's layer, or a feather that follows rigidly."""
    floor = 1e-7 * raw.EA[0]
    for e in range(raw.EA.size):
        section.EA[e], section.ES[e] = plane * raw.EA[e], plane * raw.ES[e]
        section.EI[e], section.GA[e] = plane * raw.EI[e], raw.GA[e] / (2.0 * (1.0 + nu))
        if raw.EA[e] <= 0.0:
            on_brim = brim.EA > 0.0 and foot[e + 1] > 0.0
            stiff = brim.EA if on_brim else floor
            thick = brim.height if on_brim else h
            section.EA[e], section.ES[e] = stiff, 0.5 * stiff * thick
            section.EI[e], section.GA[e] = stiff * thick * thick / 3.0, 0.4 * stiff


@compiled
def _load(f: Floats, x: Floats, blocks: StripBlocks, step: int, h: float, plate: float) -> None:
    """Forces (3n,) of what contracts in a step: the fresh film, then all that stands until it is cold, nothing at the release."""
    m = blocks.bottom.size
    f[:] = 0.0
    if step < m:
        force = (
            blocks.E_print[step] * blocks.width[step] * (blocks.top[step] - blocks.bottom[step]) * blocks.fresh[step]
        )
        _film_load(f, x, plate * force, h, blocks.half[step], END_REGION * h)
    elif step < m + 2:
        for j in range(m):
            strain = blocks.late[j] if step == m else blocks.cooling[j]
            E = blocks.E_print[j] if step == m else blocks.E_cold[j]
            force = E * blocks.width[j] * (blocks.top[j] - blocks.bottom[j]) * strain
            _film_load(f, x, plate * force, 0.5 * (blocks.bottom[j] + blocks.top[j]), blocks.half[j], END_REGION * h)


class _Springs(NamedTuple):
    """The bond node by node (n,): contact area ``foot`` m², forces ``normal`` and ``shear`` N, whether it is ``held`` (1 or 0)."""

    foot: Floats
    normal: Floats
    shear: Floats
    held: Floats


@compiled
def _hand_back(f: Floats, springs: _Springs, i: int) -> None:
    """What a spring that lets go carried acts on the part."""
    f[3 * i] += springs.shear[i]
    f[3 * i + 1] += springs.normal[i]
    springs.normal[i], springs.shear[i], springs.held[i] = 0.0, 0.0, 0.0


@compiled
def _let_go(f: Floats, springs: _Springs, strength: float, energy: float, kn: float) -> bool:
    """Let go from the end inwards where both strength and energy are exceeded; whether any did."""
    outermost = springs.foot.size - 1
    while outermost >= 0 and (springs.foot[outermost] <= 0.0 or springs.held[outermost] == 0.0):
        outermost -= 1
    changed = False
    while outermost >= 0 and springs.held[outermost] > 0.0:
        t = CORNER_FACTOR * springs.normal[outermost] / springs.foot[outermost]
        if t <= strength or t * t / (2.0 * kn) <= energy:
            break
        _hand_back(f, springs, outermost)
        changed = True
        outermost -= 1
    return changed


@compiled
def _worst_pull(springs: _Springs) -> float:
    worst = 0.0
    for i in range(springs.foot.size):
        if springs.held[i] > 0.0:
            worst = max(worst, springs.normal[i] / springs.foot[i])
    return worst


@compiled
def _detached_share(springs: _Springs) -> float:
    gone = 0.0
    for i in range(springs.foot.size):
        if springs.foot[i] > 0.0 and springs.held[i] == 0.0:
            gone += springs.foot[i]
    return float(gone / springs.foot.sum())


@compiled
def run_strip(x: Floats, foot: Floats, blocks: StripBlocks, bond: StripBond, brim: StripBrim, debond: bool) -> StripRun:
    """Print, cool and release one half-strip.

    Parameters
    ----------
    x
        Nodes (n,) in m from the middle outwards, see :func:`strip_nodes`.
    foot
        Contact area at each node (n,) in m², zero where nothing touches.
    blocks, bond, brim
        What stands, what holds it, and what lies beyond it.
    debond
        Whether springs let go where strength and energy are both exceeded.

    Returns
    -------
    StripRun
        Peel, capacity and deflection, block by block, and the released shape.
    """
    n, m = x.size, blocks.bottom.size
    nu = blocks.poisson
    peel, capacity = np.zeros(m), np.zeros(m)
    outermost, stiff = np.zeros(m + 2), np.ones(m + 2)
    end = n - 1
    while end > 0 and foot[end] <= 0.0:
        end -= 1
    detached, deflection = np.zeros(m + 1), np.zeros(m + 2)
    raw, section = _no_stiffness(n - 1), _no_stiffness(n - 1)
    B, f, total = np.empty((3 * n, 6)), np.empty(3 * n), np.zeros(3 * n)
    springs = _Springs(foot, np.zeros(n), np.zeros(n), (foot > 0.0).astype(np.float64))
    spring_n, spring_t = np.zeros(n), np.zeros(n)
    part_end = blocks.half[0]
    last_on_part = n - 1
    while last_on_part > 0 and x[last_on_part] > part_end * 1.0001:
        last_on_part -= 1

    for step in range(m + 3):
        h = 0.5 * (blocks.bottom[step] + blocks.top[step]) if step < m else blocks.top[m - 1]
        if step <= m:
            _add_new_halves(raw, x, blocks, step)
        elif step == m + 1:
            # cool-down and release act on the unrelaxed, cold polymer
            raw.EA[:], raw.ES[:], raw.EI[:], raw.GA[:] = 0.0, 0.0, 0.0, 0.0
            for j in range(m):
                _add_slice(raw, x, blocks.half[j], blocks.bottom[j], blocks.top[j], blocks.E_cold[j] * blocks.width[j])
        block = min(step, m - 1)
        q = blocks.plan_width[block] / (6.0 * h)
        c = 1.0 - np.tanh(q) / q
        plane = 1.0 / (1.0 - nu * nu * c)
        E_mean = raw.EA[0] / (blocks.width[block] * h)
        soft = min(h, part_end)
        kn = 1.0 / (1.0 / bond.kn + NORMAL_COMPLIANCE * soft / E_mean)
        kt = 1.0 / (1.0 / bond.kt + SHEAR_COMPLIANCE * soft * 2.0 * (1.0 + nu) / E_mean)
        _as_plate(section, raw, plane, nu, h, foot, brim)
        _load(f, x, blocks, step, h, plane * (1.0 + nu * c))
        released = step == m + 2
        if released:
            for i in range(n):
                _hand_back(f, springs, i)

        for _ in range(4 * n):
            loose = springs.held.max() == 0.0
            for i in range(n):
                spring_n[i], spring_t[i] = kn * foot[i] * springs.held[i], kt * foot[i] * springs.held[i]
            _assemble(B, x, section, spring_n, spring_t, loose)
            if loose:
                f[1] = 0.0
            strip_solve(B, f)
            for i in range(3 * n):
                total[i] += f[i]
            for i in range(n):
                springs.normal[i] += spring_n[i] * f[3 * i + 1]
                springs.shear[i] += spring_t[i] * f[3 * i]
            f[:] = 0.0
            if not debond or released or not _let_go(f, springs, bond.strength[block], bond.energy[block], kn):
                break
        if not released:
            outermost[step], stiff[step] = CORNER_FACTOR * springs.normal[end] / foot[end], kn
        if step < m:
            peel[step] = CORNER_FACTOR * _worst_pull(springs)
            capacity[step] = max(bond.strength[step], np.sqrt(2.0 * kn * bond.energy[step]))
        # the contraction of what stands (step m) is counted to the last block
        lift = total[3 * last_on_part + 1] - total[1]
        at = step if step < m else step - 1
        deflection[at] = lift
        if not released:
            detached[at] = _detached_share(springs)
    return StripRun(x, peel, capacity, detached, deflection, total[1::3].copy(), outermost, stiff)
