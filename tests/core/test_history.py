"""The print history of temperature: half-space, slab, fin, quasi-steady growth, and what engineers expect."""

from __future__ import annotations

import numpy as np
import pytest
from scipy.special import erfc, erfcx

from mandorla.core.materials.library_data import polymers
from mandorla.core.part.mesh import Floats
from mandorla.core.part.print_time import plan_print
from mandorla.core.part.process import Process
from mandorla.core.part.sections import slice_solid
from mandorla.core.units import celsius
from mandorla.core.warp.history import (
    ColumnBounds,
    GrowingColumn,
    LayerBlocks,
    PrintClimate,
    grow,
    make_layer_blocks,
    on_layer_blocks,
    plate_view,
    plume,
    print_history,
    pulse_deficit,
    side_loss,
    top_loss,
)
from tests.core.solids import block, box_sections, mesh_of, stepped_sections
from tests.core.test_stack_references import slab_series

RHO_C, K = 1.6e6, 0.2


def column(
    height: float, cells: int, end: float, steps: int, *, h_side: float = 0.0, h_top: float = 0.0, contact: float = 1e12,
    plate: float = 300.0, chamber: float = 300.0, start: float = 400.0, area: float = 1e-4, perimeter: float = 0.0,
) -> tuple[Floats, Floats]:  # fmt: skip
    """A column that stands at once and then cools for ``end`` s: its cells, then ``steps`` blocks of no height march the time."""
    dz = np.r_[np.full(cells, height / cells), np.full(steps, 1e-10)]
    time = np.r_[np.full(cells, 1e-12), np.full(steps, end / steps)]
    one = np.ones(dz.size)
    _, T = grow(
        GrowingColumn(dz, area * one, area * one, perimeter * one, time, h_side * one, h_top * one, plate * one,
        chamber * one, 0.0 * one, 0.0 * one, start * one), ColumnBounds(RHO_C, K, contact), 1,
    )  # fmt: skip
    z = np.cumsum(dz) - 0.5 * dz
    return z[:cells], T[:cells]


def test_foot_on_a_cold_plate_follows_the_half_space_solution() -> None:
    contact, end = 1e-4, 20.0
    z, T = column(0.03, 1200, end, 2000, contact=contact)
    h, alpha = 1.0 / contact, K / RHO_C
    root = np.sqrt(alpha * end)
    # Incropera eq. 5.63, written with the scaled function where the product overflows
    near = z / (2 * root)
    second = np.exp(-(near**2)) * erfcx(near + h * root / K)
    expected = 1.0 - (erfc(near) - second)
    np.testing.assert_allclose((T - 300.0) / 100.0, expected, atol=1.5e-3)


@pytest.mark.parametrize("Bi", [0.1, 1.0])
def test_column_cooled_from_its_top_follows_the_slab_series(Bi: float) -> None:
    height, Fo = 0.01, 0.4
    end = Fo * height**2 * RHO_C / K
    z, T = column(height, 100, end, 4000, h_top=Bi * K / height)
    for i in (0, 50, 99):
        # blocks without height add no heat, so the column ends where its cells end
        assert (T[i] - 300.0) / 100.0 == pytest.approx(slab_series(Bi, Fo, float(z[i] / height)), abs=1e-3)


def test_steady_column_is_a_fin_with_tip_loss() -> None:
    height, area, perimeter, h = 0.03, 1e-4, 0.04, 12.0
    z, T = column(height, 200, 3e5, 300, h_side=h, h_top=h, contact=1e-9, plate=380.0, area=area, perimeter=perimeter)
    m = np.sqrt(h * perimeter / (K * area))
    tip = h / (m * K)
    exact = (np.cosh(m * (height - z)) + tip * np.sinh(m * (height - z))) / (
        np.cosh(m * height) + tip * np.sinh(m * height)
    )
    np.testing.assert_allclose((T - 300.0) / 80.0, exact, atol=5e-4)


