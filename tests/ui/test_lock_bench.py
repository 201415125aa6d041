"""The lock bench by mouse: a field and what is left out, solved, judged, corrected, written, read, compared."""

import errno
import threading
from pathlib import Path

import cv2
import numpy as np
import pytest
from PySide6.QtCore import QPoint, Qt
from skimage import data

from hung import FOCAL, SIZE, K, marked, turn_at
from ranges import sliding_plates
from zonal_mantle.api import shot_from_plate
from zonal_mantle.comp import solve_lock
from zonal_mantle.geometry import carry
from zonal_mantle.lock import propose_marks
from zonal_mantle.media import open_source
from zonal_mantle.place import reference_to_frame
from zonal_mantle.shot import ClearSkyPull, Lock, Mark, Matte, Placement, Shape, ShapeKey, Zone, load, save

CORNERS = np.array([[5.0, 5.0], [635.0, 5.0], [320.0, 60.0]])


@pytest.fixture
def opened(hands, demo: Path, tmp_path: Path):
    """The demo with its sky on the bench, at the Lock stage, showing the plate."""
    desk = hands.window.desk
    save(load(demo / "SLT_0140.shot.json"), tmp_path / "SLT_0140.shot.json")  # so that its autosave is its own
    hands.window.files.open_path(tmp_path / "SLT_0140.shot.json")
    desk.choose_zone(desk.shot.zones[1].id)
    hands.open_stage(hands.window.bench.lock)
    desk.set_frame(1005)
    desk.set_view(view="Plate")
    hands.settled()
    return hands


def new_lock(hands, kind):
    stage = hands.window.bench.lock
    stage.kind.setCurrentText(kind)
    hands.click(stage.new)
    hands.window.bench.refresh()
    return stage


def solved(hands, seconds=120):
    desk = hands.window.desk
    hands.wait(lambda: bool(desk.lock.solved) and desk.job is None, seconds)
    hands.window.bench.refresh()


def draw_house(hands, stage):
    hands.choose(stage.measure.form, "rectangle")
    hands.click(stage.measure.keep)
    hands.drag_plate(205, 168, 316, 222)
    hands.window.bench.refresh()


def test_a_plane_lock_from_drawing_to_comparing(opened, tmp_path):
    window, desk = opened.window, opened.window.desk
    stage = new_lock(opened, "plane")
    assert desk.zone.placement.rides == desk.lock.id
    draw_house(opened, stage)
    opened.click(stage.measure.drop)
    opened.drag_plate(210, 200, 235, 220)
    assert [shape.mode for shape in desk.lock.field] == ["keep", "drop"]
    assert desk.lock.field[0].points_at(1005)[0] == pytest.approx((205, 168), abs=1)
    opened.window.bench.refresh()
    opened.click(stage.measure.both)
    solved(opened)
    lock = desk.lock
    assert [entry.frame for entry in lock.solved] == list(desk.shot.frames)
    assert "px" in stage.header.words
    # a quad on it, seen held still: what is locked stays where it is on the screen
    opened.click(stage.quad, QPoint(6, 8))
    assert desk.lock.quad is not None
    place = np.array([[260.0, 195.0]])
    opened.click(stage.still, QPoint(6, 8))
    seen = []
    for frame in (1002, 1009):
        desk.set_frame(frame)
        x, y = carry(reference_to_frame(desk.shot, lock.id, frame), place)[0]
        seen.append(window.viewer.to_widget(x, y))
    assert (seen[0] - seen[1]).manhattanLength() < 0.01
    opened.click(stage.still, QPoint(6, 8))
    # a correction by hand, keyed, smooth between
    desk.set_frame(1005)
    opened.click(stage.tabs["Correct"])
    before = carry(reference_to_frame(desk.shot, lock.id, 1009), place)
    opened.type_number(stage.correct.right, "3")
    assert desk.lock.correction.x.at(1005) == 3
    moved = carry(reference_to_frame(desk.shot, lock.id, 1009), place) - before
    assert moved[0, 0] == pytest.approx(3, abs=0.3)
    opened.keys(Qt.Key.Key_Z, Qt.KeyboardModifier.ControlModifier)
    assert desk.lock.correction.x.at(1005) == 0
    # written, read and compared
    window.bench.refresh()
    path = tmp_path / "house.json"
    opened.with_file(path, lambda: opened.click(stage.correct.write))
    assert path.exists()
    opened.with_file(path, lambda: opened.click(stage.correct.read))
    again = desk.lock
    assert again.id != lock.id
    for frame in desk.shot.frames:
        a, b = (carry(reference_to_frame(desk.shot, id, frame), place) for id in (lock.id, again.id))
        assert np.abs(a - b).max() < 1e-9


