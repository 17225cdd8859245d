"""The full simulation in the stage Warp: resolution and time, progress with the part as it grows, results by height and in 3-D."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import numpy as np
from PySide6.QtWidgets import QComboBox, QHBoxLayout, QPushButton, QWidget

from mandorla.core.failure.messages import margin_text, release_words
from mandorla.core.failure.words import chance_of, full_headline
from mandorla.core.results.choices import RESOLUTIONS
from mandorla.core.results.figures import key_of_way
from mandorla.core.results.key import Key
from mandorla.core.results.keys import EVALUATION, EXPECTED_TIMES, FULL_RUN, GEOMETRY, KEPT_RUN
from mandorla.core.units import show, show_duration
from mandorla.ui.document import Document
from mandorla.ui.live_results import in_words
from mandorla.ui.plots.curves import CurvePlot
from mandorla.ui.stages.page import side_column
from mandorla.ui.stages.view import View
from mandorla.ui.stages.warp.full_panels import DeformPanel, FacePanel, MeasuredPanel
from mandorla.ui.stages.warp.full_picture import FullPicture
from mandorla.ui.stages.warp.kept_panel import KeptRunsPanel
from mandorla.ui.theme.palette import Theme
from mandorla.ui.widgets.charts import Charts, column_that_scrolls
from mandorla.ui.widgets.figures import Figure, FigureList
from mandorla.ui.widgets.form import heading, panel, soft

if TYPE_CHECKING:
    from mandorla.core.results.types import FullRun, Judgement

ALONE = "Faces, a measured part and pre-deforming are for one body: simulate the hardest to hold, alone."
MOST_CORNERS = 8  # listed; of many bodies the weakest
INTRO = (
    "The whole part is built up in boxes, layer by layer, with a grip that opens and a plate that can lift; then it cools and "
    "is taken off. Choose a resolution and run it."
)
CAUTION = (
    "Grip is known to a factor of two and a magnet's pull to about as much until your own trials narrow them: take heights as "
    "an order, and what gives way first as the message. Hot plates burn: let plate and part cool before you take them off."
)


class FullView(View):
    """Runs the full simulation beside the interface and shows what it finds; a stop keeps what is there."""

    key = "full"
    title = "Full simulation"
    needs_part = True

    def __init__(self, document: Document, theme: Theme) -> None:
        super().__init__(document, theme)
        self._asked: Key[FullRun] | None = None
        self._partial: FullRun | None = None
        self._kept: Key[FullRun] | None = None  # a run of the project file that is shown in place of the newest
        self.results.gave.connect(self._grow)
        self.results.changed.connect(self._on_run)
        body = QHBoxLayout(self.content)
        body.setContentsMargins(0, 0, 0, 0)
        body.setSpacing(10)
        room, left = column_that_scrolls()
        frame, column = panel(8)
        self.sentence = soft()
        column.addWidget(self.sentence)
        self.picture = FullPicture(document)
        self._found: list[QWidget] = []  # seen once there is a result
        column.addWidget(self.picture, 1)
        left.addWidget(frame, 5)
        charts = Charts()
        self.lift = CurvePlot("Lift against printed height", "Printed height, mm", "Lift, mm")
        self.loose = CurvePlot("Detached share against printed height", "Printed height, mm", "Detached, %")
        self.cracks = CurvePlot("Crack index against height", "Height, mm", "Crack index")
        for title, plot in (
            ("Lift while it grows", self.lift), ("Detached share of the foot", self.loose), ("Crack index by height", self.cracks),
        ):  # fmt: skip
            self._found.append(charts.add(title, plot))
        self._charts_shown = [*self._found, charts]
        self._found.append(charts)
        left.addWidget(charts, 4)
        body.addWidget(room, 1)
        area, side = side_column(330)
        frame, column = panel()
        column.addWidget(heading("Resolution"))
        self.resolution = QComboBox()
        self.resolution.setAccessibleName("Resolution of the full simulation")
        for fineness in RESOLUTIONS:
            self.resolution.addItem(fineness.capitalize(), fineness)
        self.resolution.currentIndexChanged.connect(self._tell_expected)
        column.addWidget(self.resolution)
        self.which_bodies = QComboBox()
        self.which_bodies.setAccessibleName("Bodies in the full simulation")
        for which, text in (("all", "All bodies together"), ("one", "The hardest to hold, alone")):
            self.which_bodies.addItem(text, which)
        self.which_bodies.setToolTip(
            "Together they pull on one plate; alone, one body is cut finer and can be compensated."
        )
        self.which_bodies.currentIndexChanged.connect(lambda _: self._other_bodies())
        column.addWidget(self.which_bodies)
        self.expectation = soft()
        column.addWidget(self.expectation)
        row = QHBoxLayout()
        self.run_button, self.stop_button = QPushButton("Run"), QPushButton("Stop")
        self.run_button.setObjectName("primary")
        self.run_button.setAccessibleName("Run the full simulation")
        self.stop_button.setAccessibleName("Stop the full simulation")
        self.run_button.clicked.connect(self.start)
        self.stop_button.clicked.connect(self.stop)
        row.addWidget(self.run_button, 2)
        row.addWidget(self.stop_button, 1)
        column.addLayout(row)
        side.addWidget(frame)
        for title, name in (("Corners, weakest first", "corners"), ("Key figures", "figures")):
            frame, column = panel()
            column.addWidget(heading(title))
            table = FigureList(f"{title}, full simulation")
            setattr(self, name, table)
            column.addWidget(table)
            side.addWidget(frame)
            self._found.append(frame)
        self.kept = KeptRunsPanel(document)
        self.kept.picked.connect(self.show_kept)
        self.kept.keep_asked.connect(self.keep)
        side.addWidget(self.kept)
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

    corners: FigureList
    figures: FigureList

    # ---- running
    @property
    def chosen(self) -> Key[FullRun]:
        """The run that the choices name."""
        return FULL_RUN.of(resolution=self.resolution.currentData(), bodies=self.which_bodies.currentData())

    @property
    def running(self) -> bool:
        """Whether a run is under way."""
        return self._asked is not None and self.results.busy(self._asked)

    @property
    def result(self) -> FullRun | None:
        """What is shown: the run that was asked for last, the one that is kept for this project, or what there is so far."""
        if self._partial is not None:
            return self._partial
        if self._kept is not None:
            return self.results.last(self._kept)
        if self._asked is not None:
            return self.results.last(self._asked)
        return self.results.value(self.standing) if self.standing is not None else None

    @property
    def standing(self) -> Key[FullRun] | None:
        """A finished run of the project as it is: the one that was asked for, else the finest."""
        asked = [FULL_RUN.of(resolution=r, bodies=b) for r in RESOLUTIONS[::-1] for b in ("all", "one")]
        first = [] if self._asked is None else [self._asked]
        return next((key for key in (*first, *asked) if self.results.value(key) is not None), None)

    @property
    def out_of_date(self) -> str:
        """Why what is shown does not belong to the project as it is; empty where it does."""
        if self._partial is not None:
            return ""
        if self._kept is not None:
            run = next((r for r in self.project.runs if r.key == self._kept["run"]), None)
            if run is None or self.kept.stands(run):
                return ""
            return f"Results are out of date: this run was kept on {run.date}, before the project changed. "
        if self._asked is not None and self.present is None:
            return "Results are out of date: the project has changed since this run. "
        return ""

    def show_kept(self, run: str) -> None:
        """Show a run that is kept in the project."""
        self._kept, self._partial = KEPT_RUN.of(run=run), None
        self.wants_changed()
        self._on_run(KEPT_RUN.name)

    def keep(self) -> None:
        """Keep the finished run of the project as it is."""
        key = self.standing
        found = self.results.value(key) if key is not None else None
        if key is not None and found is not None:
            judged = self.results.judgement_of(key)
            if judged is not None:
                self.document.keep_run(key, full_headline(judged, found, self.units, self._tears()))

    def _can_keep(self) -> bool:
        key = self.standing
        return key is not None and self.results.results.in_file(key) is None

    def start(self) -> None:
        """Run at the chosen resolution; what is edited meanwhile does not change the run."""
        self._asked, self._partial, self._kept = self.chosen, None, None
        self.results.ask(self._asked)
        self.refresh()
        self.changed()

    def stop(self) -> None:
        """Stop the run; what there is stays."""
        if self._asked is not None:
            self.results.stop(self._asked)

    def _other_bodies(self) -> None:
        self.wants_changed()
        self.refresh()

    def _tell_expected(self) -> None:
        """How long each resolution will take, and the memory of the chosen one."""
        asked = EXPECTED_TIMES.of(bodies=self.which_bodies.currentData())
        found, error = self.results.value(asked), self.results.error(asked)
        if found is None:
            self.expectation.setText(in_words(error) if error is not None else "Timing the solver on this part …")
            return
        each = ", ".join(f"{r} {show_duration(found.seconds[r])}" for r in RESOLUTIONS)
        memory = found.memory[self.resolution.currentData()]
        self.expectation.setText(
            f"Here, to a factor of two, by timing the solver on this part: {each}. Memory {memory / 1e6:.0f} MB as chosen."
        )

    def _grow(self, name: str, found: object) -> None:
        if name == FULL_RUN.name and self.running:
            self._partial = found  # type: ignore[assignment]  # what FULL_RUN gives
            if self.isVisible() and self.drawn:
                for widget in self._charts_shown:
                    widget.setVisible(True)
                self.picture.show_run(self._partial, self.theme)
                self.picture.look_anew()
                self._charts()

    def _on_run(self, name: str) -> None:
        if name not in (FULL_RUN.name, KEPT_RUN.name):
            return
        if self._asked is not None and self.results.value(self._asked) is not None:
            self._partial = None
        if self.isVisible():
            self.refresh()
            self.picture.look_anew()
            self.changed()

    # ---- showing
    def uses(self) -> tuple[Key[Any], ...]:
        """The quick estimate, which the run is compared with."""
        return EVALUATION, GEOMETRY

    def also(self) -> tuple[Key[Any], ...]:
        """How long a run will take, and a kept run that is shown."""
        expected = EXPECTED_TIMES.of(bodies=self.which_bodies.currentData())
        return (expected,) if self._kept is None else (expected, self._kept)

    def draw(self) -> None:
        """Show the newest result and whether it still belongs to the project."""
        e, geometry, units = self.get(EVALUATION), self.get(GEOMETRY), self.units
        self.run_button.setEnabled(not self.running)
        self.stop_button.setEnabled(self.running)
        assert geometry is not None
        self.which_bodies.setVisible(geometry.sections.bodies > 1)
        self._tell_expected()
        self.kept.show_list(can_keep=self._can_keep())
        if e.warp is not None:
            self.sentence.setText(
                f"The quick estimate of the same state: hold margin {margin_text(e.warp.margin)}, corner "
                f"{show(e.warp.printed_lift, 'length', units)} at the end, "
                f"{show(abs(e.warp.released_lift), 'length', units)} flatness after release."
            )
        found = self.result
        for widget in self._found:
            widget.setVisible(found is not None)
        self.picture.show_run(found, self.theme)
        if found is None:
            return
        self._charts_shown[2].setVisible(not found.stopped and found.crack.size > 0)
        self._charts()
        self._tables()
        whole = self._partial is None
        for extra in (self.face_panel, self.measured, self.deform):
            extra.show_run(found, self._asked or self.chosen, self.theme)
            extra.setVisible(whole and not self.out_of_date and not found.stopped and found.owner is None)

    @property
    def present(self) -> FullRun | None:
        """The finished run, if it belongs to the project as it is."""
        return self.results.value(self._asked) if self._asked is not None else None

    def _at_corner(self, found: FullRun, k: int) -> str:
        """What is said beside a corner's margin; of several bodies where it is, too."""
        units = self.document.units
        text = f"lift {show(float(found.lift[-1][k]), 'length', units)}"
        if found.owner is None:
            return text
        x, y = (show(float(v), "length", units, digits=0) for v in (found.corners[k].x, found.corners[k].y))
        return f"{text}, at {x}, {y}"

    def _tears(self) -> bool:
        part = self.get(EVALUATION).part
        return part is not None and part.bonds_too_strongly

    def _release(self, found: FullRun) -> tuple[str, str]:
        tears, off = self._tears(), found.cold_detached > 0.5
        short = "comes off" if off else "tears the plate" if tears else "needs a flex"
        return short, release_words(off, tears)

    def headline(self) -> str:
        """The sentence above the view."""
        if self.results.last(EVALUATION) is None:
            return ""
        found, units = self.result, self.units
        if self.running:
            return "The full simulation is running …"
        error = self.results.error(self._asked) if self._asked is not None else None
        if error is not None:
            return in_words(error)
        if found is None:
            return INTRO
        if self._partial is not None:
            height, lift = (show(float(v), "length", units) for v in (found.height[-1], found.printed_lift))
            return f"Stopped at {height} of height; up to there the highest corner is {lift} up."
        return self.out_of_date + self._said(found)

    def _said(self, found: FullRun) -> str:
        """What the run says: the judgement by it where it is of the project as it is, else what was said when it was kept."""
        judged = self._judged()
        if judged is not None:
            return full_headline(judged, found, self.units, self._tears())
        kept = next((r for r in self.project.runs if self._kept is not None and r.key == self._kept["run"]), None)
        lift = show(found.printed_lift, "length", self.units)
        return kept.says if kept is not None else f"The highest corner was {lift} up at the end of the print."

    def _judged(self) -> Judgement | None:
        if self.out_of_date or self._partial is not None:
            return None
        key = self._asked if self._asked is not None and self.present is not None else self.standing
        return self.results.judgement_of(key) if key is not None else None

    def _charts(self) -> None:
        found, t, units = self.result, self.theme, self.units
        if found is None:
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
        self.loose.begin(t, x_label=f"Printed height, {unit.symbol}", y_label="Detached, %")
        self.loose.add_curve("detached", height, 100.0 * found.detached, t.curves[2], unit="%", label_at=0.7)
        self.loose.setYRange(0.0, max(10.0, 110.0 * float(found.detached.max())))
        self.cracks.begin(t, x_label=f"Height, {unit.symbol}", y_label="Crack index")
        if found.crack.size and not found.stopped:
            joints = unit.from_si(found.voxels.z[1 : 1 + found.crack.size])
            self.cracks.add_curve("crack index", joints, found.crack, t.curves[3], label_at=0.5)
            self.cracks.add_line(1.0, "cracks", t.fails, vertical=False, place=0.05)
        self.cracks.setYRange(0.0, max(1.1, 1.1 * float(found.crack.max(initial=0.0))))

    def _tables(self) -> None:
        found, t, units = self.result, self.theme, self.units
        assert found is not None
        order = np.argsort(found.corner_margins)
        self.corners.show_figures(
            [
                Figure(
                    found.corners[k].name, margin_text(float(found.corner_margins[k])),
                    self._at_corner(found, int(k)), None, "hold_margin",
                )
                for k in order[:MOST_CORNERS]
            ],
            t,
        )  # fmt: skip
        rows = [
            Figure("Highest corner, printed", show(found.printed_lift, "length", units), key="lift"),
            Figure("Plate off its seat", show(float(found.plate_lift.max()), "length", units), "largest gap, at its edge"),
        ]  # fmt: skip
        judged = self._judged()
        if judged is not None:
            ways = [(k, a) for k, a in judged.counted.items() if a.source == "full"]
            rows = [Figure(judged.titles[k], chance_of(a), "", a.state, key_of_way(k)) for k, a in ways] + rows
        known = not found.stopped  # what would follow a run that stopped is not known
        cold = f"{100 * found.cold_detached:.0f} % once cold" if known else ""
        rows.append(Figure("Detached share of the foot", f"{100 * found.detached[-1]:.0f} %", cold))
        if known:
            remark = "lowest to highest, best plane taken out"
            rows.insert(
                3,
                Figure(
                    "Underside after release",
                    show(found.released_lift, "length", units),
                    remark,
                ),
            )
        if found.crack.size and known:
            index = float(found.crack.max())
            rows.append(
                Figure(
                    "Crack index",
                    f"{index:.2f}",
                    f"weakest at {show(found.weak_layer, 'length', units)}",
                    key="crack_index",
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
