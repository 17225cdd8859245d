"""The open project: its value, its undo stack, its file; its results stand beside it."""

from __future__ import annotations

import time
import zlib
from collections.abc import Callable
from datetime import date
from pathlib import Path
from typing import TYPE_CHECKING, Any

from PySide6.QtCore import QObject, QTimer, Signal
from PySide6.QtGui import QUndoStack

from mandorla.core.errors import InputError, MandorlaError, Problem
from mandorla.core.folders import recovery_folder
from mandorla.core.part.mesh import LARGEST, SMALLEST
from mandorla.core.part.process import PartSource
from mandorla.core.project.atomic import Linked, stamp_of
from mandorla.core.project.models import MOST_SCENARIOS, Project, Scenario
from mandorla.core.project.open_notes import OpenedBy, opened_by, say_closed, say_open, still_open
from mandorla.core.project.paths import set_value
from mandorla.core.project.recovery import Autosave
from mandorla.core.project.store import Bundle, read_bundle, write_bundle
from mandorla.core.results.kept_runs import encoded, entry_of
from mandorla.core.results.key import Key
from mandorla.core.results.keys import GEOMETRY
from mandorla.core.runtime import RunContext
from mandorla.core.units import UnitPreferences
from mandorla.ui.commands.edits import History
from mandorla.ui.jobs import Jobs, Lane
from mandorla.ui.live_logbook import LiveLogbook
from mandorla.ui.live_results import LiveResults, in_words

if TYPE_CHECKING:
    from mandorla.core.results.types import FullRun

_AUTOSAVE_MS = 4000
_MERGE_SECONDS = 1.2


