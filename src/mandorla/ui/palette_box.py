"""Everything that can be reached, by typing: stages and their views, actions, fields of the project, polymers."""

from __future__ import annotations

from collections.abc import Callable
from typing import TYPE_CHECKING, NamedTuple

from PySide6.QtCore import QEvent, QObject, Qt
from PySide6.QtGui import QKeyEvent
from PySide6.QtWidgets import QDialog, QLineEdit, QListWidget, QTabWidget, QVBoxLayout, QWidget

from mandorla.core.materials.library_data import polymers
from mandorla.core.quantity_field import meaning_of
from mandorla.ui.stages.registry import STAGES
from mandorla.ui.theme.palette import font

if TYPE_CHECKING:
    from mandorla.ui.main_window import MainWindow

_MOST = 12
# where a field of the project is edited
_HOMES = {"settings": "heat", "process": "part", "criteria": "tune", "run_plan": "run"}


class Entry(NamedTuple):
    """What is offered: its text, what it is, what choosing it does."""

    text: str
    what: str
    act: Callable[[], object]


def entries_of(window: MainWindow) -> list[Entry]:
    """Everything that can be reached in a window now."""

    def open_stage(key: str) -> Callable[[], object]:
        return lambda: window.show_stage(key)

    def open_view(key: str, view: str) -> Callable[[], object]:
        def act() -> None:
            window.show_stage(key)
            window.page.open_view(view)

        return act

    def go_to(path: str, home: str) -> Callable[[], object]:
        return lambda: focus_field(window, path, home)

    found = [Entry(stage.title, "stage", open_stage(key)) for key, stage in STAGES.items()]
    for key, page in window.built.items():
        found += [Entry(f"{page.title}: {v.title}", "view", open_view(key, v.key)) for v in page.views]
    for action in window.actions():
        if action.text() and action.isEnabled() and not action.text().startswith("Stage "):
            found.append(Entry(action.text().rstrip(" …"), "action", action.trigger))
    for area, home in _HOMES.items():
        model = getattr(window.document.project, area)
        for name, info in type(model).model_fields.items():
            meaning = meaning_of(info, name)
            if meaning is not None:
                found.append(Entry(meaning.title, f"field in {STAGES[home].title}", go_to(f"{area}.{name}", home)))

    def print_in(polymer: str) -> Callable[[], object]:
        return lambda: window.document.edit("process.polymer", polymer, "the polymer")

    found += [Entry(f"Print in {p.name}", "polymer", print_in(k)) for k, p in polymers().items()]
    return found


def focus_field(window: MainWindow, path: str, home: str) -> None:
    """Put the keyboard into a field: where it is seen now, else on the first view of its stage that has it."""

    def seen() -> QWidget | None:
        return next((w for w in window.findChildren(QWidget, path) if w.isVisible()), None)

    editor = seen()
    if editor is None:
        window.show_stage(home)
        page = window.page
        for view in (page.view_of(v.key) for v in page.views):
            there = view.findChildren(QWidget, path)
            if there:
                page.open_view(view.key)
                _raise_tabs(there[0])
                break
        editor = seen()
    if editor is not None:
        editor.setFocus(Qt.FocusReason.ShortcutFocusReason)


def _raise_tabs(widget: QWidget) -> None:
    """Bring the tabs that a widget lies in to the front."""
    inside: QWidget | None = widget
    while inside is not None:
        stack = inside.parentWidget()
        tabs = stack.parentWidget() if stack is not None else None
        if isinstance(tabs, QTabWidget):
            tabs.setCurrentWidget(inside)
        inside = stack


def matching(entries: list[Entry], text: str) -> list[Entry]:
    """Entries in which every typed word stands; those that begin with the first word come first."""
    words = text.lower().split()
    hits = [e for e in entries if all(w in f"{e.text} {e.what}".lower() for w in words)]
    return sorted(hits, key=lambda e: (not e.text.lower().startswith(words[0]) if words else False, len(e.text)))[
        :_MOST
    ]


class PaletteBox(QDialog):
    """A line to type in and what it finds; Enter takes the marked one."""

    def __init__(self, window: MainWindow) -> None:
        super().__init__(window)
        self.setWindowTitle("Go to")
        self.setModal(True)
        self.resize(520, 360)
        column = QVBoxLayout(self)
        self.line = QLineEdit()
        self.line.setAccessibleName("Go to")
        self.line.setPlaceholderText("A stage, a view, an action, a field, a polymer")
        self.line.setFont(font(11.0))
        self.list = QListWidget()
        self.list.setAccessibleName("What is found")
        self.list.setFont(font(9.5))
        column.addWidget(self.line)
        column.addWidget(self.list, 1)
        self._entries, self._shown = entries_of(window), list[Entry]()
        self.line.textChanged.connect(self._show)
        self.line.returnPressed.connect(self.take)
        self.line.installEventFilter(self)
        self.list.itemActivated.connect(lambda _: self.take())
        self._show("")

    def _show(self, text: str) -> None:
        self._shown = matching(self._entries, text)
        self.list.clear()
        self.list.addItems([f"{e.text}   ({e.what})" for e in self._shown])
        self.list.setCurrentRow(0)

    def take(self) -> None:
        """Do what is marked."""
        row = self.list.currentRow()
        self.accept()
        if 0 <= row < len(self._shown):
            self._shown[row].act()

    def eventFilter(self, watched: QObject, event: QEvent) -> bool:
        """The arrow keys walk in the list while one types."""
        if isinstance(event, QKeyEvent) and event.type() == QEvent.Type.KeyPress:
            step = {Qt.Key.Key_Down: 1, Qt.Key.Key_Up: -1}.get(Qt.Key(event.key()), 0)
            if step and self.list.count():
                self.list.setCurrentRow((self.list.currentRow() + step) % self.list.count())
                return True
        return super().eventFilter(watched, event)
