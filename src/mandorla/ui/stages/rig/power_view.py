"""What the machine draws at the plug besides its heaters: consumers, what each draws in which state, what warms the chamber."""

from __future__ import annotations

from typing import Final

from PySide6.QtWidgets import QComboBox, QHBoxLayout, QPushButton, QVBoxLayout, QWidget

from mandorla.core.errors import InputError
from mandorla.core.rig.bed import free_key
from mandorla.core.rig.consumers import (
    ASSUMED,
    DOING_NAMES,
    Consumer,
    Doing,
    bed_supply,
    chamber_supply,
    consumers_of,
    drawn,
    own_heat,
)
from mandorla.core.units import show, show_number
from mandorla.ui.document import Document
from mandorla.ui.plots.bars import Bars
from mandorla.ui.stages.page import scrolling, side_column
from mandorla.ui.stages.view import View
from mandorla.ui.theme.palette import Theme
from mandorla.ui.widgets.form import Form, answer, heading, panel, soft
from mandorla.ui.widgets.pick_list import TextTable

_STATES: Final = (Doing.IDLE, Doing.WARM_UP, Doing.SOAK, Doing.PRINT, Doing.COOL_DOWN)
_NEW: Final = {  # name, W, states, heat inside
    "dryer": ("Filament dryer", 50.0, {"warm_up": 1.0, "soak": 1.0, "printing": 1.0}, 0.0),
    "filter": ("Air filter", 6.0, {"soak": 1.0, "printing": 1.0, "cool_down": 1.0}, 1.0),
    "camera": ("Camera", 4.0, {"idle": 1.0, "warm_up": 1.0, "soak": 1.0, "printing": 1.0, "cool_down": 1.0}, 1.0),
    "computer": (
        "Small computer",
        8.0,
        {"idle": 1.0, "warm_up": 1.0, "soak": 1.0, "printing": 1.0, "cool_down": 1.0},
        0.0,
    ),
    "other": ("Other", 10.0, {"printing": 1.0}, 0.0),
}
SAFE: Final = (
    "A plug meter stands between plug and machine. Nothing is measured inside an open supply or at mains terminals except by a "
    "qualified electrician."
)


