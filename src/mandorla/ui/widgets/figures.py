"""A list of figures: name, value with unit, band or remark, state mark; each can be asked where it comes from."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Protocol, runtime_checkable

from PySide6.QtCore import QEvent, QObject, QRectF, Qt
from PySide6.QtGui import QFocusEvent, QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen
from PySide6.QtWidgets import QGridLayout, QLabel, QWidget

from mandorla.core.failure.state import State
from mandorla.ui.theme.palette import LIGHT, Theme, font
from mandorla.ui.widgets.state_mark import WORDS, StateMark

ASK = "Click, or F2: where this figure comes from"


@dataclass(frozen=True, slots=True)
class Figure:
    """One row: caption, value text, remark (band, source), optional verdict; the figure's ``key`` (empty: the view's)."""

    caption: str
    value: str
    remark: str = ""
    state: State | None = None
    key: str = ""


@runtime_checkable
class Explains(Protocol):
    """A window that can say where a figure comes from."""

    def explain(self, key: str) -> None: ...


@runtime_checkable
class Topic(Protocol):
    """A widget that shows a figure, or many of them: the key of the one that is meant now."""

    @property
    def topic(self) -> str: ...


def topic_of(widget: QWidget | None) -> str:
    """The figure that a widget belongs to: its own or that of what it lies in; empty where there is none."""
    while widget is not None:
        if isinstance(widget, Topic) and widget.topic:
            return widget.topic
        widget = widget.parentWidget()
    return ""


def ask_about(widget: QWidget) -> None:
    """Ask the window about the figure that a widget belongs to."""
    key, window = topic_of(widget), widget.window()
    if key and isinstance(window, Explains):
        window.explain(key)


class FigureList(QWidget):
    """Shows rows of figures; the texts can be read back by tests and screen readers. Arrow keys walk over the rows, Enter asks."""

    def __init__(self, name: str, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setAccessibleName(name)
        self.setFocusPolicy(Qt.FocusPolicy.TabFocus)
        self._grid = QGridLayout(self)
        self._grid.setContentsMargins(0, 0, 0, 0)
        self._grid.setHorizontalSpacing(10)
        self._grid.setVerticalSpacing(4)
        self._grid.setColumnStretch(1, 1)
        self._labels: list[tuple[QLabel, QLabel, QLabel, StateMark]] = []
        self._figures: list[Figure] = []
        self._row, self._theme = 0, LIGHT

    @property
    def figures(self) -> list[Figure]:
        """What is shown."""
        return self._figures

    @property
    def topic(self) -> str:
        """The figure of the row that is meant."""
        return self._figures[self._row].key if 0 <= self._row < len(self._figures) else ""

    def show_figures(self, figures: list[Figure], theme: Theme) -> None:
        """Replace the rows."""
        self._figures, self._theme = figures, theme
        self._row = min(self._row, max(0, len(figures) - 1))
        while len(self._labels) < len(figures):
            self._add_row()
        for i, row in enumerate(self._labels):
            caption, value, remark, mark = row
            visible = i < len(figures)
            for widget in (caption, value):
                widget.setVisible(visible)
            if not visible:
                remark.hide()
                mark.hide()
                continue
            figure = figures[i]
            caption.setText(figure.caption)
            value.setText(figure.value)
            remark.setText(figure.remark)
            remark.setVisible(bool(figure.remark))
            mark.setVisible(figure.state is not None)
            word = ""
            if figure.state is not None:
                mark.set_state(figure.state, theme.state_color(figure.state))
                word = f", {WORDS[figure.state]}"
            value.setAccessibleName(f"{figure.caption}: {figure.value}{word}. {figure.remark}")
        self.setAccessibleDescription("; ".join(f"{f.caption}: {f.value}" for f in figures))
        self.update()

    def _add_row(self) -> None:
        row = len(self._labels) * 2
        caption, value, remark = QLabel(), QLabel(), QLabel()
        caption.setFont(font(9.5))
        value.setFont(font(10.0, strong=True))
        remark.setFont(font(8.5))
        remark.setObjectName("soft")
        remark.setWordWrap(True)
        value.setAlignment(Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter)
        value.setToolTip(ASK)
        for label in (caption, value):
            label.setCursor(Qt.CursorShape.PointingHandCursor)
            label.installEventFilter(self)
        mark = StateMark(size=17)
        self._grid.addWidget(mark, row, 0)
        self._grid.addWidget(caption, row, 1)
        self._grid.addWidget(value, row, 2)
        self._grid.addWidget(remark, row + 1, 1, 1, 2)
        self._labels.append((caption, value, remark, mark))

    # ---- asking
    def eventFilter(self, watched: QObject, event: QEvent) -> bool:
        """A click on a figure or its name asks where it comes from; the mouse over one means it."""
        if event.type() in (QEvent.Type.MouseButtonRelease, QEvent.Type.Enter):
            row = next((i for i, labels in enumerate(self._labels) if watched in labels[:2]), -1)
            if row >= 0:
                self._row = row
            if isinstance(event, QMouseEvent) and event.button() is Qt.MouseButton.LeftButton and row >= 0:
                ask_about(self)
                return True
        return super().eventFilter(watched, event)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        """Arrow keys walk, Enter and the space bar ask."""
        step = {Qt.Key.Key_Down: 1, Qt.Key.Key_Up: -1}.get(Qt.Key(event.key()), 0)
        if step and self._figures:
            self._row = min(max(self._row + step, 0), len(self._figures) - 1)
            self.update()
        elif event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter, Qt.Key.Key_Space):
            ask_about(self)
        else:
            super().keyPressEvent(event)

    def focusInEvent(self, event: QFocusEvent) -> None:
        """Show where one is."""
        super().focusInEvent(event)
        self.update()

    def focusOutEvent(self, event: QFocusEvent) -> None:
        """Take the frame away again."""
        super().focusOutEvent(event)
        self.update()

    def paintEvent(self, event: QPaintEvent) -> None:
        """The row that is meant has a frame while the list has the focus."""
        super().paintEvent(event)
        if not self.hasFocus() or self._row >= len(self._figures):
            return
        caption, value, _, _ = self._labels[self._row]
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setPen(QPen(self._theme.color("accent"), 2.0))
        around = QRectF(caption.geometry().united(value.geometry())).adjusted(1, -1, -1, 1)
        painter.drawRoundedRect(around, 4.0, 4.0)
