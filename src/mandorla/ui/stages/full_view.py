"""The full simulation in the stage Warp: resolution and time, progress with the part as it grows, results by height and in 3-D."""

from __future__ import annotations

import numpy as np
from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import QComboBox, QHBoxLayout, QProgressBar, QPushButton, QSlider, QVBoxLayout, QWidget

from mandorla.core.part.mesh import Floats, Ints
from mandorla.core.project.full_warp import full_sentence, release_words
from mandorla.core.runtime import RunContext
from mandorla.core.tune.sentences import margin_text
from mandorla.core.tune.verdict import State, grade_high, grade_low
from mandorla.core.units import show, show_duration
from mandorla.core.warp.full_result import FullRun
from mandorla.ui.document import Document
from mandorla.ui.plots.curves import CurvePlot
from mandorla.ui.plots.part_view import PartView
from mandorla.ui.stages.page import side_column
from mandorla.ui.theme.palette import Theme
from mandorla.ui.widgets.figures import Figure, FigureList
from mandorla.ui.widgets.form import heading, panel, soft
from mandorla.ui.workers.jobs import Channel

RESOLUTIONS = (("draft", "Draft"), ("standard", "Standard"), ("fine", "Fine"))
STATES = (
    ("printed", "at the end of the print"),
    ("cooled", "cooled down on the plate"),
    ("released", "taken off the plate"),
)
INTRO = (
    "The whole part is built up in boxes, layer by layer, with a grip that opens and a plate that can lift; then it cools and "
    "is taken off. Choose how fine, and run it."
)
CAUTION = (
    "Grip is known to a factor of two and a magnet's pull to about as much until your own trials narrow them: take heights as "
    "an order, and what gives way first as the message. Hot plates burn: let plate and part cool before you take them off."
)


def skin(solid: np.ndarray) -> Ints:
    """Triangles (m, 3) of the faces between solid boxes (nz, ny, nx) and nothing, as flat indices of nodes, facing outwards."""
    nz, ny, nx = solid.shape
    padded = np.pad(solid, 1)
    node = np.arange((nz + 1) * (ny + 1) * (nx + 1)).reshape(nz + 1, ny + 1, nx + 1)
    faces = []
    for axis, (du, dv) in enumerate((((0, 1, 0), (0, 0, 1)), ((0, 0, 1), (1, 0, 0)), ((1, 0, 0), (0, 1, 0)))):
        for side in (0, 1):
            shift = [slice(1, -1)] * 3
            shift[axis] = slice(2, None) if side else slice(0, -2)
            k, j, i = np.nonzero(solid & ~padded[tuple(shift)])
            at = np.stack([k, j, i], axis=1)
            at[:, axis] += side
            a, b = at + du, at + dv
            c = a + dv
            corners = [node[tuple(p.T)] for p in (at, a, c, b)]
            if side:
                corners = corners[::-1]
            faces += [
                np.stack([corners[0], corners[1], corners[2]], axis=1),
                np.stack([corners[0], corners[2], corners[3]], axis=1),
            ]
    return np.concatenate(faces).astype(np.int64)


