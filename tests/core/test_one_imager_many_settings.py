"""Settings of the moment belong to the reading or the image: emissivity, an open lid, the plate that lies there."""

from __future__ import annotations

import numpy as np
import pytest

from mandorla.core.materials.library_data import seen_surfaces
from mandorla.core.measure.correct import correct_reading, patch_emissivity
from mandorla.core.measure.infrared import shown_for
from mandorla.core.measure.models import Instrument, Measurements, Reading, Session
from mandorla.core.measure.observe import observe_spots, session_rig, spots_of
from mandorla.core.measure.open_lid import UNKNOWN, cooled_by
from mandorla.core.part.process import Process
from mandorla.core.project.models import Project
from mandorla.core.project.store import Bundle
from mandorla.core.results import keys
from mandorla.core.results.results import Results
from mandorla.core.rig.settings import Criteria
from mandorla.core.rig.start import Start
from mandorla.core.thermal.heatup import heat_up
from mandorla.core.units import celsius
from tests.core.rigs import make_rig, settings

BAND = (8e-6, 14e-6)
IMAGER = Instrument(name="Imager", kind="imager", accuracy=1.5, accuracy_of_reading=0.0, emissivity=0.95)
AIR, DAY = (295.15, 3.0), "2026-03-02"
TAPE = "matt_black_tape"


def seen(truth: float, e: float, setting: float) -> float:
    """What the imager shows at a setting."""
    return float(shown_for(truth, e, setting, 295.15, BAND))


def test_the_setting_of_the_moment_is_undone_and_one_imager_stays_one() -> None:
    truth, e = celsius(90.0), seen_surfaces()[TAPE].emissivity.typical
    values = []
    for setting in (0.0, 0.80, 1.0):
        shows = seen(truth, e, setting or IMAGER.emissivity)
        reading = Reading(instrument="Imager", raw=(shows,), surface=TAPE, setting=setting)
        values.append(correct_reading(reading, IMAGER, DAY, AIR).value)
    assert values == pytest.approx([truth] * 3, abs=0.01)
    readings = tuple(
        Reading(instrument="Imager", raw=(seen(truth, e, s),), surface=TAPE, setting=s, x=x)
        for s, x in ((0.80, -0.08), (1.0, 0.08))
    )
    session = Session(name="Two settings", date=DAY, bed=celsius(95.0), readings=readings)
    spots = spots_of(session, Measurements(instruments=(IMAGER,)), make_rig())
    assert {o.source for o in observe_spots(spots)} == {"Imager"}


def test_a_patch_read_at_another_setting_still_gives_the_emissivity() -> None:
    truth, own, tape = celsius(100.0), 0.85, seen_surfaces()[TAPE].emissivity.typical
    surface = Reading(instrument="Imager", raw=(seen(truth, own, 0.95),), surface="polyetherimide_sheet")
    patch = Reading(instrument="Imager", raw=(seen(truth, tape, 0.80),), surface=TAPE, setting=0.80, x=0.03)
    assert patch_emissivity(surface, patch, IMAGER, DAY)[0] == pytest.approx(own, abs=0.003)


def test_an_open_lid_is_added_back_with_half_of_it_unknown() -> None:
    rig = make_rig(enclosed=True)
    short, long = (cooled_by(rig, celsius(95.0), celsius(45.0), t) for t in (20.0, 120.0))
    assert 0.0 < short.surface < long.surface < 5.0
    assert long.air > 3.0 * long.surface
    assert cooled_by(make_rig(enclosed=False), celsius(95.0), celsius(45.0), 120.0) == (0.0, 0.0)
    probe = Instrument(name="Probe", kind="resistance probe", stem_conductance=0.0)
    shut, opened = (
        Session(
            name="Lid", date=DAY, bed=celsius(95.0), room=celsius(21.0),
            readings=(Reading(instrument="Probe", raw=(celsius(90.0),), lid_open=t),),
        )
        for t in (0.0, 120.0)
    )  # fmt: skip
    a, b = (spots_of(s, Measurements(instruments=(probe,)), rig)[0].estimate for s in (shut, opened))
    lost = cooled_by(session_rig(rig, opened), celsius(95.0), opened.chamber, 120.0).surface
    assert b.value - a.value == pytest.approx(lost, rel=1e-6)
    assert b.u**2 - a.u**2 == pytest.approx((UNKNOWN * lost) ** 2, rel=1e-6)


def test_a_session_began_cold_whatever_the_next_job_begins_with() -> None:
    warm = make_rig().model_copy(update={"start": Start(kind="warm", bed=celsius(95.0))})
    session = Session(name="Cold", date=DAY, bed=celsius(95.0), room=celsius(21.0))
    was = session_rig(warm, session)
    assert was.start == Start()
    heat = heat_up(was, settings(95.0), Criteria(), with_bands=False)
    assert heat.surface[0] == pytest.approx(celsius(21.0))


def test_readings_of_another_side_are_told_from_those_of_this_one() -> None:
    readings = tuple(
        Reading(instrument="Imager", raw=(celsius(90.0),), surface=TAPE, side=side, coating=coating, x=x)
        for side, coating, x in (("front", "", 0.0), ("back", "", 0.05), ("front", "glue", 0.1), ("", "", 0.15))
    )
    session = Session(key="s", name="Sides", date=DAY, bed=celsius(95.0), readings=readings)
    measured = Measurements(instruments=(IMAGER,), sessions=(session,))
    project = Project(name="Sides", rig=make_rig(), measurements=measured, process=Process())
    table = Results(Bundle(project, {})).get(keys.READINGS.of(session="s"))
    assert table.elsewhere == {readings[1], readings[2]}
    assert np.isfinite([c.value for _, c, _ in table.corrected if c is not None]).all()
