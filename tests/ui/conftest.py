"""A real window on a small project, and hands to drive it with."""

from __future__ import annotations

import contextlib
import gc
from collections.abc import Callable, Iterator
from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING, Any, Final, TypeVar

import pytest
from PySide6.QtCore import QPoint, QPointF, Qt, QTimer
from PySide6.QtWidgets import (
    QApplication,
    QCheckBox,
    QComboBox,
    QDialog,
    QFileDialog,
    QLineEdit,
    QMessageBox,
    QPushButton,
    QTabWidget,
    QWidget,
)
from pytestqt.qtbot import QtBot

from mandorla.core.project.samples import new_bundle
from mandorla.core.project.store import Bundle
from mandorla.core.results import keys
from mandorla.core.results.key import Cost, Key
from mandorla.core.tune import window as window_of_tune
from mandorla.ui.application import make_application
from mandorla.ui.document import Document
from mandorla.ui.main_window import MainWindow
from mandorla.ui.preferences import Preferences
from mandorla.ui.stages.page import StagePage
from mandorla.ui.stages.registry import STAGES
from tests.conftest import NODES_OF_MAPS, SHARED_COSTS
from tests.core.bundles import small_bundle

if TYPE_CHECKING:
    from mandorla.core.results.types import (
        CurveBands,
        Evaluation,
        Judgement,
        PartGeometry,
        PlateLift,
        RigCheck,
        SurfaceHistory,
        Window,
    )

T = TypeVar("T")
_FEWER: Final = (5, 5)  # nodes of maps
PATIENCE: Final = 4  # times what a wait takes at most on an idle machine


@pytest.fixture(scope="session")
def qapp() -> QApplication:
    """The application as Mandorla sets it up: style and fonts."""
    return make_application()


@pytest.fixture
def runs_kept(request: pytest.FixtureRequest) -> Iterator[None]:
    """Full runs, too, are taken from another test that made the very same."""
    request.getfixturevalue("runs_made")
    SHARED_COSTS.add(Cost.ON_DEMAND)
    yield
    SHARED_COSTS.discard(Cost.ON_DEMAND)


@pytest.fixture(autouse=True)
def runs_made() -> Iterator[None]:
    """Full runs are simulated in every window, unless a test says otherwise."""
    SHARED_COSTS.discard(Cost.ON_DEMAND)
    yield
    SHARED_COSTS.add(Cost.ON_DEMAND)


@pytest.fixture
def whole_rail() -> None:
    """The rail asks for the map of Tune, as it does for a person."""


@pytest.fixture(autouse=True)
def rail_without_map(request: pytest.FixtureRequest, monkeypatch: pytest.MonkeyPatch) -> None:
    """Only a test that opens Tune, or asks for the whole rail, has its map computed: seconds for a mark that nobody looks at."""
    if "whole_rail" not in request.fixturenames:
        monkeypatch.setitem(STAGES, "tune", replace(STAGES["tune"], uses=lambda _: (keys.EVALUATION,)))


@pytest.fixture
def whole_maps() -> None:
    """Maps have as many nodes as a person's."""


@pytest.fixture(autouse=True)
def quick_maps(request: pytest.FixtureRequest, monkeypatch: pytest.MonkeyPatch) -> Iterator[None]:
    """Maps of windows rest on fewer nodes, whole evaluations like all: what is done with a map is the same, and seconds are saved.
    How true maps are is tested where they are computed."""
    if "whole_maps" in request.fixturenames:
        yield
        return
    NODES_OF_MAPS.append(_FEWER)
    monkeypatch.setattr(window_of_tune, "NODES", _FEWER)
    yield
    NODES_OF_MAPS.pop()


@contextlib.contextmanager
def guarded(seconds: float = 10.0) -> Iterator[None]:
    """Close a dialog that nobody answered, so that a failing test ends."""
    timer = QTimer()
    timer.setSingleShot(True)
    timer.timeout.connect(lambda: [w.close() for w in QApplication.topLevelWidgets() if isinstance(w, QDialog)])
    timer.start(int(1000 * seconds))
    yield
    timer.stop()


