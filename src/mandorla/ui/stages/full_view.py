"""The full simulation in the stage Warp: resolution and time, progress with the part as it grows, results by height and in 3-D."""

from __future__ import annotations

import time

import numpy as np
from PySide6.QtCore import Signal
from PySide6.QtWidgets import QComboBox, QHBoxLayout, QProgressBar, QPushButton, QVBoxLayout, QWidget

from mandorla.core.project.full_warp import bond_too_strong, full_sentence, release_words
from mandorla.core.runtime import RunContext
from mandorla.core.tune.sentences import margin_text
from mandorla.core.tune.verdict import State, grade_high, grade_low
from mandorla.core.units import show, show_duration
from mandorla.core.warp.full import Resolution
from mandorla.core.warp.full_result import FullRun
from mandorla.ui.document import Document
from mandorla.ui.plots.curves import CurvePlot
from mandorla.ui.stages.full_extras import DeformPanel, FacePanel, MeasuredPanel
from mandorla.ui.stages.full_picture import FullPicture
from mandorla.ui.stages.page import side_column
from mandorla.ui.theme.palette import Theme
from mandorla.ui.widgets.figures import Figure, FigureList
from mandorla.ui.widgets.form import heading, panel, soft
from mandorla.ui.workers.jobs import Channel

RESOLUTIONS: tuple[tuple[Resolution, str], ...] = (("draft", "Draft"), ("standard", "Standard"), ("fine", "Fine"))
ALONE = "Faces, a measured part and pre-deforming are for one body: simulate the hardest to hold, alone."
MOST_CORNERS = 8  # listed; of many bodies the weakest
INTRO = (
    "The whole part is built up in boxes, layer by layer, with a grip that opens and a plate that can lift; then it cools and "
    "is taken off. Choose how fine, and run it."
)
CAUTION = (
    "Grip is known to a factor of two and a magnet's pull to about as much until your own trials narrow them: take heights as "
    "an order, and what gives way first as the message. Hot plates burn: let plate and part cool before you take them off."
)


