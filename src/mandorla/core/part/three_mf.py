"""3MF packages: the unit that the file states, several bodies, components, the transforms of its build.

After the open 3MF core specification 1.3 (units, object resources, components, build items, row-vector transforms) and the
part paths of its production extension. The mesh library reads the geometry. It is handed one plain model, checked here: by
itself it takes objects of equal numbers in different parts of a package for one and of items with one part number the last
only, opens archives of any size, and passes over references that lead nowhere.
"""

from __future__ import annotations

import io
import zipfile
import zlib
from dataclasses import dataclass
from typing import Final
from xml.etree import ElementTree
from xml.parsers import expat

import numpy as np

from mandorla.core.archives import check_archive
from mandorla.core.errors import InputError
from mandorla.core.part.mesh import MAX_TRIANGLES, Floats
from mandorla.core.part.solid import refused

UNITS: Final = {
    "micron": 1e-3,
    "millimeter": 1.0,
    "centimeter": 10.0,
    "inch": 25.4,
    "foot": 304.8,
    "meter": 1000.0,
}  # mm
_MOST_BODIES: Final = 400
_MODEL: Final = "3D/3dmodel.model"
_LARGEST: Final = 512 * 1024 * 1024
_DEEPEST: Final = 16  # components inside components
_DEEPEST_XML: Final = 64
_MOST_ELEMENTS: Final = 4 * MAX_TRIANGLES


@dataclass(frozen=True, slots=True)
class Package:
    """What a package holds: ``triangles`` (m, 3, 3) in mm, the number of ``bodies`` on the plate, and remarks."""

    triangles: Floats
    bodies: int
    notes: tuple[str, ...]


def read_3mf(data: bytes, name: str) -> Package:
    """The bodies on the plate of a 3MF package, in mm.

    Raises
    ------
    MeshError
        A damaged or oversized archive, an unknown unit, a reference that leads nowhere, an unreadable number.
    """
    import trimesh

    try:
        with zipfile.ZipFile(io.BytesIO(data)) as archive:
            check_archive(archive, name)
            model = _PlainModel(archive, name)
    except InputError as error:
        raise refused(
            name, error.message.removeprefix(f"{name}: ").removeprefix(f"{name} "), "the package", "a usual one"
        ) from None
    except (zipfile.BadZipFile, zlib.error, OSError, EOFError, NotImplementedError, RuntimeError, ValueError) as error:
        raise refused(name, "the package is damaged.", str(error)[:60], "a zip archive with a 3D model") from None
    if not model.bodies:
        raise refused(name, "the package holds no body.", "0 triangles", "at least one closed body")
    try:
        scene = trimesh.load_scene(io.BytesIO(model.packed()), file_type="3mf", process=False)
    except (ValueError, KeyError, OverflowError, SyntaxError) as error:  # the reader's own tree is one of syntax errors
        raise refused(name, f"an object is damaged: {str(error)[:80]}.", "an unreadable number", "numbers") from None
    for part in scene.geometry.values():
        if len(part.faces) and not 0 <= part.faces.min() <= part.faces.max() < len(part.vertices):
            bad = str(int(np.abs(part.faces).max()))
            allowed = f"0 to {len(part.vertices) - 1}"
            raise refused(name, "a triangle names a vertex that does not exist.", bad, allowed)
    with np.errstate(all="ignore"):  # what is not finite is refused by its place later
        triangles = np.asarray(scene.to_mesh().triangles, dtype=np.float64) * UNITS[model.unit]
    plural = {"inch": "inches", "foot": "feet"}.get(model.unit, model.unit + "s")
    notes = [f"the file is in {plural}"] if UNITS[model.unit] != 1.0 else []
    if model.bodies > 1:
        notes.append(f"{model.bodies} bodies, placed as the file says")
    return Package(triangles, model.bodies, tuple(notes))


def _local(tag: str) -> str:
    return tag.rpartition("}")[2]


def _path(element: ElementTree.Element, here: str) -> str:
    """The part of the package that a reference leads to: its ``path``, whatever the namespace, or the part it stands in."""
    return next((v for k, v in element.attrib.items() if _local(k) == "path"), here).lstrip("/")


class _Declares(Exception):
    """A document type, in whatever encoding."""


class _TooMuch(Exception):
    """Too many or too deeply nested elements."""


def _plain_xml(data: bytes) -> ElementTree.Element:
    """XML without a document type, of limited depth and size. Raises ParseError, ValueError, LookupError and the two above."""
    builder = ElementTree.TreeBuilder()
    parser = expat.ParserCreate(namespace_separator="}")
    parser.ordered_attributes = True
    depth = count = 0

    def declares(*_: object) -> None:
        raise _Declares

    def begin(tag: str, attributes: list[str]) -> None:
        nonlocal depth, count
        depth, count = depth + 1, count + 1
        if depth > _DEEPEST_XML or count > _MOST_ELEMENTS:
            raise _TooMuch(f"{count} elements, {depth} deep")
        pairs = zip(attributes[::2], attributes[1::2], strict=True)
        builder.start(_named(tag), {_named(k): v for k, v in pairs})

    def end(tag: str) -> None:
        nonlocal depth
        depth -= 1
        builder.end(_named(tag))

    parser.StartDoctypeDeclHandler = declares
    parser.EntityDeclHandler = declares
    parser.StartElementHandler, parser.EndElementHandler = begin, end
    try:
        parser.Parse(data, True)
    except expat.ExpatError as error:
        raise ElementTree.ParseError(str(error)) from None
    return builder.close()


def _named(tag: str) -> str:
    return f"{{{tag}" if "}" in tag else tag


