"""How likely a sky matte is said to be wrong, against where it is: photographs of scikit-image as ground before clouds
of noise, on which nothing was taught."""

from dataclasses import replace

import cv2
import numpy as np
import pytest
from skimage import data

from damage import damaged
from skies_plates import cloudy, crown
from zonal_mantle.matte import build_matte, find_sky
from zonal_mantle.matte.sky_fault import described, likely_wrong, mostly_wrong
from zonal_mantle.matte.sky_region import learn_sky, working
from zonal_mantle.media.curves import srgb_decode, srgb_encode
from zonal_mantle.shot import ClearSkyPull, Matte, Shape, ShapeKey

PULL = Matte(pulls=(ClearSkyPull(),))


def jpeg(pixels: np.ndarray, quality: int) -> np.ndarray:
    codes = np.round(np.clip(srgb_encode(pixels), 0, 1) * 255).astype(np.uint8)
    stored = cv2.imencode(".jpg", codes[..., ::-1], [cv2.IMWRITE_JPEG_QUALITY, quality])[1]
    back = cv2.imdecode(stored, cv2.IMREAD_COLOR)[..., ::-1]
    return np.ascontiguousarray(srgb_decode(back.astype(np.float32) / 255), np.float32)


@pytest.mark.parametrize("name", ["cloud", "roof"])
def test_where_a_good_matte_is_spoilt_it_is_likelier_wrong(name):
    pixels, true = cloudy(3, "grass")
    true = true.astype(np.float32)
    found, spoilt = find_sky(working(pixels)), damaged(true, true, 3)[name].astype(np.float32)
    before, after = (likely_wrong(pixels, alpha, found) for alpha in (true, spoilt))
    there = cv2.resize(np.abs(spoilt - true), before.shape[::-1], interpolation=cv2.INTER_AREA) > 0.9
    assert there.any()
    assert after[there].mean() > 0.3
    assert before[there].mean() < 0.05
    assert after.mean() > 2 * before.mean()


def test_it_adds_up_to_what_is_wrong_and_lies_where_it_is():
    """Crowns of leaves, as they are and as JPEG, which fills their gaps; and ridges with next to nothing wrong."""
    said, wrong, met = [], [], []
    for pixels, true in (
        *((jpeg(plate, 40), alpha) for plate, alpha, _ in (crown(3, True), crown(8, False))),
        cloudy(7),
    ):
        made = build_matte(pixels, PULL, 1)
        doubt, share = made.judged(pixels)
        off = np.abs(made.alpha - true) > 0.5
        said.append(share)
        wrong.append(off.mean())
        met.append((doubt > 0.5)[off].mean() / (doubt > 0.5).mean() if off.mean() > 0.005 else np.inf)
    assert min(wrong[:2]) > 0.005
    assert wrong[2] < 0.003
    assert all(0.3 < share / off < 3 for share, off in zip(said[:2], wrong[:2])), (said, wrong)
    assert said[2] < 0.008
    assert min(met) > 4, met  # times as many of what is wrong as of all pixels are in doubt


def photographed(name: str) -> np.ndarray:
    picture = getattr(data, name)()
    codes = np.float32(picture[0] if isinstance(picture, tuple) else picture) / 255
    codes = codes if codes.ndim == 3 else np.repeat(codes[..., None], 3, axis=2)
    return np.ascontiguousarray(srgb_decode(codes[..., :3]), np.float32)


@pytest.mark.parametrize(
    ("name", "has_sky"), [("astronaut", False), ("stereo_motorcycle", False), ("rocket", True), ("camera", True)]
)
def test_where_a_picture_has_no_sky_all_that_goes_is_doubted(name, has_sky):
    """Photographs that scikit-image ships; it was taught on none of them. A wall and a garage are cut as a sky."""
    pixels = photographed(name)
    made = build_matte(pixels, PULL, 1)
    goes = made.alpha < 0.5
    assert goes.mean() > 0.08
    doubt, share = made.judged(pixels)
    found = made.skies[0][0]
    assert (mostly_wrong(likely_wrong(pixels, made.alpha, found), made.alpha) > 0.5) != has_sky
    assert ((doubt[goes] > 0.5).mean() > 0.99) != has_sky
    assert (share > 0.05) != has_sky


def test_who_says_where_sky_is_ends_the_doubt_about_all_of_it():
    pixels = photographed("colorwheel")
    made = build_matte(pixels, PULL, 1)
    found, goes = made.skies[0][0], made.alpha < 0.5

    def doubted(shown: float) -> float:
        said = np.zeros_like(found.chance)
        said[:4, :4] = shown
        made.skies = ((replace(found, said=said, model=learn_sky([working(pixels)], [said])), False),)
        return float((made.judged(pixels)[0][goes] > 0.5).mean())

    assert doubted(-1) > 0.98  # some ground was shown
    assert doubted(1) < 0.93


def test_it_hardly_depends_on_the_size_of_the_plate():
    pixels = crown(6, True)[0]
    shares = []
    for size in ((960, 540), (1440, 810), (2160, 1215)):
        plate = cv2.resize(pixels, size, interpolation=cv2.INTER_CUBIC).clip(0)
        found = find_sky(working(plate))
        alpha = build_matte(plate, PULL, 1).alpha
        assert likely_wrong(plate, alpha, found).shape == (135, 240)
        shares.append(likely_wrong(plate, alpha, found).mean())
    assert max(shares) < 2.5 * min(shares) + 0.002


def test_an_inverted_pull_is_judged_as_it_was_cut_and_strokes_end_the_doubt():
    pixels, _, _ = crown(4, False)
    plain, inverted = (build_matte(pixels, Matte(pulls=(ClearSkyPull(invert=on),)), 1) for on in (False, True))
    assert inverted.judged(pixels)[1] == pytest.approx(plain.judged(pixels)[1], rel=0.02)
    found, _ = plain.skies[0]
    told = type(found)(found.chance, found.sense, found.model, np.ones_like(found.chance))
    plain.skies = ((told, False),)
    assert plain.judged(pixels)[1] == 0
    assert plain.doubt(pixels).max() == 0


def test_what_a_shape_keeps_or_drops_is_no_doubt_and_not_likely_wrong():
    pixels, _ = cloudy(3)
    box = ((40.0, 250.0), (300.0, 250.0), (300.0, 350.0), (40.0, 350.0))
    shape = Shape(id="s", name="S", mode="drop", keys=(ShapeKey(frame=1, points=box),))
    shares = {}
    for shapes in ((), (shape,)):
        made = build_matte(pixels, PULL.but(shapes=shapes), 1)
        doubt, shares[len(shapes)] = made.judged(pixels)
    assert made.alpha[270:330, 60:280].max() < 0.01  # solid ground, dropped by hand
    assert doubt[270:330, 60:280].max() < 0.01
    assert shares[1] < shares[0] + 0.004


def test_odd_pictures_are_told_in_finite_numbers():
    pixels, true = cloudy(3)
    found = find_sky(working(pixels))
    spoilt = pixels.copy()
    spoilt[100:120, 200:300] = np.nan
    spoilt[130, 40] = np.inf
    for plate in (spoilt, np.zeros_like(pixels), pixels * 1e4):
        for alpha in (true, np.zeros_like(true), np.ones_like(true)):
            assert np.isfinite(described(plate, alpha.astype(np.float32), found)).all()
    small = np.ascontiguousarray(pixels[:9, :11])
    assert np.isfinite(likely_wrong(small, np.float32(true[:9, :11]), found)).all()
