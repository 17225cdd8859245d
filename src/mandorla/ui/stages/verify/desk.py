"""What all views of the stage share: the chosen session, its comparison with the present rig, and how both are changed."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from datetime import date
from typing import TYPE_CHECKING, Any

from pydantic import ValidationError
from PySide6.QtCore import QObject, Signal

from mandorla.core.errors import InputError
from mandorla.core.measure.models import Measurements, Session
from mandorla.core.project.models import problems_of
from mandorla.core.results.key import Key
from mandorla.core.results.keys import COMPARISON
from mandorla.core.rig.fitted import mark_of
from mandorla.ui.document import Document
from mandorla.ui.live_results import in_words

if TYPE_CHECKING:
    from mandorla.core.results.types import Comparison


def today() -> str:
    """The day as ISO text."""
    return date.today().isoformat()


class VerifyDesk(QObject):
    """The chosen session; ``changed`` tells that it is another one."""

    changed = Signal()

    def __init__(self, document: Document, parent: QObject) -> None:
        super().__init__(parent)
        self.document = document
        self._key = ""

    @property
    def measurements(self) -> Measurements:
        """All of the project's."""
        return self.document.project.measurements

    @property
    def index(self) -> int:
        """Place of the chosen session in the project, for paths of edits; the newest one where it was removed."""
        keys = [s.key for s in self.measurements.sessions]
        return keys.index(self._key) if self._key in keys else max(0, len(keys) - 1) if self._key else 0

    @property
    def session(self) -> Session | None:
        """The chosen session, None without any."""
        sessions = self.measurements.sessions
        return sessions[self.index] if sessions else None

    @property
    def asked(self) -> Key[Comparison] | None:
        """The comparison of the chosen session with the rig."""
        session = self.session
        return None if session is None else COMPARISON.of(session=session.key, units=self.document.units)

    @property
    def comparison(self) -> Comparison | None:
        """It, where it is known for the project as it is."""
        return self.document.results.value(self.asked) if self.asked is not None else None

    @property
    def refusal(self) -> str:
        """Why nothing can be compared; empty where it can, or where it is not known yet."""
        error = self.document.results.error(self.asked) if self.asked is not None else None
        return in_words(error) if error is not None else ""

    def path(self, name: str) -> str:
        """The path of something in the chosen session."""
        return f"measurements.sessions.{self.index}.{name}"

    def choose(self, key: str) -> None:
        """Take another session."""
        self._key = key
        self.changed.emit()

    def new_session(self) -> None:
        """Begin a session with what the rig is set to now."""
        session = self._fresh()
        if self.put("measurements.sessions", (*self.measurements.sessions, session), "New session"):
            self.choose(session.key)

    def _fresh(self) -> Session:
        """A session that is not in the project yet."""
        project = self.document.project
        taken = {s.name for s in self.measurements.sessions}
        number = len(taken) + 1
        while f"Session {number}" in taken:
            number += 1
        return Session(
            key=self._free_key(), name=f"Session {number}", date=today(), bed=project.settings.bed_first,
            chamber=project.settings.chamber, room=project.rig.start_temperature, rig_mark=mark_of(project.rig),
        )  # fmt: skip

    def _free_key(self) -> str:
        """A key that no session has, nor ever had in this project's records."""
        taken, number = {s.key for s in self.measurements.sessions}, 1
        while f"session-{number}" in taken:
            number += 1
        return f"session-{number}"

    @property
    def session_for_input(self) -> Session:
        """The session on the desk, or one that begins with the first input that is accepted (:meth:`put_in`)."""
        return self.session or self._fresh()

    def put_in(self, name: str, items: Sequence[Any], label: str, files: dict[str, bytes] | None = None) -> bool:
        """Put readings, logs, images, maps or gaps into the session; where there is none, it begins with them in the same step."""
        if self.session is not None:
            return self.put(self.path(name), tuple(items), label, files)
        fresh = self._fresh().model_dump() | {name: [v.model_dump() for v in items]}
        if not self.put("measurements.sessions", (fresh,), label, files):
            return False
        self.choose(fresh["key"])
        return True

    def remove_session(self) -> None:
        """Remove the session on the desk with the originals that only it uses."""
        if self.session is not None:
            kept = list(self.measurements.sessions)
            del kept[self.index]
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
        except ValidationError as error:
            self.document.problem.emit(str(InputError("That is not acceptable.", problems=problems_of(error))))
            return False
        return True
