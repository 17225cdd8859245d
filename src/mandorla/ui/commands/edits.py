"""Undoable edits: a command holds the bundle before and after, so that undo puts things back exactly."""

from __future__ import annotations

from collections.abc import Callable

from PySide6.QtGui import QUndoCommand

from mandorla.core.project.store import Bundle


class ReplaceBundle(QUndoCommand):
    """Swap the whole (immutable) project; consecutive edits of one field merge when they carry the same merge key."""

    def __init__(
        self, before: Bundle, after: Bundle, text: str, apply: Callable[[Bundle], None], merge_key: int = -1
    ) -> None:
        super().__init__(text)
        self._before, self._after, self._apply, self._key = before, after, apply, merge_key

    def id(self) -> int:
        """Key of commands that may merge; -1 for none."""
        return self._key

    def mergeWith(self, other: QUndoCommand) -> bool:
        """Take over a later edit of the same field."""
        if not isinstance(other, ReplaceBundle) or other.id() != self._key:
            return False
        self._after = other._after
        self.setText(other.text())
        return True

    def redo(self) -> None:
        """Put the new project in place."""
        self._apply(self._after)

    def undo(self) -> None:
        """Put the old project back."""
        self._apply(self._before)
