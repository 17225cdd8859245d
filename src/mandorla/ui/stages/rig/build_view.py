"""What to buy for the rig, and on which days it is put together."""

from __future__ import annotations

import csv
import io
import math
from collections.abc import Sequence
from datetime import datetime
from pathlib import Path
from typing import Any

from PySide6.QtCore import QDate, Qt
from PySide6.QtWidgets import (
    QDateEdit,
    QFileDialog,
    QGridLayout,
    QHBoxLayout,
    QLabel,
    QLineEdit,
    QPushButton,
    QVBoxLayout,
    QWidget,
)

from mandorla.core.errors import InputError
from mandorla.core.results.key import Key
from mandorla.core.results.keys import MOVED_MASS
from mandorla.core.rig.build_list import Item, bill_of_materials, cost
from mandorla.core.rig.works import MORNING, Appointment, calendar
from mandorla.core.units import show, show_duration
from mandorla.ui.decimal_sign import shown
from mandorla.ui.document import Document
from mandorla.ui.stages.page import scrolling
from mandorla.ui.stages.view import View
from mandorla.ui.theme.palette import Theme, font
from mandorla.ui.widgets.form import answer, heading, panel, soft


def csv_text(items: tuple[Item, ...], days: tuple[Appointment, ...], prices: dict[str, float]) -> str:
    """Both lists as CSV."""
    out = io.StringIO()
    writer = csv.writer(out)
    writer.writerow(["group", "what", "size", "quantity", "mass_kg", "price_each"])
    for i in items:
        price = f"{prices[i.key]:.2f}" if i.key in prices else ""
        writer.writerow([i.group, i.what, i.size, i.quantity, "" if math.isnan(i.mass) else f"{i.mass:.3f}", price])
    writer.writerow([])
    writer.writerow(["begin", "end", "cured", "work", "care"])
    for a in days:
        writer.writerow([a.begin.isoformat(" "), a.end.isoformat(" "), a.free.isoformat(" "), a.work.what, a.work.care])
    return out.getvalue()


