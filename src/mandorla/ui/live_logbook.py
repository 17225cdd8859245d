"""The workshop's logbook beside the interface: read and written on a thread of its own, told when it changes."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import TYPE_CHECKING, Any

from PySide6.QtCore import QObject, QTimer, Signal

from mandorla.core.errors import MandorlaError
from mandorla.core.logbook.place import default_path
from mandorla.core.project.samples import demo_logbook
from mandorla.core.runtime import RunContext
from mandorla.ui.jobs import Jobs, Lane
from mandorla.ui.live_results import LiveResults, in_words

if TYPE_CHECKING:
    from mandorla.core.logbook.shown import BookShown
    from mandorla.core.logbook.workshop import Workshop

_LOOK_MS = 15000  # between looks whether somebody else has written
Write = Callable[["Workshop"], Any]


class LiveLogbook(QObject):
    """Reads the book once a window opens and after every entry; what it teaches goes to the results."""

    changed = Signal()
    refused = Signal(str)
    said = Signal(str)

    def __init__(self, jobs: Jobs, results: LiveResults) -> None:
        super().__init__()
        self._jobs, self._results = jobs, results
        self.path: Path = default_path()
        self.shown: BookShown | None = None
        self.problem = ""  # why the book cannot be read; empty where it can
        self._shop: Workshop | None = None
        self._only_read = ""  # why nothing can be entered, as it was said last
        self._busy, self._digest, self._closing = 0, "", False
        self._looking = QTimer(self, interval=_LOOK_MS)
        self._looking.timeout.connect(self.look)
        self._looking.start()

    @property
    def busy(self) -> bool:
        """Whether it is being read or written."""
        return self._busy > 0

    @property
    def exists(self) -> bool:
        """Whether there is a book already."""
        return self.path.exists()

    def close(self) -> None:
        """Write what is still to be written; nothing is read any more."""
        self._closing = True
        self._looking.stop()
        self._jobs.finish(Lane.BOOK)

    def use(self, path: Path) -> None:
        """Take another book."""
        self.path, self._shop, self.shown, self.problem = path, None, None, ""
        self.read()

    def use_demo(self, path: Path) -> None:
        """Take the made-up workshop's book, made anew at a path of its own."""
        for old in (path, path.with_name(path.name + "-wal"), path.with_name(path.name + "-shm")):
            old.unlink(missing_ok=True)
        self.path, self._shop, self.shown, self.problem = path, None, None, ""

        def fill(shop: Workshop) -> None:
            from mandorla.core.logbook.interchange import import_rows, rows_from_json  # as the shop itself

            import_rows(shop.book, rows_from_json(demo_logbook(), "the demo"))

        self._start("Reading the demo's logbook", fill)

    def read(self) -> None:
        """Read the book where there is one; without one nothing is made."""
        if self.exists:
            self._start("Reading the logbook", lambda shop: None)

    def look(self) -> None:
        """Read the book again where another window or a command has written into it."""
        shop, known = self._shop, self._digest
        if shop is None or self.busy or self._closing:
            return

        def ended(digest: str) -> None:
            if digest != known and digest and not self.busy:
                self.read()

        def work(_: RunContext) -> str:
            try:
                return shop.book.digest
            except MandorlaError:
                return ""  # it is told when something is read or written

        self._jobs.start("Looking at the logbook", work, Lane.BOOK, done=ended, shown=False)

    def write(self, title: str, write: Write, done: Callable[[Any], None] | None = None) -> None:
        """Write an entry, a book where there is none yet; ``done`` gets what ``write`` returned, on the interface's thread."""
        self._start(title, write, done)

    def fetch(self, title: str, read: Write, done: Callable[[Any], None]) -> None:
        """Read something beside what is shown; ``done`` gets it on the interface's thread, or None where it cannot be read."""
        shop = self._shop
        if shop is None or self._closing:
            return
        opened = shop  # of the book as it is shown

        def failed(error: BaseException) -> None:
            self.refused.emit(in_words(error))
            done(None)

        self._jobs.start(title, lambda _: read(opened), Lane.BOOK, done=done, failed=failed, shown=False)

    def _start(self, title: str, write: Write, done: Callable[[Any], None] | None = None) -> None:
        self._busy += 1

        def work(_: RunContext) -> tuple[Workshop, Any, BookShown]:
            from mandorla.core.logbook.shown import BookShown as Shown  # the numerics load late, on this thread
            from mandorla.core.logbook.shown import book_shown
            from mandorla.core.logbook.workshop import Workshop as Opened

            shop = self._shop if self._shop is not None else Opened(self.path)
            written = write(shop)
            return shop, written, book_shown(shop) if not self._closing else Shown()

        def ended(found: tuple[Workshop, Any, BookShown]) -> None:
            self._busy -= 1
            self._shop, written, self.shown = found
            self._digest = self.shown.digest
            self.problem = ""
            only_read = self._shop.book.only_read
            if only_read and only_read != self._only_read:
                self.refused.emit(f"The logbook is read, but nothing can be entered: {only_read}.")
            self._only_read = only_read
            experience = self.shown.experience
            self._results.learn_from(experience if experience is not None and experience.prints else None)
            if done is not None:
                done(written)
            self.changed.emit()

        def failed(error: BaseException) -> None:
            self._busy -= 1
            if self.shown is None:
                self.problem = in_words(error)
            self.refused.emit(in_words(error))
            self.changed.emit()

        self._jobs.start(title, work, Lane.BOOK, done=ended, failed=failed, shown=False)
