"""A list of figures: name, value with unit, band or remark, state mark; the table under the picture."""

from __future__ import annotations

from dataclasses import dataclass

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QGridLayout, QLabel, QWidget

from mandorla.core.failure.state import State
from mandorla.ui.theme.palette import Theme, font
from mandorla.ui.widgets.state_mark import WORDS, StateMark


@dataclass(frozen=True, slots=True)
class Figure:
    """One row: caption, value text, remark (band, source), optional verdict."""

    caption: str
    value: str
    remark: str = ""
    state: State | None = None


class FigureList(QWidget):
    """Shows rows of figures; the texts can be read back by tests and screen readers."""

    def __init__(self, name: str, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setAccessibleName(name)
        self._grid = QGridLayout(self)
        self._grid.setContentsMargins(0, 0, 0, 0)
        self._grid.setHorizontalSpacing(10)
        self._grid.setVerticalSpacing(4)
        self._grid.setColumnStretch(1, 1)
        self._labels: list[tuple[QLabel, QLabel, QLabel, StateMark]] = []
        self._figures: list[Figure] = []

    @property
    def figures(self) -> list[Figure]:
        """What is shown."""
        return self._figures

    def show_figures(self, figures: list[Figure], theme: Theme) -> None:
        """Replace the rows."""
        self._figures = figures
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

    def _add_row(self) -> None:
        row = len(self._labels) * 2
        caption, value, remark = QLabel(), QLabel(), QLabel()
        caption.setFont(font(9.5))
        value.setFont(font(10.0, strong=True))
        remark.setFont(font(8.5))
        remark.setObjectName("soft")
        remark.setWordWrap(True)
        value.setAlignment(Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter)
        value.setTextInteractionFlags(Qt.TextInteractionFlag.TextSelectableByMouse)
        mark = StateMark(size=17)
        self._grid.addWidget(mark, row, 0)
        self._grid.addWidget(caption, row, 1)
        self._grid.addWidget(value, row, 2)
        self._grid.addWidget(remark, row + 1, 1, 1, 2)
        self._labels.append((caption, value, remark, mark))