VIEWS = {
    "stack_view": "stack",
    "plan_view": "plan",
    "chamber_view": "chamber",
    "checks_view": "checks",
    "build_view": "build",
    "across": "across",
    "balances": "balance",
    "flatness": "flatness",
    "regulation": "regulation",
    "builds": "builds",
    "faults": "fault",
    "full_view": "full",
    "why_view": "causes",
    "chances_view": "probability",
    "compare_view": "verdict",
    "readings_view": "readings",
    "image_view": "infrared",
    "logs_view": "logs",
    "fit_view": "fit",
    "instruments_view": "instruments",
    "heights_view": "heights",
    "printing": "print",
    "energy_view": "energy",
    "bench_view": "exercise",
}


class Page:
    """What is seen of a stage: the page itself, the view that is open, and every view by its name."""

    def __init__(self, page: StagePage) -> None:
        self.stage_page = page

    def __getattr__(self, name: str) -> Any:
        page = self.stage_page
        if name in VIEWS:
            return page.view_of(VIEWS[name])
        if hasattr(page, name):
            return getattr(page, name)
        return getattr(page.view, name)


class Hands:
    """Drives a window with mouse and keyboard and reads what it shows."""

    def __init__(self, qtbot: QtBot, window: MainWindow) -> None:
        self.bot, self.window = qtbot, window

    @property
    def document(self) -> Document:
        return self.window.document

    @property
    def page(self) -> Page:
        return Page(self.window.page)

    def result(self, key: Key[T]) -> T | None:
        """A result of the project as it is, once the window has heard of it."""
        results = self.document.results
        return None if results.busy(key) else results.value(key)

    @property
    def evaluation(self) -> Evaluation | None:
        self.quick()
        return self.result(keys.EVALUATION)

    @property
    def operating_window(self) -> Window | None:
        return self.result(keys.WINDOW)

    @property
    def surface(self) -> SurfaceHistory | None:
        return self.result(keys.SURFACE_HISTORY)

    @property
    def bands(self) -> CurveBands | None:
        return self.result(keys.CURVE_BANDS)

    @property
    def plate(self) -> PlateLift | None:
        e = self.evaluation
        return None if e is None else e.plate

    @property
    def judgement(self) -> Judgement:
        found = self.document.results.judgement()
        assert found is not None
        return found

    @property
    def checks(self) -> tuple[RigCheck, ...]:
        return self.result(keys.RIG_CHECKS.of(units=self.document.units)) or ()

    @property
    def geometry(self) -> PartGeometry | None:
        self.quick()
        return self.result(keys.GEOMETRY)

    def wait_for(self, key: Key[T], timeout: int = 30000) -> T:
        """Wait until a result that something on screen wants is there."""
        results = self.document.results
        self.bot.waitUntil(lambda: results.known(key) and not results.busy(key), timeout=timeout)
        QApplication.processEvents()
        found = self.result(key)
        return found

    @property
    def sentence(self) -> str:
        return self.page.sentence.text()

    @property
    def message(self) -> str:
        return self.window.messages.text.text() if self.window.messages.isVisible() else ""

    def click(self, widget: QWidget, at: QPoint | QPointF | None = None) -> None:
        if at is None:
            self.bot.mouseClick(widget, Qt.MouseButton.LeftButton)
        else:
            where = at.toPoint() if isinstance(at, QPointF) else at
            self.bot.mouseClick(widget, Qt.MouseButton.LeftButton, pos=where)
        QApplication.processEvents()

    def press(self, keys: str) -> None:
        """A shortcut of the window, as the keyboard sends it."""
        modifier, key = Qt.KeyboardModifier.NoModifier, keys
        if "+" in keys:
            *names, key = keys.split("+")
            for name in names:
                modifier |= {"Ctrl": Qt.KeyboardModifier.ControlModifier, "Shift": Qt.KeyboardModifier.ShiftModifier}[
                    name
                ]
        if QApplication.activeModalWidget() is None and QApplication.activeWindow() is not self.window:
            self.window.activateWindow()  # a person would click into it; offscreen no window manager does
            QApplication.processEvents()
        target = QApplication.focusWidget() or self.window
        self.bot.keyClick(target, getattr(Qt.Key, f"Key_{key}"), modifier)
        QApplication.processEvents()

    def stage(self, which: int | str) -> None:
        """Open a stage with its mark on the rail."""
        key = which if isinstance(which, str) else list(STAGES)[which - 1]
        self.click(self.window.rail.buttons[key])
        assert self.window.stage == key

    def view(self, which: int | str) -> None:
        """Open a view inside the stage."""
        page = self.window.page
        index = which if isinstance(which, int) else [v.key for v in page.views].index(which)
        self.click(page.tabs, page.tabs.tabRect(index).center())
        assert page.tabs.currentIndex() == index
        assert page.view.isVisible()

    def tab(self, tabs: QTabWidget, index: int) -> None:
        """Open a tab beside the picture."""
        self.click(tabs.tabBar(), tabs.tabBar().tabRect(index).center())
        assert tabs.currentIndex() == index

    def field(self, path: str, parent: QWidget | None = None) -> QLineEdit:
        """The visible editor of a field."""

        def visible() -> list[QLineEdit]:
            return [e for e in (parent or self.window).findChildren(QLineEdit, path) if e.isVisible()]

        self.bot.waitUntil(lambda: bool(visible()), timeout=2000)
        return visible()[-1]

    def type_into(self, editor: QLineEdit, text: str) -> None:
        editor.setFocus()
        editor.selectAll()
        self.bot.keyClicks(editor, text)
        self.bot.keyClick(editor, Qt.Key.Key_Return)
        QApplication.processEvents()

    def choose(self, path: str, key: object) -> None:
        """Choose an entry of a list with the keyboard."""

        def shown() -> list[QComboBox]:
            return [b for b in self.window.findChildren(QComboBox, path) if b.isVisible()]

        def box() -> QComboBox:
            self.bot.waitUntil(lambda: bool(shown()), timeout=2000)
            return shown()[-1]

        box().setFocus()
        for _ in range(50):
            here = box()  # a form may be built anew after each step
            steps = here.findData(key) - here.currentIndex()
            if steps == 0:
                break
            # a closed list changes at once and reports it as an activation
            self.bot.keyClick(here, Qt.Key.Key_Down if steps > 0 else Qt.Key.Key_Up)
        assert box().currentData() == key
        self.quick()

    def switch(self, path: str, on: bool) -> None:
        """Click a switch until it stands as wanted."""

        def shown() -> list[QCheckBox]:
            return [b for b in self.window.findChildren(QCheckBox, path) if b.isVisible()]

        self.bot.waitUntil(lambda: bool(shown()), timeout=2000)
        box = shown()[-1]
        if box.isChecked() != on:
            self.click(box, QPointF(10, box.height() / 2))
        assert box.isChecked() == on

    def button(self, text: str, parent: QWidget | None = None) -> QPushButton:
        found = [b for b in (parent or self.window).findChildren(QPushButton) if b.text() == text and b.isVisible()]
        assert found, f"no visible button “{text}”"
        return found[0]

    def settled(self, timeout: int = 120000) -> None:
        """Wait until everything that is seen has its results, but for suggestions, whose full simulations take long."""
        self.quick()
        slow = {
            k.name for k in (
                keys.SETTINGS_CHECK, keys.SUGGESTIONS, keys.OPENERS, keys.LEVERS_IN_FULL, keys.STRATEGIES,
                keys.WINDOW_THROUGH_RUNS, keys.MEASURING, keys.SCENARIO_JUDGEMENT, keys.MACHINES, keys.BACKUP_IN_FULL,
            )
        }  # fmt: skip

        def fast(key: Key[Any]) -> bool:
            return key.name not in slow and ("simulated", True) not in key.parameters

        self.bot.waitUntil(lambda: not any(fast(k) for k in self.document.results.waiting), timeout=timeout)
        QApplication.processEvents()

    def quick(self) -> None:
        """Wait for the quick results only."""
        r, key = self.document.results, keys.EVALUATION
        if r.known(key) and not r.busy(key):
            return
        self.bot.waitUntil(lambda: not r.busy(key) and (r.known(key) or r.error(key) is not None), timeout=60000)
        QApplication.processEvents()

    def in_file_dialog(self, path: Path, action: Callable[[], None]) -> None:
        """Do ``action``, paste ``path`` into the file dialog that it opens, and press Enter."""
        seen: list[bool] = []
        over: list[bool] = []

        def dialog() -> QFileDialog | None:
            if over:
                return None  # what is open now is another dialog
            found = [w for w in QApplication.topLevelWidgets() if isinstance(w, QFileDialog) and w.isVisible()]
            return found[0] if found else None

        def answer() -> None:
            shown = dialog()
            edit = shown.findChild(QLineEdit, "fileNameEdit") if shown is not None else None
            if edit is None and over:
                return
            if edit is None:
                QTimer.singleShot(50, answer)
                return
            edit.selectAll()
            # pasted, not typed: the dialog walks into every folder whose name is complete while one types
            QApplication.clipboard().setText(str(path))
            self.bot.keyClick(edit, Qt.Key.Key_V, Qt.KeyboardModifier.ControlModifier)
            seen.append(True)
            QTimer.singleShot(50, accept)

        def accept() -> None:
            shown = dialog()
            if shown is None:
                return
            edit = shown.findChild(QLineEdit, "fileNameEdit")
            if edit.completer() is not None:
                edit.completer().popup().hide()  # else Enter goes to the list of proposals
            QTimer.singleShot(200, accept)  # the dialog reads its folder beside, a first Enter may come too early
            self.bot.keyClick(edit, Qt.Key.Key_Return)

        QTimer.singleShot(50, answer)
        with guarded():
            action()
        over.append(True)
        assert seen, "no file dialog was opened"
        self.window.activateWindow()  # a window manager would do it
        QApplication.processEvents()

    def in_question(self, button: QMessageBox.StandardButton, action: Callable[[], object]) -> str:
        """Do ``action`` and press a button of the question that it asks; returns the question."""
        asked: list[str] = []

        def answer() -> None:
            boxes = [w for w in QApplication.topLevelWidgets() if isinstance(w, QMessageBox) and w.isVisible()]
            if not boxes:
                QTimer.singleShot(50, answer)
                return
            asked.append(boxes[0].text())
            self.click(boxes[0].button(button))

        QTimer.singleShot(50, answer)
        with guarded():
            action()
        assert asked, "nothing was asked"
        self.window.activateWindow()
        QApplication.processEvents()
        return asked[0]


