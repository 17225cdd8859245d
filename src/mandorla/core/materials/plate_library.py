"""Loads what plates are made of: surfaces with their grip on each polymer, coatings, finishes, states of a side, bodies."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from functools import cache
from typing import Any

from mandorla.core.errors import LibraryDataError
from mandorla.core.materials.library_data import bed_materials, joint_kinds, read_table, values_of
from mandorla.core.materials.values import Value, read_value


@dataclass(frozen=True, slots=True)
class Adhesion:
    """Grip of one polymer on one surface: Pa, J/m², K, 1, K, K (see warp.adhesion for the law)."""

    strength: Value
    fracture_energy: Value
    peak_temperature: Value
    cold_fraction: Value
    width_below: Value
    width_above: Value


@dataclass(frozen=True, slots=True)
class PlateSurface:
    """A plate surface: its stiffness as a foundation (N/m³), the range of use (K), what wears it, the polymers that bond to it so
    strongly that it tears or chips, and its grip for each polymer key; its usual ``finish``, depth of texture (m) and ``life`` in
    prints until about half of the grip is gone."""

    key: str
    name: str
    stiffness: Value
    grip: Mapping[str, Adhesion]
    lowest: Value
    highest: Value
    wear: str
    too_strong: tuple[str, ...]
    finish: str
    texture_depth: Value
    life: Value


@dataclass(frozen=True, slots=True)
class Coating:
    """What is put on a surface before a print.

    One with a ``grip`` of its own takes the surface's place; one without changes the grip of what is beneath. Either is multiplied
    by ``factor``, its cold fraction by ``cold``. ``only`` are the polymers that it is for (empty: all), ``dissolves`` the surfaces
    that it spoils; ``solvent`` takes it off (water, acetone, none); ``protects`` says that no bond through it tears the surface.
    """

    key: str
    name: str
    grip: Mapping[str, Adhesion]
    stiffness: Value
    lowest: Value
    highest: Value
    factor: Value
    cold: Value
    only: tuple[str, ...]
    fills_texture: bool
    protects: bool
    dissolves: tuple[str, ...]
    solvent: str
    renewed: str
    washed_off: str


@dataclass(frozen=True, slots=True)
class Finish:
    """A finish of a side: depth of its texture (m), and grip over that of a smooth side of the same surface."""

    key: str
    name: str
    depth: Value
    factor: Value


@dataclass(frozen=True, slots=True)
class SideState:
    """What is on a side when the print begins, and the share of its grip that is left."""

    key: str
    name: str
    factor: Value


@dataclass(frozen=True, slots=True)
class PlateBody:
    """What a plate is made of: (material, thickness m, joint below) from the print surface down, whether it bends by hand and has
    two sides to print on, the sudden change of temperature that breaks it (K; None: none does), what to mind."""

    key: str
    name: str
    layers: tuple[tuple[str, float, str], ...]
    bends: bool
    both_sides: bool
    shock: Value | None
    care: str


def _grip(where: str, rows: Mapping[str, Any], sources: Mapping[str, str]) -> Mapping[str, Adhesion]:
    return {p: values_of(Adhesion, f"{where}.grip.{p}", row, sources) for p, row in rows.items()}


@cache
def plate_surfaces() -> Mapping[str, PlateSurface]:
    """All plate surfaces by key, each with the grip of the polymers it is known for."""
    data = read_table("surfaces.toml")
    found = {}
    for key, row in data["surface"].items():
        where = f"surface.{key}"
        grip = _grip(where, row["grip"], data["sources"])
        strange = [p for p in row["too_strong"] if p not in grip]
        if strange:
            raise LibraryDataError(f"{where}.too_strong: no grip is known for {', '.join(strange)}")
        if row["finish"] not in data["finish"]:
            raise LibraryDataError(f"{where}.finish: there is no finish “{row['finish']}”")
        found[key] = values_of(
            PlateSurface, where, row, data["sources"], key=key, name=row["name"], grip=grip, wear=row["wear"],
            too_strong=tuple(row["too_strong"]), finish=row["finish"],
        )  # fmt: skip
    return found


@cache
def finishes() -> Mapping[str, Finish]:
    """All finishes by key."""
    data = read_table("surfaces.toml")
    return {
        k: values_of(Finish, f"finish.{k}", row, data["sources"], key=k, name=row["name"])
        for k, row in data["finish"].items()
    }


@cache
def side_states() -> Mapping[str, SideState]:
    """All states of a side by key."""
    data = read_table("surfaces.toml")
    return {
        k: values_of(SideState, f"state.{k}", row, data["sources"], key=k, name=row["name"])
        for k, row in data["state"].items()
    }


@cache
def left_when_worn() -> Value:
    """Share of the grip that is left on a side that is worn out."""
    data = read_table("surfaces.toml")
    return read_value("worn.out", "factor", data["worn"]["out"]["factor"], data["sources"])


@cache
def coatings() -> Mapping[str, Coating]:
    """All coatings by key; what is ``like`` a surface or another coating takes its grip."""
    data, surfaces = read_table("coatings.toml"), plate_surfaces()
    found: dict[str, Coating] = {}
    for key, row in data["coating"].items():
        where, like = f"coating.{key}", row["like"]
        if "grip" in row:
            grip = _grip(where, row["grip"], data["sources"])
        elif like:
            grip = (found[like] if like in found else surfaces[like]).grip
        else:
            grip = {}
        only, dissolves = tuple(row["only"]), tuple(row["dissolves"])
        strange = [s for s in dissolves if s not in surfaces]
        if strange:
            raise LibraryDataError(f"{where}.dissolves: there is no surface {', '.join(strange)}")
        found[key] = values_of(
            Coating, where, row, data["sources"], key=key, name=row["name"], only=only, dissolves=dissolves,
            grip={p: a for p, a in grip.items() if not only or p in only},
            **{name: row[name] for name in ("fills_texture", "protects", "solvent", "renewed", "washed_off")},
        )  # fmt: skip
    return found


@cache
def plate_bodies() -> Mapping[str, PlateBody]:
    """All bodies of plates by key."""
    data, found = read_table("plates.toml"), {}
    for key, row in data["body"].items():
        layers = tuple((str(m), float(t), str(j)) for m, t, j in row["layers"])
        for material, _, joint in layers:
            if material not in bed_materials() or joint not in joint_kinds():
                raise LibraryDataError(f"body.{key}: there is no material “{material}” or no joint “{joint}”")
        shock = read_value(f"body.{key}", "shock", row["shock"], data["sources"]) if "shock" in row else None
        found[key] = PlateBody(key, row["name"], layers, row["bends"], row["both_sides"], shock, row["care"])
    return found
