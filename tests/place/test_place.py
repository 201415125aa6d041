"""Warps, placements, coverage."""

import numpy as np
import pytest
from scipy import ndimage
from skimage.transform import ProjectiveTransform
from skimage.transform import warp as reference_warp

from zonal_mantle.geometry import carry
from zonal_mantle.place import flat_to_reference, warp
from zonal_mantle.place.minify import tile_steps
from zonal_mantle.shot import Keyed, Placement

HALF = np.array([[1, 0, 0.5], [0, 1, 0.5], [0, 0, 1]])


def psnr(a: np.ndarray, b: np.ndarray) -> float:
    return float(10 * np.log10(1 / np.mean((a - b) ** 2)))


def turned(degrees: float, size: float, x: float, y: float) -> np.ndarray:
    a = np.deg2rad(degrees)
    return np.array([[size * np.cos(a), -size * np.sin(a), x], [size * np.sin(a), size * np.cos(a), y], [0, 0, 1.0]])


def test_a_whole_pixel_shift_is_exact(photograph):
    out = warp(photograph, turned(0, 1, 7, -3), (640, 427))
    assert np.abs(out[10:400, 20:600, :3] - photograph[13:403, 13:593]).max() < 1e-6
    assert (out[10:400, 20:600, 3] == 1).all()


@pytest.mark.parametrize("perspective", [0.0, 1e-4])
def test_warps_agree_with_scikit_image(photograph, perspective):
    # reference library: scikit-image, order 3; compared away from the rim, in display-like values
    matrix = turned(4.0, 1.13, 31.7, -12.4)
    matrix[2, 0] = perspective
    picture = np.sqrt(photograph)
    array = np.linalg.inv(HALF) @ matrix @ HALF
    expected = reference_warp(picture, ProjectiveTransform(np.linalg.inv(array)), order=3, output_shape=(427, 640))
    ours = warp(picture, matrix, (640, 427))
    inside = ndimage.binary_erosion(ours[..., 3] > 0.999, iterations=4)
    assert inside.mean() > 0.6
    assert psnr(ours[..., :3][inside], expected[inside]) > 45


def test_minification_does_not_alias():
    # a zone plate whose finest rings are far above what a quarter size can hold: they must turn grey
    n = 512
    y, x = np.mgrid[0:n, 0:n] - n / 2
    plate = (0.5 + 0.5 * np.cos(np.pi * (x * x + y * y) / n))[..., None].repeat(3, 2).astype(np.float32)
    small = warp(plate, turned(0, 0.25, 0, 0), (n // 4, n // 4))[..., 0]
    expected = ndimage.zoom(ndimage.gaussian_filter(plate[..., 0], 2.0), 0.25, order=1)
    corner = small[4:20, 4:20]
    assert corner.std() < 0.05
    assert abs(float(corner.mean()) - 0.5) < 0.03
    middle = slice(56, 72)
    assert np.abs(small[middle, middle] - expected[middle, middle]).mean() < 0.08


def test_shrinking_leaves_about_one_painting_pixel_to_one_of_the_picture():
    for density in (1.1, 2.0, 3.9, 10.0):
        ((across, down),), _ = tile_steps(np.array([[density, 1.0]]), (1, 1))
        assert 1.07 >= density * 2 ** (-across / 4) > 2**-0.25
        assert down == 0
    sizes, own = tile_steps(np.array([[1.0, 0.3], [4.0, 1.0], [1.0, 1.0]]), (1, 3))
    assert sizes == [(0, 0), (8, 0)]
    assert own.tolist() == [[0, 1, 0]]


def test_outside_is_clear_and_the_rim_is_soft():
    out = warp(np.ones((10, 10, 3), np.float32), turned(0, 1, 5.5, 5), (30, 20))
    assert out[0, 0].tolist() == [0, 0, 0, 0]
    assert 0.4 < out[8, 5, 3] < 0.7
    assert out[8, 10, 3] == pytest.approx(1, abs=1e-6)


def test_a_placement_starts_centred_and_turns_about_its_anchor():
    plain = flat_to_reference(Placement(), 1, (100, 50), (640, 360))
    assert carry(plain, np.array([[50, 25]]))[0] == pytest.approx([320, 180])
    anchor = (200.0, 100.0)
    placed = Placement(anchor=anchor, size=Keyed(constant=1.7), turn_deg=Keyed(constant=31), flip_across=True)
    matrix = flat_to_reference(placed, 1, (100, 50), (640, 360))
    at_anchor = np.linalg.inv(plain) @ [*anchor, 1]
    assert (matrix @ at_anchor)[:2] == pytest.approx(anchor)


def test_flips_mirror_about_the_anchor():
    flipped = flat_to_reference(Placement(anchor=(300.0, 100.0), flip_across=True), 1, (100, 50), (640, 360))
    plain = flat_to_reference(Placement(anchor=(300.0, 100.0)), 1, (100, 50), (640, 360))
    point = np.array([[20.0, 30.0]])
    (x0, y0), (x1, y1) = carry(plain, point)[0], carry(flipped, point)[0]
    assert (x0 + x1) / 2 == pytest.approx(300)
    assert y0 == pytest.approx(y1)


def test_width_stretches_across_only():
    matrix = flat_to_reference(Placement(width=Keyed(constant=2)), 1, (100, 50), (640, 360))
    assert (matrix[0, 0], matrix[1, 1]) == pytest.approx((2, 1))


def test_moving_the_anchor_moves_nothing():
    from zonal_mantle.ui.tools.place import with_anchor

    placed = Placement(anchor=(200.0, 100.0), size=Keyed(constant=1.7), turn_deg=Keyed(constant=31), flip_up=True)
    moved = with_anchor(placed, 1, (37.0, -11.0), (640, 360))
    before, after = (flat_to_reference(p, 1, (100, 50), (640, 360)) for p in (placed, moved))
    assert after == pytest.approx(before, abs=1e-9)
    cross = np.array(moved.anchor) + [moved.x.constant, moved.y.constant]
    assert cross == pytest.approx([237, 89])


def test_a_picture_behind_the_eye_is_not_seen():
    # the row w = 1 − x/20 changes sign at x = 20: beyond it the plane is behind the lens
    matrix = np.linalg.inv(np.array([[1, 0, 0], [0, 1, 0], [-0.05, 0, 1.0]]))
    out = warp(np.ones((30, 400, 3), np.float32), matrix, (60, 20))
    assert (out[:, 21:] == 0).all()
    assert out[5:10, 5:12, 3] == pytest.approx(1, abs=1e-5)


def test_pictures_smaller_than_the_filter_are_shown():
    out = warp(np.full((2, 2, 3), 0.5, np.float32), turned(0, 1, 4, 4), (10, 10))
    assert out[4:6, 4:6, 3].min() > 0.4
    assert out[0, 0].tolist() == [0, 0, 0, 0]
    assert np.isfinite(out).all()


@pytest.mark.parametrize("width", [1, 255, 256, 257, 700])
def test_rows_of_any_width_are_whole(width):
    picture = np.random.default_rng(2).random((40, 760, 3)).astype(np.float32)
    out = warp(picture, turned(0, 1, 0, 0), (width, 30))
    assert np.abs(out[3:-3, 3:, :3] - picture[3:27, 3:width]).max(initial=0) < 1e-6
