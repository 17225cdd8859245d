"""How work begins in a window and how one finds one's way: the start page, files that are opened or dropped, help, the palette."""

from __future__ import annotations

from datetime import UTC, datetime
from pathlib import Path
from typing import TYPE_CHECKING, Final

from PySide6.QtCore import QMimeData

from mandorla.core.errors import MandorlaError
from mandorla.core.folders import state_folder
from mandorla.core.measure.models import LogMapping
from mandorla.core.part.mesh import UNITS
from mandorla.core.project.own_machines import keep
from mandorla.core.project.samples import sample
from mandorla.core.project.store import Bundle
from mandorla.core.rig.archetypes import Facts
from mandorla.core.rig.model import Rig
from mandorla.core.runtime import RunContext
from mandorla.ui.document import Document
from mandorla.ui.help_window import HelpWindow
from mandorla.ui.jobs import Lane
from mandorla.ui.live_results import in_words
from mandorla.ui.palette_box import PaletteBox
from mandorla.ui.stages.registry import STAGES
from mandorla.ui.start_page import StartPage
from mandorla.ui.tour import Tour

if TYPE_CHECKING:
    from mandorla.core.project.begin import LogBeginning
    from mandorla.ui.main_window import MainWindow

MESHES: Final = (".stl", ".obj", ".3mf")
_GCODE: Final = (".gcode", ".g", ".gco")
OPENED: Final = (".mandorla", *MESHES, *_GCODE)