class Document(QObject):
    """One open project. All edits go through it; results arrive as signals on the interface thread."""

    project_changed = Signal()
    units_changed = Signal()
    problem = Signal(str)
    said = Signal(str)
    file_changed = Signal()
    copy_kept = Signal()

    def __init__(self, bundle: Bundle, path: Path | None, units: UnitPreferences) -> None:
        super().__init__()
        self._bundle = bundle
        self._path = path
        self._units = units
        self.undo_stack = QUndoStack(self)
        self._history = History(self.undo_stack, self._apply)
        self._last_edit: tuple[str, float] = ("", 0.0)
        self.edited_at = 0.0  # time.perf_counter() of the last change, undo and redo included
        self._edit_run = 0
        self.jobs = Jobs(self)
        self.results = LiveResults(self.jobs, bundle)
        self.logbook = LiveLogbook(self.jobs, self.results)
        self.results.bring_kept()
        self._autosave: Autosave | None = None
        self.no_recovery = ""  # why no recovery copies can be kept; empty where they can
        try:
            self._autosave = Autosave(recovery_folder())
        except OSError as error:
            self.no_recovery = f"No recovery copies can be kept in {recovery_folder()}: {error.strerror}. Save often."
        self._stamp = stamp_of(path) if path is not None else None
        # somebody else who has the file open
        self.opened_by: OpenedBy | None = opened_by(path) if path is not None else None
        self._autosave_timer = QTimer(self, singleShot=True, interval=_AUTOSAVE_MS)
        self._autosave_timer.timeout.connect(self.keep_recovery_copy)

    # ---- what it is
    @property
    def bundle(self) -> Bundle:
        """Project and originals."""
        return self._bundle

    @property
    def project(self) -> Project:
        """The project's value."""
        return self._bundle.project

    @property
    def path(self) -> Path | None:
        """The file it belongs to, None while it was never saved."""
        return self._path

    @property
    def units(self) -> UnitPreferences:
        """The units to show."""
        return self._units

    def set_units(self, units: UnitPreferences) -> None:
        """Show other units; stored values stay."""
        self._units = units
        self.units_changed.emit()

    # ---- editing
    def edit(self, path: str, value: Any, label: str) -> None:
        """Change one field. Raises InputError and changes nothing when the value is refused."""
        project = set_value(self.project, path, value)
        if project == self.project:
            return
        self._check_size(project)
        stepped = isinstance(value, int | float) and not isinstance(value, bool)
        self._push(Bundle(project, self._bundle.originals), f"Change {label}", path if stepped else "")

    def edit_many(self, values: dict[str, Any], label: str) -> None:
        """Change several fields as one undoable step. Raises InputError."""
        project = self.project
        for path, value in values.items():
            project = set_value(project, path, value)
        if project != self.project:
            self._push(Bundle(project, self._bundle.originals), label, "")

    def edit_with_files(self, values: dict[str, Any], files: dict[str, bytes], label: str) -> None:
        """Change fields and take imported originals in as one undoable step; unused ones go. Raises InputError."""
        project = self.project
        for path, value in values.items():
            project = set_value(project, path, value)
        wanted = project.originals()
        originals = {name: data for name, data in {**self._bundle.originals, **files}.items() if name in wanted}
        self._push(Bundle(project, originals), label, "")

    def free_name(self, name: str) -> str:
        """A name for an imported original that no other one has."""
        stem, dot, end = name.rpartition(".")
        found, number = name, 2
        while found in self._bundle.originals:
            found = f"{stem or end}-{number}{dot}{end if stem else ''}"
            number += 1
        return found[:120]

    def _check_size(self, project: Project) -> None:
        """Refuse a scale that makes the part impossibly small or large, before the mesh is read again."""
        geometry, old, new = self.results.value(GEOMETRY), self.project.part, project.part
        if geometry is None or old is None or new is None or new.file != old.file:
            return
        factor = new.unit_scale * new.scale / (old.unit_scale * old.scale)
        longest = factor * float(geometry.mesh.size.max())
        if not SMALLEST <= longest <= LARGEST:
            allowed = f"{1e3 * SMALLEST:.0f} mm to {1e3 * LARGEST:.0f} mm"
            raise InputError(
                f"The part would be {1e3 * longest:.4g} mm at its longest.",
                problems=(Problem("part.scale", f"{1e3 * longest:.4g} mm", allowed),),
            )

    def import_part(self, path: Path, unit_scale: float, unit: str) -> None:
        """Replace the part by a mesh file, read beside the interface; a refused one leaves the old part in place."""

        def work(run: RunContext) -> bytes:
            from mandorla.core.part.geometry import read_part_file  # loads the numerics, on its thread

            return read_part_file(path, unit_scale, run)

        self._read(path, work, lambda data: self._take_part(path, data, unit_scale, unit))

    def import_gcode(self, path: Path) -> None:
        """Take in the G-code that prints the part, read beside the interface; one that does not fit is refused."""
        source, originals = self.project.part, self._bundle.originals

        def work(run: RunContext) -> bytes:
            from mandorla.core.part.geometry import read_gcode_file  # loads the numerics, on its thread

            return read_gcode_file(path, source, originals, run)

        self._read(path, work, lambda data: self._take_gcode(path.name, data))

    def _read(self, path: Path, work: Callable[[RunContext], bytes], done: Callable[[bytes], None]) -> None:
        """Read a file on its lane; what is wrong with it is told."""
        self.said.emit(f"Reading {path.name} …")
        self.jobs.start(f"Reading {path.name}", work, Lane.FILES, done=done, failed=self._tell)

    def _tell(self, error: BaseException) -> None:
        self.problem.emit(str(error) if isinstance(error, MandorlaError) else in_words(error))

    def _take_gcode(self, name: str, data: bytes) -> None:
        file = self.free_name(name)
        self.edit_with_files({"part.gcode": file}, {file: data}, f"Open G-code {name}")
        self.said.emit(f"{name} opened: layer times, volume and number of layers are taken from it.")

    def keep_run(self, key: Key[FullRun], says: str) -> None:
        """Keep a finished full run of the project as it is in the project; it is packed beside the interface."""
        found, digest = self.results.value(key), self.results.results.digest(key)
        if found is None:
            return

        def take(data: bytes) -> None:
            try:
                run = entry_of(key, digest, date.today().isoformat(), self.project, says)
            except InputError as error:
                self._tell(error)
                return
            self.edit_with_files({"runs": (*self.project.runs, run)}, {run.file: data}, "Keep a full run")
            self.said.emit("The run is kept in the project; it is written with the next save.")

        self.jobs.start("Keeping the full run", lambda _: encoded(found), Lane.FILES, done=take, failed=self._tell)

    def forget_gcode(self) -> None:
        """Go back to times and volumes from the process."""
        self.edit_with_files({"part.gcode": ""}, {}, "Forget G-code")

    def _take_part(self, path: Path, data: bytes, unit_scale: float, unit: str) -> None:
        old = set(self.project.part.files) if self.project.part is not None else set()
        originals = {k: v for k, v in self._bundle.originals.items() if k not in old}
        name = path.name[-200:]
        originals[name] = data
        source = PartSource(name=path.stem[:200], file=name, unit_scale=unit_scale)
        project = self.project.model_copy(update={"part": source})
        self._push(Bundle(project, originals), f"Open part {path.name}", "")
        self.said.emit(f"{path.name} opened; units read as {unit}.")

    def pin(self, name: str) -> None:
        """Pin the present settings as a scenario. Raises InputError where as many as can be compared are pinned already."""
        kept = [s for s in self.project.scenarios if s.name != name]
        if len(kept) >= MOST_SCENARIOS:
            raise InputError(f"{MOST_SCENARIOS} scenarios are pinned already: remove one of them first.")
        scenario = Scenario(name=name, settings=self.project.settings, process=self.project.process)
        project = self.project.model_copy(update={"scenarios": (*kept, scenario)})
        self._push(Bundle(project, self._bundle.originals), f"Pin {name}", "")

    def unpin(self, name: str) -> None:
        """Forget a pinned scenario."""
        kept = tuple(s for s in self.project.scenarios if s.name != name)
        self._push(
            Bundle(self.project.model_copy(update={"scenarios": kept}), self._bundle.originals), f"Unpin {name}", ""
        )

    def keep_build(self, name: str) -> None:
        """Keep the present rig under a name; one of the same name is replaced. Raises InputError for a bad name or too many."""
        kept = [b.model_dump() for b in self.project.builds if b.name != name]
        project = set_value(self.project, "builds", (*kept, {"name": name, "rig": self.project.rig.model_dump()}))
        self._push(Bundle(project, self._bundle.originals), f"Keep build {name}", "")

    def forget_build(self, name: str) -> None:
        """Forget a kept build."""
        kept = tuple(b for b in self.project.builds if b.name != name)
        self._push(
            Bundle(self.project.model_copy(update={"builds": kept}), self._bundle.originals), f"Forget {name}", ""
        )

    def take_build(self, name: str) -> None:
        """Make a kept build the present rig."""
        rig = next(b.rig for b in self.project.builds if b.name == name)
        self._push(
            Bundle(self.project.model_copy(update={"rig": rig}), self._bundle.originals), f"Take build {name}", ""
        )

    def _push(self, after: Bundle, text: str, merge_path: str) -> None:
        now = time.monotonic()
        if not merge_path or self._last_edit[0] != merge_path or now - self._last_edit[1] > _MERGE_SECONDS:
            self._edit_run += 1  # another field or a pause: undone on its own
        self._last_edit = (merge_path, now)
        key = zlib.crc32(f"{merge_path}#{self._edit_run}".encode()) & 0x7FFFFFFF if merge_path else -1
        self._history.push(self._bundle, after, text, key)

    def _apply(self, bundle: Bundle) -> None:
        self._bundle = bundle
        self.edited_at = time.perf_counter()
        self.results.set_bundle(bundle)  # before anybody asks what stands for the new state
        self.project_changed.emit()
        if not self._autosave_timer.isActive():  # edits in a row must not put it off
            self._autosave_timer.start()

    # ---- files
    def announce(self) -> None:
        """Leave a note beside the file that it is open here."""
        if self._path is not None:
            say_open(self._path)

    def save(self, path: Path, linked: Linked = "refuse") -> None:
        """Save to a file. Raises ProjectFileError and keeps the work when it cannot be written; ``linked``: see
        :func:`mandorla.core.project.atomic.write_atomically`."""
        write_bundle(path, self._bundle, linked=linked)
        if self._path is not None and self._path != path:
            say_closed(self._path)
        self._path, self._stamp = path, stamp_of(path)
        self.announce()
        self.undo_stack.setClean()
        self._autosave_timer.stop()
        self.jobs.cancel_lane(Lane.KEEPER)
        self._forget_copy()
        self.file_changed.emit()

    def mark_unsaved(self) -> None:
        """The project differs from its file although nothing was edited yet (recovered work)."""
        self.undo_stack.resetClean()
        self.keep_recovery_copy()

    def keep_recovery_copy(self) -> None:
        """Write the recovery copy beside the interface, while there is unsaved work."""
        if self.undo_stack.isClean():
            self.jobs.cancel_lane(Lane.KEEPER)  # a copy being written must not outlive this
            self._forget_copy()
            return
        bundle, path, autosave = self._bundle, self._path, self._autosave
        if path is not None:
            still_open(path)
        if autosave is None:
            return
        self.jobs.start(
            "Recovery copy",
            lambda _: autosave.keep(bundle, path),
            Lane.KEEPER,
            done=lambda _: self.copy_kept.emit(),
            failed=self._no_copy,
            shown=False,
        )

    def _no_copy(self, error: BaseException) -> None:
        self.problem.emit(f"No recovery copy could be kept: {in_words(error)}")

    def close(self, *, forget: bool = True) -> None:
        """Stop all work; the recovery copy goes unless ``forget`` is false."""
        self.undo_stack.blockSignals(True)  # it would report its own end to a window that is going
        self._history.forget()
        self._autosave_timer.stop()
        self.results.close()
        self.logbook.close()
        self.jobs.close()
        if self._path is not None:
            say_closed(self._path)
        if forget:
            self._forget_copy()

    def _forget_copy(self) -> None:
        if self._autosave is not None:
            self._autosave.clear()

    @property
    def changed_on_disk(self) -> bool:
        """Whether the file is another one than the one that was opened or saved here last: another window has saved it."""
        return self._path is not None and self._stamp is not None and stamp_of(self._path) not in (None, self._stamp)


def open_document(path: Path, units: UnitPreferences) -> Document:
    """Open a project file whose part can be read. Raises ProjectFileError or MeshError."""
    from mandorla.core.part.geometry import geometry_of  # loads the numerics

    bundle = read_bundle(path)
    if bundle.project.part is not None:
        geometry_of(bundle.project.part, bundle.originals)
    return Document(bundle, path, units)
