"""The clear-sky pull and old-sky removal, on plates made from photographs with a known matte."""

import numpy as np
import pytest
from pymatting import estimate_foreground_ml

from plates import best_luma_error, codes, edge_band, edge_error, tree_line
from zonal_mantle.matte import MatteError, build_matte, clear_sky, fit_sky, remove_old_sky
from zonal_mantle.shot import ClearSkyPull, Keyed, Matte, OldSky

PULL = Matte(pulls=(ClearSkyPull(finds="surface"),))


@pytest.fixture(scope="module")
def leaves():
    return tree_line(1)


@pytest.mark.parametrize("seed", [2, 3])
def test_leaves_are_cut_by_themselves_and_survive_a_new_sky(seed):
    # open data: photographs of scikit-image; floors of the work: 5 of 255 at the edge, a third of the best luma pull's
    # mean square error (the error measures of Rhemann et al. 2009)
    plate = tree_line(seed)
    made = build_matte(plate.pixels, PULL, 1)
    assert edge_error(plate, made.alpha, made.foreground) < 5.0
    assert ((made.alpha - plate.alpha) ** 2).mean() < best_luma_error(plate) / 3


@pytest.mark.parametrize("grain", [0.0, 0.003, 0.014])
def test_more_grain_makes_it_worse_by_little(grain):
    plate = tree_line(4, grain=grain)
    made = build_matte(plate.pixels, PULL, 1)
    assert edge_error(plate, made.alpha, made.foreground) < (5.0 if grain < 0.01 else 6.0)


def test_leaving_the_old_sky_in_costs_several_times_as_much(leaves):
    made = build_matte(leaves.pixels, PULL, 1)
    left = build_matte(leaves.pixels, PULL.but(old_sky=OldSky(on=False)), 1)
    assert left.foreground is None
    with_sky = edge_error(leaves, left.alpha, leaves.pixels * left.alpha[..., None])
    assert edge_error(leaves, made.alpha, made.foreground) < with_sky / 2.5


def test_strength_goes_from_the_plate_to_the_cleared_picture(leaves):
    alpha, sky = clear_sky(leaves.pixels, ClearSkyPull())
    none = remove_old_sky(leaves.pixels, alpha, 0.0, sky=sky)
    assert np.abs(none[..., :3] - np.maximum(leaves.pixels, 0) * alpha[..., None]).max() < 1e-5
    half, whole = (remove_old_sky(leaves.pixels, alpha, s, sky=sky)[..., :3] for s in (0.5, 1.0))
    assert np.abs(half - (none[..., :3] + whole) / 2).max() < 1e-5


def test_the_foreground_is_possible(leaves):
    made = build_matte(leaves.pixels, PULL, 1)
    assert made.foreground.min() >= 0
    assert (made.foreground[..., :3] <= np.maximum(leaves.pixels, 0) + 1e-6).all()
    assert (made.foreground[made.alpha == 0] == 0).all()
    solid = made.alpha == 1
    assert np.abs(made.foreground[..., :3] - leaves.pixels)[solid].max() < 1e-6


def test_the_sky_behind_is_found_by_unmixing_exactly_where_it_is_known():
    # published: Porter & Duff 1984: C = αF + (1 − α)S, solved for αF
    sky, fore = np.full((40, 60, 3), 0.7, np.float32), np.full((40, 60, 3), 0.05, np.float32)
    alpha = np.tile(np.linspace(0, 1, 60, dtype=np.float32), (40, 1))
    pixels = fore * alpha[..., None] + sky * (1 - alpha[..., None])
    out = remove_old_sky(pixels, alpha, sky=sky)
    assert np.abs(out[..., :3] - fore * alpha[..., None]).max() < 1e-6


