"""A real window on a small project, and hands to drive it with."""

from __future__ import annotations

import contextlib
from collections.abc import Callable, Iterator
from pathlib import Path

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
from mandorla.ui.application import make_application
from mandorla.ui.document import Document
from mandorla.ui.main_window import MainWindow
from mandorla.ui.preferences import Preferences
from tests.core.bundles import small_bundle


@pytest.fixture(scope="session")
def qapp() -> QApplication:
    """The application as Mandorla sets it up: style and fonts."""
    return make_application()


@contextlib.contextmanager
def guarded(seconds: float = 10.0) -> Iterator[None]:
    """Close a dialog that nobody answered, so that a failing test ends."""
    timer = QTimer()
    timer.setSingleShot(True)
    timer.timeout.connect(lambda: [w.close() for w in QApplication.topLevelWidgets() if isinstance(w, QDialog)])
    timer.start(int(1000 * seconds))
    yield
    timer.stop()


class Hands:
    """Drives a window with mouse and keyboard and reads what it shows."""

    def __init__(self, qtbot: QtBot, window: MainWindow) -> None:
        self.bot, self.window = qtbot, window

    @property
    def document(self) -> Document:
        return self.window.document

    @property
    def page(self) -> QWidget:
        return self.window.page

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
        target = QApplication.focusWidget() or self.window
        self.bot.keyClick(target, getattr(Qt.Key, f"Key_{key}"), modifier)
        QApplication.processEvents()

    def stage(self, number: int) -> None:
        """Open a stage with its mark on the rail."""
        self.click(self.window.rail.buttons[number - 1])
        assert self.window.stack.currentIndex() == number - 1

    def view(self, index: int) -> None:
        """Open a view inside the stage."""
        self.click(self.page.views, self.page.views.tabRect(index).center())
        assert self.page.stack.currentIndex() == index

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

    def settled(self, timeout: int = 20000) -> None:
        """Wait until quick results and the window are there."""
        d = self.document
        self.bot.waitUntil(lambda: d.evaluation is not None and not d._quick.busy, timeout=timeout)
        if d.evaluation is not None and d.evaluation.part is not None:
            self.bot.waitUntil(lambda: not d.window_busy and d.window is not None, timeout=timeout)

    def quick(self) -> None:
        """Wait for the quick results only."""
        d = self.document
        self.bot.waitUntil(lambda: d.evaluation is not None and not d._quick.busy, timeout=20000)

    def in_file_dialog(self, path: Path, action: Callable[[], None]) -> None:
        """Do ``action``, paste ``path`` into the file dialog that it opens, and press Enter."""
        seen: list[bool] = []

        def dialog() -> QFileDialog | None:
            found = [w for w in QApplication.topLevelWidgets() if isinstance(w, QFileDialog) and w.isVisible()]
            return found[0] if found else None

        def answer() -> None:
            shown = dialog()
            edit = shown.findChild(QLineEdit, "fileNameEdit") if shown is not None else None
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
        return asked[0]


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
    qtbot.wait(10)


@pytest.fixture
def hands(open_window: Callable[..., Hands]) -> Hands:
    """A window on the small project."""
    return open_window()


@pytest.fixture
def empty(open_window: Callable[..., Hands]) -> Hands:
    """A window on a new project without a part."""
    return open_window(new_bundle())
