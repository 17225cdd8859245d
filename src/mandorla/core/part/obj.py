"""OBJ text: vertices and faces of any number of corners, indices from either end; broken lines are refused by their number.

The mesh library reads what is left: it takes indices from the end against the last vertex of the file, not against the
last one so far, and passes over what it does not understand, so both are settled here first.
"""

from __future__ import annotations

import io
from typing import Final

import numpy as np

from mandorla.core.errors import MeshError, Problem
from mandorla.core.part.mesh import MAX_TRIANGLES, Floats
from mandorla.core.part.solid import refused

_CORNERS: Final = 64  # of one face; more is no drawing of a part


def read_obj(data: bytes, name: str) -> Floats:
    """Triangles (m, 3, 3) in the file's unit. Raises :class:`MeshError` naming the first bad line."""
    from trimesh.exchange.obj import load_obj

    loaded = load_obj(io.BytesIO(_plain_text(data, name)), skip_materials=True, maintain_order=True)
    part = next(iter(loaded["geometry"].values()))
    points: Floats = np.asarray(part["vertices"], dtype=np.float64)
    return points[np.asarray(part["faces"], dtype=np.int64)]


def _plain_text(data: bytes, name: str) -> bytes:
    """Points and triangles alone, every one checked, with indices from the first vertex."""
    points: list[str] = []
    faces: list[str] = []
    for number, line in enumerate(data.decode("utf-8", "replace").splitlines(), start=1):
        words = line.split("#", 1)[0].split()
        if not words:
            continue
        try:
            if words[0] == "v":
                points.append("v {!r} {!r} {!r}".format(*(float(word) for word in words[1:4])))
            elif words[0] == "f":
                face = [_index(word, len(points)) for word in words[1:]]
                if not 3 <= len(face) <= _CORNERS:
                    raise ValueError(f"a face of {len(face)} corners")
                faces += [f"f {face[0]} {face[i]} {face[i + 1]}" for i in range(1, len(face) - 1)]
        except (ValueError, IndexError) as error:
            allowed = "v with three numbers, or f with three indices or more"
            problem = Problem(f"line {number}", line.strip()[:60], allowed)
            raise MeshError(f"{name}: line {number} cannot be read: {str(error)[:80]}.", problems=(problem,)) from None
    if not faces:
        raise refused(name, "the file holds no faces.", "0 faces", "at least 4")
    if len(faces) > MAX_TRIANGLES:
        raise refused(name, "the mesh is too large.", f"{len(faces)} triangles", f"at most {MAX_TRIANGLES}")
    return "\n".join([*points, *faces]).encode("ascii")


def _index(word: str, count: int) -> int:
    """A corner's vertex, from 1: the first number of ``v/vt/vn``; negative ones count back from the last vertex so far."""
    value = int(word.split("/")[0])
    place = value if value > 0 else count + value + 1
    if value == 0 or not 1 <= place <= count:
        raise ValueError(f"there is no vertex {value} among {count}")
    return place
