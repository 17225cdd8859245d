"""The run's plan: clock times by hand, over midnight and a change of the clocks; spools; the cool-down; files."""

from __future__ import annotations

import json
import math
from datetime import UTC, datetime, timedelta
from pathlib import Path
from zoneinfo import ZoneInfo

import numpy as np
import pytest
from icalendar import Calendar
from pydantic import ValidationError
from pypdf import PdfReader

from mandorla.cli import run
from mandorla.core.decimal_sign import with_comma
from mandorla.core.errors import InputError
from mandorla.core.project.store import Bundle, write_bundle
from mandorla.core.report.run_sheet import as_calendar, as_html, as_markdown, write_sheet
from mandorla.core.results import keys
from mandorla.core.results.results import Results
from mandorla.core.rig.tariff import Tariff, TariffBand
from mandorla.core.run.messages import cool_sentence, run_sentence
from mandorla.core.run.model import RunPlan, Spool, StepEdit
from mandorla.core.run.schedule import Schedule, day_of, schedule
from mandorla.core.run.sheet import Step
from mandorla.core.run.touch import BURNS, burns_at, touched
from mandorla.core.thermal.cool_down import lagged
from mandorla.core.units import UnitPreferences
from mandorla.core.warp.release import Release
from tests.core.asked import asked
from tests.core.bundles import small_bundle

NEVER = Release(math.nan, math.nan, math.nan)
BERLIN, FLAT = ZoneInfo("Europe/Berlin"), 0.30 / 3.6e6
LAID = (np.array([0.0, 36000.0]), np.array([0.0, 1.0]))


def step(key: str, phase: str, hours: float, spread: float = 0.0, **more: object) -> Step:
    takes = (3600.0 * (hours - spread), 3600.0 * hours, 3600.0 * (hours + spread))
    return Step(key, phase, key.capitalize(), "do it", "because", takes=takes, **more)  # type: ignore[arg-type]


STEPS = (
    step("wash", "before", 0.25), step("heat", "heat", 0.5, 0.1), step("level", "heat", 0.5), step("first", "print", 0.5),
    step("look-5", "print", 2.0), step("print", "print", 9.5, 0.5, attended=False), step("cool", "after", 1.0, attended=False),
    step("clean", "after", 0.25),
)  # fmt: skip


def planned(plan: RunPlan, steps: tuple[Step, ...] = STEPS, tariff: Tariff | None = None) -> Schedule:
    return schedule(steps, plan, datetime(2026, 11, 27, 12, tzinfo=UTC), tariff or Tariff(), FLAT, LAID)


def ends(s: Schedule, key: str) -> datetime:
    return next(p.ends.typical for p in s.planned if p.step.key == key)


def test_clock_times_by_hand_across_midnight() -> None:
    """Start 16:30; heated 17:00, levelled 17:30, first layers 18:00, looked in at 20:00, printed 03:30, off at 04:30."""
    s = planned(RunPlan(at="2026-11-27 16:30", zone="Europe/Berlin"))
    assert s.switched_on == datetime(2026, 11, 27, 16, 30, tzinfo=BERLIN)
    assert ends(s, "wash").strftime("%H:%M") == "16:30", "what comes before ends when it is switched on"
    assert [ends(s, k).strftime("%d %H:%M") for k in ("heat", "level", "first", "look-5", "print", "cool")] == [
        "27 17:00", "27 17:30", "27 18:00", "27 20:00", "28 03:30", "28 04:30",
    ]  # fmt: skip
    assert s.printed.typical == ends(s, "print")
    assert s.taken_off.typical == ends(s, "cool")
    # ranges add as squares: 6 minutes and half an hour
    width = (s.printed.high - s.printed.typical).total_seconds() / 60.0
    assert width == pytest.approx(math.hypot(6.0, 30.0), abs=0.01)
    assert day_of(s.printed.typical, s.switched_on).startswith("Sat 28 Nov")


