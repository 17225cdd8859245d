"""Building and levelling a bed: the wire to its heater, how far to turn its screws."""

from __future__ import annotations

import pytest

from mandorla.core.measure.heights import screw_words
from mandorla.core.project.samples import sample
from mandorla.core.rig.build_list import AMPACITY, RESERVE, bill_of_materials, conductor


@pytest.mark.parametrize(
    ("rise", "pitch", "raises", "words"),
    [
        (0.000175, 0.0007, False, "¼ turn anticlockwise"),  # an M4 thread rises 0.7 mm a turn
        (0.000175, 0.0007, True, "¼ turn clockwise"),
        (-0.00035, 0.0007, False, "½ turn clockwise"),
        (0.00105, 0.0007, False, "1 ½ turns anticlockwise"),
        (0.0007, 0.0007, False, "1 turn anticlockwise"),
        (0.00001, 0.0007, False, ""),
        (0.0005, 0.0, False, ""),
    ],
)
def test_a_screw_is_turned_by_the_rise_over_its_pitch(rise: float, pitch: float, raises: bool, words: str) -> None:
    assert screw_words(rise, pitch, clockwise_raises=raises) == words


def test_a_wire_carries_its_current_with_a_reserve_and_hot_air_asks_for_more() -> None:
    for size, most in AMPACITY:
        assert conductor(0.99 * most / RESERVE, around=303.15) <= 1e-6 * size + 1e-12
        assert conductor(1.01 * most / RESERVE, around=303.15) != pytest.approx(1e-6 * size)
    cool, warm = conductor(12.0, around=303.15), conductor(12.0, around=353.15)
    assert warm > cool > 0.0
    assert conductor(1000.0) == 0.0
    assert conductor(5.0, around=400.0) == 0.0


def test_the_list_to_buy_names_the_wire_and_leaves_it_to_local_code() -> None:
    for name in ("boathouse", "windowsill", "kiln"):
        rig = sample(name).project.rig
        wire = next(i for i in bill_of_materials(rig) if i.what.startswith("Wire to the heater"))
        assert "mm² copper" in wire.size or "ask an electrician" in wire.size
        assert wire.quantity == 2
