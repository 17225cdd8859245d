"""A heated bed by other means than ours, whose heat-up somebody logged: it shares no law, no number and no line with the program.

A finite-volume bed of 12 x 12 columns (plate, what lies on it, mat, insulation or none) in plain NumPy: convection by McAdams'
formulas for plates, radiation of grey surfaces to the room or to a lumped box, conduction through four mounts into a frame that
warms up, a mat that does not reach the edge, whose resistance may rise and whose supply may sag; a sensor with a lag and an error
of scale, a regulator of a printer's kind (full power far below, then proportional and integral), a logger that skips and rounds.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from scipy.sparse import coo_matrix, csc_matrix
from scipy.sparse.linalg import splu

Floats = NDArray[np.float64]
SIGMA = 5.670374e-8
CELLS = 12


@dataclass(frozen=True)
class ForeignMachine:
    """A machine as it stands in somebody's workshop; SI, kelvin."""

    side: float = 0.3
    plate: float = 0.006  # m of aluminium
    heater: float = 500.0  # W, as its label has it
    kind: str = "closed"  # open, closed
    top: str = "sheet on a magnet"  # or glass
    top_thickness: float = 0.0006
    insulation: float = 0.006  # m; 0: the mat's underside is bare
    covers: float = 0.94  # of the side
    joint: float = 3e-4  # m²K/W under what lies on the plate
    emissivity: float = 0.85
    mounts: float = 0.12  # W/K each
    convection: float = 1.0
    supply: float = 1.0  # of the label's power, cold
    resistance: float = 1e-4  # 1/K
    scale: float = 1.0  # of the sensor
    lag: float = 6.0  # s
    room: float = 294.0
    bed: float = 363.0


def drawn(seed: int) -> ForeignMachine:
    """A machine by a seed: half of them open with glass, half closed with a sheet on a magnet."""
    rng = np.random.default_rng(seed)
    opened = bool(rng.random() < 0.5)
    side = float(rng.uniform(0.2, 0.26) if opened else rng.uniform(0.25, 0.4))
    plate = float(rng.choice([0.0025, 0.003, 0.004]) if opened else rng.choice([0.005, 0.006, 0.008, 0.01]))
    return ForeignMachine(
        side=side, plate=plate, heater=float(side**2 * rng.uniform(3800.0, 6500.0)), kind="open" if opened else "closed",
        top="glass" if opened else "sheet on a magnet",
        top_thickness=float(rng.uniform(0.003, 0.004) if opened else rng.uniform(0.0004, 0.0007)),
        insulation=float(rng.choice([0.0, 0.003, 0.006, 0.01])), covers=float(rng.uniform(0.88, 0.97)),
        joint=float(3e-4 * np.exp(rng.normal(0.0, 0.35))), emissivity=float(rng.uniform(0.75, 0.93)),
        mounts=float(rng.uniform(0.03, 0.2)), convection=float(np.exp(rng.normal(0.0, 0.12))),
        supply=float(rng.normal(1.0, 0.025)), resistance=float(rng.choice([0.0, 1e-4, 3e-4])),
        scale=float(rng.normal(1.0, 0.006)), lag=float(rng.uniform(3.0, 10.0)), room=float(rng.uniform(289.0, 299.0)),
        bed=float(rng.uniform(338.0, 373.0)),
    )  # fmt: skip


def _nusselt_up(dt: Floats, length: float, film: float) -> Floats:
    """W/m²K from a hot plate's upper side, McAdams: 0.54 Ra^1/4, from Ra 1e7 0.15 Ra^1/3."""
    conductivity, viscosity, spread = 0.0263 * (film / 300.0) ** 0.8, 1.58e-5 * (film / 300.0) ** 1.75, 0.707
    ra = 9.81 / film * np.maximum(dt, 1e-3) * length**3 / viscosity**2 * spread
    return np.asarray(np.where(ra < 1e7, 0.54 * ra**0.25, 0.15 * ra ** (1.0 / 3.0)) * conductivity / length)


