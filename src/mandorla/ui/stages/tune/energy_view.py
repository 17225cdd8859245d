"""Energy at the plug: power over the job, by phase and by consumer, and what scenarios and builds take more or less."""

from __future__ import annotations

from typing import Any, Final

import numpy as np
from PySide6.QtWidgets import QHBoxLayout, QSizePolicy

from mandorla.core.energy.messages import difference_text, energy_sentence, includes_text, overloaded
from mandorla.core.failure.state import State
from mandorla.core.measure.models import MeterReading
from mandorla.core.results.key import Key
from mandorla.core.results.keys import BUILD_ENERGY, ENERGY_DIFFERENCE, EVALUATION, METER_READINGS, PLUG_COURSE
from mandorla.core.rig.consumers import Doing
from mandorla.core.units import show, show_duration, show_number
from mandorla.ui.document import Document
from mandorla.ui.plots.bars import Bars
from mandorla.ui.plots.curves import CurvePlot
from mandorla.ui.stages.page import scrolling, side_column
from mandorla.ui.stages.view import View
from mandorla.ui.theme.palette import Theme
from mandorla.ui.widgets.figures import Figure, FigureList
from mandorla.ui.widgets.form import Form, heading, panel, soft
from mandorla.ui.widgets.pick_list import TextTable
from mandorla.ui.widgets.row_list import Choices, Column, RowKind, RowList

_BINS: Final = 480  # of the picture
_TITLES: Final = {
    Doing.WARM_UP: "warm-up", Doing.SOAK: "soak", Doing.PRINT: "print", Doing.COOL_DOWN: "cool-down", Doing.IDLE: "idle",
}  # fmt: skip


class EnergyView(View):
    """The course of power, a table of phases, bars of consumers, comparisons."""

    key = "energy"
    title = "Energy"
    needs_part = True

    def __init__(self, document: Document, theme: Theme) -> None:
        super().__init__(document, theme)
        body = QHBoxLayout(self.content)
        body.setContentsMargins(0, 0, 0, 0)
        body.setSpacing(10)
        frame, column = panel(8)
        column.addWidget(heading("Power at the plug"))
        self.curves = CurvePlot("Power at the plug over the job", "Hours since switching on", "Power, W")
        self.curves.setMinimumHeight(190)
        self.curves.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Ignored)
        column.addWidget(self.curves, 3)
        self.phases = TextTable("Energy by phase", ("Phase", "Takes", "Energy", "In the mean", "At most"))
        self.phases.setMinimumHeight(178)
        column.addWidget(self.phases, 2)
        self.note = soft()
        column.addWidget(self.note)
        body.addWidget(scrolling(frame, fill=True), 1)
        area, side = side_column(352)
        frame, column = panel()
        column.addWidget(heading("By consumer"))
        self.bars = Bars("Energy by consumer")
        self.bars.set_name_width(152)
        column.addWidget(self.bars)
        side.addWidget(frame)
        frame, column = panel()
        column.addWidget(heading("Against scenarios and builds"))
        self.compared = FigureList("Energy against scenarios and builds")
        column.addWidget(self.compared)
        self.none = soft(
            "Pin a scenario in the view Operating window, or add builds in Heat-up: what they take more or less stands here."
        )
        column.addWidget(self.none)
        side.addWidget(frame)
        frame, column = panel()
        column.addWidget(heading("What a meter showed"))
        self.read = FigureList("What a meter showed, against the prediction")
        column.addWidget(self.read)
        self.meter = RowList(document, _meter_rows(document))
        column.addWidget(self.meter)
        side.addWidget(frame)
        frame, column = panel()
        column.addWidget(heading("What is not known moves it by"))
        self.unknowns = FigureList("Unknowns that move the energy most")
        column.addWidget(self.unknowns)
        side.addWidget(frame)
        frame, column = panel()
        form = Form(document)
        form.add_field("criteria.taken_off")
        form.add_field("criteria.price")
        column.addWidget(form)
        side.addWidget(frame)
        side.addStretch(1)
        body.addWidget(area)

    def uses(self) -> tuple[Key[Any], ...]:
        """The evaluation and the course of power."""
        return EVALUATION, PLUG_COURSE

    def also(self) -> tuple[Key[Any], ...]:
        """Scenarios and builds beside it."""
        pinned = tuple(ENERGY_DIFFERENCE.of(scenario=s.name) for s in self.project.scenarios)
        return (METER_READINGS, *pinned, *((BUILD_ENERGY,) if self.project.builds else ()))

    def headline(self) -> str:
        """What a print takes, and what takes most of it."""
        e = self.results.last(EVALUATION)
        if e is None or e.energy is None:
            return ""
        return energy_sentence(e.energy, overloaded(e.judgement), self.project.criteria.currency, self.units)

    def draw(self) -> None:
        """Show the energy of the newest evaluation."""
        use, course, units = self.get(EVALUATION).energy, self.get(PLUG_COURSE), self.units
        if use is None:
            return
        time, total = course.running
        edges = np.linspace(0.0, float(time[-1]), _BINS + 1)
        heated = np.concatenate([[0.0], np.cumsum((course.bed + course.chamber) * course.steps)])
        x = np.repeat(edges, 2)[1:-1] / 3600.0
        self.curves.begin(self.theme)
        for name, running, color, at in (
            ("bed and chamber heater", heated, self.theme.curves[1], 0.35), ("everything", total, self.theme.curves[0], 0.75)
        ):  # fmt: skip
            power = np.diff(np.interp(edges, time, running)) / np.diff(edges)
            self.curves.add_curve(name, x, np.repeat(power, 2), color, unit="W", label_at=at, width=1.8)
        length = float(time[-1])
        ends = [(doing, end) for doing, end in course.phases[:-1] if end > 0.03 * length]
        for k, (doing, end) in enumerate(ends):  # names one below the other, for short phases stand close
            self.curves.add_line(
                end / 3600.0, f"{_TITLES[doing]} ends", self.theme.soft, vertical=True, place=0.95 - 0.11 * (k % 3)
            )
        rows = [
            [
                p.name[0].upper() + p.name[1:], show_duration(p.duration), show(p.total, "energy", units),
                show(p.power, "power", units), show(p.peak, "power", units),
            ]
            for p in use.phases
        ]  # fmt: skip
        rows.append(
            ["Together", show_duration(length), show(use.total, "energy", units), "", show(use.peak, "power", units)]
        )
        self.phases.show_rows(rows)
        hours = course.hours
        most = int(np.argmax(hours))
        self.note.setText(
            f"Counted: {includes_text(use)}. The hour that takes most is the {_ordinal(most + 1)}, "
            f"{show(float(hours[most]), 'energy', units)}. Ranges hold 90 %; how long the print really takes is not part of them."
        )
        taken = sorted(((use.names[k], use.of(k)) for k in use.names), key=lambda kv: -kv[1])
        self.bars.show_rows([(name, v, show(v, "energy", units)) for name, v in taken if v > 0.0], self.theme)
        self._show_compared()
        self._show_read()
        effects = sorted(use.effects.items(), key=lambda kv: -max(abs(v) for v in kv[1]))[:5]
        self.unknowns.show_figures(
            [
                Figure(
                    _capital(_name_of(key, dict(use.names))),
                    f"± {show(0.5 * abs(high - low), 'energy', units)}",
                    "",
                    key="energy",
                )
                for key, (low, high) in effects
            ],
            self.theme,
        )

    def _show_read(self) -> None:
        """Every reading with what is predicted for it."""
        units, rows = self.units, []
        for r in self.results.last(METER_READINGS) or ():
            power = r.reading.kind == "power"
            kind = "power" if power else "energy"
            shown = (
                show(r.low, kind, units)
                if r.low == r.high
                else f"{show_number(r.low, kind, units)}–{show(r.high, kind, units)}"
            )
            name = f"While: {r.reading.state}" if power else (
                f"{r.reading.prints} {'print' if r.reading.prints == 1 else 'prints'} in {show_duration(r.reading.span)}"
            )  # fmt: skip
            state = State.NOT_COMPUTED if r.flagged else State.HOLDS if r.agrees else State.MARGINAL
            rows.append(Figure(name, shown, r.words(units), state))
        self.read.show_figures(rows, self.theme)
        self.read.setVisible(bool(rows))

    def _show_compared(self) -> None:
        units, found = self.units, []
        for s in self.project.scenarios:
            gap = self.results.last(ENERGY_DIFFERENCE.of(scenario=s.name))
            if gap is not None:
                found.append(Figure(f"Now against {s.name}", *_apart(difference_text(gap, units))))
        for name, c in (self.results.last(BUILD_ENERGY) or {}).items() if self.project.builds else ():
            found.append(
                Figure(f"{name}: {show_number(c.use.total, 'energy', units)}", *_apart(difference_text(c.more, units)))
            )
        self.compared.show_figures(found, self.theme)
        self.compared.setVisible(bool(found))
        self.none.setVisible(not found)


