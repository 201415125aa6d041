"""Files are read and written beside the interface's thread, and a slow disk does not stop the window."""

import threading
import time

import pytest
from PySide6.QtCore import Qt, QTimer
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication, QLineEdit

from zonal_mantle.shot import load, save
from zonal_mantle.ui import files
from zonal_mantle.ui.apart import apart, is_waiting


def test_work_is_done_on_another_thread_and_errors_come_back(qtbot):
    assert apart(threading.get_ident) != threading.get_ident()
    with pytest.raises(ZeroDivisionError):
        apart(lambda: 1 / 0)
    with pytest.raises(TimeoutError, match="mine"):
        apart(lambda: (_ for _ in ()).throw(TimeoutError("mine")))
    found = []
    thread = threading.Thread(target=lambda: found.append(apart(threading.get_ident) == threading.get_ident()))
    thread.start()
    thread.join()
    assert found == [True]  # a worker does it itself


def test_the_window_is_painted_meanwhile_and_takes_no_keys(qtbot):
    line, beats, waited = QLineEdit(), [], []
    qtbot.addWidget(line)
    line.show()
    timer = QTimer(interval=10)
    timer.timeout.connect(lambda: (beats.append(1), waited.append(is_waiting())))
    timer.start()
    assert apart(lambda: time.sleep(0.3) or "read") == "read"
    assert len(beats) > 5
    assert all(waited)
    assert not is_waiting()
    timer.stop()
    QTest.keyClicks(line, "after")
    assert line.text() == "after"


def test_a_shot_on_a_slow_disk_opens_while_the_window_stays_alive(hands, demo, tmp_path, monkeypatch):
    window, beats = hands.window, []
    path = tmp_path / "SLT_0140.shot.json"
    save(load(demo / "SLT_0140.shot.json"), path)
    monkeypatch.setattr(files, "load", lambda name: time.sleep(0.4) or load(name))
    timer = QTimer(interval=10)
    timer.timeout.connect(lambda: beats.append(window.close()))  # what is closed meanwhile stays
    timer.start()
    window.files.open_path(path)
    timer.stop()
    assert len(beats) > 5
    assert not any(beats)
    assert window.isVisible()
    assert window.desk.path == path
    assert QApplication.overrideCursor() is None or QApplication.overrideCursor().shape() != Qt.CursorShape.WaitCursor
