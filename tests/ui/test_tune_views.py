"""The map over other axes, what is in hand, levers and the optimum, driven as a person drives them."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace

import pytest
from PySide6.QtCore import QPoint, Qt

from mandorla.core.results.keys import LEVER_WORTH, OPTIMUM, SETTINGS_CHECK, WINDOW, WINDOW_AT_BEST
from mandorla.core.results.levers import LeversWorth
from mandorla.core.tune.messages import chance_in_table
from mandorla.core.units import show
from tests.core.bundles import small_bundle
from tests.ui.conftest import Hands

pytestmark = pytest.mark.gui


def pick(hands: Hands, box, key: str) -> None:  # type: ignore[no-untyped-def]
    """Choose an entry of a combo box with the keyboard, as a person does."""
    box.setFocus()
    while box.currentData() != key:
        before = box.currentIndex()
        way = Qt.Key.Key_Down if box.findData(key) > before else Qt.Key.Key_Up
        hands.bot.keyClick(box, way)
        assert box.currentIndex() != before
    box.activated.emit(box.currentIndex())


def test_the_map_is_drawn_over_other_axes_and_arrow_keys_move_on_it(open_window: Callable[..., Hands]) -> None:
    hands = open_window(small_bundle())
    hands.stage("tune")
    hands.settled()
    view = hands.page.stage_page.view
    usual = [f.caption for f in view.hand.figures]
    assert any("Chamber" in c for c in usual)
    exhaust = view.up.findData("exhaust")
    assert not view.up.model().item(exhaust).isEnabled()
    assert "no exhaust fan" in view.up.itemData(exhaust, Qt.ItemDataRole.ToolTipRole)
    pick(hands, view.up, "fan")
    w = hands.wait_for(WINDOW.of(x="bed", y="fan"), 60000)
    hands.settled()
    assert view.map.accessibleName() == f"Operating window, {w.axes[0].title} against Part fan"
    assert any("Part fan" in f.caption for f in view.hand.figures)
    before = hands.document.project.settings
    view.map.setFocus()
    stood = view.map.present_at
    hands.bot.keyClick(view.map, Qt.Key.Key_Up)
    after = hands.document.project.settings
    shown = (stood[0], 100.0 * after.fan)
    assert view.map.present_at == pytest.approx(shown, abs=1e-6), "the point follows before a map is there"
    assert after.fan == pytest.approx(before.fan + 0.05)
    assert after.bed_rest == before.bed_rest
    hands.quick()
    hands.bot.keyClick(view.map, Qt.Key.Key_Left)
    assert hands.document.project.settings.bed_rest == pytest.approx(before.bed_rest - 1.0)
    pick(hands, view.contours, "duration")
    assert any(" h" in text for text, _, _ in view.map.written)


def levers_shown(hands: Hands) -> LeversWorth:
    """What levers buy from the judgement that everybody shows, once the settings and the best levers were run in full."""
    hands.wait_for(SETTINGS_CHECK, 120000)
    by = hands.document.results.judgement_key()
    assert by["full"]
    key = LEVER_WORTH.of(units=hands.document.units, full=by["full"], bodies=by["bodies"], simulated=True)
    found = hands.wait_for(key, 120000).by_runs(hands.document.results.run_judgement)
    hands.settled()
    assert found.judgement.anything == hands.document.results.judgement().anything
    return found


def test_levers_are_told_by_what_they_cost_and_one_is_set(open_window: Callable[..., Hands]) -> None:
    bundle = small_bundle()
    hands = open_window(bundle)
    hands.stage("tune")
    hands.view("levers")
    found = levers_shown(hands)
    view = hands.page.stage_page.view
    assert [row[0] for row in view.table.rows] == [w.lever.name for w in found.levers]
    assert view.table.rows[0][1] == chance_in_table(found.levers[0].lever)
    assert any(row[1].endswith(", simulated") for row in view.table.rows)
    assert found.pairs[0].first.name in view.pairs.rows[0][0]
    assert "one lever does most" in hands.sentence
    row = next(k for k, w in enumerate(found.levers) if w.lever.put is not None)
    view.table.selectRow(row)
    assert view.use_button.isEnabled()
    put = found.levers[row].lever.put
    hands.click(view.use_button)
    assert hands.document.project.settings == put
    assert not view.use_button.isEnabled(), "what was picked belongs to the project as it was"
    found = levers_shown(hands)
    fixed = next(k for k, w in enumerate(found.levers) if w.lever.changes is None)
    view.table.selectRow(fixed)
    assert not view.use_button.isEnabled(), "no field tells of a stronger magnet, or of another standing"
    assert "No single field" in view.use_button.toolTip()
    bonded = next(k for k, w in enumerate(found.levers) if "bonded" in w.lever.name)
    view.table.selectRow(bonded)
    hands.click(view.use_button)
    rig = hands.document.project.rig
    assert any(
        now.bonded and not before.bonded
        for now, before in zip(rig.bed.layers, bundle.project.rig.bed.layers, strict=True)
    )
    p = hands.document.project
    assert {"rig": p.rig, "settings": p.settings, "process": p.process} == found.levers[bonded].lever.changes
    hands.document.undo_stack.undo()
    assert hands.document.project.rig == bundle.project.rig


def test_what_is_set_is_what_the_line_says(open_window: Callable[..., Hands], monkeypatch: pytest.MonkeyPatch) -> None:
    """A run that becomes known between drawing and clicking may order levers anew: the picked line is set all the same."""
    hands = open_window(small_bundle())
    hands.stage("tune")
    hands.view("levers")
    found, results = levers_shown(hands), hands.document.results
    view, lost = hands.page.stage_page.view, replace(found.judgement, anything=1.0)
    monkeypatch.setattr(
        results, "run_judgement", lambda changes: lost if changes is found.levers[0].lever.changes else None
    )
    row = next(k for k, w in enumerate(found.levers) if k and w.lever.changes is not None)
    assert found.by_runs(results.run_judgement).levers[row].lever.name != found.levers[row].lever.name
    view.table.selectRow(row)
    hands.click(view.use_button)
    p = hands.document.project
    assert {"rig": p.rig, "settings": p.settings, "process": p.process} == found.levers[row].lever.changes


def test_two_levers_are_set_at_once(open_window: Callable[..., Hands]) -> None:
    hands = open_window(small_bundle())
    hands.stage("tune")
    hands.view("levers")
    found = levers_shown(hands)
    view = hands.page.stage_page.view
    row, pair = next((k, p) for k, p in enumerate(found.pairs) if p.changes is not None)
    view.table.selectRow(0)
    view.pairs.selectRow(row)
    assert not view.table.selectedItems(), "one line is picked"
    assert view.use_button.text() == "Set both"
    hands.click(view.use_button)
    p = hands.document.project
    assert {"rig": p.rig, "settings": p.settings, "process": p.process} == pair.changes


def test_the_optimum_is_searched_proved_and_taken_over(open_window: Callable[..., Hands], runs_kept: None) -> None:
    hands = open_window(small_bundle())
    hands.stage("tune")
    hands.view("optimum")
    hands.settled()
    view = hands.page.stage_page.view
    assert "search" in hands.sentence
    assert not view.free["machine"].isEnabled(), "there is no other machine"
    fan = view.free["fan"]
    hands.click(fan, QPoint(9, fan.height() // 2))
    assert fan.isChecked()
    hands.click(view.search_button)
    key = OPTIMUM.of(free=("fan",), objective="energy")
    found = hands.wait_for(key, 120000)
    assert found.best is not None
    assert found.proof in hands.sentence
    assert view.table.rows[0][2] == show(found.best.energy, "energy")
    assert len(view.front.series[0][1]) == len(found.front)
    assert "combinations" in view.status.text()
    hands.click(view.use_button)
    assert hands.document.project.settings == found.best.setup.settings
    hands.quick()
    e = hands.evaluation
    assert e is not None
    assert e.energy is not None
    assert e.energy.total == pytest.approx(found.best.energy, rel=1e-6), "what is taken over takes what it said"


def test_with_the_others_at_their_best_a_click_takes_what_is_best_over(open_window: Callable[..., Hands]) -> None:
    hands = open_window(small_bundle())
    hands.stage("tune")
    hands.settled()
    view = hands.page.stage_page.view
    pick(hands, view.up, "fan")
    pick(hands, view.others, "best")
    w = hands.wait_for(WINDOW_AT_BEST.of(x="bed", y="fan"), 60000)
    hands.settled(60000)
    assert "at its best" in view.foot.text()
    i, j = w.level.argmax() // w.x.size, w.level.argmax() % w.x.size
    view.map.picked.emit(float(w.x[j]), float(w.y[i]))
    settings = hands.document.project.settings
    assert settings.chamber == pytest.approx(float(w.best["settings.chamber"][i, j]))
    assert settings.bed_rest == pytest.approx(float(w.x[j]), abs=0.6)
