"""The taught classifier against references, and what the region makes of it on photographs nobody drew for it."""

from importlib.resources import files

import cv2
import numpy as np
import pytest
from scipy.ndimage import uniform_filter
from scipy.sparse import coo_matrix
from scipy.sparse.csgraph import dijkstra
from skimage import data

from skies_plates import clouds, ground
from zonal_mantle.matte import MatteError, build_matte, find_sky, has_sky
from zonal_mantle.matte.sky_reach import reach
from zonal_mantle.matte.sky_region import noise_of, working
from zonal_mantle.matte.sky_sense import answered, cells, context, features, sensed
from zonal_mantle.media.curves import srgb_decode
from zonal_mantle.shot import ClearSkyPull, Matte

PULL = Matte(pulls=(ClearSkyPull(),))


def photograph(name: str) -> np.ndarray:
    """One of scikit-image's, scene-linear."""
    picture = getattr(data, name)() if hasattr(data, name) else None
    picture = picture.astype(np.float32) / 255
    picture = np.dstack([picture] * 3) if picture.ndim == 2 else picture[..., :3]
    return srgb_decode(picture).astype(np.float32)


def test_reach_is_the_shortest_way_of_a_reference():
    """SciPy's Dijkstra on the grid's graph, from a node above the first row."""
    rng = np.random.default_rng(2)
    picture = cv2.GaussianBlur(rng.random((14, 19, 3)).astype(np.float32), (0, 0), 0.8)
    spare = np.float32(0.001)
    h, w = picture.shape[:2]
    places = np.arange(h * w).reshape(h, w)
    ends = [(places[:, :-1], places[:, 1:]), (places[:-1], places[1:])]
    start = np.concatenate([np.full(w, h * w), *(a.ravel() for a, _ in ends)])
    end = np.concatenate([places[0], *(b.ravel() for _, b in ends)])
    flat = np.vstack([picture.reshape(-1, 3), np.zeros((1, 3))]).astype(np.float64)
    cost = np.maximum(((flat[start] - flat[end]) ** 2).mean(1) - spare, 0) + 1e-12
    cost[:w] = 1e-12
    graph = coo_matrix((cost, (start, end)), (h * w + 1,) * 2)
    wanted = dijkstra(graph, directed=False, indices=h * w)[:-1].reshape(h, w)
    assert reach(picture, spare) == pytest.approx(wanted, abs=1e-6)


def test_what_is_told_of_a_place_is_what_it_says():
    """Means around against SciPy's; means above and below and the row's against plain NumPy."""
    rng = np.random.default_rng(3)
    seen = rng.random((24, 40, 5)).astype(np.float32)
    told = features(seen)
    assert told.shape == (12, 20, 84)
    r, g, b = seen[..., 0], seen[..., 1], seen[..., 2]
    level = (0.3 * r + 0.6 * g + 0.1 * b).reshape(12, 2, 20, 2).mean((1, 3))
    assert told[..., 0] == pytest.approx(level, abs=1e-6)
    assert told[..., 8] == pytest.approx(uniform_filter(level, 3, mode="reflect"), abs=1e-5)
    above, below = told[..., 32], told[..., 37]
    assert above[5, 7] == pytest.approx(level[:6, 7].mean(), abs=1e-5)
    assert below[5, 7] == pytest.approx(level[5:, 7].mean(), abs=1e-5)
    said = context(rng.normal(0, 3, (12, 20)).astype(np.float32))
    assert said.shape == (12, 20, 13)
    assert abs(said).max() <= 1


@pytest.mark.parametrize("size", [(480, 270), (270, 480), (480, 200), (17, 480), (480, 9)])
def test_any_shape_of_frame_is_answered(size):
    picture = np.random.default_rng(4).random((size[1], size[0], 3)).astype(np.float32)
    odds = sensed(cells(picture, noise_of(picture)))
    assert np.isfinite(odds).all()
    assert odds.size


def test_grain_hardly_changes_the_answer():
    """The same picture with grain of 3 %: texture is what noise does not explain."""
    codes = np.vstack([clouds(3, (640, 220), True), ground("grass", (640, 360))[:140]])
    grain = np.random.default_rng(5).normal(0, 0.03, codes.shape)
    plain, noisy = (find_sky(working(srgb_decode(np.clip(c, 0, 1)).astype(np.float32))) for c in (codes, codes + grain))
    assert ((plain.sense > 0.5) != (noisy.sense > 0.5)).mean() < 0.03


@pytest.mark.parametrize("name", ["coffee", "chelsea", "page", "coins", "brick", "text"])
def test_photographs_without_sky_are_refused(name):
    """scikit-image's: a table, a cat, a white page, coins, bricks, a whiteboard. Judged by eye."""
    with pytest.raises(MatteError, match="No sky was found"):
        build_matte(photograph(name), PULL, 1)


