"""Every plot can be copied, or saved as a picture (PNG, SVG) and, where it shows curves, as CSV."""

from __future__ import annotations

import csv
import io
from pathlib import Path
from typing import Protocol, runtime_checkable

import numpy as np
from numpy.typing import NDArray
from PySide6.QtCore import QBuffer, QIODevice, QPoint, QRect, QSize, Qt
from PySide6.QtGui import QGuiApplication, QPainter
from PySide6.QtSvg import QSvgGenerator
from PySide6.QtWidgets import QFileDialog, QGraphicsView, QMenu, QWidget

from mandorla.core.errors import MandorlaError
from mandorla.core.project.atomic import write_atomically

Series = tuple[tuple[str, NDArray[np.float64], NDArray[np.float64], str], ...]


@runtime_checkable
class ShowsCurves(Protocol):
    """A plot whose curves are (name, x, y, unit)."""

    @property
    def series(self) -> Series: ...


@runtime_checkable
class _Tells(Protocol):
    """A window that says what happened."""

    @property
    def messages(self) -> _Bar: ...


class _Bar(Protocol):
    def say(self, text: str) -> None: ...

    def complain(self, text: str) -> None: ...


def as_png(widget: QWidget) -> bytes:
    """A widget as it is seen."""
    buffer = QBuffer()
    buffer.open(QIODevice.OpenModeFlag.WriteOnly)
    widget.grab().save(buffer, "PNG")
    return bytes(buffer.data().data())


def as_svg(widget: QWidget, title: str) -> bytes:
    """A widget drawn as vectors."""
    buffer, generator = QBuffer(), QSvgGenerator()
    generator.setOutputDevice(buffer)
    generator.setTitle(title)
    generator.setSize(QSize(widget.width(), widget.height()))
    generator.setViewBox(QRect(0, 0, widget.width(), widget.height()))
    painter = QPainter(generator)
    try:
        if isinstance(widget, QGraphicsView):
            widget.render(painter)
        else:
            widget.render(painter, QPoint())
    finally:
        painter.end()
    return bytes(buffer.data().data())


def as_csv(series: Series) -> bytes:
    """Curves one below the other: name, x, y with its unit."""
    out = io.StringIO()
    rows = csv.writer(out, lineterminator="\n")
    rows.writerow(("curve", "x", "y", "unit"))
    for name, x, y, unit in series:
        rows.writerows((name, f"{a:.9g}", f"{b:.9g}", unit) for a, b in zip(x, y, strict=True))
    return out.getvalue().encode()


def kept_as(widget: QWidget, kind: str) -> bytes:
    """A plot as the bytes of a file: ``png``, ``svg`` or ``csv``. Raises KeyError for curves that it does not have."""
    if kind == "png":
        return as_png(widget)
    if kind == "svg":
        return as_svg(widget, widget.accessibleName())
    if not isinstance(widget, ShowsCurves):
        raise KeyError(kind)
    return as_csv(widget.series)


def keepable(widget: QWidget) -> None:
    """Give a plot its menu."""
    widget.setContextMenuPolicy(Qt.ContextMenuPolicy.CustomContextMenu)
    widget.customContextMenuRequested.connect(lambda at: menu_of(widget).exec(widget.mapToGlobal(at)))


def menu_of(widget: QWidget) -> QMenu:
    """The menu of a plot."""
    menu = QMenu(widget)
    menu.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
    menu.addAction("Copy the picture").triggered.connect(lambda: QGuiApplication.clipboard().setPixmap(widget.grab()))
    kinds = ["png", "svg", *(["csv"] if isinstance(widget, ShowsCurves) and widget.series else [])]
    for kind in kinds:
        menu.addAction(f"Save as {kind.upper()} …").triggered.connect(lambda _=False, k=kind: _ask(widget, k))
    return menu


def _ask(widget: QWidget, kind: str) -> None:
    name = f"{widget.accessibleName() or 'plot'}.{kind}"
    path, _ = QFileDialog.getSaveFileName(widget, "Save the plot", name, f"{kind.upper()} (*.{kind})")
    if path:
        save(widget, Path(path), kind)


def save(widget: QWidget, path: Path, kind: str) -> None:
    """Write a plot to a file; its window says how it went."""
    target = path if path.suffix.lower() == f".{kind}" else path.with_name(f"{path.name}.{kind}")
    window = widget.window()
    try:
        write_atomically(target, kept_as(widget, kind))
    except MandorlaError as error:
        if isinstance(window, _Tells):
            window.messages.complain(str(error))
        return
    if isinstance(window, _Tells):
        window.messages.say(f"Saved: {target.name}")
