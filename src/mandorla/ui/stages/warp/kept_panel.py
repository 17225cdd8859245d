"""Full runs kept in the project: which there are, whether they still belong to it, and one of them shown again."""

from __future__ import annotations

from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import QFrame, QHBoxLayout, QListWidget, QListWidgetItem, QPushButton, QVBoxLayout

from mandorla.core.project.models import KeptRun
from mandorla.core.results.kept_runs import belongs, key_of, without
from mandorla.ui.document import Document
from mandorla.ui.widgets.form import heading, soft

_NONE = "None yet. A run that is kept is there when the project is opened again."
_SHOWN = 3  # rows seen without scrolling


class KeptRunsPanel(QFrame):
    """The list with its buttons; ``picked`` names a run to show."""

    picked = Signal(str)
    keep_asked = Signal()

    def __init__(self, document: Document) -> None:
        super().__init__()
        self.document = document
        self.setObjectName("panel")
        column = QVBoxLayout(self)
        column.setContentsMargins(12, 10, 12, 12)
        column.addWidget(heading("Runs kept in the project"))
        self.keep = QPushButton("Keep this run")
        self.keep.setToolTip("Save it with the project: it is there at once when the project is opened again")
        self.keep.clicked.connect(self.keep_asked)
        column.addWidget(self.keep)
        self.none = soft(_NONE)
        column.addWidget(self.none)
        self.list = QListWidget()
        self.list.setAccessibleName("Kept runs")
        self.list.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.list.setTextElideMode(Qt.TextElideMode.ElideRight)
        self.list.currentRowChanged.connect(lambda _: self._enable())
        self.list.itemActivated.connect(lambda _: self._show())
        column.addWidget(self.list)
        row = QHBoxLayout()
        self.show_button, self.remove = QPushButton("Show"), QPushButton("Remove")
        self.show_button.clicked.connect(self._show)
        self.remove.clicked.connect(self._remove)
        row.addWidget(self.show_button)
        row.addWidget(self.remove)
        column.addLayout(row)

    def stands(self, run: KeptRun) -> bool:
        """Whether a kept run is of the project as it is."""
        return belongs(run, self.document.results.results.digest(key_of(run)))

    def show_list(self, *, can_keep: bool) -> None:
        """List what the project keeps; ``can_keep``: a finished run of the project as it is is shown that is not kept yet."""
        chosen = self.chosen
        runs = self.document.project.runs
        self.keep.setEnabled(can_keep)
        self.none.setVisible(not runs)
        for widget in (self.list, self.show_button, self.remove):
            widget.setVisible(bool(runs))
        self.list.clear()
        for run in runs:
            state = "as the project is" if self.stands(run) else "out of date"
            whose = "" if run.bodies == "all" else ", one body"
            item = QListWidgetItem(f"{run.resolution.capitalize()}{whose}, {run.date}: {state}")
            item.setData(Qt.ItemDataRole.UserRole, run.key)
            item.setToolTip(run.says)
            self.list.addItem(item)
            if run.key == chosen:
                self.list.setCurrentItem(item)
        height = self.list.sizeHintForRow(0) if runs else 0
        self.list.setFixedHeight(min(len(runs), _SHOWN) * height + 6)
        self._enable()

    @property
    def chosen(self) -> str:
        """Key of the run that is picked in the list; empty for none."""
        item = self.list.currentItem()
        return str(item.data(Qt.ItemDataRole.UserRole)) if item is not None else ""

    def _enable(self) -> None:
        self.show_button.setEnabled(bool(self.chosen))
        self.remove.setEnabled(bool(self.chosen))

    def _show(self) -> None:
        if self.chosen:
            self.picked.emit(self.chosen)

    def _remove(self) -> None:
        if self.chosen:
            runs = without(self.document.project, self.chosen)
            self.document.edit_with_files({"runs": runs}, {}, "Remove kept run")
