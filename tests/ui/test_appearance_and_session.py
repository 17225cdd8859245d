"""What a window looks like and comes back to: folds, preferences, the last session, one program a user."""

from __future__ import annotations

import json
import subprocess
import sys
import zipfile
from collections.abc import Callable
from itertools import combinations
from pathlib import Path

import pytest
from PySide6.QtCore import QRectF, QTimer
from PySide6.QtGui import QFontMetricsF
from PySide6.QtNetwork import QLocalSocket
from PySide6.QtWidgets import QApplication, QDialogButtonBox, QScrollArea
from pytestqt.qtbot import QtBot

from mandorla.core.folders import config_folder
from mandorla.core.project.store import write_bundle
from mandorla.core.units import show
from mandorla.ui.preferences import Preferences, load_preferences
from mandorla.ui.preferences_dialog import PreferencesDialog
from mandorla.ui.single_instance import SingleInstance, handed_over, server_name
from mandorla.ui.stages.page import SIDE
from mandorla.ui.theme.palette import LIGHT, font
from mandorla.ui.widgets.stage_rail import StageButton
from mandorla.ui.widgets.state_mark import WORDS
from tests.core.bundles import small_bundle
from tests.ui.conftest import Hands, guarded

pytestmark = pytest.mark.gui


@pytest.fixture
def hands(open_window: Callable[..., Hands]) -> Hands:
    return open_window(small_bundle())


def test_f9_folds_the_console_to_a_line_that_says_the_same_and_is_remembered(hands: Hands) -> None:
    console, page = hands.window.console, hands.window.stack
    before, settings = page.height(), hands.document.project.settings
    hands.press("F9")
    assert not console.steppers["settings.bed_rest"].isVisible()
    assert console.in_short.isVisible()
    assert page.height() > before + 80
    for value in (settings.bed_first, settings.bed_rest):
        assert show(value, "set_point", digits=0) in console.in_short.text()
    for name in ("Surface, centre", "Hold margin", "Ready in"):
        assert console.verdicts[name].value.text() in console.chips[name].text()
    assert console.verdicts["Fails first"].value.text().lower() in console.chips["Fails first"].text().lower()
    assert load_preferences().folded_console
    hands.document.edit("settings.bed_rest", 360.15, "the bed")
    hands.quick()
    assert show(360.15, "set_point", digits=0) in console.in_short.text()
    hands.click(console.chips["Hold margin"])
    card = hands.window.explaining.card
    assert card is not None
    assert card.title.text() == "Hold margin"
    card.close()
    hands.press("F9")
    assert console.steppers["settings.bed_rest"].isVisible()
    assert not load_preferences().folded_console


def test_a_window_opens_folded_where_it_was_left_so(open_window: Callable[..., Hands]) -> None:
    hands = open_window(small_bundle(), preferences=Preferences(folded_console=True, folded_sides=True))
    assert hands.window.console.in_short.isVisible()
    hands.stage("heat")
    sides = hands.window.findChildren(QScrollArea, SIDE)
    assert sides
    assert not any(area.isVisible() for area in sides)


def test_f10_gives_the_picture_the_whole_width(hands: Hands) -> None:
    hands.stage("heat")
    hands.settled()
    curves = hands.page.curves
    before = curves.width()
    hands.press("F10")
    hands.bot.waitUntil(lambda: curves.width() > before + 200, timeout=30000)
    hands.view("balance")
    assert not any(a.isVisible() for a in hands.window.page.view.findChildren(QScrollArea, SIDE))
    hands.press("F10")
    hands.view("warming")
    hands.bot.waitUntil(lambda: curves.width() == before, timeout=30000)


def answer(hands: Hands, act: Callable[[PreferencesDialog], None]) -> None:
    def take() -> None:
        dialog = QApplication.activeModalWidget()
        assert isinstance(dialog, PreferencesDialog)
        act(dialog)

    with guarded():
        QTimer.singleShot(100, take)
        hands.window.appearance.edit()


def test_preferences_are_edited_in_one_place_and_kept(hands: Hands) -> None:
    def change(dialog: PreferencesDialog) -> None:
        dialog.theme.setCurrentIndex(1)
        dialog.temperature.setCurrentIndex(1)
        dialog.scale.setCurrentIndex(2)
        for edit, text in ((dialog.currency, "CHF"), (dialog.risk, "5 %")):
            edit.selectAll()
            hands.bot.keyClicks(edit, text)
        hands.click(dialog.buttons.button(QDialogButtonBox.StandardButton.Ok))

    answer(hands, change)
    assert hands.window.theme.name == "dark"
    assert "°F" in hands.window.console.verdicts["Surface, centre"].value.text()
    kept = load_preferences()
    assert (kept.dark, kept.fahrenheit, kept.scale, kept.currency, kept.risk) == (True, True, 1.5, "CHF", 0.05)
    assert "preferences were changed" in hands.message
    hands.click(hands.window.messages.action)  # and put back with a click
    assert load_preferences() == Preferences()
    assert hands.window.theme.name == "light"
    assert "°C" in hands.window.console.verdicts["Surface, centre"].value.text()


