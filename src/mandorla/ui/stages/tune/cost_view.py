"""What a job and a good part cost: prices by the hour, filament, machine hours, failures, carbon dioxide, what builds pay back."""

from __future__ import annotations

import math
from typing import Any

from PySide6.QtWidgets import QHBoxLayout, QPushButton, QSizePolicy, QVBoxLayout, QWidget

from mandorla.core.energy.messages import clock_text, jobs_text, money_sentence, pays_text
from mandorla.core.errors import InputError
from mandorla.core.results.key import Key
from mandorla.core.results.keys import BUILD_ENERGY, EVALUATION, MONEY
from mandorla.core.rig.tariff import DAY, TariffBand
from mandorla.core.units import show
from mandorla.ui.document import Document
from mandorla.ui.plots.curves import CurvePlot
from mandorla.ui.stages.page import scrolling, side_column
from mandorla.ui.stages.view import View
from mandorla.ui.theme.palette import Theme
from mandorla.ui.widgets.figures import Figure, FigureList
from mandorla.ui.widgets.form import Form, heading, panel, soft


class CostView(View):
    """Cost by the hour of switching on, what a good part is made of, the prices."""

    key = "cost"
    title = "Cost"
    needs_part = True

    def __init__(self, document: Document, theme: Theme) -> None:
        super().__init__(document, theme)
        self._shape: object = None
        self._form: QWidget | None = None
        body = QHBoxLayout(self.content)
        body.setContentsMargins(0, 0, 0, 0)
        body.setSpacing(10)
        frame, column = panel(8)
        column.addWidget(heading("Electricity of a job by when it is switched on"))
        self.curves = CurvePlot("Cost of a job's electricity by when it is switched on", "Time of day, h", "Cost")
        self.curves.setMinimumHeight(190)
        self.curves.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Ignored)
        column.addWidget(self.curves, 1)
        self.parts = FigureList("What a good part costs")
        column.addWidget(heading("What a good part costs"))
        column.addWidget(self.parts)
        self.note = soft(
            "A job that fails counts as run to its end, its filament and hours as lost. Wear, space and the time to take a part "
            "off are not counted unless they are in the price of an hour."
        )
        column.addWidget(self.note)
        body.addWidget(scrolling(frame, fill=True), 1)
        area, side = side_column(340)
        frame, column = panel()
        column.addWidget(heading("Prices of electricity"))
        self._host = QVBoxLayout()
        column.addLayout(self._host)
        row = QHBoxLayout()
        self.add_button, self.flat_button = QPushButton("Price by time of day"), QPushButton("One price")
        self.add_button.clicked.connect(self.add_band)
        self.flat_button.clicked.connect(self.one_price)
        row.addWidget(self.add_button)
        row.addWidget(self.flat_button)
        column.addLayout(row)
        form = Form(document)
        for name in ("starts_at", "demand", "carbon"):
            form.add_field(f"criteria.tariff.{name}")
        column.addWidget(form)
        side.addWidget(frame)
        frame, column = panel()
        column.addWidget(heading("Other costs"))
        form = Form(document)
        for path in ("criteria.costs.filament", "criteria.costs.hour", "criteria.costs.jobs", "criteria.currency"):
            form.add_field(path, "Currency" if path.endswith("currency") else None)
        column.addWidget(form)
        side.addWidget(frame)
        frame, column = panel()
        column.addWidget(heading("What builds pay back"))
        self.pays = FigureList("What builds pay back")
        column.addWidget(self.pays)
        self._price_host = QVBoxLayout()
        self._price_form: Form | None = None
        column.addLayout(self._price_host)
        self.no_builds = soft(
            "Add builds (another plate, insulation, enclosure) in Heat-up, Compare builds, and state what each costs."
        )
        column.addWidget(self.no_builds)
        side.addWidget(frame)
        side.addStretch(1)
        body.addWidget(area)
        document.project_changed.connect(self._sync)
        self._sync()

    # ---- results
    def _money(self) -> Key[Any]:
        return MONEY.of(**dict(self.results.judgement_key().parameters))

    def uses(self) -> tuple[Key[Any], ...]:
        """The evaluation and the money."""
        return EVALUATION, self._money()

    def also(self) -> tuple[Key[Any], ...]:
        """The builds beside it."""
        return (BUILD_ENERGY,) if self.project.builds else ()

    def headline(self) -> str:
        """What a good part costs, and whether another hour is cheaper."""
        money = self.results.last(self._money())
        if money is None:
            return ""
        criteria = self.project.criteria
        return money_sentence(money.job, money.good, criteria.tariff.starts_at, criteria.currency)

    def draw(self) -> None:
        """Show the cost of the newest evaluation."""
        money, units, criteria = self.get(self._money()), self.units, self.project.criteria
        if money is None:
            return
        job, good, currency = money.job, money.good, criteria.currency
        self._sync()
        self.curves.begin(self.theme, y_label=f"Cost, {currency}")
        self.curves.add_curve(
            "cost of a job", job.starts / 3600.0, job.costs, self.theme.curves[0], unit=currency, label_at=0.5
        )
        for at, text, place in (
            (criteria.tariff.starts_at, "as stated", 0.95), (job.best_start, "cheapest", 0.82)
        ):  # fmt: skip
            if text == "as stated" or job.worst - job.best > 0.005:
                self.curves.add_line(
                    at / 3600.0, f"{text}, {clock_text(at)}", self.theme.soft, vertical=True, place=place
                )
        self.curves.setXRange(0.0, 24.0)
        self.curves.setYRange(0.0, max(1.15 * job.worst, 0.01))

        def amount(value: float) -> str:
            return f"{value:.2f} {currency}" if math.isfinite(value) else "–"

        rows = [
            Figure(
                "Together",
                amount(good.total),
                f"{jobs_text(good.jobs)} jobs for each good part" if math.isfinite(good.jobs) else "",
            ),
            Figure(
                "Electricity",
                amount(good.energy),
                f"{amount(job.energy)} a job, switched on at {clock_text(criteria.tariff.starts_at)}",
            ),
            Figure("Filament", amount(good.filament), "what a jam or a spool's end costs is not part of it"),
            Figure(
                "Machine and care",
                amount(good.hours),
                "no price of an hour is stated" if criteria.costs.hour <= 0.0 else "",
            ),
            Figure(
                "Carbon dioxide of a job",
                show(job.carbon, "mass", units),
                f"at {show(criteria.tariff.carbon, 'carbon', units)}",
            ),
        ]
        if criteria.tariff.demand > 0.0:
            rows.append(
                Figure(
                    "Demand charge",
                    amount(job.demand),
                    f"a month, if its {show(job.quarter, 'power', units)} are the highest quarter of an hour",
                )
            )
        self.parts.show_figures(rows, self.theme)
        found = (self.results.last(BUILD_ENERGY) or {}) if self.project.builds else {}
        ranked = sorted(found.items(), key=lambda kv: kv[1].pays.years.value if kv[1].pays is not None else math.inf)
        self.pays.show_figures(
            [Figure(name, "", pays_text(c.pays, currency)) for name, c in ranked if c.pays is not None], self.theme
        )
        self.no_builds.setVisible(not self.project.builds)

    # ---- prices
    def _sync(self) -> None:
        """Make the forms anew where there are other fields."""
        project = self.document.project
        bands = project.criteria.tariff.bands
        shape = (len(bands), tuple(b.name for b in project.builds))
        self.flat_button.setVisible(bool(bands))
        self.add_button.setText("Split the last price" if bands else "Price by time of day")
        if shape == self._shape:
            return
        self._shape = shape
        for host, old in ((self._host, self._form), (self._price_host, self._price_form)):
            if old is not None:
                host.removeWidget(old)
                old.hide()
                old.deleteLater()
        form = Form(self.document)
        if not bands:
            form.add_field("criteria.price", "One price all day")
        for i in range(len(bands)):
            form.add_wide(heading(f"Price {i + 1}"))
            for name in ("starts", "ends", "price"):
                form.add_field(f"criteria.tariff.bands.{i}.{name}")
        self._host.addWidget(form)
        self._form = form
        prices = Form(self.document)
        for i, build in enumerate(project.builds):
            prices.add_field(f"builds.{i}.invested", f"{build.name} costs")
        self._price_host.addWidget(prices)
        self._price_form = prices

    def _set_bands(self, bands: tuple[TariffBand, ...]) -> None:
        try:
            self.document.edit("criteria.tariff.bands", tuple(b.model_dump() for b in bands), "prices by time of day")
        except InputError as error:
            self.document.problem.emit(str(error))

    def add_band(self) -> None:
        """Day and night first; then the last price is split in the middle of its hours."""
        criteria = self.project.criteria
        bands = criteria.tariff.bands
        if not bands:
            day, night = 6 * 3600.0, 22 * 3600.0
            self._set_bands(
                (
                    TariffBand(starts=day, ends=night, price=criteria.price),
                    TariffBand(starts=night, ends=day, price=0.7 * criteria.price),
                )
            )
            return
        last = bands[-1]
        middle = (last.starts + 0.5 * ((last.ends - last.starts) % DAY or DAY)) % DAY
        self._set_bands(
            (*bands[:-1], last.model_copy(update={"ends": middle}), last.model_copy(update={"starts": middle}))
        )

    def one_price(self) -> None:
        """Back to one price all day."""
        self._set_bands(())
