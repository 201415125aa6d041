"""Grain whose finest part is far from its middle more often than a Gaussian: made anew and measured, by SciPy's
kurtosis."""

import cv2
import numpy as np
import pytest
from scipy import ndimage, stats
from skimage import data

from zonal_mantle.match.grain import bent, fine_part, shaping, unit_grain
from zonal_mantle.match.noise import Noise, measure_noise, pooled
from zonal_mantle.shot.match import GrainModel

SIZE = (640, 480)
WIDE = (tuple(np.outer([0, 0.3, 1, 0.3, 0], [0, 0.3, 1, 0.3, 0]).ravel().tolist()),) * 3


def fine(picture):
    """What each pixel differs by from the mean of the nine about it."""
    return (picture - ndimage.uniform_filter(picture, 3))[2:-2, 2:-2]


def t_noise(excess, frame):
    """Student's t, whose excess kurtosis is 6 / (degrees − 4); in a sum of nine with a weight of 8 / 9 and eight of
    −1 / 9 most of it is left."""
    degrees = 4 + 6 / excess
    noise = np.random.default_rng(frame).standard_t(degrees, (SIZE[1], SIZE[0], 3))
    return (noise / np.sqrt(degrees / (degrees - 2))).astype(np.float32)


@pytest.mark.parametrize("spatial", [GrainModel().spatial, WIDE])
@pytest.mark.parametrize("tails", [0.0, 0.4, 1.0, 2.0])
def test_grain_has_the_tails_of_its_model_and_its_strength(tails, spatial):
    plain = unit_grain(GrainModel(spatial=spatial), SIZE, 3, 1)
    grain = unit_grain(GrainModel(spatial=spatial, tails=tails), SIZE, 3, 1)
    for channel, other in zip(grain, plain):
        assert fine(other).std() == pytest.approx(fine_part(shaping(spatial[0])[0]), rel=0.02)
        assert stats.kurtosis(fine(channel), axis=None) == pytest.approx(tails, rel=0.2, abs=0.05)
        assert channel.std() == pytest.approx(1, abs=0.02)
        alike = [np.corrcoef(each[:, 1:].ravel(), each[:, :-1].ravel())[0, 1] for each in (channel, other)]
        assert alike[0] == pytest.approx(alike[1], abs=0.02)


def test_a_proxy_and_no_tails_are_a_gaussians():
    heavy = GrainModel(tails=2.0)
    assert bent(0.0) == 0.0
    assert np.array_equal(unit_grain(GrainModel(), SIZE, 3, 1, scale=0.5), unit_grain(heavy, SIZE, 3, 1, scale=0.5))
    mean = cv2.resize(unit_grain(heavy, (1280, 960), 4, 1)[0], SIZE, interpolation=cv2.INTER_AREA)
    assert abs(stats.kurtosis(mean, axis=None)) < 0.3


@pytest.mark.parametrize(
    ("name", "excess", "step"),
    [
        ("astronaut", 0.5, (0.0, 0.0)), ("coffee", 0.01, (-6.4, -1.2)), ("rocket", 1.2, (-6.4, -1.2)),
    ],
)  # fmt: skip
def test_tails_are_measured_on_photographs(name, excess, step):
    """Standing and moving by parts of a pixel, with noise that is not ours."""
    large = cv2.resize(getattr(data, name)(), (800, 600), interpolation=cv2.INTER_AREA).astype(np.float32) / 255
    frames, motion, true = [], np.eye(3), []
    motion[:2, 2] = step
    for k in range(3):
        way = np.array([[1, 0, k * step[0] - 40], [0, 1, k * step[1] - 40]])
        seen = cv2.warpAffine(large * 0.8 + 0.1, way, SIZE, flags=cv2.INTER_CUBIC)
        noise = t_noise(excess, k)
        frames.append(seen + 0.02 * noise)
        true.append(stats.kurtosis(fine(noise[..., 1]), axis=None))
    found = measure_noise(frames, [None] * 3, [motion] * 2)
    assert found.model.tails == pytest.approx(np.mean(true), rel=0.35, abs=0.1)


def test_a_motion_that_is_a_little_wrong_makes_no_grain():
    """A fifth of a pixel off, a photograph leaves some of itself in every tile that is not flat."""
    large = cv2.resize(data.coffee(), (1280, 960), interpolation=cv2.INTER_AREA).astype(np.float32) / 255 * 0.8 + 0.1
    frames = []
    for k in range(3):
        way = np.array([[1, 0, -40 - 0.2 * k], [0, 1, -40.0]])
        seen = cv2.warpAffine(large, way, (1200, 880), flags=cv2.INTER_CUBIC)
        frames.append(seen + np.float32(0.006) * unit_grain(GrainModel(), (1200, 880), 5, k).transpose(1, 2, 0))
    found = measure_noise(frames, [None] * 3, [np.eye(3)] * 2)
    told = np.array(found.model.deviation)[np.array(found.pixels).min(axis=1) > 20_000]
    assert len(told) >= 2
    assert told == pytest.approx(0.006, rel=0.04)


def test_grain_that_a_codec_left_here_and_there_is_not_taken_for_its_calmest():
    rng = np.random.default_rng(3)
    strength = cv2.resize(rng.lognormal(0, 0.1, (20, 27)).astype(np.float32), SIZE, interpolation=cv2.INTER_NEAREST)
    ramp = np.linspace(0.3, 0.7, SIZE[0], dtype=np.float32)[None, :, None] * np.ones((SIZE[1], 1, 3), np.float32)
    frames = [
        ramp + np.float32(0.01) * strength[..., None] * rng.standard_normal(ramp.shape).astype(np.float32)
        for _ in range(3)
    ]
    found = measure_noise(frames, [None] * 3, [np.eye(3)] * 2)
    typical = 0.01 * float(np.sqrt((strength**2).mean()))
    assert 0.8 * typical < found.model.middle[1] < 1.05 * typical


def test_a_channel_that_few_pixels_tell_at_any_level_is_told_by_those():
    """Red goes from dark to bright within each tile, green does not."""
    levels = (0.2, 0.4, 0.6)
    model = GrainModel(levels=levels, deviation=((0.01, 0.02, 0.02),) * 3)
    few = Noise(model, 14, 0.1, 1.0, ((500, 0, 0), (600, 2000, 2000), (500, 0, 0)))
    assert pooled([few, few]).model.deviation[1] == pytest.approx((0.01, 0.02, 0.02))


@pytest.mark.parametrize("scale", [1.0, 0.5])
@pytest.mark.parametrize(("tails", "between"), [(0.0, (0.0, 0.0, 0.0)), (0.0, (0.3, 0.2, 0.1)), (1.0, (0.0, 0.0, 0.0))])
def test_some_rows_of_a_grain_are_those_of_the_whole(tails, between, scale):
    wide = tuple(np.outer(*([[0.1, 0.5, 1.0, 0.5, 0.1]] * 2)).ravel().tolist())
    for spatial in ((wide,) * 3, GrainModel().spatial):
        model = GrainModel(spatial=spatial, tails=tails, between=between)
        whole = unit_grain(model, (320, 200), 3, 7, scale=scale)
        for rows in ((0, 200), (0, 17), (61, 130), (199, 200)):
            some = unit_grain(model, (320, 200), 3, 7, scale=scale, rows=rows)
            assert np.abs(some - whole[:, slice(*rows)]).max() < 1e-5
