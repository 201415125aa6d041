"""The focus of what a codec went over. Textures are photographs of scikit-image, blurs are SciPy's convolutions; the
aim's codec runs at a constant rate factor, as cameras' do, where ours runs at a constant step."""

import cv2
import numpy as np
import pytest
from scipy import ndimage
from skimage import data

from h264 import coded_anew
from zonal_mantle.match.coded_blur import AimTold, Plate, blur_through_codec
from zonal_mantle.match.edge_width import edge_widths
from zonal_mantle.match.sharpness import LUMA, power_spectrum, tiles_of
from zonal_mantle.media import MediaError
from zonal_mantle.media.anew import coded_anew as at_a_step
from zonal_mantle.media.curves import srgb_decode, srgb_encode

QUALITY, QUANTISER = 26, 29.0  # of x264, frames that are predicted, as `media.quantiser_of` tells it of such files


def halves(name):
    """Two parts of a photograph, scene-linear."""
    picture = getattr(data, name)()
    picture = np.dstack([picture] * 3) if picture.ndim == 2 else picture
    light = srgb_decode(cv2.resize(picture, (720, 360), interpolation=cv2.INTER_AREA) / 255).astype(np.float32)
    return np.ascontiguousarray(light[:, :352]), np.ascontiguousarray(light[:, 368:])


def disc(radius):
    """A disc by 16×16 samples of each pixel."""
    half = int(np.ceil(radius))
    fine = (np.arange((2 * half + 1) * 16) + 0.5) / 16 - half - 0.5
    inside = (fine[:, None] ** 2 + fine**2 <= radius**2).astype(float)
    kernel = inside.reshape(2 * half + 1, 16, 2 * half + 1, 16).mean(axis=(1, 3))
    return kernel / kernel.sum()


def filmed(other, radius, grain=0.006):
    """What is seen of an aim out of focus, after its codec."""
    seen = other if not radius else np.stack([ndimage.convolve(other[..., c], disc(radius)) for c in range(3)], axis=-1)
    rng = np.random.default_rng(3)
    frames = [np.clip(srgb_encode(seen) + rng.normal(0, grain, seen.shape), 0, 1) for _ in range(5)]
    return np.asarray(srgb_decode(coded_anew(frames, QUALITY)[2]) @ LUMA, np.float32)


def told(own, aim, step=lambda share: None):
    shown = AimTold(power_spectrum(tiles_of(aim)), edge_widths(aim))
    return blur_through_codec(own, np.ones(own.shape[:2], bool), shown, Plate((0.0, 0.0), (0.0, 0.0), QUANTISER), step)


@pytest.mark.parametrize(("name", "radius"), [("gravel", 0.0), ("grass", 4.1)])
def test_a_focus_is_told_through_a_codec(name, radius):
    own, other = halves(name)
    found = told(own, filmed(other, radius))
    assert found is not None
    assert abs(found.radius_px - radius) < max(0.08 * radius, 0.15)
    assert abs(found.radius_px - radius) < 2 * found.spread_px
    assert found.spread_px < max(0.3 * radius, 0.6)


def test_unlike_or_empty_pictures_tell_nothing():
    own, other = halves("gravel")
    assert told(own, filmed(halves("rocket")[0], 3.0)) is None
    flat = np.full_like(own, 0.3)
    assert told(flat, filmed(other, 2.0)) is None
    assert told(own[:40, :40], filmed(other, 2.0)) is None  # too small
    spoilt = own.copy()
    spoilt[100:104, 50:300] = np.nan
    found = told(spoilt, filmed(other, 2.0))  # black lines: not alike any more, or told all the same
    assert found is None or np.isfinite(found).all()


def test_it_can_be_cancelled_between_two_blurs():
    own, other = halves("gravel")
    shares = []

    def step(share):
        shares.append(share)
        if share > 0.3:
            raise InterruptedError

    with pytest.raises(InterruptedError):
        told(own, filmed(other, 2.0), step)
    assert shares == sorted(set(shares))
    assert len(shares) < 12


def test_pictures_come_back_alike_and_those_that_cannot_are_refused():
    own, _ = halves("gravel")
    codes = srgb_encode(own).astype(np.float32)
    fine, coarse = (at_a_step([codes] * 3, step)[1] for step in (8, 38))
    assert np.abs(fine - codes).mean() < 0.02 < np.abs(coarse - codes).mean()
    assert np.array_equal(at_a_step([codes] * 3, 38)[1], coarse)
    with pytest.raises(MediaError, match="9×40 cannot be compressed"):
        at_a_step([codes[:40, :9]], 20)