def test_a_night_in_which_the_clocks_change_is_as_long_as_it_is() -> None:
    """From 02:00 on 25 October the clocks go back by an hour: eleven hours after 22:00 it is 08:00, not 09:00."""
    ten = (step("heat", "heat", 1.0), step("first", "print", 0.0), step("print", "print", 10.0))
    back = planned(RunPlan(at="2026-10-24 22:00", zone="Europe/Berlin"), ten)
    assert back.printed.typical.strftime("%H:%M") == "08:00"
    forward = planned(RunPlan(at="2026-03-28 22:00", zone="Europe/Berlin"), ten)
    assert forward.printed.typical.strftime("%H:%M") == "10:00"
    assert (forward.printed.typical.astimezone(UTC) - forward.switched_on.astimezone(UTC)) == timedelta(hours=11)


def test_a_finish_is_kept_by_starting_early_enough() -> None:
    s = planned(RunPlan(kind="finish", at="2026-11-28 12:00", zone="Europe/Berlin"))
    last = max(p.ends.high for p in s.planned)
    assert last <= datetime(2026, 11, 28, 12, 1, tzinfo=BERLIN)
    assert last >= datetime(2026, 11, 28, 11, 30, tzinfo=BERLIN)


def test_who_is_not_there_is_told_and_hours_alone_are_counted() -> None:
    s = planned(RunPlan(at="2026-11-27 16:30", zone="Europe/Berlin", there_from=7 * 3600.0, there_to=19 * 3600.0))
    missed = {p.step.key for p in s.planned if p.nobody}
    assert missed == {"look-5", "clean"}, "the print and the cool-down need nobody"
    assert s.alone == pytest.approx(8.5 * 3600.0, abs=120.0), "from 19:00 to 03:30"
    night = planned(RunPlan(at="2026-11-27 16:30", zone="Europe/Berlin", there_from=18 * 3600.0, there_to=6 * 3600.0))
    assert {p.step.key for p in night.planned if p.nobody} == {"wash", "heat", "level"}


def test_prices_are_those_of_the_hour_and_left_out_steps_take_no_time() -> None:
    tariff = Tariff(
        bands=(
            TariffBand(starts=21600.0, ends=79200.0, price=2 * FLAT),
            TariffBand(starts=79200.0, ends=21600.0, price=FLAT),
        )
    )
    s = planned(RunPlan(at="2026-11-27 16:30", zone="Europe/Berlin"), tariff=tariff)
    price = {p.step.key: p.price for p in s.planned}
    assert price["heat"] == 2 * FLAT
    assert price["print"] == FLAT
    short = planned(RunPlan(at="2026-11-27 16:30", zone="Europe/Berlin"), tuple(
        p._replace(left_out=p.key == "level") for p in STEPS
    ))  # fmt: skip
    assert ends(short, "first").strftime("%H:%M") == "17:30"


def test_spools_run_out_by_mass_and_what_is_missing_is_said() -> None:
    """A kilogram in ten hours: 300 g are gone three hours after the first layer begins at 17:30."""
    two = (Spool(name="Blue", left=0.3), Spool(name="Rest", left=0.5))
    s = planned(RunPlan(at="2026-11-27 16:30", zone="Europe/Berlin", spools=two))
    assert [c.at.typical.strftime("%H:%M") for c in s.changes] == ["20:30", "01:30"]
    assert [c.following for c in s.changes] == ["Rest", ""]
    assert [c.nobody for c in s.changes] == [False, True]
    assert s.missing == pytest.approx(0.2)
    enough = planned(RunPlan(spools=(Spool(left=1.0),)))
    assert enough.changes == ()
    assert enough.missing == 0.0


@pytest.mark.parametrize(
    ("field", "value", "said"), [("at", "tomorrow", "no date and time"), ("zone", "Mars/Base", "no time zone")]
)
def test_a_plan_that_cannot_be_read_is_refused_in_words(field: str, value: str, said: str) -> None:
    with pytest.raises(ValidationError, match=said):
        RunPlan.model_validate({field: value})