class PowerView(View):
    """A table of consumers by state, the form of the picked one, and the sums."""

    key = "power"
    title = "What it draws"

    def __init__(self, document: Document, theme: Theme) -> None:
        super().__init__(document, theme)
        self._picked = 0
        self._shape: object = None
        self._form: Form | None = None
        body = QHBoxLayout(self.content)
        body.setContentsMargins(0, 0, 0, 0)
        body.setSpacing(10)
        frame, column = panel(8)
        self.sentence = answer()
        column.addWidget(self.sentence)
        self.table = TextTable("Consumers", ("Consumer", "Draws", *(_in_table(d) for d in _STATES), "In the chamber"))
        self.table.itemSelectionChanged.connect(self._pick)
        self.table.setMinimumHeight(178)
        column.addWidget(self.table, 3)
        row = QHBoxLayout()
        self.own_button = QPushButton("State own figures")
        self.own_button.clicked.connect(self.state_own)
        row.addWidget(self.own_button)
        self.kind = QComboBox()
        self.kind.setAccessibleName("Kind of a new consumer")
        for key, (name, *_) in _NEW.items():
            self.kind.addItem(name, key)
        row.addWidget(self.kind)
        self.add_button, self.remove_button = QPushButton("Add"), QPushButton("Remove")
        self.add_button.setAccessibleName("Add a consumer")
        self.remove_button.setAccessibleName("Remove the picked consumer")
        self.add_button.clicked.connect(self.add)
        self.remove_button.clicked.connect(self.remove)
        row.addWidget(self.add_button)
        row.addWidget(self.remove_button)
        row.addStretch(1)
        column.addLayout(row)
        column.addWidget(heading("Besides bed, chamber heater and hot end"))
        self.sums = Bars("Power besides bed, chamber heater and hot end, by state")
        column.addWidget(self.sums)
        column.addWidget(soft(SAFE))
        body.addWidget(scrolling(frame, fill=True), 1)
        area, side = side_column(330)
        frame, self._host = panel()
        side.addWidget(frame)
        frame, column = panel()
        column.addWidget(heading("Hot end and supplies"))
        form = Form(document)
        for name, caption in (("low", "Hot end loses at least"), ("typical", "typically"), ("high", "at most, W/K")):
            form.add_field(f"rig.plug.hot_end.{name}", caption)
        form.add_field("rig.plug.hot_end_inside")
        column.addWidget(form)
        self.supplies = soft()
        column.addWidget(self.supplies)
        self.supply_button = QPushButton("State the supplies' efficiency")
        self.supply_button.clicked.connect(self.state_supplies)
        column.addWidget(self.supply_button)
        self._supply_host = QVBoxLayout()
        self._supply_form: QWidget | None = None
        column.addLayout(self._supply_host)
        side.addWidget(frame)
        side.addStretch(1)
        body.addWidget(area)
        document.project_changed.connect(self._sync)
        self._sync()

    # ---- showing
    def _sync(self) -> None:
        """Make the forms anew where there are other fields."""
        plug = self.document.project.rig.plug
        shape = (plug.consumers is not None, len(consumers_of(self.document.project.rig)), self._picked,
                 plug.bed_supply is not None, plug.chamber_supply is not None)  # fmt: skip
        if shape == self._shape:
            return
        self._shape = shape
        self._show_form()
        self._show_supplies()

    def draw(self) -> None:
        """Show the consumers of the present rig."""
        rig, units = self.project.rig, self.units
        consumers = consumers_of(rig)
        assumed = rig.plug.consumers is None
        self._sync()

        def watts(c: Consumer, doing: Doing) -> str:
            share = c.share(doing)
            return show_number(c.power * share, "power", units) if share > 0.0 else "–"

        self.table.blockSignals(True)
        self.table.show_rows(
            [
                [
                    c.name,
                    f"{show_number(c.power_low, 'power', units)}–{show(c.power_high, 'power', units)}",
                    *(watts(c, d) for d in _STATES),
                    f"{100.0 * c.inside:.0f} %" if rig.chamber.enclosed else "–",
                ]
                for c in consumers
            ]
        )
        self.table.selectRow(min(self._picked, len(consumers) - 1))
        self.table.blockSignals(False)
        most = max(consumers, key=lambda c: c.power * c.share(Doing.PRINT), default=None)
        idle, busy = drawn(rig, Doing.IDLE), drawn(rig, Doing.PRINT)
        heat = own_heat(rig, Doing.PRINT)
        text = f"Besides its heaters it draws {show(idle, 'power', units)} idle and {show(busy, 'power', units)} while it prints"
        text += f", most of it for “{most.name.lower()}”." if most is not None else "."
        if rig.chamber.enclosed:
            text += f" {show(heat.lower + heat.upper, 'power', units)} of that warm the chamber's air, the hot end not counted."
        origin = f"All figures are {ASSUMED}: a plug meter tells." if assumed else ""
        self.sentence.setText(f"{text} {origin}".strip())
        self.own_button.setVisible(assumed)
        for widget in (self.kind, self.add_button, self.remove_button):
            widget.setVisible(not assumed)
        self.remove_button.setEnabled(bool(consumers))
        self.sums.show_rows(
            [
                (DOING_NAMES[d][0].upper() + DOING_NAMES[d][1:], drawn(rig, d), show(drawn(rig, d), "power", units))
                for d in Doing
            ],
            self.theme,
        )
        bed, chamber = bed_supply(rig), chamber_supply(rig)
        said = f"Of the plug's power {100 * bed.low:.0f} to {100 * bed.high:.0f} % become heat of the bed"
        if rig.heats_chamber:
            said += f", {100 * chamber.low:.0f} to {100 * chamber.high:.0f} % heat of the chamber's heater"
        plug = rig.plug
        self.supplies.setText(
            f"{said}; {'assumed by the kind of heater' if plug.bed_supply is None else 'stated'}. Mains through a relay "
            "loses hardly anything, a low-voltage supply some 12 %."
        )
        self.supply_button.setVisible(plug.bed_supply is None)

    def _pick(self) -> None:
        rows = self.table.selectionModel().selectedRows()
        if rows and rows[0].row() != self._picked:
            self._picked = rows[0].row()
            self._sync()

    def _show_form(self) -> None:
        if self._form is not None:
            self._host.removeWidget(self._form)
            self._form.hide()
            self._form.deleteLater()
        form, rig = Form(self.document), self.document.project.rig
        consumers = consumers_of(rig)
        self._picked = min(self._picked, max(0, len(consumers) - 1))
        if consumers:
            picked = consumers[self._picked]
            form.add_wide(heading(picked.name))
            form.add_wide(soft(picked.origin[0].upper() + picked.origin[1:]))
        if rig.plug.consumers is None:
            form.add_wide(
                soft("These figures cannot be changed one by one: state your own first, they start from these.")
            )
        elif consumers:
            base = f"rig.plug.consumers.{self._picked}"
            form.add_field(f"{base}.name", "Name")
            for name in ("power_low", "power", "power_high"):
                form.add_field(f"{base}.{name}")
            form.add_wide(heading("Share of it, by state"))
            for doing in Doing:
                form.add_field(f"{base}.{doing.value}")
            form.add_wide(heading("Where its heat goes"))
            for name in ("inside", "upper"):
                form.add_field(f"{base}.{name}")
        self._host.addWidget(form)
        self._form = form

    def _show_supplies(self) -> None:
        if self._supply_form is not None:
            self._supply_host.removeWidget(self._supply_form)
            self._supply_form.hide()
            self._supply_form.deleteLater()
        form, plug = Form(self.document), self.document.project.rig.plug
        for path, supply, name in (
            ("bed_supply", plug.bed_supply, "Bed"),
            ("chamber_supply", plug.chamber_supply, "Chamber heater"),
        ):
            if supply is not None:
                form.add_wide(heading(f"{name}: heat over the plug's power"))
                for end in ("low", "typical", "high"):
                    form.add_field(f"rig.plug.{path}.{end}")
        self._supply_host.addWidget(form)
        self._supply_form = form

    # ---- editing
    def _set(self, path: str, value: object, what: str) -> None:
        try:
            self.document.edit(path, value, what)
        except InputError as error:
            self.document.problem.emit(str(error))

    def _set_consumers(self, consumers: tuple[Consumer, ...], what: str) -> None:
        self._set("rig.plug.consumers", tuple(c.model_dump() for c in consumers), what)

    def state_own(self) -> None:
        """Take the assumed consumers over as figures that can be changed."""
        self._set_consumers(consumers_of(self.project.rig), "own consumers")

    def state_supplies(self) -> None:
        """Take the assumed efficiencies over as figures that can be changed."""
        rig = self.project.rig
        found = {"bed_supply": bed_supply(rig).model_dump(), "chamber_supply": chamber_supply(rig).model_dump()}
        try:
            self.document.edit_many({f"rig.plug.{k}": v for k, v in found.items()}, "efficiency of the supplies")
        except InputError as error:
            self.document.problem.emit(str(error))

    def add(self) -> None:
        """Add a consumer of the chosen kind."""
        name, power, states, inside = _NEW[str(self.kind.currentData())]
        consumers = consumers_of(self.project.rig)
        made = Consumer(
            key=free_key(name, {c.key for c in consumers}), name=name, power_low=0.6 * power, power=power,
            power_high=1.6 * power, inside=inside, origin=ASSUMED, **({"printing": 0.0} | states),
        )  # fmt: skip
        self._picked = len(consumers)
        self._set_consumers((*consumers, made), "a consumer")

    def remove(self) -> None:
        """Remove the picked consumer."""
        consumers = consumers_of(self.project.rig)
        self._set_consumers(tuple(c for i, c in enumerate(consumers) if i != self._picked), "a consumer")


def _in_table(doing: Doing) -> str:
    name = DOING_NAMES[doing]
    return f"{name[0].upper()}{name[1:]}"
