"""Fair comparison: two prints or groups side by side, what differed first; conclusions with their evidence."""

from __future__ import annotations

import re
from typing import Any

from PySide6.QtWidgets import QGridLayout, QHBoxLayout, QLabel

from mandorla.core.errors import InputError
from mandorla.core.logbook.compare_prints import Fair, compare_groups
from mandorla.core.logbook.messages import outcome_text
from mandorla.core.logbook.records import Conclusion, Print
from mandorla.core.project.paths import meaning_at
from mandorla.core.units import show
from mandorla.ui.document import Document
from mandorla.ui.stages.logbook.log_view import LogView, button, line
from mandorla.ui.stages.page import scrolling, side_column
from mandorla.ui.theme.palette import Theme, font
from mandorla.ui.widgets.fields import refuse
from mandorla.ui.widgets.form import heading, panel, soft
from mandorla.ui.widgets.pick_list import TextTable


class CompareView(LogView):
    """Two groups at the left, conclusions at the right."""

    key = "compare"
    title = "Compare"

    def __init__(self, document: Document, theme: Theme) -> None:
        super().__init__(document, theme)
        self._fair: Fair | None = None
        self._groups: tuple[list[Print], list[Print]] = ([], [])
        body = QHBoxLayout(self.content)
        body.setContentsMargins(0, 0, 0, 0)
        body.setSpacing(10)
        frame, column = panel(8)
        grid = QGridLayout()
        self.first, self.second = line("First group", "print numbers: 3, 4, 7"), line("Second group", "9, 12")
        for r, (caption, edit) in enumerate((("First", self.first), ("Second", self.second))):
            label = QLabel(caption)
            label.setFont(font(9.5))
            grid.addWidget(label, r, 0)
            grid.addWidget(edit, r, 1)
            edit.editingFinished.connect(self.compare)
        column.addLayout(grid)
        self.answer = soft()
        self.answer.setObjectName("stale")
        column.addWidget(self.answer)
        self.table = TextTable(
            "What differed",
            ("What differed", "First", "Second"),
            "Enter the numbers of two prints, or of two groups, above",
        )
        column.addWidget(self.table, 1)
        self.outcomes = soft()
        column.addWidget(self.outcomes)
        body.addWidget(scrolling(frame, fill=True), 1)
        area, side = side_column(372)
        frame, column = panel()
        column.addWidget(heading("Conclude"))
        self.text = line("Conclusion", "What follows from it")
        column.addWidget(self.text)
        self.conclude_button = button("Keep this conclusion", self.conclude, first=True)
        column.addWidget(self.conclude_button)
        side.addWidget(frame)
        frame, column = panel()
        column.addWidget(heading("Conclusions"))
        self.list = TextTable("Conclusions", ("Conclusion", "Strength"), "None was kept yet")
        self.list.setWordWrap(True)
        self.list.setMinimumHeight(150)
        self.list.itemSelectionChanged.connect(self._show_conclusion)
        column.addWidget(self.list)
        self.about = soft()
        column.addWidget(self.about)
        self.why = line("Why it is withdrawn", "Why it is withdrawn")
        self.withdraw_button = button("Withdraw it", self.withdraw)
        column.addWidget(self.why)
        column.addWidget(self.withdraw_button)
        side.addWidget(frame)
        side.addStretch(1)
        body.addWidget(area)

    def headline(self) -> str:
        """What can be concluded."""
        if self._fair is not None:
            return self._fair.sentence
        return "Two prints, or two groups of prints, side by side: what differed comes first."

    def draw(self) -> None:
        """Show comparison and conclusions."""
        if self._groups[0] and self._groups[1]:
            numbers = [[p.number for p in g] for g in self._groups]
            self._groups = tuple([p for p in self.shown.prints if p.number in n] for n in numbers)  # type: ignore[assignment]
            self._compute()
        rows = []
        for c in reversed(self.shown.conclusions):
            stale = self.shown.stale.get(c.key, "")
            mark = "withdrawn: " if c.withdrawn else "out of date: " if stale else ""
            strength = "–" if c.strength is None else f"{100 * c.strength:.0f} %"
            rows.append([f"{mark}{c.text}", strength])
        self.list.blockSignals(True)
        self.list.show_rows(rows)
        for r, c in enumerate(reversed(self.shown.conclusions)):
            item = self.list.item(r, 0)
            if item is not None and c.withdrawn:
                struck = item.font()
                struck.setStrikeOut(True)
                item.setFont(struck)
        if rows:
            self.list.selectRow(0)
        self.list.resizeRowsToContents()
        self.list.blockSignals(False)
        self._show_conclusion()

    # ---- comparing
    def _group(self, text: str) -> list[Print]:
        if not re.fullmatch(r"\s*\d{1,9}(\s*[, ]\s*\d{1,9})*\s*", text):
            raise InputError(f"“{text.strip()}” is no group of print numbers: write 3, 4, 7.")
        found = []
        for number in re.findall(r"\d+", text):
            p = next((q for q in self.shown.prints if q.number == int(number)), None)
            if p is None:
                raise InputError(f"There is no print number {number}.")
            found.append(p)
        return found

    def compare(self) -> None:
        """Compare the two groups that are typed."""
        groups: list[list[Print]] = []
        for edit in (self.first, self.second):
            refuse(edit, False)
            if not edit.text().strip():
                return
            try:
                groups.append(self._group(edit.text()))
            except InputError as error:
                refuse(edit, True)
                self.answer.setText(str(error))
                return
        self._groups = (groups[0], groups[1])
        self.answer.clear()
        self._compute()
        self.changed()

    def _label(self, path: str) -> str:
        try:
            meaning = meaning_at(self.project, path)
        except InputError:
            return path
        return meaning.title if meaning is not None else path.rpartition(".")[2].replace("_", " ")

    def _value(self, path: str, text: str) -> str:
        """A value of a print's setup in the units that are shown."""
        try:
            meaning = meaning_at(self.project, path)
            values = [float(v) for v in text.split(", ")]
        except (InputError, ValueError):
            return text
        return ", ".join(show(v, meaning.kind, self.units) for v in values) if meaning is not None else text

    def _compute(self) -> None:
        s = self.shown
        paths = {path for g in self._groups for p in g for path in p.setup}
        labels = {path: self._label(path) for path in paths} | {"rig": "Rig", "part": "Part", "room": "Room"}
        self._fair = compare_groups(*self._groups, s.used, s.machines, s.plates, s.spools, labels)
        self.table.show_rows([
            [d.name, self._value(d.path, d.first), self._value(d.path, d.second)] for d in self._fair.differences
        ])  # fmt: skip
        each = [", ".join(f"{p.number} {outcome_text(p.outcome, self.units)}" for p in g) for g in self._groups]
        self.outcomes.setText(f"First: {each[0]}\nSecond: {each[1]}")
        self.conclude_button.setEnabled(len(self._fair.differences) <= 1)

    # ---- conclusions
    def conclude(self) -> None:
        """Keep what is typed as a conclusion, with the compared prints as its evidence."""
        text = self.text.text().strip()
        refuse(self.text, not text)
        if not text:
            return
        prints = [p for g in self._groups for p in g]
        worse = self._fair.outcome.first_worse if self._fair is not None and prints else None
        strength = None if worse is None else max(worse, 1.0 - worse)
        depends: dict[str, str] = {}
        if prints:
            last = prints[-1]
            lot = next((v.lot for v in self.shown.spools if v.key == last.spool), "")
            depends = {k: v for k, v in {
                "plate": last.plate, "machine": last.machine, "rig": last.setup.get("rig", ""), "lot": lot, "polymer": last.polymer,
            }.items() if v}  # fmt: skip
        made = Conclusion(text=text, strength=strength, prints=tuple(p.key for p in prints), depends=depends)
        self.write("Keeping a conclusion", lambda shop: shop.book.put(made), lambda _: self.text.clear())

    def _chosen(self) -> Conclusion | None:
        row, found = self.list.currentRow(), list(reversed(self.shown.conclusions))
        return found[row] if 0 <= row < len(found) else None

    def _show_conclusion(self) -> None:
        c = self._chosen()
        for widget in (self.why, self.withdraw_button):
            widget.setVisible(c is not None and not c.withdrawn)
        if c is None:
            self.about.setText("None yet.")
            return
        numbers = [str(p.number) for p in self.shown.prints if p.key in c.prints]
        stale = self.shown.stale.get(c.key, "")
        parts = [c.at[:10], f"from prints {', '.join(numbers)}" if numbers else "without prints"]
        parts += [f"out of date: {stale}"] if stale else []
        parts += [f"withdrawn on {c.withdrawn[:10]}: {c.why}"] if c.withdrawn else []
        self.about.setText(". ".join(t[0].upper() + t[1:] for t in parts) + ".")

    def withdraw(self) -> None:
        """Withdraw the chosen conclusion with its reason."""
        c, why = self._chosen(), self.why.text().strip()
        refuse(self.why, not why)
        if c is None or not why:
            return

        def write(shop: Any) -> None:
            shop.withdraw(c, why)

        self.write("Withdrawing a conclusion", write, lambda _: self.why.clear())
