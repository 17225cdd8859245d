"""What nobody caught: written to a file of its own, told to the user, offered at the next start; and the log beside it."""

from __future__ import annotations

import logging
import platform
import sys
import threading
import traceback
from collections.abc import Callable
from datetime import datetime
from logging.handlers import RotatingFileHandler
from pathlib import Path
from types import TracebackType
from typing import Final

from mandorla import __version__

LOG_BYTES: Final = 512 * 1024
_LOG = logging.getLogger("mandorla")


def start_log(folder: Path) -> None:
    """Log warnings and worse to a rotating file in a folder; a folder that cannot be written leaves the log on stderr."""
    _LOG.setLevel(logging.WARNING)
    if any(isinstance(h, RotatingFileHandler) for h in _LOG.handlers):
        return
    try:
        folder.mkdir(parents=True, exist_ok=True)
        handler = RotatingFileHandler(
            folder / "mandorla.log", maxBytes=LOG_BYTES, backupCount=3, encoding="utf-8", delay=True
        )
    except OSError as error:
        _LOG.warning("no log can be kept in %s: %s", folder, error)
        return
    handler.setFormatter(logging.Formatter("%(asctime)s %(levelname)s %(name)s: %(message)s"))
    _LOG.addHandler(handler)


class CrashKeeper:
    """Writes every uncaught exception, of the interpreter, of Qt's slots and of threads, to a crash file.

    Parameters
    ----------
    folder
        Where crash files go.
    tell
        Called with what happened in a sentence, for the window to show.
    """

    def __init__(self, folder: Path, tell: Callable[[str], None]) -> None:
        self._folder, self._tell = folder, tell

    def install(self) -> None:
        """Take over the hooks of the interpreter and of its threads; PySide calls the former for exceptions in slots."""
        sys.excepthook = self.caught
        threading.excepthook = lambda args: self.caught(args.exc_type, args.exc_value, args.exc_traceback)

    def caught(self, kind: type[BaseException], error: BaseException | None, trace: TracebackType | None) -> None:
        """Write, log and tell."""
        if issubclass(kind, KeyboardInterrupt):
            sys.__excepthook__(kind, error or kind(), trace)
            return
        text = "".join(traceback.format_exception(kind, error, trace))
        _LOG.critical("not caught: %s", text)
        sys.stderr.write(text)
        where = self.write(text)
        kept = f" What happened is written in {where}." if where is not None else ""
        self._tell(f"Internal error ({kind.__name__}): {error}. Your work is intact: save it under a new name.{kept}")

    def write(self, text: str) -> Path | None:
        """Write a crash file; None where the folder cannot be written."""
        head = (
            f"Mandorla {__version__}, Python {platform.python_version()}, {platform.system()} {platform.machine()}\n\n"
        )
        path = self._folder / f"crash-{datetime.now():%Y%m%d-%H%M%S-%f}.txt"
        try:
            self._folder.mkdir(parents=True, exist_ok=True)
            path.write_text(head + text, encoding="utf-8")
        except OSError as error:
            _LOG.warning("no crash file can be written in %s: %s", self._folder, error)
            return None
        return path


def crashes(folder: Path) -> list[Path]:
    """Crash files that were not shown yet, newest first."""
    return sorted(folder.glob("crash-*.txt"), reverse=True) if folder.is_dir() else []


def put_away(path: Path) -> None:
    """A crash file that was shown is kept, and not offered again."""
    path.rename(path.with_suffix(".shown"))
