"""Ways to hang: domes against a reference library, cards against OpenCV's projection, pins, and one into another."""

import cv2
import numpy as np
import py360convert
import pytest
from scipy.ndimage import gaussian_filter

from hung import FOCAL, SIZE, K, pan, shot_with, walk
from zonal_mantle.geometry import distorted, undistorted
from zonal_mantle.place import converted, plate_places, zone_seen
from zonal_mantle.place.dome import from_painting, to_painting
from zonal_mantle.place.transform import corner_trouble, painting_to_frame
from zonal_mantle.shot import Card, Corner, Dome, Keyed

GRID = np.stack(np.meshgrid(np.linspace(5, 635, 7), np.linspace(5, 355, 5)), axis=-1).reshape(-1, 2)


def test_directions_come_back_from_the_painting():
    for mapping, wide in (("lat-long", 360.0), ("lat-long", 140.0), ("lens", 75.0)):
        points = np.random.default_rng(0).uniform([100, 200], [1900, 800], (50, 2))
        rays = from_painting(points, (2000, 1000), mapping, wide)
        assert to_painting(rays * 3, (2000, 1000), mapping, wide) == pytest.approx(points, abs=1e-6)


@pytest.mark.parametrize(("turn", "tilt"), [(0, 0), (35, 0), (-120, 12), (170, -25)])
def test_a_lat_long_dome_looks_like_the_reference_librarys(turn, tilt):
    """Against py360convert's equirectangular-to-perspective view of a photograph-like picture."""
    chance = np.random.default_rng(3)
    picture = gaussian_filter(
        chance.random((512, 1024, 3)).astype(np.float32), (6, 6, 0), mode=("nearest", "wrap", "nearest")
    )
    picture = (picture - picture.min()) / (picture.max() - picture.min())
    wide = np.degrees(2 * np.arctan(SIZE[0] / 2 / FOCAL)), np.degrees(2 * np.arctan(SIZE[1] / 2 / FOCAL))
    theirs = py360convert.e2p(picture, wide, turn, tilt, (SIZE[1], SIZE[0]), mode="bilinear")
    lock = pan(2, 0.0)
    look = cv2.Rodrigues(np.array([0, np.radians(turn), 0]))[0] @ cv2.Rodrigues(np.array([np.radians(tilt), 0, 0]))[0]
    motion = K @ look.T @ np.linalg.inv(K)
    entry = lock.solved[0].but(homography=tuple(float(v) for v in (motion / motion[2, 2]).ravel()))
    shot = shot_with(lock.but(solved=(entry,)), (1024, 512), 1, way="dome", dome=Dome())
    at = zone_seen(shot, shot.zones[0], 1).back(GRID)
    ours = cv2.remap(picture, *((at - 0.5).astype(np.float32).reshape(5, 7, 2).transpose(2, 0, 1)), cv2.INTER_LINEAR,
                     borderMode=cv2.BORDER_WRAP)  # fmt: skip
    there = theirs[np.floor(GRID[:, 1]).astype(int), np.floor(GRID[:, 0]).astype(int)].reshape(5, 7, 3)
    # theirs samples pixel corners to pixel corners: within a pixel of ours, on a picture that is smooth over six
    assert np.abs(ours - there).max() < 0.08
    assert np.corrcoef(ours.ravel(), there.ravel())[0, 1] > 0.99


def test_a_card_in_metres_lies_where_opencv_projects_it():
    card = Card(
        right_m=Keyed(constant=3), up_m=Keyed(constant=1), height_m=Keyed(constant=8), yaw_deg=Keyed(constant=24),
        pitch_deg=Keyed(constant=-6), roll_deg=Keyed(constant=3),
    )  # fmt: skip
    shot = shot_with(walk(), (400, 200), distance=40.0, way="card", card=card)
    about = [np.radians(v) for v in (24, -6, 3)]
    turn = cv2.Rodrigues(np.array([0, about[0], 0]))[0] @ cv2.Rodrigues(np.array([about[1], 0, 0]))[0]
    turn = turn @ cv2.Rodrigues(np.array([0, 0, about[2]]))[0]
    pixels = np.array([[0, 0], [400, 0], [400, 200], [0, 200.0]])
    metres = np.column_stack([(pixels - [200, 100]) * 8 / 200, np.zeros(4)]) @ turn.T + [3, -1, 40]
    for entry in shot.locks[0].solved[::6]:
        r, c = np.array(entry.rotation), np.array(entry.position)
        theirs = cv2.projectPoints(metres, r, -cv2.Rodrigues(r)[0] @ c, K, None)[0].reshape(-1, 2)
        assert plate_places(shot, shot.zones[0], entry.frame, pixels) == pytest.approx(theirs, abs=1e-6)


def test_four_pins_are_opencvs_perspective():
    pins = np.array([[100, 80], [520, 60], [560, 300], [80, 330]], np.float32)
    corners = tuple(Corner(x=Keyed(constant=float(x)), y=Keyed(constant=float(y))) for x, y in pins)
    shot = shot_with(None, (300, 150), way="corner pin", pins=corners)
    theirs = cv2.getPerspectiveTransform(np.array([[0, 0], [300, 0], [300, 150], [0, 150]], np.float32), pins)
    assert painting_to_frame(shot, shot.zones[0], 1) == pytest.approx(theirs, abs=1e-6)
    back = zone_seen(shot, shot.zones[0], 1).back(pins.astype(float))
    assert back == pytest.approx(np.array([[0, 0], [300, 0], [300, 150], [0, 150]]), abs=1e-3)


