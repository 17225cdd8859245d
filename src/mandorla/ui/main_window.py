"""The main window: header, stage rail, pages, console."""

from __future__ import annotations

from collections.abc import Callable
from datetime import datetime
from functools import partial
from pathlib import Path

from PySide6.QtCore import QEvent, Qt
from PySide6.QtGui import QAction, QCloseEvent, QDragEnterEvent, QDropEvent, QKeySequence
from PySide6.QtWidgets import (
    QApplication,
    QFileDialog,
    QHBoxLayout,
    QLabel,
    QMainWindow,
    QMenu,
    QMessageBox,
    QStackedWidget,
    QToolButton,
    QVBoxLayout,
    QWidget,
)

from mandorla.core.errors import LinkedFileError, MandorlaError
from mandorla.core.project.migrations import changed_since
from mandorla.core.project.models import SCHEMA_VERSION
from mandorla.core.project.samples import CASES, PARTS, SAMPLES, sample, sample_part
from mandorla.core.project.store import with_ending
from mandorla.core.results.keys import EVALUATION, GEOMETRY, SCENARIO
from mandorla.core.runtime import RunContext
from mandorla.ui.appearance import Appearance
from mandorla.ui.beginnings import Beginnings
from mandorla.ui.decimal_sign import use_comma
from mandorla.ui.document import Document, open_document
from mandorla.ui.explain_card import Explaining
from mandorla.ui.jobs import Lane
from mandorla.ui.live_results import in_words
from mandorla.ui.preferences import Preferences
from mandorla.ui.recovering import Recovering
from mandorla.ui.stages.page import StagePage
from mandorla.ui.stages.registry import STAGES
from mandorla.ui.theme.palette import DARK, LIGHT, Theme, font, style_sheet
from mandorla.ui.widgets.console import Console
from mandorla.ui.widgets.fields import FieldEdit
from mandorla.ui.widgets.jobs_list import JobsList
from mandorla.ui.widgets.message_bar import MessageBar
from mandorla.ui.widgets.stage_rail import StageRail

EDIT = "edit"  # what a complaint about a refused edit is about


