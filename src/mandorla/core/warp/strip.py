"""Incremental Timoshenko half-strip on normal and shear springs, a block of layers at a time.

Unknowns at each node are the axial displacement u at the underside, the deflection w and the rotation psi, with
u_x(z) = u - z psi. A block's free contraction acts as a force at its mid plane on what stands up to there (midpoint rule);
the springs of the grip are softened by the part's own compliance. Half the length is solved, symmetric about x = 0.
References: Timoshenko, Bi-metal thermostats, 1925; Hetenyi, Beams on elastic foundation, 1946; the factors of the
plate effect, of the end region and of the local compliance were found against full three-dimensional solutions.
"""

from __future__ import annotations

from typing import Final

import numpy as np

from mandorla.core.compiled import compiled
from mandorla.core.part.mesh import Floats

CORNER_FACTOR: Final = 1.4  # corner peel over mid-edge peel of the strip
NORMAL_COMPLIANCE: Final = 0.7  # of the part's own height over E
SHEAR_COMPLIANCE: Final = 1.0  # of the part's own height over G
END_REGION: Final = 0.3  # of the height, over which the film force enters
_SHEAR_FACTOR: Final = 5.0 / 6.0
_BAND: Final = 5  # half-bandwidth with three unknowns a node


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
def _banded_solve(B: Floats, rhs: Floats) -> None:
    """Solve a symmetric positive definite banded system in place (lower band storage (n, 6)), by L D L^T."""
    n = rhs.size
    for i in range(n):
        low = max(0, i - 5)
        for j in range(low, i):
            v = B[i, j - i + 5]
            for k in range(max(low, j - 5), j):
                v -= B[i, k - i + 5] * B[j, k - j + 5] * B[k, 5]
            B[i, j - i + 5] = v / B[j, 5]
        d = B[i, 5]
        for k in range(low, i):
            d -= B[i, k - i + 5] ** 2 * B[k, 5]
        B[i, 5] = d
    for i in range(n):
        for k in range(max(0, i - 5), i):
            rhs[i] -= B[i, k - i + 5] * rhs[k]
    for i in range(n):
        rhs[i] /= B[i, 5]
    for i in range(n - 1, -1, -1):
        for k in range(i + 1, min(n, i + 6)):
            rhs[i] -= B[k, i - k + 5] * rhs[k]