@pytest.mark.parametrize(
    ("pins", "words"),
    [
        ([[0, 0], [0, 0.2], [50, 50], [0, 50]], "lie on one another"),
        ([[0, 0], [100, 100], [100, 0], [0, 100]], "cross or fold"),
        ([[0, 0], [100, 0], [30, 20], [0, 100]], "cross or fold"),
        ([[0, 0], [50, 0], [100, 0], [0, 100]], "one line"),
        ([[0, 0], [100, 0], [100, 80], [0, 90]], ""),
    ],
)
def test_degenerate_corners_say_why(pins, words):
    found = corner_trouble(np.array(pins, float))
    assert words in found
    assert bool(words) == bool(found)


def test_what_hangs_on_a_dome_moves_with_the_turning_lens():
    shot = shot_with(pan(), (3000, 1200), way="dome", dome=Dome(wide_deg=150.0, turn_deg=Keyed(constant=20)))
    zone = shot.zones[0]
    for entry in shot.locks[0].solved[::5]:
        turn = cv2.Rodrigues(np.array(entry.rotation))[0]
        points = np.random.default_rng(1).uniform([700, 400], [2000, 800], (30, 2))
        rays = from_painting(points, (3000, 1200), "lat-long", 150.0)
        a = np.radians(20)
        rays = rays @ np.array([[np.cos(a), 0, np.sin(a)], [0, 1, 0], [-np.sin(a), 0, np.cos(a)]]).T
        seen = rays @ turn.T @ K.T
        before = seen[:, 2] > 0.1
        wanted = seen[before, :2] / seen[before, 2:]
        got = plate_places(shot, zone, entry.frame, points)[before]
        assert got == pytest.approx(wanted, abs=1e-6)
        assert zone_seen(shot, zone, entry.frame).back(got) == pytest.approx(points[before], abs=1e-6)


def test_a_lens_with_distortion_bends_what_rides():
    bent = distorted(GRID, K, -0.12)
    assert undistorted(bent, K, -0.12) == pytest.approx(GRID, abs=1e-6)
    theirs = cv2.projectPoints(
        np.column_stack([(GRID - K[:2, 2]) / FOCAL, np.ones(len(GRID))]), np.zeros(3), np.zeros(3), K,
        np.array([-0.12, 0, 0, 0.0]),
    )[0].reshape(-1, 2)  # fmt: skip
    assert bent == pytest.approx(theirs, abs=1e-6)
    shot = shot_with(pan(distortion=-0.12), (1280, 720), size=Keyed(constant=1.0))
    zone = shot.zones[0]
    own = zone_seen(shot, zone, 1).back(GRID)
    assert own == pytest.approx(GRID + [320, 180], abs=1e-6)  # on the reference frame it lies as it was placed
    later = zone_seen(shot, zone, 12).back(GRID)
    straight = zone_seen(shot_with(pan(), (1280, 720)), zone, 12).back(GRID)
    assert np.abs(later - straight).max() > 2
    assert plate_places(shot, zone, 12, later) == pytest.approx(GRID, abs=1e-5)  # there and back


@pytest.mark.parametrize("way", ["corner pin", "card", "dome"])
def test_one_way_becomes_another_without_a_jump(way):
    lock = walk() if way == "card" else pan()
    shot = shot_with(lock, (900, 500), distance=60.0 if way == "card" else None, size=Keyed(constant=0.6),
                     turn_deg=Keyed(constant=4.0), x=Keyed(constant=12), flip_across=True)  # fmt: skip
    found = converted(shot, shot.zones[0], way, 5)
    assert found.zone.placement.way == way
    if way == "dome":  # a lens looks at right angles at its middle: a flat picture beside the axis can only be near it
        assert found.jump_px < 8
        assert "moved by up to" in found.words
        return
    assert found.jump_px < 0.01
    assert found.words == ""
    back = converted(shot.with_zone(found.zone), found.zone, "flat", 5)
    assert back.jump_px < 0.02
    assert back.zone.placement.size.constant == pytest.approx(0.6, abs=1e-3)
    assert back.zone.placement.turn_deg.constant == pytest.approx(4, abs=1e-2)


def test_a_leaning_card_goes_through_pins_and_back():
    card = Card(height_m=Keyed(constant=9), yaw_deg=Keyed(constant=30), pitch_deg=Keyed(constant=5))
    shot = shot_with(walk(), (400, 200), distance=30.0, way="card", card=card)
    pinned = converted(shot, shot.zones[0], "corner pin", 1)
    assert pinned.jump_px < 0.01
    back = converted(shot.with_zone(pinned.zone), pinned.zone, "card", 1)
    assert back.jump_px < 0.02
    assert back.zone.placement.card.yaw_deg.constant == pytest.approx(30, abs=0.01)
    assert back.zone.placement.card.height_m.constant == pytest.approx(9, abs=0.01)
