"""Levels, growth, softness, specks and holes, steadying."""

import tracemalloc

import numpy as np
import pytest
from scipy import ndimage
from skimage import morphology

from zonal_mantle.matte import build_matte, feed_of
from zonal_mantle.matte.build import Surroundings
from zonal_mantle.matte.edge import clean, grow, level, soften
from zonal_mantle.matte.steady import steady
from zonal_mantle.shot import Edge, Keyed, Levels, LumaPull, Matte


def number(value: float) -> Keyed:
    return Keyed(constant=value)


def half_plane(degrees: float, offset: float, size: int = 80, soft: float = 1.0) -> np.ndarray:
    """Solid on one side of a line; the ramp across it is `soft` px wide."""
    a = np.deg2rad(degrees)
    y, x = np.mgrid[0:size, 0:size] + 0.5 - size / 2
    return np.clip(0.5 - (x * np.cos(a) + y * np.sin(a) - offset) / soft, 0, 1).astype(np.float32)


def test_levels_take_black_to_empty_and_white_to_solid():
    alpha = np.linspace(0, 1, 11, dtype=np.float32)[None]
    out = level(alpha, Levels(black=number(0.2), white=number(0.8)))[0]
    assert np.clip(out, 0, 1) == pytest.approx(np.clip((alpha[0] - 0.2) / 0.6, 0, 1), abs=1e-6)
    bent = level(alpha, Levels(gamma=number(2.0)))[0]
    assert bent == pytest.approx(alpha[0] ** 0.5, abs=1e-5)


@pytest.mark.parametrize("by", [-2.3, -1.0, -0.7, -0.3, 0.3, 0.7, 1.0, 1.5, 3.0])
@pytest.mark.parametrize("degrees", [0, 27, 45, 90])
def test_growth_moves_a_straight_edge_by_parts_of_a_pixel(by, degrees):
    before = half_plane(degrees, 0.2 - by / 2, soft=1.5)
    after = grow(before, by)
    middle = np.s_[20:60, 20:60]
    slant = max(abs(np.cos(np.deg2rad(degrees))), abs(np.sin(np.deg2rad(degrees))))
    moved = (after[middle].sum() - before[middle].sum()) / 40 * slant
    assert moved == pytest.approx(by, abs=max(0.06, 0.06 * abs(by)))


def test_growth_agrees_with_the_distance_transform():
    # reference library: SciPy's Euclidean distance transform, for a disc of radius 12 grown by 4
    y, x = np.mgrid[0:80, 0:80] + 0.5 - 40
    disc = np.clip(12.5 - np.hypot(x, y), 0, 1).astype(np.float32)
    away = ndimage.distance_transform_edt(disc < 0.5)
    assert grow(disc, 4.0).sum() == pytest.approx(np.sum(away <= 4.0), rel=0.04)
    assert grow(disc, 4.0).sum() == pytest.approx(np.pi * 16**2, rel=0.03)
    assert grow(disc, -4.0).sum() == pytest.approx(np.pi * 8**2, rel=0.04)


def test_no_growth_is_exactly_nothing():
    alpha = half_plane(10, 0)
    assert grow(alpha, 0.0) is alpha


def test_softness_is_a_gaussian_of_its_width():
    # reference library: SciPy's Gaussian filter
    alpha = half_plane(0, 0)
    assert np.abs(soften(alpha, 2.0, 0, 0) - ndimage.gaussian_filter(alpha, 2.0))[10:70, 10:70].max() < 3e-3


def test_softness_inside_only_takes_away_and_outside_only_adds():
    alpha = half_plane(30, 0)
    inside, outside = soften(alpha, 0, 3.0, 0), soften(alpha, 0, 0, 3.0)
    assert (inside <= alpha + 1e-6).all()
    assert (outside >= alpha - 1e-6).all()
    assert inside[alpha == 0].max() == 0
    assert outside[alpha == 1].min() == pytest.approx(1, abs=1e-5)
    assert alpha.sum() - inside.sum() > 80
    assert outside.sum() - alpha.sum() > 80


def test_specks_and_holes_go_by_their_area():
    # reference library: scikit-image's removal of small objects and holes
    rng = np.random.default_rng(5)
    picture = ndimage.gaussian_filter(rng.standard_normal((120, 160)), 2) > 0.05
    alpha = picture.astype(np.float32)
    without = morphology.remove_small_objects(picture, max_size=39, connectivity=1)
    assert np.array_equal(clean(alpha, 40, 0) > 0.5, without)
    filled = morphology.remove_small_holes(picture, max_size=39, connectivity=1)
    assert np.array_equal(clean(alpha, 0, 40) > 0.5, filled)


