"""Builds compared: the warm-up of kept machines over each other, with readiness, offset, spread and energy side by side."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import numpy as np
from PySide6.QtCore import Qt
from PySide6.QtWidgets import QGridLayout, QHBoxLayout, QLabel, QLineEdit, QPushButton, QVBoxLayout, QWidget

from mandorla.core.errors import InputError
from mandorla.core.failure.messages import difference_sentence, ready_text
from mandorla.core.results.choices import NOW
from mandorla.core.results.key import Key
from mandorla.core.results.keys import BUILD_DIFFERENCES, BUILD_HEAT_UPS
from mandorla.core.units import METRIC, UnitPreferences, show, show_duration
from mandorla.ui.document import Document
from mandorla.ui.plots.curves import CurvePlot
from mandorla.ui.stages.view import View
from mandorla.ui.theme.palette import Theme, font
from mandorla.ui.widgets.form import answer, panel, soft

if TYPE_CHECKING:
    from mandorla.core.results.types import HeatUp


class BuildsView(View):
    """Keeps builds under names, overlays their surfaces, compares their figures, takes one back."""

    key = "builds"
    title = "Builds compared"

    def __init__(self, document: Document, theme: Theme) -> None:
        super().__init__(document, theme)
        self.rows: list[list[str]] = []
        column = QVBoxLayout(self.content)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(8)
        frame, inner = panel(8)
        row = QHBoxLayout()
        self.name = QLineEdit()
        self.name.setPlaceholderText("name of the present build")
        self.name.setAccessibleName("Name of the build to keep")
        self.name.setFixedWidth(230)
        self.keep_button = QPushButton("Keep this build")
        self.keep_button.clicked.connect(self._keep)
        self.name.returnPressed.connect(self._keep)
        row.addWidget(self.name)
        row.addWidget(self.keep_button)
        row.addStretch(1)
        inner.addLayout(row)
        self.sentence = answer()
        inner.addWidget(self.sentence)
        self.curves = CurvePlot("Surfaces of the builds while warming up", "Time, min", "Surface, centre, °C")
        inner.addWidget(self.curves, 1)
        column.addWidget(frame, 1)
        frame, self._table_host = panel(8)
        self._table: QWidget | None = None
        column.addWidget(frame)
        self.differences = soft()
        column.addWidget(self.differences)

    def _keep(self) -> None:
        name = self.name.text().strip() or self.document.project.rig.name
        try:
            self.document.keep_build(name)
        except InputError as error:
            self.document.problem.emit(str(error))
            return
        self.name.clear()

    def uses(self) -> tuple[Key[Any], ...]:
        """What is shown."""
        return (BUILD_HEAT_UPS,)

    def also(self) -> tuple[Key[Any], ...]:
        """Shown as soon as it is there."""
        return (BUILD_DIFFERENCES,)

    def draw(self) -> None:
        """Compare the kept builds with the present rig."""
        results = self.get(BUILD_HEAT_UPS)
        t, units = self.theme, self.units
        unit = units.unit("temperature")
        self.curves.begin(t, y_label=f"Surface, centre, {unit.symbol}")
        ready = [h.ready_time for h in results.values() if np.isfinite(h.ready_time)]
        until = min(1.5 * max(ready, default=2400.0) + 240.0, min(float(h.time[-1]) for h in results.values()))
        for i, (name, heat) in enumerate(results.items()):
            pick = heat.time <= until
            color = t.ink if name == NOW else t.curves[i % len(t.curves)]
            self.curves.add_curve(
                name, heat.time[pick] / 60, unit.from_si(heat.surface[pick]), color, unit=unit.symbol,
                width=3.0 if name == NOW else 2.0, dashed=name == NOW and len(results) > 1, label_at=0.55 + 0.1 * (i % 4),
                label_above=i % 2 == 0,
            )  # fmt: skip
        self.curves.setXRange(0.0, until / 60, padding=0.01)
        self.sentence.setText(builds_sentence(results, units))
        self._fill_table(results, units)
        found = self.results.value(BUILD_DIFFERENCES) or {}
        self.differences.setText("\n".join(difference_sentence(name, d, units) for name, d in found.items()))
        self.differences.setVisible(bool(found))

    def _fill_table(self, results: dict[str, HeatUp], units: UnitPreferences) -> None:
        if self._table is not None:
            self._table_host.removeWidget(self._table)
            self._table.hide()
            self._table.deleteLater()
        self._table = holder = QWidget()
        grid = QGridLayout(holder)
        grid.setContentsMargins(0, 0, 0, 0)
        grid.setHorizontalSpacing(14)
        heads = ["Build", "Ready in", "Surface", "Offset", "Spread", "Chamber", "Until ready", "Holds with", ""]
        self.rows = [comparison_row(name, heat, units) for name, heat in results.items()]
        for c, text in enumerate(heads):
            grid.addWidget(soft(text), 0, c, Qt.AlignmentFlag.AlignLeft if c == 0 else Qt.AlignmentFlag.AlignRight)
        for r, row in enumerate(self.rows, start=1):
            for c, text in enumerate(row):
                label = QLabel(text)
                label.setFont(font(9.5, strong=c == 0 or row[0] == NOW))
                grid.addWidget(label, r, c, Qt.AlignmentFlag.AlignLeft if c == 0 else Qt.AlignmentFlag.AlignRight)
            if row[0] != NOW:
                grid.addLayout(self._buttons(row[0]), r, len(row))
        if len(results) == 1:
            words = "Keep the present build, change the rig, and both stand side by side; up to five can be kept."
            grid.addWidget(soft(words), 2, 0, 1, len(heads))
        self._table_host.addWidget(holder)

    def _buttons(self, name: str) -> QHBoxLayout:
        row = QHBoxLayout()
        for text, action in (("Take", self.document.take_build), ("Forget", self.document.forget_build)):
            button = QPushButton(text)
            button.setAccessibleName(f"{text} build {name}")
            button.clicked.connect(lambda _=False, a=action: a(name))
            row.addWidget(button)
        return row


def comparison_row(name: str, heat: HeatUp, units: UnitPreferences) -> list[str]:
    """Name and figures of one build as texts."""
    spread = (1.0 - float(heat.spread.theta.min())) * (heat.steady.surface - heat.steady.air)
    until = heat.ready_time if np.isfinite(heat.ready_time) else float(heat.time[-1])
    return [
        name,
        ready_text(heat),
        show(heat.steady.surface, "temperature", units),
        show(heat.offset, "temperature_difference", units),
        show(spread, "temperature_difference", units),
        show(heat.steady.air, "temperature", units, digits=0),
        show(heat.at(until, heat.energy), "energy", units),
        show(heat.steady.power + max(heat.steady.chamber_power, 0.0), "power", units),
    ]


def builds_sentence(results: dict[str, HeatUp], units: UnitPreferences = METRIC) -> str:
    """Which build is ready first and which holds with the least power."""
    ready = {n: h.ready_time for n, h in results.items() if np.isfinite(h.ready_time)}
    if len(results) < 2 or not ready:
        return "Only the present build so far." if len(results) < 2 else "None of the builds is ready in time."
    power = {n: h.steady.power + max(h.steady.chamber_power, 0.0) for n, h in results.items()}
    first, least = min(ready, key=lambda n: ready[n]), min(power, key=lambda n: power[n])
    text = f"“{first}” is ready first, after {show_duration(ready[first])}"
    if first == least:
        return f"{text}, and holds with the least power, {show(power[least], 'power', units)}."
    return f"{text}; “{least}” holds with the least power, {show(power[least], 'power', units)}."
