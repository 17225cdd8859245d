"""Mends what is safely mended in a welded surface: doubled faces, faces that look the wrong way, small holes."""

from __future__ import annotations

from typing import Final

import numpy as np
from scipy.sparse import coo_array
from scipy.sparse.csgraph import breadth_first_order, connected_components

from mandorla.core.part.mesh import Floats, Ints, signed_volume

LARGEST_HOLE: Final = 0.2  # length of the rim over the longest side of the box; a longer one may be part of the shape
_MOST_HOLES: Final = 200


def mended(faces: Ints, vertices: Floats) -> tuple[Ints, tuple[str, ...]]:
    """Faces (m, 3) of a surface that is closed if it could be mended, and what was done.

    Doubled faces are dropped where an edge has too many; every piece is turned one way round by walking over its edges; rims of
    holes shorter than ``LARGEST_HOLE`` of the longest side are closed by a fan. Larger holes stay: what
    was meant there cannot be known.
    """
    notes: list[str] = []
    faces = _without_doubles(faces, notes)
    faces = _one_way_round(faces, vertices, notes)
    return _without_holes(faces, vertices, notes), tuple(notes)


def _edges(faces: Ints, count: int) -> tuple[Ints, Ints]:
    """Key of every half edge (3m,), the same for both directions, and its direction +1 or -1."""
    a, b = faces[:, [0, 1, 2]].ravel(), faces[:, [1, 2, 0]].ravel()
    return np.minimum(a, b) * np.int64(count) + np.maximum(a, b), np.where(a < b, 1, -1)


def _without_doubles(faces: Ints, notes: list[str]) -> Ints:
    _, first, times = np.unique(np.sort(faces, axis=1), axis=0, return_index=True, return_counts=True)
    if (times == 1).all():
        return faces
    # two faces back to back are a sheet without thickness and bound nothing; of more, one is meant
    kept = np.sort(first[times % 2 == 1])
    notes.append(f"{len(faces) - kept.size} doubled triangles left out")
    return np.asarray(faces[kept])


def _one_way_round(faces: Ints, vertices: Floats, notes: list[str]) -> Ints:
    key, way = _edges(faces, len(vertices))
    order = np.argsort(key, kind="stable")
    sorted_key = key[order]
    same = np.flatnonzero(sorted_key[1:] == sorted_key[:-1])
    alone = np.ones(same.size, dtype=bool)
    alone[1:] &= same[1:] != same[:-1] + 1  # only edges of just two faces are walked over
    alone[:-1] &= same[1:] != same[:-1] + 1
    pair = same[alone]
    one, other = order[pair] // 3, order[pair + 1] // 3
    opposed = (way[order[pair]] == way[order[pair + 1]]).astype(np.int64)
    if not opposed.any():
        return faces
    m = len(faces)
    rows, columns = np.concatenate([one, other]), np.concatenate([other, one])
    graph = coo_array((np.ones(rows.size), (rows, columns)), shape=(m, m)).tocsr()
    clash = coo_array((np.concatenate([opposed, opposed]), (rows, columns)), shape=(m, m)).tocsr()
    count, label = connected_components(graph, directed=False)
    turn = np.zeros(m, dtype=bool)
    for piece in range(count):
        start = int(np.flatnonzero(label == piece)[0])
        visited, before = breadth_first_order(graph, start, directed=False)
        for face in visited[1:]:
            turn[face] = turn[before[face]] ^ bool(clash[before[face], face])
        mine = np.flatnonzero(label == piece)
        turned = np.where(turn[mine, None], faces[mine][:, ::-1], faces[mine])
        if turn[mine].any() and signed_volume(vertices[turned]) < 0.0:
            turn[mine] ^= True
    if turn.any():
        notes.append(f"{int(turn.sum())} triangles looked the wrong way and were turned")
    return np.where(turn[:, None], faces[:, ::-1], faces)


def _without_holes(faces: Ints, vertices: Floats, notes: list[str]) -> Ints:
    key, _ = _edges(faces, len(vertices))
    _, inverse, times = np.unique(key, return_inverse=True, return_counts=True)
    open_half = np.flatnonzero(times[inverse] == 1)
    if open_half.size == 0:
        return faces
    corner = np.column_stack([faces[:, [0, 1, 2]].ravel(), faces[:, [1, 2, 0]].ravel()])[open_half]
    following = {int(b): int(a) for a, b in corner}  # the rim runs against the faces that end at it
    if len(following) < len(corner):
        return faces  # rims meet in a vertex: which way to go is not known
    limit = LARGEST_HOLE * float(np.ptp(vertices, axis=0).max())
    added: list[tuple[int, int, int]] = []
    holes, left = 0, set(following)
    while left:
        start = left.pop()
        loop, here = [start], following[start]
        while here != start:
            if here not in left:
                return faces
            left.discard(here)
            loop.append(here)
            here = following[here]
        rim = vertices[loop]
        if np.linalg.norm(np.roll(rim, -1, axis=0) - rim, axis=1).sum() > limit or holes >= _MOST_HOLES:
            return faces
        holes += 1
        added += [(loop[0], loop[i], loop[i + 1]) for i in range(1, len(loop) - 1)]
    notes.append(f"{holes} small holes closed" if holes > 1 else "a small hole closed")
    return np.concatenate([faces, np.array(added, dtype=np.int64)])
