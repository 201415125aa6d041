"""The window on Wayland: shown, clicked, keyed, sized and closed by a desk that speaks its protocol."""

import contextlib
import os
import queue
import subprocess
import sys
import tempfile
import threading
import time
from collections.abc import Iterator
from pathlib import Path

import cv2
import numpy as np
import pytest

ESCAPE, FULL_STOP = 1, 52  # linux/input-event-codes.h
MENU = "30 41"  # the first of the menu bar, below the title bar that Qt draws where a desk draws none


class Desk:
    """A desk in a process of its own, with the program on it."""

    def __init__(self, folder: Path, *arguments: str) -> None:
        here = Path(__file__).with_name("wayland_desk.py")
        self.told: list[str] = []
        self.desk = subprocess.Popen(
            [sys.executable, str(here), str(folder / "desk")],
            stdin=subprocess.PIPE, stdout=subprocess.PIPE, text=True, bufsize=1,
        )  # fmt: skip
        self._heard: queue.Queue[str] = queue.Queue()
        threading.Thread(target=self._listen, daemon=True).start()
        self.hear("ready")
        own = {"QT_QPA_PLATFORM": "wayland", "WAYLAND_DISPLAY": str(folder / "desk"), "XDG_RUNTIME_DIR": str(folder)}
        own |= {f"XDG_{kind}_HOME": str(folder / kind) for kind in ("STATE", "CONFIG", "DATA")}
        start = "import sys; from zonal_mantle.cli import main; sys.exit(main())"
        self.program = subprocess.Popen([sys.executable, "-c", start, *arguments], env={**os.environ, **own})

    def _listen(self) -> None:
        for line in self.desk.stdout:
            self._heard.put(line.strip())

    def hear(self, words: str, seconds: float = 60) -> str:
        """Waits until the desk tells something, or has told it; each is heard once."""
        until = time.monotonic() + seconds
        while time.monotonic() < until:
            known = next((line for line in self.told if line.startswith(words)), None)
            if known is not None:
                self.told.remove(known)
                return known
            with contextlib.suppress(queue.Empty):
                self.told.append(self._heard.get(timeout=1))
        raise AssertionError(f"not told: {words}; told: {self.told}")

    def ask(self, line: str) -> None:
        self.desk.stdin.write(line + "\n")

    def picture(self, folder: Path) -> np.ndarray:
        """What is shown in front."""
        self.ask(f"picture {folder / 'seen.png'}")
        self.hear("written")
        return cv2.imread(str(folder / "seen.png"))

    def end(self) -> None:
        self.desk.stdin.close()
        for process in (self.program, self.desk):
            process.kill()
            process.wait()


@pytest.fixture
def place() -> Iterator[Path]:
    """A folder with a short name, as sockets want it."""
    with tempfile.TemporaryDirectory(prefix="wl", dir="/tmp") as folder:
        yield Path(folder)


def test_the_window_works_on_wayland(place, demo):
    desk = Desk(place, str(demo / "SLT_0140.shot.json"))
    try:
        assert desk.hear("application") == "application org.zonal_mantle.ZonalMantle"  # its desktop entry, for the icon
        assert desk.hear("window") == "window 1280 800"
        desk.hear("title SLT_0140")
        until, seen = time.monotonic() + 60, np.zeros((800, 1280, 3), np.uint8)
        while seen[200:400, 400:800].std() < 10 and time.monotonic() < until:  # the plate is shown
            seen = desk.picture(place)
            time.sleep(0.2)
        assert seen.shape == (800, 1280, 3)
        assert seen[200:400, 400:800].std() > 10
        desk.ask(f"click {MENU}")
        desk.hear("popup")
        assert desk.picture(place).std() > 5
        desk.ask(f"key {ESCAPE}")
        desk.hear("gone popup")
        before = desk.picture(place)
        desk.ask(f"key {FULL_STOP}")  # one frame on
        until = time.monotonic() + 30
        while np.array_equal(before, desk.picture(place)) and time.monotonic() < until:
            time.sleep(0.1)
        assert not np.array_equal(before, desk.picture(place))
        desk.ask("size 1400 900")
        desk.hear("window 1400 900")
        desk.ask("close")
        desk.hear("gone window")
        assert desk.program.wait(30) == 0
    finally:
        desk.end()
