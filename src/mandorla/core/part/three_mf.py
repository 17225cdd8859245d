"""Reads 3MF packages as triangles: the unit that the file states, several bodies, components, the transforms of its build.

After the open 3MF core specification 1.3 (units, object resources, components, build items, row-vector transforms) and the
part paths of its production extension.
"""

from __future__ import annotations

import io
import zipfile
import zlib
from collections.abc import Mapping
from dataclasses import dataclass
from typing import Final
from xml.etree import ElementTree

import numpy as np

from mandorla.core.errors import MeshError, Problem
from mandorla.core.part.mesh import MAX_TRIANGLES, Floats, Ints

UNITS: Final = {
    "micron": 1e-3,
    "millimeter": 1.0,
    "centimeter": 10.0,
    "inch": 25.4,
    "foot": 304.8,
    "meter": 1000.0,
}  # mm
_MODEL: Final = "3D/3dmodel.model"
_LARGEST: Final = 512 * 1024 * 1024
_DEEPEST: Final = 16  # components inside components


@dataclass(frozen=True, slots=True)
class Package:
    """What a package holds: ``triangles`` (m, 3, 3) in mm, the number of ``bodies`` on the plate, and remarks."""

    triangles: Floats
    bodies: int
    notes: tuple[str, ...]


@dataclass(frozen=True, slots=True)
class _Object:
    vertices: Floats
    faces: Ints
    parts: tuple[tuple[str, str, Floats], ...]  # model path, object id, transform


def _refuse(name: str, message: str, value: str, allowed: str) -> MeshError:
    return MeshError(f"{name}: {message}", problems=(Problem(name, value, allowed),))


def _local(tag: str) -> str:
    return tag.rpartition("}")[2]


def _attribute(element: ElementTree.Element, name: str) -> str | None:
    """An attribute by its local name, whatever its namespace."""
    return next((v for k, v in element.attrib.items() if _local(k) == name), None)


def _transform(text: str | None, name: str) -> Floats:
    """Twelve numbers as a (4, 3) matrix for row vectors; the identity where there is none."""
    if text is None:
        return np.vstack([np.eye(3), np.zeros(3)])
    try:
        values = np.array([float(v) for v in text.split()])
    except ValueError:
        values = np.empty(0)
    if values.size != 12 or not np.isfinite(values).all():
        raise _refuse(name, "a transform cannot be read.", text[:60], "twelve numbers")
    return values.reshape(4, 3)


def _after(first: Floats, second: Floats) -> Floats:
    """The transform that applies ``first``, then ``second``."""
    return np.vstack([first[:3] @ second[:3], first[3] @ second[:3] + second[3]])


