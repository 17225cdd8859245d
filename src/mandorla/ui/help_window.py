"""The user guide inside the application: opened at the stage that is seen, searched by typing."""

from __future__ import annotations

from importlib import resources

from PySide6.QtCore import Qt
from PySide6.QtGui import QTextCursor, QTextDocument
from PySide6.QtWidgets import QHBoxLayout, QLabel, QLineEdit, QPushButton, QTextBrowser, QVBoxLayout, QWidget

from mandorla.ui.theme.palette import Theme, font, style_sheet

# heading of the guide by stage
SECTIONS = {
    "rig": "1. Rig", "heat": "2. Heat-up", "verify": "3. Verify", "part": "4. Part", "warp": "5. Warp", "tune": "6. Tune",
    "run": "7. Run", "logbook": "8. Logbook", "start": "0. Start",
}  # fmt: skip


def guide_text() -> str:
    """The user guide as it ships, in Markdown."""
    return resources.files("mandorla.data").joinpath("help/user-guide.md").read_text(encoding="utf-8")


class HelpWindow(QWidget):
    """The guide with a line to search it."""

    def __init__(self, theme: Theme) -> None:
        super().__init__(None, Qt.WindowType.Window)
        self.setWindowTitle("Mandorla: user guide")
        self.resize(860, 680)
        self.setStyleSheet(style_sheet(theme))
        column = QVBoxLayout(self)
        row = QHBoxLayout()
        self.search = QLineEdit()
        self.search.setPlaceholderText("Search the guide")
        self.search.setAccessibleName("Search the guide")
        self.search.returnPressed.connect(self.find_next)
        self.next_button = QPushButton("Next")
        self.next_button.clicked.connect(self.find_next)
        self.told = QLabel()
        self.told.setObjectName("soft")
        for widget in (self.search, self.next_button, self.told):
            row.addWidget(widget)
        column.addLayout(row)
        self.text = QTextBrowser()
        self.text.setAccessibleName("User guide")
        self.text.setFont(font(10.0))
        self.text.setOpenLinks(False)
        self.text.setMarkdown(guide_text())
        column.addWidget(self.text, 1)

    def open_at(self, stage: str) -> None:
        """Show the section of a stage at the top."""
        heading = SECTIONS.get(stage, "")
        block = self.text.document().begin()
        while block.isValid() and block.text().strip() != heading:
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
        self.told.setText("" if found else "It is not in the guide")
        return found
