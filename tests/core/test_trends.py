"""What every practitioner knows comes out by itself, polymer by polymer, at each one's own plate temperature."""

from __future__ import annotations

import numpy as np
import pytest

from mandorla.core.materials.plate_library import plate_surfaces
from mandorla.core.part.process import Process
from mandorla.core.tune.operating_point import prepare_part
from mandorla.core.units import celsius
from mandorla.core.warp.adhesion import adhesion_of, temperature_factor
from mandorla.core.warp.estimate import Conditions, WarpEstimate, estimate_warp
from mandorla.core.warp.foot import ENDURES, NOZZLE_FORCE
from tests.core.solids import box_sections

SURFACE = "polyetherimide_smooth"
TALL, FLAT = (0.15, 0.10, 0.08), (0.15, 0.10, 0.03)


def estimate(
    polymer: str, size: tuple[float, float, float], chamber: float, *, fan: float = 0.0, draft: float = 0.0, warmer: float = 0.0,
    **process: object,
) -> WarpEstimate:  # fmt: skip
    made = Process(polymer=polymer, surface=SURFACE, **process)
    best = adhesion_of(plate_surfaces()[SURFACE], polymer).peak_temperature.typical + warmer
    where = Conditions(best, best, np.full(4, best - 4.0), celsius(chamber), fan, celsius(22.0), draft)
    return estimate_warp(prepare_part(box_sections(*size), made), where, with_bands=False)


def chamber_needed(polymer: str) -> float:
    """Coolest chamber (°C) on a grid of 5 K in which a tall part holds, stays flat and does not crack; infinite where 150 °C do
    not do."""
    for chamber in range(20, 151, 5):
        w = estimate(polymer, TALL, chamber)
        if w.margin >= 1.0 and w.largest_lift <= 6e-4 and w.crack_index <= 0.6:
            return float(chamber)
    return float("inf")


def test_how_warm_a_chamber_each_polymer_needs_for_a_tall_part() -> None:
    needed = {p: chamber_needed(p) for p in ("pla", "petg", "abs", "asa", "pc", "pei", "peek")}
    assert needed["pla"] <= 25.0, "PLA needs little"
    assert needed["pla"] <= needed["petg"] <= needed["abs"]
    assert 50.0 <= needed["abs"] <= 75.0, "ABS needs a warm chamber"
    assert 50.0 <= needed["asa"] <= 75.0
    assert needed["pc"] >= needed["abs"] + 25.0, "polycarbonate far more"
    assert needed["pei"] > needed["pc"]
    assert needed["peek"] > needed["pc"]


@pytest.mark.parametrize(("change", "better"), [
    ({"size": (0.30, 0.20, 0.03)}, False), ({"size": TALL}, False), ({"chamber": 25.0}, False), ({"fan": 1.0}, False),
    ({"draft": 2.0}, False), ({"warmer": -20.0}, False), ({"brim": 0.008}, True), ({"chamber": 60.0}, True),
    ({"draft_shield": True}, True), ({"minimum_layer_time": 1.0, "speed": 0.2, "flow_limit": 4e-8}, True),
], ids=[
    "larger", "taller", "colder air", "fan", "draft", "colder plate", "brim", "warmer air", "shield", "slower cooling",
])  # fmt: skip
def test_what_makes_it_worse_and_what_better(change: dict[str, object], better: bool) -> None:
    base = {"size": FLAT, "chamber": 45.0}
    now, then = estimate("abs", **base), estimate("abs", **(base | change))  # type: ignore[arg-type]
    assert (then.margin > now.margin) is better
    assert (then.printed_lift < now.printed_lift) is better


def test_a_tall_part_on_a_small_foot_comes_loose_late() -> None:
    slim = estimate("petg", (0.008, 0.008, 0.15), 35.0)
    assert 0.005 < slim.tips_from < 0.15
    assert any("tips it late" in n for n in slim.notes)
    assert slim.margin > 1.0, "its own contraction does not do it"
    brim = estimate("petg", (0.008, 0.008, 0.15), 35.0, brim=0.006)
    assert brim.tips_margin > 3.0 * slim.tips_margin
    broad = estimate("petg", (0.06, 0.06, 0.15), 35.0)
    assert np.isnan(broad.tips_from)
    # by hand: what endures of the strength times a b²/6 over the force
    grip = adhesion_of(plate_surfaces()[SURFACE], "petg")
    strength = grip.strength.typical * float(temperature_factor(grip.peak_temperature.typical - 4.0, grip))
    assert slim.tips_from == pytest.approx(ENDURES * strength * 0.008**3 / 6.0 / NOZZLE_FORCE, rel=0.02)
