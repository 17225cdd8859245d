"""What all stage pages share: the answer above, the tabs of the views, the view that is seen."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any, ClassVar

from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import QFrame, QHBoxLayout, QLabel, QScrollArea, QStackedWidget, QTabBar, QVBoxLayout, QWidget

from mandorla.core.failure.state import State
from mandorla.core.results.key import Key
from mandorla.ui.document import Document
from mandorla.ui.stages.view import View
from mandorla.ui.theme.palette import Theme, font
from mandorla.ui.widgets.charts import Compressible
from mandorla.ui.widgets.state_mark import StateMark

SIDE = "side"  # object name of the columns beside pictures


class StagePage(QWidget):
    """Base of the stages. Subclasses name their ``views``; each is built when it is opened for the first time."""

    views: ClassVar[tuple[type[View], ...]]
    go_to = Signal(str)
    wants_changed = Signal()

    def __init__(self, document: Document, theme: Theme, title: str) -> None:
        super().__init__()
        self.document, self.theme, self.title = document, theme, title
        self.key = type(self).__module__.split(".")[-2]  # the folder is the stage's key
        column = QVBoxLayout(self)
        column.setContentsMargins(8, 4, 12, 4)
        column.setSpacing(8)
        top = QHBoxLayout()
        top.setSpacing(10)
        self.mark = StateMark(size=26)
        self.sentence = QLabel("Computing …")
        self.sentence.setFont(font(12.5, strong=True))
        self.sentence.setWordWrap(True)
        self.sentence.setMinimumHeight(44)
        self.sentence.setTextInteractionFlags(Qt.TextInteractionFlag.TextSelectableByMouse)
        self.sentence.setAccessibleName(f"Answer of the stage {self.title}")
        top.addWidget(self.mark, 0, Qt.AlignmentFlag.AlignVCenter)
        top.addWidget(self.sentence, 1)
        column.addLayout(top)
        self.head = QHBoxLayout()
        self.tabs = QTabBar()
        self.tabs.setDrawBase(False)
        self.tabs.setExpanding(False)
        self.tabs.setAccessibleName(f"View of the stage {title}")
        for view in self.views:
            self.tabs.addTab(view.title)
        self.head.addWidget(self.tabs, 4)
        column.addLayout(self.head)
        self.tabs.setHidden(len(self.views) < 2)  # only now: a widget without a parent would open a window of its own
        self.stack = QStackedWidget()
        for _ in self.views:
            self.stack.addWidget(QWidget())
        column.addWidget(self.stack, 1)
        self._built: dict[str, View] = {}
        self._folded = False
        self.tabs.currentChanged.connect(self.open)

    # ---- views
    @property
    def view(self) -> View:
        """The view that is seen."""
        return self.view_of(self.views[self.tabs.currentIndex()].key)

    def view_of(self, key: str) -> View:
        """A view by its key, built now where it was not opened yet."""
        if key not in self._built:
            index = next(i for i, v in enumerate(self.views) if v.key == key)
            made = self._built[key] = self.make(self.views[index])
            made.topic = f"{self.key}.{key}"
            made.go, made.changed, made.wants_changed = self.go_to.emit, self.tell, self.wants_changed.emit
            stand_in = self.stack.widget(index)
            if stand_in is not None:
                self.stack.removeWidget(stand_in)
                stand_in.deleteLater()
            self.stack.insertWidget(index, made)
            self._fold(made)
        return self._built[key]

    def make(self, view: type[View]) -> View:
        """Build a view; pages whose views share something override it."""
        return view(self.document, self.theme)

    def open(self, index: int) -> None:
        """Show a view."""
        self.tabs.setCurrentIndex(index)
        self.stack.setCurrentWidget(self.view)
        self.refresh()
        self.wants_changed.emit()

    def open_view(self, key: str) -> None:
        """Show a view by its key."""
        self.open(next(i for i, v in enumerate(self.views) if v.key == key))

    def fold_sides(self, folded: bool) -> None:
        """Hide the panels beside the pictures, or show them again."""
        self._folded = folded
        for view in self._built.values():
            self._fold(view)

    def _fold(self, view: View) -> None:
        for area in view.findChildren(QScrollArea, SIDE):
            area.setHidden(self._folded)

    def act(self, action: str) -> None:
        """Do something that the window's menu offers for this stage; stages that offer something override it."""
        raise KeyError(action)

    @property
    def topic(self) -> str:
        """The figure that the open view as a whole is."""
        return self.view.topic

    # ---- results
    def uses(self) -> tuple[Key[Any], ...]:
        """What the page itself needs, besides the view that is seen."""
        return ()

    def wants(self) -> tuple[Key[Any], ...]:
        """What is to be computed while the page is seen."""
        return (*self.uses(), *self.view.wants())

    def answer(self) -> str:
        """The answer of the stage; empty where the view that is seen has one of its own."""
        return ""

    def tell(self) -> None:
        """Show the answer: the view's own, else the stage's."""
        lacking = self.view.missing()
        self.sentence.setText(
            lacking.text if lacking is not None else self.view.headline() or self.answer() or "Computing …"
        )

    def show_state(self, state: State) -> None:
        """Show the stage's state beside the answer, the same as on the rail."""
        self.mark.set_state(state, self.theme.state_color(state))

    def stop_work(self) -> None:
        """The page is about to go: stop what it runs by itself."""

    def set_theme(self, theme: Theme) -> None:
        """Use another theme."""
        self.theme = theme
        for view in self._built.values():
            view.set_theme(theme)

    def refresh(self) -> None:
        """Show the newest results in the view that is seen."""
        self.show_view(lambda view: view.refresh())

    def refresh_if_new(self) -> None:
        """Show results in the view that is seen, where they are new to it."""
        self.show_view(lambda view: view.refresh_if_new())

    def refresh_after_edit(self) -> None:
        """Show an edit in the view that is seen."""
        self.show_view(lambda view: view.refresh_after_edit())  # a view's own, where it has one

    def show_view(self, how: Callable[[View], None]) -> None:
        """Show the view that is seen, by one of its ways to refresh, and the answer."""
        view = self.view
        self.stack.setCurrentWidget(view)
        how(view)
        self.tell()


