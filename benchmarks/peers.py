"""The three-dimensional kernel beside general-purpose packages, on the same block, grid and step, in one run.

Usage: peers.py [CELLS] ; needs the packages of the extra ``peers`` (pip install -e '.[peers]'), which nothing else needs. A block
of 60 x 60 x 12 cells of 300 x 300 x 18 mm is heated from below and loses heat above; backward Euler, 2 s. scikit-fem: trilinear
hexahedra and a sparse LU factored once. FiPy: the same finite volumes, its own solver. Times are for one step, factoring apart.
"""

from __future__ import annotations

import sys
import time
import warnings

import numpy as np

from mandorla.core.thermal.stack import Floats
from mandorla.core.thermal.volume_kernels import Grid, Patches, march_volume, room_for

SIZE = (0.3, 0.3, 0.018)
K, RHO_C, H, Q = 40.0, 2.4e6, 12.0, 6000.0
DT = 2.0
STEPS = {"mandorla": 300, "scikit-fem": 6, "FiPy": 3}


def our_steps(cells: tuple[int, int, int], count: int) -> tuple[Floats, float, float]:
    """Mean surface rise after each of a few steps, s a step, s to prepare."""
    nx, ny, nz = cells
    dx, dy, dz = SIZE[0] / nx, SIZE[1] / ny, SIZE[2] / nz
    start = time.perf_counter()
    heat = np.full((ny, nx), 1.0 / (nx * ny))
    source = np.zeros(nz)
    source[-1] = 1.0
    grid = Grid(
        np.full((nz, ny, nx), RHO_C * dx * dy * dz), np.full((nz, ny, nx - 1), K * dy * dz / dx),
        np.full((nz, ny - 1, nx), K * dx * dz / dy), np.full((nz - 1, ny, nx), K * dx * dy / dz), source, heat,
    )  # fmt: skip
    n = nx * ny
    patches = Patches(
        np.arange(n), np.full(n, dx * dy), np.full(n, 2.0 * K * dx * dy / dz), np.full(n, H), *(np.zeros(n) for _ in range(4))
    )  # fmt: skip
    lines = room_for(grid)
    T = np.zeros((nz, ny, nx))
    march_volume(T, grid, patches, 0.0, DT, 1, lines)
    prepared = time.perf_counter() - start
    T[:] = 0.0
    rise = []
    for _ in range(10):
        march_volume(T, grid, patches, Q * SIZE[0] * SIZE[1], DT, 1, lines)
        rise.append(float(T[0].mean()))
    start = time.perf_counter()
    march_volume(T, grid, patches, Q * SIZE[0] * SIZE[1], DT, count, lines)
    return np.array(rise), (time.perf_counter() - start) / count, prepared


def finite_elements(cells: tuple[int, int, int], count: int) -> tuple[Floats, float, float]:
    """The same with scikit-fem and a sparse direct factor."""
    import skfem
    from scipy.sparse.linalg import splu
    from skfem.helpers import dot, grad

    start = time.perf_counter()
    nx, ny, nz = cells
    mesh = skfem.MeshHex.init_tensor(*(np.linspace(0.0, s, c + 1) for s, c in zip(SIZE, (nx, ny, nz), strict=True)))
    basis = skfem.Basis(mesh, skfem.ElementHex1())
    top = skfem.FacetBasis(
        mesh, skfem.ElementHex1(), facets=mesh.facets_satisfying(lambda x: np.isclose(x[2], SIZE[2]))
    )
    low = skfem.FacetBasis(mesh, skfem.ElementHex1(), facets=mesh.facets_satisfying(lambda x: np.isclose(x[2], 0.0)))
    stiffness = skfem.BilinearForm(lambda u, v, w: K * dot(grad(u), grad(v))).assemble(basis)
    mass = skfem.BilinearForm(lambda u, v, w: RHO_C * u * v).assemble(basis)
    losses = skfem.BilinearForm(lambda u, v, w: H * u * v).assemble(top)
    load = skfem.LinearForm(lambda v, w: Q * v).assemble(low)
    factored = splu((mass / DT + stiffness + losses).tocsc())
    prepared = time.perf_counter() - start
    T = np.zeros(load.size)
    area = skfem.LinearForm(lambda v, w: v).assemble(top)
    rise = []
    start = time.perf_counter()
    for _ in range(count):
        T = factored.solve(mass @ T / DT + load)
        rise.append(float(area @ T / area.sum()))
    return np.array(rise), (time.perf_counter() - start) / count, prepared


def finite_volumes(cells: tuple[int, int, int], count: int) -> tuple[Floats, float, float]:
    """The same with FiPy."""
    import fipy

    start = time.perf_counter()
    nx, ny, nz = cells
    mesh = fipy.Grid3D(nx=nx, ny=ny, nz=nz, dx=SIZE[0] / nx, dy=SIZE[1] / ny, dz=SIZE[2] / nz)
    T = fipy.CellVariable(mesh=mesh, value=0.0, hasOld=True)
    z = mesh.cellCenters.value[2]
    dz = SIZE[2] / nz
    lowest, highest = z < dz, z > SIZE[2] - dz
    loss = H / (1.0 + H * 0.5 * dz / K) / dz
    heating = fipy.CellVariable(mesh=mesh, value=Q / dz * lowest)
    losing = fipy.CellVariable(mesh=mesh, value=loss * highest)
    equation = fipy.TransientTerm(coeff=RHO_C) == (
        fipy.DiffusionTerm(coeff=K) + heating - fipy.ImplicitSourceTerm(coeff=losing)
    )
    prepared = time.perf_counter() - start
    rise = []
    start = time.perf_counter()
    for _ in range(count):
        T.updateOld()
        equation.solve(var=T, dt=DT)
        rise.append(float(T.value[highest].mean()))
    return np.array(rise), (time.perf_counter() - start) / count, prepared


def main() -> int:
    """Print the table."""
    warnings.simplefilter("ignore")
    side = int(sys.argv[1]) if len(sys.argv) > 1 else 60
    cells = (side, side, 12)
    ours, step, prepared = our_steps(cells, STEPS["mandorla"])
    print(f"block of {side} x {side} x 12, backward Euler, {DT:.0f} s; one core")
    print(f"{'Mandorla, alternating directions':40s} step {1e3 * step:9.2f} ms   preparing {prepared:7.2f} s")
    for name, work in (("scikit-fem + sparse LU", finite_elements), ("FiPy", finite_volumes)):
        rise, seconds, ready = work(cells, STEPS["FiPy" if name == "FiPy" else "scikit-fem"])
        apart = float(np.abs(rise - ours[: rise.size]).max())
        print(
            f"{name:40s} step {1e3 * seconds:9.2f} ms   preparing {ready:7.2f} s   {seconds / step:7.0f} times ours; "
            f"surface apart by {apart:.4f} of {rise[-1]:.3f} K"
        )
    return 0


if __name__ == "__main__":
    raise SystemExit(main())
