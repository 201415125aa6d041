"""Zones copied, the plate moved, frames worked on, files written again, edits while something runs: by hand."""

from pathlib import Path

import numpy as np
import pytest
from PySide6.QtCore import QMimeData, Qt
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication

from graded import graded
from zonal_mantle.comp import scheduler
from zonal_mantle.media.still import read_still, write_still
from zonal_mantle.shot import Keyed, load, save
from zonal_mantle.ui.desk import WATCH_MS
from zonal_mantle.ui.parts import MIME

CONTROL, SHIFT, ALT = (
    Qt.KeyboardModifier.ControlModifier,
    Qt.KeyboardModifier.ShiftModifier,
    Qt.KeyboardModifier.AltModifier,
)


@pytest.fixture
def opened(hands, demo: Path, tmp_path: Path):
    shot = load(demo / "SLT_0140.shot.json")
    sky = shot.source("source1")
    own = tmp_path / "sky.exr"
    own.write_bytes(Path(sky.path).read_bytes())
    save(shot.with_source(sky.but(path=str(own))), tmp_path / "SLT_0140.shot.json")
    hands.window.files.open_path(tmp_path / "SLT_0140.shot.json")
    hands.settled()
    return hands


def press(hands, key: Qt.Key, modifiers: Qt.KeyboardModifier) -> None:
    hands.window.viewer.setFocus()
    QTest.keyClick(hands.window, key, modifiers)
    QApplication.processEvents()


def test_a_zone_is_duplicated_and_its_plate_dragged_across_the_picture(opened):
    desk = opened.window.desk
    desk.choose_zone("zone1")
    press(opened, Qt.Key.Key_D, CONTROL)
    assert desk.zone.name == "Saltworks 2"
    assert desk.zone.matte.id != desk.shot.zone("zone1").matte.id
    opened.open_stage(opened.window.bench.place)
    opened.settled()
    before = opened.pixel(300, 250)
    opened.drag_plate(500, 250, 560, 220)
    opened.settled()
    x, y = desk.zone.placement.x.at(desk.frame), desk.zone.placement.y.at(desk.frame)
    assert (x, y) == (pytest.approx(60, abs=2.5), pytest.approx(-30, abs=2.5))
    assert opened.pixel(300, 250) != before
    press(opened, Qt.Key.Key_Z, CONTROL)
    assert desk.zone.placement.x.at(desk.frame) == 0


def test_a_stage_is_copied_to_another_zone_by_keyboard(opened):
    desk = opened.window.desk
    desk.choose_zone("zone3")
    zone = desk.zone
    desk.edit_zone(zone.but(match=graded(saturation=Keyed(constant=0.25))), "Grey")
    opened.open_stage(opened.window.bench.match)
    press(opened, Qt.Key.Key_C, CONTROL | SHIFT)
    desk.choose_zone("zone4")
    press(opened, Qt.Key.Key_V, CONTROL | ALT)
    assert desk.shot.zone("zone4").match.tone.cdl.saturation.constant == 0.25
    assert desk.shot.zone("zone4").placement != desk.shot.zone("zone3").placement


@pytest.mark.background
def test_playing_and_reading_ahead_keep_to_the_work_range(opened):
    window, desk = opened.window, opened.window.desk
    desk.set_frame(1004)
    press(opened, Qt.Key.Key_Home, SHIFT)
    desk.set_frame(1006)
    press(opened, Qt.Key.Key_End, SHIFT)
    assert desk.shot.work == (1004, 1006)
    assert "1004–1006" in window.rail.rate.text()
    window.server.cache.clear()
    desk.set_frame(1005)
    opened.wait(lambda: all(window.viewer.is_cached(frame) for frame in (1004, 1005, 1006)))
    QTest.qWait(300)
    assert not any(window.viewer.is_cached(frame) for frame in (1001, 1002, 1009))
    seen = set()
    desk.frame_changed.connect(lambda: seen.add(desk.frame))
    window.rail.toggle_play()
    QTest.qWait(700)
    window.rail.toggle_play()
    assert seen == {1004, 1005, 1006}


def test_a_painting_saved_again_is_on_the_screen_by_itself(opened, tmp_path):
    window = opened.window
    opened.wait(lambda: window.desk._files[1] != "")
    before = opened.pixel(320, 60)
    pixels, _ = read_still(tmp_path / "sky.exr")
    write_still(tmp_path / "sky.exr", pixels * np.float32(0.1), "half", "zip")
    opened.wait(lambda: sum(opened.pixel(320, 60)) < 0.7 * sum(before), 10)
    assert WATCH_MS <= 1000  # so that a look and a picture take no more than two seconds
    assert "written again" in window.rail.message.text()


