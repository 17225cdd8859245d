"""Undoable edits: the states before and after each step, so that undo puts things back exactly.

Commands hold a number only. What Qt deletes on its side stays alive on Python's (a wrapper whose command was merged or dropped),
and every state that a command held would stay with it: :class:`History` holds the states, and lets go of those that no step needs.
"""

from __future__ import annotations

from collections.abc import Callable
from typing import Final
from weakref import ref

from PySide6.QtGui import QUndoCommand, QUndoStack

from mandorla.core.project.store import Bundle

MOST: Final = 200  # steps that can be taken back


class History:
    """The states of an undo stack's steps; ``apply`` puts one in place."""

    def __init__(self, stack: QUndoStack, apply: Callable[[Bundle], None]) -> None:
        self._stack, self._apply = stack, apply
        self._states: dict[int, tuple[Bundle, Bundle]] = {}
        self._number = 0
        stack.setUndoLimit(MOST)

    def push(self, before: Bundle, after: Bundle, text: str, merge_key: int) -> None:
        """Do a step; it merges into the one before where both carry the same key (-1: never)."""
        self._number += 1
        self._states[self._number] = (before, after)
        self._stack.push(ReplaceBundle(self, self._number, text, merge_key))
        there = {getattr(self._stack.command(i), "number", 0) for i in range(self._stack.count())}
        for number in [n for n in self._states if n not in there]:
            del self._states[number]

    def merge(self, into: int, later: int) -> None:
        """A step goes on to where a later one led."""
        self._states[into] = (self._states[into][0], self._states.pop(later)[1])

    def put(self, number: int, *, after: bool) -> None:
        """Put the state before or after a step in place."""
        states = self._states.get(number)
        if states is not None:
            self._apply(states[1 if after else 0])

    def forget(self) -> None:
        """Let go of everything: the document is closed."""
        self._states.clear()
        self._apply = _nothing


def _nothing(_: Bundle) -> None:
    """What a closed document does with a state."""


class ReplaceBundle(QUndoCommand):
    """Swap the whole (immutable) project."""

    def __init__(self, history: History, number: int, text: str, merge_key: int) -> None:
        super().__init__(text)
        self._history, self.number, self._key = ref(history), number, merge_key

    def id(self) -> int:
        """Key of commands that may merge; -1 for none."""
        return self._key

    def mergeWith(self, other: QUndoCommand) -> bool:
        """Take over a later edit of the same field."""
        history = self._history()
        if not isinstance(other, ReplaceBundle) or other.id() != self._key or history is None:
            return False
        history.merge(self.number, other.number)
        self.setText(other.text())
        return True

    def redo(self) -> None:
        """Put the new project in place."""
        self._put(after=True)

    def undo(self) -> None:
        """Put the old project back."""
        self._put(after=False)

    def _put(self, *, after: bool) -> None:
        history = self._history()
        if history is not None:
            history.put(self.number, after=after)