class MainWindow(QMainWindow):
    """One window for one project."""

    def __init__(self, document: Document, preferences: Preferences) -> None:
        super().__init__()
        use_comma(preferences.comma)
        self.preferences = preferences
        self.theme: Theme = DARK if preferences.dark else LIGHT
        self.document = document
        self.first_paint: Callable[[], None] | None = None
        self.on_offer: Callable[[], None] = lambda: None  # what the message bar's button does
        self._loaded = False
        self.setMinimumSize(960, 640)
        self.resize(1280, 800)
        self._build()
        self._build_actions()
        self._connect_document()
        self.apply_theme()
        self.stack.setFocus()

    # ---- building
    def _build(self) -> None:
        central = QWidget()
        column = QVBoxLayout(central)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(0)
        header = QHBoxLayout()
        header.setContentsMargins(16, 8, 12, 4)
        header.setSpacing(6)
        self.title: FieldEdit | None = None
        self.subtitle = QLabel()
        self.subtitle.setObjectName("soft")
        self.subtitle.setFont(font(9.5))
        header.addWidget(self.subtitle)
        header.addStretch(1)
        self.header = header
        column.addLayout(header)
        self.messages = MessageBar(self.theme)
        self.messages.acted.connect(lambda: self.on_offer())
        holder = QHBoxLayout()
        holder.setContentsMargins(16, 0, 12, 2)
        holder.addWidget(self.messages)
        column.addLayout(holder)
        middle = QHBoxLayout()
        middle.setSpacing(0)
        self.rail = StageRail({key: stage.title for key, stage in STAGES.items()}, self.theme)
        self.rail.chosen.connect(self.show_stage)
        self.stack = QStackedWidget()
        middle.addWidget(self.rail)
        middle.addWidget(self.stack, 1)
        column.addLayout(middle, 1)
        self.jobs_list = JobsList()
        column.addWidget(self.jobs_list)
        self.strip = QHBoxLayout()  # the tour, while it leads
        self.strip.setContentsMargins(12, 2, 12, 2)
        column.addLayout(self.strip)
        self.console_host = QVBoxLayout()
        column.addLayout(self.console_host)
        self.work = central
        self.pages = QStackedWidget()
        self.pages.addWidget(central)
        self.setCentralWidget(self.pages)
        self.setAcceptDrops(True)
        self.beginnings = Beginnings(self)
        self.appearance = Appearance(self)
        self.recovering = Recovering(self)
        self.explaining = Explaining(self)
        self.explain = self.explaining.about

    def dragEnterEvent(self, event: QDragEnterEvent) -> None:
        """Files that can be opened may be dropped."""
        if self.beginnings.files_in(event.mimeData()):
            event.acceptProposedAction()

    def dropEvent(self, event: QDropEvent) -> None:
        """Open what is dropped."""
        for path in self.beginnings.files_in(event.mimeData())[:1]:
            self.beginnings.open_file(path)

    def _button(self, text: str, name: str, menu: QMenu | None = None) -> QToolButton:
        button = QToolButton()
        button.setText(text)
        button.setAccessibleName(name)
        button.setFont(font(9.5))
        if menu is not None:
            button.setMenu(menu)
            button.setPopupMode(QToolButton.ToolButtonPopupMode.InstantPopup)
        self.header.addWidget(button)
        return button

    def _action(
        self, text: str, slot: Callable[[], object], keys: QKeySequence.StandardKey | str | None = None
    ) -> QAction:
        action = QAction(text, self)
        action.triggered.connect(lambda _=False: slot())
        if keys is not None:
            action.setShortcut(QKeySequence(keys))
        self.addAction(action)
        return action

    def _build_actions(self) -> None:
        keys = QKeySequence.StandardKey
        self.undo_action = self._action("Undo", lambda: self.document.undo_stack.undo(), keys.Undo)
        self.redo_action = self._action("Redo", lambda: self.document.undo_stack.redo(), keys.Redo)
        self.undo_button = self._button("Undo", "Undo the last change")
        self.redo_button = self._button("Redo", "Redo the change")
        self.undo_button.clicked.connect(self.undo_action.trigger)
        self.redo_button.clicked.connect(self.redo_action.trigger)
        self.file_menu = QMenu(self)
        self.open_action = self._action("Open project …", self.choose_project, keys.Open)
        self.part_action = self._action("Open part …", self._choose_part, "Ctrl+I")
        self.save_action = self._action("Save", self.save, keys.Save)
        self.save_as_action = self._action("Save as …", self.save_as, keys.SaveAs)
        self.report_action = self._action("Write report …", self.choose_report, "Ctrl+R")
        self.keep_action = self._action("Keep this machine", self.beginnings.keep_machine)
        self.start_action = self._action("Start page", self.beginnings.show)
        self.quit_action = self._action("Close", self.close, keys.Quit)
        self.recent_menu = QMenu("Recent projects", self)
        self.file_menu.addAction(self.open_action)
        self.file_menu.addMenu(self.recent_menu)
        self.sample_menu = self.file_menu.addMenu("Demo workshop")
        for key, title in (*SAMPLES.items(), *CASES.items()):
            self.sample_menu.addAction(title).triggered.connect(lambda _=False, k=key: self.open_sample(k))
        self.sample_menu.addSeparator()
        for key, (title, _, _) in PARTS.items():
            self.sample_menu.addAction(title).triggered.connect(lambda _=False, k=key: self.take_part(k))
        self.file_menu.addAction(self.part_action)
        self.file_menu.addSeparator()
        self.file_menu.addActions(
            [self.save_action, self.save_as_action, self.report_action, self.keep_action, self.start_action]
        )
        self.file_menu.addSeparator()
        self.file_menu.addAction(self.quit_action)
        self._button("Project", "Project menu", self.file_menu)
        self._button("Report", "Write a PDF report").clicked.connect(self.report_action.trigger)
        self.view_menu = QMenu(self)
        self.appearance.fill(self.view_menu, self._action)
        self._button("View", "View menu", self.view_menu)
        self._action("User guide", self.beginnings.show_help, "F1")
        self._action("Explain this figure", self.explaining.about_this, "F2")
        self._action("Go to …", self.beginnings.show_palette, "Ctrl+K")
        for i, (key, stage) in enumerate(STAGES.items()):
            self._action(f"Stage {stage.title}", partial(self.show_stage, key), f"Ctrl+{i + 1}")
        self._fill_recent()

    def _connect_document(self) -> None:
        document = self.document
        while self.stack.count():
            old = self.stack.widget(0)
            if old is not None:
                self.stack.removeWidget(old)
                old.deleteLater()
        self._pages: dict[str, StagePage] = {}
        self._open = next(iter(STAGES))
        while self.console_host.count():
            item = self.console_host.takeAt(0)
            widget = item.widget() if item is not None else None
            if widget is not None:
                widget.hide()
                widget.deleteLater()
        if self.title is not None:
            self.header.removeWidget(self.title)
            self.title.hide()
            self.title.deleteLater()
        self.title = FieldEdit(document, "name", "Project name")
        self.title.setProperty("plain", True)
        self.title.setFont(font(11.5, strong=True))
        self.title.setToolTip("The project's name; click to change it")
        self.header.insertWidget(0, self.title)
        self.console = Console(document, self.theme)
        self.console.fold(self.preferences.folded_console)
        self.console_host.addWidget(self.console)
        document.results.changed.connect(self._on_result)
        document.results.changed.connect(self.explaining.follow)
        document.results.failed.connect(self._on_failed)
        document.results.failed.connect(lambda name, _: self.explaining.follow(name))
        document.project_changed.connect(self._on_project)
        document.units_changed.connect(self._on_units)
        document.jobs.changed.connect(self.jobs_list.show_jobs)
        document.jobs.progressed.connect(self.jobs_list.show_progress)
        self.jobs_list.follow(document.jobs)
        document.problem.connect(lambda text: self.messages.complain(text, about=EDIT))
        document.announce()
        if document.no_recovery:
            self.messages.complain(document.no_recovery)
        elif document.opened_by is not None:
            who = document.opened_by
            self.messages.complain(
                f"{who.user} has this project open on {who.host} since {datetime.fromtimestamp(who.since):%d %b, %H:%M}: "
                "whoever saves last replaces what the other saved, after being asked."
            )
        document.said.connect(self.messages.say)
        document.logbook.refused.connect(self.messages.complain)
        document.logbook.changed.connect(self._on_project)
        if not document.logbook.busy:
            document.logbook.read()
        document.file_changed.connect(self._show_title)
        document.undo_stack.indexChanged.connect(self._show_title)
        document.undo_stack.cleanChanged.connect(self._show_title)
        self.show_stage(self._open)
        self._show_title()

    # ---- showing
    @property
    def page(self) -> StagePage:
        """The page of the open stage."""
        return self._pages[self._open]

    @property
    def stage(self) -> str:
        """The key of the open stage."""
        return self._open

    def show_stage(self, key: str) -> None:
        """Open a stage; its page is built the first time."""
        if key not in self._pages:
            page = self._pages[key] = STAGES[key].make(self.document, self.theme)
            page.go_to.connect(self.show_stage)
            page.wants_changed.connect(self._want)
            page.fold_sides(self.preferences.folded_sides)
            self.stack.addWidget(page)
        self._open = key
        self.stack.setCurrentWidget(self.page)
        self.rail.select(key)
        self._refresh_page()
        self._want()

    @property
    def built(self) -> dict[str, StagePage]:
        """The pages that were opened once, by stage."""
        return dict(self._pages)

    def _want(self) -> None:
        """Only what is seen is computed: console first, then the page, then the marks of the rail."""
        d = self.document
        scenarios = tuple(SCENARIO.of(scenario=s.name) for s in d.project.scenarios)
        d.results.want("console", (EVALUATION, *scenarios))
        d.results.want("page", self.page.wants())
        d.results.want("rail", tuple(key for stage in STAGES.values() for key in stage.uses(d)))

    def _on_project(self) -> None:
        self.messages.settled(EDIT)  # what was refused before is mended, or no longer wanted
        self._show_title()
        self._want()
        self.explaining.follow()
        self.page.refresh_after_edit()
        self.page.show_state(STAGES[self._open].state(self.document))

    def _on_units(self) -> None:
        self._want()
        self._refresh_page()

    def _on_failed(self, name: str, text: str) -> None:
        if name in (EVALUATION.name, GEOMETRY.name):
            self.messages.complain(text, about=name)

    def _on_result(self, name: str) -> None:
        if name == EVALUATION.name:
            if self.document.results.value(EVALUATION) is not None:
                self.messages.settled(EVALUATION.name, GEOMETRY.name)
            self.page.refresh_if_new()
            if not self._loaded:
                self._loaded = True
                self.document.jobs.start("Loading", load_stages, Lane.SLOW, shown=False)
        elif any(key.name == name for key in self.page.uses()):
            self.page.tell()  # the answer of the stage is made from it, whichever view is seen
        self._show_states()

    def _refresh_page(self) -> None:
        # only the visible page is drawn at once; the others when they are opened
        self.page.refresh()
        self.page.show_state(STAGES[self._open].state(self.document))

    def _show_states(self) -> None:
        states = {key: stage.state(self.document) for key, stage in STAGES.items()}
        self.rail.show_states(states, self.theme)
        self.page.show_state(states[self._open])

    def _show_title(self, _: object = None) -> None:
        project, stack = self.document.project, self.document.undo_stack
        unsaved = "" if stack.isClean() else " · not saved"
        where = self.document.path.name if self.document.path else "not yet a file"
        assert self.title is not None
        self.title.setFixedWidth(min(360, self.title.fontMetrics().horizontalAdvance(project.name) + 26))
        part = project.part.name if project.part else "no part"
        self.subtitle.setText(f"{project.rig.name} · {part} · {where}{unsaved}")
        self.setWindowTitle(f"{project.name}{'' if stack.isClean() else ' *'} – Mandorla")
        for button, can, text, word in (
            (self.undo_button, stack.canUndo(), stack.undoText(), "Undo"),
            (self.redo_button, stack.canRedo(), stack.redoText(), "Redo"),
        ):
            button.setEnabled(can)
            button.setToolTip(f"{word}: {text}" if can else f"Nothing to {word.lower()}")

    def apply_theme(self) -> None:
        """Style everything for the theme."""
        app = QApplication.instance()
        assert isinstance(app, QApplication)
        sheet = style_sheet(self.theme)
        if app.styleSheet() != sheet:  # another window may have set it already; setting it anew visits every widget
            app.setStyleSheet(sheet)
        self.messages.set_theme(self.theme)
        self.console.set_theme(self.theme)
        for page in self._pages.values():
            page.set_theme(self.theme)
        self._refresh_page()
        self._show_states()

    # ---- files
    def _fill_recent(self) -> None:
        self.recent_menu.clear()
        for text in self.preferences.recent:
            action = self.recent_menu.addAction(Path(text).name)
            action.setToolTip(text)
            action.triggered.connect(lambda _=False, p=text: self.open_project(Path(p)))
        self.recent_menu.setEnabled(bool(self.preferences.recent))

    def choose_project(self) -> None:
        """Ask for a project file and open it."""
        path, _ = QFileDialog.getOpenFileName(self, "Open project", "", "Mandorla projects (*.mandorla)")
        if path:
            self.open_project(Path(path))

    def open_project(self, path: Path) -> bool:
        """Open a project; a refused file leaves the work in hand as it is."""
        try:
            document = open_document(path, self.preferences.units)
        except MandorlaError as error:
            self.messages.complain(str(error))
            return False
        if not self.may_leave():
            document.close()
            return False
        self.use_document(document)
        since = changed_since(document.bundle.written_by, SCHEMA_VERSION)
        if since:
            self.messages.say(since)
        self.preferences.remember(path)
        self.appearance.save()
        self._fill_recent()
        return True

    def take_part(self, key: str) -> None:
        """Put a part of the workshop onto the present machine."""
        source, files = sample_part(key)
        self.document.edit_with_files({"part": source.model_dump()}, files, f"Take {source.name}")
        self.show_stage("part")

    def open_sample(self, key: str) -> None:
        """Open a rig of the demo workshop as a project that was never saved."""
        if self.may_leave():
            self.use_document(Document(sample(key), None, self.preferences.units))

    def use_document(self, document: Document) -> None:
        """Replace the open project."""
        self.document.close()
        self._stop_pages()
        self.document.deleteLater()
        self.document = document
        self._connect_document()
        self.apply_theme()
        self.beginnings.leave()

    def _choose_part(self) -> None:
        self.show_stage("part")
        self.page.act("open part")

    def save(self) -> bool:
        """Save to the project's file, or ask for one; a file that another window has saved meanwhile is asked about."""
        path = self.document.path
        if path is None:
            return self.save_as()
        if self.document.changed_on_disk:
            question = QMessageBox(self)
            question.setWindowTitle("Mandorla")
            question.setText(f"“{path.name}” was changed on disk since it was opened here.")
            question.setInformativeText(
                "Replace it: yours stays, that one goes. Open that one: yours is given up. Save as: both stay."
            )
            over = question.addButton("Replace it", QMessageBox.ButtonRole.DestructiveRole)
            theirs = question.addButton("Open that one", QMessageBox.ButtonRole.ResetRole)
            other = question.addButton("Save as …", QMessageBox.ButtonRole.AcceptRole)
            question.addButton(QMessageBox.StandardButton.Cancel)
            question.exec()
            if question.clickedButton() is other:
                return self.save_as()
            if question.clickedButton() is theirs:
                self.document.undo_stack.setClean()  # what is here is given up
                self.open_project(path)
            if question.clickedButton() is not over:
                return False
        return self.save_to(path)

    def save_as(self) -> bool:
        """Ask for a file and save there; the ending is added before it is asked whether a file may be replaced."""
        name = f"{self.document.project.name}.mandorla"
        path, _ = QFileDialog.getSaveFileName(
            self,
            "Save project",
            name,
            "Mandorla projects (*.mandorla)",
            options=QFileDialog.Option.DontConfirmOverwrite,
        )
        if not path:
            return False
        target = with_ending(Path(path))
        if target.exists() and target != self.document.path:
            answer = QMessageBox.question(self, "Mandorla", f"“{target.name}” exists already. Replace it?")
            if answer != QMessageBox.StandardButton.Yes:
                return False
        return self.save_to(target)

    def save_to(self, path: Path) -> bool:
        """Save to a file, its ending added where it is missing; tells and returns false when it cannot be written."""
        target = with_ending(path)
        try:
            self.document.save(target)
        except LinkedFileError as error:
            return self._save_linked(target, str(error))
        except MandorlaError as error:
            self.messages.complain(str(error))
            return False
        return self._saved(target)

    def _saved(self, target: Path) -> bool:
        self.preferences.remember(target)
        self.appearance.save()
        self._fill_recent()
        self.messages.say(f"Saved: {target.name}")
        return True

    def _save_linked(self, target: Path, why: str) -> bool:
        """Ask what to do with a file that has several names."""
        question = QMessageBox(self)
        question.setWindowTitle("Mandorla")
        question.setText(why)
        question.setInformativeText(
            "Under all names: the file is written over in place, after a whole copy beside it is safe. Here only: the others part."
        )
        together = question.addButton("Under all names", QMessageBox.ButtonRole.AcceptRole)
        apart = question.addButton("Here only", QMessageBox.ButtonRole.DestructiveRole)
        question.addButton(QMessageBox.StandardButton.Cancel)
        question.exec()
        pressed = question.clickedButton()
        if pressed is not together and pressed is not apart:
            return False
        try:
            self.document.save(target, "together" if pressed is together else "apart")
        except MandorlaError as error:
            self.messages.complain(str(error))
            return False
        return self._saved(target)

    def choose_report(self) -> None:
        """Ask for a file and write the report."""
        path, _ = QFileDialog.getSaveFileName(
            self, "Write report", f"{self.document.project.name}.pdf", "Report (*.pdf *.html)"
        )
        if path:
            self.write_report(Path(path))

    def write_report(self, path: Path) -> None:
        """Write the PDF report beside the interface."""
        results, units = self.document.results.results, self.document.units
        if self.document.project.part is None:
            self.messages.complain("The report needs a part: open one first.")
            return

        def work(_: RunContext) -> None:
            from mandorla.core.report.write import write_report  # the document library loads late: it takes a second

            write_report(path, results, units)

        self.messages.say("Writing the report …")
        self.document.jobs.start(
            "Report", work, Lane.FILES, done=lambda _: self.messages.say(f"Report written: {path}"),
            failed=lambda error: self.messages.complain(in_words(error)),
        )  # fmt: skip

    # ---- closing
    def may_leave(self) -> bool:
        """Whether the work in hand may be left; what is not saved is asked about."""
        if self.document.undo_stack.isClean():
            return True
        answer = QMessageBox.question(
            self, "Mandorla", f"“{self.document.project.name}” has changes that are not saved. Save them?",
            QMessageBox.StandardButton.Save | QMessageBox.StandardButton.Discard | QMessageBox.StandardButton.Cancel,
        )  # fmt: skip
        if answer == QMessageBox.StandardButton.Save:
            return self.save()
        return answer == QMessageBox.StandardButton.Discard

    def closeEvent(self, event: QCloseEvent) -> None:
        """Ask about unsaved work, stop all threads."""
        if not self.may_leave():
            event.ignore()
            return
        self.explaining.close()
        self.beginnings.remember_session()
        self.document.close()
        self._stop_pages()
        event.accept()

    def _stop_pages(self) -> None:
        for page in self._pages.values():
            page.stop_work()

    def come_forward(self) -> None:
        """Show the window above others."""
        self.setWindowState(self.windowState() & ~Qt.WindowState.WindowMinimized)
        self.raise_()
        self.activateWindow()

    def event(self, event: QEvent) -> bool:
        """Tell once when the window has been painted."""
        if event.type() == QEvent.Type.UpdateRequest and self.first_paint is not None:
            result = super().event(event)
            tell, self.first_paint = self.first_paint, None
            tell()
            return result
        return super().event(event)


def load_stages(run: RunContext) -> None:
    """Load what the pages that were not opened yet draw with, beside the interface."""
    for stage in STAGES.values():
        run.checkpoint(0.0, f"loading {stage.title}")
        stage.load()
