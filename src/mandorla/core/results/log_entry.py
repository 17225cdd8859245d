"""What the workshop's logbook keeps of a project when it is printed; where a ladder begins; settings carried over."""

from __future__ import annotations

import hashlib
import math
from typing import Any, Final

import numpy as np
from pydantic import BaseModel

from mandorla.core.errors import InputError
from mandorla.core.logbook.applied import grip_spread_of
from mandorla.core.logbook.evidence import HOLD, predicted_of
from mandorla.core.logbook.ladder import Prior
from mandorla.core.logbook.records import Predicted, Print
from mandorla.core.project.models import Project
from mandorla.core.project.store import Bundle
from mandorla.core.results import keys
from mandorla.core.results.key import Key
from mandorla.core.results.registry import Have, computes
from mandorla.core.runtime import RunContext
from mandorla.core.units import OFF

_OF_SETUP: Final = ("settings", "process")
_NOT_COMPARED: Final = frozenset({"process.plates", "process.plate", "process.first"})
_SPAN: Final = (-24.0, -16.0, -8.0, 0.0, 8.0, 16.0, 24.0)  # K about the set point, at which the model is asked
_OWN_SHARE: Final = 0.35  # of the margin's spread, that is taken anew in each print
_VAGUE: Final = (12.0, 4.0)  # K and K: middle's spread and width of a curve that the model does not have


def setup_of(p: Project) -> dict[str, str]:
    """All values that a comparison looks at, as text by path: settings and process, the rig and the part as hashes, the room."""
    found: dict[str, str] = {}

    def walk(path: str, value: Any) -> None:
        if path in _NOT_COMPARED:
            return
        if isinstance(value, BaseModel):
            for name in type(value).model_fields:
                walk(f"{path}.{name}", getattr(value, name))
        elif isinstance(value, tuple):
            for n, item in enumerate(value):
                walk(f"{path}.{n}", item)
        elif value is not None:
            found[path] = f"{value:.12g}" if isinstance(value, float) else str(value)

    for name in _OF_SETUP:
        walk(name, getattr(p, name))
    found["room"] = f"{p.rig.room_temperature:.12g}"
    for name in ("rig", "part"):
        value = getattr(p, name)
        if value is not None:
            data = value.model_copy(update={"room_temperature": 295.0}) if name == "rig" else value
            found[name] = hashlib.sha256(data.model_dump_json().encode()).hexdigest()[:10]
    return found


def from_library(bundle: Bundle) -> Bundle:
    """The project by the library's figures alone, without what trials and prints have taught."""
    p = bundle.project
    trials = tuple(t.model_copy(update={"used": False}) for t in p.measurements.trials)
    measurements = p.measurements.model_copy(update={"trials": trials})
    criteria = p.criteria.model_copy(update={"from_prints": False})
    return Bundle(p.model_copy(update={"measurements": measurements, "criteria": criteria}), bundle.originals)


@computes(keys.PRINT_ENTRY)
def entry(key: Key[Print], bundle: Bundle, have: Have, run: RunContext) -> Print:
    """What is kept of a print that begins: what was predicted, by the judgement that everybody shows and by the library's figures
    alone. Its key and moment are given when it is entered. Raises InputError without a part."""
    p, e = bundle.project, have(keys.EVALUATION)
    if e.part is None or e.conditions is None:
        raise InputError("There is no part: a logbook keeps prints of one.")
    judged = have(keys.JUDGEMENT.of(full=key["full"], bodies=key["bodies"]))
    library = have.beside(from_library(bundle)).get(keys.EVALUATION, run)
    limit = p.criteria.lift_limit
    return Print(
        key="entry", at="", name=p.name, side=p.process.side, polymer=p.process.polymer, surface=p.process.surface_key,
        coating=p.process.coating, setup=setup_of(p), predicted=predicted_of(judged, e.warp, limit),
        anything=judged.anything if math.isfinite(judged.anything) else None,
        evidence=predicted_of(library.judgement, library.warp, limit), grip_spread=grip_spread_of(p.process),
        duration=e.part.plan.duration, mass=e.part.plan.mass, height=e.part.sections.height,
        energy_predicted=e.energy.total if e.energy is not None else 0.0,
        price=e.energy.price if e.energy is not None else 0.0, plate_at=e.conditions.plate_rest, air_at=e.conditions.chamber,
    )  # fmt: skip