@pytest.mark.background
def test_after_many_edits_reading_ahead_fills_the_shot_again(opened, monkeypatch):
    window, desk = opened.window, opened.window.desk
    window.server.cache.limit = 14 * 640 * 360 * 4  # room for the shot's ten frames and few more
    zone = desk.shot.zone("zone2")
    for k in range(3):
        moved = zone.but(placement=zone.placement.but(x=Keyed(constant=float(-k - 1))))
        desk.edit_zone(moved, f"Nudge {k}")
        opened.settled()
        opened.wait(lambda: all(window.viewer.is_cached(frame) for frame in desk.shot.frames))
    assert window.server.cache.used <= window.server.cache.limit
    desk.set_frame(desk.shot.work_frames[0])
    frames = opened.played(monkeypatch, [(k + 0.5) / 24 for k in range(9)])
    count = len(desk.shot.work_frames)
    assert [frame - desk.shot.work_frames[0] for frame in frames] == [k % count for k in range(9)]


def test_a_nudge_by_a_pixel_back_and_forth_redraws_the_picture(opened):
    desk = opened.window.desk
    zone = desk.shot.zone("zone2")
    seen = []
    for x in (-1.0, -2.0, -1.0):
        desk.edit_zone(zone.but(placement=zone.placement.but(x=Keyed(constant=x))), "Nudge")
        opened.settled()
        seen.append(opened.window.viewer._images["Composite"][1].codes.copy())
    assert not np.array_equal(seen[0], seen[1])
    assert np.array_equal(seen[0], seen[2])


def test_what_is_edited_while_a_lock_is_solved_stays(opened):
    window, desk = opened.window, opened.window.desk
    desk.choose_zone("zone2")
    opened.open_stage(window.bench.lock)
    opened.click(window.bench.lock.measure.both)
    zone = desk.shot.zone("zone3")
    desk.edit_zone(zone.but(name="Renamed meanwhile"), "Rename")
    opened.wait(lambda: desk.job is None)
    assert desk.shot.zone("zone3").name == "Renamed meanwhile"
    assert len(desk.shot.lock("hills").solved) == 10


@pytest.mark.background
def test_readings_that_cannot_be_taken_say_why(opened, monkeypatch):
    desk = opened.window.desk

    def broken(*_: object, **__: object) -> None:
        raise ValueError("a number is missing")

    monkeypatch.setattr("zonal_mantle.ui.measuring.take_readings", broken)
    desk.measuring.begin()
    opened.wait(lambda: "readings could not be taken" in opened.window.rail.message.text())
    assert "a number is missing" in opened.window.rail.message.text()
    assert scheduler.READINGS > scheduler.PICTURE


def test_a_damaged_clipboard_is_said_and_changes_nothing(opened):
    desk, before, message = opened.window.desk, opened.window.desk.shot, opened.window.rail.message
    desk.choose_zone("zone1")
    for held in (b"", b"{", b"[]", b'{"what": 3}', b"\xff\xfe", b'{"what": "zone", "zone": {}}'):
        data = QMimeData()
        data.setData(MIME, held)
        QApplication.clipboard().setMimeData(data)
        message.setText("")
        press(opened, Qt.Key.Key_V, CONTROL | ALT)
        assert "damaged" in message.text(), held
        assert desk.shot == before


def test_a_lock_keyed_by_hand_is_made_and_ridden_on(opened):
    window, desk = opened.window, opened.window.desk
    desk.choose_zone("zone4")
    opened.open_stage(window.bench.lock)
    stage = window.bench.lock
    opened.choose(stage.kind, "by hand")
    opened.click(stage.new)
    lock = desk.lock
    assert lock.kind == "by hand"
    desk.edit_lock(lock.but(correction=lock.correction.but(x=Keyed(constant=12.0))), "Key")
    opened.choose(stage.rides, lock.name)
    assert desk.zone.placement.rides == lock.id
    opened.settled()
    assert "keyed by hand" in stage.header.words


@pytest.mark.background
def test_what_is_found_while_readings_are_taken_is_told_as_not_all(opened, monkeypatch):
    window, desk = opened.window, opened.window.desk
    monkeypatch.setattr("zonal_mantle.comp.all_readings.LEAST_FRAMES", 4)
    said = []
    desk.readings_changed.connect(
        lambda: said.append((desk.readings.partly, window.findings.words(), window.bench.matte.header.words))
    )
    opened.wait(lambda: bool(said) and not desk.is_measuring, 60)
    assert window.rail.findings.text().endswith(window.findings.words())
    assert "so far" not in window.findings.words()
    assert not desk.readings.partly
    assert any("so far" in words for _, words, _ in said)
    desk.edit_zone(desk.zone.but(name="Saltern works"), "Rename")
    assert window.findings.words().endswith("so far")
    assert window.rail.findings.text().endswith("so far")
    opened.wait(lambda: not desk.is_measuring, 60)
    assert "so far" not in window.rail.findings.text()