def scrolling(widget: QWidget, *, fill: bool = False, least: bool = False) -> QScrollArea:
    """A widget that keeps its height and scrolls where there is less room; with ``fill`` it takes more where there is more, with
    ``least`` it shrinks to its least height before it scrolls."""
    area = QScrollArea()
    area.setWidgetResizable(True)
    area.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
    area.setFrameShape(QFrame.Shape.NoFrame)
    inner = Compressible() if least else QWidget()
    column = QVBoxLayout(inner)
    column.setContentsMargins(2, 0, 8, 0)
    column.addWidget(widget, 1 if fill else 0)
    if not fill:
        column.addStretch(1)
    area.setWidget(inner)
    return area


def side_column(width: int = 330) -> tuple[QScrollArea, QVBoxLayout]:
    """A scrolling column of panels beside the picture."""
    area = QScrollArea()
    area.setWidgetResizable(True)
    area.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
    area.setFixedWidth(width)
    area.setObjectName(SIDE)
    area.setFrameShape(QFrame.Shape.NoFrame)
    inner = QWidget()
    column = QVBoxLayout(inner)
    column.setContentsMargins(0, 0, 8, 0)
    column.setSpacing(8)
    area.setWidget(inner)
    return area, column


def scrolled(view: QWidget) -> QWidget:
    """A widget to lay a view out on, that scrolls up and down where there is not room enough for it."""
    outer = QVBoxLayout(view)
    outer.setContentsMargins(0, 0, 0, 0)
    area, inside = QScrollArea(), QWidget()
    area.setWidgetResizable(True)
    area.setFrameShape(QFrame.Shape.NoFrame)
    area.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
    area.setWidget(inside)
    outer.addWidget(area)
    return inside
