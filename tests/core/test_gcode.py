"""G-code: volumes and times against closed forms, dialects told apart by their commands, damage refused with its line."""

from __future__ import annotations

import math

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from mandorla.core.errors import MeshError
from mandorla.core.part.gcode import read_gcode, segment_times

AREA = math.pi * 1.75e-3**2 / 4.0


def squares(
    layers: int = 4, side: float = 40.0, *, relative: bool = False, inch: bool = False, head: str = "", each: str = ""
) -> bytes:
    """Squares of ``side`` mm, 0.2 mm apart; 0.05 mm of filament for each mm of line."""
    k = 25.4 if inch else 1.0
    lines = ["G20" if inch else "G21", "G90", "M83" if relative else "M82", "M190 S100", "M109 S240", head, f"G92 E{0}"]
    e = 0.0
    for n in range(layers):
        lines += [f"G0 X{100 / k:.6f} Y{100 / k:.6f} Z{0.2 * (n + 1) / k:.6f} F{6000 / k:.4f}", each]
        for x, y in ((100 + side, 100), (100 + side, 100 + side), (100, 100 + side), (100, 100)):
            e += 0.05 * side
            push = 0.05 * side if relative else e
            lines.append(f"G1 X{x / k:.6f} Y{y / k:.6f} E{push / k:.7f} F{1800 / k:.5f}")
    return "\n".join(lines).encode()


@pytest.mark.parametrize("relative", [False, True])
@pytest.mark.parametrize("inch", [False, True])
def test_the_same_print_in_every_dialect(relative: bool, inch: bool) -> None:
    found = read_gcode(squares(relative=relative, inch=inch), "s.gcode")
    assert found.z == pytest.approx([2e-4, 4e-4, 6e-4, 8e-4], rel=1e-4)
    assert found.volume == pytest.approx([0.008 * AREA] * 4, rel=1e-5)
    assert found.extent == pytest.approx([0.04, 0.04, 8e-4], rel=1e-4)
    assert found.bed == pytest.approx([373.15] * 4)
    assert found.nozzle == pytest.approx([513.15] * 4)
    assert np.isnan(found.chamber).all()
    assert ("inches" in found.notes) is inch
    assert ("relative extrusion" in found.notes) is relative
    # four sides at 30 mm/s take 5.33 s; corners and ramps add a little
    assert found.time[1] == pytest.approx(160.0 / 30.0, rel=0.06)
    assert found.time[1] > 160.0 / 30.0
    assert found.duration == pytest.approx(found.time.sum(), rel=1e-9)


def test_a_single_move_is_a_trapezoid_and_a_short_one_a_triangle() -> None:
    one = np.array([[1.0, 0.0, 0.0]])
    long = segment_times(np.array([0.1]), np.array([0.05]), one, np.array([2.0]))[0]
    assert long == pytest.approx(0.1 / 0.05 + 0.05 / 2.0)
    short = segment_times(np.array([0.0005]), np.array([0.5]), one, np.array([2.0]))[0]
    assert short == pytest.approx(2.0 * math.sqrt(0.0005 / 2.0))


@given(st.integers(1, 40), st.floats(0.001, 0.2), st.floats(0.3, 10.0))
def test_a_straight_line_takes_as_long_in_pieces_as_in_one(pieces: int, feed: float, acceleration: float) -> None:
    along = np.tile([0.6, 0.8, 0.0], (pieces, 1))
    parts = segment_times(np.full(pieces, 0.12 / pieces), np.full(pieces, feed), along, np.full(pieces, acceleration))
    whole = segment_times(np.array([0.12]), np.array([feed]), along[:1], np.array([acceleration]))
    assert parts.sum() == pytest.approx(whole[0], rel=1e-6)


def test_sharp_corners_cost_more_than_blunt_ones() -> None:
    n = 60
    length, feed, a = np.full(n, 0.005), np.full(n, 0.1), np.full(n, 3.0)

    def zigzag(degrees: float) -> float:
        angles = np.radians(np.arange(n) % 2 * degrees)
        along = np.column_stack([np.cos(angles), np.sin(angles), np.zeros(n)])
        return float(segment_times(length, feed, along, a).sum())

    times = [zigzag(d) for d in (0.0, 20.0, 60.0, 120.0, 179.0)]
    assert times == sorted(times)
    assert times[-1] > 1.3 * times[0]


