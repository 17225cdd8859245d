"""Warp: the first layer's gap over the bed, how its lines should look, and the nozzle's height that is best."""

from __future__ import annotations

from typing import Any

import numpy as np
from PySide6.QtWidgets import QComboBox, QHBoxLayout, QPushButton

from mandorla.core.errors import InputError
from mandorla.core.failure.messages import probability_text
from mandorla.core.failure.words import clause
from mandorla.core.part.first_layer import SEATS, FirstLayer, ProbedMap
from mandorla.core.results.figures import key_of_way
from mandorla.core.results.key import Key
from mandorla.core.results.keys import EVALUATION, FIRST_LAYER_SHOWN, GAP_MAP
from mandorla.core.units import show, show_number
from mandorla.ui.document import Document
from mandorla.ui.live_results import in_words
from mandorla.ui.plots.line_sections import LineSections
from mandorla.ui.plots.surface_map import SurfaceMap
from mandorla.ui.stages.page import side_column
from mandorla.ui.stages.view import Missing, View
from mandorla.ui.theme.palette import Theme
from mandorla.ui.widgets.charts import column_that_scrolls
from mandorla.ui.widgets.fields import ChoiceEdit
from mandorla.ui.widgets.figures import Figure, FigureList
from mandorla.ui.widgets.form import Form, heading, panel, soft

_NONE = "Nothing is known of the gap yet: it counts in no judgement until you say what you know."
_FIELDS = ("height", "offset", "offset_within", "growth", "tip_lower", "compensated", "seat_height")
WAYS = ("first_too_far", "first_too_near")


