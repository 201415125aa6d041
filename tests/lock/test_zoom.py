"""A lens that zooms is told from one that turns, and a pan lock says so."""

import cv2
import numpy as np
import pytest

from lock_plates import turning_plates
from zonal_mantle.geometry import between_centres, camera_matrix
from zonal_mantle.lock import LockError, solve_pan, solve_staying
from zonal_mantle.lock.zoom import grown
from zonal_mantle.shot import Lock

SIZE = (480, 270)
LOCK = Lock(id="l", name="L", kind="pan", reference_frame=8)


def turned(degrees, focal=400.0, times=1.0):
    start, end = camera_matrix(focal, SIZE), camera_matrix(focal * times, SIZE)
    turn = cv2.Rodrigues(np.radians([2.0, degrees, 1.0]))[0]
    motion = end @ turn @ np.linalg.inv(start)
    return motion / motion[2, 2]


@pytest.mark.parametrize("degrees", [0.5, 8, 25])
@pytest.mark.parametrize("focal", [200.0, 900.0])
def test_turning_alone_keeps_areas_half_way_and_a_zoom_does_not(degrees, focal):
    """Hartley & Zisserman 2004, 8.4.2: K R K⁻¹."""
    assert grown({1: turned(degrees / 2, focal), 2: turned(degrees, focal)}, SIZE) is None
    for times in (0.8, 1.25):
        found = grown({1: turned(degrees, focal), 2: turned(degrees, focal, times)}, SIZE)
        assert found.frame == 2
        assert found.times == pytest.approx(times, rel=0.08)  # both middles are not quite as far from half way then


@pytest.mark.parametrize("degrees", [65, 80, 100, 150, 180])
def test_a_turn_away_from_all_that_is_seen_says_nothing(degrees):
    assert grown({1: turned(degrees), 2: turned(degrees, times=1.3)}, SIZE) is None


def zooming(times=1.3):
    plates, count = turning_plates(("gravel", "coffee"), 3, SIZE, count=17, pan_deg=8, grain=0, shutter=0), 17
    frames, ways = [], []
    for k, (frame, way) in enumerate(zip(plates.frames, plates.truth)):
        size = times ** (k / (count - 1))
        zoom = np.array([[size, 0, SIZE[0] / 2 * (1 - size)], [0, size, SIZE[1] / 2 * (1 - size)], [0, 0, 1]])
        frames.append(cv2.warpPerspective(frame, between_centres(zoom), SIZE, flags=cv2.INTER_CUBIC))
        ways.append(zoom @ way)
    return frames, ways


def test_a_pan_lock_names_the_zoom_and_the_lock_that_it_advises_holds():
    frames, ways = zooming()
    field = np.zeros(SIZE[::-1], np.float32)
    field[10:-10, 10:-10] = 1
    with pytest.raises(LockError, match=r"scales to (87|88|114|113)%: the lens zooms.*field that stays"):
        solve_pan(LOCK, frames.__getitem__, field, lambda frame: None, range(17))
    held = solve_staying(
        LOCK.but(kind="plane", field_stays=True), frames.__getitem__, field, lambda frame: None, range(17)
    )
    assert len(held.solved) == 17
    corners = np.array([[[60.0, 40], [420, 40], [420, 230], [60, 230]]])
    for entry in held.solved:
        true = cv2.perspectiveTransform(corners, ways[entry.frame] @ np.linalg.inv(ways[8]))
        ours = cv2.perspectiveTransform(corners, np.reshape(entry.homography, (3, 3)))
        assert np.abs(true - ours).max() < max(3 * entry.residual_px, 0.3)
