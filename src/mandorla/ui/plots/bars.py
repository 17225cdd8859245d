"""Shares as lying bars with their names and figures, largest first."""

from __future__ import annotations

from PySide6.QtCore import QRectF, Qt
from PySide6.QtGui import QPainter, QPaintEvent
from PySide6.QtWidgets import QSizePolicy, QWidget

from mandorla.ui.plots.keeping import keepable
from mandorla.ui.theme.palette import Theme, font

_ROW = 26
_NAME = 132
_VALUE = 92


class Bars(QWidget):
    """Rows of (name, value, text); values may be negative, their bars then go to the left in another colour."""

    def __init__(self, name: str) -> None:
        super().__init__()
        self.setAccessibleName(name)
        keepable(self)
        self._rows: list[tuple[str, float, str]] = []
        self._theme: Theme | None = None
        self._most: float | None = None
        self._name_width = _NAME
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self.setMinimumWidth(_NAME + _VALUE + 90)

    def set_name_width(self, width: int) -> None:
        """Give the names this much room (px)."""
        self._name_width = width

    @property
    def rows(self) -> list[tuple[str, float, str]]:
        """What is shown."""
        return self._rows

    def show_rows(self, rows: list[tuple[str, float, str]], theme: Theme, most: float | None = None) -> None:
        """Replace the rows; ``most`` is the value of a full bar, the largest row's by default."""
        self._rows, self._theme, self._most = rows, theme, most
        self.setFixedHeight(max(1, len(rows)) * _ROW + 4)
        self.setAccessibleDescription("; ".join(f"{name} {text}" for name, _, text in rows))
        self.update()

    def paintEvent(self, event: QPaintEvent) -> None:
        """Draw the rows."""
        t = self._theme
        if t is None or not self._rows:
            return
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        top = self._most or max(max(abs(v) for _, v, _ in self._rows), 1e-12)
        room = self.width() - self._name_width - _VALUE - 10
        for i, (name, value, text) in enumerate(self._rows):
            y = i * _ROW
            painter.setPen(t.color("ink"))
            painter.setFont(font(9.5))
            middle = Qt.AlignmentFlag.AlignVCenter
            painter.drawText(QRectF(0, y, self._name_width - 6, _ROW), middle | Qt.AlignmentFlag.AlignLeft, name)
            painter.setFont(font(9.5, strong=True))
            painter.drawText(QRectF(self.width() - _VALUE, y, _VALUE, _ROW), middle | Qt.AlignmentFlag.AlignRight, text)
            painter.setPen(Qt.PenStyle.NoPen)
            painter.setBrush(t.color("ink", 0.06))
            painter.drawRoundedRect(QRectF(self._name_width, y + 6, room, _ROW - 12), 4, 4)
            painter.setBrush(t.color("accent") if value >= 0 else t.color("marginal"))
            painter.drawRoundedRect(QRectF(self._name_width, y + 6, max(2.0, room * abs(value) / top), _ROW - 12), 4, 4)
        painter.end()
