"""Objects that hold each other in a ring are collected between two events of the interface, on its thread.

By itself Python collects whenever enough was made, on whichever thread that was: in the midst of a drag, where it takes
a quarter of a second once a program of this size is loaded, or on a worker, where no widget may end.
"""

from __future__ import annotations

import atexit
import gc

from PySide6.QtCore import QObject, Qt, QTimer
from PySide6.QtGui import QGuiApplication

EVERY_MS = 1000
LOADING_TICKS = 10  # at first: what is there then is what the program is made of, and stays
WHOLE_TICKS = 20  # between two looks at all that was made since
MOST_WHOLE_TICKS = 120  # that a look at all waits for a mouse button that is held


class Tidier(QTimer):
    """Takes over from Python's own collector for as long as it lives. Made once, for the application."""

    def __init__(self, parent: QObject) -> None:
        super().__init__(parent, interval=EVERY_MS)
        self._ticks = 0
        gc.disable()
        gc.freeze()  # what is loaded stays: it is not looked through once more
        atexit.register(gc.unfreeze)  # at the end all of it goes
        self.destroyed.connect(gc.enable)
        self.timeout.connect(self.tidy)
        self.start()

    def tidy(self) -> None:
        """Collects what was made lately, and from time to time what is older."""
        self._ticks += 1
        gc.collect(1)
        if self._ticks <= LOADING_TICKS:
            gc.freeze()
            return
        since = self._ticks - LOADING_TICKS
        free = QGuiApplication.mouseButtons() == Qt.MouseButton.NoButton
        if since >= MOST_WHOLE_TICKS or (since >= WHOLE_TICKS and free):
            gc.collect()
            self._ticks = LOADING_TICKS
