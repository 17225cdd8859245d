"""The stage rail at the left: the stages in the order of the work, each with the mark of its state."""

from __future__ import annotations

from PySide6.QtCore import QRectF, QSize, Qt, Signal
from PySide6.QtGui import QColor, QKeyEvent, QPainter, QPaintEvent
from PySide6.QtWidgets import QAbstractButton, QButtonGroup, QVBoxLayout, QWidget

from mandorla.core.failure.state import State
from mandorla.ui.theme.palette import Theme, font
from mandorla.ui.widgets.state_mark import WORDS, paint_state

ROOMY = 70  # px of a button from which mark, name and word stand apart
CLOSE = 57  # and from which they have room below each other; lower ones have the mark beside the words


class StageButton(QAbstractButton):
    """One stage: mark, name, word of its state."""

    def __init__(self, name: str, theme: Theme) -> None:
        super().__init__()
        self._theme = theme
        self._state = State.NOT_COMPUTED
        self.setText(name)
        self.setCheckable(True)
        self.setAccessibleName(name)
        self.setFocusPolicy(Qt.FocusPolicy.TabFocus)
        self.setCursor(Qt.CursorShape.PointingHandCursor)

    def set_look(self, state: State, theme: Theme) -> None:
        """Show a state in a theme."""
        self._state, self._theme = state, theme
        self.setAccessibleName(f"{self.text()}, {WORDS[state]}")
        self.setToolTip(f"{self.text()}: {WORDS[state]}")
        self.update()

    @property
    def state(self) -> State:
        """The state shown."""
        return self._state

    def sizeHint(self) -> QSize:
        """Room for mark and name."""
        return QSize(104, 74)

    @property
    def _box(self) -> QRectF:
        return QRectF(self.rect()).adjusted(6, 3, -6, -3)

    def paintEvent(self, event: QPaintEvent) -> None:
        """Draw the stage."""
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        t, box = self._theme, self._box
        if self.isChecked():
            painter.setPen(Qt.PenStyle.NoPen)
            painter.setBrush(t.color("panel"))
            painter.drawRoundedRect(box, 10, 10)
            painter.setBrush(t.color("accent"))
            painter.drawRoundedRect(QRectF(box.left(), box.top() + 12, 3.5, box.height() - 24), 2, 2)
        if self.hasFocus() or self.underMouse():
            painter.setPen(t.color("accent"))
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.drawRoundedRect(box, 10, 10)
        mark, name, below, aligned = self.places()
        paint_state(painter, mark, self._state, QColor(t.state_color(self._state)))
        painter.setPen(t.color("ink"))
        painter.setFont(font(10.0, strong=self.isChecked()))
        painter.drawText(name, aligned, self.text())
        painter.setPen(t.color("soft"))
        painter.setFont(font(8.0))
        painter.drawText(below, aligned, WORDS[self._state])
        painter.end()

    def places(self) -> tuple[QRectF, QRectF, QRectF, Qt.AlignmentFlag]:
        """Where mark, name and word of the state stand, and how the two are aligned: seven stages have to fit a low window, too."""
        box = self._box
        if self.height() < CLOSE:
            mark = QRectF(box.left() + 4, box.center().y() - 9, 18, 18)
            words = QRectF(mark.right() + 3, box.center().y() - 17, self.width() - mark.right() - 4, 18)
            return mark, words, words.translated(0, 17), Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter
        close = self.height() < ROOMY
        size, above = (18, 3) if close else (22, 6)
        mark = QRectF(box.center().x() - size / 2, box.top() + above, size, size)
        name = QRectF(box.left(), mark.bottom() + (0 if close else 2), box.width(), 18)
        below = QRectF(box.left(), mark.bottom() + (15 if close else 19), box.width(), 15)
        return mark, name, below, Qt.AlignmentFlag.AlignCenter


class StageRail(QWidget):
    """A column of stages; arrow keys move between them."""

    chosen = Signal(str)

    def __init__(self, titles: dict[str, str], theme: Theme) -> None:
        super().__init__()
        column = QVBoxLayout(self)
        column.setContentsMargins(4, 4, 0, 8)
        column.setSpacing(2)
        self.group = QButtonGroup(self)
        self.buttons = {key: StageButton(title, theme) for key, title in titles.items()}
        for key, button in self.buttons.items():
            self.group.addButton(button)
            button.clicked.connect(lambda _=False, k=key: self.chosen.emit(k))
            column.addWidget(button)
        column.addStretch(1)
        self.setFixedWidth(112)

    def select(self, key: str) -> None:
        """Mark a stage as the open one."""
        self.buttons[key].setChecked(True)

    def show_states(self, states: dict[str, State], theme: Theme) -> None:
        """Show the state of every stage."""
        for key, button in self.buttons.items():
            button.set_look(states[key], theme)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        """Arrow keys choose the neighbouring stage."""
        step = {Qt.Key.Key_Down: 1, Qt.Key.Key_Up: -1}.get(Qt.Key(event.key()), 0)
        if step:
            each = list(self.buttons.values())
            here = next((i for i, button in enumerate(each) if button.isChecked()), 0)
            index = min(max(here + step, 0), len(each) - 1)
            each[index].setFocus()
            each[index].click()
            return
        super().keyPressEvent(event)
