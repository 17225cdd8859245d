"""Writes the straight-line kernels of the box elements' operators, src/mandorla/core/elastic/box_kernel.py."""

from __future__ import annotations

from pathlib import Path

HEAD = '''"""Products with box elements' stiffness, sixteen side by side, written by tools/make_box_kernel.py: change it there.

Displacements of sixteen elements are gathered into lanes that the processor works on at once; no more is asked of the elements than
a table of their nodes.
"""

# fmt: off

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from mandorla.core.compiled import compiled

Field = NDArray[np.floating]
Singles = NDArray[np.float32]
Table = NDArray[np.int32]
LANES = 16
'''
LANES, ROWS = 16, 6


def pairs() -> list[tuple[int, int]]:
    """Places (row, column) of a symmetric stiffness in the order in which it is stored, 300 of them."""
    return [
        (a, b)
        for a0 in range(0, 24, ROWS) for b0 in range(a0, 24, ROWS) for a in range(a0, a0 + ROWS) for b in range(b0, b0 + ROWS)
        if b >= a
    ]  # fmt: skip


class Text:
    """Lines of a kernel."""

    def __init__(self) -> None:
        self.lines: list[str] = []

    def put(self, depth: int, text: str) -> None:
        """Add a line."""
        self.lines.append(("    " * depth + text) if text else "")

    def gather(self) -> None:
        """Displacements of the batch's nodes into its lanes."""
        self.put(2, f"count = min({LANES}, nodes.shape[0] - first)")
        self.put(2, "for i in range(count):")
        for a in range(8):
            self.put(3, f"n = nodes[first + i, {a}]")
            here = ", ".join(f"v[{3 * a + c}, i]" for c in range(3))
            self.put(3, f"{here} = u[n, 0], u[n, 1], u[n, 2]")

    def scatter(self, start: int, sign: str = "") -> None:
        """Forces out of the lanes."""
        self.put(2, "for i in range(count):")
        for a in range(8):
            self.put(3, f"n = nodes[first + i, {a}]")
            for c in range(3):
                self.put(3, f"out[n, {c}] += {sign}v[{start + 3 * a + c}, i]")


def hadamard(text: Text) -> None:
    """Sums and differences over the corners along each direction, for each component."""
    for c in "xyz":
        for bit in (1, 2, 4):
            for a in range(8):
                if not a & bit:
                    here, there = f"{c}{a}", f"{c}{a | bit}"
                    text.put(3, f"{here}, {there} = {here} + {there}, {here} - {there}")


def boxes(text: Text) -> None:
    """The kernel of equal boxes that differ in modulus."""
    text.put(0, "@compiled")
    text.put(0, "def apply_boxes(u: Field, moduli: Field, blocks: Field, nodes: Table, out: Field) -> None:")
    text.put(1, '"""Add K u to ``out``, both (n, 3), for elements of ``moduli`` (m,) Pa and ``nodes`` (m, 8).')
    text.put(0, "")
    text.put(1, "``blocks`` are hexahedron.parity_blocks.")
    text.put(1, '"""')
    text.put(1, f"v = np.zeros((24, {LANES}), dtype=u.dtype)")
    text.put(1, f"moduli_here = np.zeros({LANES}, dtype=u.dtype)")
    text.put(1, f"for first in range(0, nodes.shape[0], {LANES}):")
    text.gather()
    text.put(3, "moduli_here[i] = moduli[first + i]")
    text.put(2, f"for i in range({LANES}):")
    for a in range(8):
        text.put(3, f"x{a}, y{a}, z{a} = v[{3 * a}, i], v[{3 * a + 1}, i], v[{3 * a + 2}, i]")
    hadamard(text)
    text.put(3, "e = moduli_here[i]")
    for q in range(8):
        names = [f"{c}{q ^ (1 << k)}" for k, c in enumerate("xyz")]
        for k in range(3):
            inside = " + ".join(f"blocks[{q}, {min(k, m)}, {max(k, m)}] * {names[m]}" for m in range(3))
            text.put(3, f"f{k} = e * ({inside})")
        for k in range(3):
            text.put(3, f"{names[k]} = f{k}")
    hadamard(text)
    for a in range(8):
        text.put(3, f"v[{3 * a}, i], v[{3 * a + 1}, i], v[{3 * a + 2}, i] = x{a}, y{a}, z{a}")
    text.scatter(0)


def stored(text: Text) -> None:
    """The kernel of elements that keep their own stiffness."""
    text.put(0, "@compiled")
    text.put(0, "def apply_stored(u: Singles, K: Singles, nodes: Table, sign: float, out: Singles) -> None:")
    text.put(
        1, '"""Add ``sign`` times K u to ``out``, both (n, 3), for elements with ``nodes`` (m, 8) and a stiffness each.'
    )
    text.put(0, "")
    text.put(
        1, "``K`` (m / 16 rounded up, 300, 16): sixteen elements side by side, half of each in the order of PLACES."
    )
    text.put(1, '"""')
    text.put(1, f"v = np.zeros((48, {LANES}), dtype=np.float32)")
    text.put(1, "s = np.float32(sign)")
    text.put(1, f"for first in range(0, nodes.shape[0], {LANES}):")
    text.gather()
    text.put(2, f"E = K[first // {LANES}]")
    text.put(2, "v[24:] = 0.0")
    place = {pair: n for n, pair in enumerate(pairs())}
    for a0 in range(0, 24, ROWS):
        for b0 in range(a0, 24, ROWS):
            used = sorted({*range(a0, a0 + ROWS), *range(b0, b0 + ROWS)})
            text.put(2, f"for i in range({LANES}):")
            for start in sorted({a0, b0}):
                here = range(start, start + ROWS)
                text.put(3, ", ".join(f"v{n}" for n in here) + " = " + ", ".join(f"v[{n}, i]" for n in here))
            for a in range(a0, a0 + ROWS):
                here = [place[a, b] for b in range(max(a, b0), b0 + ROWS)]
                text.put(3, ", ".join(f"k{n}" for n in here) + " = " + ", ".join(f"E[{n}, i]" for n in here))
            for a in used:
                others = [b for b in used if min(a, b) < a0 + ROWS and max(a, b) >= b0]
                total = " + ".join(f"k{place[min(a, b), max(a, b)]} * v{b}" for b in others)
                text.put(3, f"v[{24 + a}, i] += {total}")
    text.scatter(24, "s * ")


def main() -> int:
    """Write the kernels."""
    text = Text()
    rows = [f"({a}, {b})" for a, b in pairs()]
    text.put(0, "PLACES = (")
    for n in range(0, len(rows), 12):
        text.put(1, ", ".join(rows[n : n + 12]) + ",")
    text.put(0, ")")
    text.put(0, "")
    text.put(0, "")
    boxes(text)
    text.put(0, "")
    text.put(0, "")
    stored(text)
    target = Path(__file__).resolve().parents[1] / "src" / "mandorla" / "core" / "elastic" / "box_kernel.py"
    target.write_text(HEAD + "\n".join(text.lines) + "\n", encoding="utf-8")
    return 0


if __name__ == "__main__":
    raise SystemExit(main())
