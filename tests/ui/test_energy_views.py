"""Energy at the plug and what the machine draws, through the widgets: figures everywhere alike, consumers edited, compared."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import pytest

from mandorla.core.results.key import Key
from mandorla.core.results.keys import ENERGY_DIFFERENCE, EVALUATION, ON_BACKUP, PLUG_COURSE, STAGGER
from mandorla.core.rig.consumers import ASSUMED, Doing, consumers_of, drawn
from mandorla.core.units import show
from tests.core.bundles import small_bundle
from tests.ui.conftest import Hands

pytestmark = pytest.mark.gui
HOUR = 3600.0


def energy_view(hands: Hands) -> Any:
    return view_of(hands, "energy", PLUG_COURSE)


def test_the_view_tells_the_same_energy_as_console_and_phases(hands: Hands) -> None:
    view = energy_view(hands)
    use = hands.evaluation.energy
    assert use is not None
    total = show(use.total, "energy")
    assert total in hands.sentence
    verdict = hands.window.console.verdicts["Energy, cost"]
    assert verdict.value.text().startswith(total)
    assert verdict.remark.text().endswith(" kWh at the plug")
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


def view_of(hands: Hands, key: str, result: Key[Any]) -> Any:
    hands.stage("tune")
    hands.view(key)
    hands.bot.waitUntil(lambda: hands.document.results.known(result), timeout=30000)
    hands.settled()
    return hands.page.stage_page.view_of(key)


def test_prices_by_time_of_day_reach_every_cost_and_gaps_are_refused(hands: Hands) -> None:
    view = view_of(hands, "cost", PLUG_COURSE)
    assert "the same whenever" in hands.sentence
    flat = hands.evaluation.energy.cost
    hands.click(view.add_button)
    hands.settled()
    bands = hands.document.project.criteria.tariff.bands
    assert [(b.starts / HOUR, b.ends / HOUR) for b in bands] == [(6.0, 22.0), (22.0, 6.0)]
    assert hands.evaluation.energy.cost == pytest.approx(flat, rel=0.01), "it runs by day, at the price there was"
    hands.type_into(hands.field("criteria.tariff.bands.0.price"), "0.60")
    hands.settled()
    dear = hands.evaluation.energy.cost
    assert dear > 1.5 * flat
    assert f"{dear:.2f}" in hands.window.console.verdicts["Energy, cost"].value.text()
    assert "instead of 08:00" in hands.sentence
    rows = {f.caption: f.value for f in view.parts.figures}
    parts = [float(rows[k].split()[0]) for k in ("Electricity", "Filament", "Machine and care")]
    assert float(rows["Together"].split()[0]) == pytest.approx(sum(parts), abs=0.02)
    name, starts, costs, _ = view.curves.series[0]
    assert name == "cost of a job"
    assert costs[16] == pytest.approx(dear, rel=1e-6)
    assert starts[int(costs.argmin())] not in (8.0, 12.0)
    hands.type_into(hands.field("criteria.tariff.bands.1.starts"), "23 h")
    assert "no price from 22:00 to 23:00" in hands.message
    assert hands.document.project.criteria.tariff.bands[1].starts == 22 * HOUR
    hands.click(view.flat_button)
    assert hands.document.project.criteria.tariff.bands == ()


def test_a_battery_that_is_too_small_says_when_it_is_empty_and_what_lasts(hands: Hands) -> None:
    view = view_of(hands, "backup", ON_BACKUP)
    assert "No battery or generator" in hands.sentence
    hands.choose("rig.backup.kind", "battery")
    hands.type_into(hands.field("rig.backup.capacity"), "1 kWh")
    hands.bot.waitUntil(lambda: hands.document.results.value(ON_BACKUP) is not None, timeout=30000)
    now = hands.document.results.value(ON_BACKUP)[0].run
    hands.type_into(hands.field("rig.backup.capacity"), f"{0.7 * now.asked / now.holds:.3f} kWh")
    hands.bot.waitUntil(lambda: hands.document.results.value(ON_BACKUP) is not None, timeout=30000)
    hands.settled()
    ways = hands.document.results.value(ON_BACKUP)
    assert "It is empty after" in hands.sentence
    assert view.ways.rows[0][0] == "As it is set"
    lasting = next(k for k, w in enumerate(ways) if w.run.lasts)
    assert view.ways.rows[lasting][2] == "lasts"
    hands.click(view.use_button)
    assert "Pick a way" in hands.message
    view.ways.selectRow(lasting)
    hands.click(view.use_button)
    hands.bot.waitUntil(lambda: hands.document.results.value(ON_BACKUP) is not None, timeout=30000)
    assert hands.document.results.value(ON_BACKUP)[0].run.lasts, "what is taken over lasts as it said"
    hands.type_into(hands.field("rig.backup.capacity"), "0")
    assert "no capacity" in hands.message


def test_machines_on_one_breaker_are_told_their_starts(hands: Hands) -> None:
    view = view_of(hands, "backup", STAGGER)
    hands.type_into(hands.field("criteria.farm.machines"), "4")
    hands.bot.waitUntil(lambda: hands.document.results.value(STAGGER) is not None, timeout=30000)
    hands.settled()
    found = hands.document.results.value(STAGGER)
    assert found.possible
    assert found.staggered <= found.limit < found.together
    assert "one after the other" in hands.sentence
    assert len(view.starts.rows) == 4
    hands.type_into(hands.field("criteria.farm.breaker"), "2 A")
    hands.bot.waitUntil(lambda: "do not stay below" in hands.sentence, timeout=30000)


def test_a_meter_read_by_eye_is_typed_in_and_told_against_the_prediction(open_window: Callable[..., Hands]) -> None:
    hands = open_window(small_bundle())
    hands.stage("tune")
    hands.view("energy")
    hands.settled()
    view = hands.page.stage_page.view_of("energy")
    assert not view.read.isVisible()
    hands.click(view.meter.add_button)
    hands.type_into(hands.field("measurements.meter.0.power_low"), "900 W")
    hands.type_into(hands.field("measurements.meter.0.power_high"), "1 kW")
    hands.settled()
    row = view.read.figures[0]
    assert row.value == "900–1000 W"
    assert "times that" in row.remark
    e = hands.evaluation
    assert e is not None
    assert e.energy is not None
    power = e.energy.phase(Doing.PRINT).power
    hands.type_into(hands.field("measurements.meter.0.power_low"), f"{0.9 * power:.0f} W")
    hands.settled()
    assert "they agree" in view.read.figures[0].remark
