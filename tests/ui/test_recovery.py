"""Earlier versions, autosaves and their pictures, shots that are open elsewhere, reports: in the real window."""

import json
import os
import time
import zipfile
from datetime import datetime, timedelta

from PySide6.QtCore import QTimer
from PySide6.QtWidgets import QApplication, QMessageBox

from zonal_mantle.paths import log_path
from zonal_mantle.shot import autosave_path, load, save
from zonal_mantle.shot.opened import mark_path
from zonal_mantle.shot.past import keep_past, past_of

BUTTON = QMessageBox.StandardButton


def test_an_earlier_version_is_looked_at_and_taken_back(opened):
    window, desk = opened.window, opened.window.desk
    path, before = desk.path, desk.shot
    keep_past(before.but(name="Early"), path, datetime.now() - timedelta(hours=1))
    desk.edit(before.but(air=before.air.but(visibility_m=7000.0)), "Change the air")
    desk.file.autosave()
    opened.wait(lambda: len(past_of(path)) == 2)
    window.show_past()
    dialog = window._pages["past"]
    assert dialog.list.count() == 2
    assert [dialog.list.item(k).icon().isNull() for k in (0, 1)] == [False, True]  # the second was kept without
    dialog.list.setCurrentRow(1)
    assert "Name: Early → SLT_0140" in dialog.words.toPlainText()
    assert "visibility m" in dialog.words.toPlainText()
    opened.click(dialog.back)
    assert desk.shot.name == "Early"
    assert desk.shot.sources == before.sources  # its files lie where they did
    desk.undo()
    assert desk.shot.air.visibility_m == 7000.0
    dialog.close()


def test_a_damaged_version_is_said(opened):
    desk = opened.window.desk
    keep_past(desk.shot.but(name="Early"), desk.path, datetime.now() - timedelta(hours=1))
    opened.window.show_past()
    dialog = opened.window._pages["past"]
    past_of(desk.path)[0].file.write_bytes(b"x")
    dialog.list.setCurrentRow(0)
    assert "damaged or gone" in dialog.words.toPlainText()
    before = desk.shot
    opened.click(dialog.back)
    assert desk.shot is before
    assert "damaged or gone" in opened.window.rail.message.text()
    dialog.close()


def test_recovery_shows_pictures_of_both(hands, demo, tmp_path):
    path = tmp_path / "SLT_0140.shot.json"
    save(load(demo / "SLT_0140.shot.json"), path)
    hands.window.files.open_path(path)
    hands.settled()
    desk = hands.window.desk
    desk.file.save(path)
    desk.edit(desk.shot.but(name="Changed"), "Rename")
    desk.file.autosave()
    hands.wait(autosave_path(path).exists)
    os.utime(autosave_path(path), (time.time() + 60,) * 2)
    seen = []

    def recover():
        box = next(w for w in QApplication.topLevelWidgets() if isinstance(w, QMessageBox) and w.isVisible())
        picture = box.iconPixmap().toImage()
        seen.append((picture.width(), picture.pixelColor(picture.width() - 100, 50).value()))
        return True

    hands.with_answer(BUTTON.Yes, lambda: _watched(hands, recover, lambda: hands.window.files.open_path(path)))
    assert seen[0][0] == 400  # two pictures side by side
    assert seen[0][1] > 20  # the autosave's own is there
    assert desk.shot.name == "Changed"


def _watched(hands, look, act):
    """Does something that asks, and looks at what is asked before it is answered."""
    QTimer.singleShot(20, look)
    act()


def test_a_shot_that_is_open_elsewhere_is_said(hands, demo, tmp_path):
    path = tmp_path / "SLT_0140.shot.json"
    save(load(demo / "SLT_0140.shot.json"), path)
    other = {"user": "ada", "machine": "elsewhere", "process": 4, "started": 9, "since": 1.79e9}
    mark_path(path).write_text(json.dumps(other))
    hands.window.files.open_path(path)
    assert "open elsewhere too: by ada on elsewhere" in hands.window.rail.message.text()
    assert json.loads(mark_path(path).read_text()) == other  # it stays theirs
    mark_path(path).unlink()
    hands.window.files.open_path(path)
    assert "elsewhere" not in hands.window.rail.message.text()
    assert json.loads(mark_path(path).read_text())["process"] == os.getpid()
    hands.window.desk.close()
    assert not mark_path(path).exists()


def test_a_report_holds_the_log_and_nothing_else(opened, tmp_path):
    log_path().write_text("one line of the log\n")
    window, path = opened.window, tmp_path / "report.zip"
    opened.with_file(path, window.files.pack_report)
    opened.wait(path.exists)
    with zipfile.ZipFile(path) as file:
        assert sorted(file.namelist()) == ["machine.txt", "zonal-mantle.log"]
        assert file.read("zonal-mantle.log") == b"one line of the log\n"
        assert b"Zonal Mantle" in file.read("machine.txt")
    opened.wait(lambda: "report.zip holds" in window.rail.message.text())


def test_the_files_of_a_shot_are_shown_before_it_is_opened(hands, demo, tmp_path):
    path = tmp_path / "SLT_0140.shot.json"
    save(load(demo / "SLT_0140.shot.json"), path)
    texts = []

    def look():
        box = next((w for w in QApplication.topLevelWidgets() if isinstance(w, QMessageBox) and w.isVisible()), None)
        if box is not None:
            texts.append(box.text())
            box.button(BUTTON.Cancel).click()

    timer = QTimer(interval=50)
    timer.timeout.connect(look)
    timer.start()
    before = hands.window.desk.shot
    hands.with_file(path, hands.window.files.open_looked_at)
    timer.stop()
    assert "lie outside of its folder" in texts[-1]
    assert hands.window.desk.shot is before
