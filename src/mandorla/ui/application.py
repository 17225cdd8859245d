"""Starts the window."""

from __future__ import annotations

import sys
from pathlib import Path

from PySide6.QtWidgets import QApplication

from mandorla.core.errors import MandorlaError
from mandorla.core.project.samples import new_bundle, sample
from mandorla.core.project.store import read_bundle
from mandorla.ui.beginnings import MESHES
from mandorla.ui.collector import Collector
from mandorla.ui.crash import CrashKeeper, start_log
from mandorla.ui.document import Document
from mandorla.ui.main_window import MainWindow
from mandorla.ui.preferences import load_preferences, state_folder
from mandorla.ui.theme.palette import font, load_fonts


def make_application() -> QApplication:
    """The application with fonts and style, once a process."""
    existing = QApplication.instance()
    app = existing if isinstance(existing, QApplication) else QApplication(sys.argv[:1])
    app.setApplicationName("Mandorla")
    app.setDesktopFileName("mandorla")
    app.setStyle("Fusion")
    load_fonts()
    app.setFont(font(10.0))
    if app.findChild(Collector) is None:
        Collector(app)
    return app


def start(arguments: list[str]) -> int:
    """Open the window: empty, with the demo, or with a project file."""
    start_log(state_folder())
    app = make_application()
    preferences = load_preferences()
    path: Path | None = None
    part: Path | None = None
    try:
        if arguments and arguments[0] == "--demo":
            bundle = sample("boathouse")
        elif arguments and Path(arguments[0]).suffix.lower() in MESHES:
            part = Path(arguments[0])
            bundle = new_bundle()
        elif arguments:
            path = Path(arguments[0])
            bundle = read_bundle(path)
        else:
            bundle = new_bundle()
        document = Document(bundle, path, preferences.units)
    except MandorlaError as error:
        sys.stderr.write(f"mandorla: {error}\n")
        return 2
    if arguments and arguments[0] == "--demo":
        document.logbook.use_demo(state_folder() / "demo-logbook.db")
    window = MainWindow(document, preferences)
    CrashKeeper(state_folder(), window.messages.complain).install()
    if path is None and not (arguments and arguments[0] == "--demo"):
        window.beginnings.show()
    if part is not None:
        window.beginnings.open_file(part)
    window.show()
    window.recovering.look()
    return int(app.exec())
