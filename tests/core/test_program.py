"""A set-point program says what the heat-up says: the same moment of readiness, with a thermostat that switches, with a bed that is
off, without a soak."""

from __future__ import annotations

import pytest

from mandorla.core.project.paths import set_value
from mandorla.core.project.samples import SAMPLES, sample
from mandorla.core.project.store import Bundle
from mandorla.core.results.choices import PROGRAMS
from mandorla.core.results.keys import HEAT_UP, REGULATION
from mandorla.core.results.results import Results
from mandorla.core.units import OFF


def results(name: str, **values: float) -> Results:
    bundle = sample(name)
    project = bundle.project
    for key, value in values.items():
        project = set_value(project, f"settings.{key}", value)
    return Results(Bundle(project, bundle.originals))


@pytest.mark.parametrize("name", sorted(SAMPLES))
def test_the_soak_of_a_project_ends_when_its_heat_up_says(name: str) -> None:
    """Ready, then soaked: the same to a minute, by which a program looks, whatever kind of thermostat it has."""
    r = results(name)
    run, heat = r.get(REGULATION).program, r.get(HEAT_UP)
    assert all(run.reached)
    soaked = heat.ready_time + r.bundle.project.settings.soak_time
    assert soaked <= run.ends[0] + 1.0
    assert run.ends[0] == pytest.approx(soaked, abs=90.0)


@pytest.mark.parametrize("name", ["boathouse", "windowsill"])
def test_a_bed_that_is_off_has_a_program_too(name: str) -> None:
    r = results(name, bed_first=OFF, bed_rest=OFF, soak_time=0.0)
    found = r.get(REGULATION)
    assert all(found.program.reached)
    assert found.tuning.now.overshoot == 0.0, "nothing is asked for that it could overshoot"
    staged = PROGRAMS["two-stage"](r.bundle.project.settings)
    assert [step.bed for step in staged] == [OFF, OFF, OFF]


def test_a_set_point_that_the_room_passes_is_not_overshot() -> None:
    """Nor is it met."""
    found = results("windowsill", bed_first=280.0, bed_rest=280.0).get(REGULATION)
    assert found.tuning.now.overshoot == 0.0
    assert not any(found.program.reached)
