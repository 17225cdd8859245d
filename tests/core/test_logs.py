"""Logs: what is guessed of them, what is told of their oddities, what is refused; drawing without losing peaks."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from mandorla.core.errors import InputError
from mandorla.core.measure.log_guess import propose
from mandorla.core.measure.logs import decimated, preview, read_log
from mandorla.core.measure.models import LogChannel, LogMapping
from mandorla.core.units import celsius


def text(rows: list[str], head: str) -> bytes:
    return "\n".join([head, *rows]).encode()


def test_commas_and_seconds() -> None:
    data = text([f"{10 * i},{20 + i},{5.5 * i}" for i in range(30)], "time s,bed °C,power W")
    m = propose(data, "a.csv")
    assert (m.delimiter, m.decimal, m.time_column, m.time_form, m.header_lines) == (",", ".", 0, "s", 1)
    assert [(c.what, c.place) for c in m.channels] == [("temperature", "sensor"), ("power", "power")]
    log = read_log(data, "a.csv", m)
    assert log.oddities == ()
    assert log.time[-1] == 290.0
    assert log.values[0][3] == pytest.approx(celsius(23.0))
    assert log.values[1][2] == pytest.approx(11.0)


@pytest.mark.parametrize(
    ("stamp", "form"),
    [
        ("2026-03-01 08:{m:02d}:{s:02d}", "iso"),
        ("2026-03-01T08:{m:02d}:{s:02d}Z", "iso"),
        ("01.03.2026 08:{m:02d}:{s:02d}", "day first"),
        ("03/01/2026 08:{m:02d}:{s:02d}", "month first"),
        ("08:{m:02d}:{s:02d}", "clock"),
    ],
)
@pytest.mark.parametrize("comma", [True, False])
def test_time_forms_with_decimal_comma_and_point(stamp: str, form: str, comma: bool) -> None:
    def number(v: float) -> str:
        return f"{v:.2f}".replace(".", ",") if comma else f"{v:.2f}"

    rows = [f"{stamp.format(m=i // 6, s=10 * (i % 6))};{number(20.0 + i)};{number(31.5)}" for i in range(40)]
    data = text(rows, "moment;surface °C;chamber °C")
    m = propose(data, "b.csv")
    if form == "month first":
        m = m.model_copy(
            update={"time_form": "month first"}
        )  # the first of March is the third of January too: the person says it
    assert (m.delimiter, m.time_form) == (";", form)
    assert m.decimal == ("," if comma else ".")
    log = read_log(data, "b.csv", m)
    assert log.time[0] == 0.0
    assert log.time[-1] == pytest.approx(390.0)
    assert log.values[0][-1] == pytest.approx(celsius(59.0))


def test_fahrenheit_in_the_heading_and_mistaken_for_celsius() -> None:
    rows = [f"{10 * i},{70 + 3 * i}" for i in range(40)]
    named = text(rows, "time,bed °F")
    log = read_log(named, "f.csv", propose(named, "f.csv"))
    assert log.values[0][0] == pytest.approx(celsius((70 - 32) / 1.8))
    unnamed = text(rows, "time,bed")
    odd = read_log(unnamed, "f.csv", propose(unnamed, "f.csv")).oddities
    assert any("Fahrenheit" in o for o in odd)


def test_holes_gaps_repeats_order_and_absolute_zero_are_told() -> None:
    rows = [f"{10 * i},{20 + i},{40}" for i in range(30)]
    rows[5] = "50,,40"
    rows[6] = "60,-400,40"
    rows[9], rows[10] = rows[10], rows[9]
    rows.insert(12, rows[11])
    del rows[20:28]
    data = text(rows, "time s,bed °C,air °C")
    m = propose(data, "c.csv")
    log = read_log(data, "c.csv", m)
    told = " ".join(log.oddities)
    for word in ("1 holes", "absolute zero", "back in time", "repeat a moment", "gaps"):
        assert word in told, word
    assert np.all(np.diff(log.time) > 0.0)
    assert np.isnan(log.values[0][[5, 6]]).all()


def test_words_between_figures_become_holes_and_short_lines_are_told() -> None:
    rows = [f"{10 * i},{20 + i},{40}" for i in range(30)]
    rows[7] = "70,sensor lost,40"
    rows[8] = "80"
    data = text(rows, "time s,bed °C,air °C")
    log = read_log(data, "d.csv", propose(data, "d.csv"))
    told = " ".join(log.oddities)
    assert "too short" in told
    assert "line 10" in told
    assert "2 holes" in told
    assert log.time.size == 30


def test_a_clock_that_passes_midnight_goes_on() -> None:
    seconds = [86340 + 20 * i for i in range(20)]
    rows = [f"{s // 3600 % 24:02d}:{s // 60 % 60:02d}:{s % 60:02d},{30 + i}" for i, s in enumerate(seconds)]
    data = text(rows, "clock,bed °C")
    log = read_log(data, "n.csv", propose(data, "n.csv"))
    assert log.time[-1] == pytest.approx(380.0)
    assert any("midnight" in o for o in log.oddities)


def test_clock_offset_start_and_raw_text_stay_apart() -> None:
    data = text([f"{10 * i},{20 + i}" for i in range(30)], "time s,bed °C")
    m = propose(data, "a.csv").model_copy(update={"clock_offset": 5.0, "start": 100.0})
    log = read_log(data, "a.csv", m)
    assert log.time[0] == -95.0


def test_a_running_number_stands_for_a_missing_time() -> None:
    data = text(["21.0;40", "21.5;40", "23.0;41", "22.5;40", "26;41"] * 4, "bed °C;air °C")
    m = propose(data, "r.csv")
    assert m.time_form == "rows"
    log = read_log(data, "r.csv", m.model_copy(update={"row_interval": 2.0}))
    assert log.time[-1] == 38.0


@pytest.mark.parametrize(
    ("data", "words"),
    [
        (b"", "fewer than two"),
        (b"one line", "fewer than two"),
        (b"a;b\nx;y\nz;w\n", "no line holds figures"),
        (b"\x00\x01\x02\x03", "not a text"),
    ],
)
def test_what_is_no_log_is_refused(data: bytes, words: str) -> None:
    with pytest.raises(InputError, match=words):
        propose(data, "x.csv")


def test_a_wrong_mapping_is_refused_with_the_line() -> None:
    data = text([f"{10 * i};{20 + i}" for i in range(30)], "time;bed")
    wrong = LogMapping(delimiter=",", channels=(LogChannel(column=1, name="bed"),))
    with pytest.raises(InputError, match="fewer than 2 columns") as caught:
        read_log(data, "w.csv", wrong)
    assert caught.value.problems[0].where == "line 2"
    no_time = propose(data, "w.csv").model_copy(update={"time_form": "iso"})
    with pytest.raises(InputError, match="no time"):
        read_log(data, "w.csv", no_time)
    with pytest.raises(InputError, match="no column"):
        read_log(data, "w.csv", propose(data, "w.csv").model_copy(update={"channels": ()}))


def test_preview_shows_cells_and_the_problem() -> None:
    data = text([f"{10 * i};{20 + i}" for i in range(90)], "time;bed")
    m = propose(data, "p.csv")
    seen = preview(data, "p.csv", m)
    assert seen.cells[0] == ("0", "20")
    assert seen.first_line == 2
    assert "no time" in preview(data, "p.csv", m.model_copy(update={"time_form": "iso"})).problems[0]


@given(st.integers(2500, 40000), st.integers(0, 10**6))
def test_drawing_keeps_every_peak(size: int, seed: int) -> None:
    rng = np.random.default_rng(seed)
    values = rng.normal(size=size)
    values[rng.integers(size)] = 50.0
    values[rng.integers(size)] = np.nan
    low = int(rng.integers(size))
    values[low] = -60.0
    time = np.arange(size, dtype=float)
    t, v = decimated(time, values, 400)
    assert v.size <= 2 * 400 + 2
    assert np.nanmax(v) == np.nanmax(values)
    assert np.nanmin(v) == -60.0
    assert np.all(np.diff(t) >= 0.0)


def test_a_long_tidy_log_is_kept_whole() -> None:
    n = 200_000
    data = text([f"{i},{20 + i % 7}" for i in range(n)], "time s,bed °C")
    log = read_log(data, "l.csv", propose(data, "l.csv"))
    assert log.time.size == n
    assert not log.values[0].flags.writeable


def test_mixed_separators_lose_nothing_in_silence() -> None:
    """Points among decimal commas are read; lines cut by another separator are told with their number."""
    rows = [f"{10 * i};{20 + i},5;40,0" for i in range(30)]
    rows[4] = "40;24.5;40.0"
    rows[7] = "70|27,5|40,0"
    data = text(rows, "time s;bed °C;air °C")
    log = read_log(data, "m.csv", propose(data, "m.csv"))
    assert log.values[0][4] == pytest.approx(celsius(24.5))
    assert any("line 9" in o for o in log.oddities)
    assert log.time.size == 29


@pytest.mark.parametrize(
    ("day", "form"), [("2026-05-31", "iso"), ("31.05.2026", "day first"), ("05/31/2026", "month first")]
)
def test_date_and_time_in_columns_of_their_own_are_read_together(day: str, form: str) -> None:
    rows = [f"{day},{i // 60:02d}:{i % 60:02d}:00,{20 + 0.1 * i:.1f},{21 + 0.1 * i:.1f}" for i in range(90)]
    data = ("date,time,bed °C,chamber °C\n" + "\n".join(rows)).encode()
    mapping = propose(data, "log.csv")
    assert (mapping.date_column, mapping.time_column, mapping.time_form) == (0, 1, form)
    assert [c.name for c in mapping.channels] == ["bed °C", "chamber °C"]
    log = read_log(data, "log.csv", mapping)
    np.testing.assert_allclose(np.diff(log.time), 60.0)
    assert log.time.size == 90
    over_midnight = "date,time,bed °C\n2026-05-31,23:59:30,20\n2026-06-01,00:00:30,21\n" + "\n".join(
        f"2026-06-01,00:{i:02d}:30,22" for i in range(1, 20)
    )
    late = read_log(over_midnight.encode(), "late.csv", propose(over_midnight.encode(), "late.csv"))
    assert late.time[1] - late.time[0] == pytest.approx(60.0)


def test_a_log_with_too_much_before_its_figures_or_too_many_columns_is_refused_in_words() -> None:
    late = "time s\tbed °C\n" + "a note\tand no figure\n" * 210 + "".join(f"{k}\t{20 + k}\n" for k in range(60))
    with pytest.raises(InputError, match="figures begin only in line 212"):
        propose(late.encode(), "late.csv")
    wide = ",".join(["time s", *(f"T{k} °C" for k in range(41))]) + "\n"
    wide += "".join(",".join(str(k + c) for c in range(42)) + "\n" for k in range(30))
    with pytest.raises(InputError, match="41 columns beside the time; 40 are the most"):
        propose(wide.encode(), "wide.csv")
