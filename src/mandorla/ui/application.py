"""Starts the window."""

from __future__ import annotations

import os
import sys
from importlib import resources
from pathlib import Path

from PySide6.QtGui import QIcon, QPixmap
from PySide6.QtWidgets import QApplication

from mandorla.core.errors import MandorlaError
from mandorla.core.folders import state_folder
from mandorla.core.installation.mark import is_warm
from mandorla.core.project.samples import new_bundle, sample
from mandorla.core.project.store import Bundle, read_bundle
from mandorla.core.runtime import RunContext
from mandorla.ui.beginnings import MESHES
from mandorla.ui.collector import Collector
from mandorla.ui.crash import CrashKeeper, start_log
from mandorla.ui.document import Document
from mandorla.ui.jobs import Lane
from mandorla.ui.main_window import MainWindow
from mandorla.ui.preferences import load_preferences
from mandorla.ui.single_instance import SingleInstance, handed_over
from mandorla.ui.theme.palette import font, load_fonts

DEMO, NEW_WINDOW = "--demo", "--new-window"
OPTIONS = (DEMO, NEW_WINDOW)


def make_application() -> QApplication:
    """The application with fonts and style, once a process."""
    existing = QApplication.instance()
    app = existing if isinstance(existing, QApplication) else QApplication(sys.argv[:1])
    app.setApplicationName("Mandorla")
    app.setDesktopFileName("dev.mandorla.Mandorla")
    app.setWindowIcon(_icon())
    app.setStyle("Fusion")
    load_fonts()
    app.setFont(font(10.0))
    if app.findChild(Collector) is None:
        Collector(app)
    return app


def _icon() -> QIcon:
    pixels = QPixmap()
    pixels.loadFromData(resources.files("mandorla.data").joinpath("icon.svg").read_bytes(), "SVG")
    return QIcon(pixels)


def start(arguments: list[str]) -> int:
    """Open the window: empty, with the demo, or with a file; a window that is open already takes the file instead."""
    start_log(state_folder())
    preferences = load_preferences()
    if preferences.scale != 1.0:  # before the application is made
        os.environ.setdefault("QT_SCALE_FACTOR", f"{preferences.scale:g}")
    app = make_application()
    demo, alone = DEMO in arguments, NEW_WINDOW in arguments
    files = [Path(a) for a in arguments if a not in OPTIONS]
    if not demo and not alone and handed_over(files):
        return 0
    path: Path | None = None
    part: Path | None = None
    try:
        bundle = _begun_with(demo, files)
        if files and files[0].suffix.lower() in MESHES:
            part = files[0]
        elif files:
            path = files[0]
        document = Document(bundle, path, preferences.units)
    except MandorlaError as error:
        sys.stderr.write(f"mandorla: {error}\n")
        return 2
    if demo:
        document.logbook.use_demo(state_folder() / "demo-logbook.db")
    window = MainWindow(document, preferences)
    CrashKeeper(state_folder(), window.messages.complain).install()
    if not demo and path is None and (part is not None or not window.beginnings.restore_session()):
        window.beginnings.show()
    if part is not None:
        window.beginnings.open_file(part)
    window.show()
    window.recovering.look()
    if not is_warm():
        document.jobs.start("Preparing the numerics, at the first start only", _prepare, Lane.SLOW)
    others = None if demo or alone else SingleInstance(window.beginnings.open_file, window.come_forward, window)
    done = int(app.exec())
    if others is not None:
        others.close()
    return done


def _prepare(run: RunContext) -> None:
    """Compile what was not compiled yet by this user, beside the interface."""
    from mandorla.core.installation.warming import warm  # loads the numerics, on its thread

    warm(run)


def _begun_with(demo: bool, files: list[Path]) -> Bundle:
    if demo:
        return sample("boathouse")
    if files and files[0].suffix.lower() not in MESHES:
        return read_bundle(files[0])
    return new_bundle()
