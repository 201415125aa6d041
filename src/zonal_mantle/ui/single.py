"""One window per shot: a second start raises the first."""

from __future__ import annotations

import hashlib
import os
from collections.abc import Callable
from pathlib import Path

from PySide6.QtCore import QObject
from PySide6.QtNetwork import QLocalServer, QLocalSocket

WAIT_MS = 300


def _name(shot: Path) -> str:
    """The name by which the window of a shot is reached: of this person and this file, whatever leads to it."""
    path = str(shot.resolve()).encode(errors="surrogateescape")
    return f"zonal-mantle-{os.getuid()}-{hashlib.blake2b(path, digest_size=12).hexdigest()}"


class Single(QObject):
    """Answers other starts of the program for the shot that is open here."""

    def __init__(self, raised: Callable[[], None]) -> None:
        super().__init__()
        self._raised = raised
        self._path: Path | None = None
        self._server: QLocalServer | None = None

    def serve(self, path: Path | None) -> None:
        """From now on this window is the one of that shot."""
        if path == self._path:
            return
        self._path = path
        if self._server is not None:
            self._server.close()
            self._server = None
        if path is None:
            return
        server = QLocalServer(self)
        server.setSocketOptions(QLocalServer.SocketOption.UserAccessOption)
        server.newConnection.connect(self._asked)
        if not server.listen(_name(path)):
            QLocalServer.removeServer(_name(path))  # left by a program that was killed: nobody answered there
            server.listen(_name(path))
        self._server = server

    def _asked(self) -> None:
        if self._server is not None and (socket := self._server.nextPendingConnection()) is not None:
            socket.disconnectFromServer()
            self._raised()

    @staticmethod
    def raise_other(shot: Path) -> bool:
        """Whether another window has the shot open; it was asked to come to the front."""
        socket = QLocalSocket()
        socket.connectToServer(_name(shot))
        there = socket.waitForConnected(WAIT_MS)
        socket.abort()
        return there
