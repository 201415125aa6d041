"""A painting seen smaller: against one 16 × 16 supersampled reference (box filter of one pixel), by OpenCV."""

import cv2
import numpy as np
import OpenImageIO as oiio
import pytest

from zonal_mantle.place import warp
from zonal_mantle.place.minify import densities, shrunk

SIDE, OUT, FINEST = 2048, (288, 192), 0.45  # the zone plate's highest frequency, cycles to a painting pixel
ALIAS_DB, CONTRAST = -35.0, 0.7


def zone_plate(x: np.ndarray, y: np.ndarray) -> np.ndarray:
    """0…1, at any place of the painting: frequency grows with the distance from the middle."""
    r2 = (x - SIDE / 2) ** 2 + (y - SIDE / 2) ** 2
    return 0.5 + 0.5 * np.cos(np.pi * FINEST * r2 / (SIDE / 2))


def painted() -> np.ndarray:
    at = np.arange(SIDE) + 0.5
    return np.repeat(zone_plate(at[None, :], at[:, None]).astype(np.float32)[..., None], 3, axis=2)


def card(ratio: float) -> np.ndarray:
    """The painting's middle in the middle of the picture, `ratio` painting pixels to one."""
    s = 1 / ratio
    return np.array([[s, 0, OUT[0] / 2 - s * SIDE / 2], [0, s, OUT[1] / 2 - s * SIDE / 2], [0, 0, 1]])


def wall() -> np.ndarray:
    """A wall that runs away: 1 : 1 at the left of the picture, 7 : 1 at its right."""
    # u = (a x + b) / w, v = middle + (y − height / 2) / w with w = 1 − k x: du/dx = 1 / w² goes from 1 to 7
    k, b = (1 - 1 / np.sqrt(7.0)) / OUT[0], 600.0
    back = np.array([[1 - b * k, 0, b], [-k * SIDE / 2, 1, SIDE / 2 - OUT[1] / 2], [-k, 0, 1]])
    return np.linalg.inv(back)


def supersampled(matrix: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """The reference, and the finest frequency that each pixel looks at, cycles to a pixel."""
    n = 16
    xs = (np.arange(OUT[0] * n) + 0.5) / n
    ys = (np.arange(OUT[1] * n) + 0.5) / n
    u, v, w = (row[0] * xs[None] + row[1] * ys[:, None] + row[2] for row in np.linalg.inv(matrix))
    x, y = u / w, v / w
    inside = (x > 0) & (x < SIDE) & (y > 0) & (y < SIDE)
    fine = np.where(inside, zone_plate(x, y), np.nan).astype(np.float32)
    mean = cv2.resize(fine, OUT, interpolation=cv2.INTER_AREA)
    px, py = np.meshgrid(np.arange(OUT[0]) + 0.5, np.arange(OUT[1]) + 0.5)
    places = np.stack([px.ravel(), py.ravel()], axis=1)
    lifted = np.concatenate([places, np.ones((len(places), 1))], axis=1) @ np.linalg.inv(matrix).T
    at = lifted[:, :2] / lifted[:, 2:]
    step = 1e-3
    gradient = []
    for shift in ((step, 0, 0), (0, step, 0)):
        moved = lifted + np.array(shift) @ np.linalg.inv(matrix).T
        gradient.append((moved[:, :2] / moved[:, 2:] - at) / step)
    own = FINEST / (SIDE / 2) * (at - SIDE / 2)  # cycles to a painting pixel
    frequency = np.hypot((own * gradient[0]).sum(axis=1), (own * gradient[1]).sum(axis=1))
    return mean, frequency.reshape(OUT[1], OUT[0])


@pytest.mark.parametrize("matrix", [card(7.0), wall()], ids=["card 7:1", "wall 1:1 to 7:1"])
def test_what_is_too_fine_to_be_seen_becomes_even_and_what_can_be_seen_stays(matrix):
    reference, frequency = supersampled(matrix)
    ours = warp(painted(), matrix, OUT)[..., 0]
    there = np.isfinite(reference)
    too_fine = there & (frequency > 0.75)  # one and a half times what the picture can hold
    assert too_fine.sum() > 2000
    energy = ((ours - 0.5)[too_fine] ** 2).mean() / 0.125  # against the zone plate's own variance
    assert 10 * np.log10(energy) <= ALIAS_DB
    half = there & (np.abs(frequency - 0.25) < 0.02)
    assert half.sum() > 100
    assert np.std(ours[half]) / np.std(reference[half]) >= CONTRAST


def test_the_density_is_the_local_one():
    # by differences of the way back, on the wall
    matrix = wall()
    places = np.array([[2.0, 100.0], [285.0, 30.0]])
    found = densities(matrix, places)
    assert found[0, 0] == pytest.approx(1.0, abs=0.05)
    assert found[1, 0] == pytest.approx(7.0, abs=0.4)


def test_a_smaller_size_is_that_of_the_named_filter():
    # reference library: OpenImageIO's resize with its mitchell filter
    picture = np.random.default_rng(5).random((120, 200, 4)).astype(np.float32)
    ours = shrunk(picture, (5, 3))
    roi = oiio.ROI(0, ours.shape[1], 0, ours.shape[0], 0, 1, 0, 4)
    theirs = oiio.ImageBufAlgo.resize(oiio.ImageBuf(picture), filtername="mitchell", roi=roi).get_pixels(oiio.FLOAT)
    assert np.abs(ours - theirs).max() < 1e-4


def test_light_below_zero_passes_through_a_warp_where_the_painting_has_it():
    picture = np.full((40, 40, 3), -0.02, np.float32)
    out = warp(picture, np.array([[1, 0, 0.3], [0, 1, 0.4], [0, 0, 1.0]]), (40, 40))
    assert out[5:-5, 5:-5, :3] == pytest.approx(-0.02, abs=1e-6)
    edge = np.zeros((40, 40, 3), np.float32)
    edge[:, 20:] = 1
    assert warp(edge, np.array([[1, 0, 0.3], [0, 1, 0.4], [0, 0, 1.0]]), (40, 40))[..., :3].min() >= 0