@pytest.mark.parametrize("form", ["I-10 J0", "R10"])
def test_arcs_by_centre_and_by_radius(form: str) -> None:
    """Quarter circles of 10 mm: their length within 0.04 % (chords of 5 degrees), both ways round."""
    lines = ["G21", "G90", "M83", "G0 X10 Y0 Z0.2 F6000", f"G3 X0 Y10 {form} E1 F1200", "G1 X-20 E1"]
    lines += ["G2 X-10 Y20 I10 J0 E1", "G1 X0 E1", "G1 Y0 E1"]
    found = read_gcode("\n".join(lines).encode(), "a.gcode")
    assert "arcs" in found.notes
    assert found.extent[:2] == pytest.approx([0.03, 0.02], abs=2e-5)
    travel = (2 * 0.25 * 2 * math.pi * 10 + 20 + 10 + 20) / 20.0
    assert found.time[0] == pytest.approx(travel, rel=0.12)


def test_fan_chamber_dwell_and_volumetric_extrusion() -> None:
    head = "M141 S60\nM200 D1.75\nM106 S128\nM204 S5000"
    found = read_gcode(squares(2, relative=True, head=head), "v.gcode")
    assert found.chamber == pytest.approx([333.15] * 2)
    assert found.fan == pytest.approx([128 / 255] * 2, rel=1e-6)
    assert found.volume == pytest.approx([8e-9] * 2, rel=1e-5)  # the E words are mm³ then
    waiting = read_gcode(squares(2, each="G4 S30"), "d.gcode")
    assert waiting.time == pytest.approx(read_gcode(squares(2), "e.gcode").time + 30.0, rel=1e-6)
    share = read_gcode(squares(2, head="M106 S0.4"), "f.gcode")
    assert share.fan == pytest.approx([0.4] * 2)


def test_moves_in_between_and_hops_belong_to_the_next_layer() -> None:
    hop = "G91\nG0 Z5\nG0 Z-5\nG90\nM82"
    found = read_gcode(squares(3, each=hop), "h.gcode")
    assert found.z.size == 3
    assert found.extent[2] == pytest.approx(6e-4, rel=1e-4)


def test_what_is_unknown_is_counted_with_its_line() -> None:
    found = read_gcode(squares(2, head="SET_SOMETHING A=1\nM7777 S1\nN20 M107*33"), "u.gcode")
    told = next(n for n in found.notes if "not known" in n)
    assert "2 commands" in told
    assert "line 6" in told


def test_one_rising_line_is_cut_into_layers() -> None:
    lines = ["G21", "G90", "M83", "G0 X10 Y0 Z0.2 F6000"]
    for n in range(2000):
        angle = 2 * math.pi * n / 50
        lines.append(f"G1 X{10 * math.cos(angle):.4f} Y{10 * math.sin(angle):.4f} Z{0.2 + 0.0002 * n:.5f} E0.05 F1800")
    found = read_gcode("\n".join(lines).encode(), "r.gcode")
    assert any("rising line" in n for n in found.notes)
    assert found.z.size < 6


@pytest.mark.parametrize(
    ("text", "words"),
    [
        ("", "nothing is extruded"),
        ("G1 X1 Y1 F600\nG1 X5 Y1\n", "nothing is extruded"),
        ("G1 X10 E1\nG1 Xabc Y3 E2\n", "line 2"),
        ("M83\nG1 X10 E1\nG2 X20 E1\n", "line 3"),
        ("M83\nG1 X10 E1\nG2 X40 R2 E1\n", "radius is too short"),
        ("\x00\x01\x02", "no text"),
    ],
)
def test_damage_is_refused(text: str, words: str) -> None:
    with pytest.raises(MeshError, match=words):
        read_gcode(text.encode(), "x.gcode")
