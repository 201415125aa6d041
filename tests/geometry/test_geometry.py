"""The ground floor against OpenCV."""

import cv2
import numpy as np
import pytest

from zonal_mantle.geometry import between_centres, camera_matrix, carry, distorted, rays_of, scaling, undistorted

RNG = np.random.default_rng(4)
POINTS = RNG.uniform(0, 1000, (50, 2))
TILT = np.array([[1.1, 0.05, 12], [-0.04, 0.9, -7], [2e-4, -1e-4, 1]])


def test_points_go_through_a_homography_as_opencv_carries_them():
    # reference library: OpenCV's perspectiveTransform
    expected = cv2.perspectiveTransform(POINTS[None], TILT)[0]
    assert carry(TILT, POINTS) == pytest.approx(expected, abs=1e-9)


def test_a_warp_between_centres_moves_a_pixel_as_its_place_moves():
    # reference library: OpenCV's warp works on array indices, pixel (0, 0) at its centre
    picture = np.zeros((40, 40), np.float32)
    picture[10, 20] = 1
    moved = cv2.warpPerspective(picture, between_centres(np.array([[1, 0, 3], [0, 1, 5], [0, 0, 1.0]])), (40, 40))
    assert np.unravel_index(moved.argmax(), moved.shape) == (15, 23)
    # doubled, a pixel covers four: their common corner, not their first centre, is where its centre was
    doubled = cv2.warpPerspective(picture, between_centres(np.diag([2.0, 2.0, 1])), (80, 80), flags=cv2.INTER_LINEAR)
    ys, xs = np.mgrid[0:80, 0:80] + 0.5
    assert ((xs * doubled).sum() / doubled.sum(), (ys * doubled).sum() / doubled.sum()) == pytest.approx((41, 21))


@pytest.mark.parametrize("distortion", [-0.12, -0.02, 0.0, 0.05])
def test_distortion_is_opencvs_first_radial_term_and_undone_by_its_inverse(distortion):
    # reference library: OpenCV's projectPoints with k1 alone
    k = camera_matrix(900.0, (1280, 720))
    rays = rays_of(k, POINTS * [1.28, 0.72])
    expected = cv2.projectPoints(rays, np.zeros(3), np.zeros(3), k, np.array([distortion, 0, 0, 0]))[0][:, 0]
    assert distorted(POINTS * [1.28, 0.72], k, distortion) == pytest.approx(expected, abs=1e-8)
    assert undistorted(expected, k, distortion) == pytest.approx(POINTS * [1.28, 0.72], abs=1e-6)


def test_a_proxy_is_a_plain_multiplication():
    assert carry(scaling((1281, 721), (640, 360)), np.array([[1281.0, 721.0]]))[0] == pytest.approx([640, 360])