def test_fin_with_adiabatic_tip_has_the_textbook_efficiency() -> None:
    height, area, perimeter, h = 0.02, 1e-4, 0.04, 10.0
    z, T = column(height, 400, 3e5, 300, h_side=h, contact=1e-9, plate=380.0, area=area, perimeter=perimeter)
    mL = np.sqrt(h * perimeter / (K * area)) * height
    assert float(np.mean(T - 300.0)) / 80.0 == pytest.approx(np.tanh(mL) / mL, rel=1e-4)
    assert z[-1] < height


def test_steady_growth_follows_the_moving_front() -> None:
    """rho c V T' = k T'' - h P/A T below a front that moves with V and carries the deposition enthalpy."""
    V, h_side, h_top, area, perimeter = 5e-5, 10.0, 25.0, 1e-4, 0.04
    n, dz = 3000, 2e-5
    one = np.ones(n)
    before, _ = grow(
        GrowingColumn(dz * one, area * one, area * one, perimeter * one, dz / V * one, h_side * one, h_top * one, 300.0 * one,
        300.0 * one, 0.0 * one, 0.0 * one, 500.0 * one), ColumnBounds(RHO_C, K, 1e12), 6,
    )  # fmt: skip
    ratio = V * RHO_C / K
    m2 = h_side * perimeter / (K * area)
    r = 0.5 * (ratio - np.sqrt(ratio**2 + 4 * m2))
    front = V * RHO_C * 200.0 / (V * RHO_C - K * r + h_top)
    assert before[-1] == pytest.approx(before[-500], abs=0.05)  # it has become steady
    # just before a layer lands the front is below its mean by the deficit of the pulses
    tau, alpha = dz / V, K / RHO_C
    dip = (
        pulse_deficit(np.array([h_top / K * np.sqrt(alpha * tau)]))[0] * (500.0 - before[-1]) * V * np.sqrt(tau / alpha)
    )
    assert dip < 0.0
    assert before[-1] - 300.0 == pytest.approx(front + dip, rel=0.012)


def test_pulse_deficit_has_its_known_limits() -> None:
    # no loss: zeta(1/2)/sqrt(pi); strong loss: every pulse is gone before the next one, minus the mean 1/beta
    assert pulse_deficit(np.array([1e-6]))[0] == pytest.approx(-1.4603545088 / np.sqrt(np.pi), abs=2e-6)
    assert pulse_deficit(np.array([30.0]))[0] == pytest.approx(-1.0 / 30.0, rel=0.03)
    beta = np.array([0.1, 0.5, 2.0])
    k = np.arange(1.0, 4e5)
    for b in beta:
        terms = 1.0 / np.sqrt(np.pi * k) - b * erfcx(b * np.sqrt(k))
        direct = terms.sum() - (1.0 - erfcx(b * np.sqrt(k[-1] + 0.5))) / b
        assert pulse_deficit(np.array([b]))[0] == pytest.approx(direct, abs=2e-5)


def lumps_of(layer_height: float = 0.0003, most: int = 40, levels: int = 200, **process: float) -> LayerBlocks:
    p = Process(polymer="abs", layer_height=layer_height, **process)
    sections = slice_solid(mesh_of(block(120.0, 60.0, 40.0)), levels)
    return make_layer_blocks(sections, plan_print(sections, p), layer_height, most)


