"""How long the interface's thread is held by single events, while the demo is played, stepped, dragged and scrubbed.

python benchmarks/events.py        rows: what, events, median, 99 %, longest in ms, times a frame at 24 a second; worst
"""

from __future__ import annotations

import os
import sys
import tempfile
import time
from collections.abc import Callable
from pathlib import Path

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
os.environ["XDG_STATE_HOME"] = tempfile.mkdtemp()

import numpy as np
from PySide6.QtCore import QEvent, QObject, QPoint, QPointF, Qt
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication, QWidget

from zonal_mantle.demo import demo_shot
from zonal_mantle.shot import load, save
from zonal_mantle.ui.app import prepare
from zonal_mantle.ui.window import Window

FRAME_MS = 1000 / 24
WANTED_MS = 50.0


class Timed(QApplication):
    """Notes how long each event takes that the loop itself hands out; what an event sends on counts to it."""

    def __init__(self) -> None:
        super().__init__([])
        self.taken: list[tuple[float, str]] = []
        self._deep = 0

    def notify(self, receiver: QObject, event: QEvent) -> bool:
        """Qt's way to every object."""
        self._deep += 1
        start = time.perf_counter()
        try:
            return super().notify(receiver, event)
        finally:
            self._deep -= 1
            if self._deep == 0:
                took = (time.perf_counter() - start) * 1000
                self.taken.append((took, f"{event.type().name} to {type(receiver).__name__}"))


def run(app: Timed, seconds: float, act: Callable[[], object] = lambda: None) -> None:
    """The loop for a while, with an act between its turns."""
    end = time.perf_counter() + seconds
    while time.perf_counter() < end:
        act()
        app.processEvents()
        time.sleep(0.002)


def dragged(part: QWidget, seconds: float, app: Timed) -> None:
    """A drag from side to side."""
    middle = QPointF(part.rect().center())
    QTest.mousePress(part, Qt.MouseButton.LeftButton, pos=middle.toPoint())
    count = [0]

    def move() -> None:
        count[0] += 1
        QTest.mouseMove(part, (middle + QPointF(20 * np.sin(count[0] / 5), 3 * np.cos(count[0] / 5))).toPoint())

    run(app, seconds, move)
    QTest.mouseRelease(part, Qt.MouseButton.LeftButton, pos=middle.toPoint())


def main() -> None:
    """Prints the table."""
    app = Timed()
    prepare(app)
    folder = tempfile.mkdtemp()
    window = Window()
    window.resize(1280, 800)
    window.show()
    path = f"{folder}/SLT_0140.shot.json"
    shot = load(demo_shot())
    save(shot, Path(path))
    window.files.open_path(Path(path))
    desk = window.desk
    columns = ("events", "median", "99 %", "longest", "frames")
    print(f"{'what':<42}" + "".join(f"{each:>9}" for each in columns) + "  worst", flush=True)

    def row(name: str, act: Callable[[], object]) -> None:
        app.taken.clear()
        act()
        times = np.array([took for took, _ in app.taken] or [0.0])
        worst = max(app.taken, default=(0.0, ""))[1]
        mark = "" if times.max() <= WANTED_MS else " *"
        print(
            f"{name:<42}{len(times):>9}{np.median(times):>9.2f}{np.quantile(times, 0.99):>9.1f}{times.max():>9.1f}"
            f"{times.max() / FRAME_MS:>9.2f}  {worst}{mark}",
            flush=True,
        )

    row("opened, until the frame is shown", lambda: run(app, 4))
    frames = list(desk.shot.frames)
    row("while frames and readings are made", lambda: run(app, 20))
    end = time.perf_counter() + 240
    while time.perf_counter() < end and (
        desk.measuring.reader is not None or len(window.viewer.cached_frames()) < len(frames)
    ):
        run(app, 0.5)
    window.rail.toggle_play()
    row("played", lambda: run(app, 8))
    window.rail.toggle_play()
    place = [0]

    def step() -> None:
        place[0] = (place[0] + 1) % len(frames)
        desk.set_frame(frames[place[0]])

    row("stepped as fast as it goes", lambda: run(app, 4, step))
    row("dragged on the picture", lambda: dragged(window.viewer, 3, app))
    for stage in ("Matte", "Lock", "Place", "Match"):
        desk.choose_stage(stage)
        run(app, 0.3)
        fields = [part for part in window.bench.findChildren(QWidget) if type(part).__name__ == "NumberField"]
        seen = [part for part in fields if part.isVisible() and part.isEnabled()]
        if seen:
            row(f"a number dragged, {stage}", lambda seen=seen: dragged(seen[0], 3, app))
            desk.undo()
    row("moved over the picture", lambda: run(app, 2, lambda: QTest.mouseMove(window.viewer, QPoint(400, 300))))
    print(f"* over the {WANTED_MS:g} ms that are wanted of every event on an idle machine")
    sys.stdout.flush()
    os._exit(0)


if __name__ == "__main__":
    main()