def test_burn_thresholds_are_those_of_the_table_and_fall_with_time() -> None:
    assert burns_at("metal", 60.0) == pytest.approx(273.15 + 51.0)
    assert burns_at("glass", 1.0) == pytest.approx(273.15 + 80.0)
    assert burns_at("plastic", 30.0) == burns_at("plastic", 60.0), "the next longer contact that is known counts"
    for known in BURNS.values():
        assert list(known) == sorted(known, reverse=True)
    assert touched(small_bundle().project.rig.bed) == "metal", "a film on steel is felt as steel"


@pytest.mark.parametrize("constant", [200.0, 1500.0])
def test_a_lumped_body_follows_the_exponential_and_the_ramp(constant: float) -> None:
    time = np.arange(0.0, 7200.0, 20.0)
    fell = lagged(time, np.full_like(time, 300.0), 350.0, constant)
    np.testing.assert_allclose(fell, 300.0 + 50.0 * np.exp(-time / constant), rtol=1e-12)
    slope = -0.01
    ramp = lagged(time, 350.0 + slope * time, 350.0, constant)
    exact = 350.0 + slope * (time - constant * (1.0 - np.exp(-time / constant)))
    np.testing.assert_allclose(ramp, exact, rtol=1e-9)


def test_the_cool_down_goes_on_from_the_print_and_ends_at_the_room() -> None:
    bundle = small_bundle()
    cool, e = asked(bundle, keys.COOL_DOWN), asked(bundle, keys.EVALUATION)
    assert e.course is not None
    assert cool.surface[0] == pytest.approx(float(e.course.surface[-1]), abs=0.5)
    assert np.all(np.diff(cool.surface) < 1e-6)
    assert cool.surface[-1] < cool.room[-1] + 2.0
    assert np.all(cool.part_ends[1] <= cool.part_ends[0] + 1e-9), "a stronger film cools faster"
    # what energy and sheet call handled is the same moment
    assert cool.below(cool.surface, 313.15) == pytest.approx(e.course.cools, abs=61.0)
    assert "comes off by itself" in cool_sentence(cool, 305.0, NEVER, "metal")
    assert "does not take" in cool_sentence(cool, math.nan, NEVER, "metal")
    assert "with a weak bond" in cool_sentence(cool, math.nan, NEVER._replace(high=305.0), "metal")
    slow = bundle.project.model_copy(update={"run_plan": RunPlan(ramp=0.5 / 60.0)})
    ramped = Results(Bundle(slow, bundle.originals)).get(keys.COOL_DOWN)
    assert ramped.fastest < cool.fastest
    held = ramped.time < 3600.0
    assert np.all(ramped.surface[held] >= np.interp(ramped.time[held], cool.time, cool.surface) - 0.5)


def sheet_of(bundle: Bundle) -> tuple[tuple[Step, ...], Schedule]:
    results, p = Results(bundle), bundle.project
    steps = results.get(keys.RUN_SHEET.of(full="", bodies="all"))
    return steps, schedule(
        steps,
        p.run_plan,
        datetime(2026, 11, 27, 12, tzinfo=UTC),
        p.criteria.tariff,
        p.criteria.price,
        results.get(keys.MASS_COURSE),
    )


@pytest.fixture(scope="module")
def made() -> tuple[Bundle, tuple[Step, ...], Schedule]:
    bundle = small_bundle()
    plan = RunPlan(at="2026-11-27 16:30", zone="Europe/Berlin", steps=(
        StepEdit(key="seat", done=True, who="Ada", words="Check the rear stop."), StepEdit(key="dry", left_out=True),
    ))  # fmt: skip
    bundle = Bundle(bundle.project.model_copy(update={"run_plan": plan}), bundle.originals)
    return bundle, *sheet_of(bundle)


