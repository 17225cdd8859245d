"""Loads the material library that ships with Mandorla: bed layers, polymers, plate surfaces with their grip."""

from __future__ import annotations

import tomllib
from collections.abc import Mapping
from dataclasses import dataclass, fields
from functools import cache
from importlib import resources
from typing import Any, TypeVar

from mandorla.core.errors import InputError, LibraryDataError, Problem
from mandorla.core.materials.values import Value, read_value


@dataclass(frozen=True, slots=True)
class BedMaterial:
    """A material of the bed stack: W/m·K, kg/m³, J/kg·K, 1, K; Young's modulus Pa, Poisson's ratio, expansion 1/K; a plate's own
    departure from flat over its length (None: it has no flatness of its own)."""

    key: str
    name: str
    conductivity: Value
    density: Value
    specific_heat: Value
    emissivity: Value
    rating: Value
    modulus: Value
    poisson: Value
    expansion: Value
    flatness: Value | None = None


@dataclass(frozen=True, slots=True)
class Polymer:
    """A printed polymer in SI and kelvin; ``moisture`` and ``annealing`` are notes on drying and on heating the finished part.

    ``hot_modulus`` is the share of the modulus at 23 °C that is left at the stress-free temperature, ``across_layers`` the
    modulus across layers over that along them; ``healing_time`` is the time to full interlayer strength at 50 K above the glass
    transition (or at the stress-free temperature if that is higher). ``relaxation_time`` is that of the stretched exponential at
    the glass transition; it shifts with ``softening_activation`` down to 15 K below and with ``creep_activation`` (J/mol) further
    down. ``bead_factor`` is the in-plane modulus of printed lines over that of the solid polymer, ``crystal_plateau`` the share of
    the modulus that crystals keep above the glass transition. ``joint_energy`` is the fracture energy (J/m²) of a fully healed
    joint between layers, ``softening_viscosity`` the zero-shear viscosity (Pa s) at the softening temperature,
    ``melting_enthalpy`` (J/kg) what melts the crystals of the filament.
    """

    key: str
    name: str
    structure: str
    moisture: str
    annealing: str
    density: Value
    specific_heat: Value
    conductivity: Value
    modulus: Value
    hot_modulus: Value
    across_layers: Value
    poisson: Value
    expansion: Value
    glass_transition: Value
    stress_free_temperature: Value
    deposition_temperature: Value
    strength: Value
    healing_time: Value
    relaxation_time: Value
    bead_factor: Value
    crystal_plateau: Value
    creep_activation: Value
    softening_activation: Value
    joint_energy: Value
    softening_viscosity: Value
    melting_enthalpy: Value

    @property
    def softening_temperature(self) -> float:
        """Above it the feed softens: the higher of glass transition and, for semicrystalline polymers, 60 K below the onset of
        crystallisation (K)."""
        return max(self.glass_transition.typical, self.stress_free_temperature.typical - 60.0)

    @property
    def flow_temperature(self) -> float:
        """Above it the part flows: the glass transition, of polymers with crystals the onset of crystallisation (K)."""
        return (self.stress_free_temperature if self.crystal_plateau.typical > 0.0 else self.glass_transition).typical


@dataclass(frozen=True, slots=True)
class JointKind:
    """How two layers meet: contact resistance m²K/W, whether they bend as one, s until it may be loaded, what to mind; a magnet's
    pull on a thin sheet (Pa) and the width (m) of a pair of its poles, over which the pull falls with the gap as
    exp(-2 pi gap/width); None for what does not pull."""

    key: str
    name: str
    resistance: Value
    bonded: bool
    cure_time: float
    care: str
    pull: Value | None
    pole_width: Value | None


@dataclass(frozen=True, slots=True)
class WallMaterial:
    """A material of chamber panels: W/m·K, kg/m³, J/kg·K, 1, K."""

    key: str
    name: str
    conductivity: Value
    density: Value
    specific_heat: Value
    emissivity: Value
    rating: Value


@dataclass(frozen=True, slots=True)
class WallBuild:
    """A usual build of a panel: (material, thickness m) from the inside out."""

    key: str
    name: str
    layers: tuple[tuple[str, float], ...]


