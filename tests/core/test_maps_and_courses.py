"""Images and height maps over the bed, approaches to a steady state, plug-meter logs."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from mandorla.core.errors import InputError
from mandorla.core.measure.energy import bins_of, check_energy
from mandorla.core.measure.heights import HeightMap, difference, height_map, judge_feeler, read_matrix
from mandorla.core.measure.image import homography, on_bed, see
from mandorla.core.measure.infrared import shown_for
from mandorla.core.measure.matrix_file import suspected_unit
from mandorla.core.measure.models import Gap, Instrument, Patch, StoredHeights, StoredImage
from mandorla.core.measure.soak import judge_soak
from mandorla.core.units import celsius

IMAGER = Instrument(name="Imager", kind="imager", accuracy=1.0, accuracy_of_reading=0.0, emissivity=0.95)
CORNERS = ((14.0, 88.0), (112.0, 88.0), (98.0, 14.0), (30.0, 14.0))
BAND = (8e-6, 14e-6)


# ---- matrices
@pytest.mark.parametrize(
    "text",
    [
        "1.0,2.0,3.0\n4.0,,6.0\n",
        "1,0;2,0;3,0\n4,0;-;6,0\n",
        "1.0\t2.0\t3.0\n4.0\tnan\t6.0\n",
        "x;y;z\n1,0;2,0;3,0;\n4,0;;6,0;\n",
    ],
)
def test_matrices_with_holes_in_any_usual_writing(text: str) -> None:
    found = read_matrix(text.encode(), "m.csv")
    assert found.shape == (2, 3)
    assert np.isnan(found[1, 1])
    assert found[1, 2] == 6.0


@pytest.mark.parametrize(
    ("text", "words"),
    [
        ("", "empty"),
        ("1,2\n3\n", "1 cells where"),
        ("1,2\n3,x\n", "not a number"),
        (",\n,\n", "no matrix"),
        ("-,-\n-,-\n", "holes only"),
    ],
)
def test_matrices_that_are_refused(text: str, words: str) -> None:
    with pytest.raises(InputError, match=words):
        read_matrix(text.encode(), "m.csv")


# ---- images
def test_perspective_maps_the_corners_onto_each_other() -> None:
    h = homography(CORNERS, 0.3, 0.2)
    for (x, y), (u, v) in zip(((-0.15, -0.1), (0.15, -0.1), (0.15, 0.1), (-0.15, 0.1)), CORNERS, strict=True):
        q = h @ np.array([x, y, 1.0])
        assert q[:2] / q[2] == pytest.approx([u, v], abs=1e-9)
    with pytest.raises(InputError, match="All four"):
        homography(CORNERS[:3], 0.3, 0.2)
    with pytest.raises(InputError, match="follow each other"):
        homography((CORNERS[0], CORNERS[2], CORNERS[1], CORNERS[3]), 0.3, 0.2)


def image_csv(T: float, e: float, tape: tuple[float, float, float] | None) -> bytes:
    """A bed of one temperature in perspective, with a piece of tape."""
    back = np.linalg.inv(homography(CORNERS, 0.3, 0.2))
    u, v = np.meshgrid(np.arange(128), np.arange(96))
    q = np.stack([u, v, np.ones_like(u)], axis=-1) @ back.T
    x, y = q[..., 0] / q[..., 2], q[..., 1] / q[..., 2]
    emissivity = np.full(u.shape, e)
    if tape:
        emissivity[(np.abs(x - tape[0]) <= tape[2] / 2) & (np.abs(y - tape[1]) <= tape[2] / 2)] = 0.95
    shown = shown_for(np.full(u.shape, T), emissivity, 0.95, celsius(24.0), BAND)
    return "\n".join(",".join(f"{c - 273.15:.2f}" for c in row) for row in shown).encode()


def test_a_patch_on_the_image_finds_the_emissivity_and_the_true_map() -> None:
    T = celsius(90.0)
    data = image_csv(T, 0.8, (0.05, -0.03, 0.04))
    plain = StoredImage(name="i", file="i.csv", instrument="Imager", corners=CORNERS, reflected=celsius(24.0))
    untold = see(plain, data, IMAGER, 0.3, 0.2, 0.0001)
    assert float(np.nanmedian(untold.true)) < T - 4.0
    assert untold.found_emissivity is None
    assert any("reference patch" in w for w in untold.warnings)
    patched = plain.model_copy(update={"patches": (Patch(name="tape", x=0.05, y=-0.03, width=0.04, depth=0.04),)})
    seen = see(patched, data, IMAGER, 0.3, 0.2, 0.0001)
    assert seen.found_emissivity is not None
    assert seen.found_emissivity[0] == pytest.approx(0.8, abs=0.01)
    assert float(np.nanmedian(seen.true)) == pytest.approx(T, abs=0.3)
    assert 0.3 < float(np.nanmedian(seen.u)) < 3.0
    assert seen.patches[0][2] == pytest.approx(T, abs=0.2)
    with pytest.raises(InputError, match="outside"):
        see(plain.model_copy(update={"patches": (Patch(name="far", x=0.9, y=0.9),)}), data, IMAGER, 0.3, 0.2)


def test_units_of_images_are_suspected_and_absolute_zero_refused() -> None:
    assert suspected_unit(image_csv(celsius(90.0), 0.9, None), "i") == "°C"
    warm = "\n".join(",".join(f"{190 + i + j}" for i in range(5)) for j in range(4)).encode()
    assert suspected_unit(warm, "i") == "°F"
    assert suspected_unit("\n".join(["300,310,360"] * 3).encode(), "i") == "K"
    with pytest.raises(InputError, match="absolute zero"):
        see(StoredImage(name="i", file="i.csv", corners=CORNERS), b"20,-400\n30,40", IMAGER, 0.3, 0.2)


def test_resampling_keeps_holes() -> None:
    matrix = np.full((96, 128), 50.0)
    matrix[50:60, 50:60] = np.nan
    _, _, found = on_bed(matrix, homography(CORNERS, 0.3, 0.2), 0.3, 0.2)
    assert 0.0 < np.isnan(found).mean() < 0.2


# ---- heights
def a_map(bow: float, tilt_x: float, tilt_y: float, n: int = 9) -> HeightMap:
    x = np.linspace(-0.1, 0.1, n)
    y = np.linspace(-0.08, 0.08, n)
    u, v = np.meshgrid(x / 0.1, y / 0.08)
    return HeightMap(x, y, bow * (1 - 0.5 * (u**2 + v**2)) + 0.5 * tilt_x * u + 0.5 * tilt_y * v)


@given(st.floats(-2e-4, 2e-4), st.floats(-5e-4, 5e-4), st.floats(-5e-4, 5e-4))
def test_tilt_and_bow_are_told_apart(bow: float, tilt_x: float, tilt_y: float) -> None:
    found = a_map(bow, tilt_x, tilt_y)
    assert found.bow == pytest.approx(bow, abs=1e-9)
    assert found.tilt == pytest.approx((tilt_x, tilt_y), abs=1e-9)
    assert found.peak_to_valley == pytest.approx(abs(bow), rel=1e-6, abs=1e-9)


def test_difference_of_maps_on_other_points_is_the_change() -> None:
    cold, hot = a_map(2e-5, 1e-4, 0.0, 9), a_map(9e-5, 3e-4, 0.0, 7)
    change = difference(hot, cold)
    assert change.bow == pytest.approx(7e-5, rel=0.06)
    assert change.tilt[0] == pytest.approx(2e-4, rel=1e-6)
    far = HeightMap(cold.x + 5.0, cold.y, cold.z)
    with pytest.raises(InputError, match="do not overlap"):
        difference(far, cold)


def test_stored_heights_have_units_rows_and_sense() -> None:
    data = b"0.10,0.20\n0.30,0.40\n"
    found = height_map(StoredHeights(name="h", file="h.csv", width=0.2, depth=0.2), data)
    assert found.z[0, 0] == pytest.approx(3e-4)  # the first row is the rear
    with pytest.raises(InputError, match="right"):
        height_map(StoredHeights(name="h", file="h.csv", unit="in"), b"0.1,2.0\n0.3,4.0\n")
    with pytest.raises(InputError, match="six points"):
        _ = found.bow


def test_feeler_at_four_and_three_points() -> None:
    places = [(-0.1, -0.1), (0.1, -0.1), (0.1, 0.1), (-0.1, 0.1)]
    level = [Gap(x=x, y=y, gap=1e-4 - 5e-4 * x) for x, y in places]
    found = judge_feeler(level, 1e-4)
    assert found.tilt_x == pytest.approx(5e-4)
    assert found.tilt_y == pytest.approx(0.0, abs=1e-12)
    assert found.twist == pytest.approx(0.0, abs=1e-12)
    assert dict(found.turns)["front-left"] == pytest.approx(5e-5)
    twisted = [Gap(x=x, y=y, gap=1e-4 + 3e-3 * x * y) for x, y in places]
    assert judge_feeler(twisted, 1e-4).twist == pytest.approx(6e-5)
    assert judge_feeler(level[:3], 1e-4).twist == pytest.approx(0.0, abs=1e-12)
    with pytest.raises(InputError, match="Three points"):
        judge_feeler(level[:2], 1e-4)
    with pytest.raises(InputError, match="one line"):
        judge_feeler([Gap(x=0.0, y=y, gap=1e-4) for y in (-0.1, 0.0, 0.1)], 1e-4)


# ---- soaked or not
def test_soak_ranges_cover_the_truth() -> None:
    """200 approaches cut off on their way: the 95 % range of the end covers 190 ± 7 of them (two standard deviations)."""
    inside = 0
    for seed in range(200):
        rng = np.random.default_rng(seed)
        tau, end, rest = rng.uniform(300, 1500), rng.uniform(340, 380), rng.uniform(15, 60)
        t = np.arange(0.0, rng.uniform(1.5, 4.0) * tau, 10.0)
        s = judge_soak(t, end - rest * np.exp(-t / tau) + rng.normal(0.0, 0.1, t.size), 0.2 / 60)
        inside += s.end_low <= end <= s.end_high
    assert 183 <= inside <= 197


def test_settled_and_how_long_it_still_takes() -> None:
    tau, limit = 600.0, 0.2 / 60
    t = np.arange(0.0, 900.0, 5.0)
    T = 370.0 - 60.0 * np.exp(-t / tau) + np.random.default_rng(1).normal(0.0, 0.05, t.size)
    s = judge_soak(t, T, limit)
    drift = 60.0 / tau * np.exp(-t[-1] / tau)
    wait = tau * np.log(drift / limit)
    assert not s.settled
    assert s.wait_low <= wait <= s.wait_high
    assert s.drift == pytest.approx(drift, rel=0.1)
    long = np.arange(0.0, 7000.0, 10.0)
    done = judge_soak(long, 370.0 - 60.0 * np.exp(-long / tau), limit)
    assert done.settled
    assert done.wait == 0.0
    assert done.end == pytest.approx(370.0, abs=0.05)
    with pytest.raises(InputError, match="8 readings"):
        judge_soak(np.arange(3.0), np.arange(3.0), limit)


# ---- energy
def test_power_running_total_and_hourly_bins_say_the_same() -> None:
    t = np.arange(-3600.0, 4 * 3600.0 + 1.0, 60.0)
    power = np.where(t < 0.0, 12.0, np.where(t < 900.0, 812.0, 212.0))
    total = np.concatenate([[0.0], np.cumsum(power[:-1] * 60.0)])
    every = np.arange(-3600.0, 4 * 3600.0 + 1.0, 3600.0)
    hourly = np.diff(np.interp(every, t, total))
    model = np.where(np.arange(0.0, 4 * 3600.0, 10.0) < 900.0, 800.0, 200.0)
    model_time = np.arange(0.0, 4 * 3600.0, 10.0)
    cases = (
        (t, power, "power", "power at moments"),
        (t, total, "energy", "running total"),
        (every[1:], hourly, "energy", "energy of each interval"),
    )
    for time, values, what, kind in cases:
        found = check_energy(time, values, what, model_time, model, 1000.0, 900.0)
        assert found.kind == kind
        assert found.base == pytest.approx(12.0, rel=0.01)
        assert found.base_from == "before heating"
        assert found.steady == pytest.approx(212.0, rel=0.01)
        assert found.duty == pytest.approx(0.2, abs=0.01)
        assert found.phases[-1].name == "holding"
        assert sum(p.measured for p in found.phases) == pytest.approx(found.bins.energy, rel=1e-6)
        assert sum(p.predicted for p in found.phases) == pytest.approx(found.bins.energy, rel=0.02)
    assert check_energy(t, power, "power", model_time, model, 1000.0, 900.0).peak == pytest.approx(812.0, rel=0.01)


def test_base_load_without_an_idle_time_and_logs_that_end_too_early() -> None:
    t = np.arange(0.0, 3600.0, 30.0)
    model_time = np.arange(0.0, 3600.0, 10.0)
    found = check_energy(t, np.full(t.size, 215.0), "power", model_time, np.full(model_time.size, 200.0), 1000.0, 300.0)
    assert found.base == pytest.approx(15.0, abs=0.5)
    assert "do not explain" in found.base_from
    with pytest.raises(InputError, match="before heating began"):
        check_energy(
            t - 9000.0, np.full(t.size, 5.0), "power", model_time, np.full(model_time.size, 200.0), 1000.0, 300.0
        )
    with pytest.raises(InputError, match="two figures"):
        bins_of(np.array([1.0]), np.array([2.0]), "power")


def test_a_meter_that_was_reset_gains_nothing() -> None:
    t = np.arange(0.0, 6000.0, 10.0)
    total = 200.0 * t
    total[300:] -= total[300]
    bins, kind = bins_of(t, total, "energy")
    assert kind == "running total"
    assert bins.energy == pytest.approx(200.0 * (t[-1] - 10.0), rel=1e-6)
