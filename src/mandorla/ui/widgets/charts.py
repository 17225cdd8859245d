"""Charts side by side, each wide enough to be read; where there is no room for all, they are scrolled across."""

from __future__ import annotations

from PySide6.QtCore import QEvent, QObject, QSize, Qt
from PySide6.QtWidgets import QFrame, QHBoxLayout, QScrollArea, QVBoxLayout, QWidget

from mandorla.ui.widgets.form import heading, panel

NARROWEST = 256  # pixels of a chart with its axes and the names of its curves
_LOWEST = 168


class Charts(QScrollArea):
    """A row of titled charts."""

    def __init__(self) -> None:
        super().__init__()
        self.setWidgetResizable(True)
        self.setFrameShape(QFrame.Shape.NoFrame)
        self.setVerticalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.setMinimumHeight(_LOWEST)
        inner = QWidget()
        self._row = QHBoxLayout(inner)
        self._row.setContentsMargins(0, 0, 0, 0)
        self._row.setSpacing(8)
        self.setWidget(inner)

    def add(self, title: str, plot: QWidget) -> QFrame:
        """Add a chart under its title; the frame that holds it."""
        frame, column = panel(8)
        frame.setMinimumWidth(NARROWEST)
        column.addWidget(heading(title))
        column.addWidget(plot)
        self._row.addWidget(frame, 1)
        return frame


class Compressible(QWidget):
    """A widget in a scroll area that is as high as the area down to its least height, not down to its preferred one."""

    def heightForWidth(self, width: int) -> int:
        """The least height at a width, with wrapped texts."""
        layout = self.layout()
        return layout.minimumHeightForWidth(width) if layout is not None else -1


class _Column(QScrollArea):
    """An area that is scrolled up and down, and never cuts its content at the side."""

    def minimumSizeHint(self) -> QSize:
        """As wide as the content has to be."""
        inside = self.widget()
        wide = inside.minimumSizeHint().width() if inside is not None else 0
        return QSize(wide + self.verticalScrollBar().sizeHint().width(), _LOWEST)

    def eventFilter(self, watched: QObject, event: QEvent) -> bool:
        """Ask for more room when the content needs it."""
        if event.type() == QEvent.Type.LayoutRequest:
            self.updateGeometry()
        return super().eventFilter(watched, event)


def column_that_scrolls() -> tuple[QScrollArea, QVBoxLayout]:
    """A column of a picture and charts that fills its room and is scrolled in a low window; the area and its column."""
    area, inner = _Column(), Compressible()
    area.setWidgetResizable(True)
    area.setFrameShape(QFrame.Shape.NoFrame)
    area.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
    column = QVBoxLayout(inner)
    column.setContentsMargins(0, 0, 0, 0)
    column.setSpacing(8)
    area.setWidget(inner)
    return area, column