class BuildView(View):
    """Bill of materials at the left, calendar at the right."""

    key = "build"
    title = "To buy and build"

    def __init__(self, document: Document, theme: Theme) -> None:
        super().__init__(document, theme)
        self.items: tuple[Item, ...] = ()
        self.days: tuple[Appointment, ...] = ()
        body = QVBoxLayout(self.content)
        body.setContentsMargins(0, 0, 0, 0)
        top, inner = panel(8)
        row = QHBoxLayout()
        self.sentence = answer()
        row.addWidget(self.sentence, 1)
        row.addWidget(soft("Start on"))
        self.start = QDateEdit(QDate.currentDate())
        self.start.setCalendarPopup(True)
        self.start.setDisplayFormat("d MMM yyyy")
        self.start.setAccessibleName("Start of the build")
        self.start.dateChanged.connect(lambda _: self._fill())
        row.addWidget(self.start)
        self.draw_button = QPushButton("Save drawing …")
        self.draw_button.clicked.connect(self._save_drawing)
        row.addWidget(self.draw_button)
        self.save_button = QPushButton("Save as CSV …")
        self.save_button.clicked.connect(self._save)
        row.addWidget(self.save_button)
        inner.addLayout(row)
        body.addWidget(top)
        lists = QHBoxLayout()
        lists.setSpacing(10)
        self._hosts: list[QVBoxLayout] = []
        self._tables: list[QWidget | None] = [None, None]
        for text in ("Parts to buy for the rig as described", "To build, 8 to 17 o'clock; curing runs over night"):
            frame, column = panel(10)
            column.addWidget(heading(text))
            holder = QWidget()
            host = QVBoxLayout(holder)
            host.setContentsMargins(0, 0, 0, 0)
            column.addWidget(scrolling(holder), 1)
            lists.addWidget(frame, 1)
            self._hosts.append(host)
        body.addLayout(lists, 1)
        self.mass = soft()
        body.addWidget(self.mass)

    def also(self) -> tuple[Key[Any], ...]:
        """What a lighter or heavier plate does to the print."""
        return (MOVED_MASS,)

    def draw(self) -> None:
        """Show the lists of the present rig."""
        self._fill()

    def _fill(self) -> None:
        rig, units = self.document.project.rig, self.document.units
        day = self.start.date()
        self.items = bill_of_materials(rig)
        self.days = calendar(rig, datetime(day.year(), day.month(), day.day(), MORNING))
        mass = sum(i.mass for i in self.items if not math.isnan(i.mass))
        last = self.days[-1].end
        self.sentence.setText(
            f"{len(self.items)} things to buy, about {mass:.1f} kg of plates and panels. Begun on {self.days[0].begin:%-d %B}, the "
            f"rig is measured on {last:%-d %B}."
        )
        spent, known = cost(self.items, rig.prices)
        if known:
            currency = self.document.project.criteria.currency
            self.sentence.setText(
                f"{self.sentence.text()} {known} of {len(self.items)} prices are known: {spent:.2f} {currency} together."
            )
        goods = [
            (
                i.what,
                f"{i.size}" + ("" if math.isnan(i.mass) else f" · {show(i.mass, 'mass', units)}"),
                self._price_field(i),
            )
            for i in self.items
        ]
        self._table(0, goods)
        moved = self.results.value(MOVED_MASS) or ()
        self.mass.setVisible(bool(moved))
        self.mass.setText(
            "Plate, moved mass and print time: "
            + "; ".join(
                f"{show(m.thickness, 'length', units)} thick: {show(m.mass, 'mass', units)}, up to {m.acceleration:.1f} m/s², "
                f"{show_duration(m.duration)}"
                for m in moved
            )
            + "."
        )
        steps = []
        for a in self.days:
            cured = f" · cured {a.free:%a %-d %b, %H:%M}" if a.free > a.end else ""
            steps.append((a.work.what, f"{a.work.care}{cured}", f"{a.begin:%a %-d %b, %H:%M}"))
        self._table(1, steps)

    def _price_field(self, item: Item) -> QWidget:
        """How many of an item, and a place for the price of one."""
        prices = {p.item: p.each for p in self.document.project.rig.prices}
        holder = QWidget()
        row = QHBoxLayout(holder)
        row.setContentsMargins(0, 0, 0, 0)
        row.addWidget(QLabel(f"{item.quantity} ×"))
        field = QLineEdit("" if item.key not in prices else shown(f"{prices[item.key]:.2f}"))
        field.setObjectName(f"price.{item.key}")
        field.setAccessibleName(f"Price of one: {item.what}")
        field.setPlaceholderText("price")
        field.setFixedWidth(66)
        field.setAlignment(Qt.AlignmentFlag.AlignRight)
        field.editingFinished.connect(lambda: self._set_price(item.key, field))
        row.addWidget(field)
        return holder

    def _set_price(self, key: str, field: QLineEdit) -> None:
        """Take a price as it was typed; an empty field forgets it."""
        prices = {p.item: p.each for p in self.document.project.rig.prices}
        text = field.text().strip().replace(",", ".")
        try:
            typed = None if not text else float(text)
        except ValueError:
            self.document.problem.emit(f"“{field.text()}” is no price: a number, or nothing.")
            field.setText("" if key not in prices else f"{prices[key]:.2f}")
            return
        if typed == prices.get(key):
            return
        prices.pop(key, None)
        if typed is not None:
            prices[key] = typed
        try:
            self.document.edit("rig.prices", tuple({"item": k, "each": v} for k, v in prices.items()), "price")
        except InputError as error:
            self.document.problem.emit(str(error))

    def _save_drawing(self) -> None:
        name, _ = QFileDialog.getSaveFileName(
            self, "Save the drawing of the bed", "bed.pdf", "PDF (*.pdf);;SVG (*.svg)"
        )
        if name:
            self.save_drawing(Path(name))

    def save_drawing(self, path: Path) -> None:
        """Write the drawing of the bed, as SVG where the name says so, else as PDF; a full or forbidden place is told."""
        from mandorla.core.report.bed_drawing import (  # the document library takes a second to load
            drawing_pdf,
            drawing_svg,
        )

        rig = self.document.project.rig
        try:
            path.write_bytes(drawing_svg(rig) if path.suffix.lower() == ".svg" else drawing_pdf(rig))
        except OSError as error:
            self.document.problem.emit(f"“{path}” cannot be written: {error.strerror}.")
            return
        self.document.said.emit(f"Drawing saved to {path.name}.")

    def _table(self, place: int, rows: Sequence[tuple[str, str, str | QWidget]]) -> None:
        old = self._tables[place]
        if old is not None:
            self._hosts[place].removeWidget(old)
            old.hide()
            old.deleteLater()
        holder = QWidget()
        grid = QGridLayout(holder)
        grid.setContentsMargins(0, 0, 0, 0)
        grid.setVerticalSpacing(2)
        grid.setColumnStretch(0, 1)
        for r, (what, below, aside) in enumerate(rows):
            name, note = QLabel(what), soft(below)
            right = aside if isinstance(aside, QWidget) else QLabel(aside)
            name.setFont(font(9.5, strong=True))
            name.setWordWrap(True)
            right.setFont(font(9.5))
            note.setContentsMargins(0, 0, 0, 6)
            grid.addWidget(name, 2 * r, 0)
            grid.addWidget(right, 2 * r, 1, Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignTop)
            grid.addWidget(note, 2 * r + 1, 0, 1, 2)
        self._hosts[place].addWidget(holder)
        self._tables[place] = holder

    def _save(self) -> None:
        name, _ = QFileDialog.getSaveFileName(self, "Save both lists", "build-list.csv", "CSV (*.csv)")
        if name:
            self.save(Path(name))

    def save(self, path: Path) -> None:
        """Write both lists to a CSV file; a full or forbidden place is told."""
        try:
            path.write_text(
                csv_text(self.items, self.days, {p.item: p.each for p in self.document.project.rig.prices}),
                encoding="utf-8",
            )
        except OSError as error:
            self.document.problem.emit(f"“{path}” cannot be written: {error.strerror}.")
            return
        self.document.said.emit(f"Both lists saved to {path.name}.")