class Beginnings:
    """Begins work in a window; ``page`` is the start page while it is seen."""

    def __init__(self, window: MainWindow) -> None:
        self._window = window
        self.page: StartPage | None = None
        self.help: HelpWindow | None = None
        self.tour: Tour | None = None

    def show(self) -> None:
        """Show how one may begin; the project behind it waits."""
        self.leave()
        window = self._window
        page = self.page = StartPage(window.theme, window.preferences.units, window.preferences.recent)
        page.begin_asked.connect(self._begin_from)
        page.reading_asked.connect(self._read_log)
        page.open_asked.connect(window.choose_project)
        page.demo_asked.connect(self.open_demo)
        page.tour_asked.connect(self.show_tour)
        page.recent_asked.connect(lambda path: window.open_project(Path(path)))
        page.empty_asked.connect(self.leave)
        window.pages.addWidget(page)
        window.pages.setCurrentWidget(page)
        page.kind.setFocus()

    def leave(self) -> None:
        """Go to work."""
        page, self.page = self.page, None
        if page is not None:
            self._window.pages.setCurrentWidget(self._window.work)
            self._window.pages.removeWidget(page)
            page.deleteLater()

    def _begin_from(
        self,
        machine: Facts | Rig,
        polymer: str,
        surface: str,
        part: tuple[str, bytes, float] | None,
        log: LogBeginning | None,
    ) -> None:
        """Make the project of a machine that was described, beside the interface."""
        page, liked = self.page, self._window.preferences

        def work(_: RunContext) -> Bundle:
            from mandorla.core.project.begin import begun_project  # loads the numerics, on its thread

            begun = begun_project(machine, polymer, part, surface_key=surface, log=log)
            wanted = begun.project.criteria.model_copy(update={"risk": liked.risk, "currency": liked.currency})
            return Bundle(begun.project.model_copy(update={"criteria": wanted}), begun.originals)

        def failed(error: BaseException) -> None:
            if page is not None and page is self.page:
                page.refuse(in_words(error))
                page.begin_button.setEnabled(True)

        jobs = self._window.document.jobs
        jobs.start("Describing the machine", work, Lane.FILES, done=self._begin_with, failed=failed)

    def _read_log(self, facts: Facts, stated: frozenset[str], name: str, data: bytes, mapping: LogMapping) -> None:
        """Find the machine that heats as a log does, beside the interface."""
        page, units = self.page, self._window.preferences.units
        if page is None:
            return

        def work(run: RunContext) -> tuple[LogBeginning, str]:
            from mandorla.core.project.begin import log_lines, machine_from_log  # loads the numerics, on its thread

            found = machine_from_log(facts, stated, name, data, mapping, datetime.now(UTC).date().isoformat(), run)
            return found, "\n".join(f"• {line}" for line in log_lines(found, units))

        def done(found: tuple[LogBeginning, str]) -> None:
            if page is self.page:
                page.show_log(facts, *found)

        def failed(error: BaseException) -> None:
            if page is self.page:
                page.show_log(facts, None, in_words(error))

        self._window.document.jobs.start("Reading the heat-up log", work, Lane.FILES, done=done, failed=failed)

    def _begin_with(self, bundle: Bundle) -> None:
        """Take a project that was described: to its first answer where it has a part, else to where a part is opened."""
        window = self._window
        if not window.may_leave():
            if self.page is not None:
                self.page.refuse("")
            return
        window.use_document(Document(bundle, None, window.preferences.units))
        window.show_stage("warp" if bundle.project.part is not None else "part")

    def open_demo(self) -> None:
        """The demo project with the demo workshop's logbook."""
        window = self._window
        if window.may_leave():
            document = Document(sample("boathouse"), None, window.preferences.units)
            document.logbook.use_demo(state_folder() / "demo-logbook.db")
            window.use_document(document)

    def show_tour(self) -> None:
        """Lead through the demo workshop, from its beginning."""
        window = self._window
        if self.tour is not None:
            self.tour.end()
        self.open_demo()
        if window.document.project.name != sample("boathouse").project.name:
            return  # the work in hand was not to be left
        self.tour = Tour(window)
        window.strip.addWidget(self.tour)
        self.tour.go(0)

    def keep_machine(self) -> None:
        """Keep the machine for other projects."""
        window = self._window
        try:
            path = keep(window.document.project.rig)
        except MandorlaError as error:
            window.messages.complain(str(error))
            return
        window.messages.say(f"Kept: {path.stem}. The start page offers it for other projects.")

    def files_in(self, data: QMimeData) -> list[Path]:
        """Files of what is dragged that can be opened."""
        paths = [Path(url.toLocalFile()) for url in data.urls()]
        return [p for p in paths if p.suffix.lower() in OPENED]

    def open_file(self, path: Path) -> None:
        """Open a project, a mesh as the part, or G-code that prints it."""
        window, kind = self._window, path.suffix.lower()
        if kind == ".mandorla":
            window.open_project(path)
        elif kind in MESHES and self.page is not None:
            self.page.take_part(path)
        elif kind in MESHES:
            window.show_stage("part")
            window.document.import_part(path, UNITS["mm"], "mm")
        elif kind in _GCODE:
            self.leave()
            window.show_stage("part")
            window.document.import_gcode(path)
        else:
            window.messages.complain(f"“{path.name}” is none of {', '.join(OPENED)}.")

    def remember_session(self) -> None:
        """What is open now is opened the next time; nothing where it is no file, or the start page is seen."""
        window, path = self._window, self._window.document.path
        there = path is not None and self.page is None
        window.preferences.session = str(path.resolve()) if there and path is not None else ""
        window.preferences.session_stage = window.stage if there else ""
        window.appearance.save()

    def restore_session(self) -> bool:
        """Open what was open the last time, at its stage; false where there is nothing, or it is gone."""
        liked = self._window.preferences
        if not liked.restore or not liked.session or not Path(liked.session).is_file():
            return False
        if not self._window.open_project(Path(liked.session)):
            return False
        if liked.session_stage in STAGES:
            self._window.show_stage(liked.session_stage)
        return True

    def show_help(self) -> None:
        """The user guide at the stage that is seen."""
        if self.help is None:
            self.help = HelpWindow(self._window.theme)
        self.help.open_at("start" if self.page is not None else self._window.stage)

    def show_theory(self, heading: str) -> None:
        """A section of the theory."""
        if self.help is None:
            self.help = HelpWindow(self._window.theme)
        self.help.open_theory(heading)

    def show_text(self, name: str) -> None:
        """One of the texts of the help."""
        if self.help is None:
            self.help = HelpWindow(self._window.theme)
        self.help.open_text(name)

    def show_palette(self) -> None:
        """Everything that can be reached, by typing."""
        PaletteBox(self._window).exec()
