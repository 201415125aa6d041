"""Rings of objects are collected on the interface's thread alone, and not in the midst of a drag."""

import subprocess
import sys

TIDYING = """
import gc, threading, weakref
from PySide6.QtCore import QCoreApplication, QObject, Qt
from PySide6.QtGui import QGuiApplication
from zonal_mantle.ui import tidy
from zonal_mantle.ui.tidy import Tidier

class Ring:
    def __init__(self):
        self.self = self

app = QGuiApplication(["x", "-platform", "offscreen"])
owner = QObject()
threads, buttons = set(), Qt.MouseButton.NoButton
QGuiApplication.mouseButtons = staticmethod(lambda: buttons)
gc.callbacks.append(lambda phase, info: threads.add(threading.current_thread().name))
tidier = Tidier(owner)
assert not gc.isenabled()

def made():  # enough for Python's own collector to run at
    rings = [Ring() for _ in range(20_000)]
    return weakref.ref(rings[0])

held = []
worker = threading.Thread(target=lambda: held.append(made()))
worker.start()
worker.join()
assert held[0]() is not None and not threads
for _ in range(tidy.LOADING_TICKS):
    tidier.tidy()
assert held[0]() is None and threads == {"MainThread"}
frozen = gc.get_freeze_count()
assert frozen > 10_000

kept = [Ring()]
for _ in range(3):
    gc.collect(1)  # it has grown old
old = weakref.ref(kept.pop())
buttons = Qt.MouseButton.LeftButton
for _ in range(tidy.MOST_WHOLE_TICKS - 1):
    tidier.tidy()
assert old() is not None  # a drag is not held up
tidier.tidy()
assert old() is None  # nor is it for ever
old = weakref.ref(Ring())
buttons = Qt.MouseButton.NoButton
for _ in range(tidy.WHOLE_TICKS):
    tidier.tidy()
assert old() is None
del tidier
owner.deleteLater()
QCoreApplication.sendPostedEvents(None, 52)  # deferred deletes
print("enabled" if gc.isenabled() else "disabled")
"""


def test_rings_are_collected_between_the_interfaces_events():
    done = subprocess.run([sys.executable, "-c", TIDYING], capture_output=True, text=True, timeout=120)
    assert done.returncode == 0, done.stderr
    assert done.stdout.strip() == "enabled"
