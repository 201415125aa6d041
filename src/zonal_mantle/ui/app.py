"""Starts the window."""

from __future__ import annotations

import logging
import os
import sys
from logging.handlers import RotatingFileHandler
from pathlib import Path

from PySide6.QtCore import QTimer
from PySide6.QtGui import QIcon
from PySide6.QtWidgets import QApplication

from ..desktop import ID
from ..media.opener import opener
from ..paths import log_path, state_dir, sweep_all
from .guard import log_uncaught
from .language import put_on
from .preferences import language, scale_interface
from .recent import recent_shots
from .single import Single
from .theme import FONTS, dress
from .tidy import Tidier
from .window import Window

# Workers give way to the interface after so long (sys.setswitchinterval): painting a window asks for the interpreter
# some hundred times, and with Python's usual 5 ms it would stand still for as many of them while a frame is made.
SWITCH_SECONDS = 0.0005


def _log_to_file() -> None:
    handler = RotatingFileHandler(log_path(), maxBytes=1 << 20, backupCount=1)
    handler.setFormatter(logging.Formatter("%(asctime)s %(name)s %(levelname)s %(message)s"))
    logging.getLogger("zonal_mantle").addHandler(handler)


def prepare(app: QApplication) -> None:
    """Makes an application ready for windows: its look, and that nothing in the background holds them up."""
    sys.setswitchinterval(SWITCH_SECONDS)
    opener.begin()
    Tidier(app)
    dress(app)


def run(shot: Path | None) -> int:
    """Opens the window, on a shot or empty, and runs until it is closed."""
    if sys.platform.startswith("linux") and not any(
        os.environ.get(name) for name in ("DISPLAY", "WAYLAND_DISPLAY", "QT_QPA_PLATFORM")
    ):
        print(
            "No display was found, so the window cannot open. Without one, use: zonal-mantle render SHOT --out DIR, "
            "zonal-mantle check SHOT --json, zonal-mantle demo --write DIR.",
            file=sys.stderr,
        )
        return 1
    _log_to_file()
    scale_interface()
    app = QApplication.instance() or QApplication(sys.argv[:1])
    app.setApplicationName("Zonal Mantle")
    put_on(app, language())
    app.setDesktopFileName(ID)  # by which Wayland and X11 find its icon
    app.setWindowIcon(QIcon(str(FONTS / "desktop" / f"{ID}.svg")))
    if shot is not None and Single.raise_other(shot):
        print(f"{shot.name} is open already; its window was raised.", file=sys.stderr)
        return 0
    prepare(app)
    window = Window()
    log_uncaught(lambda words: window.desk.said.emit(words, True))
    single = Single(window.raise_to_front)
    window.desk.shot_changed.connect(lambda: single.serve(window.desk.path))
    window.show()
    window.bench.make_ahead()

    def begin() -> None:
        folders = {state_dir(), *(path.parent for path in recent_shots())}
        window.desk.later("sweep", lambda: sweep_all(folders), lambda _: None)
        if shot is not None:
            window.files.open_path(shot)
        else:
            window.files.offer_unnamed()

    QTimer.singleShot(0, begin)
    return int(app.exec())
