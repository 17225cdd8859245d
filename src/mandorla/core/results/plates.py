"""Results about the plate that is printed on: grip against temperature of what is at hand, and how the part comes off."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, replace
from typing import Final

import numpy as np

from mandorla.core.errors import InputError
from mandorla.core.materials.plate_library import coatings
from mandorla.core.part.mesh import Floats
from mandorla.core.part.plates import SIDES
from mandorla.core.part.process import Process
from mandorla.core.part.removal import Handling, RemovalStep, removal_steps
from mandorla.core.project.store import Bundle
from mandorla.core.results import keys
from mandorla.core.results.key import Key
from mandorla.core.results.registry import Have, computes
from mandorla.core.runtime import RunContext
from mandorla.core.tune.operating_point import Evaluation
from mandorla.core.warp.adhesion import temperature_factor
from mandorla.core.warp.estimate import estimate_warp
from mandorla.core.warp.release import Release, plate_expansion, release

_COLDEST: Final = 273.15  # K, where the curves begin
_HALVINGS: Final = 6


@dataclass(frozen=True, slots=True)
class GripCurve:
    """Grip of the polymer on one thing that could be printed on: ``temperature`` (n,) K of the plate, ``grip`` (3, n) Pa low,
    typical and high; ``in_use`` marks what lies under the part now."""

    name: str
    temperature: Floats
    grip: Floats
    in_use: bool


@dataclass(frozen=True, slots=True)
class PlateUse:
    """The plate that is printed on: curves, the one in use first; temperatures (K) of the plate under the part for the first layers
    and the rest (NaN without a part); at which the cool-down takes the part off, by
    peel or by shear (NaN: it does not), and where shear does with a weak, usual or strong bond; how it comes off."""

    curves: tuple[GripCurve, ...]
    first: float
    rest: float
    lets_go: float
    shears: Release
    steps: tuple[RemovalStep, ...]


def _others(process: Process) -> Iterator[Process]:
    """What else could lie under the part: both sides of every plate, this side under every coating and without one."""
    changes: list[dict[str, object]] = [
        {"plate": plate.key, "side": side, "coating": "", "plate_state": "clean"}
        for plate in process.plates for side in SIDES if plate.side(side) is not None
    ]  # fmt: skip
    changes += [{"coating": key} for key in ("", *coatings())]
    seen = {process.plate_name}
    for change in changes:
        try:
            other = Process.model_validate(process.model_dump() | change)
        except ValueError:
            continue  # what dissolves the surface, or is not for the polymer
        if other.plate_name not in seen:
            seen.add(other.plate_name)
            yield other


def grip_curve(process: Process, hottest: float, *, in_use: bool) -> GripCurve | None:
    """Grip against the plate's temperature (K) up to ``hottest``; None where no grip is known for the polymer."""
    held = process.plate_surface().grip.get(process.polymer)
    if held is None:
        return None
    T = np.linspace(_COLDEST, hottest, 80)
    factor = temperature_factor(T, held)
    s = held.strength
    grip = np.stack([s.low * factor, s.typical * factor, s.high * factor])
    for array in (T, grip):
        array.setflags(write=False)
    return GripCurve(process.plate_name, T, grip, in_use)


def lets_go_at(e: Evaluation) -> float:
    """The plate temperature (K) at which the cool-down peels the part off, by halving; NaN where it does not."""
    if e.part is None or e.conditions is None or e.warp is None or not e.warp.comes_off:
        return float("nan")
    cold, warm = e.conditions.room, e.conditions.plate_rest
    for _ in range(_HALVINGS):
        middle = 0.5 * (cold + warm)
        off = estimate_warp(e.part, replace(e.conditions, room=middle), with_bands=False).comes_off
        cold, warm = (middle, warm) if off else (cold, middle)
    return cold


@computes(keys.PLATE_USE)
def plate_use(key: Key[PlateUse], bundle: Bundle, have: Have, run: RunContext) -> PlateUse:
    """Grip of what is at hand and how the part comes off. Raises InputError where no grip of the polymer is known there."""
    p, e = bundle.project, have(keys.EVALUATION)
    hottest = max(p.rig.limits.bed_max, p.settings.bed_first)
    own = grip_curve(p.process, hottest, in_use=True)
    if own is None:
        raise InputError(f"No grip is known for this polymer on “{p.process.plate_name}”.")
    others = []
    for other in _others(p.process):
        run.checkpoint(0.5, "grips")
        others.append(grip_curve(other, hottest, in_use=False))
    run.checkpoint(0.7, "release")
    at, plate = e.conditions, p.process.own_plate
    handling = Handling.of_bed(p.rig.bed) if plate is None else Handling.of_body(plate.of_library())
    shears = Release(float("nan"), float("nan"), float("nan"))
    if e.part is not None and at is not None:
        shears = release(e.part, e.part.sections.height, at.plate_rest, at.room, plate_expansion(p.rig.bed))
    lets_go = float(np.fmax(lets_go_at(e), shears.typical))
    nothing = float("nan")
    return PlateUse(
        (own, *(c for c in others if c is not None)), at.plate_first if at is not None else nothing,
        at.plate_rest if at is not None else nothing, lets_go, shears,
        removal_steps(
            handling, p.process.plate_surface(), p.process.on_top.coating, p.process.material(), lets_go, key["units"]
        ),
    )  # fmt: skip