class _Reader:
    """Model parts of a package, read once each."""

    def __init__(self, archive: zipfile.ZipFile, name: str) -> None:
        self._archive, self._name = archive, name
        self._models: dict[str, tuple[float, dict[str, _Object], list[tuple[str, str, Floats]]]] = {}

    def model(self, path: str) -> tuple[float, dict[str, _Object], list[tuple[str, str, Floats]]]:
        """Unit (mm), objects by id and build items of one part of the package."""
        path = path.lstrip("/")
        if path not in self._models:
            self._models[path] = self._parse(path)
        return self._models[path]

    def _parse(self, path: str) -> tuple[float, dict[str, _Object], list[tuple[str, str, Floats]]]:
        try:
            info = self._archive.getinfo(path)
        except KeyError:
            raise _refuse(self._name, f"the package lacks its part “{path}”.", "nothing", "a model part") from None
        if info.file_size > _LARGEST:
            raise _refuse(self._name, "the model is too large.", f"{info.file_size} bytes", f"at most {_LARGEST}")
        data = self._archive.read(path)
        if b"<!DOCTYPE" in data[:4096] or b"<!ENTITY" in data:
            raise _refuse(self._name, "the model declares entities, which no part needs.", "<!DOCTYPE", "plain XML")
        try:
            root = ElementTree.fromstring(data)
        except ElementTree.ParseError as error:
            raise _refuse(self._name, f"“{path}” is no XML: {error}.", "broken text", "well-formed XML") from None
        unit = root.get("unit", "millimeter")
        if unit not in UNITS:
            raise _refuse(self._name, "the unit is unknown.", unit, ", ".join(UNITS))
        objects, items = {}, []
        for element in root.iter():
            kind = _local(element.tag)
            if kind == "object":
                objects[element.get("id", "")] = self._object(element, path)
            elif kind == "item":
                where = _attribute(element, "path") or path
                items.append((where, element.get("objectid", ""), _transform(element.get("transform"), self._name)))
        return UNITS[unit], objects, items

    def _object(self, element: ElementTree.Element, path: str) -> _Object:
        points, faces, parts = [], [], []
        try:
            for child in element.iter():
                kind = _local(child.tag)
                if kind == "vertex":
                    points.append((float(child.attrib["x"]), float(child.attrib["y"]), float(child.attrib["z"])))
                elif kind == "triangle":
                    faces.append((int(child.attrib["v1"]), int(child.attrib["v2"]), int(child.attrib["v3"])))
                elif kind == "component":
                    where = _attribute(child, "path") or path
                    parts.append((where, child.attrib["objectid"], _transform(child.get("transform"), self._name)))
        except (KeyError, ValueError) as error:
            which = element.get("id", "?")
            raise _refuse(
                self._name, f"object {which} is damaged: {error}.", "an unreadable number", "numbers"
            ) from None
        vertices, triangles = (
            np.array(points, dtype=np.float64).reshape(-1, 3),
            np.array(faces, dtype=np.int64).reshape(-1, 3),
        )
        if triangles.size and (triangles.min() < 0 or triangles.max() >= len(vertices)):
            bad = int(np.abs(triangles).max())
            raise _refuse(
                self._name, "a triangle names a vertex that does not exist.", str(bad), f"0 to {len(vertices) - 1}"
            )
        if len(triangles) > MAX_TRIANGLES:
            raise _refuse(
                self._name, "the mesh is too large.", f"{len(triangles)} triangles", f"at most {MAX_TRIANGLES}"
            )
        return _Object(vertices, triangles, tuple(parts))

    def collect(self, path: str, key: str, place: Floats, unit: float, found: list[Floats], depth: int = 0) -> None:
        """Add the bodies of an object, moved to their place, in mm."""
        if depth > _DEEPEST:
            raise _refuse(self._name, "components contain each other.", f"{depth} levels", f"at most {_DEEPEST}")
        objects: Mapping[str, _Object] = self.model(path)[1]
        if key not in objects:
            raise _refuse(
                self._name, "the build names an object that does not exist.", key, ", ".join(sorted(objects)) or "none"
            )
        thing = objects[key]
        if thing.faces.size:
            moved = thing.vertices @ place[:3] + place[3]
            corners = moved[thing.faces] * unit
            found.append(corners[:, ::-1] if np.linalg.det(place[:3]) < 0.0 else corners)
        for where, part, transform in thing.parts:
            self.collect(where, part, _after(transform, place), unit, found, depth + 1)


def read_3mf(data: bytes, name: str) -> Package:
    """The bodies on the plate of a 3MF package, in mm. Raises :class:`MeshError` with what is wrong and what is allowed."""
    try:
        with zipfile.ZipFile(io.BytesIO(data)) as archive:
            names = archive.namelist()
            start = _MODEL if _MODEL in names else next((n for n in names if n.lower().endswith(".model")), _MODEL)
            reader = _Reader(archive, name)
            unit, objects, items = reader.model(start)
            found: list[Floats] = []
            if not items:
                items = [(start, key, _transform(None, name)) for key, o in objects.items() if o.faces.size]
            for where, key, place in items:
                reader.collect(where, key, place, unit, found)
    except (zipfile.BadZipFile, zlib.error, OSError, EOFError, NotImplementedError, RuntimeError) as error:
        raise _refuse(name, "the package is damaged.", str(error)[:60], "a zip archive with a 3D model") from None
    if not found:
        raise _refuse(name, "the package holds no body.", "0 triangles", "at least one closed body")
    name = next(k for k, v in UNITS.items() if v == unit)
    notes = (
        [f"the file is in {'inches' if name == 'inch' else 'feet' if name == 'foot' else name + 's'}"]
        if unit != 1.0
        else []
    )
    if len(found) > 1:
        notes.append(f"{len(found)} bodies, placed as the file says")
    return Package(np.concatenate(found), len(found), tuple(notes))
