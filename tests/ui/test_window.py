"""Cancelling, relinking, recovering, playing, seeing."""

import shutil
import threading

import numpy as np
import pytest
from PySide6.QtCore import QPoint, Qt
from PySide6.QtTest import QTest
from PySide6.QtWidgets import (
    QAbstractButton,
    QApplication,
    QCheckBox,
    QComboBox,
    QMessageBox,
    QPushButton,
    QToolButton,
    QWidget,
)

from zonal_mantle.place import reference_to_frame
from zonal_mantle.shot import Key, Keyed, autosave_path, load, save
from zonal_mantle.ui.numberfield import NumberField


def test_a_solve_cancelled_in_the_middle_leaves_all_as_it_was(opened):
    desk, bench = opened.window.desk, opened.window.bench
    desk.choose_zone(desk.shot.zones[1].id)
    opened.open_stage(bench.lock)
    before, steps = desk.shot, desk.history.place
    seen = []
    desk.job_changed.connect(lambda share, words: (seen.append(share), share > 0.1 and desk.cancel_job()))
    opened.click(bench.lock.measure.both)
    opened.wait(lambda: bool(seen) and desk.job is None)
    assert max(seen) < 0.9
    assert desk.shot == before
    assert desk.history.place == steps


def test_a_render_cancelled_in_the_middle_leaves_whole_frames_only(opened, tmp_path):
    window, desk = opened.window, opened.window.desk
    before = desk.shot
    window.render_panel.show_for_shot()
    window.render_panel.folder.setText(str(tmp_path / "out"))
    desk.job_changed.connect(lambda share, words: share > 0.3 and desk.cancel_job())
    opened.click(window.render_panel.go)
    opened.wait(lambda: desk.job is None)
    names = sorted(p.name for p in (tmp_path / "out").iterdir())
    assert 0 < len(names) < 10
    assert all(name.startswith("SLT_0140.10") and name.endswith(".exr") for name in names)
    assert desk.shot == before


@pytest.mark.background
def test_a_shot_whose_plate_is_missing_opens_says_so_and_is_relinked(hands, demo, tmp_path):
    shot = load(demo / "SLT_0140.shot.json")
    gone = shot.sources[0].but(path=str(tmp_path / "gone" / "SLT_0140.%04d.exr"))
    save(shot.with_source(gone), tmp_path / "broken.shot.json")
    window, desk = hands.window, hands.window.desk
    window.files.open_path(tmp_path / "broken.shot.json")
    hands.wait(lambda: bool(window.viewer.message))
    assert "missing" in window.viewer.message
    hands.wait(lambda: bool(desk.readings.findings))
    assert "Relink" in desk.readings.findings[0].words
    hands.open_stage(window.bench.source)
    assert window.bench.source.problem.isVisible()
    hands.with_file(demo / "plate" / "SLT_0140.1001.exr", lambda: hands.click(window.bench.source.relink))
    hands.settled()
    assert not window.viewer.message
    assert desk.shot.plate_source.path == shot.plate_source.path


def test_a_newer_autosave_is_offered_and_recovered(hands, demo, tmp_path):
    folder = tmp_path / "copy"
    shutil.copytree(demo, folder, ignore=shutil.ignore_patterns("truth"))
    path = folder / "SLT_0140.shot.json"
    changed = load(path).but(name="Recovered")
    save(changed, autosave_path(path))
    yes = QMessageBox.StandardButton.Yes
    hands.with_answer(yes, lambda: hands.window.files.open_path(path))
    assert hands.window.desk.shot.name == "Recovered"
    assert hands.window.desk.unsaved
    hands.window.desk.file.save(path)
    assert not autosave_path(path).exists()


def test_a_damaged_shot_is_said_and_nothing_is_lost(opened, tmp_path):
    before = opened.window.desk.shot
    (tmp_path / "bad.shot.json").write_text("{")
    opened.window.files.open_path(tmp_path / "bad.shot.json")
    assert "not readable as JSON" in opened.window.rail.message.text()
    assert opened.window.desk.shot == before


def test_autosave_writes_beside_the_shot(opened, tmp_path):
    desk = opened.window.desk
    desk.edit(desk.shot.but(name="Changed"), "Rename")
    desk.file.autosave()
    autosave = autosave_path(tmp_path / "SLT_0140.shot.json")
    opened.wait(autosave.exists)
    assert load(autosave).name == "Changed"
    desk.file.discard_autosave()
    assert not autosave.exists()
    desk.file.autosave()
    desk.file.discard_autosave()  # what a worker may be about to write is let go too
    opened.wait(lambda: not desk.scheduler.is_busy("autosave"))
    assert not autosave.exists()


