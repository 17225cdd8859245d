"""Makes a closed solid of loose triangles: welds, mends what is safely mended, refuses what is no solid, with place and limit.

Welding and the closing of holes are the mesh library's (trimesh, loaded only once a part is opened); what may be
mended at all is decided here, as nobody but its author knows what a large hole was meant to be.
"""

from __future__ import annotations

from typing import TYPE_CHECKING, Final

import numpy as np
from numpy.typing import NDArray
from scipy.sparse import coo_matrix
from scipy.sparse.csgraph import connected_components

from mandorla.core.errors import MeshError, Problem
from mandorla.core.part.mesh import LARGEST, SMALLEST, Floats, Mesh, signed_volume

if TYPE_CHECKING:
    import trimesh

WELD: Final = 1e-6  # of the longest side: vertices nearer than this are one
LARGEST_HOLE: Final = 0.2  # length of the rim over the longest side of the box; a longer one may be part of the shape
MOST_HOLES: Final = 200


def refused(name: str, message: str, value: str, allowed: str) -> MeshError:
    """The error of a file that is no solid: what is wrong, the value found and what is allowed."""
    return MeshError(f"{name}: {message}", problems=(Problem(name, value, allowed),))


def closed_solid(triangles: Floats, name: str) -> Mesh:
    """Loose triangles as a closed solid that stands on z = 0, its bounding box centred on x = y = 0.

    Parameters
    ----------
    triangles
        Corner coordinates (m, 3, 3) in m.
    name
        Of the file, for messages.

    Returns
    -------
    Mesh
        With a note for everything that was mended.

    Raises
    ------
    MeshError
        Impossible coordinates, a wrong scale, a flat or open surface, faces that cannot be turned one way, no volume.
    """
    import trimesh
    from trimesh import grouping

    _check_coordinates(triangles, name)
    extent = np.ptp(triangles.reshape(-1, 3), axis=0)
    longest = float(extent.max())
    _check_size(extent, name)
    notes: list[str] = []
    points = triangles.reshape(-1, 3)
    first, welded = grouping.unique_rows((points - points.min(axis=0)) / (longest * WELD), digits=0)
    order = np.lexsort(points[first].T[::-1])  # a body is the same in whichever order its file lists it
    faces = np.argsort(order)[np.asarray(welded)].reshape(-1, 3)
    body = trimesh.Trimesh(points[first][order], faces, process=False)
    flat = (body.faces == np.roll(body.faces, 1, axis=1)).any(axis=1)
    if flat.any():
        notes.append(f"{int(flat.sum())} triangles without area left out")
        body.update_faces(~flat)
    if _unbalanced(body).size:
        _leave_out_doubles(body, notes)
        _turn_one_way(body, notes)
        _close_small_holes(body, LARGEST_HOLE * longest, notes)
    faces, vertices = np.asarray(body.faces, dtype=np.int64), np.asarray(body.vertices)
    _check_closed(body, name)
    volume = signed_volume(vertices[faces])
    if volume < 0.0:
        faces, volume = faces[:, ::-1], -volume
        notes.append("all faces pointed inwards and were turned")
    if volume < 1e-6 * float(np.prod(extent)):
        raise refused(name, "the mesh encloses no volume.", f"{1e9 * volume:.3g} mm³", "a solid body")
    low, high = vertices.min(axis=0), vertices.max(axis=0)
    placed = vertices - np.array([0.5 * (low[0] + high[0]), 0.5 * (low[1] + high[1]), low[2]])
    for array in (placed, faces):
        array.setflags(write=False)
    return Mesh(placed, faces, tuple(notes))


def _check_coordinates(triangles: Floats, name: str) -> None:
    bad = ~np.isfinite(triangles).all(axis=(1, 2)) | (np.abs(triangles) > 1e9).any(axis=(1, 2))
    if bad.any():
        where = int(np.flatnonzero(bad)[0])
        value = str(triangles[where].ravel()[:3])
        raise refused(name, f"triangle {where + 1} has impossible coordinates.", value, "finite numbers")


def _check_size(extent: Floats, name: str) -> None:
    longest, shortest = float(extent.max()), float(extent.min())
    if not SMALLEST <= longest <= LARGEST:
        message, value = "the size looks wrongly scaled; choose the unit of the file.", f"{1e3 * longest:.4g} mm"
        raise refused(name, message, f"{value} at its longest", f"{1e3 * SMALLEST:.0f} mm to {1e3 * LARGEST:.0f} mm")
    if shortest < 1e-5:
        value = f"{1e3 * shortest:.3g} mm thick"
        raise refused(name, "the mesh is flat.", value, "at least 0.01 mm in every direction")


def _unbalanced(body: trimesh.Trimesh) -> NDArray[np.int64]:
    """Places in ``edges_sorted`` (k,) of edges that are not used as often in one direction as in the other, once each."""
    key = body.edges_sorted[:, 0].astype(np.int64) * len(body.vertices) + body.edges_sorted[:, 1]
    _, first, inverse = np.unique(key, return_index=True, return_inverse=True)
    way = np.where(body.edges[:, 0] == body.edges_sorted[:, 0], 1.0, -1.0)
    return np.asarray(first[np.bincount(inverse, weights=way) != 0.0])