@pytest.mark.parametrize("infill", [0.2, 1.0])
def test_lumping_changes_the_landing_temperature_little(infill: float) -> None:
    # 400 layers of 0.1 mm, one by one, against the column that the estimate uses and against coarse blocks
    polymer = polymers()["abs"]
    single = lumps_of(0.0001, 400, 400, infill=infill, speed=0.02)
    exact = print_history(single, polymer, PrintClimate(celsius(100.0), celsius(95.0), celsius(50.0), 0.0))
    assert np.all(single.layers == pytest.approx(1.0))
    target = lumps_of(0.0001, 28, 400, infill=infill, speed=0.02)
    reference = on_layer_blocks(exact, single, target)
    for most, allowed in ((120, 1.5), (28, 6.0)):
        blocks = lumps_of(0.0001, most, 400, infill=infill, speed=0.02)
        found = print_history(blocks, polymer, PrintClimate(celsius(100.0), celsius(95.0), celsius(50.0), 0.0))
        assert np.abs(on_layer_blocks(found, blocks, target).landing - reference.landing).max() < allowed
        assert found.duration == pytest.approx(exact.duration, rel=1e-9)


def test_means_over_coarser_lumps_keep_the_integral() -> None:
    polymer = polymers()["abs"]
    fine, coarse = lumps_of(most=100), lumps_of(most=9)
    history = print_history(fine, polymer, PrintClimate(celsius(100.0), celsius(95.0), celsius(50.0), 0.0))
    mean = on_layer_blocks(history, fine, coarse)
    whole = np.sum(history.end * (fine.top - fine.bottom))
    assert np.sum(mean.end * (coarse.top - coarse.bottom)) == pytest.approx(whole, rel=1e-12)


def test_what_warms_and_what_cools_the_part() -> None:
    blocks = lumps_of()
    polymer = polymers()["abs"]

    def middle(plate: float = 95.0, chamber: float = 50.0, fan: float = 0.0) -> float:
        history = print_history(blocks, polymer, PrintClimate(celsius(plate), celsius(plate), celsius(chamber), fan))
        return float(history.landing[20])

    assert middle(chamber=70.0) > middle() > middle(chamber=30.0)
    assert middle(fan=1.0) < middle()
    low = print_history(blocks, polymer, PrintClimate(celsius(70.0), celsius(70.0), celsius(50.0), 0.0))
    high = print_history(blocks, polymer, PrintClimate(celsius(110.0), celsius(110.0), celsius(50.0), 0.0))
    # the plate is felt in the first centimetres, above them only by what the walls see of it
    assert high.end[1] - low.end[1] > 25.0
    assert high.end[-1] - low.end[-1] < 0.2 * (high.end[1] - low.end[1])


def test_everything_stays_between_the_coldest_and_the_nozzle() -> None:
    blocks = lumps_of()
    polymer = polymers()["abs"]
    history = print_history(blocks, polymer, PrintClimate(celsius(100.0), celsius(95.0), celsius(40.0), 0.5))
    for values in (history.landing, history.end):
        assert values.min() >= celsius(40.0) - 1e-6
        assert values.max() <= polymer.deposition_temperature.typical + 1e-6
    assert np.all(np.diff(history.age) < 0)


def test_lumps_keep_height_time_and_jumps() -> None:
    sections = stepped_sections()
    p = Process(polymer="abs")
    plan = plan_print(sections, p)
    blocks = make_layer_blocks(sections, plan, p.layer_height, 23)
    assert blocks.bottom[0] == 0.0
    assert blocks.top[-1] == pytest.approx(0.04)
    np.testing.assert_allclose(blocks.bottom[1:], blocks.top[:-1])
    slower = (
        plan.duration - float(plan.layer_time.mean()) * plan.layers
    )  # the first layer's own speed is not in the column
    assert blocks.time.sum() == pytest.approx(plan.duration - slower, rel=0.01)
    assert np.any(np.isclose(blocks.bottom, 0.02, atol=2.5e-4))  # a cut stands at the jump of section


def test_a_draft_cools_and_a_shield_keeps_it_off() -> None:
    warm = celsius(25.0)
    still, draft, shielded = (side_loss(warm, 0.0, *more).total for more in ((), (1.5,), (1.5, True)))
    assert draft > 1.3 * still
    assert shielded == pytest.approx(0.5 * still)
    assert top_loss(warm, 0.0, 1.5).total > top_loss(warm, 0.0).total
    assert top_loss(warm, 0.0, 1.5, True).total == top_loss(warm, 0.0).total