@dataclass(frozen=True, slots=True)
class SeenSurface:
    """A surface as an infrared instrument sees it: emissivity; made to be measured on; a film that lets radiation through."""

    key: str
    name: str
    emissivity: Value
    reference: bool
    film: bool


T = TypeVar("T")


def read_table(name: str) -> dict[str, Any]:
    """A file of the library as it stands."""
    text = resources.files("mandorla.core.materials.library").joinpath(name).read_text(encoding="utf-8")
    return tomllib.loads(text)


def values_of(cls: type[T], where: str, row: Mapping[str, Any], sources: Mapping[str, str], **given: Any) -> T:
    """A library entry: what is ``given``, and a checked figure for every other field but those that may be absent and are. Raises
    :class:`LibraryDataError`."""
    optional = {f.name for f in fields(cls) if f.default is None}  # type: ignore[arg-type]
    wanted = [f.name for f in fields(cls) if f.name not in given]  # type: ignore[arg-type]
    wanted = [n for n in wanted if n in row or n not in optional]
    missing = [n for n in wanted if n not in row]
    if missing:
        raise LibraryDataError(f"{where}: no row for {', '.join(missing)}")
    return cls(**given, **{n: read_value(where, n, row[n], sources) for n in wanted})


@cache
def bed_materials() -> Mapping[str, BedMaterial]:
    """All bed-layer materials by key."""
    data = read_table("bed_layers.toml")
    return {
        key: values_of(BedMaterial, f"layer.{key}", row, data["sources"], key=key, name=row["name"])
        for key, row in data["layer"].items()
    }


@cache
def polymers() -> Mapping[str, Polymer]:
    """All polymers by key."""
    data = read_table("polymers.toml")
    return {
        key: values_of(
            Polymer,
            f"polymer.{key}",
            row,
            data["sources"],
            key=key,
            **{name: row[name] for name in ("name", "structure", "moisture", "annealing")},
        )
        for key, row in data["polymer"].items()
    }


@cache
def joint_kinds() -> Mapping[str, JointKind]:
    """All kinds of joints by key."""
    data = read_table("joints.toml")
    return {
        key: values_of(
            JointKind, f"joint.{key}", row, data["sources"], key=key, name=row["name"], bonded=bool(row["bonded"]),
            cure_time=float(row["cure_time"]), care=row["care"],
            **{name: read_value(f"joint.{key}", name, row[name], data["sources"]) if name in row else None
               for name in ("pull", "pole_width")},
        )
        for key, row in data["joint"].items()
    }  # fmt: skip


@cache
def wall_materials() -> Mapping[str, WallMaterial]:
    """All materials of chamber panels by key."""
    data = read_table("walls.toml")
    return {
        key: values_of(WallMaterial, f"wall.{key}", row, data["sources"], key=key, name=row["name"])
        for key, row in data["wall"].items()
    }


@cache
def wall_builds() -> Mapping[str, WallBuild]:
    """The usual builds of chamber panels by key."""
    known = wall_materials()
    found = {}
    for key, row in read_table("walls.toml")["build"].items():
        layers = tuple((str(material), float(thickness)) for material, thickness in row["layers"])
        for material, _ in layers:
            if material not in known:
                raise LibraryDataError(f"build.{key}: there is no wall material “{material}”")
        found[key] = WallBuild(key, row["name"], layers)
    return found


@cache
def seen_surfaces() -> Mapping[str, SeenSurface]:
    """Surfaces with their emissivity in the band of usual infrared instruments, by key."""
    data = read_table("emissivities.toml")
    return {
        key: values_of(
            SeenSurface, f"surface.{key}", row, data["sources"], key=key, name=row["name"],
            reference=bool(row.get("reference", False)), film=bool(row.get("film", False)),
        )
        for key, row in data["surface"].items()
    }  # fmt: skip


def lookup(table: Mapping[str, T], key: str, where: str) -> T:
    """The entry for a key. Raises :class:`InputError` naming the keys that exist."""
    if key not in table:
        raise InputError(
            f"{where}: there is no “{key}” in the library.",
            problems=(Problem(where, f"“{key}”", "one of " + ", ".join(sorted(table))),),
        )
    return table[key]
