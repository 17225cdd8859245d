"""Starts the window."""

from __future__ import annotations

import sys
from importlib import resources
from pathlib import Path

from PySide6.QtWidgets import QApplication

from mandorla.core.errors import MandorlaError
from mandorla.core.project.models import Project, build
from mandorla.core.project.store import Bundle, read_bundle
from mandorla.core.rig.bed import Bed, BedLayer, Heater, Sensor
from mandorla.core.rig.model import Rig
from mandorla.ui.document import Document
from mandorla.ui.main_window import MainWindow
from mandorla.ui.preferences import load_preferences
from mandorla.ui.theme.palette import font, load_fonts

DEMO = "demo/boathouse.mandorla"


def make_application() -> QApplication:
    """The application with fonts and style, once a process."""
    existing = QApplication.instance()
    app = existing if isinstance(existing, QApplication) else QApplication(sys.argv[:1])
    app.setApplicationName("Mandorla")
    app.setDesktopFileName("mandorla")
    app.setStyle("Fusion")
    load_fonts()
    app.setFont(font(10.0))
    return app


def demo_bundle() -> Bundle:
    """The demo project as shipped; it opens as a project that was never saved."""
    with resources.as_file(resources.files("mandorla.data").joinpath(DEMO)) as path:
        return read_bundle(path)


def new_bundle() -> Bundle:
    """An empty project on a plain open rig."""
    bed = Bed(
        width=0.25, depth=0.25,
        layers=(
            BedLayer(name="Print film", material="polyetherimide_film", thickness=0.00015, contact_resistance=1e-4),
            BedLayer(name="Plate", material="cast_aluminium", thickness=0.006, contact_resistance=1e-4),
            BedLayer(name="Heater mat", material="silicone_mat", thickness=0.0015),
        ),
        heater=Heater(layer="Heater mat", width=0.23, depth=0.23, power=300.0), sensor=Sensor(layer="Plate"),
    )  # fmt: skip
    rig = Rig(name="My rig", bed=bed).model_dump()
    rig["chamber"]["enclosed"] = False
    project = build(Project, {"name": "New project", "rig": rig}, "new project")
    assert isinstance(project, Project)
    return Bundle(project, {})


def start(arguments: list[str]) -> int:
    """Open the window: empty, with the demo, or with a project file."""
    app = make_application()
    preferences = load_preferences()
    path: Path | None = None
    try:
        if arguments and arguments[0] == "--demo":
            bundle = demo_bundle()
        elif arguments:
            path = Path(arguments[0])
            bundle = read_bundle(path)
        else:
            bundle = new_bundle()
        document = Document(bundle, path, preferences.units)
    except MandorlaError as error:
        sys.stderr.write(f"mandorla: {error}\n")
        return 2
    window = MainWindow(document, preferences)
    window.show()
    window.look_for_recovery()
    return int(app.exec())
