"""Reads OBJ text as triangles: vertices, faces of any number of corners, indices from either end; the rest is passed over."""

from __future__ import annotations

import numpy as np

from mandorla.core.errors import MeshError, Problem
from mandorla.core.part.mesh import MAX_TRIANGLES, Floats

_CORNERS = 64  # of one face; more is no drawing of a part


def read_obj(data: bytes, name: str) -> Floats:
    """Triangles (m, 3, 3) in the file's unit. Raises :class:`MeshError` naming the first bad line."""
    points: list[tuple[float, float, float]] = []
    corners: list[tuple[int, int, int]] = []
    for number, line in enumerate(data.decode("utf-8", "replace").splitlines(), start=1):
        words = line.split("#", 1)[0].split()
        if not words:
            continue
        try:
            if words[0] == "v":
                points.append((float(words[1]), float(words[2]), float(words[3])))
            elif words[0] == "f":
                face = [_index(word, len(points)) for word in words[1:]]
                if not 3 <= len(face) <= _CORNERS:
                    raise ValueError(f"a face of {len(face)} corners")
                corners += [(face[0], face[i], face[i + 1]) for i in range(1, len(face) - 1)]
        except (ValueError, IndexError) as error:
            raise MeshError(
                f"{name}: line {number} cannot be read: {error}.",
                problems=(
                    Problem(
                        f"line {number}", line.strip()[:60], "v with three numbers, or f with three indices or more"
                    ),
                ),
            ) from None
    if not corners:
        raise MeshError(f"{name}: the file holds no faces.", problems=(Problem(name, "0 faces", "at least 4"),))
    if len(corners) > MAX_TRIANGLES:
        raise MeshError(
            f"{name}: the mesh is too large.",
            problems=(Problem(name, f"{len(corners)} triangles", f"at most {MAX_TRIANGLES}"),),
        )
    return np.array(points, dtype=np.float64)[np.array(corners, dtype=np.int64)]


def _index(word: str, count: int) -> int:
    """A corner's vertex, from 0: the first number of ``v/vt/vn``; negative ones count back from the last vertex."""
    value = int(word.split("/")[0])
    place = value - 1 if value > 0 else count + value
    if value == 0 or not 0 <= place < count:
        raise ValueError(f"there is no vertex {value} among {count}")
    return place