@compiled
def _assemble(
    B: Floats, x: Floats, EA: Floats, ES: Floats, EI: Floats, GA: Floats, kn: Floats, kt: Floats, pinned: bool
) -> None:
    """Lower band of the stiffness: EA, ES, EI, GA per element (n-1,), springs kn, kt per node (n,) in N/m."""
    n = x.size
    B[:, :] = 0.0
    for e in range(n - 1):
        L = x[e + 1] - x[e]
        a, s, i, g = EA[e] / L, ES[e] / L, EI[e] / L, GA[e] * 5.0 / 6.0 / L
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
def run_strip(
    x: Floats,
    foot: Floats,
    bottom: Floats,
    top: Floats,
    half: Floats,
    width: Floats,
    plan_width: Floats,
    E_print: Floats,
    E_cold: Floats,
    nu: float,
    contraction: Floats,
    late: Floats,
    cooling: Floats,
    kn: float,
    kt: float,
    strength: float,
    energy: float,
    brim_EA: float,
    brim_height: float,
    debond: bool,
) -> tuple[Floats, Floats, Floats, Floats, Floats]:
    """Print, cool and release one half-strip.

    ``x`` (n,) nodes; ``foot`` (n,) contact area at each node (m²), zero where nothing touches; blocks (m,): ``bottom``,
    ``top`` m, ``half`` length m, effective ``width`` m, ``plan_width`` m, moduli while printing and cold in Pa, free
    contractions: of the fresh film, of what follows until the end of the print, of the cool-down. ``kn``, ``kt`` N/m³,
    ``strength`` Pa, ``energy`` J/m². Without ``debond`` the springs never let go.

    Returns peak peel by block (m,) Pa with the corner factor, capacity by block (m,) Pa, detached share by block (m+1,; the
    last one after cooling), end deflection by block (m+2,; printed after each block, then after cool-down, after release)
    and the deflection along x after release (n,).
    """
    n, m = x.size, bottom.size
    peel, capacity = np.zeros(m), np.zeros(m)
    detached, deflection = np.zeros(m + 1), np.zeros(m + 2)
    EA0, ES0, EI0, GA0 = np.zeros(n - 1), np.zeros(n - 1), np.zeros(n - 1), np.zeros(n - 1)
    EA, ES, EI, GA = np.empty(n - 1), np.empty(n - 1), np.empty(n - 1), np.empty(n - 1)
    B = np.empty((3 * n, 6))
    f = np.empty(3 * n)
    total = np.zeros(3 * n)
    normal, shear = np.zeros(n), np.zeros(n)  # spring forces, N
    held = foot > 0.0
    area = foot.sum()
    spring_n, spring_t = np.zeros(n), np.zeros(n)
    end_node = n - 1
    while end_node > 0 and foot[end_node] <= 0.0:
        end_node -= 1
    part_end = half[0]

    for step in range(m + 3):
        cold = step > m
        h = 0.5 * (bottom[step] + top[step]) if step < m else top[m - 1]
        if cold and step == m + 1:
            # cool-down and release act on the unrelaxed, cold polymer
            EA0[:], ES0[:], EI0[:], GA0[:] = 0.0, 0.0, 0.0, 0.0
            for j in range(m):
                for e in range(n - 1):
                    if 0.5 * (x[e] + x[e + 1]) < half[j]:
                        a, b, s = bottom[j], top[j], E_cold[j] * width[j]
                        EA0[e] += s * (b - a)
                        ES0[e] += s * (b * b - a * a) / 2.0
                        EI0[e] += s * (b**3 - a**3) / 3.0
                        GA0[e] += s * (b - a)
        if step <= m:
            # add the upper half of the block below and the lower half of this one
            for part in range(2):
                j = step - 1 if part == 0 else step
                if j < 0 or j >= m:
                    continue
                middle = 0.5 * (bottom[j] + top[j])
                a, b = (middle, top[j]) if part == 0 else (bottom[j], middle)
                s = E_print[j] * width[j]
                for e in range(n - 1):
                    if 0.5 * (x[e] + x[e + 1]) < half[j]:
                        EA0[e] += s * (b - a)
                        ES0[e] += s * (b * b - a * a) / 2.0
                        EI0[e] += s * (b**3 - a**3) / 3.0
                        GA0[e] += s * (b - a)
        block = min(step, m - 1)
        q = plan_width[block] / (6.0 * h)
        c = 1.0 - np.tanh(q) / q
        plane = 1.0 / (1.0 - nu * nu * c)
        E_mean = EA0[0] / (width[block] * h)
        soft = min(h, part_end)
        kn_now = 1.0 / (1.0 / kn + NORMAL_COMPLIANCE * soft / E_mean)
        kt_now = 1.0 / (1.0 / kt + SHEAR_COMPLIANCE * soft * 2.0 * (1.0 + nu) / E_mean)
        floor = 1e-7 * EA0[0]
        for e in range(n - 1):
            EA[e], ES[e] = plane * EA0[e], plane * ES0[e]
            EI[e], GA[e] = plane * EI0[e], GA0[e] / (2.0 * (1.0 + nu))
            if EA0[e] <= 0.0:
                # beyond the part: the brim's single layer, or nothing yet (a feather that follows rigidly)
                on_brim = brim_EA > 0.0 and foot[e + 1] > 0.0
                stiff = brim_EA if on_brim else floor
                thick = brim_height if on_brim else h
                EA[e], ES[e] = stiff, 0.5 * stiff * thick
                EI[e], GA[e] = stiff * thick * thick / 3.0, 0.4 * stiff
        f[:] = 0.0
        released = step == m + 2
        if step < m:
            N = plane * (1.0 + nu * c) * E_print[step] * width[step] * (top[step] - bottom[step]) * contraction[step]
            _film_load(f, x, N, h, half[step], END_REGION * h)
        elif step < m + 2:
            for j in range(m):
                strain = late[j] if step == m else cooling[j]
                E = E_print[j] if step == m else E_cold[j]
                N = plane * (1.0 + nu * c) * E * width[j] * (top[j] - bottom[j]) * strain
                _film_load(f, x, N, 0.5 * (bottom[j] + top[j]), half[j], END_REGION * h)
        if released:
            for i in range(n):
                f[3 * i] += shear[i]
                f[3 * i + 1] += normal[i]
                held[i] = False
                normal[i], shear[i] = 0.0, 0.0

        for _ in range(4 * n):
            loose = True
            for i in range(n):
                spring_n[i] = kn_now * foot[i] if held[i] else 0.0
                spring_t[i] = kt_now * foot[i] if held[i] else 0.0
                if held[i]:
                    loose = False
            _assemble(B, x, EA, ES, EI, GA, spring_n, spring_t, loose)
            if loose:
                f[1] = 0.0
            _banded_solve(B, f)
            for i in range(n):
                total[3 * i] += f[3 * i]
                total[3 * i + 1] += f[3 * i + 1]
                total[3 * i + 2] += f[3 * i + 2]
                if held[i]:
                    normal[i] += spring_n[i] * f[3 * i + 1]
                    shear[i] += spring_t[i] * f[3 * i]
            f[:] = 0.0
            if not debond or released:
                break
            # let go from the end inwards where both strength and energy are exceeded
            outermost = end_node
            while outermost >= 0 and not held[outermost]:
                outermost -= 1
            changed = False
            while outermost >= 0 and held[outermost]:
                t = CORNER_FACTOR * normal[outermost] / foot[outermost]
                if t > strength and t * t / (2.0 * kn_now) > energy:
                    f[3 * outermost] += shear[outermost]
                    f[3 * outermost + 1] += normal[outermost]
                    normal[outermost], shear[outermost] = 0.0, 0.0
                    held[outermost] = False
                    changed = True
                    outermost -= 1
                else:
                    break
            if not changed:
                break
        if step < m:
            worst = 0.0
            for i in range(n):
                if held[i]:
                    worst = max(worst, normal[i] / foot[i])
            peel[step] = CORNER_FACTOR * worst
            capacity[step] = max(strength, np.sqrt(2.0 * kn_now * energy))
        gone = 0.0
        for i in range(n):
            if foot[i] > 0.0 and not held[i]:
                gone += foot[i]
        last_on_part = n - 1
        while last_on_part > 0 and x[last_on_part] > part_end * 1.0001:
            last_on_part -= 1
        lift = total[3 * last_on_part + 1] - total[1]
        if step < m:
            detached[step], deflection[step] = gone / area, lift
        elif step == m:
            detached[m - 1], deflection[m - 1] = gone / area, lift
        elif step == m + 1:
            detached[m], deflection[m] = gone / area, lift
        else:
            deflection[m + 1] = lift
    return peel, capacity, detached, deflection, total[1::3].copy()
