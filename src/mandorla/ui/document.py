"""The open project: its value, its undo stack, its file, its evaluation and its window, as signals."""

from __future__ import annotations

import time
import zlib
from pathlib import Path
from typing import TYPE_CHECKING, Any

from PySide6.QtCore import QObject, QTimer, Signal
from PySide6.QtGui import QUndoStack

from mandorla.core.errors import InputError, MandorlaError, Problem
from mandorla.core.part.mesh import LARGEST, SMALLEST
from mandorla.core.part.process import PartSource
from mandorla.core.project.models import Project, Scenario
from mandorla.core.project.paths import set_value
from mandorla.core.project.recovery import Autosave
from mandorla.core.project.store import Bundle, read_bundle, write_bundle
from mandorla.core.rig.fitted import mark_of
from mandorla.core.runtime import RunContext
from mandorla.core.tune.verdict import State
from mandorla.core.units import UnitPreferences
from mandorla.ui.commands.edits import ReplaceBundle
from mandorla.ui.preferences import recovery_folder
from mandorla.ui.workers.jobs import Channel

if TYPE_CHECKING:  # the numerics load after the first picture
    from mandorla.core.project.plate_look import PlateLook
    from mandorla.core.project.session import PartGeometry
    from mandorla.core.thermal.surface_history import SurfaceHistory
    from mandorla.core.thermal.unknowns import CurveBands
    from mandorla.core.tune.evaluate import Evaluation
    from mandorla.core.tune.rig_checks import RigCheck
    from mandorla.core.tune.window import Window
    from mandorla.ui.workers.computing import Quick

_AUTOSAVE_MS = 4000
_WINDOW_DELAY_MS = 250
_PLATE_DELAY_MS = 700  # after the window: it takes a second, and hands at work need the processor more
_MERGE_SECONDS = 1.2


def part_files(part: PartSource) -> set[str]:
    """Names of the originals that a part needs."""
    return set(part.files)


