"""What all views of the logbook share: the book that they show, and what they say where there is none."""

from __future__ import annotations

from collections.abc import Callable
from typing import TYPE_CHECKING, Any

from PySide6.QtWidgets import QComboBox, QLineEdit, QPushButton

from mandorla.core.errors import InputError, MandorlaError
from mandorla.core.logbook.copies import copies_of, restore
from mandorla.core.results.key import Key
from mandorla.core.results.keys import PRINT_ENTRY
from mandorla.core.units import parse_quantity
from mandorla.ui.decimal_sign import shown
from mandorla.ui.document import Document
from mandorla.ui.live_logbook import LiveLogbook, Write
from mandorla.ui.stages.view import Missing, View
from mandorla.ui.theme.palette import Theme, font
from mandorla.ui.widgets.fields import refuse

if TYPE_CHECKING:
    from mandorla.core.logbook.records import Print
    from mandorla.core.logbook.shown import BookShown


class LogView(View):
    """Base of the logbook's views."""

    def __init__(self, document: Document, theme: Theme) -> None:
        super().__init__(document, theme)
        self.logbook.changed.connect(self._on_book)

    @property
    def logbook(self) -> LiveLogbook:
        """The workshop's book."""
        return self.document.logbook

    @property
    def shown(self) -> BookShown:
        """What it holds; only where nothing is missing."""
        shown = self.logbook.shown
        assert shown is not None
        return shown

    def missing(self) -> Missing | None:
        """A book that is not there, not read yet, or cannot be read."""
        book = self.logbook
        if book.problem:
            copies = copies_of(book.path)
            if copies:
                return Missing(
                    f"{book.problem} The damaged file is kept beside it; entries after the copy are lost from the book.",
                    f"Take the copy of {copies[0].stem[-8:]}", lambda: self._restore(),
                )  # fmt: skip
            return Missing(book.problem, "Try again", book.read)
        if book.shown is None:
            if book.exists:
                return Missing("The logbook is being read …")
            return Missing(
                "There is no logbook yet. It keeps every print with what was predicted and what came out, and predictions "
                "learn from it.",
                "Begin a logbook", lambda: book.write("Beginning a logbook", lambda shop: None),
            )  # fmt: skip
        return None

    def _restore(self) -> None:
        """Put the newest copy in the place of a damaged book, which is kept beside it."""
        try:
            restore(self.logbook.path)
        except MandorlaError as error:
            self.document.problem.emit(str(error))
            return
        self.logbook.use(self.logbook.path)

    def entry_key(self) -> Key[Print]:
        """What is kept of the project as it is, by the judgement that everybody shows."""
        return PRINT_ENTRY.of(**dict(self.results.judgement_key().parameters))

    def write(self, title: str, write: Write, done: Callable[[Any], None] | None = None) -> None:
        """Write into the book beside the interface."""
        self.logbook.write(title, write, done)

    def _stands_on(self) -> tuple[object, ...]:
        return (*super()._stands_on(), self.logbook.shown, self.logbook.problem)

    def _on_book(self) -> None:
        if self.isVisible():
            self.refresh_if_new()
            self.changed()

    # ---- small things
    def length(self, edit: QLineEdit, name: str) -> float | None:
        """What a field says in m; None where it is empty. Raises InputError, and marks the field."""
        text = edit.text().strip()
        refuse(edit, False)
        if not text:
            return None
        try:
            value = parse_quantity(text, "length", self.units.unit("length"), name)
            if not 0.0 <= value <= 5.0:
                raise InputError(f"{name}: {text} is outside 0 to 5 m.")
        except MandorlaError:
            refuse(edit, True)
            raise
        return value


def choice(name: str) -> QComboBox:
    """A box to choose from."""
    box = QComboBox()
    box.setAccessibleName(name)
    box.setFont(font(9.5))
    box.setSizeAdjustPolicy(QComboBox.SizeAdjustPolicy.AdjustToMinimumContentsLengthWithIcon)
    box.setMinimumContentsLength(12)
    return box


def fill(box: QComboBox, rows: list[tuple[str, str]], current: str | None = None) -> None:
    """Put rows (text, key) into a box and keep what was chosen."""
    keep = box.currentData() if current is None else current
    box.blockSignals(True)
    if [(box.itemText(i), box.itemData(i)) for i in range(box.count())] != [(shown(t), key) for t, key in rows]:
        box.clear()
        for text, key in rows:
            box.addItem(text, key)
    at = box.findData(keep)
    box.setCurrentIndex(max(at, 0))
    box.blockSignals(False)


def line(name: str, hint: str = "") -> QLineEdit:
    """A line to type in."""
    edit = QLineEdit()
    edit.setAccessibleName(name)
    edit.setPlaceholderText(hint)
    edit.setFont(font(9.5))
    return edit


def button(text: str, act: Callable[[], object], *, first: bool = False) -> QPushButton:
    """A button that does something."""
    made = QPushButton(text)
    made.setFont(font(9.5))
    if first:
        made.setObjectName("primary")
    made.clicked.connect(lambda: act())
    return made