class FirstLayerView(View):
    """The gap map with the part's foot and the lines at three places at the left, what is known and what follows at the right."""

    key = "first"
    title = "First layer"
    needs_part = True

    def __init__(self, document: Document, theme: Theme) -> None:
        super().__init__(document, theme)
        body = QHBoxLayout(self.content)
        body.setContentsMargins(0, 0, 0, 0)
        body.setSpacing(10)
        scrolled, left = column_that_scrolls()
        frame, column = panel(8)
        column.addWidget(heading("Gap between nozzle and plate on the first layer, seen from above"))
        self.map = SurfaceMap(height=None)
        self.map.setAccessibleName("Gap of the first layer over the bed")
        column.addWidget(self.map, 1)
        left.addWidget(frame, 3)
        frame, column = panel(8)
        column.addWidget(heading("What it should look like: the lines cut across, heights drawn 1.6 times"))
        self.lines = LineSections()
        column.addWidget(self.lines, 1)
        left.addWidget(frame, 2)
        body.addWidget(scrolled, 1)
        area, side = side_column(338)
        frame, column = panel()
        column.addWidget(heading("Nozzle and lines"))
        self.figures = FigureList("Nozzle and lines")
        column.addWidget(self.figures)
        self.nudge = QPushButton()
        self.nudge.setObjectName("primary")
        self.nudge.clicked.connect(self._nudge)
        column.addWidget(self.nudge)
        side.addWidget(frame)
        self.known, self._column = panel()
        self._column.addWidget(heading("What is known of the gap"))
        self.begin = QPushButton("Forget what is known")
        self.begin.clicked.connect(self._toggle)
        self._column.addWidget(self.begin)
        self._form: Form | None = None
        side.addWidget(self.known)
        self.note = soft(
            "Nozzle and plate are compared in the middle, where the nozzle is homed. The plate's bow since the map was taken comes "
            "from Heat-up. Lines are oblongs with round ends of the volume that is meant; they pile up from 20 % of the height on, "
            "which is practice and unchecked."
        )
        side.addWidget(self.note)
        side.addStretch(1)
        body.addWidget(area)
        document.project_changed.connect(self._sync)
        self._sync()

    def _sync(self) -> None:
        first = self.document.project.process.first
        there = first is not None
        if there and self._form is None:
            form = Form(self.document)
            for name in _FIELDS[:5]:
                form.add_field(f"process.first.{name}", without="a layer's" if name == "height" else "")
            seats: dict[object, str] = {key: text for key, text in SEATS.items()}
            seat = ChoiceEdit(self.document, "process.first.seat", "Plate lies", seats)
            seat.setMaximumWidth(150)
            form.add_widget("Plate lies", seat)
            form.add_field("process.first.seat_height")
            self.maps = QComboBox()
            self.maps.setAccessibleName("Height map of the plate")
            self.maps.activated.connect(self._take_map)
            self.maps.setMaximumWidth(150)
            form.add_widget("Height map, from Verify", self.maps)
            form.add_field("process.first.compensated")
            self._form = form
            self._column.insertWidget(1, form)
        elif not there and self._form is not None:
            self._column.removeWidget(self._form)
            self._form.hide()
            self._form.deleteLater()
            self._form = None
        if first is not None:
            self._list_maps(first)

    maps: QComboBox

    def _list_maps(self, first: FirstLayer) -> None:
        """Every height map of the project's sessions, and the one in use."""
        offered: list[tuple[str, ProbedMap | None]] = [("None", None)]
        for session in self.document.project.measurements.sessions:
            for h in session.heights:
                probed = ProbedMap(
                    name=f"{session.name}, {h.name}"[:80], map=h.file, state=h.state, unit=h.unit, width=h.width, depth=h.depth,
                    rear_first=h.rear_first,
                )  # fmt: skip
                offered.append((f"{session.name}, {h.name}, {h.state}", probed))
        if first.probed is not None and all(p != first.probed for _, p in offered):
            offered.append((first.probed.name, first.probed))
        self._offered = [p for _, p in offered]
        self.maps.clear()
        self.maps.addItems([text for text, _ in offered])
        self.maps.setCurrentIndex(self._offered.index(first.probed))

    _offered: list[ProbedMap | None]

    def _take_map(self, index: int) -> None:
        chosen = self._offered[index]
        self._edit(
            "process.first.probed", None if chosen is None else chosen.model_dump(), "height map of the first layer"
        )

    def _toggle(self) -> None:
        there = self.document.project.process.first is not None
        self._edit("process.first", None if there else FirstLayer().model_dump(), "gap of the first layer")

    def _nudge(self) -> None:
        e, first = self.results.value(EVALUATION), self.document.project.process.first
        if e is None or e.first is None or first is None:
            return
        self._edit("process.first.offset", first.offset + e.first.best, "nozzle's height")

    def _edit(self, path: str, value: object, label: str) -> None:
        try:
            self.document.edit(path, value, label)
        except InputError as error:
            self.document.problem.emit(str(error))

    def also(self) -> tuple[Key[Any], ...]:
        """The gap and what it makes of the lines."""
        return FIRST_LAYER_SHOWN, EVALUATION, GAP_MAP

    def missing(self) -> Missing | None:
        """No part, or nothing said of the gap yet."""
        lacking = super().missing()
        if lacking is None and self.project.process.first is None:
            return Missing(_NONE, "Say what is known …", self._toggle)
        return lacking

    def headline(self) -> str:
        """The best height of the nozzle and its range, or that none is right everywhere."""
        shown = self.results.value(FIRST_LAYER_SHOWN)
        if shown is None:
            error = self.results.error(FIRST_LAYER_SHOWN)
            if error is not None:
                return in_words(error)
            return _NONE if self.project.process.first is None else ""
        f, units = shown.state, self.units
        low, high = f.allowed
        if low > high:
            return (
                f"No height of the nozzle is right everywhere under the part: the gap differs by "
                f"{show(f.widest - f.narrowest, 'length', units)}, {show(f.parts - f.piles, 'length', units)} is what lines and "
                "plate forgive. A coarser texture, a flatter plate or a map that the machine follows would help."
            )
        from_to = f"from {_way(low, units)} to {_way(high, units)} the lines close"
        if low <= 0.0 <= high and abs(f.best) < 1.5e-5:
            return f"The nozzle stands right: {from_to} as well."
        if f.too_far > 2.0 * f.spread(f.widest) and f.too_near > 2.0 * f.spread(f.narrowest):
            return f"The nozzle stands well: {from_to}; best {_way(f.best, units)}."
        return f"Best with the nozzle {_way(f.best, units)}; {from_to} and do not pile up."

    def draw(self) -> None:
        """Show map, lines and figures."""
        shown, e, units, t = (
            self.results.value(FIRST_LAYER_SHOWN),
            self.results.value(EVALUATION),
            self.units,
            self.theme,
        )
        bed, source = self.project.rig.bed, self.project.part
        if shown is None or e is None or e.part is None or source is None:
            size = (bed.width, bed.depth)
            self.map.show_map(t, units, size, np.zeros((2, 2)), None, None, kinds=("length", "length"))
            self.lines.show_looks(t, units, (), 0.0)
            self.figures.show_figures([Figure("Gap of the first layer", "not known")], t)
            self.nudge.hide()
            return
        f = shown.state
        outline = e.part.whole.footprint + np.array([source.placement.x, source.placement.y])
        self.map.show_map(
            t,
            units,
            (bed.width, bed.depth),
            shown.gap,
            outline,
            None,
            kinds=("length", "length"),
            rounded=bed.shape == "round",
        )
        self.lines.show_looks(t, units, shown.looks, shown.texture)
        j = self.results.judgement() or e.judgement
        rows = [
            Figure(j.titles[k], probability_text(a.probability), clause(j, k, units), a.state, key_of_way(k))
            for k in WAYS
            if (a := j.assessed.get(k)) is not None
        ]
        thin, thick = shown.looks[-1].pressure
        low, high = f.allowed
        allowed = f"range {_way(low, units)} to {_way(high, units)}" if low <= high else "no height is right everywhere"
        meant = f"meant {show(f.nominal, 'length', units)}; known to ±{show(f.within, 'length', units)} at 90 %"
        gaps = f"{show_number(f.narrowest, 'length', units)}–{show(f.widest, 'length', units)}"
        deep = f"texture {show(shown.texture, 'length', units)} deep"
        rows += [
            Figure("Best for both", _way(f.best, units), allowed),
            Figure("Gap under the part", gaps, meant),
            Figure(
                "The gap may differ by",
                show(dict(shown.forgives)["this side"], "length", units),
                ", ".join(f"{show(v, 'length', units)} on {name}" for name, v in shown.forgives if name != "this side"),
            ),
            Figure("Lines part from", show(f.parts, "length", units)),
            Figure("Lines pile up below", show(max(f.piles, 0.0), "length", units), deep),
            Figure(
                "Pressure under the nozzle",
                f"{show_number(thin, 'stress', units)}–{show(thick, 'stress', units)}",
                "in the narrowest gap, thin and thick melts; above some MPa it lets less out",
            ),
            Figure(
                "Full speed on lines from",
                show(self.project.process.full_speed_from, "length", units),
                "shorter ones and corners are laid more slowly: finer detail, longer heat",
            ),
            Figure("Least grip under the part", f"{100 * f.least_grip:.0f} %", "of that in the gap that is meant"),
        ]
        self.figures.show_figures(rows, t)
        self.nudge.setVisible(abs(f.best) >= 0.5e-5)
        self.nudge.setText(f"Nozzle {_way(f.best, units)}")


def _way(change: float, units: Any) -> str:
    """A change of the nozzle's height in words."""
    if abs(change) < 0.5e-5:
        return "as it is"
    return f"{show(abs(change), 'length', units)} {'farther' if change > 0.0 else 'nearer'}"
