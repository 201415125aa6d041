"""How the window divides its room: parts that can be made narrower or wider, put away, and are found again as left."""

from __future__ import annotations

import json
import logging
from collections.abc import Callable

from PySide6.QtCore import QByteArray, QObject, QSize, Qt, QTimer, Signal
from PySide6.QtWidgets import QHBoxLayout, QMainWindow, QSplitter, QVBoxLayout, QWidget

from ..paths import state_dir, write_whole
from .apart import apart

log = logging.getLogger(__name__)
USUAL = QSize(1280, 800)
LEAST = QSize(960, 600)
SHARE = 0.8  # of a large screen that a new window takes
TITLE_PX = 40  # that a window's own frame may take
STOCK_PX, BENCH_PX, SECTION_PX, DRAWER_PX = 104, 266, 86, 116
ROOMY_PX = 900  # height of a window from which the drawer of findings is open at first
OF_A_SHOT = ("Stock", "Bench", "Section", "Findings")  # nothing stands in them while there is none
NAMES = ("Stock", "Bench", "Rail", "Section", "Findings")


def first_size(free: QSize) -> QSize:
    """The size of a new window on a screen that leaves so much free: with its own frame it fits.

    >>> first_size(QSize(1280, 800)), first_size(QSize(2560, 1440))
    (PySide6.QtCore.QSize(1280, 760), PySide6.QtCore.QSize(2048, 1152))
    """
    wanted = QSize(round(free.width() * SHARE), round(free.height() * SHARE)).expandedTo(USUAL)
    return wanted.boundedTo(QSize(free.width(), free.height() - TITLE_PX)).expandedTo(QSize(640, 480))


