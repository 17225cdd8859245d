"""The gap of the first layer over the bed, from what the project knows of nozzle, plate and seat."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Final

import numpy as np

from mandorla.core.measure.heights import height_map
from mandorla.core.measure.models import StoredHeights
from mandorla.core.part.first_layer import FirstLayer
from mandorla.core.part.mesh import Floats
from mandorla.core.part.process import Process
from mandorla.core.project.store import Bundle
from mandorla.core.results import keys
from mandorla.core.results.key import Key
from mandorla.core.results.registry import Have, computes
from mandorla.core.rig.settings import Settings
from mandorla.core.runtime import RunContext
from mandorla.core.thermal.bow import bow_map
from mandorla.core.thermal.heatup import HeatUp
from mandorla.core.warp.bead import (
    MELTS,
    contact_width,
    line_area,
    line_width,
    parts_at,
    piles_at,
    spacing,
    squeeze_pressure,
)
from mandorla.core.warp.first_layer import FirstLayerState, GapMap, gap_map, in_middle, nominal_height


def gaps_of(bundle: Bundle, first: FirstLayer | None, settings: Settings, heat: HeatUp) -> GapMap | None:
    """The gap map of a first layer at a heat-up; None where nothing is known of it. Raises InputError for a map of another bed."""
    if first is None:
        return None
    rig, end = bundle.project.rig, float(heat.time[-1])
    ready = heat.ready_time if np.isfinite(heat.ready_time) else end
    start = min(ready + settings.soak_time, end)
    now = np.nan_to_num(bow_map(rig, heat, start))
    probed, then = None, now
    if first.probed is not None:
        p = first.probed
        stored = StoredHeights(
            name=p.name, file=p.map, state=p.state, unit=p.unit, width=p.width, depth=p.depth, rear_first=p.rear_first
        )
        probed = height_map(stored, bundle.originals[p.map])
        if p.state == "cold":
            then = np.zeros_like(now)
        elif p.state == "warm":
            then = np.nan_to_num(bow_map(rig, heat, min(ready, end)))
        else:
            then = np.nan_to_num(bow_map(rig, heat, end))
    return gap_map(first, (rig.bed.width, rig.bed.depth), probed, then, now)


_COARSE: Final = 1e-4  # m deep, a coarse texture


@dataclass(frozen=True, slots=True)
class LineLook:
    """How printed lines look in one gap: ``where`` in words, ``gap``, ``width``, ``contact`` and ``spacing`` of the lines (m), the
    ``ridge`` (m) that stands up between them, whether they ``apart``, and the ``pressure`` (Pa) under the nozzle, thin and thick
    melt."""

    where: str
    gap: float
    width: float
    contact: float
    spacing: float
    ridge: float
    apart: bool
    pressure: tuple[float, float]


@dataclass(frozen=True, slots=True)
class FirstLayerShown:
    """The gap (n, n) m over the whole bed, the state under the part, and the lines where it is widest, as meant, and narrowest;
    ``texture`` m deep. ``forgives`` is how far the gap may differ under a part (m) on a smooth side, this one and a coarse one,
    by name."""

    gap: Floats
    state: FirstLayerState
    looks: tuple[LineLook, ...]
    texture: float
    forgives: tuple[tuple[str, float], ...]


def forgiven(process: Process, texture: float) -> float:
    """How far the gap may differ (m) between places where lines just do not part and just do not pile up."""
    height = nominal_height(process)
    return parts_at(process.line_width, height) + 0.5 * texture - max(piles_at(height, texture), 0.0)


def look_at(process: Process, texture: float, where: str, gap: float) -> LineLook:
    """The lines in a gap (m)."""
    height, width = nominal_height(process), process.line_width
    area, apart = line_area(width, height), spacing(width, height)
    room, passing = gap + 0.5 * texture, width / process.first_speed
    thin, thick = (squeeze_pressure(area, gap, melt, passing) for melt in MELTS)
    return LineLook(
        where, gap, float(line_width(area, np.asarray(gap))), float(contact_width(area, np.asarray(gap))), apart,
        max(0.0, area / apart - room), gap > parts_at(width, height) + 0.5 * texture,
        (thin, thick),
    )  # fmt: skip


@computes(keys.FIRST_LAYER_SHOWN)
def shown(_: Key[FirstLayerShown | None], bundle: Bundle, have: Have, run: RunContext) -> FirstLayerShown | None:
    """The first layer in pictures; None without a part, or where nothing is known of its gap."""
    e, gaps, process = have(keys.EVALUATION), have(keys.GAP_MAP), bundle.project.process
    if e.part is None or e.first is None or gaps is None:
        return None
    f, texture = e.first, e.part.surface.texture_depth.typical
    looks = (
        look_at(process, texture, f"widest, {f.widest_at}", f.widest), look_at(process, texture, "as meant", f.nominal),
        look_at(process, texture, f"narrowest, {f.narrowest_at}", max(f.narrowest, 0.1 * f.nominal)),
    )  # fmt: skip
    gap = in_middle(process) + gaps.deviation
    gap.setflags(write=False)
    textures = (("a smooth side", 0.0), ("this side", texture), ("a coarse texture", _COARSE))
    forgives = tuple((name, forgiven(process, depth)) for name, depth in textures)
    return FirstLayerShown(gap, f, looks, texture, forgives)


@computes(keys.GAP_MAP)
def gaps(_: Key[GapMap | None], bundle: Bundle, have: Have, run: RunContext) -> GapMap | None:
    """The gap map of the project's first layer; None where nothing is known of it."""
    return gaps_of(bundle, bundle.project.process.first, bundle.project.settings, have(keys.HEAT_UP))
