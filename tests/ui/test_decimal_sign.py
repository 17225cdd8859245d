"""Decimal commas on screen: what is shown and typed, back again; names stay as they are. Every view: test_eyes_and_keyboard."""

from __future__ import annotations

from collections.abc import Callable, Iterator

import pytest
from PySide6.QtCore import QRectF
from PySide6.QtGui import QImage, QPainter
from PySide6.QtWidgets import (
    QApplication,
    QDialogButtonBox,
    QLabel,
    QToolButton,
)

from mandorla.core.decimal_sign import with_comma
from mandorla.core.project.paths import get_value
from mandorla.core.project.samples import sample
from mandorla.core.project.store import Bundle
from mandorla.ui import decimal_sign
from mandorla.ui.decimal_sign import use_comma
from mandorla.ui.preferences import Preferences, load_preferences
from mandorla.ui.preferences_dialog import PreferencesDialog
from tests.core.bundles import small_bundle
from tests.ui.conftest import Hands
from tests.ui.seen import with_commas, with_points

pytestmark = pytest.mark.gui


@pytest.fixture(autouse=True)
def points_afterwards() -> Iterator[None]:
    yield
    use_comma(False)


def test_the_sign_is_changed_in_the_preferences_at_once_and_back(hands: Hands) -> None:
    hands.stage("heat")
    before = {c: v.value.text() for c, v in hands.window.console.verdicts.items()}
    assert with_points(hands.window)

    def choose(sign: int) -> None:
        dialog = PreferencesDialog(hands.window, hands.window.preferences)
        dialog.sign.setCurrentIndex(sign)
        hands.click(dialog.buttons.button(QDialogButtonBox.StandardButton.Ok))
        assert dialog.taken is not None
        hands.window.appearance.take(dialog.taken)

    choose(1)
    assert load_preferences().comma
    hands.bot.waitUntil(lambda: with_points(hands.window) == set(), timeout=20000)
    read = {c: v.value.text() for c, v in hands.window.console.verdicts.items()}
    assert read == {c: with_comma(text) for c, text in before.items()}
    choose(0)
    assert not load_preferences().comma
    hands.bot.waitUntil(lambda: with_commas(hands.window) == set(), timeout=20000)
    assert {c: v.value.text() for c, v in hands.window.console.verdicts.items()} == before


def test_both_signs_can_be_typed_and_an_untouched_field_changes_nothing(open_window: Callable[..., Hands]) -> None:
    hands = open_window(small_bundle(), preferences=Preferences(comma=True))
    hands.stage("rig")
    hands.view("chamber")
    hands.tab(hands.page.chamber_view.tabs, 3)
    path = "rig.room_temperature"
    for typed, shown in (("21,5", "21,5 °C"), ("19.5", "19,5 °C")):
        hands.type_into(hands.field(path), typed)
        assert hands.field(path).text() == shown
        assert get_value(hands.document.project, path) == pytest.approx(float(typed.replace(",", ".")) + 273.15)
    index = hands.document.undo_stack.index()
    hands.type_into(hands.field(path), "19,5 °C")
    assert hands.document.undo_stack.index() == index


def test_a_name_keeps_its_point(open_window: Callable[..., Hands]) -> None:
    """What a person wrote is not rewritten by the field that shows it."""
    hands = open_window(small_bundle(), preferences=Preferences(comma=True))
    title = hands.window.title
    assert title is not None
    hands.type_into(title, "Cradle 1.5")
    assert title.text() == hands.document.project.name == "Cradle 1.5"
    title.setFocus()
    title.clearFocus()
    assert hands.document.project.name == "Cradle 1.5"


def test_what_is_painted_has_the_sign_too(qapp: QApplication, monkeypatch: pytest.MonkeyPatch) -> None:
    drawn: list[str] = []

    def record(_: QPainter, *given: object) -> None:
        drawn.extend(g for g in given if isinstance(g, str))

    monkeypatch.setattr(QPainter, "drawText", record)
    use_comma(True)
    picture = QImage(20, 20, QImage.Format.Format_RGB32)
    painter = QPainter(picture)
    painter.drawText(QRectF(0, 0, 20, 20), 0, "0.25 mm")
    painter.end()
    use_comma(False)
    assert drawn == ["0,25 mm"]
    assert QPainter.drawText is record


def test_qt_is_as_it_was_after_points_came_back(qapp: QApplication) -> None:
    assert [(k, n) for k, names in decimal_sign._SINKS for n in names if n not in vars(k)] == []
    before = {(kind, name): getattr(kind, name) for kind, names in decimal_sign._SINKS for name in names}
    use_comma(True)
    use_comma(True)
    assert QLabel("1.5").text() == "1,5"
    use_comma(False)
    assert QLabel("1.5").text() == "1.5"
    tool = QToolButton()
    tool.setText("1.5")
    assert tool.text() == "1.5"
    assert {(kind, name): getattr(kind, name) for kind, names in decimal_sign._SINKS for name in names} == before


def test_an_instrument_whose_name_has_a_point_is_found_by_its_name(open_window: Callable[..., Hands]) -> None:
    bundle = sample("boathouse")
    stored = bundle.project.measurements
    renamed = tuple(
        i.model_copy(update={"name": "Probe 1.5"}) if i.name == "Touch probe" else i for i in stored.instruments
    )
    named = [
        s.model_copy(update={"readings": tuple(
            r.model_copy(update={"instrument": "Probe 1.5"}) if r.instrument == "Touch probe" else r for r in s.readings
        )}) for s in stored.sessions
    ]  # fmt: skip
    measurements = stored.model_copy(update={"instruments": renamed, "sessions": tuple(named)})
    project = bundle.project.model_copy(update={"measurements": measurements})
    hands = open_window(Bundle(project, bundle.originals), preferences=Preferences(comma=True))
    hands.stage("verify")
    hands.view("readings")
    view = hands.page.readings_view
    hands.bot.waitUntil(lambda: view.instrument.findData("Probe 1.5") >= 0, timeout=20000)
    view.instrument.setCurrentIndex(view.instrument.findData("Probe 1.5"))
    assert view.instrument.currentText() == "Probe 1,5"
    count = len(hands.document.project.measurements.sessions[view.desk.index].readings)
    view.shown.setText("96,5")
    view._add()
    added = hands.document.project.measurements.sessions[view.desk.index].readings
    assert len(added) == count + 1
    assert added[-1].instrument == "Probe 1.5"
