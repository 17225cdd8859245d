"""Projects that were not closed properly, all at once: which one to bring back, which to give up."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import datetime

from PySide6.QtWidgets import QDialog, QHBoxLayout, QLabel, QListWidget, QPushButton, QVBoxLayout, QWidget

from mandorla.core.project.recovery import Recovered, what_changed
from mandorla.core.units import UnitPreferences
from mandorla.ui.theme.palette import font
from mandorla.ui.widgets.form import heading

MOST = 60  # lines of what changed


class RecoveryDialog(QDialog):
    """Lists recovery copies; ``chosen`` is the one to bring back, ``given_up`` those to delete."""

    def __init__(self, parent: QWidget, found: Sequence[Recovered], units: UnitPreferences) -> None:
        super().__init__(parent)
        self.setWindowTitle("Projects that were not closed properly")
        self.setMinimumWidth(560)
        self._found, self._units = list(found), units
        self.chosen: Recovered | None = None
        self.given_up: list[Recovered] = []
        column = QVBoxLayout(self)
        text = QLabel("Their unsaved changes were kept. Bring one back now; the others stay here for the next time.")
        text.setWordWrap(True)
        text.setFont(font(10.0))
        column.addWidget(text)
        self.list = QListWidget()
        self.list.setAccessibleName("Kept copies")
        column.addWidget(self.list)
        column.addWidget(heading("What the copy has that its file has not"))
        self.differs = QListWidget()
        self.differs.setAccessibleName("What changed")
        self.differs.setWordWrap(True)
        self.differs.setFont(font(9.5))
        column.addWidget(self.differs)
        self.list.currentRowChanged.connect(self._show)
        row = QHBoxLayout()
        self.bring, self.drop, self.later = (
            QPushButton("Bring it back"),
            QPushButton("Delete this copy"),
            QPushButton("Later"),
        )
        self.bring.setObjectName("primary")
        self.bring.clicked.connect(self._bring)
        self.drop.clicked.connect(self._drop)
        self.later.clicked.connect(self.reject)
        for button in (self.bring, self.drop, self.later):
            row.addWidget(button)
        column.addLayout(row)
        self._fill()

    def _fill(self) -> None:
        self.list.clear()
        for item in self._found:
            when = datetime.fromtimestamp(item.kept_at)
            file = item.original.name if item.original is not None else "never saved to a file"
            self.list.addItem(f"{item.project_name} · {when:%a %d %b, %H:%M} · {file}")
        self.list.setCurrentRow(0)
        for button in (self.bring, self.drop):
            button.setEnabled(bool(self._found))

    def _show(self, row: int) -> None:
        """List what differs between the copy that is picked and its file."""
        self.differs.clear()
        if 0 <= row < len(self._found):
            lines = what_changed(self._found[row], self._units)
            self.differs.addItems(lines[:MOST])
            if len(lines) > MOST:
                self.differs.addItem(f"and {len(lines) - MOST} more")

    def _bring(self) -> None:
        self.chosen = self._found[self.list.currentRow()]
        self.accept()

    def _drop(self) -> None:
        self.given_up.append(self._found.pop(self.list.currentRow()))
        self._fill()