def test_a_full_disk_keeps_the_lock_that_was_written_before(opened, tmp_path, monkeypatch):
    desk, stage = opened.window.desk, opened.window.bench.lock
    path = tmp_path / "hills.json"
    opened.with_file(path, lambda: opened.click(stage.correct.write))
    before = path.read_text()

    def full(_file):
        raise OSError(errno.ENOSPC, "No space left on device")

    monkeypatch.setattr("zonal_mantle.paths.os.fsync", full)
    # answered already: the dialog would ask before it lets a file be replaced
    monkeypatch.setattr("zonal_mantle.ui.bench.lock_correct.new_file", lambda *_: path)
    said = []
    desk.said.connect(lambda words, trouble: said.append((words, trouble)))
    opened.click(stage.correct.write)
    assert said[-1][1]
    assert "No space left" in said[-1][0]
    assert path.read_text() == before
    assert list(tmp_path.glob(".*part")) == []


def test_the_difference_view_and_the_kinds_own_controls(opened):
    desk = opened.window.desk
    stage = new_lock(opened, "plane")
    assert stage.measure.stays.isVisible()
    assert not stage.measure.focal.isVisible()
    draw_house(opened, stage)
    opened.click(stage.measure.on)
    solved(opened)
    desk.set_frame(1008)
    opened.window.bench.refresh()
    opened.click(stage.apart, QPoint(6, 8))
    assert desk.view == "Difference"
    opened.settled()
    inside = np.array([opened.pixel(x, y)[1] for x in range(235, 290, 9) for y in range(182, 212, 6)], float)
    assert abs(inside.mean() - 118) < 14
    new_lock(opened, "pan")
    assert stage.measure.focal.isVisible()
    new_lock(opened, "point")
    assert not stage.measure.keep.isVisible()


def test_changing_what_is_measured_takes_the_solve_away_and_undo_brings_it_back(opened):
    desk = opened.window.desk
    stage = new_lock(opened, "plane")
    draw_house(opened, stage)
    opened.click(stage.measure.both)
    solved(opened)
    before = desk.lock
    opened.choose(stage.measure.motion, "similarity")
    assert desk.lock.solved == ()
    opened.keys(Qt.Key.Key_Z, Qt.KeyboardModifier.ControlModifier)
    assert desk.lock == before


def test_a_shutter_that_is_known_is_given_to_the_lock(opened):
    stage = new_lock(opened, "plane")
    desk, measure = opened.window.desk, stage.measure
    assert desk.lock.shutter_deg is None
    assert measure.shutter.isHidden()
    opened.click(measure.shutter_given)
    assert desk.lock.shutter_deg == 180
    opened.window.bench.refresh()
    assert not measure.shutter.isHidden()
    opened.type_number(measure.shutter, "90")
    assert desk.lock.shutter_deg == 90
    opened.click(measure.shutter_given)
    assert desk.lock.shutter_deg is None


def test_a_lock_is_seen_while_it_is_solved_and_is_not_in_the_shot_before(opened, monkeypatch):
    desk, window = opened.window.desk, opened.window
    stage = new_lock(opened, "plane")
    draw_house(opened, stage)
    go_on = threading.Event()

    def slowly(shot, lock_id, store, direction, progress, missing, so_far):
        def told(made):
            lock = made()
            so_far(lambda: lock)
            if len(lock.solved) == 6:
                go_on.wait(60)

        return solve_lock(shot, lock_id, store, direction, progress, missing, told)

    monkeypatch.setattr("zonal_mantle.ui.bench.lock_measure.solve_lock", slowly)
    monkeypatch.setattr("zonal_mantle.ui.solving.EVERY_S", 0.0)
    opened.click(stage.measure.both)
    opened.wait(lambda: desk.solving.seen(desk.lock) is not desk.lock and len(desk.solving.seen(desk.lock).solved) == 6)
    assert desk.lock.solved == ()
    assert not desk.unsaved or desk.shot == desk.history.shot
    known = desk.solving.seen(desk.lock).solved
    assert desk.seen_shot.lock(desk.lock.id).solved == known
    desk.set_frame(known[-1].frame)
    opened.settled()  # the picture is made with what is known by now
    there = reference_to_frame(desk.seen_shot, desk.lock.id, desk.frame)
    assert np.allclose(there, np.reshape(known[-1].homography, (3, 3)))
    window.rail.repaint()
    go_on.set()
    solved(opened)
    assert desk.solving.shot is desk.shot
    assert len(desk.lock.solved) == len(desk.shot.frames)
    opened.keys(Qt.Key.Key_Z, Qt.KeyboardModifier.ControlModifier)
    assert desk.lock.solved == ()  # one step of undo, as ever