class _PlainModel:
    """All parts of a package as one model: objects renumbered, references resolved, transforms and sizes checked."""

    def __init__(self, archive: zipfile.ZipFile, name: str) -> None:
        self._archive, self._name = archive, name
        self._parts: dict[str, dict[str, ElementTree.Element]] = {}
        self._numbers: dict[tuple[str, str], str] = {}
        self._held: dict[str, tuple[int, int]] = {}
        self._root = ElementTree.Element("model")
        self._objects = ElementTree.SubElement(self._root, "resources")
        self._build = ElementTree.SubElement(self._root, "build")
        names = archive.namelist()
        start = _MODEL if _MODEL in names else next((n for n in names if n.lower().endswith(".model")), _MODEL)
        root = self._parsed(start)
        self.unit = root.get("unit", "millimeter")
        self.bodies = triangles = 0
        items = [(_path(e, start), e) for e in root.iter() if _local(e.tag) == "item"]
        if not items:
            items = [
                (start, ElementTree.Element("item", objectid=key))
                for key, thing in self._part(start).items()
                if any(_local(e.tag) == "triangle" for e in thing.iter())
            ]
        for where, item in items:
            number = self._placed(where, item, self._build, 0)
            bodies, count = self._held[number]
            self.bodies, triangles = self.bodies + bodies, triangles + count
            if triangles > MAX_TRIANGLES or self.bodies > _MOST_BODIES:
                raise refused(
                    name,
                    "the mesh is too large.",
                    f"{triangles} triangles in {self.bodies} bodies",
                    f"at most {MAX_TRIANGLES} in {_MOST_BODIES}",
                )

    def packed(self) -> bytes:
        """The model as a package of one part."""
        out = io.BytesIO()
        with zipfile.ZipFile(out, "w") as archive:
            archive.writestr(_MODEL, ElementTree.tostring(self._root))
        return out.getvalue()

    def _parsed(self, path: str) -> ElementTree.Element:
        try:
            info = self._archive.getinfo(path)
        except KeyError:
            raise refused(self._name, f"the package lacks its part “{path}”.", "nothing", "a model part") from None
        if info.file_size > _LARGEST:
            raise refused(self._name, "the model is too large.", f"{info.file_size} bytes", f"at most {_LARGEST}")
        data = self._archive.read(path)
        try:
            root = _plain_xml(data)
        except _Declares:
            raise refused(
                self._name, "the model declares entities, which no part needs.", "<!DOCTYPE", "plain XML"
            ) from None
        except _TooMuch as error:
            raise refused(self._name, "the model is too large.", str(error), "a usual one") from None
        except (ElementTree.ParseError, ValueError, LookupError) as error:
            raise refused(self._name, f"“{path}” is no XML: {error}.", "broken text", "well-formed XML") from None
        if root.get("unit", "millimeter") not in UNITS:
            raise refused(self._name, "the unit is unknown.", root.get("unit", ""), ", ".join(UNITS))
        self._parts[path] = {e.get("id", ""): e for e in root.iter() if _local(e.tag) == "object"}
        return root

    def _part(self, path: str) -> dict[str, ElementTree.Element]:
        """Objects of a part of the package by their number."""
        if path not in self._parts:
            self._parsed(path)
        return self._parts[path]

    def _placed(self, path: str, reference: ElementTree.Element, into: ElementTree.Element, depth: int) -> str:
        """Write a build item or component into the plain model, with what it refers to; the new number of that object."""
        if depth > _DEEPEST:
            raise refused(self._name, "components contain each other.", f"{depth} levels", f"at most {_DEEPEST}")
        key, objects = reference.get("objectid", ""), self._part(path)
        if key not in objects:
            known = ", ".join(sorted(objects)) or "none"
            raise refused(self._name, "the build names an object that does not exist.", key, known)
        number = self._numbers.get((path, key)) or self._written(path, key, objects[key], depth)
        placed = ElementTree.SubElement(into, _local(reference.tag), objectid=number)
        if (transform := reference.get("transform")) is not None:
            placed.set("transform", self._checked(transform))
        return number

    def _written(self, path: str, key: str, thing: ElementTree.Element, depth: int) -> str:
        """Copy an object and all that it is composed of; an object is numbered once it is complete, so loops are found."""
        copy = ElementTree.Element("object")
        bodies = triangles = 0
        for child in thing:
            if _local(child.tag) == "mesh":
                copy.append(child)
                triangles += sum(1 for e in child.iter() if _local(e.tag) == "triangle")
                bodies += 1 if triangles else 0
            elif _local(child.tag) == "components":
                group = ElementTree.SubElement(copy, "components")
                for part in (e for e in child if _local(e.tag) == "component"):
                    inner = self._held[self._placed(_path(part, path), part, group, depth + 1)]
                    bodies, triangles = bodies + inner[0], triangles + inner[1]
                    if triangles > MAX_TRIANGLES or bodies > _MOST_BODIES:  # before anything is expanded
                        raise refused(
                            self._name,
                            "the mesh is too large.",
                            f"{triangles} triangles in {bodies} bodies",
                            f"at most {MAX_TRIANGLES} in {_MOST_BODIES}",
                        )
        number = self._numbers[path, key] = str(len(self._numbers) + 1)
        copy.set("id", number)
        self._held[number] = (bodies, triangles)
        self._objects.append(copy)
        return number

    def _checked(self, transform: str) -> str:
        try:
            values = np.array([float(v) for v in transform.split()])
        except ValueError:
            values = np.empty(0)
        if values.size != 12 or not np.isfinite(values).all():
            raise refused(self._name, "a transform cannot be read.", transform[:60], "twelve numbers")
        return transform