def noisy_edge(rng: np.random.Generator, at: float) -> tuple[np.ndarray, np.ndarray]:
    line = half_plane(0, at, 120, 6.0)
    feed = (0.8 - 0.6 * line).astype(np.float32)
    return np.clip(line + rng.normal(0, 0.08, line.shape), 0, 1).astype(np.float32), feed


def test_steadying_takes_chatter_out_along_the_motion():
    rng = np.random.default_rng(6)
    places = {-2: -6.0, -1: -3.0, 0: 0.0, 1: 3.0, 2: 6.0}  # the picture moves 3 px a frame
    frames = {k: noisy_edge(rng, at) for k, at in places.items()}
    motion = {k: np.array([[1, 0, -3.0 * k], [0, 1, 0], [0, 0, 1]]) for k in places}
    alpha, feed = frames[0]
    others = [(*frames[k], motion[k]) for k in (-2, -1, 1, 2)]
    out = steady(alpha, feed, others, 1.0)
    true = half_plane(0, 0, 120, 6.0)
    band = np.s_[10:110, 40:80]
    before, after = (np.std((a - true)[band]) for a in (alpha, out))
    assert after < 0.7 * before


def test_steadying_leaves_no_ghost_of_what_moves_on_its_own():
    still, feed = np.zeros((80, 80), np.float32), np.full((80, 80), 0.8, np.float32)
    here, feed_here = still.copy(), feed.copy()
    here[30:50, 30:50], feed_here[30:50, 30:50] = 1, 0.1
    there, feed_there = still.copy(), feed.copy()
    there[30:50, 55:75], feed_there[30:50, 55:75] = 1, 0.1
    out = steady(here, feed_here, [(there, feed_there, np.eye(3))] * 2, 1.0)
    assert out[40, 65] < 0.01  # where it is on the next frame
    assert out[40, 40] > 0.99


def test_a_matte_steadies_itself_from_the_plates_around_it():
    rng = np.random.default_rng(8)
    base = np.clip(half_plane(0, 0, 96, 12.0) * 0.6 + 0.15, 0, 1)[..., None].repeat(3, 2)
    plates = {f: (base + rng.normal(0, 0.02, base.shape)).astype(np.float32) for f in range(1, 6)}

    def made(m: Matte, frame: int) -> np.ndarray:
        bare = m.but(edge=Edge())
        beside = [
            (build_matte(plates[f], bare, f).alpha, feed_of(plates[f]), np.eye(3))
            for f in range(frame - 2, frame + 3) if f in plates and f != frame
        ]  # fmt: skip
        return build_matte(plates[frame], m, frame, 1.0, Surroundings(neighbours=lambda: beside)).alpha

    matte = Matte(pulls=(LumaPull(high=number(0.55), high_softness=number(0.2)),), edge=Edge(steady=1.0))
    restless, calm = (np.abs(made(m, 3) - made(m, 2)).mean() for m in (matte.but(edge=Edge()), matte))
    assert calm < 0.5 * restless


def test_wide_softness_is_that_of_a_gaussian_and_costs_no_more_memory_than_the_picture():
    """Against SciPy at 60 px; and at widths beyond any picture, which a stranger's file may hold."""
    rng = np.random.default_rng(2)
    alpha = (ndimage.gaussian_filter(rng.standard_normal((360, 640)), 12) > 0).astype(np.float32)
    wanted = ndimage.gaussian_filter(alpha, 60.0, mode="mirror")
    assert np.allclose(soften(alpha, 60.0, 0, 0), wanted, rtol=0, atol=0.02)
    tracemalloc.start()
    for width in (1e3, 1e5, 1e9):
        assert np.ptp(soften(alpha, width, 0, 0)) < 0.05
        assert soften(alpha, 0, width, 0).max() < 0.01
        assert soften(alpha, 0, 0, width).min() > 0.99
    assert tracemalloc.get_traced_memory()[1] < 20 * alpha.nbytes
    tracemalloc.stop()


def test_what_levels_push_beyond_solid_does_not_spread_when_the_edge_is_softened():
    ramp = np.repeat(np.linspace(0, 1, 64, dtype=np.float32)[None, :, None], 16, axis=0).repeat(3, 2)
    pull = LumaPull(low=number(0.5), low_softness=number(0.5), high=number(2.0))
    hard = Levels(black=number(0.0), white=number(0.1))  # most of the ramp lies far above 1
    soft = build_matte(ramp, Matte(pulls=(pull,), levels=hard, edge=Edge(soften_px=number(4.0))), 1).alpha
    clipped = build_matte(ramp, Matte(pulls=(pull,), levels=hard), 1).alpha
    assert soft[8] == pytest.approx(soften(np.clip(clipped, 0, 1), 4.0, 0.0, 0.0)[8], abs=1e-4)