def _hold(asked: Any, run: RunContext) -> Predicted | None:
    e = asked.get(keys.EVALUATION, run)
    return predicted_of(e.judgement, e.warp, 1.0).get(HOLD)


@computes(keys.LADDER_PRIOR)
def prior(key: Key[Prior], bundle: Bundle, have: Have, run: RunContext) -> Prior:
    """The model's curve of how a bed's set point holds: where half of the prints do, how well that is known, how wide it is.

    Upwards from the cold end; downwards from the hot one it is the softening of the foot. A model without such a curve gives a
    vague one about the set point as it is. Raises InputError without a part.
    """
    p, name = bundle.project, str(key["setting"]).rpartition(".")[2]
    here = getattr(p.settings, name)
    if have(keys.EVALUATION).part is None or not isinstance(here, float):
        raise InputError("There is no part: a ladder is climbed with one.")
    up = key["direction"] == "up"
    margins, spreads, temperatures = [], [], []
    for n, by in enumerate(_SPAN):
        run.checkpoint(n / len(_SPAN), "asking the model")
        settings = p.settings.model_copy(update={name: here + by})
        asked = have.beside(Bundle(p.model_copy(update={"settings": settings}), bundle.originals))
        e = asked.get(keys.EVALUATION, run)
        found = e.judgement.assessed.get(HOLD if up else "soft_foot")
        if found is None or not math.isfinite(found.margin) or not found.spread > 0.0:
            continue
        temperatures.append(here + by)
        margins.append(found.margin)
        spreads.append(found.spread)
    vague = Prior(here - 8.0 if up else here + 8.0, _VAGUE[0], _VAGUE[1], 0.5, up)
    if len(margins) < 3:
        return vague
    slope, at = np.polyfit(temperatures, margins, 1)
    if (slope <= 1e-4) if up else (slope >= -1e-4):
        return vague
    middle, spread = float(-at / slope), float(np.mean(spreads))
    shared = spread * math.sqrt(1.0 - _OWN_SHARE**2) / abs(float(slope))
    own = spread * _OWN_SHARE / abs(float(slope)) / 1.7  # of a logistic that is as wide as a normal curve
    far = _VAGUE[0] * 2.0
    return Prior(float(np.clip(middle, here - 40.0, here + 40.0)), min(max(shared, 3.0), far), max(own, 0.8), 0.5, up)


@computes(keys.CARRIED_OVER)
def carried(key: Key[dict[str, float]], bundle: Bundle, have: Have, run: RunContext) -> dict[str, float]:
    """Set points (path -> K) of this machine at which plate and air are as they were on another one (``plate``, ``air`` K).

    What this chamber cannot reach stays as near as it goes. Raises InputError without a part.
    """
    p, e = bundle.project, have(keys.EVALUATION)
    if e.conditions is None:
        raise InputError("There is no part: settings are carried over for one.")
    plate, air = key["plate"], key["air"]
    found = {"settings.bed_rest": p.settings.bed_rest, "settings.chamber": p.settings.chamber}
    for _ in range(3):
        settings = p.settings.model_copy(update={k.rpartition(".")[2]: v for k, v in found.items()})
        there = have.beside(Bundle(p.model_copy(update={"settings": settings}), bundle.originals)).get(
            keys.EVALUATION, run
        )
        assert there.conditions is not None
        found["settings.bed_rest"] = min(
            max(found["settings.bed_rest"] + plate - there.conditions.plate_rest, OFF), p.rig.limits.bed_max
        )
        if p.rig.heats_chamber:
            asked_for = found["settings.chamber"] + air - there.conditions.chamber
            found["settings.chamber"] = min(max(asked_for, p.rig.room_temperature), p.rig.limits.chamber_max)
    if not p.rig.heats_chamber:
        del found["settings.chamber"]
    return found