def test_the_sheet_has_every_step_with_its_reason_and_what_was_edited(
    made: tuple[Bundle, tuple[Step, ...], Schedule],
) -> None:
    _, steps, _ = made
    keys_of = [s.key for s in steps]
    assert len(set(keys_of)) == len(keys_of)
    for key in ("wash", "seat", "dry", "filament", "air", "heat", "soak", "level", "first", "print", "cool", "clean"):
        assert key in keys_of
    assert all(s.what and s.why for s in steps)
    seat = next(s for s in steps if s.key == "seat")
    assert (seat.done, seat.who, seat.what) == (True, "Ada", "Check the rear stop.")
    level = next(s for s in steps if s.key == "level")
    assert "Metal feeler" in level.what, "the first layers' bed is at 100 °C"
    assert "Gloves" in level.caution
    assert "cut-out" in next(s for s in steps if s.key == "print").caution


def test_every_form_says_the_same(made: tuple[Bundle, tuple[Step, ...], Schedule], tmp_path: Path) -> None:
    bundle, _, s = made
    project = bundle.project
    printed = s.printed.typical.strftime("%H:%M")
    text, page = as_markdown(project, s), as_html(project, s)
    for name in ("a.pdf", "a.html", "a.md", "a.ics", "a.csv", "a.json"):
        write_sheet(tmp_path / name, project, s)
        assert (tmp_path / name).stat().st_size > 100
    pdf = " ".join(p.extract_text() for p in PdfReader(tmp_path / "a.pdf").pages).replace("\n", " ")
    write_sheet(tmp_path / "n.html", project, s, number=58)
    assert "number 58" in (tmp_path / "n.html").read_text(encoding="utf-8")
    assert "Print in the logbook" not in page
    for said in (printed, "Seat the plate", "Ada", "Check the rear stop."):
        assert said in text
        assert said in page
        assert said in pdf
    comma = UnitPreferences(comma=True)
    assert as_markdown(project, s, comma) == with_comma(text) != text
    assert "0,60 mm" in as_html(project, s, comma)
    assert "font:15px/1.45" in as_html(project, s, comma)
    write_sheet(tmp_path / "c.pdf", project, s, comma)
    read = " ".join(p.extract_text() for p in PdfReader(tmp_path / "c.pdf").pages).replace("\n", " ")
    assert "0,60 mm" in read
    assert "0.60 mm" in pdf
    assert "Dry the filament" not in text, "what is left out is not on the sheet"
    assert "<script" not in page
    assert json.loads((tmp_path / "a.json").read_text())["settings"]["bed_rest"] == project.settings.bed_rest
    with pytest.raises(InputError, match="not written as"):
        write_sheet(tmp_path / "a.docx", project, s)


def test_the_calendar_holds_the_gates_in_universal_time(made: tuple[Bundle, tuple[Step, ...], Schedule]) -> None:
    bundle, _, s = made
    events = list(Calendar.from_ical(as_calendar(bundle.project, s)).walk("VEVENT"))
    by_name = {str(e["summary"]).split(": ")[1]: e for e in events}
    assert len(by_name) == len(events)
    assert "Dry the filament" not in by_name
    levelled = next(p for p in s.planned if p.step.key == "level")
    assert by_name["Level and map hot"]["dtend"].dt == levelled.ends.typical.astimezone(UTC).replace(microsecond=0)
    assert "Gloves" in str(by_name["Level and map hot"]["description"])


def test_the_command_line_prints_and_writes_the_sheet(tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    bundle = small_bundle()
    write_bundle(tmp_path / "p.mandorla", bundle)
    status = run(
        [
            "run",
            str(tmp_path / "p.mandorla"),
            "--no-check",
            "--set",
            "run_plan.at=2026-11-27 16:30",
            "--sheet",
            str(tmp_path / "s.ics"),
        ]
    )
    told = capsys.readouterr().out
    assert status in (0, 1)
    assert "Switched on Fri 16:30" in told
    assert "Level and map hot" in told
    assert (tmp_path / "s.ics").read_bytes().startswith(b"BEGIN:VCALENDAR")
    judgement = asked(bundle, keys.EVALUATION).judgement
    _, s = sheet_of(bundle)
    said = run_sentence(s, judgement)
    assert said.startswith("Not yet") == (judgement.whole.value == "fails")
