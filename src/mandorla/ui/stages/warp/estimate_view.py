"""The quick estimate: peel against grip along the height, the part after release, corners, cracks."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import numpy as np
from PySide6.QtCore import Qt
from PySide6.QtWidgets import QHBoxLayout, QSlider

from mandorla.core.failure.grades import margin_state
from mandorla.core.failure.messages import margin_text, probability_text
from mandorla.core.failure.state import State
from mandorla.core.failure.words import chance_of, clause, headline
from mandorla.core.results.choices import Z90
from mandorla.core.results.corners import corners_by, corners_of
from mandorla.core.results.figures import key_of_way
from mandorla.core.results.key import Key
from mandorla.core.results.keys import EVALUATION, FULL_RUN, GEOMETRY, SETTINGS_CHECK
from mandorla.core.units import UnitPreferences, show, show_number
from mandorla.ui.document import Document
from mandorla.ui.plots.curves import CurvePlot
from mandorla.ui.plots.part_view import PartView
from mandorla.ui.stages.page import side_column
from mandorla.ui.stages.view import View
from mandorla.ui.theme.palette import Theme
from mandorla.ui.widgets.charts import Charts, column_that_scrolls
from mandorla.ui.widgets.figures import Figure, FigureList
from mandorla.ui.widgets.form import heading, panel, soft

if TYPE_CHECKING:
    from mandorla.core.results.types import Evaluation, FullRun, Judgement, WarpEstimate

_EXAGGERATION = 20
UNCHECKED = (
    "Grip figures are known to a factor of two until your own trials narrow them. "
    "The crack index has not been checked against trials."
)


class EstimateView(View):
    """Peel against grip along the height, the part after release, corners, cracks."""

    key = "estimate"
    title = "Estimate"
    needs_part = True

    def __init__(self, document: Document, theme: Theme) -> None:
        super().__init__(document, theme)
        body = QHBoxLayout(self.content)
        body.setContentsMargins(0, 0, 0, 0)
        body.setSpacing(10)
        area, left = column_that_scrolls()
        frame, column = panel(8)
        row = QHBoxLayout()
        said = heading("After release by the estimate, lift exaggerated")
        said.setWordWrap(True)  # a narrow window has no room for it in one line
        row.addWidget(said, 1)
        row.addStretch(1)
        self.slider = QSlider(Qt.Orientation.Horizontal)
        self.slider.setRange(1, 100)
        self.slider.setValue(_EXAGGERATION)
        self.slider.setMinimumWidth(60)
        self.slider.setMaximumWidth(150)
        self.slider.setAccessibleName("Exaggeration of the lift")
        self.slider.valueChanged.connect(self._show_shape)
        self.factor = soft(f"{_EXAGGERATION} times")
        row.addWidget(self.slider)
        row.addWidget(self.factor)
        column.addLayout(row)
        self.view = PartView("The part after release")
        column.addWidget(self.view, 1)
        left.addWidget(frame, 5)
        charts = Charts()
        self.peel = CurvePlot("Peel and grip against printed height", "Stress, MPa", "Printed height, mm")
        self.landing = CurvePlot("Layer temperature against height", "Temperature, °C", "Height, mm")
        self.crack = CurvePlot("Crack index against height", "Crack index", "Height, mm")
        for title, plot in (
            ("Peel and grip", self.peel),
            ("Layer temperature", self.landing),
            ("Crack index", self.crack),
        ):
            charts.add(title, plot)
        left.addWidget(charts, 4)
        body.addWidget(area, 1)

        area, side = side_column(338)
        for title, name in (
            ("Corners, weakest first", "corners"),
            ("Key figures", "figures"),
            ("What the uncertainty is made of", "shares"),
        ):
            frame, column = panel()
            column.addWidget(heading(title))
            if name == "corners":
                self.corners_by = soft()
                column.addWidget(self.corners_by)
            table = FigureList(title)
            setattr(self, name, table)
            column.addWidget(table)
            if name == "shares":
                self.note = soft()
                column.addWidget(self.note)
            side.addWidget(frame)
        side.addStretch(1)
        body.addWidget(area)

        document.results.changed.connect(self._on_judged)

    def _on_judged(self, name: str) -> None:
        if name == FULL_RUN.name and self.isVisible():
            self.refresh()
            self.changed()

    corners: FigureList
    figures: FigureList
    shares: FigureList

    def uses(self) -> tuple[Key[Any], ...]:
        """The quick estimate."""
        return EVALUATION, GEOMETRY

    def also(self) -> tuple[Key[Any], ...]:
        """The settings, checked in full: the judgement is by that run from then on."""
        return (SETTINGS_CHECK,)

    def headline(self) -> str:
        """What fails first, and with what chance."""
        judgement = self.results.judgement()
        e = self.results.last(EVALUATION)
        if judgement is None:
            judgement = e.judgement if e is not None and e.warp is not None else None
        return headline(judgement, self.units) if judgement is not None and e is not None and e.warp is not None else ""

    def draw(self) -> None:
        """Show the newest estimate."""
        e, units, t = self.get(EVALUATION), self.units, self.theme
        w = e.warp
        if w is None or e.part is None:
            return
        unit, temperature = units.unit("length"), units.unit("temperature")
        height = unit.from_si(w.height)
        spread = np.exp(Z90 * w.spread("margin"))
        self.peel.begin(t, y_label=f"Printed height, {unit.symbol}", upright=True)
        self.peel.add_curve(
            "peel", 1e-6 * w.demand, height, t.curves[0], unit="MPa", width=3.0, label_at=0.3, label_above=False
        )
        self.peel.add_curve("grip", 1e-6 * w.capacity, height, t.curves[1], unit="MPa", width=3.0, label_at=0.8)
        weaker = 1e-6 * w.capacity / spread
        self.peel.add_curve(
            "low grip",
            weaker,
            height,
            t.curves[1],
            unit="MPa",
            dashed=True,
            width=1.4,
            label_at=0.97,
            label_above=False,
        )
        if np.isfinite(w.let_go_height):
            self.peel.add_line(
                unit.from_si(w.let_go_height),
                f"comes off, layer {w.let_go_layer}",
                t.fails,
                vertical=False,
                place=0.02,
            )
        self.peel.setXRange(0, 1e-6 * float(max(np.median(w.capacity) * 1.4, w.demand.max() * 1.1)))
        self.landing.begin(
            t, x_label=f"Temperature, {temperature.symbol}", y_label=f"Height, {unit.symbol}", upright=True
        )
        self.landing.add_curve(
            "next layer lands",
            temperature.from_si(w.landing),
            height,
            t.curves[0],
            unit=temperature.symbol,
            width=2.6,
            label_at=0.6,
        )
        self.landing.add_curve(
            "end of print",
            temperature.from_si(w.end_temperature),
            height,
            t.curves[4],
            unit=temperature.symbol,
            label_at=0.85,
        )
        self.landing.add_curve(
            "layers meet",
            temperature.from_si(w.contact),
            height,
            t.curves[2],
            unit=temperature.symbol,
            dashed=True,
            width=1.6,
            label_at=0.3,
        )
        ends = temperature.from_si(np.array([w.end_temperature.min(), w.contact.max()]))
        self.landing.setXRange(float(ends[0]), float(ends[1] + 0.3 * (ends[1] - ends[0])))
        soften = temperature.from_si(e.part.polymer.softening_temperature)
        self.landing.add_line(soften, "softens", t.marginal, vertical=True, place=0.9)
        self.crack.begin(t, y_label=f"Height, {unit.symbol}", upright=True)
        self.crack.add_curve("crack index", w.crack, height, t.curves[2], width=2.6)
        self.crack.add_line(1.0, "cracks", t.fails, vertical=True, place=0.9)
        self.crack.setXRange(0, max(1.1, 1.1 * float(w.crack.max())))
        self._show_tables()
        self._show_shape()

    def _show_tables(self) -> None:
        e = self.get(EVALUATION)
        w, units, t = e.warp, self.units, self.theme
        assert w is not None
        assert e.conditions is not None
        run = self.results.judging_run()
        self.corners_by.setText(f"Hold margins of the {'full simulation' if corners_by(w, run) else 'estimate'}")
        self.corners.show_figures(_corners(w, run, units), t)
        judgement = self.results.judgement() or e.judgement
        self.figures.show_figures(_figures(e, judgement, units), t)
        shares = w.spreads.get("margin", {})
        total = sum(v * v for v in shares.values()) or 1.0
        self.shares.show_figures(
            [
                Figure(k.partition(",")[0].capitalize(), f"{100 * v * v / total:.0f} %")
                for k, v in sorted(shares.items(), key=lambda kv: -abs(kv[1]))
                if v * v / total > 0.005
            ],
            t,
        )
        notes = [n[0].upper() + n[1:] + "." for n in w.notes]
        check = self.results.value(SETTINGS_CHECK)
        problem = [f"{check.problem}."] if check is not None and check.problem else []
        self.note.setText(" ".join([*problem, *notes, UNCHECKED]))

    def _show_shape(self) -> None:
        e, geometry = self.results.last(EVALUATION), self.results.last(GEOMETRY)
        if e is None or e.warp is None or geometry is None:
            return
        w = e.warp
        times = self.slider.value()
        self.factor.setText(f"{times} times")
        mesh = geometry.shown
        lift = np.interp(np.abs(mesh.vertices[:, 0]), *w.shape_x) + np.interp(np.abs(mesh.vertices[:, 1]), *w.shape_y)
        base = float(w.shape_x[1][0] + w.shape_y[1][0])
        # the highest point stands for the estimate's corner, which the part's own rounding never quite reaches
        lift -= min(base, float(lift.min()))
        top = abs(w.released_lift)
        lift *= top / max(float(lift.max()), 1e-12)
        shown = mesh.vertices.copy()
        shown[:, 2] += times * lift
        bed = self.document.project.rig.bed
        units = self.document.units
        caption = f"dark 0, light {show(top, 'length', units)} above the lowest point"
        values = lift / max(top, 1e-9)
        source = self.document.project.part
        place = (source.placement.x, source.placement.y) if source is not None else (0.0, 0.0)
        self.view.show_mesh(self.theme, shown, mesh.faces, (bed.width, bed.depth), place, values, caption)


def _corners(w: WarpEstimate, run: FullRun | None, units: UnitPreferences) -> list[Figure]:
    """Hold margins by corner, the weakest first: those that the judgement goes by, and the estimate's beside a full run's."""
    rows = []
    by_run = corners_by(w, run)
    for c in corners_of(w, run):
        quick = [f"lift {show(c.lift, 'length', units)}", *([f"margin {margin_text(c.estimate)}"] if by_run else [])]
        remark = f"plate {show(c.plate, 'temperature', units)}; {'estimate: ' if by_run else ''}{', '.join(quick)}"
        state = None if by_run else margin_state(c.margin)
        rows.append(Figure(c.name, margin_text(c.margin), remark, state, "hold_margin"))
    return rows


def _figures(e: Evaluation, judgement: Judgement, units: UnitPreferences) -> list[Figure]:
    """Every way to fail with its chance, the nearest first, then the estimate's figures with their 90 % ranges."""
    w = e.warp
    assert w is not None
    assert e.conditions is not None

    def between(figure: str, value: float) -> str:
        ends = (show_number(v, "length", units) for v in w.band(figure, value))
        return f"{' to '.join(ends)} at 90 %"

    ways = [
        Figure(judgement.titles[k], chance_of(a) or a.state.value, clause(judgement, k, units), a.state, key_of_way(k))
        for k, a in sorted(
            judgement.counted.items(), key=lambda kv: -kv[1].probability if np.isfinite(kv[1].probability) else 0.0
        )
        if not a.checks or a.state is not State.HOLDS
        if k != "placement"
    ]
    low, high = w.band("margin", w.margin)
    if w.comes_off:
        release = Figure("When it has cooled", "comes off", "the cool-down peels more than half of the foot off")
    elif e.part is not None and e.part.bonds_too_strongly:
        release = Figure(
            "When it has cooled",
            "tears the plate",
            f"it bonds too strongly to {e.part.surface.name}: a release layer under it",
        )
    else:
        release = Figure("When it has cooled", "needs a flex", "the cool-down alone does not peel it off the plate")
    any_fails = probability_text(judgement.anything) if np.isfinite(judgement.anything) else "not known"
    return [
        Figure("Anything fails", any_fails, f"{100 * judgement.risk:.0f} % are accepted", judgement.whole, "anything"),
        *ways,
        Figure(
            "Hold margin, estimate",
            margin_text(w.margin),
            f"{margin_text(low)} to {margin_text(high)} at 90 %",
            key="hold_margin",
        ),
        Figure(
            "Lift at the end, estimate",
            show(w.printed_lift, "length", units),
            between("lift", w.printed_lift),
            key="lift",
        ),
        Figure(
            "After release, estimate",
            show(abs(w.released_lift), "length", units),
            between("released", abs(w.released_lift)),
            key="lift",
        ),
        Figure("Chamber while printing", show(e.conditions.chamber, "temperature", units), key="chamber_printing"),
        release,
    ]