class PatientBot(QtBot):
    """Waits as much longer as a busy machine may need: how fast something is is measured elsewhere and judged by no test."""

    def waitUntil(self, callback: Callable[[], bool | None], *, timeout: int = 5000) -> None:
        super().waitUntil(callback, timeout=PATIENCE * timeout)


@pytest.fixture
def qtbot(qapp: QApplication, request: pytest.FixtureRequest) -> QtBot:
    return PatientBot(request)


@pytest.fixture
def open_window(qtbot: QtBot) -> Iterator[Callable[..., Hands]]:
    """Opens windows on bundles; closes them without asking."""
    windows: list[MainWindow] = []

    def make(bundle: Bundle | None = None, path: Path | None = None, preferences: Preferences | None = None) -> Hands:
        preferences = preferences or Preferences()
        window = MainWindow(Document(bundle or small_bundle(), path, preferences.units), preferences)
        windows.append(window)
        with qtbot.waitExposed(window):
            window.show()
        window.activateWindow()
        hands = Hands(qtbot, window)
        hands.quick()
        return hands

    yield make
    for window in windows:
        window.document.undo_stack.setClean()
        window.close()
        window.deleteLater()
    windows.clear()
    qtbot.wait(10)
    gc.collect()  # the application collects on this thread only, see ui/collector.py
    gc.freeze()  # what is left is what tests share


@pytest.fixture
def hands(open_window: Callable[..., Hands]) -> Hands:
    """A window on the small project."""
    return open_window()


@pytest.fixture
def empty(open_window: Callable[..., Hands]) -> Hands:
    """A window on a new project without a part."""
    return open_window(new_bundle())