def test_a_cancelled_solve_leaves_nothing_of_what_was_seen_of_it(opened, monkeypatch):
    desk = opened.window.desk
    stage = new_lock(opened, "plane")
    draw_house(opened, stage)
    monkeypatch.setattr("zonal_mantle.ui.solving.EVERY_S", 0.0)
    opened.click(stage.measure.both)
    opened.wait(lambda: desk.solving.seen(desk.lock) is not desk.lock)
    desk.cancel_job()
    opened.wait(lambda: desk.job is None)
    assert desk.solving.shot is desk.shot
    assert desk.lock.solved == ()


def test_a_camera_lock_shows_points_carries_a_card_and_is_scaled(opened):
    window, desk = opened.window, opened.window.desk
    stage = new_lock(opened, "camera")
    opened.click(stage.measure.both)
    solved(opened, 240)
    lock = desk.lock
    places = window.lock_tool.places(lock)
    low = np.flatnonzero((places[:, 1] > 225) & (places[:, 0] > 20) & (places[:, 0] < 620))
    apart = [low[0]]
    for k in low:
        if len(apart) < 3 and min(np.hypot(*(places[k] - places[j])) for j in apart) > 60:
            apart.append(k)
    for k in apart:
        opened.click_plate(*places[k])
    assert len(window.lock_tool.points_chosen) >= 1
    window.bench.refresh()
    opened.click(stage.tabs["Correct"])
    k = window.lock_tool.points_chosen[-1]
    opened.type_number(stage.correct.distance, "12")
    assert desk.lock.in_metres
    assert desk.lock.points[k].place[2] == pytest.approx(12)
    assert desk.lock.points[0].place[2] / lock.points[0].place[2] == pytest.approx(12 / lock.points[k].place[2])
    if len(window.lock_tool.points_chosen) == 3:
        assert stage.correct.ground.text()


def test_what_cannot_be_solved_says_why_and_leaves_all_as_it_was(opened):
    desk = opened.window.desk
    stage = new_lock(opened, "plane")
    opened.choose(stage.measure.form, "rectangle")
    opened.click(stage.measure.keep)
    opened.drag_plate(60, 40, 66, 44)  # far too small
    opened.window.bench.refresh()
    said = []
    desk.said.connect(lambda words, trouble: said.append((words, trouble)))
    before = desk.shot
    opened.click(stage.measure.both)
    opened.wait(lambda: any("too small" in words for words, _ in said))
    assert said[-1][1]
    assert desk.shot == before


def test_a_proposal_makes_a_lock_and_says_why(opened):
    desk = opened.window.desk
    stage = opened.window.bench.lock
    count = len(desk.shot.locks)
    opened.click(stage.measure.which)
    opened.wait(lambda: len(desk.shot.locks) == count + 1, 120)
    opened.window.bench.refresh()
    assert desk.lock.name.startswith("Suggested")
    assert desk.lock.remarks[0] in stage.why.text()
    assert stage.why.isVisible()
    assert stage.why.y() < stage.tabs["Measure"].y()  # why comes before how
    assert stage.measure.list.isVisible() == bool(desk.lock.field)


def test_a_zone_leaves_parts_of_the_motion(opened):
    desk = opened.window.desk
    stage = opened.window.bench.lock
    opened.click(stage.tabs["Correct"])
    stage.correct.takes.parts["turn"].trigger()
    opened.window.bench.refresh()
    assert stage.correct.takes.text() == "Follows position, size, shear, perspective"
    assert desk.zone.placement.follow.turn is False
    assert desk.zone.placement.follow.position is True