@pytest.mark.parametrize("off_by", [0.05, 0.1])
def test_an_alpha_that_is_off_on_every_pixel_leaves_no_specks_before_a_darker_sky(leaves, off_by):
    # published: plain unmixing, Porter & Duff 1984; reference library: PyMatting's foreground (Germer et al. 2020)
    mixed = (leaves.alpha > 0) & (leaves.alpha < 1)
    noise = np.random.default_rng(5).normal(0, off_by, leaves.alpha.shape)
    alpha = np.where(mixed, np.clip(leaves.alpha + noise, 0, 1), leaves.alpha).astype(np.float32)
    sky = clear_sky(leaves.pixels, ClearSkyPull())[1]
    night = np.array((0.02, 0.015, 0.012), np.float32)
    wanted = codes(leaves.foreground + (1 - leaves.alpha[..., None]) * night)

    def off(foreground: np.ndarray) -> np.ndarray:
        return (codes(foreground + (1 - alpha[..., None]) * night) - wanted)[edge_band(leaves.alpha)]

    own = np.clip(leaves.pixels - (1 - alpha[..., None]) * sky, 0, np.maximum(leaves.pixels, 0))
    smooth = estimate_foreground_ml(leaves.pixels.astype(float), alpha.astype(float)) * alpha[..., None]
    plain, ours, theirs = off(own), off(remove_old_sky(leaves.pixels, alpha, sky=sky)[..., :3]), off(smooth)
    assert ours.std() < 0.8 * plain.std()
    assert ours.std() < 1.4 * theirs.std()
    assert (ours > 50).mean() < (plain > 50).mean() / 2  # specks


@pytest.mark.parametrize("value", [65504.0, 60.0, -5.0])
def test_a_glint_or_a_dead_pixel_changes_no_other(value):
    alpha = np.tile(np.linspace(0, 1, 80, dtype=np.float32), (60, 1))
    sky = np.full((60, 80, 3), 0.7, np.float32)
    pixels = 0.05 * alpha[..., None] + sky * (1 - alpha[..., None])
    dead = pixels.copy()
    dead[30, 40] = value
    plain, out = (remove_old_sky(each, alpha, sky=sky)[..., :3] for each in (pixels, dead))
    changed = np.abs(out - plain).max(axis=2) > 1e-4
    assert changed[30, 40]
    assert changed.sum() == 1


def test_an_exact_alpha_is_unmixed_pixel_by_pixel(leaves):
    sky = clear_sky(leaves.pixels, ClearSkyPull())[1]
    own = np.clip(leaves.pixels - (1 - leaves.alpha[..., None]) * sky, 0, np.maximum(leaves.pixels, 0))
    out = remove_old_sky(leaves.pixels, leaves.alpha, sky=sky, together=False)[..., :3]
    assert np.abs(out - own)[leaves.alpha > 0].max() < 1e-6


def test_without_a_fit_the_sky_is_drawn_inward_from_around(leaves):
    out = remove_old_sky(leaves.pixels, leaves.alpha)
    kept = leaves.pixels * leaves.alpha[..., None]
    assert edge_error(leaves, leaves.alpha, out) < edge_error(leaves, leaves.alpha, kept) / 3


def test_where_no_sky_is_near_what_stays_is_guessed_from_its_neighbours():
    # a soft hole in a dark wall, all of the frame far from any empty pixel
    y, x = np.mgrid[0:300, 0:300]
    alpha = (1 - 0.6 * np.exp(-((x - 150) ** 2 + (y - 150) ** 2) / 200.0)).astype(np.float32)
    pixels = (0.1 * alpha + 0.9 * (1 - alpha))[..., None].repeat(3, 2).astype(np.float32)
    out = remove_old_sky(pixels, alpha)
    assert out[150, 150, :3] == pytest.approx(0.1 * alpha[150, 150], rel=0.1)


def test_edge_tint_shows_what_is_behind_through_the_rim_only(leaves):
    alpha, sky = clear_sky(leaves.pixels, ClearSkyPull())
    plain, tinted = (remove_old_sky(leaves.pixels, alpha, tint=t, sky=sky) for t in (0.0, 0.5))
    rim = (alpha > 0.4) & (alpha < 0.6)
    assert tinted[..., 3][rim].mean() == pytest.approx(plain[..., 3][rim].mean() * 0.51, rel=0.02)
    assert np.array_equal(tinted[alpha == 1], plain[alpha == 1])


