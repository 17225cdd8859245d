"""A figure explained: what it is, how it is computed, what goes into it, what is least known behind it, what changes it."""

from __future__ import annotations

from collections.abc import Callable
from html import escape
from typing import TYPE_CHECKING

from PySide6.QtCore import Qt, QUrl
from PySide6.QtGui import QCloseEvent, QCursor, QKeyEvent
from PySide6.QtWidgets import QApplication, QHBoxLayout, QLabel, QPushButton, QTextBrowser, QVBoxLayout, QWidget

from mandorla.core.errors import InputError
from mandorla.core.results.explained_words import card_sections, input_text
from mandorla.core.results.figures import WAY, FigureMeaning, meaning_of_figure
from mandorla.core.results.key import Key
from mandorla.core.results.keys import EXPLAINED
from mandorla.core.units import UnitPreferences
from mandorla.ui.document import Document
from mandorla.ui.live_results import Standing, in_words
from mandorla.ui.stages.registry import STAGES
from mandorla.ui.theme.palette import Theme, font, style_sheet
from mandorla.ui.widgets.figures import FigureList, topic_of

if TYPE_CHECKING:
    from mandorla.core.results.types import Card, InputRow
    from mandorla.ui.main_window import MainWindow

_STAGE_OF = {"rig": "rig", "settings": "heat", "process": "part", "part": "part", "criteria": "tune"}


class ExplainCard(QWidget):
    """One card beside the window; it follows the project while it is open."""

    def __init__(self, theme: Theme) -> None:
        super().__init__(None, Qt.WindowType.Window)
        self.setWindowTitle("Mandorla: this figure")
        self.resize(560, 700)
        self.setStyleSheet(style_sheet(theme))
        self.theme = theme
        self._meaning: FigureMeaning = meaning_of_figure("surface")
        column = QVBoxLayout(self)
        column.setContentsMargins(14, 12, 14, 12)
        self.title = QLabel()
        self.title.setFont(font(13.0, strong=True))
        self.title.setWordWrap(True)
        column.addWidget(self.title)
        self.text = QTextBrowser()
        self.text.setAccessibleName("Where this figure comes from")
        self.text.setFont(font(10.0))
        self.text.setOpenLinks(False)
        self.text.anchorClicked.connect(self._follow)
        column.addWidget(self.text, 1)
        row = QHBoxLayout()
        self.theory_button, self.go_button, self.close_button = QPushButton(), QPushButton(), QPushButton("Close")
        self.theory_button.clicked.connect(lambda: self.open_theory(self._meaning.theory))
        self.go_button.clicked.connect(lambda: self.open_stage(self._meaning.stage))
        self.close_button.clicked.connect(self.close)
        for button in (self.theory_button, self.go_button, self.close_button):
            row.addWidget(button)
        column.addLayout(row)
        self.open_theory: Callable[[str], object] = lambda _: None
        self.open_stage: Callable[[str], object] = lambda _: None
        self.ask: Callable[[str], object] = lambda _: None
        self.closed: Callable[[], object] = lambda: None

    def tell(
        self, meaning: FigureMeaning, card: Card | None, others: list[tuple[str, str]], document: Document, note: str
    ) -> None:
        """Show a figure; without its card what is known of it at once, and ``note``; ``others`` (key, title) stand beside it."""
        shown = card.meaning if card is not None else meaning
        self._meaning, units = shown, document.units
        self.title.setText(shown.title)
        parts = []
        if card is None:
            for heading, line in (
                ("What it is", shown.what), ("Least known, and what changes it", note),
                ("How to measure it", shown.measure), ("How it is computed", shown.model),
            ):  # fmt: skip
                parts.append(f"<h4>{escape(heading)}</h4><p>{escape(line)}</p>")
        else:
            for section in card_sections(card, units, document.project.criteria.currency):
                if section.key == "inputs":
                    rows = [self._input(r, units) for r in card.inputs]
                elif section.key == "theory":
                    continue  # the button below
                else:
                    rows = [escape(line) for line in section.lines]
                big = ' style="font-size:15pt; font-weight:600"' if section.key == "now" else ""
                body = (
                    f"<p{big}>{rows[0]}</p>" if len(rows) == 1 else f"<ul>{''.join(f'<li>{r}</li>' for r in rows)}</ul>"
                )
                parts.append(f"<h4>{escape(section.heading)}</h4>{body}")
        if others:
            links = "".join(f'<li><a href="figure:{escape(k)}">{escape(t)}</a></li>' for k, t in others)
            parts.append(f"<h4>Other figures of this view</h4><ul>{links}</ul>")
        self.text.document().setDefaultStyleSheet(
            f"a {{ color: {self.theme.accent}; }} h4 {{ color: {self.theme.soft}; margin-bottom: 2px; font-weight: 600; }}"
            "ul { margin-left: 14px; -qt-list-indent: 0; } li { margin-bottom: 3px; } p { margin-top: 2px; }"
        )
        self.text.setHtml("".join(parts))
        self.theory_button.setText(f"Theory, {shown.theory.partition(' ')[0].rstrip('.')}")
        self.theory_button.setToolTip(shown.theory)
        there = shown.stage in STAGES
        self.go_button.setVisible(there)
        self.go_button.setText(f"Open {STAGES[shown.stage].title}" if there else "")

    def _input(self, row: InputRow, units: UnitPreferences) -> str:
        stage, text = _STAGE_OF.get(row.path.partition(".")[0], ""), escape(input_text(row, units))
        title = escape(row.title)
        return text.replace(title, f'<a href="stage:{stage}">{title}</a>', 1) if stage else text

    def _follow(self, url: QUrl) -> None:
        kind, _, rest = url.toString().partition(":")
        (self.open_stage if kind == "stage" else self.ask)(rest)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        """Escape closes it."""
        if event.key() == Qt.Key.Key_Escape:
            self.close()
        else:
            super().keyPressEvent(event)

    def closeEvent(self, event: QCloseEvent) -> None:
        """Nothing is computed for a card that is closed."""
        self.closed()
        super().closeEvent(event)


