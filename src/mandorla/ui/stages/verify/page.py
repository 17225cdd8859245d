"""Verify: what the rig really does."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from PySide6.QtWidgets import QComboBox, QPushButton

from mandorla.core.results.key import Key
from mandorla.ui.decimal_sign import shown
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
from mandorla.ui.stages.verify.trials_view import TrialsView
from mandorla.ui.stages.verify.verify_view import VerifyView
from mandorla.ui.stages.view import View
from mandorla.ui.theme.palette import Theme

EMPTY = (
    "Nothing was measured yet. Begin a session, name the instruments, and read the surface with more than one of them."
)


class VerifyPage(StagePage):
    """Sessions, instruments, readings, images, logs; comparison with the model; the fit; heights, energy, trials, the exercise."""

    views = (
        CompareView, ReadingsView, ImageView, LogsView, FitView, InstrumentsView, HeightsView, EnergyView, TrialsView, BenchView,
    )  # fmt: skip

    def __init__(self, document: Document, theme: Theme, title: str) -> None:
        self.desk = VerifyDesk(document, document)
        super().__init__(document, theme, title)
        self.sessions = QComboBox()
        self.sessions.setAccessibleName("Session")
        self.sessions.setSizeAdjustPolicy(QComboBox.SizeAdjustPolicy.AdjustToMinimumContentsLengthWithIcon)
        self.sessions.setMinimumContentsLength(9)
        self.sessions.setMaximumWidth(260)
        self.sessions.activated.connect(lambda _: self.desk.choose(self.sessions.currentData()))
        self.new_button = QPushButton("New")
        self.new_button.setAccessibleName("New session")
        self.new_button.setToolTip("Begin a new measuring session")
        self.new_button.clicked.connect(self.desk.new_session)
        self.head.addWidget(self.sessions, 1)  # a long name has the room that the tabs leave
        self.head.addWidget(self.new_button)
        self.desk.changed.connect(self._on_changed)

    def make(self, view: type[View]) -> View:
        """All views share the chosen session."""
        assert issubclass(view, VerifyView)
        return view(self.document, self.theme, self.desk)

    def _on_changed(self) -> None:
        self.wants_changed.emit()
        if self.isVisible():
            self.refresh()

    def uses(self) -> tuple[Key[Any], ...]:
        """The comparison of the chosen session."""
        return (self.desk.asked,) if self.desk.asked is not None else ()

    def answer(self) -> str:
        """What the chosen session says of the rig."""
        found = self.desk.comparison
        if self.desk.session is None:
            return EMPTY
        return found.sentence if found is not None else self.desk.refusal or "Comparing …"

    def show_view(self, how: Callable[[View], None]) -> None:
        """Show the sessions and the view that is seen."""
        desk = self.desk
        names = [(s.name, s.key) for s in desk.measurements.sessions]
        if [(self.sessions.itemText(i), self.sessions.itemData(i)) for i in range(self.sessions.count())] != [
            (shown(name), key) for name, key in names
        ]:
            self.sessions.clear()
            for name, key in names:
                self.sessions.addItem(name, key)
        self.sessions.setCurrentIndex(desk.index if names else -1)
        self.sessions.setEnabled(bool(names))
        super().show_view(how)


PAGE = VerifyPage
