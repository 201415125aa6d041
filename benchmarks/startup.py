"""How long the application takes to start, against starting Python with NumPy and Qt in the same run.

python benchmarks/startup.py        rows: what, seconds, times the reference
"""

from __future__ import annotations

import os
import subprocess
import sys
import tempfile
import time

RUNS = 5
REFERENCE = "import numpy; from PySide6 import QtWidgets"
API = "import zonal_mantle.api"
WINDOW = """
import gc
gc.disable()  # as the command line does
import sys, time
from zonal_mantle.media.opener import opener
opener.begin()
import zonal_mantle.api
from PySide6.QtWidgets import QApplication
from zonal_mantle.demo import demo_shot
from zonal_mantle.ui.app import prepare
from zonal_mantle.ui.window import Window
import os
app = QApplication([]); prepare(app)
window = Window(); window.show()
OPENINGS
window.files.open_path(demo_shot())
while not window.viewer.is_showing():
    app.processEvents()
    time.sleep(0.002)  # as the application waits: a loop that spins would keep the interpreter from the workers
os._exit(0)
"""
EMPTY = WINDOW.replace(
    "OPENINGS\nwindow.files.open_path(demo_shot())\nwhile not window.viewer.is_showing():", "for _ in range(5):"
)
KEPT = WINDOW.replace("OPENINGS", "")
MADE = WINDOW.replace("OPENINGS", "window.server.openings.find = lambda key: None")
# Keeps the picture that the demo opens with, as the window does once all of it is measured.
KEEPING = """
from zonal_mantle.comp import Look, Pictures, view
from zonal_mantle.comp.openings import Openings
from zonal_mantle.comp.views import view_key
from zonal_mantle.demo import demo_shot
from zonal_mantle.shot import load
shot = load(demo_shot())
asked = (shot, shot.first, "Composite", None)
Openings().keep(view_key(*asked, 1.0, Look()), view(*asked, Pictures(), 1.0, Look()))
"""


def seconds(code: str) -> float:
    """The least of some runs, warm."""
    with tempfile.TemporaryDirectory() as home:
        env = {**os.environ, "QT_QPA_PLATFORM": "offscreen", "XDG_STATE_HOME": home}
        taken = []
        for _ in range(RUNS + 1):
            start = time.perf_counter()
            subprocess.run([sys.executable, "-c", code], check=True, env=env, capture_output=True)
            taken.append(time.perf_counter() - start)
    return min(taken[1:])


def main() -> None:
    reference = seconds(REFERENCE)
    print(f"{'Python with NumPy and Qt':<34}{reference:7.2f} s   1.0", flush=True)
    for name, code in (
        ("import of the API", API),
        ("empty window", EMPTY),
        ("demo, its picture of last time", KEPT),
        ("demo, its picture made anew", MADE),
    ):
        if code is KEPT:
            subprocess.run([sys.executable, "-c", KEEPING], check=True)
        took = seconds(code)
        print(f"{name:<34}{took:7.2f} s  {took / reference:5.1f}", flush=True)


if __name__ == "__main__":
    main()