class FullView(QWidget):
    """Runs the full simulation beside the interface and shows what it finds; a stop keeps what is there."""

    grown = Signal(object)
    changed = Signal()

    def __init__(self, document: Document) -> None:
        super().__init__()
        self.document = document
        self.result: FullRun | None = None
        self.of: tuple[object, ...] = ()
        self.refusal = ""
        self.theme: Theme | None = None
        self._stopped, self._began = False, 0.0
        self._told: dict[Resolution, tuple[float, float]] = {}
        self._told_of: tuple[object, ...] = ()
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
        self.picture = FullPicture(document)
        self._found: list[QWidget] = []  # seen once there is a result
        column.addWidget(self.picture, 1)
        left.addWidget(frame, 5)
        host = QWidget()
        charts = QHBoxLayout(host)
        charts.setContentsMargins(0, 0, 0, 0)
        charts.setSpacing(8)
        self.lift = CurvePlot("Lift against printed height", "Printed height, mm", "Lift, mm")
        self.loose = CurvePlot("Share let go against printed height", "Printed height, mm", "Let go, %")
        self.cracks = CurvePlot("Crack index against height", "Height, mm", "Crack index")
        for title, plot in (
            ("Lift while it grows", self.lift), ("Foot that has let go", self.loose), ("Crack index by height", self.cracks),
        ):  # fmt: skip
            frame, column = panel(8)
            column.addWidget(heading(title))
            column.addWidget(plot)
            charts.addWidget(frame, 1)
            self._found.append(frame)
        self._charts_shown = [*self._found, host]
        self._found.append(host)
        left.addWidget(host, 4)
        body.addLayout(left, 1)
        area, side = side_column(318)
        frame, column = panel()
        column.addWidget(heading("How fine"))
        self.resolution = QComboBox()
        self.resolution.setAccessibleName("Resolution of the full simulation")
        for key, text in RESOLUTIONS:
            self.resolution.addItem(text, key)
        self.resolution.currentIndexChanged.connect(self._tell_expected)
        column.addWidget(self.resolution)
        self.which_bodies = QComboBox()
        self.which_bodies.setAccessibleName("Bodies in the full simulation")
        for key, text in (("all", "All bodies together"), ("one", "The hardest to hold, alone")):
            self.which_bodies.addItem(text, key)
        self.which_bodies.setToolTip(
            "Together they pull on one plate; alone, one body is cut finer and can be compensated."
        )
        self.which_bodies.currentIndexChanged.connect(self._expect)
        column.addWidget(self.which_bodies)
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
        self.face_panel, self.measured, self.deform = (
            FacePanel(document),
            MeasuredPanel(document),
            DeformPanel(document),
        )
        for extra in (self.face_panel, self.measured, self.deform):
            side.addWidget(extra)
            self._found.append(extra)
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
        resolution, together = self.resolution.currentData(), self.which_bodies.currentData() == "all"
        self.result, self._stopped, self.of = None, False, self.document.state
        grown = self.grown.emit

        def work(run: RunContext) -> FullRun:
            from mandorla.ui.workers import computing  # see its docstring

            return computing.full_warp(bundle, geometry, e, resolution, run, grown, together)

        self.refusal, self._began = "", time.monotonic()
        self.job.start(work)
        self.changed.emit()

    def _stop(self) -> None:
        self._stopped = True
        self.job.cancel()
        self.changed.emit()

    def _expect(self) -> None:
        geometry, bundle = self.document.geometry, self.document.bundle
        together = self.which_bodies.currentData() == "all"
        *_, part = self.document.state
        key = (part, self.document.project.rig.bed, together)
        if geometry is None or key == self._told_of or not self.isVisible():
            return
        self._told_of, self._told = key, {}
        self.expectation.setText("Timing the solver on this part …")

        def work(_: RunContext) -> dict[Resolution, tuple[float, float]]:
            from mandorla.ui.workers import computing  # see its docstring

            return computing.full_expected(bundle, geometry, tuple(key for key, _ in RESOLUTIONS), together)

        self.ask.start(work)

    def _expected(self, found: dict[Resolution, tuple[float, float]]) -> None:
        self._told = found
        self._tell_expected()

    def _tell_expected(self) -> None:
        """How long each resolution will take, and the memory of the chosen one."""
        if not self._told:
            return
        each = ", ".join(f"{text.lower()} {show_duration(self._told[key][0])}" for key, text in RESOLUTIONS)
        memory = self._told[self.resolution.currentData()][1]
        self.expectation.setText(
            f"Here, to a factor of two, by timing the solver on this part: {each}. Memory {memory / 1e6:.0f} MB as chosen."
        )

    def _progress(self, fraction: float, stage: str) -> None:
        self.progress.setValue(round(100 * fraction))
        spent = time.monotonic() - self._began
        left = (
            f"; about {show_duration(spent * (1.0 - fraction) / fraction)} left"
            if fraction > 0.05 and spent > 1.0
            else ""
        )
        self.stage.setText(stage + left)

    def _busy(self, busy: bool) -> None:
        self.run_button.setEnabled(not busy)
        self.stop_button.setEnabled(busy)
        self.progress.setVisible(busy)
        self.stage.setVisible(busy)
        if not busy:
            self.stage.setText("")

    def _grow(self, found: FullRun) -> None:
        if self.job.busy:
            self.result = found
            for widget in self._charts_shown:
                widget.setVisible(True)
            assert self.theme is not None
            self.picture.show_run(found, self.theme)
            self.picture.look_anew()
            self._charts()

    def _take(self, found: FullRun) -> None:
        self.result = found
        self.changed.emit()
        self.picture.look_anew()

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
        geometry = self.document.geometry
        self.which_bodies.setVisible(geometry is not None and geometry.sections.bodies > 1)
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
            self.picture.show_run(None, theme)
            for plot in (self.lift, self.loose, self.cracks):
                plot.begin(theme)
            for table in (self.corners, self.figures):
                table.show_figures([], theme)
            return
        self._charts_shown[2].setVisible(not found.stopped and found.crack.size > 0)
        self._charts()
        self._tables()
        self.picture.show_run(found, theme)
        for extra in (self.face_panel, self.measured, self.deform):
            extra.show_run(found, theme)
            extra.setVisible(not self.job.busy and not found.stopped and found.owner is None)

    @property
    def present(self) -> FullRun | None:
        """The finished run, if it belongs to the project as it is."""
        fits = self.result is not None and not self.job.busy and not self._stopped and self.of == self.document.state
        return self.result if fits else None

    def _at_corner(self, found: FullRun, k: int) -> str:
        """What is said beside a corner's margin; of several bodies where it is, too."""
        units = self.document.units
        text = f"lift {show(float(found.lift[-1][k]), 'length', units)}"
        if found.owner is None:
            return text
        x, y = (show(float(v), "length", units, digits=0) for v in (found.corners[k].x, found.corners[k].y))
        return f"{text}, at {x}, {y}"

    def _release(self, found: FullRun) -> tuple[str, str]:
        tears = bond_too_strong(self.document.project.process)
        short = "comes off" if found.cold_detached > 0.5 else "tears the plate" if tears else "needs a flex"
        return short, release_words(found, tears)

    def headline(self) -> str:
        """The sentence above the view."""
        if self.document.geometry is None or self.document.evaluation is None:
            return "Open a part to simulate it."
        found, units = self.result, self.document.units
        if self.job.busy:
            return "The part is being built up …"
        if found is None:
            return self.refusal or INTRO
        text = full_sentence(found, units, bond_too_strong(self.document.project.process))
        if self._stopped:
            height = show(float(found.height[-1]), "length", units)
            text = f"Stopped at {height} of height. Up to there: {found.fails_first(units) or 'grip and plate hold'}."
        if self.of != self.document.state:
            text = "The project has changed since this run; it belongs to what was before. " + text
        return text

    def _charts(self) -> None:
        found, t, units = self.result, self.theme, self.document.units
        if found is None or t is None:
            return
        unit = units.unit("length")
        height = unit.from_si(found.height)
        over = bool(found.lift[-1].max() >= found.plate_lift[-1])
        self.lift.begin(t, x_label=f"Printed height, {unit.symbol}", y_label=f"Lift, {unit.symbol}")
        self.lift.add_curve(
            "highest corner",
            height,
            unit.from_si(found.lift.max(axis=1)),
            t.curves[0],
            unit=unit.symbol,
            label_at=1.0,
            label_above=over,
        )
        if found.plate_lift.max() > 0.0:
            self.lift.add_curve(
                "plate",
                height,
                unit.from_si(found.plate_lift),
                t.curves[1],
                unit=unit.symbol,
                dashed=True,
                label_at=1.0,
                label_above=not over,
            )
        self.lift.setYRange(0.0, 1.25 * max(float(unit.from_si(max(found.lift.max(), found.plate_lift.max()))), 1e-3))
        self.loose.begin(t, x_label=f"Printed height, {unit.symbol}", y_label="Let go, %")
        self.loose.add_curve("let go", height, 100.0 * found.detached, t.curves[2], unit="%", label_at=0.7)
        self.loose.setYRange(0.0, max(10.0, 110.0 * float(found.detached.max())))
        self.cracks.begin(t, x_label=f"Height, {unit.symbol}", y_label="Crack index")
        if found.crack.size and not found.stopped:
            joints = unit.from_si(found.voxels.z[1 : 1 + found.crack.size])
            self.cracks.add_curve("crack index", joints, found.crack, t.curves[3], label_at=0.5)
            self.cracks.add_line(1.0, "cracks", t.fails, vertical=False, place=0.05)
        self.cracks.setYRange(0.0, max(1.1, 1.1 * float(found.crack.max(initial=0.0))))

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
                    self._at_corner(found, int(k)), grade_high(float(found.margin[-1][k]), c.margin_wanted, 1.0),
                )
                for k in order[:MOST_CORNERS]
            ],
            t,
        )  # fmt: skip
        rows = [
            Figure("First to give way", *found.gives_way(units)),
            Figure("Highest corner, printed", show(found.printed_lift, "length", units), "",
                   State.FAILS if found.printed_lift > c.lift_limit else State.HOLDS),
            Figure("Plate off its seat", show(float(found.plate_lift.max()), "length", units), "largest gap, at its edge"),
        ]  # fmt: skip
        known = not found.stopped  # what would follow a run that stopped is not known
        cold = f"{100 * found.cold_detached:.0f} % once cold" if known else ""
        rows.append(Figure("Foot that let go", f"{100 * found.detached[-1]:.0f} %", cold))
        if known:
            state = State.FAILS if found.released_lift > c.lift_limit else State.HOLDS
            remark = "lowest to highest, best plane taken out"
            rows.insert(3, Figure("Underside after release", show(found.released_lift, "length", units), remark, state))
        if found.crack.size and known:
            index = float(found.crack.max())
            rows.append(
                Figure(
                    "Crack index",
                    f"{index:.2f}",
                    f"weakest at {show(found.weak_layer, 'length', units)}",
                    grade_low(index, 0.6, 1.0),
                )
            )
        if found.owner is not None:
            rows.insert(
                0,
                Figure(
                    "Bodies in one run", f"{found.bodies}", f"of {len(found.corners)} corners the weakest are listed"
                ),
            )
        edge = max(found.voxels.size[:2])
        if known:
            rows.append(Figure("Once cold", *self._release(found)))
        wide = f"{show(edge, 'length', units)} wide; {show_duration(found.seconds)}"
        rows.append(Figure("Boxes", f"{found.voxels.count}", wide))
        self.figures.show_figures(rows, t)
        alone = (ALONE,) if found.owner is not None else ()
        self.note.setText(" ".join([*(n[0].upper() + n[1:] + "." for n in found.notes), *alone, CAUTION]))
