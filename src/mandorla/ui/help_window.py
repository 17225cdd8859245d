"""The user guide and the theory inside the application: opened at what is seen, searched by typing."""

from __future__ import annotations

from importlib import resources

from PySide6.QtCore import Qt
from PySide6.QtGui import QTextCursor, QTextDocument
from PySide6.QtWidgets import QComboBox, QHBoxLayout, QLabel, QLineEdit, QPushButton, QTextBrowser, QVBoxLayout, QWidget

from mandorla.core.installation.about import about_text
from mandorla.ui.theme.palette import Theme, font, style_sheet

# heading of the guide by stage
SECTIONS = {
    "rig": "1. Rig", "heat": "2. Heat-up", "verify": "3. Verify", "part": "4. Part", "warp": "5. Warp", "tune": "6. Tune",
    "run": "7. Run", "logbook": "8. Logbook", "start": "0. Start",
}  # fmt: skip
GUIDE, THEORY, LIMITS, ABOUT = "user-guide", "theory", "limits", "about"
TEXTS = {GUIDE: "User guide", THEORY: "Theory and sources", LIMITS: "What this cannot know", ABOUT: "About"}


def help_text(name: str = GUIDE) -> str:
    """A text as it ships, in Markdown; the page about the program is made from what is installed."""
    if name == ABOUT:
        return about_text()
    return resources.files("mandorla.data").joinpath(f"help/{name}.md").read_text(encoding="utf-8")


class HelpWindow(QWidget):
    """The texts with a line to search them."""

    def __init__(self, theme: Theme) -> None:
        super().__init__(None, Qt.WindowType.Window)
        self.setWindowTitle("Mandorla: help")
        self.resize(860, 680)
        self.setStyleSheet(style_sheet(theme))
        column = QVBoxLayout(self)
        row = QHBoxLayout()
        self.which = QComboBox()
        self.which.setAccessibleName("Text")
        for key, title in TEXTS.items():
            self.which.addItem(title, key)
        self.search = QLineEdit()
        self.search.setPlaceholderText("Search this text")
        self.search.setAccessibleName("Search this text")
        self.search.returnPressed.connect(self.find_next)
        self.next_button = QPushButton("Next")
        self.next_button.clicked.connect(self.find_next)
        self.told = QLabel()
        self.told.setObjectName("soft")
        for widget in (self.which, self.search, self.next_button, self.told):
            row.addWidget(widget)
        column.addLayout(row)
        self.text = QTextBrowser()
        self.text.setAccessibleName("Text of the help")
        self.text.setFont(font(10.0))
        self.text.setOpenLinks(False)
        column.addWidget(self.text, 1)
        self._shown = ""
        self.which.currentIndexChanged.connect(lambda: self.read(self.which.currentData()))
        self.read(GUIDE)

    def read(self, name: str) -> None:
        """Show a text from its beginning."""
        if self._shown != name:
            self._shown = name
            self.text.setMarkdown(help_text(name))
            self.which.setCurrentIndex(self.which.findData(name))
            self.told.setText("")

    def open_at(self, stage: str) -> None:
        """Show the guide's section of a stage at the top."""
        self.read(GUIDE)
        self._to(SECTIONS.get(stage, ""))

    def open_theory(self, heading: str) -> None:
        """Show a section of the theory, by the beginning of its heading."""
        self.read(THEORY)
        self._to(heading)

    def open_text(self, name: str) -> None:
        """Show a text from its beginning."""
        self.read(name)
        self._to("")

    def _to(self, heading: str) -> None:
        block = self.text.document().begin()
        while block.isValid() and not (block.text().strip().startswith(heading) and block.blockFormat().headingLevel()):
            block = block.next()
        bar = self.text.verticalScrollBar()
        top = self.text.document().documentLayout().blockBoundingRect(block).top() if block.isValid() else 0.0
        self.show()
        self.raise_()
        bar.setValue(round(top))
        self.text.setTextCursor(QTextCursor(block) if block.isValid() else QTextCursor(self.text.document()))
        bar.setValue(round(top))
        self.search.setFocus()

    def find_next(self) -> bool:
        """Go to the next place where the text stands; from the end it begins again."""
        text = self.search.text().strip()
        if not text:
            return False
        found = self.text.find(text, QTextDocument.FindFlag(0))
        if not found:
            self.text.moveCursor(QTextCursor.MoveOperation.Start)
            found = self.text.find(text, QTextDocument.FindFlag(0))
        self.told.setText(
            "" if found else "It is not in the guide" if self._shown == GUIDE else "It is not in this text"
        )
        return found
