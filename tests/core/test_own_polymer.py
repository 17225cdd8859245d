"""Own figures of a polymer and their spread; trials of its grip narrow what is known."""

from __future__ import annotations

import numpy as np
import pytest

from mandorla.core.materials.library_data import polymers
from mandorla.core.materials.plate_library import plate_surfaces
from mandorla.core.part.process import Process, own_polymer
from mandorla.core.tune.operating_point import prepare_part
from mandorla.core.warp.estimate import Conditions, estimate_warp
from tests.core.solids import box_sections


def estimate(process: Process):
    part = prepare_part(box_sections(0.15, 0.06, 0.03), process)
    return estimate_warp(part, Conditions(373.0, 370.0, np.full(4, 365.0), 320.0, 0.0, 295.0))


def test_the_librarys_figures_kept_change_nothing_but_the_spread() -> None:
    plain, own = Process(polymer="asa"), Process(polymer="asa", own=own_polymer("asa"))
    a, b = estimate(plain), estimate(own)
    assert b.margin == pytest.approx(a.margin, rel=1e-9)
    assert b.printed_lift == pytest.approx(a.printed_lift, rel=1e-9)
    assert own.material().expansion.source == "own figure"


def test_less_expansion_holds_better_and_a_trial_of_the_grip_narrows_the_band() -> None:
    base = own_polymer("asa")
    meek = Process(polymer="asa", own=base.model_copy(update={"expansion": 0.7 * base.expansion}))
    assert estimate(meek).margin > 1.2 * estimate(Process(polymer="asa")).margin
    tried = Process(polymer="asa", own=base.model_copy(update={"grip": 1.5, "grip_within": 1.1}))
    found, before = estimate(tried), estimate(Process(polymer="asa"))
    assert np.sqrt(1.5) * before.margin <= found.margin <= 1.5 * before.margin  # by energy or by strength
    assert abs(found.spreads["margin"]["grip on the plate"]) <= np.log(1.1) / 1.6448536 + 1e-9
    assert found.spread("margin") < before.spread("margin")


def test_own_grip_leaves_other_polymers_and_the_library_alone() -> None:
    process = Process(polymer="asa", own=own_polymer("asa").model_copy(update={"grip": 3.0}))
    mine, library = process.plate_surface(), plate_surfaces()[process.surface]
    assert mine.grip["abs"] is library.grip["abs"]
    assert mine.grip["asa"].strength.typical == pytest.approx(3.0 * library.grip["asa"].strength.typical)
    assert polymers()["asa"].expansion.source != "own figure"