def test_the_fan_blows_from_its_height_on() -> None:
    sections, p = box_sections(0.05, 0.05, 0.03), Process(polymer="petg")
    blocks = make_layer_blocks(sections, plan_print(sections, p), p.layer_height, 60)
    polymer = polymers()["petg"]
    off, late, on = (
        print_history(blocks, polymer, PrintClimate(celsius(75.0), celsius(75.0), celsius(30.0), fan, fan_from=height))
        for fan, height in ((0.0, 0.0), (1.0, 0.015), (1.0, 0.0))
    )
    below, above = blocks.top < 0.014, blocks.bottom > 0.016
    np.testing.assert_allclose(late.landing[below], off.landing[below], atol=1e-9)
    assert (late.landing[above] < off.landing[above] - 3.0).all()
    assert (on.landing <= late.landing + 1e-9).all()


def test_a_raft_keeps_the_foot_from_the_plate() -> None:
    sections, p = box_sections(0.05, 0.05, 0.03), Process(polymer="abs")
    blocks = make_layer_blocks(sections, plan_print(sections, p), p.layer_height, 60)
    bare, raised = (
        print_history(
            blocks, polymers()["abs"], PrintClimate(celsius(100.0), celsius(100.0), celsius(30.0), 0.0, raft=raft)
        )
        for raft in (0.0, 0.003)
    )
    assert raised.end[0] < bare.end[0] - 3.0


def test_coefficients_grow_with_the_fan() -> None:
    assert top_loss(celsius(40.0), 1.0).total > top_loss(celsius(40.0), 0.2).total > top_loss(celsius(40.0), 0.0).total
    assert side_loss(celsius(40.0), 1.0).total >= side_loss(celsius(40.0), 0.0).total
    assert 5.0 < side_loss(celsius(40.0), 0.0).total < 20.0


def test_a_wall_sees_half_of_a_plate_at_its_foot_and_less_higher_up() -> None:
    seen = plate_view(np.array([0.0, 0.015, 0.06, 10.0]), 0.107)
    np.testing.assert_allclose(seen, [0.5, 0.43, 0.255, 0.0], atol=0.005)
    assert plate_view(np.array([0.02]), 0.01)[0] < plate_view(np.array([0.02]), 0.2)[0]


def test_the_first_centimetre_over_a_hot_plate_cools_less() -> None:
    sections, p = box_sections(0.05, 0.05, 0.06), Process(polymer="abs")
    blocks = make_layer_blocks(sections, plan_print(sections, p), p.layer_height, 60)
    seen, alone = (
        print_history(
            blocks, polymers()["abs"], PrintClimate(celsius(100.0), celsius(100.0), celsius(30.0), 0.0, bare=bare)
        )
        for bare in (0.15, 0.002)
    )
    low, high = blocks.top < 0.03, blocks.bottom > 0.05
    assert (seen.end[low] > alone.end[low]).all()
    assert (seen.end - alone.end)[low].max() > 5.0
    assert (seen.end - alone.end)[low].max() > (seen.end - alone.end)[high].max()
    assert plume(np.array([0.0]), 1.0, 0.0, False)[0] < plume(np.array([0.0]), 0.0, 0.0, False)[0]


def test_a_hotter_first_layer_warms_the_foot_and_nothing_far_above_it() -> None:
    blocks = lumps_of()
    even, first = (
        print_history(
            blocks, polymers()["abs"], PrintClimate(celsius(90.0), celsius(90.0), celsius(40.0), 0.0, deposited_first=T)
        )
        for T in (None, polymers()["abs"].deposition_temperature.typical + 20.0)
    )
    gain = first.landing - even.landing
    assert gain[0] > 0.2
    assert gain[0] == gain.max()
    assert (np.abs(gain[blocks.bottom > 0.02]) < 0.05).all()