class Document(QObject):
    """One open project. All edits go through it; results arrive as signals on the interface thread."""

    project_changed = Signal()
    evaluated = Signal()
    window_computed = Signal()
    window_progress = Signal(float)
    surface_computed = Signal()
    checks_computed = Signal()
    plate_computed = Signal()
    verified = Signal()
    units_changed = Signal()
    problem = Signal(str)
    said = Signal(str)
    file_changed = Signal()

    def __init__(self, bundle: Bundle, path: Path | None, units: UnitPreferences) -> None:
        super().__init__()
        self._bundle = bundle
        self._path = path
        self._units = units
        self.undo_stack = QUndoStack(self)
        self.geometry: PartGeometry | None = None
        self._measured: PartSource | None = None  # the part that the geometry belongs to
        self.evaluation: Evaluation | None = None
        self.window: Window | None = None
        self.surface: SurfaceHistory | None = None
        self.bands: CurveBands | None = None
        self.plate: PlateLook | None = None  # of the newest state that was looked at, see plate_is_present
        self._plate_of: tuple[object, ...] = ()
        self.checks: tuple[RigCheck, ...] = ()
        self._checks_of: tuple[object, ...] = ()
        self._surface_of: tuple[object, ...] = ()
        self._last_edit: tuple[str, float] = ("", 0.0)
        self._edit_run = 0
        self.verdict: tuple[str, State] | None = None  # of a measuring session: the rig's mark and the state
        self.pinned: dict[str, Evaluation] = {}
        self._autosave = Autosave(recovery_folder())
        self._quick = Channel(self)
        self._quick.finished.connect(self._on_evaluated)
        self._quick.failed.connect(self._on_failed)
        self._slow = Channel(self)
        self._slow.finished.connect(self._on_window)
        self._slow.failed.connect(self._on_failed)
        self._slow.progressed.connect(lambda fraction, _: self.window_progress.emit(fraction))
        self._keeper = Channel(self)
        self._keeper.failed.connect(lambda e: self.problem.emit(f"No recovery copy could be kept: {e}"))
        self._solid = Channel(self)
        self._solid.finished.connect(self._on_surface)
        self._solid.failed.connect(self._on_failed)
        self._plating = Channel(self)
        self._plating.finished.connect(self._on_plate)
        self._plating.failed.connect(self._on_failed)
        self._checking = Channel(self)
        self._checking.finished.connect(self._on_checked)
        self._checking.failed.connect(self._on_failed)
        self._import = Channel(self)
        self._import.finished.connect(self._on_imported)
        self._import.failed.connect(self._on_failed)
        self._gcode = Channel(self)
        self._gcode.finished.connect(self._on_gcode)
        self._gcode.failed.connect(self._on_failed)
        self._window_timer = QTimer(self, singleShot=True, interval=_WINDOW_DELAY_MS)
        self._window_timer.timeout.connect(self._compute_window)
        self._window_timer.timeout.connect(self._compute_surface)
        self._window_timer.timeout.connect(self._compute_checks)
        self._plate_timer = QTimer(self, singleShot=True, interval=_PLATE_DELAY_MS)
        self._plate_timer.timeout.connect(self._look_at_plate)
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

    @property
    def window_busy(self) -> bool:
        """Whether the operating window is being computed."""
        return self._slow.busy or self._window_timer.isActive()

    def set_units(self, units: UnitPreferences) -> None:
        """Show other units; stored values stay."""
        self._units = units
        self.units_changed.emit()
        self._compute_checks()

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
        wanted = project.measurements.originals() | (part_files(project.part) if project.part is not None else set())
        originals = {name: data for name, data in {**self._bundle.originals, **files}.items() if name in wanted}
        self._push(Bundle(project, originals), label, "")

    def note_verdict(self, state: State) -> None:
        """Keep what a measuring session says of the present rig, for the rail."""
        self.verdict = (mark_of(self.project.rig), state)
        self.verified.emit()

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
        old, new = self._measured, project.part
        if self.geometry is None or old is None or new is None or new.file != old.file:
            return
        factor = new.unit_scale * new.scale / (old.unit_scale * old.scale)
        longest = factor * float(self.geometry.mesh.size.max())
        if not SMALLEST <= longest <= LARGEST:
            allowed = f"{1e3 * SMALLEST:.0f} mm to {1e3 * LARGEST:.0f} mm"
            raise InputError(
                f"The part would be {1e3 * longest:.4g} mm at its longest.",
                problems=(Problem("part.scale", f"{1e3 * longest:.4g} mm", allowed),),
            )

    def import_part(self, path: Path, unit_scale: float, unit: str) -> None:
        """Replace the part by a mesh file, read beside the interface; a refused one leaves the old part in place."""

        def work(run: RunContext) -> tuple[str, bytes, float, str]:
            from mandorla.ui.workers import computing  # see its docstring

            return path.name, computing.read_part_file(path, unit_scale, run), unit_scale, unit

        self.said.emit(f"Reading {path.name} …")
        self._import.start(work)

    def import_gcode(self, path: Path) -> None:
        """Take in the G-code that prints the part, read beside the interface; one that does not fit is refused."""
        bundle = self._bundle

        def work(run: RunContext) -> tuple[str, bytes]:
            from mandorla.ui.workers import computing  # see its docstring

            return path.name, computing.read_gcode_file(path, bundle, run)

        self.said.emit(f"Reading {path.name} …")
        self._gcode.start(work)

    def _on_gcode(self, result: tuple[str, bytes]) -> None:
        name, data = result
        file = self.free_name(name)
        self.edit_with_files({"part.gcode": file}, {file: data}, f"Open G-code {name}")
        self.said.emit(f"{name} opened: layer times, volume and number of layers are its own now.")

    def forget_gcode(self) -> None:
        """Go back to times and volumes from the process."""
        self.edit_with_files({"part.gcode": ""}, {}, "Forget G-code")

    def _on_imported(self, result: tuple[str, bytes, float, str]) -> None:
        name, data, unit_scale, unit = result
        originals = {
            k: v
            for k, v in self._bundle.originals.items()
            if self.project.part is None or k not in part_files(self.project.part)
        }
        originals[name] = data
        source = PartSource(name=Path(name).stem, file=name, unit_scale=unit_scale)
        project = self.project.model_copy(update={"part": source})
        self._push(Bundle(project, originals), f"Open part {name}", "")
        self.said.emit(f"{name} opened, its numbers read as {unit}.")

    def pin(self, name: str) -> None:
        """Pin the present settings as a scenario; the older of two gives way."""
        kept = [s for s in self.project.scenarios if s.name != name][-1:]
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
        self.undo_stack.push(ReplaceBundle(self._bundle, after, text, self._apply, key))

    def _apply(self, bundle: Bundle) -> None:
        self._bundle = bundle
        self.project_changed.emit()
        self._autosave_timer.start()
        self.refresh()

    # ---- results
    def refresh(self) -> None:
        """Evaluate the present project beside the interface; the window follows after a pause."""
        bundle = self._bundle
        self._slow.cancel()
        self._solid.cancel()
        self._plating.cancel()
        self._plate_timer.stop()

        def work(_: RunContext) -> Quick:
            from mandorla.ui.workers import computing  # see its docstring

            return computing.evaluate_project(bundle)

        self._quick.start(work)

    def _on_evaluated(self, result: Quick) -> None:
        self.geometry, self.evaluation, self.pinned = result.geometry, result.evaluation, result.pinned
        self._measured = self.project.part  # answers of older projects were dropped
        if self._surface_key() != self._surface_of:
            self.surface, self.bands, self._surface_of = None, None, ()  # it belongs to another rig or other set points
        self.evaluated.emit()
        self._window_timer.start()
        if self.evaluation.part is None and self.window is not None:
            self.window, self.plate, self._plate_of = None, None, ()
            self.window_computed.emit()

    def _surface_key(self) -> tuple[object, ...]:
        settings = self.project.settings
        return (self.project.rig, self.project.criteria, settings.bed_first, settings.chamber, settings.soak_time)

    def _compute_surface(self) -> None:
        project, evaluation, key = self.project, self.evaluation, self._surface_key()
        if evaluation is None or key == self._surface_of or self._quick.busy:
            return
        horizon = evaluation.heat.shown_until(project.settings.soak_time)

        def work(run: RunContext) -> tuple[tuple[object, ...], SurfaceHistory, CurveBands]:
            from mandorla.ui.workers import computing  # see its docstring

            surface = computing.surface_over_time(project, horizon, run)
            return key, surface, computing.bands_of(project, evaluation, run)

        self._solid.start(work)

    def _on_surface(self, result: tuple[tuple[object, ...], SurfaceHistory, CurveBands]) -> None:
        self._surface_of, self.surface, self.bands = result
        self.surface_computed.emit()

    def _compute_checks(self) -> None:
        project, evaluation, units = self.project, self.evaluation, self._units
        key = (project.rig, project.settings, project.criteria, units)
        if evaluation is None or key == self._checks_of or self._quick.busy:
            return

        def work(_: RunContext) -> tuple[tuple[object, ...], tuple[RigCheck, ...]]:
            from mandorla.ui.workers import computing  # see its docstring

            return key, computing.checks_of(project, evaluation, units)

        self._checking.start(work)

    def _on_checked(self, result: tuple[tuple[object, ...], tuple[RigCheck, ...]]) -> None:
        self._checks_of, self.checks = result
        self.checks_computed.emit()

    def _compute_window(self) -> None:
        evaluation, project = self.evaluation, self.project
        if evaluation is None or evaluation.part is None or project.part is None or self._quick.busy:
            return

        def work(run: RunContext) -> Window:
            from mandorla.ui.workers import computing  # see its docstring

            return computing.window_of(project, evaluation, run)

        self._slow.start(work)

    def _on_window(self, window: Window) -> None:
        self.window = window
        self.window_computed.emit()
        self._plate_timer.start()

    @property
    def state(self) -> tuple[object, ...]:
        """What a simulation of the part belongs to: all that is set, but not what was measured on a printed one."""
        p = self.project
        part = p.part.model_copy(update={"measured": None}) if p.part is not None else None
        return (p.rig, p.settings, p.process, part)

    @property
    def plate_is_present(self) -> bool:
        """Whether ``plate`` belongs to the project as it is."""
        return self.state == self._plate_of

    def _look_at_plate(self) -> None:
        bundle, geometry, evaluation, key = self._bundle, self.geometry, self.evaluation, self.state
        if evaluation is None or geometry is None or key == self._plate_of or self._quick.busy:
            return

        def work(run: RunContext) -> tuple[tuple[object, ...], PlateLook | None]:
            from mandorla.ui.workers import computing  # see its docstring

            return key, computing.plate_of(bundle, geometry, evaluation, run)

        self._plating.start(work)

    def _on_plate(self, result: tuple[tuple[object, ...], PlateLook | None]) -> None:
        self._plate_of, self.plate = result
        self.plate_computed.emit()

    def _on_failed(self, error: Exception) -> None:
        kind = "" if isinstance(error, MandorlaError) else f"A defect of Mandorla ({type(error).__name__}): "
        self.problem.emit(f"{kind}{error}")

    # ---- files
    def save(self, path: Path) -> None:
        """Save to a file. Raises ProjectFileError and keeps the work when it cannot be written."""
        write_bundle(path, self._bundle)
        self._path = path
        self.undo_stack.setClean()
        self._autosave_timer.stop()
        self._keeper.close()
        self._autosave.clear()
        self.file_changed.emit()

    def mark_unsaved(self) -> None:
        """The project differs from its file although nothing was edited yet (recovered work)."""
        self.undo_stack.resetClean()
        self._autosave_timer.start()

    def keep_recovery_copy(self) -> None:
        """Write the recovery copy beside the interface, while there is unsaved work."""
        if self.undo_stack.isClean():
            self._keeper.close()  # a copy being written must not outlive this
            self._autosave.clear()
            return
        bundle, path = self._bundle, self._path
        self._keeper.start(lambda _: self._autosave.keep(bundle, path))

    def close(self, *, forget: bool = True) -> None:
        """Stop all work; the recovery copy goes unless ``forget`` is false."""
        self.undo_stack.blockSignals(True)  # it would report its own end to a window that is going
        self._window_timer.stop()
        self._plate_timer.stop()
        self._autosave_timer.stop()
        self._import.close()
        self._gcode.close()
        self._keeper.close()
        self._solid.close()
        self._checking.close()
        self._plating.close()
        self._quick.close()
        self._slow.close()
        if forget:
            self._autosave.clear()


def open_document(path: Path, units: UnitPreferences) -> Document:
    """Open a project file. Raises ProjectFileError or MeshError."""
    from mandorla.core.project.session import geometry_of  # loads the numerics

    bundle = read_bundle(path)
    geometry_of(bundle)
    return Document(bundle, path, units)