def test_a_save_does_not_wait_for_an_autosave_on_a_slow_disk(opened, tmp_path, monkeypatch):
    desk = opened.window.desk
    desk.edit(desk.shot.but(name="Changed"), "Name")
    path = desk.path
    began, go_on = threading.Event(), threading.Event()

    def slow(shot, target):
        if target == autosave_path(path):
            began.set()
            assert go_on.wait(20)
        save(shot, target)

    monkeypatch.setattr("zonal_mantle.ui.shotfile.save", slow)
    desk.file.autosave()
    assert began.wait(20)
    assert desk.file.save(path)  # with the worker still at it
    assert not desk.unsaved
    go_on.set()
    opened.wait(lambda: not desk.scheduler.is_busy("autosave"))
    assert not autosave_path(path).exists()
    assert load(path).name == "Changed"


def test_held_still_keeps_a_locked_point_in_one_place(opened):
    window, desk = opened.window, opened.window.desk
    desk.choose_lock("works")
    entry = desk.lock.solved
    moving = [window.viewer.to_widget(*e.marks[0]) for e in entry if not desk.set_frame(e.frame)]
    opened.keys(Qt.Key.Key_H)
    assert desk.held_still
    still = []
    for e in entry:
        desk.set_frame(e.frame)
        still.append(window.viewer.to_widget(*e.marks[0]))
    spread = max(abs(p.x() - still[0].x()) for p in still)
    assert spread < 0.6
    assert spread < max(abs(p.x() - moving[0].x()) for p in moving)


def test_dragging_a_mark_is_one_step_and_unsolves_the_lock(opened):
    window, desk = opened.window, opened.window.desk
    desk.choose_zone(desk.shot.zones[3].id)
    desk.choose_lock("works")
    opened.open_stage(window.bench.lock)
    desk.set_frame(desk.lock.reference_frame)
    opened.settled()
    mark, steps = desk.lock.marks[0], desk.history.place
    opened.drag_plate(mark.x, mark.y, mark.x + 9, mark.y - 5)
    moved = desk.lock.marks[0]
    assert (moved.x - mark.x, moved.y - mark.y) == pytest.approx((9, -5), abs=1.2)
    assert desk.lock.solved == ()
    assert desk.history.place == steps + 1
    opened.keys(Qt.Key.Key_Z, Qt.KeyboardModifier.ControlModifier)
    assert desk.lock.marks[0] == mark
    assert desk.lock.solved


def test_placing_after_the_solve_never_touches_the_solve(opened):
    window, desk = opened.window, opened.window.desk
    desk.choose_zone(desk.shot.zones[1].id)
    opened.open_stage(window.bench.place)
    locks = desk.shot.locks
    opened.drag_plate(100, 50, 140, 70)
    QTest.keyClick(window.viewer, Qt.Key.Key_Left)
    assert desk.shot.locks == locks
    assert desk.zone.placement.x.constant == pytest.approx(
        desk.history.shots[0].zones[1].placement.x.constant + 39, abs=1.2
    )


def test_a_shape_is_drawn_moved_keyed_switched_and_removed(opened):
    window, desk, matte = opened.window, opened.window.desk, opened.window.bench.matte
    plate = desk.shot.zones[0].id
    desk.choose_zone(plate)
    opened.open_stage(matte)
    opened.click(matte.tabs["Shapes"])
    count = len(desk.matte.shapes)
    opened.click(matte.shapes.keep)
    for x, y in ((400, 60), (460, 60), (460, 110), (400, 110)):
        opened.click_plate(x, y)
    opened.click_plate(400, 60)  # the first point closes it
    assert len(desk.matte.shapes) == count + 1
    shape = desk.matte.shapes[-1]
    desk.set_frame(1009)
    opened.click(matte.shapes.key)
    opened.drag_plate(430, 85, 470, 85)
    moved = desk.matte.shapes[-1]
    assert [key.frame for key in moved.keys] == [shape.keys[0].frame, 1009]
    assert moved.points_at(1009)[0][0] == pytest.approx(shape.points_at(1001)[0][0] + 40, abs=1.5)
    opened.settled()
    assert desk.store.matte(desk.shot, desk.matte, 1009).alpha[85, 470] == 1
    QTest.keyClick(window.viewer, Qt.Key.Key_Delete)
    assert len(desk.matte.shapes) == count


