"""What a hand does to an outline."""

import math

import numpy as np
import pytest

from zonal_mantle.shot import ShapeKey, ellipse_key
from zonal_mantle.shot.outlines import dragged

SQUARE = ShapeKey(frame=1, points=((0, 0), (10, 0), (10, 10), (0, 10)))


def area(points):
    x, y = np.array(points).T
    return 0.5 * abs(np.dot(x, np.roll(y, -1)) - np.dot(y, np.roll(x, -1)))  # the shoelace formula


def test_only_chosen_points_go_along():
    points, _ = dragged("points", (0, 0), (3, 4), SQUARE, 0, {1, 2})
    assert points == ((0, 0), (13, 4), (13, 14), (0, 10))


def test_the_whole_moves_without_changing():
    points, _ = dragged("whole", (1, 1), (4, 5), SQUARE, 0, set())
    assert np.array(points) - np.array(SQUARE.points) == pytest.approx(np.tile([3, 4], (4, 1)))


def test_scaling_goes_about_the_middle_with_the_square_of_the_distance():
    points, _ = dragged("scale", (5, 10), (5, 20), SQUARE, 0, set())
    assert area(points) == pytest.approx(9 * area(SQUARE.points))
    assert np.mean(points, axis=0) == pytest.approx((5, 5))


@pytest.mark.parametrize("angle", [0.2, 1.0, -2.5])
def test_turning_keeps_area_and_turns_handles(angle):
    key = ellipse_key(1, (-10, -4), (10, 4))
    points, handles = dragged("turn", (1, 0), (math.cos(angle), math.sin(angle)), key, 0, set())
    turn = np.array([[math.cos(angle), -math.sin(angle)], [math.sin(angle), math.cos(angle)]])
    assert np.array(points) == pytest.approx(np.array(key.points) @ turn.T, abs=1e-9)
    assert np.array(handles)[:, 2:] == pytest.approx(np.array(key.handles)[:, 2:] @ turn.T, abs=1e-9)


def test_a_handle_moved_keeps_its_point_smooth():
    key = ellipse_key(1, (-10, -4), (10, 4))
    points, handles = dragged("handle 1", (0, 0), (2, 3), key, 1, set())
    assert points == key.points
    back, on = np.array(handles[1][:2]), np.array(handles[1][2:])
    assert on == pytest.approx(np.array(key.handles[1][2:]) + (2, 3))
    assert back[0] * on[1] - back[1] * on[0] == pytest.approx(0)
    assert np.linalg.norm(back) == pytest.approx(np.linalg.norm(key.handles[1][:2]))
