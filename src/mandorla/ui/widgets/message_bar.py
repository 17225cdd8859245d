"""Messages inside the window: what was refused and why, what was done; never a dialog that blocks."""

from __future__ import annotations

from PySide6.QtCore import Qt, QTimer, Signal
from PySide6.QtWidgets import QFrame, QHBoxLayout, QLabel, QPushButton

from mandorla.ui.theme.palette import Theme, font


class MessageBar(QFrame):
    """One message at a time with an optional action."""

    acted = Signal()

    def __init__(self, theme: Theme) -> None:
        super().__init__()
        self._theme = theme
        self._about = ""
        row = QHBoxLayout(self)
        row.setContentsMargins(14, 7, 10, 7)
        self.text = QLabel()
        self.text.setWordWrap(True)
        self.text.setFont(font(9.8))
        self.text.setTextInteractionFlags(Qt.TextInteractionFlag.TextSelectableByMouse)
        self.text.setAccessibleName("Message")
        self.action = QPushButton()
        self.action.clicked.connect(self._act)
        self.dismiss = QPushButton("Close")
        self.dismiss.setAccessibleName("Close the message")
        self.dismiss.clicked.connect(self.hide)
        row.addWidget(self.text, 1)
        row.addWidget(self.action)
        row.addWidget(self.dismiss)
        self._timer = QTimer(self, singleShot=True)
        self._timer.timeout.connect(self.hide)
        self.hide()

    def set_theme(self, theme: Theme) -> None:
        """Use another theme."""
        self._theme = theme

    def _show(self, text: str, color: str, action: str) -> None:
        edge = getattr(self._theme, color)
        self.setStyleSheet(
            f"MessageBar {{ background: {self._theme.raised}; border: 1px solid {edge}; border-left: 6px solid {edge};"
            " border-radius: 8px; }"
        )
        self.text.setText(text)
        self.action.setText(action)
        self.action.setVisible(bool(action))
        self.show()

    def complain(self, text: str, about: str = "") -> None:
        """Say what was refused; stays until closed, or until what it is ``about`` is settled."""
        self._timer.stop()
        self._about = about
        self._show(text, "fails", "")

    def settled(self, *about: str) -> None:
        """What a complaint was about is in order again: it goes."""
        if self._about in about:
            self._about = ""
            self.hide()

    def say(self, text: str) -> None:
        """Say what was done; goes by itself."""
        self._about = ""
        self._show(text, "holds", "")
        self._timer.start(6000)

    @property
    def offers(self) -> bool:
        """Whether an action is offered at present."""
        return self.isVisible() and self.action.isVisible()

    def offer(self, text: str, action: str) -> None:
        """Offer one action; stays until acted on or closed."""
        self._timer.stop()
        self._show(text, "marginal", action)

    def _act(self) -> None:
        self.hide()
        self.acted.emit()