def test_a_shape_with_two_points_is_refused_in_words(opened):
    window, desk = opened.window, opened.window.desk
    desk.choose_zone(desk.shot.zones[0].id)
    opened.open_stage(window.bench.matte)
    before = desk.shot
    opened.click(window.bench.matte.tabs["Shapes"])
    opened.click(window.bench.matte.shapes.drop)
    opened.click_plate(100, 60)
    opened.click_plate(200, 60)
    QTest.keyClick(window.viewer, Qt.Key.Key_Return)
    assert "at least three points" in window.rail.message.text()
    assert desk.shot == before


def test_the_wipe_shows_two_views_and_views_change_pixels(opened):
    window = opened.window
    opened.keys(Qt.Key.Key_1)
    opened.settled()
    composite = opened.pixel(120, 40)
    opened.keys(Qt.Key.Key_2)
    opened.settled()
    plate = opened.pixel(120, 40)
    assert composite != plate
    window.desk.set_view(view="Composite", other_view="Plate", wipe=True)
    window.desk.choose_stage("Match")
    opened.settled()
    QApplication.processEvents()
    assert opened.pixel(120, 40) == composite
    assert opened.pixel(560, 40) != composite
    window.strip.exposure._set(1.0, "g")
    opened.settled()
    assert sum(opened.pixel(560, 300)) > 0
    assert window.desk.history.place == 0  # views are never part of the shot


def test_zoom_stays_about_the_pointer(opened):
    viewer = opened.window.viewer
    point = opened.at(200, 100)
    before = viewer.to_plate(point.toPointF())
    viewer.zoom_about(point.toPointF(), 2.5)
    assert viewer.to_plate(point.toPointF()) == pytest.approx(before, abs=1e-6)
    opened.keys(Qt.Key.Key_F)
    assert viewer.fitted


@pytest.mark.background
def test_playing_is_in_real_time_once_cached(opened, monkeypatch):
    """By a clock of the test's own: on each frame when it is due, and those that a busy machine misses are skipped."""
    window, desk = opened.window, opened.window.desk
    opened.wait(lambda: all(window.viewer.is_cached(frame) for frame in desk.shot.frames), 60)
    seen = set()
    desk.frame_changed.connect(lambda: seen.add(desk.frame))
    opened.keys(Qt.Key.Key_L)
    opened.wait(lambda: len(seen) == 10, 20)
    opened.keys(Qt.Key.Key_L)
    assert not window.rail.playing
    desk.set_frame(desk.shot.first)
    due = [0, 1, 2, 3, 6, 7, 11, 12]  # in frames of the plate
    frames = opened.played(monkeypatch, [(k + 0.5) / 24 for k in due])
    count = len(desk.shot.frames)
    assert [frame - desk.shot.first for frame in frames] == [k % count for k in due]


@pytest.mark.background
def test_a_finding_jumps_to_its_frame(opened):
    window, desk = opened.window, opened.window.desk
    hung = desk.shot.zones[1]
    far = Keyed(keys=(Key(frame=1001, value=0, way="hold"), Key(frame=1007, value=3000, way="hold")))
    desk.edit_zone(hung.but(placement=hung.placement.but(x=far)), "Slide")
    opened.wait(lambda: any(f.stage == "Place" for f in desk.readings.findings))
    opened.click_finding(next(f.words for f in desk.readings.findings if f.stage == "Place"))
    assert desk.frame >= 1007
    assert (desk.stage, desk.zone_id) == ("Place", hung.id)
    opened.wait(lambda: "covers 6/10" in window.bench.place.header.words)


def test_the_airlight_is_picked_off_the_plate(opened):
    window, desk = opened.window, opened.window.desk
    window.section.pick_wanted.emit()
    opened.settled()
    opened.click_plate(320, 40)
    opened.wait(lambda: desk.view == "Composite")
    plate = desk.store.plate(desk.shot.plate_source, desk.frame)
    assert desk.shot.air.airlight == pytest.approx(plate[36:45, 316:325].reshape(-1, 3).mean(axis=0), abs=0.02)
    assert desk.view == "Composite"


def test_the_quad_rides_the_lock(opened):
    window, desk = opened.window, opened.window.desk
    desk.choose_lock("works")
    opened.open_stage(window.bench.lock)
    opened.click(window.bench.lock.quad, QPoint(6, 8))
    assert desk.lock.quad is not None
    desk.set_frame(1009)
    matrix = reference_to_frame(desk.shot, "works", 1009)
    corner = matrix @ [*desk.lock.quad[0], 1]
    opened.drag_plate(corner[0], corner[1], corner[0] - 12, corner[1] - 8)
    moved = matrix @ [*desk.lock.quad[0], 1]
    assert np.subtract(moved, corner)[:2] == pytest.approx((-12, -8), abs=1.2)
    assert desk.lock.solved