class Room(QObject):
    """Lays out the parts of a window. `changed` tells that one was put away or brought back."""

    changed = Signal()

    def __init__(self, window: QMainWindow, parts: dict[str, QWidget], middle: list[QWidget]) -> None:
        super().__init__(window)
        self.window, self.parts = window, parts
        self._alone: dict[str, bool] | None = None  # what was there before the picture took the whole window
        self._bare: dict[str, bool] | None = None  # what will be there once there is a shot
        self._also: Callable[[bool], None] = lambda on: None
        self._sizes: dict[QSplitter, list[int]] = {}
        self._save_soon = QTimer(self, singleShot=True, interval=500)
        self._save_soon.timeout.connect(self.save)
        picture = QWidget()
        stack = QVBoxLayout(picture)
        stack.setContentsMargins(0, 0, 0, 0)
        stack.setSpacing(0)
        for part in middle:
            stack.addWidget(part, 1 if part.accessibleName() == "Viewer" else 0)
        self.columns = QSplitter(Qt.Orientation.Horizontal)
        for column in (parts["Stock"], picture, parts["Bench"]):
            self.columns.addWidget(column)
        self.rows = QSplitter(Qt.Orientation.Vertical)
        for row in (self.columns, parts["Findings"], parts["Rail"], parts["Section"]):
            self.rows.addWidget(row)
        for splitter, grows in ((self.columns, 1), (self.rows, 0)):
            splitter.setHandleWidth(3)
            splitter.setChildrenCollapsible(False)
            splitter.setStretchFactor(grows, 1)
            splitter.splitterMoved.connect(lambda *_: self._save_soon.start())
        holder = QWidget()
        box = QHBoxLayout(holder)
        box.setContentsMargins(0, 0, 0, 0)
        box.addWidget(self.rows)
        window.setCentralWidget(holder)
        window.setMinimumSize(LEAST)
        self._open()

    # --- what is there ---
    def shows(self, name: str) -> bool:
        """Whether a part is in the window, or will be once there is a shot."""
        if self._bare is not None and name in self._bare:
            return self._bare[name]
        return not self.parts[name].isHidden()

    def show(self, name: str, on: bool) -> None:
        """Puts a part away or brings it back; where the picture is alone, all others come back too."""
        if self._alone is not None:
            self.picture_alone(self._also)
        if self._bare is not None and name in self._bare:
            self._bare[name] = on
        else:
            self.parts[name].setVisible(on)
        self._save_soon.start()
        self.changed.emit()

    def set_bare(self, on: bool) -> None:
        """Leaves the window to the start page, or gives the parts of a shot their place again."""
        if on == (self._bare is not None):
            return
        if self._alone is not None:
            self.picture_alone(self._also)
        if on:
            if self.window.isVisible():
                self._keep_sizes()
            self._bare = {name: self.shows(name) for name in OF_A_SHOT}
            for name in OF_A_SHOT:
                self.parts[name].hide()
        elif self._bare is not None:
            bare, self._bare = self._bare, None
            for name, shown in bare.items():
                self.parts[name].setVisible(shown)
            self.divide()
            QTimer.singleShot(0, self.divide)  # once they are laid out

    def _keep_sizes(self) -> None:
        """Remembers how wide and high each part is; one that is put away as it was."""
        for splitter, known in self._sizes.items():
            self._sizes[splitter] = [now or before for now, before in zip(splitter.sizes(), known)]

    @property
    def is_alone(self) -> bool:
        """Whether the picture has the whole window."""
        return self._alone is not None

    def picture_alone(self, also: Callable[[bool], None]) -> None:
        """Gives the picture the whole window, or everything its place again; `also` shows or hides what else there
        is."""
        if self._bare is not None:
            return  # there is no picture
        self._also = also
        if self._alone is None:
            before = {name: self.shows(name) for name in NAMES}
            for name in NAMES:
                self.parts[name].hide()
            self._alone = before
        else:
            for name, on in self._alone.items():
                self.parts[name].setVisible(on)
            self._alone = None
        also(self._alone is None)
        self.changed.emit()

    # --- kept from one start to the next ---
    def _open(self) -> None:
        known = apart(_read)
        screen = self.window.screen()
        size = first_size(screen.availableGeometry().size()) if screen is not None else USUAL
        self.window.resize(size)
        geometry = known.get("geometry")
        if isinstance(geometry, str):
            self.window.restoreGeometry(QByteArray.fromBase64(geometry.encode()))
        roomy = self.window.height() >= ROOMY_PX
        put_away = known.get("put_away", [] if roomy else ["Findings"])
        for name in NAMES:
            self.parts[name].setVisible(not (isinstance(put_away, list) and name in put_away))
        wide = self.window.width() - STOCK_PX - BENCH_PX
        high = self.window.height() - SECTION_PX - DRAWER_PX
        for splitter, name, usual in (
            (self.columns, "columns", [STOCK_PX, wide, BENCH_PX]),
            (self.rows, "rows", [high, DRAWER_PX, 70, SECTION_PX]),
        ):
            kept = known.get(name)
            sizes = [n for n in kept if isinstance(n, int) and n >= 0] if isinstance(kept, list) else []
            whole = len(sizes) == len(usual)
            self._sizes[splitter] = [n or usual[k] for k, n in enumerate(sizes)] if whole else usual
        self.divide()

    def divide(self) -> None:
        """Gives the parts the sizes that they had; again once the window is shown, which lays them out anew."""
        for splitter, sizes in self._sizes.items():
            splitter.setSizes(sizes)

    def save(self) -> None:
        """Writes how the window is divided."""
        put_away = [name for name in NAMES if not (self._alone or {}).get(name, self.shows(name))]
        if self._alone is not None:
            put_away = [name for name, on in self._alone.items() if not on]
        if self._bare is None and self.window.isVisible():
            self._keep_sizes()
        data = {
            "geometry": bytes(self.window.saveGeometry().toBase64().data()).decode(),
            "put_away": put_away,
            "columns": self._sizes[self.columns],
            "rows": self._sizes[self.rows],
        }
        try:
            apart(lambda: write_whole(state_dir() / "window.json", json.dumps(data) + "\n"))
        except OSError as problem:
            log.warning("How the window is divided could not be kept: %s", problem)


def _read() -> dict[str, object]:
    try:
        data = json.loads((state_dir() / "window.json").read_text(encoding="utf-8"))
    except (OSError, ValueError):
        return {}
    return data if isinstance(data, dict) else {}
