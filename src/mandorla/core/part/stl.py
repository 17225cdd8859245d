"""STL, binary or text: cut-off, empty and broken files are told apart and refused before the mesh library reads them."""

from __future__ import annotations

import io
import re
from typing import Final

import numpy as np

from mandorla.core.part.mesh import MAX_TRIANGLES, Floats
from mandorla.core.part.solid import refused

_VERTEX: Final = re.compile(rb"vertex\s+(\S+)\s+(\S+)\s+(\S+)\s*$")
_HEAD, _RECORD = 84, 50  # bytes before the first triangle, and of each


def read_stl(data: bytes, name: str) -> Floats:
    """Triangles (m, 3, 3) in the file's unit.

    Raises
    ------
    MeshError
        No STL, empty, cut off, too many triangles, or a text line that is no vertex, by its number.
    """
    from trimesh.exchange.stl import load_stl_ascii, load_stl_binary

    if len(data) < _HEAD and not data.lower().lstrip().startswith(b"solid"):
        allowed = "at least 84 bytes, or text that starts with “solid”"
        raise refused(name, "this is no STL file.", f"{len(data)} bytes", allowed)
    if not _is_text(data):
        with np.errstate(invalid="ignore"):  # what is not finite is refused by its place later
            loaded = load_stl_binary(io.BytesIO(data[: _checked_length(data, name)]))
            return np.asarray(loaded["vertices"], dtype=np.float64).reshape(-1, 3, 3)
    loaded = load_stl_ascii(io.BytesIO(_plain_text(data, name)))
    return np.asarray(loaded["vertices"], dtype=np.float64).reshape(-1, 3, 3)


def _is_text(data: bytes) -> bool:
    start = data[:2000].lower()
    if not start.lstrip().startswith(b"solid"):
        return False
    announced = _HEAD + _RECORD * int.from_bytes(data[80:84], "little") if len(data) >= _HEAD else -1
    return (announced != len(data) and b"facet" in start) or len(data) < 400


def _checked_length(data: bytes, name: str) -> int:
    """Bytes of header and triangles; what some programs append is passed over."""
    count = int.from_bytes(data[80:84], "little")
    expected = _HEAD + _RECORD * count
    if count == 0:
        raise refused(name, "the file is empty.", "0 triangles", "at least 4 triangles")
    if count > MAX_TRIANGLES:
        raise refused(name, "the mesh is too large.", f"{count} triangles", f"at most {MAX_TRIANGLES}")
    if len(data) < expected:
        allowed = f"{expected} bytes for the {count} triangles it announces"
        raise refused(name, "the file is cut off.", f"{len(data)} bytes", allowed)
    return expected


def _plain_text(data: bytes, name: str) -> bytes:
    """The vertices alone, every one checked, as one solid: names and normals could only mislead a reader."""
    lines = []
    for number, line in enumerate(data.lower().splitlines(), start=1):
        if not line.lstrip().startswith(b"vertex"):
            continue
        match = _VERTEX.search(line)
        try:
            if match is None:
                raise ValueError
            lines.append(b"vertex %r %r %r" % tuple(float(value) for value in match.groups()))
        except ValueError:
            text = line.strip().decode("ascii", "replace")[:60]
            allowed = "vertex x y z with three numbers"
            raise refused(name, f"line {number} is no vertex.", f"“{text}”", allowed) from None
    if not lines:
        raise refused(name, "the file is empty.", "0 triangles", "at least 4 triangles")
    if len(lines) > 3 * MAX_TRIANGLES:
        raise refused(name, "the mesh is too large.", f"{len(lines) // 3} triangles", f"at most {MAX_TRIANGLES}")
    if len(lines) % 3 or b"endsolid" not in data[-400:].lower():
        allowed = "three vertices a facet, closed by endsolid"
        raise refused(name, "the file is cut off.", f"{len(lines)} vertices, no end", allowed)
    return b"\n".join([b"solid", *lines, b"endsolid"])
