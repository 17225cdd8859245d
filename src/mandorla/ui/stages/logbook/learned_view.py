"""What prints have taught of this place: before and after, the ridge that holding leaves, whether predictions are right."""

from __future__ import annotations

from typing import Any

import numpy as np
from PySide6.QtWidgets import QHBoxLayout, QVBoxLayout, QWidget

from mandorla.core.logbook.calibration import ANY
from mandorla.core.logbook.messages import counted, experience_sentence, shift_text, way_name, wider_sentence
from mandorla.core.results.key import Key
from mandorla.core.results.keys import EXPERIENCE_HERE
from mandorla.ui.document import Document
from mandorla.ui.plots.curves import CurvePlot
from mandorla.ui.stages.logbook.log_view import LogView, choice, fill
from mandorla.ui.stages.page import scrolling, side_column
from mandorla.ui.theme.palette import Theme
from mandorla.ui.widgets.fields import SwitchEdit
from mandorla.ui.widgets.figures import Figure, FigureList
from mandorla.ui.widgets.form import heading, panel, soft
from mandorla.ui.widgets.pick_list import TextTable

_LEAST = 0.05  # standard deviations by which an unknown has to move or narrow to be listed first


class LearnedView(LogView):
    """Unknowns before and after at the left with their ridge; reliability at the right."""

    key = "learned"
    title = "Learned"

    def __init__(self, document: Document, theme: Theme) -> None:
        super().__init__(document, theme)
        body = QHBoxLayout(self.content)
        body.setContentsMargins(0, 0, 0, 0)
        body.setSpacing(10)
        inner = QWidget()
        left = QVBoxLayout(inner)
        left.setContentsMargins(0, 0, 0, 0)
        left.setSpacing(10)
        frame, column = panel(8)
        column.addWidget(heading("This machine, surface and polymer: in standard deviations of the library's range"))
        self.table = TextTable(
            "What prints have taught",
            ("Unknown", "Before", "Now", "Range left"),
            "Nothing yet: prints whose end was entered teach it",
        )
        self.table.setFixedHeight(150)
        column.addWidget(self.table)
        self.switch = SwitchEdit(document, "criteria.from_prints", "Predict from the logbook's prints")
        column.addWidget(self.switch)
        self.how = soft()
        column.addWidget(self.how)
        left.addWidget(frame)
        frame, column = panel(8)
        column.addWidget(heading("Grip against film stress"))
        self.ridge = CurvePlot("Grip against film stress", "Film stress (library's standard deviations)", "Grip")
        self.ridge.setFixedHeight(186)
        column.addWidget(self.ridge)
        column.addWidget(soft(
            "Each dot is a pair that the prints allow. A print that holds tells only grip over pull: along the ridge both move "
            "together, which no number of held prints narrows; a strip on steel (Verify) does."
        ))  # fmt: skip
        left.addWidget(frame)
        left.addStretch(1)
        body.addWidget(scrolling(inner, fill=True), 1)
        area, side = side_column(372)
        frame, column = panel()
        column.addWidget(heading("Are we right?"))
        self.way = choice("Way to fail")
        self.way.currentIndexChanged.connect(self._show_calibration)
        column.addWidget(self.way)
        self.reliability = CurvePlot("Stated against observed", "Stated chance, %", "Observed, %")
        self.reliability.setFixedHeight(220)
        column.addWidget(self.reliability)
        self.figures = FigureList("Are we right")
        column.addWidget(self.figures)
        column.addWidget(
            soft(
                "Each chance was stated before its print was learned from. Bars: where a right prediction would lie, 90 %."
            )
        )
        side.addWidget(frame)
        frame, column = panel()
        column.addWidget(heading("Plates that changed"))
        self.weak = soft()
        column.addWidget(self.weak)
        side.addWidget(frame)
        side.addStretch(1)
        body.addWidget(area)

    def uses(self) -> tuple[Key[Any], ...]:
        """What is known of this place."""
        return (EXPERIENCE_HERE,)

    def headline(self) -> str:
        """From how many prints, and whether predictions were right."""
        s = self.logbook.shown
        if s is None or s.experience is None:
            return "Every print that is entered teaches something."
        off = "" if self.project.criteria.from_prints else " Switched off: predictions are the library's alone."
        return f"From {counted(s.experience.prints)}.{off} {s.calibration[ANY].sentence}"

    def draw(self) -> None:
        """Show what is known."""
        joint = self.get(EXPERIENCE_HERE)
        rows = []
        if joint is not None:
            order = sorted(
                range(len(joint.names)),
                key=lambda k: -(abs(float(joint.draws[:, k].mean())) + abs(1.0 - float(joint.draws[:, k].std()))),
            )
            for k in order:
                mean, spread = float(joint.draws[:, k].mean()), float(joint.draws[:, k].std())
                left = f"{100 * spread / joint.before[k]:.0f} %"
                rows.append([joint.names[k], shift_text(0.0, joint.before[k]), shift_text(mean, spread), left])
        self.table.show_rows(rows)
        said = experience_sentence(self.shown.experience) if self.shown.experience is not None else ""
        self.how.setText(f"{said} {wider_sentence(joint)}".strip() if joint is not None else said)
        self._show_ridge(joint)
        ways = [("anything", ANY)] + [(way_name(w), w) for w in self.shown.calibration if w != ANY]
        fill(self.way, ways)
        self._show_calibration()
        s = self.shown
        numbers = {p.key: str(p.number) for p in s.prints}
        self.weak.setText(
            "\n".join(
                f"{s.name_of(w.plate)}, {w.side}: grips less than it did (prints {', '.join(numbers[k] for k in w.prints)}). "
                "Wash it, look at it against the light, print a corner; if it stays, use its other side and have it exchanged."
                for w in s.weaker
            )
            or "None: no plate grips less than its prints have said before."
        )

    def _show_ridge(self, joint: Any) -> None:
        self.ridge.begin(self.theme)
        if joint is None:
            return
        film = sum(joint.draws[:, joint.names.index(n)] for n in joint.names[:3]) / np.sqrt(3.0)
        grip = joint.draws[:, joint.names.index("grip on the plate")]
        some = slice(None, 700)
        self.ridge.setXRange(-4.0, 4.0)
        self.ridge.setYRange(-6.0, 6.0)
        self.ridge.add_cloud(
            "a pair", np.asarray(film[some], dtype=float), np.asarray(grip[some], dtype=float), self.theme.curves[0]
        )

    def _show_calibration(self) -> None:
        if self.logbook.shown is None:
            return
        found = self.shown.calibration.get(self.way.currentData() or ANY)
        self.reliability.begin(self.theme)
        if found is None:
            self.figures.show_figures([], self.theme)
            return
        self.reliability.add_curve(
            "right", np.array([0.0, 100.0]), np.array([0.0, 100.0]), self.theme.soft, dashed=True, width=1.0
        )
        for b in found.bins:
            x = np.array([100.0 * b.stated] * 2)
            self.reliability.add_curve("", x, np.array([100.0 * b.low, 100.0 * b.high]), self.theme.soft, width=1.6)
        x, y = (
            np.array([100.0 * v for v in column])
            for column in zip(*((b.stated, b.observed) for b in found.bins), strict=True)
        )
        self.reliability.add_points("prints", x, y, self.theme.curves[0])
        self.figures.show_figures([
            Figure("Prints", str(found.count), found.sentence),
            Figure("Brier score", f"{found.brier:.3f}", f"{found.constant:.3f} for a chance that is always the same"),
            Figure("Begun, never entered", str(found.missing), "they count as missing, not as good" if found.missing else ""),
        ], self.theme)  # fmt: skip
