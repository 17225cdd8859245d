"""A tour over the demo workshop: each step does what its text says, in the window itself."""

from __future__ import annotations

from collections.abc import Callable
from typing import TYPE_CHECKING, Final, NamedTuple

from PySide6.QtWidgets import QFrame, QHBoxLayout, QLabel, QPushButton, QVBoxLayout

from mandorla.core.results.keys import SUGGESTIONS
from mandorla.ui.theme.palette import font

if TYPE_CHECKING:
    from mandorla.ui.main_window import MainWindow


class Step(NamedTuple):
    """One step: its title, what it says, what it does; what it ``waits`` for (empty: for nothing)."""

    title: str
    text: str
    do: Callable[[MainWindow], object]
    waits: Callable[[MainWindow], str] = lambda _: ""


def _stage(key: str, view: str = "") -> Callable[[MainWindow], None]:
    def do(window: MainWindow) -> None:
        window.show_stage(key)
        if view:
            window.page.open_view(view)

    return do


def _offered(window: MainWindow) -> str:
    checked = window.document.results.value(SUGGESTIONS)
    return (
        "" if checked is not None else "The full simulations that check it are still running; this takes half a minute."
    )


def _take(window: MainWindow) -> None:
    _stage("tune")(window)
    checked = window.document.results.value(SUGGESTIONS)
    offer = next((s for s in checked.offers if s.key == "nearest"), None) if checked is not None else None
    if offer is not None:
        moves = offer.settings.moves(window.document.project.settings)
        changes = {f"settings.{name}": new for name, (_, new) in moves.items()}
        window.document.edit_many(changes, "the smallest change that holds")


def _explain(window: MainWindow) -> None:
    window.explaining.about("anything")


def _undo(window: MainWindow) -> None:
    window.document.undo_stack.undo()


STEPS: Final = (
    Step(
        "The workshop",
        "A made-up workshop: an enclosed machine, a winch cradle in ASA on a sheet that a magnet holds. The bed is drawn as it is "
        "built; the marks at the left say how each stage stands.",
        _stage("rig"),
    ),
    Step(
        "What the machine reaches",
        "How bed, surface and air warm up, with ranges: the surface stays below the set point. Move the time below the map.",
        _stage("heat"),
    ),
    Step(
        "What fails",
        "The answer is a sentence: what fails first, from which height, with what chance. The figures beside the part prove it.",
        _stage("warp"),
    ),
    Step(
        "Where a figure comes from",
        "Click any figure, or press F2. The card says what is least known behind it and how to measure it.",
        _explain,
    ),
    Step(
        "What to change",
        "The almond: where the part holds and machine, plate and polymer stand it. The smallest change is at the right; it is "
        "checked by full simulations before it is called so.",
        _stage("tune"),
    ),
    Step(
        "Take it over",
        "The smallest change was put on the console. Look at the rail: Warp holds now.",
        _take,
        _offered,
    ),
    Step(
        "Take it back",
        "Every edit can be undone, this one too (Ctrl+Z).",
        _undo,
    ),
    Step(
        "Do it",
        "The run sheet: every step with its reason, its gate and its clock time.",
        _stage("run"),
    ),
    Step(
        "Learn from it",
        "Sixty prints of the workshop: what they taught about grip and film stress, and whether stated chances were right.",
        _stage("logbook", "learned"),
    ),
)


class Tour(QFrame):
    """A strip above the console that leads through the steps."""

    def __init__(self, window: MainWindow) -> None:
        super().__init__()
        self._window, self.at = window, -1
        self.setObjectName("panel")
        self.setAccessibleName("Tour")
        row = QHBoxLayout(self)
        row.setContentsMargins(14, 8, 14, 8)
        column = QVBoxLayout()
        self.title, self.text = QLabel(), QLabel()
        self.title.setFont(font(10.5, strong=True))
        self.text.setFont(font(10.0))
        self.text.setWordWrap(True)
        column.addWidget(self.title)
        column.addWidget(self.text)
        row.addLayout(column, 1)
        self.back_button, self.next_button, self.end_button = (
            QPushButton("Back"),
            QPushButton("Next"),
            QPushButton("End the tour"),
        )
        self.next_button.setObjectName("primary")
        self.back_button.clicked.connect(lambda: self.go(self.at - 1))
        self.next_button.clicked.connect(self._next)
        self.end_button.clicked.connect(self.end)
        for button in (self.back_button, self.next_button, self.end_button):
            row.addWidget(button)

    def go(self, to: int) -> None:
        """Do a step and say what it shows; one whose result is not there yet says so and stays where it was."""
        step = STEPS[max(0, to)]
        waiting = step.waits(self._window)
        if waiting:
            self.text.setText(waiting)
            return
        self.at = max(0, to)
        step.do(self._window)
        self.title.setText(f"{self.at + 1} of {len(STEPS)}: {step.title}")
        self.text.setText(step.text)
        self.back_button.setEnabled(self.at > 0)
        self.next_button.setText("Next" if self.at + 1 < len(STEPS) else "Done")
        self.next_button.setFocus()

    def _next(self) -> None:
        if self.at + 1 < len(STEPS):
            self.go(self.at + 1)
        else:
            self.end()

    def end(self) -> None:
        """Put the strip away; the demo stays open."""
        self._window.beginnings.tour = None
        self.hide()
        self.deleteLater()