class FullView(QWidget):
    """Runs the full simulation beside the interface and shows what it finds; a stop keeps what is there."""

    grown = Signal(object)
    changed = Signal()

    def __init__(self, document: Document) -> None:
        super().__init__()
        self.document = document
        self.result: FullRun | None = None
        self.of, self.refusal = "", ""
        self.theme: Theme | None = None
        self._stopped = False
        self.job = Channel(self)
        self.job.finished.connect(self._take)
        self.job.failed.connect(self._refused)
        self.job.progressed.connect(self._progress)
        self.job.busy_changed.connect(self._busy)
        self.ask = Channel(self)
        self.ask.finished.connect(self._expected)
        self.ask.failed.connect(lambda error: self.expectation.setText(str(error).splitlines()[0]))
        self.grown.connect(self._grow)
        body = QHBoxLayout(self)
        body.setContentsMargins(0, 0, 0, 0)
        body.setSpacing(10)
        left = QVBoxLayout()
        left.setSpacing(8)
        frame, column = panel(8)
        self.sentence = soft()
        column.addWidget(self.sentence)
        row = QHBoxLayout()
        self.which = QComboBox()
        self.which.setAccessibleName("Moment that is shown")
        for key, text in STATES:
            self.which.addItem(text, key)
        self.which.setCurrentIndex(2)
        self.which.currentIndexChanged.connect(self._draw)
        row.addWidget(self.which)
        row.addStretch(1)
        self.slider = QSlider(Qt.Orientation.Horizontal)
        self.slider.setRange(1, 100)
        self.slider.setValue(10)
        self.slider.setFixedWidth(150)
        self.slider.setAccessibleName("Exaggeration of the shape")
        self.slider.valueChanged.connect(self._draw)
        self.factor = soft("10 times")
        row.addWidget(self.slider)
        row.addWidget(self.factor)
        self._found: list[QWidget] = [self.which, self.slider, self.factor]  # seen once there is a result
        column.addLayout(row)
        self.view = PartView("The simulated part")
        column.addWidget(self.view, 1)
        left.addWidget(frame, 5)
        charts = QHBoxLayout()
        charts.setSpacing(8)
        self.lift = CurvePlot("Lift against printed height", "Printed height, mm", "Lift, mm")
        self.loose = CurvePlot("Share let go against printed height", "Printed height, mm", "Let go, %")
        for title, plot in (("Corner and plate lift while it grows", self.lift), ("Foot that has let go", self.loose)):
            frame, column = panel(8)
            column.addWidget(heading(title))
            column.addWidget(plot)
            charts.addWidget(frame, 1)
            self._found.append(frame)
        left.addLayout(charts, 4)
        body.addLayout(left, 1)
        area, side = side_column(318)
        frame, column = panel()
        column.addWidget(heading("How fine"))
        self.resolution = QComboBox()
        self.resolution.setAccessibleName("Resolution of the full simulation")
        for key, text in RESOLUTIONS:
            self.resolution.addItem(text, key)
        self.resolution.currentIndexChanged.connect(self._expect)
        column.addWidget(self.resolution)
        self.expectation = soft()
        column.addWidget(self.expectation)
        row = QHBoxLayout()
        self.run_button, self.stop_button = QPushButton("Run"), QPushButton("Stop")
        self.run_button.setObjectName("primary")
        self.run_button.setAccessibleName("Run the full simulation")
        self.stop_button.setAccessibleName("Stop the full simulation")
        self.run_button.clicked.connect(self.start)
        self.stop_button.clicked.connect(self._stop)
        row.addWidget(self.run_button, 2)
        row.addWidget(self.stop_button, 1)
        column.addLayout(row)
        self.progress = QProgressBar()
        self.progress.setRange(0, 100)
        self.progress.setTextVisible(False)
        column.addWidget(self.progress)
        self.stage = soft()
        column.addWidget(self.stage)
        side.addWidget(frame)
        for title, name in (("Corners, weakest first", "corners"), ("What it comes to", "figures")):
            frame, column = panel()
            column.addWidget(heading(title))
            table = FigureList(f"{title}, full simulation")
            setattr(self, name, table)
            column.addWidget(table)
            side.addWidget(frame)
            self._found.append(frame)
        self.note = soft(CAUTION)
        side.addWidget(self.note)
        side.addStretch(1)
        body.addWidget(area)
        self._busy(False)

    corners: FigureList
    figures: FigureList

    # ---- running
    def start(self) -> None:
        """Run at the chosen resolution; what is edited meanwhile does not change the run."""
        e, geometry, bundle = self.document.evaluation, self.document.geometry, self.document.bundle
        if e is None or geometry is None:
            return
        resolution = self.resolution.currentData()
        self.result, self._stopped, self.of = None, False, self._mark()
        grown = self.grown.emit

        def work(run: RunContext) -> FullRun:
            from mandorla.ui.workers import computing  # see its docstring

            return computing.full_warp(bundle, geometry, e, resolution, run, grown)

        self.refusal = ""
        self.job.start(work)
        self.changed.emit()

    def _stop(self) -> None:
        self._stopped = True
        self.job.cancel()
        self.changed.emit()

    def _mark(self) -> str:
        """What the result belongs to."""
        p = self.document.project
        return repr((p.rig, p.settings, p.process, p.part))

    def _expect(self) -> None:
        geometry, bundle = self.document.geometry, self.document.bundle
        if geometry is None or not self.isVisible():
            return
        resolution = self.resolution.currentData()
        self.expectation.setText("Timing the solver on this part …")

        def work(_: RunContext) -> tuple[float, float]:
            from mandorla.ui.workers import computing  # see its docstring

            return computing.full_expected(bundle, geometry, resolution)

        self.ask.start(work)

    def _expected(self, found: tuple[float, float]) -> None:
        seconds, memory = found
        self.expectation.setText(
            f"About {show_duration(seconds)} here, to a factor of two, by timing the solver on this part; {memory / 1e6:.0f} MB."
        )

    def _progress(self, fraction: float, stage: str) -> None:
        self.progress.setValue(round(100 * fraction))
        self.stage.setText(stage)

    def _busy(self, busy: bool) -> None:
        self.run_button.setEnabled(not busy)
        self.stop_button.setEnabled(busy)
        self.progress.setVisible(busy)
        if not busy:
            self.stage.setText("")

    def _grow(self, found: FullRun) -> None:
        if self.job.busy:
            self.result = found
            for widget in self._found[:5]:
                widget.setVisible(True)
            self._draw()
            self.view.look_anew()
            self._charts()

    def _take(self, found: FullRun) -> None:
        self.result = found
        self.changed.emit()
        self.view.look_anew()

    def _refused(self, error: Exception) -> None:
        self.result, self.refusal = None, str(error).splitlines()[0]
        self.changed.emit()

    # ---- showing
    def refresh(self, theme: Theme) -> None:
        """Show the newest result and whether it still belongs to the project."""
        self.theme = theme
        ready = self.document.geometry is not None and self.document.evaluation is not None
        if not self.job.busy:
            self.run_button.setEnabled(ready)
        if not self.expectation.text():
            self._expect()
        e = self.document.evaluation
        if e is not None and e.warp is not None:
            units = self.document.units
            self.sentence.setText(
                f"The quick estimate, with a plate that cannot lift: margin {margin_text(e.warp.margin)}, corner "
                f"{show(e.warp.printed_lift, 'length', units)} at the end, "
                f"{show(abs(e.warp.released_lift), 'length', units)} off flat after release."
            )
        found = self.result
        for widget in self._found:
            widget.setVisible(found is not None)
        if found is None:
            self.view.clear()
            for plot in (self.lift, self.loose):
                plot.begin(theme)
            for table in (self.corners, self.figures):
                table.show_figures([], theme)
            return
        self._charts()
        self._tables()
        self._draw()

    def headline(self) -> str:
        """The sentence above the view."""
        if self.document.geometry is None or self.document.evaluation is None:
            return "Open a part to simulate it."
        found, units = self.result, self.document.units
        if self.job.busy:
            return "The part is being built up …"
        if found is None:
            return self.refusal or INTRO
        text = full_sentence(found, units)
        if self._stopped:
            height = show(float(found.height[-1]), "length", units)
            text = f"Stopped at {height} of height. Up to there: {found.fails_first(units) or 'grip and plate hold'}."
        if self.of != self._mark():
            text = "The project has changed since this run; it belongs to what was before. " + text
        return text

    def _charts(self) -> None:
        found, t, units = self.result, self.theme, self.document.units
        if found is None or t is None:
            return
        unit = units.unit("length")
        height = unit.from_si(found.height)
        self.lift.begin(t, x_label=f"Printed height, {unit.symbol}", y_label=f"Lift, {unit.symbol}")
        self.lift.add_curve(
            "highest corner",
            height,
            unit.from_si(found.lift.max(axis=1)),
            t.curves[0],
            unit=unit.symbol,
            label_at=0.85,
            label_above=False,
        )
        if found.plate_lift.max() > 0.0:
            self.lift.add_curve(
                "plate",
                height,
                unit.from_si(found.plate_lift),
                t.curves[1],
                unit=unit.symbol,
                dashed=True,
                label_at=0.85,
            )
        self.loose.begin(t, x_label=f"Printed height, {unit.symbol}", y_label="Let go, %")
        self.loose.add_curve("let go", height, 100.0 * found.detached, t.curves[2], unit="%", label_at=0.7)
        self.loose.setYRange(0.0, max(10.0, 110.0 * float(found.detached.max())))

    def _tables(self) -> None:
        found, t, units = self.result, self.theme, self.document.units
        assert found is not None
        assert t is not None
        c = self.document.project.criteria
        order = np.argsort(found.margin[-1])
        self.corners.show_figures(
            [
                Figure(
                    found.corners[k].name, margin_text(float(found.margin[-1][k])),
                    f"lift {show(float(found.lift[-1][k]), 'length', units)}",
                    grade_high(float(found.margin[-1][k]), c.margin_wanted, 1.0),
                )
                for k in order
            ],
            t,
        )  # fmt: skip
        rows = [
            Figure("First to give way", *found.gives_way(units)),
            Figure("Highest corner, printed", show(found.printed_lift, "length", units), "",
                   State.FAILS if found.printed_lift > c.lift_limit else State.HOLDS),
            Figure("Plate off its seat", show(float(found.plate_lift.max()), "length", units), "largest gap, at its edge"),
            Figure("Underside after release", show(found.released_lift, "length", units), "lowest to highest, best plane taken out",
                   State.FAILS if found.released_lift > c.lift_limit else State.HOLDS),
            Figure("Foot that let go", f"{100 * found.detached[-1]:.0f} %", f"{100 * found.cold_detached:.0f} % once cold"),
        ]  # fmt: skip
        if found.crack.size:
            index = float(found.crack.max())
            rows.append(
                Figure(
                    "Crack index",
                    f"{index:.2f}",
                    f"weakest at {show(found.weak_layer, 'length', units)}",
                    grade_low(index, 0.6, 1.0),
                )
            )
        edge = max(found.voxels.size[:2])
        rows += [
            Figure("Once cold", "comes off" if found.cold_detached > 0.5 else "needs a flex", release_words(found)),
            Figure(
                "Boxes", f"{found.voxels.count}", f"{show(edge, 'length', units)} wide; {show_duration(found.seconds)}"
            ),
        ]
        self.figures.show_figures(rows, t)
        self.note.setText(" ".join([*(n[0].upper() + n[1:] + "." for n in found.notes), CAUTION]))

    def _draw(self) -> None:
        found, t = self.result, self.theme
        if found is None or t is None:
            return
        times = self.slider.value()
        self.factor.setText(f"{times} times")
        u = np.asarray(getattr(found, self.which.currentData()), dtype=np.float64)
        v = found.voxels
        z, y, x = np.meshgrid(v.z, v.y, v.x, indexing="ij")
        top = float(found.height[-1])
        standing = v.solid & (v.z[1:, None, None] <= top + 1e-9)
        faces = skin(standing)
        w = u[..., 2].ravel()
        used = np.unique(faces)
        low, high = float(w[used].min()), float(w[used].max())
        base: Floats = np.column_stack([x.ravel(), y.ravel(), z.ravel()])
        shown = base + times * u.reshape(-1, 3)
        shown[:, 2] -= min(float(shown[used, 2].min()), 0.0)
        source = self.document.project.part
        place = (source.placement.x, source.placement.y) if source is not None else (0.0, 0.0)
        bed = self.document.project.rig.bed
        values = np.clip((w - low) / max(high - low, 1e-9), 0.0, 1.0)
        units = self.document.units
        caption = f"dark {show(low, 'length', units)}, light {show(high, 'length', units)} above where it was laid"
        self.view.show_mesh(t, shown, faces, (bed.width, bed.depth), place, values, caption)
