"""What all views of the stage share: the chosen session, its comparison with the present rig, and how both are changed."""

from __future__ import annotations

from collections.abc import Callable
from datetime import date
from pathlib import Path
from typing import TYPE_CHECKING, Any

from PySide6.QtCore import QObject, QTimer, Signal

from mandorla.core.errors import InputError, MandorlaError
from mandorla.core.measure.models import Measurements, Session
from mandorla.core.rig.fitted import mark_of
from mandorla.core.runtime import RunContext
from mandorla.core.tune.verdict import State
from mandorla.ui.document import Document
from mandorla.ui.workers.jobs import Channel

if TYPE_CHECKING:
    from mandorla.core.measure.compare import Comparison

_PAUSE_MS = 200


def bytes_of(path: Path) -> bytes:
    """A file's bytes. Raises :class:`InputError` when it cannot be read."""
    try:
        return path.read_bytes()
    except OSError as error:
        raise InputError(f"“{path.name}” cannot be read: {error.strerror}.") from error


def today() -> str:
    """The day as ISO text."""
    return date.today().isoformat()


class VerifyDesk(QObject):
    """The session on the desk; ``changed`` tells that it, or its comparison, is another one."""

    changed = Signal()

    def __init__(self, document: Document, parent: QObject) -> None:
        super().__init__(parent)
        self.document = document
        self.index = 0
        self.comparison: Comparison | None = None
        self.refusal = ""
        self._of: tuple[object, ...] = ()
        self._asked: tuple[object, ...] = ()
        self.channel = Channel(parent)
        self.channel.finished.connect(self._take)
        self.channel.failed.connect(self._refused)
        self._timer = QTimer(self, singleShot=True, interval=_PAUSE_MS)
        self._timer.timeout.connect(self._compute)
        document.evaluated.connect(self.refresh)
        document.units_changed.connect(self.refresh)

    @property
    def measurements(self) -> Measurements:
        """All of the project's."""
        return self.document.project.measurements

    @property
    def session(self) -> Session | None:
        """The chosen session, None without any."""
        sessions = self.measurements.sessions
        return sessions[min(self.index, len(sessions) - 1)] if sessions else None

    def path(self, name: str) -> str:
        """The path of something in the chosen session."""
        return f"measurements.sessions.{min(self.index, len(self.measurements.sessions) - 1)}.{name}"

    @property
    def busy(self) -> bool:
        """Whether a comparison is awaited."""
        return self.channel.busy or self._timer.isActive()

    def choose(self, index: int) -> None:
        """Put another session on the desk."""
        self.index = index
        self.refresh()
        self.changed.emit()

    def new_session(self) -> None:
        """Begin a session with what the rig is set to now."""
        project = self.document.project
        taken = {s.name for s in self.measurements.sessions}
        number = len(taken) + 1
        while f"Session {number}" in taken:
            number += 1
        session = Session(
            name=f"Session {number}", date=today(), bed=project.settings.bed_first, chamber=project.settings.chamber,
            room=project.rig.start_temperature, rig_mark=mark_of(project.rig),
        )  # fmt: skip
        self.put("measurements.sessions", (*self.measurements.sessions, session), "New session")
        self.choose(len(self.measurements.sessions) - 1)

    def need_session(self) -> Session:
        """The session on the desk; a new one where there is none."""
        if self.session is None:
            self.new_session()
        found = self.session
        assert found is not None
        return found

    def remove_session(self) -> None:
        """Remove the session on the desk with the originals that only it uses."""
        if self.session is not None:
            kept = list(self.measurements.sessions)
            del kept[min(self.index, len(kept) - 1)]
            self.index = 0
            self.put("measurements.sessions", tuple(kept), "Remove session")

    def put(self, path: str, value: Any, label: str, files: dict[str, bytes] | None = None) -> bool:
        """Change something as one step; a refusal is shown and False returned."""
        plain = (
            tuple(v.model_dump() if hasattr(v, "model_dump") else v for v in value)
            if isinstance(value, tuple)
            else value
        )
        return self.attempt(lambda: self.document.edit_with_files({path: plain}, files or {}, label))

    def attempt(self, work: Callable[[], None]) -> bool:
        """Do something that the core may refuse; the reason is shown."""
        try:
            work()
        except InputError as error:
            self.document.problem.emit(str(error))
            return False
        return True

    def _key(self) -> tuple[object, ...]:
        p = self.document.project  # the session brings its own set points, so the console's do not count
        m = p.measurements
        return (p.rig, p.criteria, m.instruments, m.acceptance, self.session, self.document.units)

    def refresh(self) -> None:
        """Compare anew after a pause, where anything that counts has changed."""
        if self.session is None:
            if self.comparison is not None or self.refusal:
                self.comparison, self.refusal, self._of = None, "", ()
                self.channel.cancel()
                self.changed.emit()
        elif self._key() != self._of and self._key() != self._asked:
            self._timer.start()

    def _compute(self) -> None:
        bundle, index, units, key = self.document.bundle, self.index, self.document.units, self._key()
        index = min(index, len(self.measurements.sessions) - 1)
        if index < 0:
            return
        self._asked = key

        def work(run: RunContext) -> tuple[tuple[object, ...], Comparison]:
            from mandorla.ui.workers import computing  # see its docstring

            return key, computing.compared(bundle, index, units, run)

        self.channel.start(work)

    def _take(self, result: tuple[tuple[object, ...], Comparison]) -> None:
        self._of, self.comparison = result
        self._asked, self.refusal = (), ""
        self.document.note_verdict(State(self.comparison.state))
        self.changed.emit()

    def _refused(self, error: Exception) -> None:
        self._of, self._asked, self.comparison = self._asked, (), None
        self.refusal = str(error).splitlines()[0]
        if not isinstance(error, MandorlaError):
            self.document.problem.emit(f"A defect of Mandorla ({type(error).__name__}): {error}")
        self.changed.emit()
