"""One program a user: a second start hands its files to the window that is open, and ends."""

from __future__ import annotations

import hashlib
import json
import logging
from collections.abc import Callable
from pathlib import Path
from typing import Final

from PySide6.QtCore import QObject, QTimer
from PySide6.QtNetwork import QLocalServer, QLocalSocket

from mandorla.core.folders import config_folder

_MOST_BYTES: Final = 1 << 16
_MOST_FILES: Final = 16
_WAIT_MS: Final = 1500
_SAYS_MS: Final = 300
_LOG = logging.getLogger(__name__)


def server_name() -> str:
    """The local socket of this user's settings; another MANDORLA_HOME is another program."""
    return f"mandorla-{hashlib.sha256(str(config_folder().absolute()).encode()).hexdigest()[:16]}"


def handed_over(paths: list[Path]) -> bool:
    """Whether a window that is open took the files (none: it only comes to the front)."""
    socket = QLocalSocket()
    socket.connectToServer(server_name())
    if not socket.waitForConnected(_WAIT_MS):
        return False
    socket.write(json.dumps([str(p.absolute()) for p in paths]).encode() + b"\n")
    socket.waitForBytesWritten(_WAIT_MS)
    taken = socket.waitForReadyRead(_WAIT_MS) and bytes(socket.readAll().data()).startswith(b"ok")
    socket.disconnectFromServer()
    return bool(taken)


def _files_in(line: bytes) -> list[Path] | None:
    """The files that a later start names; None where it is no such start."""
    try:
        paths = json.loads(line)
    except (ValueError, RecursionError):
        return None
    if not isinstance(paths, list) or not all(isinstance(p, str) and "\0" not in p for p in paths):
        return None
    return [Path(p) for p in paths[:_MOST_FILES]]


class SingleInstance(QObject):
    """Listens for later starts; ``opened`` gets each file, ``raised`` is called for every start."""

    def __init__(
        self, opened: Callable[[Path], object], raised: Callable[[], object], parent: QObject | None = None
    ) -> None:
        super().__init__(parent)
        self._opened, self._raised = opened, raised
        self._server = QLocalServer(self)
        self._server.setSocketOptions(QLocalServer.SocketOption.UserAccessOption)
        self._server.newConnection.connect(self._on_connection)
        if not self._server.listen(server_name()):
            QLocalServer.removeServer(server_name())  # of one that was killed: nobody answered there
            if not self._server.listen(server_name()):
                _LOG.warning("later starts open windows of their own: %s", self._server.errorString())

    def _on_connection(self) -> None:
        """Take what a later start says, at once: it is one line, and only this user can say it."""
        socket = self._server.nextPendingConnection()
        if socket is None:
            return
        while not socket.canReadLine() and socket.bytesAvailable() <= _MOST_BYTES:
            if not socket.waitForReadyRead(_SAYS_MS):
                break
        paths = _files_in(bytes(socket.readLine(_MOST_BYTES).data()))
        if paths is not None:
            socket.write(b"ok\n")
            socket.waitForBytesWritten(_SAYS_MS)
        socket.abort()
        if paths is not None:
            QTimer.singleShot(0, self, lambda: self._take(paths))

    def _take(self, paths: list[Path]) -> None:
        self._raised()
        for path in paths:
            self._opened(path)

    def close(self) -> None:
        """Listen no more."""
        self._server.close()