class Explaining:
    """Answers what a figure of a window comes from; ``key`` is the figure whose card is open (empty: none is)."""

    def __init__(self, window: MainWindow) -> None:
        self._window = window
        self.card: ExplainCard | None = None
        self.key = ""

    def about_this(self) -> None:
        """The figure that has the focus or lies under the mouse, else what the view shows."""
        window, focus = self._window, QApplication.focusWidget()
        found = ""
        if isinstance(focus, FigureList):
            found = topic_of(focus)
        under = QApplication.widgetAt(QCursor.pos())
        if not found and under is not None and under.window() is window:
            found = topic_of(under)
        self.about(found or window.page.view.topic)

    def about(self, key: str) -> None:
        """Open the card of a figure."""
        try:
            meaning_of_figure(key)
        except InputError as error:
            self._window.messages.complain(str(error))
            return
        card = self.card
        if card is None or card.theme is not self._window.theme:
            if card is not None:
                card.close()
            card = self.card = ExplainCard(self._window.theme)
            card.open_theory = self._window.beginnings.show_theory
            card.open_stage, card.ask, card.closed = self._open_stage, self.about, self._on_closed
        self.key = key
        self.follow()
        card.show()
        card.raise_()
        card.activateWindow()
        card.text.setFocus()

    def follow(self, name: str = EXPLAINED.name) -> None:
        """Show what is there now, and have it computed where it is not."""
        if self.card is None or not self.key or name != EXPLAINED.name:
            return
        document, meaning = self._window.document, meaning_of_figure(self.key)
        key = self._wanted()
        document.results.want("card", (key,))
        card, standing = document.results.value(key), document.results.standing(key)
        error = document.results.error(key)
        note = "Being computed …"
        if standing is Standing.FAILED and error is not None:
            note = in_words(error)
        self.card.tell(meaning, card, self._others(), document, note)

    def _wanted(self) -> Key[Card]:
        judged = self._window.document.results.results.judgement_key()
        return EXPLAINED.of(figure=self.key, full=judged["full"], bodies=judged["bodies"])

    def _others(self) -> list[tuple[str, str]]:
        view = self._window.page.view
        keys = [f.key for widget in view.findChildren(FigureList) for f in widget.figures if f.key]
        listed = dict.fromkeys((view.topic, *keys))
        judgement = self._window.document.results.judgement()
        titles = judgement.titles if judgement is not None else {}
        return [(k, titles.get(k.removeprefix(WAY), meaning_of_figure(k).title)) for k in listed if k and k != self.key]

    def _open_stage(self, key: str) -> None:
        self._window.show_stage(key)
        self._window.activateWindow()

    def _on_closed(self) -> None:
        self.key = ""
        self._window.document.results.want("card", ())

    def close(self) -> None:
        """The window goes."""
        if self.card is not None:
            self.card.close()