def test_number_fields_are_dragged_stepped_typed_and_set_back(qtbot):
    field = NumberField("Size", 0, 10, 0.1, 1.0, 2, "", "A tip")
    field.resize(120, 20)
    field.show()
    qtbot.addWidget(field)
    values, gestures = [], set()
    field.changed.connect(lambda value, gesture: (values.append(value), gestures.add(gesture)))
    QTest.mousePress(field, Qt.MouseButton.LeftButton, pos=QPoint(30, 8))
    for x in (34, 40, 50):
        QTest.mouseMove(field, QPoint(x, 8))
    QTest.mouseRelease(field, Qt.MouseButton.LeftButton, pos=QPoint(50, 8))
    assert values[-1] == pytest.approx(3.0)
    assert len(gestures) == 1
    field.setFocus()
    QTest.keyClick(field, Qt.Key.Key_Up)
    assert field.value == pytest.approx(3.1)
    QTest.keyClick(field, Qt.Key.Key_Backspace)
    assert field.value == 1.0
    field._type()
    editor = field._editor
    QTest.keyClicks(editor, "99")
    QTest.keyClick(editor, Qt.Key.Key_Return)
    assert field.value == 10  # the limit


def test_every_control_says_what_it_does(opened):
    window = opened.whole()
    for kind in (NumberField, QPushButton, QToolButton, QComboBox, QCheckBox):
        for part in window.findChildren(kind):
            if part.objectName().startswith("qt_"):
                continue
            assert part.toolTip(), f"{kind.__name__} {getattr(part, 'label', part.objectName())} has no tooltip"


def test_text_and_accents_have_enough_contrast():
    # published: WCAG 2.2, success criterion 1.4.3: at least 4.5 : 1
    from zonal_mantle.ui import theme

    def luminance(colour: str) -> float:
        channels = [int(colour[k : k + 2], 16) / 255 for k in (1, 3, 5)]
        linear = [c / 12.92 if c <= 0.04045 else ((c + 0.055) / 1.055) ** 2.4 for c in channels]
        return float(np.dot(linear, (0.2126, 0.7152, 0.0722)))

    for ground in (theme.GROUND, theme.PANEL, theme.RAISED):
        for ink in (theme.TEXT, theme.DIM, theme.ACCENT, theme.WARN):
            ratio = (luminance(ink) + 0.05) / (luminance(ground) + 0.05)
            assert ratio >= 4.5, (ink, ground, ratio)


def test_nothing_is_cut_off_at_1280_by_800(opened):
    window = opened.window
    window.resize(1280, 800)
    QApplication.processEvents()
    assert (window.width(), window.height()) == (1280, 800)
    bench, cut = window.bench, []
    for zone in (window.desk.shot.zones[0].id, window.desk.shot.zones[1].id):
        window.desk.choose_zone(zone)
        for stage in bench.stages:
            opened.open_stage(stage)
            for part in getattr(stage, "tabs", {"": None}):
                if part:
                    stage.open_part(part)
                QApplication.processEvents()
                cut += [f"{stage.name} {part}: {words}" for words in cut_off(bench)]
    assert cut == []


def cut_off(holder: QWidget) -> list[str]:
    """The words of buttons and boxes that do not fit, and what reaches beyond its holder's right edge."""
    found = []
    for widget in holder.findChildren(QAbstractButton):
        if not widget.isVisible() or not widget.text():
            continue
        inside = widget.mapTo(holder, QPoint(0, 0)).x() + widget.width() <= holder.width()
        if not inside or widget.fontMetrics().horizontalAdvance(widget.text().replace("&", "")) > widget.width():
            found.append(widget.text())
    return found


def test_the_picture_has_more_than_half_of_the_window(opened):
    # at 1280 × 800, with all panels shown
    window = opened.window
    window.resize(1280, 800)
    QApplication.processEvents()
    assert window.viewer.width() * window.viewer.height() > 0.5 * 1280 * 800


def test_readings_do_not_wait_for_a_picture_that_cannot_be_made(opened, monkeypatch):
    window = opened.window
    monkeypatch.setattr(window.viewer, "is_showing", lambda: False)
    assert not window.desk.is_showing()
    window.viewer._failed(window.viewer.wanted(window.desk.frame)[0], "plate.1001.exr is damaged.")
    assert window.desk.is_showing()


def test_the_name_of_a_shot_is_seen_whole_when_it_grows(opened):
    window, desk = opened.window, opened.window.desk
    desk.edit(desk.shot.but(name="SLT_0140_evening_second_look"), "Name")
    QApplication.processEvents()
    assert window.name.width() >= window.name.sizeHint().width()
    assert window.name.geometry().right() <= window.menuBar().width()
