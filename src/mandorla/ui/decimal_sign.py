"""The decimal sign on screen: where the reader likes a comma, every text on its way into a widget passes here.

Views write with a point, as all of Mandorla does, and need not know. What a person types stays as it was typed (line edits are
left alone; a bound field asks for the sign itself); both signs are understood everywhere.
"""

from __future__ import annotations

import functools
from typing import Any, Final

from PySide6.QtGui import QAction, QPainter
from PySide6.QtWidgets import (
    QAbstractButton,
    QCheckBox,
    QComboBox,
    QGraphicsTextItem,
    QLabel,
    QLineEdit,
    QListWidget,
    QListWidgetItem,
    QMenu,
    QPushButton,
    QTableWidget,
    QTableWidgetItem,
    QTextEdit,
    QWidget,
)

from mandorla.core.decimal_sign import with_comma

# where a text becomes something that is seen or read aloud: each a method of the class itself, none that it inherits
_SINKS: Final[tuple[tuple[type, tuple[str, ...]], ...]] = (
    (QWidget, ("setToolTip", "setAccessibleName", "setAccessibleDescription", "setWindowTitle")),
    (QLabel, ("__init__", "setText")),
    (QLineEdit, ("setPlaceholderText",)),
    (QAbstractButton, ("setText",)),
    (QPushButton, ("__init__",)),
    (QCheckBox, ("__init__",)),
    (QAction, ("__init__", "setText", "setToolTip")),
    (QMenu, ("__init__", "addAction", "addMenu")),
    (QComboBox, ("addItem", "addItems", "setItemText")),
    (QListWidget, ("addItem", "addItems")),
    (QListWidgetItem, ("__init__", "setText", "setToolTip")),
    (QTableWidgetItem, ("__init__", "setText", "setToolTip")),
    (QTableWidget, ("setHorizontalHeaderLabels",)),
    (QTextEdit, ("setHtml",)),
    (QGraphicsTextItem, ("setPlainText", "setHtml")),
    (QPainter, ("drawText",)),
)
_own: dict[tuple[type, str], Any] = {}  # Qt's own methods, while ours stand in their place


def use_comma(wanted: bool) -> None:
    """Show decimal commas from now on, or points again; what stands on screen changes as it is drawn anew."""
    if wanted == bool(_own):
        return
    for kind, names in _SINKS:
        for name in names:
            if wanted:
                _own[kind, name] = method = getattr(kind, name)
                setattr(kind, name, _reading(method))
            else:
                setattr(kind, name, _own[kind, name])
    if not wanted:
        _own.clear()


def shown(text: str) -> str:
    """A text as it stands on screen: for comparing with what is there, and for what is put into a line edit."""
    return with_comma(text) if _own else text


def _reading(method: Any) -> Any:
    @functools.wraps(method)
    def read(self: object, *given: Any, **named: Any) -> Any:
        text = next((k for k, value in enumerate(given) if isinstance(value, str | list)), len(given))
        # the first text is what is shown; a later one is what a box keeps beside it
        return method(self, *given[:text], *map(_read, given[text : text + 1]), *given[text + 1 :], **named)

    return read


def _read(value: str | list[Any]) -> str | list[Any]:
    if isinstance(value, str):
        return with_comma(value)
    return [with_comma(v) if isinstance(v, str) else v for v in value]