@pytest.mark.parametrize(
    ("currency", "risk", "said"), [("", "5 %", "currency"), ("€", "70 %", "0.1 %"), ("€", "x", "not a number")]
)
def test_preferences_that_cannot_be_are_refused_in_words(hands: Hands, currency: str, risk: str, said: str) -> None:
    def change(dialog: PreferencesDialog) -> None:
        dialog.currency.setText(currency)
        dialog.risk.setText(risk)
        hands.click(dialog.buttons.button(QDialogButtonBox.StandardButton.Ok))
        assert dialog.isVisible()
        assert said in dialog.told.text()
        dialog.reject()

    answer(hands, change)
    assert load_preferences() == Preferences()


def test_a_file_of_preferences_gives_what_can_be_used(hands: Hands) -> None:
    folder = config_folder()
    folder.mkdir(parents=True, exist_ok=True)
    odd = {
        "scale": 9.0,
        "risk": 3.0,
        "currency": "",
        "dark": "yes",
        "recent": ["a.mandorla", 3],
        "restore": False,
        "no": 1,
    }
    (folder / "preferences.json").write_text(json.dumps(odd), encoding="utf-8")
    assert load_preferences() == Preferences(recent=["a.mandorla"], restore=False)


def test_the_project_of_the_last_time_is_opened_at_its_stage(open_window: Callable[..., Hands], tmp_path: Path) -> None:
    path = tmp_path / "bench.mandorla"
    write_bundle(path, small_bundle("On the bench"))
    first = open_window(small_bundle("On the bench"), path)
    first.stage("warp")
    first.window.close()
    again = open_window(preferences=load_preferences())
    assert again.window.beginnings.restore_session()
    assert again.document.project.name == "On the bench"
    assert again.window.stage == "warp"
    path.unlink()
    gone = open_window(preferences=load_preferences())
    assert not gone.window.beginnings.restore_session()
    asked_not_to = open_window(preferences=Preferences(restore=False, session=str(path)))
    assert not asked_not_to.window.beginnings.restore_session()


def test_a_later_start_hands_its_file_to_the_window_that_is_open(
    open_window: Callable[..., Hands], tmp_path: Path, qtbot: QtBot
) -> None:
    assert not handed_over([]), "nothing is open yet"
    path = tmp_path / "second.mandorla"
    write_bundle(path, small_bundle("Second"))
    hands = open_window(small_bundle("First"))
    raised: list[bool] = []
    listening = SingleInstance(hands.window.beginnings.open_file, lambda: raised.append(True), hands.window)
    code = "import sys; from mandorla.__main__ import main; sys.argv = ['mandorla', *sys.argv[1:]]; sys.exit(main())"
    with subprocess.Popen([sys.executable, "-c", code, str(path)]) as other:
        qtbot.waitUntil(lambda: other.poll() is not None, timeout=30000)
    assert other.returncode == 0
    qtbot.waitUntil(lambda: hands.document.project.name == "Second", timeout=10000)
    assert raised
    assert hands.document.project.name == "Second"
    listening.close()


@pytest.mark.parametrize("sent", [b"not json\n", b'{"a": 1}\n', b"[1]\n", b"[" * 3000 + b"\n", b"x" * 70000])
def test_garbage_on_the_socket_opens_nothing(qtbot: QtBot, sent: bytes) -> None:
    opened: list[Path] = []
    listening = SingleInstance(opened.append, lambda: None)
    socket = QLocalSocket()
    socket.connectToServer(server_name())
    assert socket.waitForConnected(1000)
    socket.write(sent)
    qtbot.waitUntil(lambda: socket.state() is QLocalSocket.LocalSocketState.UnconnectedState, timeout=3000)
    assert opened == []
    listening.close()


def test_an_older_project_says_what_is_new_since(hands: Hands, tmp_path: Path) -> None:
    data = json.loads(small_bundle("From before").project.model_dump_json()) | {"schema_version": 6}
    data["rig"].pop("plug")
    path = tmp_path / "older.mandorla"
    with zipfile.ZipFile(path, "w") as archive:
        archive.writestr("project.json", json.dumps(data))
        for name, content in small_bundle().originals.items():
            archive.writestr(f"originals/{name}", content)
    assert hands.window.open_project(path)
    assert "Written by schema 6" in hands.message
    assert "at the plug is counted" in hands.message
    assert "six panels" not in hands.message


@pytest.mark.parametrize("height", [40, 46, 52, 57, 63, 70, 74])
def test_mark_name_and_word_of_a_stage_fit_their_button_however_low_it_is(qapp: QApplication, height: int) -> None:
    button = StageButton("Logbook", LIGHT)
    button.resize(104, height)
    mark, name, word, _ = button.places()
    assert all(QRectF(button.rect()).contains(r) for r in (mark, name, word))
    for size, text, place in ((10.0, "Logbook", name), *((8.0, w, word) for w in WORDS.values())):
        assert QFontMetricsF(font(size)).horizontalAdvance(text) <= place.width(), text
    inked = [r.adjusted(0, 2, 0, -2) for r in (mark, name, word)]  # letters are lower than their lines
    assert not any(a.intersects(b) for a, b in combinations(inked, 2))