def _nusselt_down(dt: Floats, length: float, film: float) -> Floats:
    """W/m²K from its underside, 0.27 Ra^1/4."""
    conductivity, viscosity, spread = 0.0263 * (film / 300.0) ** 0.8, 1.58e-5 * (film / 300.0) ** 1.75, 0.707
    ra = 9.81 / film * np.maximum(dt, 1e-3) * length**3 / viscosity**2 * spread
    return np.asarray(0.27 * ra**0.25 * conductivity / length)


def _conduction(m: ForeignMachine) -> tuple[csc_matrix, Floats]:
    """Conductances (W/K, a Laplacian over the layers' columns, top layer first) and heat capacities (J/K)."""
    glass = m.top == "glass"
    # thickness, conductivity, volumetric heat capacity, resistance to the next below
    layers = [
        (m.top_thickness, 1.05, 2500.0 * 830.0, m.joint) if glass else (m.top_thickness, 46.0, 7850.0 * 480.0, m.joint),
        *([] if glass else [(0.0014, 0.8, 3600.0 * 900.0, 8e-5)]),
        (m.plate, 165.0, 2690.0 * 897.0, 1.5e-4),
        (0.0014, 0.35, 1250.0 * 1350.0, 1e-4),
        *([(m.insulation, 0.06, 110.0 * 1500.0, 0.0)] if m.insulation > 0.0 else []),
    ]
    edge, n = m.side / CELLS, CELLS * CELLS
    rows, columns, values, capacity = [], [], [], []

    def link(a: int, b: int, g: float) -> None:
        for i, j, v in ((a, a, g), (b, b, g), (a, b, -g), (b, a, -g)):
            rows.append(i)
            columns.append(j)
            values.append(v)

    for k, (t, conductivity, heat, below) in enumerate(layers):
        capacity.append(np.full(n, t * heat * edge**2))
        for i in range(n):
            at = k * n + i
            if i % CELLS < CELLS - 1:
                link(at, at + 1, conductivity * t)
            if i + CELLS < n:
                link(at, at + CELLS, conductivity * t)
            if k + 1 < len(layers):
                other_t, other_k = layers[k + 1][0], layers[k + 1][1]
                link(at, at + n, edge**2 / (t / (2.0 * conductivity) + below + other_t / (2.0 * other_k)))
    size = n * len(layers)
    return csc_matrix(coo_matrix((values, (rows, columns)), shape=(size, size))), np.concatenate(capacity)


@dataclass(frozen=True)
class Logged:
    """What happened: time (s from switching on), what the sensor showed (K), the heater's power (W), the plate's mean (K)."""

    time: Floats
    shown: Floats
    power: Floats
    plate: Floats


