"""Writes the straight-line kernel of the box element's operator, src/mandorla/core/solid/box_kernel.py."""

from __future__ import annotations

from pathlib import Path

HEAD = '''"""Matrix-free stiffness of a block of equal boxes, written by tools/make_box_kernel.py: change it there.

Along x every column of nodes is turned once into sums and differences over y and z and shared by the elements at both sides.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from mandorla.core.compiled import compiled

Field = NDArray[np.floating]


@compiled
def apply_boxes(u: Field, moduli: Field, blocks: Field, out: Field) -> None:
    """Add K u to ``out``, both (nz+1, ny+1, nx+1, 3), for elements of ``moduli`` (nz, ny, nx) Pa; see hexa.parity_blocks."""
    nz, ny, nx = moduli.shape
    nothing = moduli[0, 0, 0] - moduli[0, 0, 0]
    for z in range(nz):
        for y in range(ny):
'''


def names(stem: str) -> list[str]:
    """Twelve names, by component and parity over y and z."""
    return [f"{stem}{c}{p}" for c in "xyz" for p in range(4)]


def main() -> int:
    """Write the kernel."""
    lines: list[str] = []

    def put(depth: int, text: str) -> None:
        lines.append("    " * depth + text)

    put(3, "before = nothing")
    put(3, "ready = False")
    for n in names("l"):
        put(3, f"{n} = nothing")
    for n in names("g"):
        put(3, f"{n} = nothing")
    put(3, "for i in range(nx + 1):")
    put(4, "after = moduli[z, y, i] if i < nx else nothing")
    put(4, "touched = before != nothing or after != nothing")
    put(4, "if not touched and not ready:")
    put(5, "continue")
    # this column in sums and differences over y (bit 0) and z (bit 1)
    for c, k in zip("xyz", range(3), strict=True):
        for iz in range(2):
            a, b = f"u[z + {iz}, y, i, {k}]", f"u[z + {iz}, y + 1, i, {k}]"
            put(4, f"a = {a}")
            put(4, f"b = {b}")
            put(4, f"s{iz} = a + b")
            put(4, f"d{iz} = a - b")
        put(4, f"r{c}0 = s0 + s1")
        put(4, f"r{c}2 = s0 - s1")
        put(4, f"r{c}1 = d0 + d1")
        put(4, f"r{c}3 = d0 - d1")
    for n in names("h"):
        put(4, f"{n} = nothing")
    put(4, "if before != nothing:")
    for q in range(8):
        parts = []
        for k, c in enumerate("xyz"):
            p = q ^ (1 << k)
            across, along = p >> 1, p & 1
            sign = "-" if along else "+"
            parts.append((c, across, along))
            put(5, f"e{k} = l{c}{across} {sign} r{c}{across}")
        for k in range(3):
            inside = " + ".join(f"blocks[{q}, {min(k, m)}, {max(k, m)}] * e{m}" for m in range(3))
            put(5, f"f{k} = before * ({inside})")
        for k, (c, across, along) in enumerate(parts):
            put(5, f"g{c}{across} += f{k}")
            put(5, f"h{c}{across} {'-' if along else '+'}= f{k}")
    # the column at the left is complete
    put(4, "if i > 0 and ready:")
    for c, k in zip("xyz", range(3), strict=True):
        put(5, f"s0 = g{c}0 + g{c}2")
        put(5, f"s1 = g{c}0 - g{c}2")
        put(5, f"d0 = g{c}1 + g{c}3")
        put(5, f"d1 = g{c}1 - g{c}3")
        for iz in range(2):
            put(5, f"out[z + {iz}, y, i - 1, {k}] += s{iz} + d{iz}")
            put(5, f"out[z + {iz}, y + 1, i - 1, {k}] += s{iz} - d{iz}")
    for c in "xyz":
        for p in range(4):
            put(4, f"l{c}{p} = r{c}{p}")
            put(4, f"g{c}{p} = h{c}{p}")
    put(4, "ready = touched")
    put(4, "before = after")
    # the last column
    put(3, "if ready:")
    for c, k in zip("xyz", range(3), strict=True):
        put(4, f"s0 = g{c}0 + g{c}2")
        put(4, f"s1 = g{c}0 - g{c}2")
        put(4, f"d0 = g{c}1 + g{c}3")
        put(4, f"d1 = g{c}1 - g{c}3")
        for iz in range(2):
            put(4, f"out[z + {iz}, y, nx, {k}] += s{iz} + d{iz}")
            put(4, f"out[z + {iz}, y + 1, nx, {k}] += s{iz} - d{iz}")
    target = Path(__file__).resolve().parents[1] / "src" / "mandorla" / "core" / "solid" / "box_kernel.py"
    target.write_text(HEAD + "\n".join(lines) + "\n", encoding="utf-8")
    return 0


if __name__ == "__main__":
    raise SystemExit(main())
