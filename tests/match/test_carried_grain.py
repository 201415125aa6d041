"""Noise of plates whose codec carries it from frame to frame: H.264 by FFmpeg, on photographs that scikit-image ships.

What is left of the noise is known: the decoded frame less the photograph that was filmed, where that is flat.
"""

import cv2
import numpy as np
import pytest
from skimage import data

from h264 import coded_anew
from zonal_mantle.match.grain import unit_grain
from zonal_mantle.match.noise import measure_noise
from zonal_mantle.match.noise_shape import levelled, tiles_of
from zonal_mantle.shot.match import GrainModel

SIZE, FRAMES, AMOUNT = 384, 6, 0.015


def filmed(picture: np.ndarray, step: float, quality: int) -> tuple[list[np.ndarray], list[np.ndarray]]:
    """A photograph that goes by with noise, decoded; and without either."""
    rng, seen, bare = np.random.default_rng(4), [], []
    for k in range(FRAMES):
        way = np.float32([[1, 0, -step * k], [0, 1, 0]])
        bare.append(cv2.warpAffine(picture, way, (SIZE, SIZE), flags=cv2.INTER_CUBIC, borderMode=cv2.BORDER_REFLECT))
        noise = cv2.GaussianBlur(rng.standard_normal(bare[-1].shape).astype(np.float32), (0, 0), 0.7)
        seen.append(bare[-1] + AMOUNT * noise / noise.std())
    return coded_anew(seen, quality), bare


def photograph(name: str) -> np.ndarray:
    picture = getattr(data, name)()
    picture = np.dstack([picture] * 3) if picture.ndim == 2 else picture[..., :3]
    scale = 1.2 * SIZE / min(picture.shape[:2])
    small = cv2.resize(picture, None, fx=scale, fy=scale, interpolation=cv2.INTER_AREA)
    return small[:, : round(1.2 * SIZE)].astype(np.float32) / 255 * 0.9 + 0.05


@pytest.mark.parametrize(
    ("name", "step", "quality"),
    [("coffee", 0.0, 18), ("astronaut", 2.0, 20), ("rocket", 1.37, 23), ("coffee", 1.37, 23), ("rocket", 0.0, 18)],
)
def test_what_is_left_of_grain_is_told(name, step, quality):
    seen, bare = filmed(photograph(name), step, quality)
    found = measure_noise(seen[1:5], [None] * 4)
    assert found is not None
    assert found.by_flats
    texture = (levelled(tiles_of(bare[2])) ** 2).mean(axis=(1, 2, 3))
    flat = texture <= np.quantile(texture, 0.25)
    left = float(np.sqrt((levelled(tiles_of(seen[2] - bare[2]))[flat] ** 2).mean()))
    codes = tiles_of(bare[2])[flat]
    told = [np.interp(codes[..., c], found.model.levels, [row[c] for row in found.model.deviation]) for c in range(3)]
    assert float(np.sqrt(np.mean(np.square(told)))) == pytest.approx(left, rel=0.25)


@pytest.mark.parametrize("name", ["grass", "gravel", "cat"])
def test_texture_that_a_codec_carries_is_not_taken_for_grain(name):
    seen, _ = filmed(photograph(name), 2.0, 23)
    assert measure_noise(seen[1:5], [None] * 4) is None


def test_plates_without_a_codec_are_told_between_frames():
    _, bare = filmed(photograph("coffee"), 1.37, 18)
    rng = np.random.default_rng(5)
    found = measure_noise([each + rng.normal(0, 0.01, each.shape).astype(np.float32) for each in bare], [None] * FRAMES)
    assert not found.by_flats
    assert found.model.middle == pytest.approx((0.01,) * 3, rel=0.06)


def gaussian(sigma: float) -> tuple[float, ...]:
    """The autocorrelation of white noise out of a soft blur, at lags -2…2."""
    y, x = np.mgrid[-2:3, -2:3]
    return tuple(np.exp(-(x**2 + y**2) / (4 * sigma**2)).ravel().tolist())


def lags(noise: np.ndarray) -> list[float]:
    noise = (noise - noise.mean()) / noise.std()
    height, width = noise.shape
    pairs = [(0, 1), (1, 0), (1, 1), (0, 2), (2, 2)]
    return [float((noise[j:, i:] * noise[: height - j, : width - i]).mean()) for j, i in pairs]


@pytest.mark.parametrize(("sigma", "size"), [(0.5, 1.0), (1.0, 1.0), (1.4, 1.0), (0.7, 1.5)])
def test_wide_grain_is_as_wide_as_it_was_measured(sigma, size):
    """Codecs leave wide grain: it is alike farther off than what is measured of it tells."""
    grain = unit_grain(GrainModel(spatial=(gaussian(sigma),) * 3), (900, 700), 1, 1, size)
    wide = sigma * size
    wanted = [np.exp(-square / (4 * wide**2)) for square in (1, 1, 2, 4, 8)]
    assert lags(grain[1]) == pytest.approx(wanted, abs=0.03)
    assert grain[1].std() == pytest.approx(1, abs=0.03)