def heated(m: ForeignMachine, seconds: float = 5400.0, step: float = 1.0) -> Logged:
    """March it from the room: conduction implicit, what leaves the surfaces explicit."""
    laplacian, capacity = _conduction(m)
    n = CELLS * CELLS
    of_plate = 1 if m.top == "glass" else 2
    of_mat = of_plate + 1
    solver = splu(csc_matrix(laplacian + coo_matrix(np.diag(capacity / step))))
    state = np.full(capacity.size, m.room)
    middle = (np.arange(CELLS) + 0.5) / CELLS - 0.5
    inside = np.clip((m.covers / 2.0 - np.abs(middle)) * CELLS + 0.5, 0.0, 1.0)
    density = np.outer(inside, inside).ravel()
    density /= density.sum()
    corners = np.array([0, CELLS - 1, n - CELLS, n - 1])
    edge, area = m.side / CELLS, (m.side / CELLS) ** 2
    length = m.side / 4.0
    side_share = np.zeros(n)
    for k in range(CELLS):
        for at in (k, n - CELLS + k, k * CELLS, k * CELLS + CELLS - 1):
            side_share[at] += edge
    air = frame = wall = m.room
    shown, summed, record = m.room, 0.0, []
    for k in range(int(seconds / step)):
        top, mat, bottom = state[:n], state[of_mat * n : (of_mat + 1) * n], state[-n:]
        plate = state[of_plate * n : (of_plate + 1) * n]
        around = air if m.kind == "closed" else m.room
        grey = wall if m.kind == "closed" else m.room
        film = 0.5 * (float(top.mean()) + around)
        up = m.convection * _nusselt_up(top - around, length, film) * (top - around) * area
        down = m.convection * _nusselt_down(bottom - around, length, film) * (bottom - around) * area
        out = m.emissivity * SIGMA * (top**4 - grey**4) * area
        under = 0.85 * SIGMA * (bottom**4 - grey**4) * area * (0.6 if m.insulation == 0.0 else 1.0)
        rim = 9.0 * side_share * m.plate * (plate - around)
        into_frame = m.mounts * (plate[corners] - frame)
        # regulator: full far below, then proportional and integral on what the sensor shows
        inner = float(plate[n // 2 + CELLS // 2])
        shown += step / m.lag * (m.room + m.scale * (inner - m.room) - shown)
        off = m.bed - shown
        if abs(off) < 8.0:
            summed = min(max(summed + off * step / 140.0, 0.0), 8.0)
        duty = min(max((off + summed) / 8.0, 0.0), 1.0)
        power = duty * m.supply * m.heater / (1.0 + m.resistance * (float(mat.mean()) - 293.0))
        source = np.zeros(capacity.size)
        source[of_mat * n : (of_mat + 1) * n] += power * density
        source[:n] -= up + out
        source[-n:] -= down + under
        source[of_plate * n : (of_plate + 1) * n] -= rim
        source[of_plate * n + corners] -= into_frame
        record.append((k * step, shown, power, float(plate.mean())))
        state = solver.solve(state * capacity / step + source)
        frame += step * (float(into_frame.sum()) - 2.5 * (frame - m.room)) / (900.0 * 6.0)
        if m.kind == "closed":
            width = m.side + 0.22
            outside = 2.0 * width * width + 4.0 * width * (m.side + 0.2)
            given = float(up.sum() + down.sum() + rim.sum())
            to_wall = 4.0 * outside * (air - wall)
            through = outside * 5.0 * (wall - m.room)
            air += (
                step
                * (given - to_wall - 0.004 * 1005.0 * (air - m.room))
                / (1005.0 * 1.15 * width**2 * (m.side + 0.2) * 3.0)
            )
            wall += step * (to_wall + float((out + under).sum()) - through) / (outside * 4500.0)
    return Logged(*np.asarray(record).T)


def log_of(m: ForeignMachine, seed: int, *, watts: bool = False) -> bytes:
    """A heat-up as somebody logs it: a while before it is switched on, a line every two to five seconds, some missing, rounded."""
    rng = np.random.default_rng(seed)
    ran = heated(m)
    calm = np.flatnonzero(np.abs(ran.shown - m.bed) > 1.0)
    end = min(float(ran.time[calm[-1]]) + rng.uniform(300.0, 900.0), float(ran.time[-1]))
    lead, every = float(rng.uniform(0.0, 90.0)), float(rng.uniform(2.0, 5.0))
    times = np.arange(0.0, lead + end, every) + rng.uniform(0.0, 0.3, int(np.ceil((lead + end) / every)))
    times = times[rng.random(times.size) > 0.03]
    shown = np.interp(times - lead, ran.time, ran.shown, left=m.room) - 273.15 + rng.normal(0.0, 0.08, times.size)
    power = np.where(times > lead, np.interp(times - lead, ran.time, ran.power) / 0.94 + 18.0, 18.0)
    lines = ["time [s],bed sensor [°C]" + (",plug [W]" if watts else "")]
    lines += [f"{t:.1f},{c:.1f}" + (f",{w:.0f}" if watts else "") for t, c, w in zip(times, shown, power, strict=True)]
    return "\n".join(lines).encode()
