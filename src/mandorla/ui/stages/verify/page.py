"""Verify: what the rig really does."""

from __future__ import annotations

from PySide6.QtWidgets import QComboBox, QHBoxLayout, QPushButton, QStackedWidget, QTabBar, QVBoxLayout

from mandorla.ui.document import Document
from mandorla.ui.stages.page import StagePage
from mandorla.ui.stages.verify.bench_view import BenchView
from mandorla.ui.stages.verify.compare_view import CompareView
from mandorla.ui.stages.verify.desk import VerifyDesk
from mandorla.ui.stages.verify.energy_view import EnergyView
from mandorla.ui.stages.verify.fit_view import FitView
from mandorla.ui.stages.verify.heights_view import HeightsView
from mandorla.ui.stages.verify.image_view import ImageView
from mandorla.ui.stages.verify.instruments_view import InstrumentsView
from mandorla.ui.stages.verify.logs_view import LogsView
from mandorla.ui.stages.verify.readings_view import ReadingsView
from mandorla.ui.theme.palette import Theme

EMPTY = (
    "Nothing was measured yet. Begin a session, name the instruments, and read the surface with more than one of them."
)


class VerifyPage(StagePage):
    """Sessions, instruments, readings, images, logs; the comparison with the model; the fit; heights, energy, the exercise."""

    def __init__(self, document: Document, theme: Theme, title: str) -> None:
        super().__init__(document, theme, title)
        self.desk = VerifyDesk(document, self)
        whole = QVBoxLayout()
        whole.setSpacing(6)
        self.views = QTabBar()
        self.views.setDrawBase(False)
        self.views.setExpanding(False)
        self.views.setAccessibleName("View of the stage Verify")
        self.stack = QStackedWidget()
        self.compare_view = CompareView(self.desk)
        self.readings_view = ReadingsView(self.desk)
        self.image_view = ImageView(self.desk)
        self.logs_view = LogsView(self.desk)
        self.fit_view = FitView(self.desk)
        self.instruments_view = InstrumentsView(self.desk)
        self.heights_view = HeightsView(self.desk)
        self.energy_view = EnergyView(self.desk)
        self.bench_view = BenchView(self.desk)
        for text, view in (
            ("Verdict", self.compare_view), ("Readings", self.readings_view), ("Infrared", self.image_view),
            ("Logs", self.logs_view), ("Fit", self.fit_view), ("Instruments", self.instruments_view),
            ("Heights", self.heights_view), ("Energy", self.energy_view), ("Exercise", self.bench_view),
        ):  # fmt: skip
            self.views.addTab(text)
            self.stack.addWidget(view)
        self.views.currentChanged.connect(self._show_view)
        top = QHBoxLayout()
        top.addWidget(self.views, 1)
        self.sessions = QComboBox()
        self.sessions.setAccessibleName("Session on the desk")
        self.sessions.setSizeAdjustPolicy(QComboBox.SizeAdjustPolicy.AdjustToMinimumContentsLengthWithIcon)
        self.sessions.setMinimumContentsLength(9)
        self.sessions.activated.connect(self.desk.choose)
        self.new_button = QPushButton("New")
        self.new_button.setAccessibleName("New session")
        self.new_button.setToolTip("Begin a new measuring session")
        self.new_button.clicked.connect(self.desk.new_session)
        top.addWidget(self.sessions)
        top.addWidget(self.new_button)
        whole.addLayout(top)
        whole.addWidget(self.stack, 1)
        self.body.addLayout(whole, 1)
        self.desk.changed.connect(self._on_changed)
        document.project_changed.connect(self._on_changed)

    def _show_view(self, index: int) -> None:
        self.stack.setCurrentIndex(index)
        self.refresh()

    def _on_changed(self) -> None:
        if self.isVisible():
            self.refresh()

    def refresh(self) -> None:
        """Show the newest comparison in the view that is seen."""
        desk = self.desk
        names = [s.name for s in desk.measurements.sessions]
        if [self.sessions.itemText(i) for i in range(self.sessions.count())] != names:
            self.sessions.clear()
            self.sessions.addItems(names)
        self.sessions.setCurrentIndex(min(desk.index, len(names) - 1))
        self.sessions.setEnabled(bool(names))
        desk.refresh()
        found = desk.comparison
        if not names:
            self.say(EMPTY)
        elif found is not None:
            self.say(found.sentence)
        else:
            self.say(desk.refusal or "Comparing …")
        view = self.stack.currentWidget()
        view.refresh(self.theme)  # type: ignore[attr-defined]