def test_the_fit_follows_a_graded_and_vignetted_sky():
    y, x = np.mgrid[0:270, 0:480]
    level = 0.75 - 0.1 * y / 270 + 0.05 * x / 480 - 0.12 * (((x - 240) / 480) ** 2 + ((y - 135) / 270) ** 2)
    sky = np.stack([level * 0.9, level, level * 1.05], axis=2).astype(np.float32)
    sky[180:] = 0.05
    noisy = sky + np.random.default_rng(2).normal(0, 0.004, sky.shape).astype(np.float32)
    fitted = fit_sky(noisy, ClearSkyPull())
    _, behind = clear_sky(noisy, ClearSkyPull(), sky=fitted)
    assert np.abs(behind - sky)[:170].max() < 0.006
    assert 0.6 < fitted.share < 0.7


def test_noise_is_measured_in_its_own_units():
    rng = np.random.default_rng(3)
    coded = 0.7 + rng.normal(0, 1, (200, 300, 3)) * [0.01, 0.005, 0.02]
    from zonal_mantle.media.curves import srgb_decode

    fitted = fit_sky(srgb_decode(coded).astype(np.float32), ClearSkyPull())
    assert 1 / np.abs(np.diag(fitted.whitening)) == pytest.approx([0.01, 0.005, 0.02], rel=0.12)


def test_thin_wires_are_held():
    # a wire of a third of a pixel, far darker than the sky
    pixels = np.full((120, 200, 3), 0.7, np.float32)
    pixels[60, :] *= 1 - 0.33 * 0.95
    pixels[100:] = 0.04
    pixels += np.random.default_rng(1).normal(0, 0.006, pixels.shape).astype(np.float32)
    alpha, _ = clear_sky(pixels, ClearSkyPull())
    assert alpha[60, 20:180].mean() == pytest.approx(0.33, abs=0.05)
    assert alpha[20:50].max() < 0.1
    assert np.mean(alpha[20:50] == 0) > 0.99


def test_an_area_of_known_sky_may_be_drawn():
    # the sky is framed by a window: nothing of it touches the top
    pixels = np.full((200, 300, 3), 0.05, np.float32)
    pixels += np.random.default_rng(1).normal(0, 0.03, pixels.shape).astype(np.float32)
    pixels[60:140, 80:220] = 0.6 + np.random.default_rng(2).normal(0, 0.004, (80, 140, 3))
    pull = ClearSkyPull(areas=((100.0, 70.0, 200.0, 130.0),))
    alpha, _ = clear_sky(pixels, pull)
    assert alpha[70:130, 90:210].mean() < 0.01
    assert alpha[:50].mean() > 0.99


def test_a_picture_without_sky_says_so():
    noise = np.random.default_rng(1).uniform(0, 1, (120, 160, 3)).astype(np.float32)
    noise[:30] *= np.random.default_rng(2).uniform(0, 2, (30, 160, 1))
    with pytest.raises(MatteError, match="Drag over some sky"):
        fit_sky(noise, ClearSkyPull())


def test_proxies_give_nearly_the_same_matte(leaves):
    import cv2

    small = cv2.resize(leaves.pixels, None, fx=0.5, fy=0.5, interpolation=cv2.INTER_AREA)
    full = build_matte(leaves.pixels, PULL, 1).alpha
    half = build_matte(small, PULL, 1, 0.5).alpha
    assert np.abs(cv2.resize(full, None, fx=0.5, fy=0.5, interpolation=cv2.INTER_AREA) - half).mean() < 0.02


def test_limits_in_noise_units_hold_down_and_let_through(leaves):
    def at(empty: float, full: float) -> np.ndarray:
        pull = ClearSkyPull(empty=Keyed(constant=empty), full=Keyed(constant=full))
        return clear_sky(leaves.pixels, pull)[0]

    clear = leaves.alpha < 0.001
    assert at(0.0, 0.1)[clear].mean() > at(3.0, 4.5)[clear].mean()
    assert at(20.0, 30.0)[leaves.alpha > 0.02].mean() < at(3.0, 4.5)[leaves.alpha > 0.02].mean()
