"""Part: the plate that is printed on, how it holds against its temperature, how the part comes off, and the plates at hand."""

from __future__ import annotations

from typing import Any, Final

from PySide6.QtWidgets import QHBoxLayout, QPushButton

from mandorla.core.errors import InputError
from mandorla.core.materials.plate_library import coatings, plate_surfaces, side_states
from mandorla.core.part.plates import bed_layers_with
from mandorla.core.part.process import Process
from mandorla.core.results.key import Key
from mandorla.core.results.keys import PLATE_USE
from mandorla.core.units import show
from mandorla.ui.document import Document
from mandorla.ui.live_results import in_words
from mandorla.ui.plots.curves import CurvePlot
from mandorla.ui.stages.page import scrolling, side_column
from mandorla.ui.stages.part.plate_editor import PlateEditor
from mandorla.ui.stages.view import View
from mandorla.ui.theme.palette import Theme
from mandorla.ui.widgets.charts import column_that_scrolls
from mandorla.ui.widgets.fields import ChoiceEdit
from mandorla.ui.widgets.form import Form, heading, panel, soft
from mandorla.ui.widgets.step_list import StepList

_CURVES: Final = 5  # of other things that could be printed on, beside the one in use


class PlatesView(View):
    """Grip curves and the way off the plate at the left; what is printed on, and the plates at hand, at the right."""

    key = "plates"
    title = "Plates"

    def __init__(self, document: Document, theme: Theme) -> None:
        super().__init__(document, theme)
        body = QHBoxLayout(self.content)
        body.setContentsMargins(0, 0, 0, 0)
        body.setSpacing(10)
        scrolled, left = column_that_scrolls()
        frame, column = panel(8)
        self.plot_title = heading("")
        column.addWidget(self.plot_title)
        self.plot = CurvePlot("Grip against the plate's temperature", "Plate under the part, °C", "Grip, MPa")
        self.plot.setMinimumHeight(220)
        column.addWidget(self.plot, 1)
        self.foot = soft()
        column.addWidget(self.foot)
        left.addWidget(frame, 6)
        frame, column = panel(8)
        column.addWidget(heading("How the part comes off, the gentlest way first"))
        self.steps = StepList("How the part comes off")
        column.addWidget(scrolling(self.steps), 1)
        frame.setMinimumHeight(190)
        left.addWidget(frame, 5)
        body.addWidget(scrolled, 1)

        area, side = side_column(352)
        frame, self._use = panel()
        self._use.addWidget(heading("Printed on"))
        self._form: Form | None = None
        self._shape: object = None
        self.own = soft()
        self._use.addWidget(self.own)
        self.put_on = QPushButton("Put it on the machine")
        self.put_on.setToolTip("Its body takes the place of the layers that lie loose on the bed of this rig")
        self.put_on.clicked.connect(self._put_on)
        self._use.addWidget(self.put_on)
        side.addWidget(frame)
        self.editor = PlateEditor(document)
        side.addWidget(self.editor)
        side.addStretch(1)
        body.addWidget(area)
        document.project_changed.connect(self._sync)
        self._sync()

    def _sync(self) -> None:
        """Build the choices anew where other plates are at hand."""
        process = self.document.project.process
        shape = (tuple((p.key, p.name, p.back is None) for p in process.plates), process.plate)
        chosen = process.own_plate
        self.put_on.setVisible(chosen is not None)
        if shape == self._shape:
            return
        self._shape = shape
        if self._form is not None:
            self._use.removeWidget(self._form)
            self._form.hide()
            self._form.deleteLater()
        form = Form(self.document)
        plates: dict[object, str] = {"": "Any, by its surface", **{p.key: p.name for p in process.plates}}
        form.add_widget("Plate", _PlateChoice(self.document, plates))
        if chosen is None:
            surfaces: dict[object, str] = {k: s.name for k, s in plate_surfaces().items()}
            form.add_widget("Surface", ChoiceEdit(self.document, "process.surface", "Surface", surfaces))
        elif chosen.back is not None:
            form.add_widget(
                "Side up", ChoiceEdit(self.document, "process.side", "Side up", {"front": "Front", "back": "Back"})
            )
        coats: dict[object, str] = {"": "None", **{k: c.name for k, c in coatings().items()}}
        form.add_widget("Coating", ChoiceEdit(self.document, "process.coating", "Coating", coats))
        states: dict[object, str] = {k: s.name for k, s in side_states().items()}
        form.add_widget("Its state", ChoiceEdit(self.document, "process.plate_state", "Its state", states))
        self._form = form
        self._use.insertWidget(1, form)

    def _put_on(self) -> None:
        project = self.document.project
        plate = project.process.own_plate
        if plate is None:
            return
        try:
            layers = tuple(v.model_dump() for v in bed_layers_with(project.rig.bed, plate))
            self.document.edit_many({"rig.bed.layers": layers}, f"Put {plate.name} on the machine")
        except InputError as error:
            self.document.problem.emit(str(error))
            return
        self.document.said.emit(f"{plate.name} lies on the bed now; Rig shows its layers.")

    def also(self) -> tuple[Key[Any], ...]:
        """Grip of what is at hand; without it plates can be chosen and described all the same."""
        return (PLATE_USE.of(units=self.units),)

    def headline(self) -> str:
        """What is printed on, and at which temperature it holds best."""
        use, process = self.results.value(PLATE_USE.of(units=self.units)), self.project.process
        if use is None:
            error = self.results.error(PLATE_USE.of(units=self.units))
            return "" if error is None else in_words(error)
        curve = use.curves[0]
        best = float(curve.temperature[curve.grip[1].argmax()])
        text = f"{process.material().name} on {curve.name}: holds best at {show(best, 'temperature', self.units, digits=0)}"
        if use.rest == use.rest:  # there is a part
            text += f"; the plate is at {show(use.rest, 'temperature', self.units, digits=0)} under the part"
        return f"{text}. {loss_text(process)}".strip()

    def draw(self) -> None:
        """Show curves, steps and what is said of the plate."""
        use, units, t = self.results.value(PLATE_USE.of(units=self.units)), self.units, self.theme
        self._say_plate()
        if use is None:
            self.plot.begin(t)
            self.foot.setText(self.headline())
            self.steps.show_steps(())
            return
        process, unit = self.project.process, units.unit("temperature")
        self.plot_title.setText(f"Grip of {process.material().name} against the plate's temperature")
        self.plot.begin(t, x_label=f"Plate under the part, {unit.symbol}")
        own, others = use.curves[0], use.curves[1:]
        x = unit.from_si(own.temperature)
        self.plot.add_band(x, 1e-6 * own.grip[0], 1e-6 * own.grip[2], t.curves[1])
        strongest = sorted(others, key=lambda c: -float(c.grip[1].max()))[:_CURVES]
        for n, c in enumerate(strongest):
            self.plot.add_curve(
                f"{n + 1}", unit.from_si(c.temperature), 1e-6 * c.grip[1], t.curves[(n + 2) % len(t.curves)], unit="MPa",
                dashed=True, width=1.5, label_at=0.66 + 0.05 * n,
            )  # fmt: skip
        self.plot.add_curve(
            "in use", x, 1e-6 * own.grip[1], t.curves[1], unit="MPa", width=3.2, label_at=0.55, label_above=False
        )
        if use.rest == use.rest:
            self.plot.add_line(unit.from_si(use.rest), "under the part", t.ink, vertical=True, place=0.9)
        named = "; ".join(f"{n} {c.name}" for n, c in enumerate(strongest, start=1))
        self.foot.setText(
            f"Band: the 90 % range of {own.name}, in use. Dashed, the strongest of what else is at hand: {named}. All of it is "
            "known to a factor of two until your own trials narrow it; hover to read it off."
        )
        self.steps.show_steps([(s.what, s.risk) for s in use.steps])

    def _say_plate(self) -> None:
        """What wears surface, coating and body, and what renews them."""
        process = self.project.process
        surface = process.plate_surface()
        coat = process.on_top.coating
        texts = [f"{surface.name}. {surface.wear}"]
        if coat is not None:
            texts.append(f"{coat.name}. {coat.renewed} Washed off: {coat.washed_off}")
        plate = process.own_plate
        if plate is not None:
            texts.append(f"{plate.of_library().name}. {plate.of_library().care}")
        self.own.setText("\n".join(texts))


