"""What all stage pages share: the sentence above, the picture, the figures beside it."""

from __future__ import annotations

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QFrame, QHBoxLayout, QLabel, QScrollArea, QVBoxLayout, QWidget

from mandorla.core.tune.verdict import State
from mandorla.ui.document import Document
from mandorla.ui.theme.palette import Theme, font
from mandorla.ui.widgets.state_mark import StateMark
from mandorla.ui.workers.jobs import Channel


class StagePage(QWidget):
    """Base of the stages. Subclasses fill ``body`` and implement ``refresh``."""

    def __init__(self, document: Document, theme: Theme, title: str) -> None:
        super().__init__()
        self.document, self.theme, self.title = document, theme, title
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
        self.body = QHBoxLayout()
        self.body.setSpacing(10)
        column.addLayout(self.body, 1)

    def say(self, text: str) -> None:
        """Show the answer."""
        self.sentence.setText(text)

    def show_state(self, state: State) -> None:
        """Show the stage's state beside the answer, the same as on the rail."""
        self.mark.set_state(state, self.theme.state_color(state))

    def stop_work(self) -> None:
        """Wait for the jobs of this page's own channels: a thread pool must not be taken down with one running."""
        for channel in self.findChildren(Channel):
            channel.close()

    def set_theme(self, theme: Theme) -> None:
        """Use another theme."""
        self.theme = theme
        self.refresh()

    def refresh(self) -> None:
        """Show the newest results."""
        raise NotImplementedError  # every stage shows its own


def scrolling(widget: QWidget) -> QScrollArea:
    """A widget that keeps its height and scrolls where there is less room."""
    area = QScrollArea()
    area.setWidgetResizable(True)
    area.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
    area.setFrameShape(QFrame.Shape.NoFrame)
    inner = QWidget()
    column = QVBoxLayout(inner)
    column.setContentsMargins(2, 0, 8, 0)
    column.addWidget(widget)
    column.addStretch(1)
    area.setWidget(inner)
    return area


def side_column(width: int = 330) -> tuple[QScrollArea, QVBoxLayout]:
    """A scrolling column of panels beside the picture."""
    area = QScrollArea()
    area.setWidgetResizable(True)
    area.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
    area.setFixedWidth(width)
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