def test_marks_are_proposed_in_an_area_and_followed_in_one_pass(opened):
    desk = opened.window.desk
    stage = new_lock(opened, "point")
    opened.click(stage.measure.corners)
    opened.drag_plate(205, 165, 318, 224)
    opened.wait(lambda: bool(desk.lock.marks))
    opened.window.bench.refresh()
    marks = desk.lock.marks
    assert len(marks) >= 3
    assert all(204 <= mark.x <= 319 and 164 <= mark.y <= 225 for mark in marks)
    assert desk.lock.reference_frame == 1005
    opened.click(stage.measure.both)
    solved(opened)
    assert len(desk.lock.solved) == len(desk.shot.frames)


def test_a_camera_that_only_turned_is_said_and_one_click_makes_it_a_pan_lock(hands, tmp_path):
    """The photograph *coffee* (scikit-image) seen by a camera that turns on the spot."""
    focal, size, count = 700.0, (480, 270), 12
    picture = cv2.resize(data.coffee()[..., ::-1], (1200, 800)).astype(np.float32) / 255
    k = np.array([[focal, 0, size[0] / 2], [0, focal, size[1] / 2], [0, 0, 1]])
    rays = np.array([[1 / focal, 0, -600 / focal], [0, 1 / focal, -400 / focal], [0, 0, 1]])
    for n in range(count):
        turn = cv2.Rodrigues(np.radians([2 * np.sin(n), 20 * n / (count - 1) - 10, 0.3 * n]))[0]
        frame = cv2.warpPerspective(picture, k @ turn.T @ rays, size, flags=cv2.INTER_CUBIC)
        cv2.imwrite(str(tmp_path / f"turn.{n + 1:04d}.png"), np.clip(frame * 255, 0, 255).astype(np.uint8))
    desk, bench = hands.window.desk, hands.window.bench
    desk.open(shot_from_plate(open_source(tmp_path / "turn.%04d.png", "plate")), None)
    lock = Lock(id="cam", name="Cam", kind="camera", reference_frame=6)
    desk.edit(desk.shot.with_lock(lock), "Lock")
    desk.choose_lock("cam")
    hands.open_stage(bench.lock)
    measure = bench.lock.measure
    hands.click(measure.both)
    hands.wait(lambda: desk.job is None, 120)
    assert "only turned" in hands.window.rail.message.text()
    assert measure.as_pan.isVisible()
    hands.click(measure.as_pan)
    hands.wait(lambda: desk.job is None, 120)
    solved = desk.shot.lock("cam")
    assert solved.kind == "pan"
    assert len(solved.solved) == count
    assert solved.lens.focal_px == pytest.approx(focal, rel=0.05)
    assert not measure.as_pan.isVisible()


def test_what_a_solve_left_out_is_drawn_until_the_field_is_changed(opened):
    desk = opened.window.desk
    stage = new_lock(opened, "plane")
    draw_house(opened, stage)
    bare = [opened.pixel(x, 60) for x in range(60, 200)]
    words = ((50.0, 40.0), (210.0, 40.0), (210.0, 80.0), (50.0, 80.0))
    desk.edit_lock(desk.lock.but(left_out=(words,)), "Left out")
    opened.settled()
    hatched = [opened.pixel(x, 60) for x in range(60, 200)]
    assert sum(one != other for one, other in zip(bare, hatched)) > 8
    draw_house(opened, stage)
    assert desk.lock.left_out == ()
    assert opened.pixel(100, 60) == bare[40]