def loss_text(process: Process) -> str:
    """How much of the grip wear and dirt have taken, in words; empty where nothing has."""
    side = process.on_top.side
    texts = []
    if side is not None and process.on_top.coating is None and side.left().typical < 0.95:
        texts.append(f"wear has left {100 * side.left().typical:.0f} % of its grip")
    if process.plate_state != "clean":
        state = side_states()[process.plate_state]
        texts.append(f"{state.name.lower()} leave about {100 * state.factor.typical:.0f} %")
    if not texts:
        return ""
    text = " and ".join(texts)
    remedy = "clean it" if process.plate_state != "clean" else "another side or plate holds better"
    return f"{text[0].upper()}{text[1:]}: {remedy}."


class _PlateChoice(ChoiceEdit):
    """The plate that is printed on; another one lies with its front up, bare and clean."""

    def __init__(self, document: Document, plates: dict[object, str]) -> None:
        super().__init__(document, "process.plate", "Plate", plates)

    def _commit(self) -> None:
        values = {"process.side": "front", "process.coating": "", "process.plate_state": "clean"}
        try:
            # back to the front first: another plate may have no back
            self._document.edit_many({**values, "process.plate": self.currentData()}, "Change plate")
        except InputError as error:
            self._document.problem.emit(str(error))
            self.load()
