"""A view inside a stage: it declares its title, the results it uses and how to show them; everything else is here.

Empty, busy, stale and failed states are the same everywhere: what is missing, why, and the button that brings it.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any, ClassVar, TypeVar

from PySide6.QtCore import Qt
from PySide6.QtWidgets import (
    QFrame,
    QHBoxLayout,
    QLabel,
    QProgressBar,
    QPushButton,
    QStackedLayout,
    QVBoxLayout,
    QWidget,
)

from mandorla.core.project.models import Project
from mandorla.core.results.key import Cost, Key
from mandorla.core.units import UnitPreferences
from mandorla.ui.document import Document
from mandorla.ui.live_results import LiveResults, Standing, in_words
from mandorla.ui.theme.palette import Theme, font

T = TypeVar("T")


@dataclass(frozen=True, slots=True)
class Missing:
    """What a view lacks before it can show anything: why in a sentence, and the button that brings it."""

    text: str
    button: str = ""
    action: Callable[[], object] | None = None


class Notice(QFrame):
    """The place of a view that has nothing to show: a sentence, progress where something runs, a button where one helps."""

    def __init__(self) -> None:
        super().__init__()
        self.setObjectName("panel")
        outer = QVBoxLayout(self)
        outer.addStretch(1)
        self.text = QLabel()
        self.text.setWordWrap(True)
        self.text.setAlignment(Qt.AlignmentFlag.AlignHCenter)
        self.text.setFont(font(12.0, strong=True))
        self.progress = QProgressBar()
        self.progress.setTextVisible(False)
        self.progress.setFixedWidth(260)
        self.progress.setAccessibleName("Progress")
        self.button = QPushButton()
        self.button.setObjectName("primary")
        self.button.clicked.connect(self._act)
        self._action: Callable[[], object] | None = None
        outer.addWidget(self.text)
        for widget in (self.progress, self.button):
            row = QHBoxLayout()
            row.addStretch(1)
            row.addWidget(widget)
            row.addStretch(1)
            outer.addLayout(row)
        outer.addStretch(1)

    def tell(self, missing: Missing, *, busy: bool = False) -> None:
        """Say what is missing, or what is being computed."""
        self.text.setText(missing.text)
        self._action = missing.action
        self.button.setText(missing.button)
        self.button.setVisible(missing.action is not None)
        self.progress.setVisible(busy)
        if busy:  # empty until there is progress: nothing moves by itself
            self.progress.setRange(0, 100)
            self.progress.setValue(0)

    def show_progress(self, fraction: float, stage: str) -> None:
        """How far the computation is."""
        self.progress.setRange(0, 100)
        self.progress.setValue(round(100 * fraction))
        self.progress.setToolTip(stage)

    def _act(self) -> None:
        if self._action is not None:
            self._action()


class View(QWidget):
    """Base of the views. Subclasses set ``key`` and ``title``, build on ``content`` and implement :meth:`draw`.

    ``uses()`` names the results without which nothing can be drawn; ``also()`` those that are drawn when they are there.
    """

    key: ClassVar[str]
    title: ClassVar[str]
    needs_part: ClassVar[bool] = False

    def __init__(self, document: Document, theme: Theme) -> None:
        super().__init__()
        self.document, self.theme = document, theme
        self.topic = ""  # the figure that the view as a whole is, set by the page
        self.go: Callable[[str], object] = lambda _: None  # opens another stage, set by the page
        self.changed: Callable[[], None] = lambda: (
            None
        )  # tells the page that the sentence is another one, set by the page
        self.wants_changed: Callable[[], None] = lambda: None  # tells it that other results are wanted, set by the page
        self._shown: tuple[object, ...] = ()  # what it was drawn from last
        self._stack = QStackedLayout(self)
        self._stack.setContentsMargins(0, 0, 0, 0)
        holder = QWidget()
        self._column = QVBoxLayout(holder)
        self._column.setContentsMargins(0, 0, 0, 0)
        self._column.setSpacing(4)
        self.stale_note = QLabel("Results are out of date: the project has changed since they were computed.")
        self.stale_note.setObjectName("stale")
        self.stale_note.setWordWrap(True)
        self.stale_note.setFont(font(9.5, strong=True))
        self.stale_note.hide()
        self._column.addWidget(self.stale_note)
        self.content = QWidget()
        self._column.addWidget(self.content, 1)
        self.notice = Notice()
        self._stack.addWidget(holder)
        self._stack.addWidget(self.notice)
        self.results.changed.connect(self._on_result)
        self.results.progressed.connect(self._on_progress)

    # ---- what subclasses say
    def uses(self) -> tuple[Key[Any], ...]:
        """Results without which nothing can be drawn."""
        return ()

    def also(self) -> tuple[Key[Any], ...]:
        """Results that are drawn when they are there."""
        return ()

    def missing(self) -> Missing | None:
        """What the project lacks for this view; None where nothing is missing."""
        if self.needs_part and self.project.part is None:
            return Missing(
                "There is no part yet: open one, or take one of the workshop.", "Open part …", lambda: self.go("part")
            )
        return None

    def headline(self) -> str:
        """The answer above the view; empty where the stage has one of its own."""
        return ""

    def draw(self) -> None:
        """Show the newest results; every one of ``uses()`` has a value."""
        raise NotImplementedError  # every view draws its own

    # ---- what subclasses ask
    @property
    def results(self) -> LiveResults:
        """The project's results."""
        return self.document.results

    @property
    def project(self) -> Project:
        """The project."""
        return self.document.project

    @property
    def units(self) -> UnitPreferences:
        """The units to show."""
        return self.document.units

    def get(self, key: Key[T]) -> T:
        """A result that ``uses()`` names, the newest there is."""
        found = self.results.last(key)
        assert found is not None, f"{self.key} draws without {key}"
        return found

    # ---- showing
    def wants(self) -> tuple[Key[Any], ...]:
        """What is to be computed while the view is seen."""
        return () if self.missing() is not None else (*self.uses(), *self.also())

    def _stands_on(self) -> tuple[object, ...]:
        """Everything that a view is drawn from, to be compared by identity."""
        keys = (*self.uses(), *self.also()) if self.missing() is None else ()
        each = (x for key in keys for x in (self.results.last(key), self.results.standing(key)))
        return (self.project, self.units, self.theme, *each)

    def refresh_if_new(self) -> None:
        """Show what there is, where anything of it is new: one computation tells of several results at once."""
        now = self._stands_on()
        if len(now) != len(self._shown) or any(a is not b for a, b in zip(now, self._shown, strict=True)):
            self.refresh()

    def refresh_after_edit(self) -> None:
        """Show an edit; where quick results are on their way the view waits for them instead of being drawn twice."""
        quick = (key for key in (*self.uses(), *self.also()) if key.cost is Cost.QUICK)
        if self.missing() is not None or not self.drawn or not any(self.results.busy(key) for key in quick):
            self.refresh()

    def refresh(self) -> None:
        """Show what there is: the view, or what it lacks."""
        self._shown = self._stands_on()
        lacking = self.missing()
        if lacking is not None:
            self._notify(lacking)
            return
        states = {key: self.results.standing(key) for key in self.uses()}
        without = [key for key in states if self.results.last(key) is None]
        broken = next((key for key, state in states.items() if state is Standing.FAILED), None)
        if broken is not None:
            error = self.results.error(broken)
            text = in_words(error) if error is not None else "It could not be computed."
            self._notify(Missing(f"{broken.title}: {text}", "Try again", lambda: self.results.ask(broken)))
            return
        if without:
            busy, first = any(states[key] is Standing.COMPUTING for key in without), without[0]
            text = f"{first.title} is being computed …" if busy else f"{first.title} is not there yet."
            asked = first.cost is Cost.ON_DEMAND and not busy
            button, action = ("Work it out", lambda: self._bring(first)) if asked else ("", None)
            self._notify(Missing(text, button, action), busy=busy)
            return
        old = any(self.results.value(key) is None for key in states)
        self.stale_note.setVisible(old and not any(s is Standing.COMPUTING for s in states.values()))
        self._stack.setCurrentIndex(0)
        self.draw()

    def _bring(self, key: Key[Any]) -> None:
        """Start what a person has asked for."""
        self.results.ask(key)
        self.refresh()

    def set_theme(self, theme: Theme) -> None:
        """Use another theme."""
        self.theme = theme

    @property
    def drawn(self) -> bool:
        """Whether the view itself is shown, and not what it lacks."""
        return self._stack.currentIndex() == 0

    def _notify(self, missing: Missing, *, busy: bool = False) -> None:
        self.notice.tell(missing, busy=busy)
        self._stack.setCurrentIndex(1)

    def _on_result(self, name: str) -> None:
        if self.isVisible() and any(key.name == name for key in (*self.uses(), *self.also())):
            self.refresh_if_new()
            self.changed()

    def _on_progress(self, name: str, fraction: float, stage: str) -> None:
        if self.isVisible() and any(key.name == name for key in self.uses()):
            self.notice.show_progress(fraction, stage)