def _leave_out_doubles(body: trimesh.Trimesh, notes: list[str]) -> None:
    _, first, times = np.unique(np.sort(body.faces, axis=1), axis=0, return_index=True, return_counts=True)
    if (times == 1).all():
        return
    # two faces back to back are a sheet without thickness and bound nothing; of more, one is meant
    kept = np.sort(first[times % 2 == 1])
    notes.append(f"{len(body.faces) - kept.size} doubled triangles left out")
    body.update_faces(kept)


def _to_be_turned(body: trimesh.Trimesh) -> NDArray[np.bool_]:
    """The fewest faces (n,) of each connected piece that have to be turned for all of it to be wound one way; none of a piece that
    has no two sides.

    Every face is two nodes, as it is and turned; neighbours that agree join like with like, those that do not join crosswise. A
    piece falls into two halves of that graph, one of which is its winding.
    """
    pairs, edges, count = body.face_adjacency, body.face_adjacency_edges, len(body.faces)
    nothing = np.zeros(count, dtype=bool)
    if not len(pairs):
        return nothing

    def forwards(which: NDArray[np.int64]) -> NDArray[np.bool_]:
        face = body.faces[which]
        return np.asarray(((face == edges[:, :1]) & (np.roll(face, -1, axis=1) == edges[:, 1:])).any(axis=1))

    crossed = (forwards(pairs[:, 0]) == forwards(pairs[:, 1])).astype(np.int64)
    one, other = pairs[:, 0], pairs[:, 1]
    rows = np.concatenate([one, one + count])
    columns = np.concatenate([other + count * crossed, other + count * (1 - crossed)])
    joined = coo_matrix((np.ones(rows.size, dtype=np.int8), (rows, columns)), shape=(2 * count, 2 * count))
    _, half = connected_components(joined, directed=False)
    as_is, turned = half[:count], half[count:]
    # of each piece that half which keeps more faces as they are
    kept = np.bincount(as_is, minlength=int(half.max()) + 1)
    return np.asarray((kept[turned] > kept[as_is]) | ((kept[turned] == kept[as_is]) & (turned < as_is)))


def _turn_one_way(body: trimesh.Trimesh, notes: list[str]) -> None:
    """Every connected piece wound one way round; one that was turned in part looks outwards afterwards."""
    from trimesh import graph

    before = np.array(body.faces)
    faces = before.copy()
    turned_over = _to_be_turned(body)
    faces[turned_over] = faces[turned_over][:, ::-1]
    changed = (faces != before).any(axis=1)
    if not changed.any():
        return
    label = graph.connected_component_labels(body.face_adjacency, node_count=len(faces))
    for piece in np.unique(label[changed]):
        mine = label == piece
        if signed_volume(np.asarray(body.vertices)[faces[mine]]) < 0.0:
            faces[mine] = faces[mine][:, ::-1]
    body.faces = faces
    turned = int((faces != before).any(axis=1).sum())
    if turned:
        notes.append(f"{turned} triangles looked the wrong way and were turned")


def _close_small_holes(body: trimesh.Trimesh, longest_rim: float, notes: list[str]) -> None:
    """Fans over all holes, where every one is small and no two meet in a vertex: elsewhere the shape meant is not known."""
    from trimesh import graph, grouping, repair

    rim = body.edges[grouping.group_rows(body.edges_sorted, require_count=1)]
    if len(rim) == 0 or (np.bincount(rim.ravel()) > 2).any():
        return
    length = np.linalg.norm(np.diff(np.asarray(body.vertices)[rim], axis=1)[:, 0], axis=1)
    holes = graph.connected_components(rim, min_len=3)
    label = graph.connected_component_labels(rim, node_count=len(body.vertices))[rim[:, 0]]
    if len(holes) > MOST_HOLES or np.bincount(label, weights=length).max() > longest_rim:
        return
    repair.fill_holes(body, use_fan=True)
    notes.append(f"{len(holes)} small holes closed" if len(holes) > 1 else "a small hole closed")


def _check_closed(body: trimesh.Trimesh, name: str) -> None:
    wrong = _unbalanced(body)
    if wrong.size == 0:
        return
    place = 1e3 * np.asarray(body.vertices)[int(body.edges_sorted[wrong[0], 0])]
    at = f"first near x {place[0]:.2f}, y {place[1]:.2f}, z {place[2]:.2f} mm"
    _, uses = np.unique(body.edges_sorted, axis=0, return_counts=True)
    if (uses == 1).any():
        allowed = "a closed surface in which every edge joins two faces; repair the mesh and open it again"
        raise refused(name, f"the surface is not closed ({at}).", f"{int((uses == 1).sum())} open edges", allowed)
    message = f"faces meet the wrong way round or more than two share an edge ({at})."
    raise refused(name, message, f"{wrong.size} faulty edges", "a manifold surface, all faces pointing outwards")