@pytest.mark.parametrize(
    ("name", "sky", "not_sky"),
    [
        ("rocket", (slice(0, 90), slice(120, 300)), (slice(410, 427), slice(0, 640))),
        ("camera", (slice(0, 100), slice(0, 120)), (slice(300, 512), slice(0, 512))),
    ],
)
def test_photographs_with_sky(name, sky, not_sky):
    """A dusk behind towers, and an overcast day in black and white; the boxes drawn by eye. The dark ground at the
    rocket's right is as dark as the sky: what goes of it is in doubt."""
    pixels = photograph(name)
    made = build_matte(pixels, PULL, 1)
    assert (made.alpha[sky] < 0.1).mean() > 0.99
    goes = made.alpha[not_sky] < 0.5
    assert goes.mean() < 0.25
    assert (goes & (made.doubt(pixels)[not_sky] < 0.5)).mean() < 0.05  # spots of darkness, 3 %, go unsaid


def test_a_sky_that_fades_to_white_haze_is_sky_to_its_foot():
    """Blue above, nearly white at the horizon, over pale sand: colour alone calls the haze ground (a photograph of a
    bridge failed so)."""
    rng = np.random.default_rng(6)
    ramp = np.linspace(0, 1, 250, dtype=np.float32)[:, None, None]
    sky = np.float32([0.35, 0.52, 0.75]) * (1 - ramp) + np.float32([0.86, 0.88, 0.9]) * ramp
    sand = ground("gravel", (640, 360))[:110] * 0.25 + np.float32([0.6, 0.55, 0.45])
    codes = np.vstack([np.broadcast_to(sky, (250, 640, 3)), sand])
    codes = codes + rng.normal(0, 0.008, codes.shape)
    made = build_matte(srgb_decode(np.clip(codes, 0, 1)).astype(np.float32), PULL, 1)
    assert (made.alpha[:244] > 0.1).mean() < 0.005
    assert (made.alpha[256:] < 0.9).mean() < 0.01


@pytest.mark.parametrize("seed", [1, 2, 3])
def test_a_frame_that_is_all_sky_is_found(seed):
    """Clouds and nothing else: a sky is found, and what stays of it is in doubt."""
    pixels = srgb_decode(clouds(seed, (640, 360), True)).astype(np.float32)
    assert has_sky(find_sky(working(pixels)))
    made = build_matte(pixels, PULL, 1)
    stays = made.alpha > 0.5
    assert stays.mean() < 0.2 or (made.doubt(pixels)[stays] > 0.5).mean() > 0.8


def test_a_lake_that_mirrors_the_sky_stays_or_is_doubted():
    sky = clouds(4, (640, 180), True)
    shore = ground("grass", (640, 360))[:20] * 0.4
    lake = sky[::-1] * np.float32([0.75, 0.8, 0.85])
    codes = np.vstack([sky, shore, lake]) + np.random.default_rng(7).normal(0, 0.006, (380, 640, 3))
    pixels = srgb_decode(np.clip(codes, 0, 1)).astype(np.float32)
    made = build_matte(pixels, PULL, 1)
    assert (made.alpha[:170] > 0.5).mean() < 0.01
    goes = made.alpha[210:] < 0.5
    assert goes.mean() < 0.02 or (made.doubt(pixels)[210:][goes] > 0.5).mean() > 0.8


def test_a_blurred_grey_wall_is_refused_or_doubted():
    """scikit-image's moving clock: grey from rim to rim. It may be fog; most of what goes is in doubt."""
    pixels = photograph("clock")
    if not has_sky(find_sky(working(pixels))):
        with pytest.raises(MatteError, match="No sky was found"):
            build_matte(pixels, PULL, 1)
        return
    made = build_matte(pixels, PULL, 1)
    goes = made.alpha < 0.5
    assert (made.doubt(pixels)[goes] > 0.5).mean() > 0.9


def test_the_perceptron_is_that_of_plain_products():
    """Against NumPy in float64, with the weights that ship."""
    told = features(np.random.default_rng(8).random((24, 40, 5)).astype(np.float32))
    with (files("zonal_mantle.matte") / "sky_sense.npz").open("rb") as file, np.load(file) as stored:
        kept = {
            name.removeprefix("first/"): stored[name].astype(np.float64) for name in stored.files if "first" in name
        }
    x = np.clip((told.reshape(-1, 84) - kept["mean"]) / kept["spread"], -6, 6)
    for layer in range(2):
        x = np.maximum(x @ kept[f"weights{layer}"] + kept[f"offsets{layer}"], 0)
    wanted = (x @ kept["weights2"] + kept["offsets2"]).reshape(12, 20)
    assert answered(told, "first") == pytest.approx(wanted, abs=1e-3)
