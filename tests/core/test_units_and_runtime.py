"""Conversions at the edges, typed numbers, progress and cancellation."""

from __future__ import annotations

import math

import pytest
from hypothesis import given
from hypothesis import strategies as st

from mandorla.core.errors import Cancelled, InputError
from mandorla.core.runtime import RunContext
from mandorla.core.units import (
    KINDS,
    METRIC,
    UnitPreferences,
    celsius,
    parse_quantity,
    show,
    show_duration,
    show_number,
)


@pytest.mark.parametrize("kind", sorted(KINDS))
@given(value=st.floats(-1e6, 1e6))
def test_every_unit_goes_there_and_back(kind: str, value: float) -> None:
    for unit in KINDS[kind]:
        assert unit.to_si(unit.from_si(value)) == pytest.approx(value, rel=1e-9, abs=1e-9)


@pytest.mark.parametrize(("text", "kind", "expected"), [
    ("60", "temperature", 333.15), ("60 °C", "temperature", 333.15), ("140 °F", "temperature", 333.15),
    ("333.15 K", "temperature", 333.15), ("60 degC", "temperature", 333.15), ("1,5", "length", 0.0015),
    ("1.5 mm", "length", 0.0015),
    ("2 in", "length", 0.0508), ("10 min", "duration", 600.0), ("1.5 h", "duration", 5400.0), ("90 s", "duration", 90.0),
    ("25 %", "fraction", 0.25), ("0.8 W/cm2", "power_density", 8000.0), ("1e-4", "contact_resistance", 1e-4),
    ("−5", "temperature_difference", -5.0), ("15 mm3/s", "volume_flow", 15e-9),
])  # fmt: skip
def test_typed_numbers(text: str, kind: str, expected: float) -> None:
    assert parse_quantity(text, kind, KINDS[kind][0]) == pytest.approx(expected)


@pytest.mark.parametrize("text", ["", "abc", "1.2.3", "60 mm", "nan", "inf", "--5", "1e999"])
def test_what_is_no_temperature_is_refused_with_the_text(text: str) -> None:
    with pytest.raises(InputError) as caught:
        parse_quantity(text, "temperature", KINDS["temperature"][0], "Bed")
    assert "Bed" in str(caught.value)


def test_preferences_change_what_is_shown_only() -> None:
    imperial = UnitPreferences(fahrenheit=True, inches=True)
    assert show(celsius(100.0), "temperature", imperial) == "212.0 °F"
    assert show(0.0254, "length", imperial) == "1.000 in"
    assert show(10.0, "temperature_difference", imperial) == "18.0 °F"
    assert show(celsius(100.0), "temperature", METRIC) == "100.0 °C"


def test_numbers_as_text() -> None:
    assert show(math.nan, "temperature") == "–"
    assert show_number(-1e-6, "length") == "0.00"
    assert show(celsius(-3.0), "temperature") == "−3.0 °C"
    assert [show_duration(v) for v in (42, 780, 7500, 7200, 200000, math.inf)] == [
        "42 s", "13 min", "2 h 05 min", "2 h 00 min", "56 h", "–",
    ]  # fmt: skip


def test_checkpoints_report_and_stop() -> None:
    seen: list[tuple[float, str]] = []
    run = RunContext(report=lambda f, s: seen.append((f, s)), interval=0.0)
    run.checkpoint(0.5, "half")
    run.checkpoint(1.0, "done")
    assert seen == [(0.5, "half"), (1.0, "done")]
    run.cancel()
    assert run.cancelled
    with pytest.raises(Cancelled, match="10 % of: again"):
        run.checkpoint(0.1, "again")


def test_a_silent_part_stops_with_the_whole_and_reports_nothing() -> None:
    seen: list[float] = []
    run = RunContext(report=lambda f, _: seen.append(f), interval=0.0)
    part = run.silent()
    part.checkpoint(0.5, "part")
    assert seen == []
    run.cancel()
    with pytest.raises(Cancelled):
        part.checkpoint(0.6, "part")