@pytest.mark.background
def test_a_sky_that_a_turning_camera_films_elsewhere_is_said_and_one_click_mends_it(hands, tmp_path):
    """The photograph *coffee* (scikit-image) panned over; a sky rides on two marks."""
    picture = cv2.resize(data.coffee()[..., ::-1], (1200, 800)).astype(np.float32) / 255
    rays = np.array([[1 / FOCAL, 0, -600 / FOCAL], [0, 1 / FOCAL, -400 / FOCAL], [0, 0, 1]])
    for n in range(12):
        frame = cv2.warpPerspective(picture, turn_at(n) @ K @ rays, SIZE, flags=cv2.INTER_CUBIC)
        cv2.imwrite(str(tmp_path / f"turn.{n + 1:04d}.png"), np.clip(frame * 255, 0, 255).astype(np.uint8))
    cv2.imwrite(str(tmp_path / "sky.png"), np.full((500, 900, 3), 120, np.uint8))
    desk, bench = hands.window.desk, hands.window.bench
    shot = shot_from_plate(open_source(tmp_path / "turn.%04d.png", "plate"))
    sky = open_source(tmp_path / "sky.png", "sky")
    zone = Zone(id="z", name="Sky", source="sky", placement=Placement(rides="m", anchor=(320, 180)))
    shot = shot.with_zone(shot.zones[0].but(on=False)).with_lock(marked()).with_source(sky).with_zone(zone)
    desk.open(shot, None)
    desk.choose_zone("z")
    desk.choose_lock("m")
    hands.open_stage(bench.lock)
    hands.wait(lambda: not desk.is_measuring and "z" in desk.readings.rides, 120)
    desk.set_frame(9)
    bench.refresh()
    said, header = desk.readings.rides["z"], bench.lock.header
    assert said.fault == "bent"
    assert said.worst_px > 5
    assert f"zone < {said.worst_px:.1f} px" in header.words
    assert f"at worst {said.worst_px:.1f} px" in bench.lock.words.text()
    hands.window.rail.grab()  # with the zone's line over the lock's band
    hands.click(header.mend)
    assert desk.shot.lock("m").moves == "camera turn"
    assert desk.shot.lock("m").lens.focal_px == pytest.approx(FOCAL, rel=0.1)
    hands.wait(lambda: not desk.is_measuring and desk.readings.rides["z"].fault == "far", 120)
    bench.refresh()
    assert header.mend.isHidden()
    assert desk.readings.rides["z"].worst_px < said.worst_px / 2
    desk.undo()
    assert desk.shot.lock("m") == marked()


def test_marks_turn_like_a_camera_by_their_motion_model(opened):
    desk = opened.window.desk
    stage = new_lock(opened, "point")
    opened.click(stage.measure.corners)
    opened.drag_plate(205, 165, 318, 224)
    opened.wait(lambda: bool(desk.lock.marks))
    opened.window.bench.refresh()
    assert not stage.measure.focal.isVisible()
    opened.choose(stage.measure.motion, "camera turn")
    opened.window.bench.refresh()
    assert stage.measure.focal.isVisible()
    assert not stage.measure.bend.isVisible()
    opened.click(stage.measure.both)
    solved(opened)
    assert desk.lock.lens.focal_px is not None
    assert "Focal length" in stage.measure.start.text()


@pytest.mark.background
def test_a_sky_far_beyond_a_planes_field_is_said_and_one_click_makes_a_pan_lock(hands, tmp_path):
    """The photograph *coffee* (scikit-image), grained, panned over; a sky rides on a plane with a small field."""
    rng = np.random.default_rng(1)
    picture = cv2.resize(data.coffee()[..., ::-1], (1200, 800)).astype(np.float32) / 255
    rays = np.array([[1 / FOCAL, 0, -600 / FOCAL], [0, 1 / FOCAL, -400 / FOCAL], [0, 0, 1]])
    for n in range(12):
        frame = cv2.warpPerspective(picture, turn_at(n) @ K @ rays, SIZE, flags=cv2.INTER_CUBIC)
        frame += 0.02 * rng.standard_normal(frame.shape, np.float32)
        cv2.imwrite(str(tmp_path / f"turn.{n + 1:04d}.png"), np.clip(frame * 255, 0, 255).astype(np.uint8))
    cv2.imwrite(str(tmp_path / "sky.png"), np.full((500, 900, 3), 120, np.uint8))
    desk, bench = hands.window.desk, hands.window.bench
    shot = shot_from_plate(open_source(tmp_path / "turn.%04d.png", "plate"))
    key = ShapeKey(frame=1, points=((250, 230), (450, 230), (450, 330), (250, 330)))
    field = (Shape(id="f", name="Field", keys=(key,)),)
    shot = shot.with_zone(shot.zones[0].but(on=False)).with_source(open_source(tmp_path / "sky.png", "sky"))
    shot = shot.with_lock(Lock(id="m", name="M", kind="plane", reference_frame=1, field=field))
    zone = Zone(id="z", name="Sky", source="sky", placement=Placement(rides="m", anchor=(320, 180)))
    desk.open(shot.with_zone(zone), None)
    desk.choose_zone("z")
    desk.choose_lock("m")
    hands.open_stage(bench.lock)
    hands.click(bench.lock.measure.both)
    hands.wait(lambda: desk.job is None and bool(desk.shot.lock("m").solved), 120)

    def off(lock):
        away = [
            carry(np.reshape(entry.homography, (3, 3)), CORNERS) - carry(turn_at(entry.frame - 1), CORNERS)
            for entry in lock.solved
        ]
        return float(np.linalg.norm(away, axis=2).max())

    by_plane = desk.shot.lock("m")
    hands.wait(lambda: not desk.is_measuring and "z" in desk.readings.rides, 120)
    bench.refresh()
    said = desk.readings.rides["z"]
    assert said.fault == "far"
    assert off(by_plane) < said.worst_px
    assert said.is_off
    hands.click(bench.lock.header.mend)
    hands.wait(lambda: desk.job is None and desk.shot.lock("m").kind == "pan", 120)
    assert off(desk.shot.lock("m")) < 0.4 * off(by_plane)
    hands.wait(lambda: not desk.is_measuring and desk.readings.rides["z"].worst_px < said.worst_px / 2, 120)
    desk.undo()
    assert desk.shot.lock("m") == by_plane