def _meter_rows(document: Document) -> RowKind:
    """Readings as they are typed: watts while something is done, or a total of some hours."""
    kinds: Choices = lambda: {"power": "watts", "total": "a total"}  # noqa: E731
    states: Choices = lambda: {k: k for k in ("idle", "warm-up", "soak", "print", "cool-down")}  # noqa: E731
    whether: Choices = lambda: {False: "no", True: "yes"}  # noqa: E731
    columns = (
        Column("kind", "Read was", kinds), Column("state", "While", states), Column("power_low", "Watts, from"),
        Column("power_high", "Watts, to"), Column("energy_low", "Total, from"), Column("energy_high", "Total, to"),
        Column("prints", "Prints in the total"), Column("span", "Total is over"),
        Column("interrupted", "A print was stopped", whether),
    )  # fmt: skip
    return RowKind(
        "measurements.meter", "reading", columns, MeterReading, 60,
        "Read by eye, a range will do: what it should have shown stands beside it.",
    )  # fmt: skip


def _apart(text: str) -> tuple[str, str]:
    """A difference and its range, to stand in two places."""
    value, _, rest = text.partition(" (")
    return value, rest.rstrip(")")


def _capital(text: str) -> str:
    return text[0].upper() + text[1:]


def _ordinal(n: int) -> str:
    ending = "th" if 10 <= n % 100 <= 20 else {1: "st", 2: "nd", 3: "rd"}.get(n % 10, "th")
    return f"{n}{ending}"


def _name_of(key: str, names: dict[str, str]) -> str:
    """An unknown of the energy, in words."""
    kind, _, what = key.partition(":")
    if key in names:
        return f"{names[key]}, what it draws" if kind == "consumer" else f"{names[key]}"
    return {
        "supply": "efficiency of the bed's supply" if what == "bed" else "efficiency of the chamber heater's supply",
        "conductivity": f"conductivity of {what}", "joint": f"joint below {what}", "emissivity": f"emissivity of {what}",
        "sensor": "bed sensor's error", "power": "heater power", "panels": "what the panels let through", "films": "air films",
        "machine": "heat of motors and electronics", "chamber_sensor": "chamber sensor's error",
    }.get(kind, kind)  # fmt: skip
