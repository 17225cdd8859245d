"""Energy at the plug and what the machine draws, through the widgets: figures everywhere alike, consumers edited, compared."""

from __future__ import annotations

import pytest

from mandorla.core.results.keys import ENERGY_DIFFERENCE, EVALUATION, PLUG_COURSE
from mandorla.core.rig.consumers import ASSUMED, Doing, consumers_of, drawn
from mandorla.core.units import show
from tests.ui.conftest import Hands

pytestmark = pytest.mark.gui


def energy_view(hands: Hands) -> object:
    hands.stage("tune")
    hands.view("energy")
    hands.bot.waitUntil(lambda: hands.document.results.value(PLUG_COURSE) is not None, timeout=20000)
    hands.settled()
    return hands.page.stage_page.view_of("energy")


def test_the_view_tells_the_same_energy_as_console_and_phases(hands: Hands) -> None:
    view = energy_view(hands)
    use = hands.evaluation.energy
    assert use is not None
    total = show(use.total, "energy")
    assert total in hands.sentence
    verdict = hands.window.console.verdicts["Energy and cost"]
    assert verdict.value.text().startswith(total)
    assert verdict.remark.text().startswith("at the plug")
    assert view.phases.rows[-1][2] == total
    assert [r[0] for r in view.phases.rows[:-1]] == ["Warm-up", "Soak", "Print", "Cool-down", "Idle until taken off"]
    assert sum(value for _, value, _ in view.bars.rows) == pytest.approx(use.total)
    name, hours, power, unit = view.curves.series[1]
    assert (name, unit) == ("everything", "W")
    assert float((power[::2] * (hours[1::2] - hours[::2])).sum()) * 3600.0 == pytest.approx(use.total, rel=1e-3)
    assert len(view.unknowns.figures) == 5


def test_a_scenario_is_compared_with_the_range_of_the_difference(hands: Hands) -> None:
    view = energy_view(hands)
    hands.document.pin("Hot")
    hands.document.edit("settings.bed_rest", hands.document.project.settings.bed_rest - 20.0, "bed")
    key = ENERGY_DIFFERENCE.of(scenario="Hot")
    hands.bot.waitUntil(lambda: hands.document.results.value(key) is not None, timeout=20000)
    hands.settled()
    gap = hands.document.results.value(key)
    assert gap is not None
    assert gap.high < 0.0, "a colder bed surely takes less"
    figure = view.compared.figures[0]
    assert figure.caption == "Now against Hot"
    assert figure.value.startswith("−")
    assert " to " in figure.remark


def test_consumers_are_taken_over_changed_added_and_removed(hands: Hands) -> None:
    hands.document.edit("rig.plug.consumers", None, "assumed ones")
    hands.stage("rig")
    hands.view("power")
    hands.settled()
    view = hands.page.stage_page.view_of("power")
    assert ASSUMED in view.sentence.text()
    assert view.table.rows[0][0] == "Controller and display"
    before = drawn(hands.document.project.rig, Doing.PRINT)
    hands.click(view.own_button)
    consumers = hands.document.project.rig.plug.consumers
    assert consumers is not None
    assert drawn(hands.document.project.rig, Doing.PRINT) == pytest.approx(before)
    view.table.selectRow(1)
    hands.settled()
    hands.type_into(hands.field("rig.plug.consumers.1.power_high"), "150 W")
    hands.type_into(hands.field("rig.plug.consumers.1.power"), "90 W")
    assert drawn(hands.document.project.rig, Doing.PRINT) == pytest.approx(before + 90.0 - consumers[1].power)
    hands.type_into(hands.field("rig.plug.consumers.1.power_low"), "95 W")
    assert "rising" in hands.message
    count = len(consumers)
    hands.click(view.add_button)
    assert len(consumers_of(hands.document.project.rig)) == count + 1
    assert view.table.rows[-1][0] == "Filament dryer"
    hands.click(view.remove_button)
    assert len(consumers_of(hands.document.project.rig)) == count
    assert view.sums.rows[-1][0] == "Cool-down"


def test_supplies_are_stated_and_reach_the_total(hands: Hands) -> None:
    hands.stage("rig")
    hands.view("power")
    hands.settled()
    view = hands.page.stage_page.view_of("power")
    before = hands.evaluation.energy
    assert before is not None
    hands.click(view.supply_button)
    hands.type_into(hands.field("rig.plug.bed_supply.low"), "0.7")
    hands.type_into(hands.field("rig.plug.bed_supply.typical"), "0.8")
    hands.settled()
    after = hands.document.results.value(EVALUATION)
    assert after is not None
    assert after.energy is not None
    assert after.energy.of("bed") == pytest.approx(before.of("bed") * 0.99 / 0.8, rel=1e-6)
    assert "stated" in view.supplies.text()
