"""Inputs that used to end in a traceback or in the wrong words: each is refused, or computed, with its reason."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest

from mandorla.cli import run
from mandorla.cli.fit import with_logs
from mandorla.core.errors import InputError
from mandorla.core.measure.log_guess import open_questions, propose
from mandorla.core.measure.logs import read_log
from mandorla.core.project.paths import parse_at, set_value
from mandorla.core.project.samples import sample
from mandorla.core.project.store import Bundle, write_bundle
from mandorla.core.results import keys
from mandorla.core.results.results import Results
from mandorla.core.units import celsius
from tests.core.asked import evaluated
from tests.core.bundles import small_bundle


@pytest.fixture
def project(tmp_path: Path) -> Path:
    path = tmp_path / "test.mandorla"
    write_bundle(path, small_bundle())
    return path


@pytest.mark.parametrize(
    ("edit", "words"),
    [
        ("process.walls=²", "²"),
        ("schema_version=" + "9" * 5000, "not a whole number"),
        ("settings.fan=" + "9" * 5000, "Part fan"),
        ("process.polymer=PLA", "PLA"),
        ("part.file=missing.stl", "lacks"),
        ("rig.bed.layers.99.thickness=1mm", "99"),
    ],
)
def test_edits_are_refused_in_words(project: Path, capsys: pytest.CaptureFixture[str], edit: str, words: str) -> None:
    assert run(["heatup", str(project), "--set", edit]) == 2
    err = capsys.readouterr().err
    assert words in err
    assert "dict" not in err
    assert "Traceback" not in err
    assert len(err) < 800


def test_a_price_is_limited_in_the_unit_it_is_asked_in() -> None:
    with pytest.raises(InputError) as refused:
        parse_at(small_bundle().project, "criteria.price", "5000")
    (problem,) = refused.value.problems
    assert "kWh" in problem.allowed or "kWh" in problem.value
    assert "/J" not in problem.allowed


def test_a_hole_smaller_than_any_layer_is_computed() -> None:
    bundle = small_bundle()
    key = bundle.project.rig.bed.layers[-1].key
    spot = {"kind": "hole", "layer": key, "x": 0.04, "y": 0.03, "diameter": 0.0032}
    drilled = Bundle(set_value(bundle.project, "rig.bed.spots", (spot,)), bundle.originals)
    whole, pierced = evaluated(bundle), evaluated(drilled)
    assert abs(pierced.heat.closure) < 1e-6
    assert pierced.heat.steady.surface == pytest.approx(whole.heat.steady.surface, abs=0.5)


def test_a_power_map_of_64_by_64_is_computed() -> None:
    bundle = small_bundle()
    flat = tuple(tuple(1.0 for _ in range(64)) for _ in range(64))
    mapped = Bundle(set_value(bundle.project, "rig.bed.heater.power_map", flat), bundle.originals)
    assert evaluated(mapped).heat.steady.surface == pytest.approx(evaluated(bundle).heat.steady.surface, abs=0.02)


def test_a_stray_quotation_mark_in_a_long_log_is_told_with_its_line() -> None:
    lines = ["time s,bed °C", *(f"{i},{20 + 0.001 * i:.3f}" for i in range(30_000))]
    lines[5] = '5,"20.0'
    data = "\n".join(lines).encode()
    assert len(data) > 131_072
    with pytest.raises(InputError, match="line") as refused:
        read_log(data, "log.csv", propose(data, "log.csv"))
    assert "quotation mark" in refused.value.problems[0].value


def test_a_header_of_minutes_is_read_as_minutes() -> None:
    data = "min,bed °C\n" + "\n".join(f"{i},{20 + i}" for i in range(30))
    mapping = propose(data.encode(), "log.csv")
    log = read_log(data.encode(), "log.csv", mapping)
    assert log.time[-1] - log.time[0] == pytest.approx(29 * 60.0)


def test_columns_without_meaning_and_units_are_asked_about() -> None:
    rows = "\n".join(f"{i},{190 + i},{195 + i}" for i in range(30))
    data = ("time s,foo,bar\n" + rows).encode()
    questions = open_questions(propose(data, "log.csv"), data, "log.csv")
    assert any("foo" in q and "bar" in q for q in questions), "unknown columns are not taken as the surface in silence"


def test_a_heater_that_draws_nothing_is_not_called_too_weak() -> None:
    bundle = small_bundle()
    warm_room = set_value(bundle.project, "rig.room_temperature", celsius(32.0))
    warm_room = set_value(warm_room, "settings.chamber", celsius(35.0))
    e = evaluated(Bundle(set_value(warm_room, "settings.bed_first", celsius(20.0)), bundle.originals))
    reasons = " ".join(c.reason for c in e.judgement.limits)
    assert "too weak" not in reasons
    assert not e.heat.short_of_power
    assert np.isclose(e.heat.steady.power, 0.0)
    weak = evaluated(Bundle(set_value(bundle.project, "rig.bed.heater.power", 40.0), bundle.originals))
    assert weak.heat.short_of_power


def test_a_renamed_layer_keeps_what_was_fitted() -> None:
    bundle = sample("windowsill")
    fit = Results(bundle).get(keys.FIT.of(sessions=("session-1",), day="2026-05-04", unknowns=("joint below Glass",)))
    rig = fit.rig
    assert rig.fitted is not None
    at = next(i for i, layer in enumerate(rig.bed.layers) if layer.name == "Glass")
    project = bundle.project.model_copy(update={"rig": rig})
    renamed = set_value(project, f"rig.bed.layers.{at}.name", "Old window pane").rig
    projects = [bundle.project.model_copy(update={"rig": r}) for r in (rig, renamed)]
    before, after = (Results(Bundle(p, bundle.originals)).get(keys.CURVE_BANDS) for p in projects)
    for name, curve in before.curves.items():
        np.testing.assert_allclose(after.curves[name.replace("Glass", "Old window pane")], curve, rtol=1e-12)
    assert renamed.fitted is not None
    assert [v.key for v in renamed.fitted.values] == [v.key for v in rig.fitted.values]


def test_two_logs_of_one_name_are_two_originals(tmp_path: Path) -> None:
    bundle = sample("windowsill")
    data = bundle.originals["windowsill-warmup.csv"]
    lines = data.decode().splitlines()
    texts = {"a": data, "b": "\n".join(lines[: len(lines) // 2]).encode()}
    logs = [tmp_path / folder / "log.csv" for folder in texts]
    for path in logs:
        path.parent.mkdir()
        path.write_bytes(texts[path.parent.name])
    found = with_logs(bundle, logs, "2026-05-04", None, ())
    first, second = found.project.measurements.sessions[-2:]
    assert (first.name, second.name) == ("log", "log (2)")
    assert [found.originals[s.logs[0].file] for s in (first, second)] == list(texts.values())


def test_a_log_with_unknown_units_is_asked_about_on_the_command_line(
    tmp_path: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    path, log = tmp_path / "w.mandorla", tmp_path / "warm.csv"
    write_bundle(path, sample("windowsill"))
    log.write_text("time s,bed\n" + "\n".join(f"{10 * i},{72 + 3 * i}" for i in range(60)))
    assert run(["fit", str(path), str(log)]) == 2
    err = capsys.readouterr().err
    assert "--log-unit" in err