@pytest.mark.background
def test_a_sky_on_near_marks_is_seen_to_slide_along_the_skyline_and_one_click_hangs_it_on_the_camera(hands, tmp_path):
    """A camera that slides past a bank before hills and a range; the plate is cut by the automatic sky."""
    plates = sliding_plates(size=(480, 270), count=10, slide_m=1.0, pan_deg=3.0)
    for n, frame in enumerate(plates.frames):
        cv2.imwrite(str(tmp_path / f"slide.{n + 1:04d}.png"), np.uint8(frame * 255))
    cv2.imwrite(str(tmp_path / "sky.png"), np.full((500, 900, 3), 120, np.uint8))
    desk, bench = hands.window.desk, hands.window.bench
    shot = shot_from_plate(open_source(tmp_path / "slide.%04d.png", "plate"))
    shot = shot.with_zone_matte(shot.zones[0], Matte(id="s", name="S", pulls=(ClearSkyPull(),)))
    places = propose_marks(plates.frames[5], (30, 200, 450, 262), 3)
    marks = tuple(Mark(x=x, y=y) for x, y in places)
    lock = Lock(id="m", name="Bank", kind="point", reference_frame=6, marks=marks, motion="camera turn")
    zone = Zone(id="z", name="Sky", source="sky", placement=Placement(rides="m", anchor=(240, 135)))
    shot = shot.with_lock(lock).with_source(open_source(tmp_path / "sky.png", "sky")).with_zone(zone)
    desk.open(shot, None)
    desk.choose_zone("z")
    desk.choose_lock("m")
    hands.open_stage(bench.lock)
    hands.click(bench.lock.measure.both)
    hands.wait(lambda: desk.job is None and len(desk.shot.lock("m").solved) == 10, 120)
    hands.wait(lambda: not desk.is_measuring and "z" in desk.readings.rides, 120)
    bench.refresh()
    said, header, before = desk.readings.rides["z"], bench.lock.header, desk.shot

    def off(shot):
        corners = np.array([[2.0, 2.0], [478.0, 2.0], [2.0, 70.0], [478.0, 70.0]])
        ways = [plates.far(n, 5) @ np.linalg.inv(reference_to_frame(shot, shot.zone("z"), n + 1)) for n in range(10)]
        return max(float(np.linalg.norm(carry(way, corners) - corners, axis=1).max()) for way in ways)

    assert off(before) > 10
    assert said.fault == "apart"
    assert 0.6 < said.worst_px / off(before) < 1.5
    assert f"zone < {said.worst_px:.1f} px" in header.words
    assert "ride on a camera lock" in header.mend.text()
    hands.click(header.mend)
    hands.wait(lambda: desk.job is None and desk.shot.zone("z").placement.rides != "m", 120)
    assert off(desk.shot) < 1.5
    assert desk.lock.name == "Camera"
    assert desk.shot.lock("m") == before.lock("m")
    desk.undo()
    assert desk.shot == before
