"""What the fits measure, on photographs with a known change."""

import cv2
import numpy as np
import pytest
from skimage import data

from zonal_mantle.match.air import colour_of_extinction, extinction, mist_depth, transmittances
from zonal_mantle.match.air_fit import AirPart, fit_air, guess_air, without_noise
from zonal_mantle.match.compare import delta_e_2000, lab
from zonal_mantle.match.edge_width import edges_of, radius_by_edges, sharpening_by_edges
from zonal_mantle.match.grain import shaping, unit_grain, with_grain
from zonal_mantle.match.lens import defocused, softened
from zonal_mantle.match.noise import Noise, measure_noise, pooled
from zonal_mantle.match.sharpness import (
    LUMA,
    fit_spectra,
    power_spectrum,
    tiles_of,
)
from zonal_mantle.match.wrap import spilled
from zonal_mantle.match.wrap_fit import fit_wrap
from zonal_mantle.media.curves import srgb_decode, srgb_encode
from zonal_mantle.shot import GrainModel


def linear(picture: np.ndarray) -> np.ndarray:
    return srgb_decode(picture[..., :3].astype(np.float64) / 255).astype(np.float32)


def filmed(picture: np.ndarray, seed: int = 1) -> np.ndarray:
    """With a little noise, in eight bits."""
    noise = np.random.default_rng(seed).normal(0, 0.004, picture.shape)
    return srgb_decode(np.round(np.clip(srgb_encode(np.clip(picture, 0, 1)) + noise, 0, 1) * 255) / 255).astype(
        np.float32
    )


def halves(picture: np.ndarray, changed: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Luma of the left half as it was and of the right half as it was changed."""
    middle = picture.shape[1] // 2
    return np.ascontiguousarray(picture[:, :middle] @ LUMA), np.ascontiguousarray(changed[:, middle:] @ LUMA)


@pytest.mark.parametrize("name", ["astronaut", "coffee", "rocket"])
@pytest.mark.parametrize("radius", [1.6, 3.3, 6.0])
def test_a_focus_is_found_on_another_part_of_a_photograph(name, radius):
    picture = linear(getattr(data, name)())
    rgba = np.dstack([picture, np.ones(picture.shape[:2], np.float32)])
    own, aim = halves(picture, filmed(defocused(rgba, radius)[..., :3]))
    found = fit_spectra(power_spectrum(tiles_of(own)), power_spectrum(tiles_of(aim)))
    assert found.kind == "disc"
    assert found.size == pytest.approx(radius, abs=max(0.08 * radius, 0.15))


@pytest.mark.parametrize("radius", [0.5, 0.8, 1.2])
def test_a_small_blur_is_found_by_the_edges(radius):
    picture = linear(data.rocket())
    rgba = np.dstack([picture, np.ones(picture.shape[:2], np.float32)])
    own, aim = halves(picture, filmed(defocused(rgba, radius)[..., :3]))
    assert radius_by_edges(own, None, edges_of(aim, None, 0.008)) == pytest.approx(radius, abs=0.15)
    assert radius_by_edges(aim, None, edges_of(own, None, 0.0)) < 0  # the other way round it is sharper


@pytest.mark.parametrize("length", [3.0, 6.5, 13.0])
def test_a_motion_is_found_along_its_way(length):
    picture = linear(data.coffee())
    moved = np.mean(
        [
            cv2.warpAffine(
                picture,
                np.float32([[1, 0, length * t], [0, 1, 0]]),
                picture.shape[1::-1],
                borderMode=cv2.BORDER_REFLECT,
            )
            for t in (np.arange(60) + 0.5) / 60 - 0.5
        ],
        axis=0,
    )
    own, aim = halves(picture, filmed(moved))
    found = fit_spectra(
        power_spectrum(tiles_of(own)), power_spectrum(tiles_of(aim)), (1.0, 0.0), ("disc", "soft"), 2 * length
    )
    assert found.motion_px == pytest.approx(length, abs=max(0.05 * length, 0.3))


def test_sharpening_is_found_by_the_edges():
    picture = linear(data.astronaut())
    sharp = np.clip(picture + 0.6 * (picture - cv2.GaussianBlur(picture, (0, 0), 1.0)), 0, 1)
    own, aim = np.ascontiguousarray(picture @ LUMA), np.ascontiguousarray(sharp @ LUMA)
    assert radius_by_edges(own, None, edges_of(aim, None, 0.0)) < 0
    assert sharpening_by_edges(own, None, edges_of(aim, None, 0.0)) == pytest.approx(0.6, abs=0.12)


# --- grain ---
def grained(
    picture: np.ndarray, amount: float, width: float, rng: np.random.Generator
) -> tuple[np.ndarray, np.ndarray]:
    """A coded picture with noise that is stronger in the middle, and the noise."""
    noise = rng.standard_normal(picture.shape).astype(np.float32)
    noise = 0.6 * noise + noise.mean(axis=2, keepdims=True)
    noise = cv2.GaussianBlur(noise, (0, 0), width) if width else noise
    noise /= noise.std(axis=(0, 1))
    strength = amount * (0.5 + 2 * picture * (1 - picture))
    return (np.round(np.clip(picture + noise * strength, 0, 1) * 255) / 255).astype(np.float32), noise


def lag(noise: np.ndarray, by: int) -> float:
    return float((noise[:, by:] * noise[:, :-by]).mean() / (noise**2).mean())


@pytest.mark.parametrize("shift", [0.0, 6.5])
@pytest.mark.parametrize(("amount", "width"), [(0.012, 0.0), (0.02, 0.6)])
def test_grain_is_measured_between_frames(shift, amount, width):
    rng = np.random.default_rng(3)
    picture = srgb_encode(linear(data.chelsea())).astype(np.float32)
    frames = []
    for k in range(3):
        way = np.float32([[1, 0, -shift * k], [0, 1, 0]])
        moved = cv2.warpAffine(picture, way, picture.shape[1::-1], flags=cv2.INTER_CUBIC, borderMode=cv2.BORDER_REFLECT)
        frame, noise = grained(moved, amount, width, rng)
        frames.append(frame)
    found = measure_noise(frames, [None] * 3)
    assert found is not None
    for level in (0.35, 0.5, 0.65):
        told = [np.interp(level, found.model.levels, [row[c] for row in found.model.deviation]) for c in range(3)]
        assert told == pytest.approx([amount * (0.5 + 2 * level * (1 - level))] * 3, rel=0.06)
    table = np.array(found.model.spatial[1]).reshape(5, 5)
    assert table[2, 3] == pytest.approx(lag(noise[..., 1], 1), abs=0.05)
    assert table[2, 4] == pytest.approx(lag(noise[..., 1], 2), abs=0.05)


def test_of_several_measurements_those_along_a_wrong_motion_do_not_count():
    rng = np.random.default_rng(5)
    picture = data.coffee().astype(np.float32) / 255
    picture[:120] = 0.9  # a calm sky that does not move
    step = np.array([[1, 0, -4.0], [0, 1, 0], [0, 0, 1]])
    frames = []
    for index in range(4):
        way = np.float32([[1, 0, -4.0 * index], [0, 1, 0]])
        moved = cv2.warpAffine(picture, way, picture.shape[1::-1], borderMode=cv2.BORDER_REFLECT)
        moved[:120] = 0.9
        frames.append(grained(moved, 0.02, 0.7, rng)[0])
    nothing, off = [None] * 4, step.copy()
    off[0, 2] += 2.0
    still = measure_noise(frames, nothing, [np.eye(3)] * 3)
    right, wrong = measure_noise(frames, nothing, [step] * 3), measure_noise(frames, nothing, [off] * 3)
    assert still is not None
    assert right is not None
    assert wrong is not None

    def ratios(noise) -> np.ndarray:
        levels = np.array([0.25, 0.5])
        told = np.interp(levels, noise.model.levels, [row[1] for row in noise.model.deviation])
        return told / (0.02 * (0.5 + 2 * levels * (1 - levels)))

    for found in (still, wrong):
        assert ratios(found).max() < 0.85  # only the sky shows the same twice
    for found in ([right, wrong, right, wrong, still], [still, right, right]):
        assert ratios(pooled(found)) == pytest.approx(1, abs=0.06)
    with pytest.raises(ValueError, match="flat enough"):
        pooled([])


def test_a_measurement_that_saw_only_the_bright_tells_nothing_of_the_dark():
    """As of a shot of which one motion fits the sky alone: what it says of the dark is only carried on."""
    levels = (0.25, 0.5, 0.75)
    flat = GrainModel(levels=levels, deviation=((0.005,) * 3,) * 3)
    full = GrainModel(levels=levels, deviation=((0.012,) * 3, (0.011,) * 3, (0.006,) * 3))
    bright, all_of = (0, 0, 90_000), (40_000, 40_000, 40_000)
    found = [
        Noise(model, 100, 0.1, 1.0, tuple((n,) * 3 for n in pixels))
        for model, pixels in ((flat, bright), (full, all_of), (flat, bright), (full, all_of))
    ]
    deviation = np.array(pooled(found).model.deviation)
    assert deviation[:2] == pytest.approx(np.array(full.deviation[:2]))
    assert deviation[2] == pytest.approx([0.005] * 3, abs=5e-4)


def test_grain_made_anew_is_that_of_its_model():
    spatial = cv2.getGaussianKernel(5, 0.9)
    table = spatial @ spatial.T
    table = tuple(float(v) for v in (table / table[2, 2]).ravel())
    model = GrainModel(
        levels=(0.1, 0.5, 0.9), deviation=((0.01, 0.012, 0.015), (0.02, 0.02, 0.03), (0.008, 0.01, 0.01)),
        spatial=(table,) * 3, between=(0.6, 0.3, 0.5),
    )  # fmt: skip
    one, again, other = (unit_grain(model, (400, 300), 7, frame) for frame in (12, 12, 13))
    assert np.array_equal(one, again)
    assert abs(np.corrcoef(one.ravel(), other.ravel())[0, 1]) < 0.02
    assert one.std(axis=(1, 2)) == pytest.approx([1, 1, 1], rel=0.02)
    assert lag(one[0], 1) == pytest.approx(table[13], abs=0.05)
    assert lag(one[0], 2) == pytest.approx(table[14], abs=0.05)
    assert np.corrcoef(one.reshape(3, -1))[0, 1] == pytest.approx(0.6, abs=0.03)
    for level, row in zip(model.levels, model.deviation):
        flat = np.ones((300, 400, 4), np.float32)
        flat[..., :3] = srgb_decode(np.array(level))
        out = with_grain(flat, one, model, np.ones((300, 400), np.float32))
        assert (srgb_encode(out[..., :3]) - level).std(axis=(0, 1)) == pytest.approx(row, rel=0.05)


def test_grain_of_a_proxy_is_what_is_left_of_it_in_the_mean():
    rng = np.random.default_rng(5)
    table = (0.0,) * 6 + (0.1, 0.3, 0.1) + (0.0,) * 2 + (0.3, 1.0, 0.3) + (0.0,) * 2 + (0.1, 0.3, 0.1) + (0.0,) * 6
    kernel, _ = shaping(table)
    full = cv2.filter2D(rng.standard_normal((800, 800)).astype(np.float32), -1, kernel)
    half = cv2.resize(full, (400, 400), interpolation=cv2.INTER_AREA)
    small, left = shaping(table, 1.0, 0.5)
    assert left == pytest.approx(float(half.std() / full.std()), rel=0.03)
    made = cv2.filter2D(rng.standard_normal((400, 400)).astype(np.float32), -1, small)
    assert lag(made, 1) == pytest.approx(lag(half, 1), abs=0.05)


def test_noise_of_a_picture_without_calm_is_not_told():
    busy = np.random.default_rng(0).uniform(0, 1, (60, 60, 3)).astype(np.float32)
    busy[:, ::2] = 0.0
    assert measure_noise([busy], [None]) is None


# --- air ---
@pytest.mark.parametrize("visibility", [5e3, 15e3, 40e3])
def test_air_is_measured_between_alike_things(visibility):
    rng = np.random.default_rng(6)
    ground = srgb_decode(data.gravel() / 255.0)[..., None] * np.array([0.2, 0.25, 0.17])
    airlight, parts = np.array([0.55, 0.6, 0.66]), []
    for share in (0.05, 0.18, 0.32):
        y, x = rng.integers(0, 380, 2)
        t = np.array(transmittances(share * visibility, visibility, 0.8))
        seen = filmed(ground[y : y + 110, x : x + 130] * t + airlight * (1 - t), int(share * 100))
        parts.append(AirPart(without_noise(seen).reshape(-1, 3), share * visibility))
    found = fit_air(parts)
    assert found.visibility_m == pytest.approx(visibility, rel=0.1)
    assert found.interval_m[0] < visibility < found.interval_m[1]
    assert float(delta_e_2000(lab(np.array(found.airlight)), lab(airlight))) < 2


def test_air_that_cannot_be_measured_is_refused():
    ground = np.random.default_rng(1).uniform(0.1, 0.3, (900, 3))
    with pytest.raises(ValueError, match="two areas or more"):
        fit_air([AirPart(ground, 100.0)])
    with pytest.raises(ValueError, match="about 100 m"):
        fit_air([AirPart(ground, 100.0), AirPart(ground, 104.0)])


def test_the_dark_channel_gives_a_start():
    # published: He, Sun & Tang 2009: what is darkest in a haze tells how much of it there is
    rng = np.random.default_rng(2)
    clear = linear(data.rocket())[200:] * (rng.uniform(size=(227, 640, 1)) > 0.3)
    airlight = np.array([0.7, 0.74, 0.8], np.float32)
    hazy = (clear * 0.5 + airlight * 0.5).astype(np.float32)
    hazy[:30] = airlight
    mask = np.zeros(hazy.shape[:2], bool)
    mask[60:200] = True
    found = guess_air(hazy, mask, 1000.0)
    assert found.is_guess
    assert np.exp(-extinction(found.visibility_m) * 1000) == pytest.approx(0.5, abs=0.1)
    assert found.airlight == pytest.approx(airlight, rel=0.05)


def test_red_goes_farther_than_blue_by_angstroms_exponent():
    # published: Ångström 1929: β ∝ λ^−α
    red, _, blue = colour_of_extinction(1.3)
    assert blue / red == pytest.approx((611.4 / 464.2) ** 1.3, rel=1e-6)
    assert transmittances(1000, 5000, 0.0) == pytest.approx([0.05 ** (1 / 5)] * 3)


def test_mist_is_the_integral_along_the_ray():
    # by itself: the closed form against many short steps
    for up in (-1.0, 0.0, 5.0, 60.0):
        steps = (np.arange(20000) + 0.5) / 20000
        heights = 1.7 + up * steps
        depth = (extinction(500) * np.exp(-heights / 8)).mean() * np.hypot(300, up)
        assert mist_depth(np.array(300.0), np.array(up), 500, 8, 1.7) == pytest.approx(depth, rel=1e-4)


# --- wrap ---
def hill(spill: float, sigma: float = 6.0) -> tuple[np.ndarray, np.ndarray]:
    """A dark wood before a bright sky, with the sky's light spilled over its rim."""
    rng = np.random.default_rng(8)
    alpha = np.zeros((240, 400), np.float32)
    ridge = 110 + 25 * np.sin(np.arange(400) / 55)
    alpha[np.arange(240)[:, None] > ridge[None]] = 1
    alpha = cv2.GaussianBlur(alpha, (0, 0), 0.7)
    wood = 0.06 + 0.02 * cv2.GaussianBlur(rng.standard_normal((240, 400, 3)).astype(np.float32), (0, 0), 1.5)
    near = np.dstack([wood * alpha[..., None], alpha]).astype(np.float32)
    sky = np.dstack([np.full((240, 400), v, np.float32) for v in (0.7, 0.75, 0.85, 1.0)])
    near = spilled(near, sky, sigma, spill)
    return near[..., :3] + sky[..., :3] * (1 - near[..., 3:]), alpha


def test_a_spill_is_measured_on_the_rims_and_none_where_there_is_none():
    found = fit_wrap(*([part] for part in hill(0.5)))
    assert found.amount == pytest.approx(0.5, abs=0.08)
    assert found.width_px == pytest.approx(12, rel=0.25)
    none = fit_wrap(*([part] for part in hill(0.0)))
    assert abs(none.amount) < 0.03
    with pytest.raises(ValueError, match="No rim"):
        fit_wrap([np.full((80, 80, 3), 0.3, np.float32)], [np.ones((80, 80), np.float32)])


def test_a_wrap_only_brightens_and_does_not_darken_at_the_frames_rim():
    near = np.zeros((80, 120, 4), np.float32)
    near[:, :60] = (0.1, 0.1, 0.1, 1)
    behind = np.zeros((80, 120, 4), np.float32)
    behind[..., :] = (0.8, 0.6, 0.4, 1)
    out = spilled(near, behind, 8.0, 0.5)
    assert (out[..., :3] >= near[..., :3] - 1e-6).all()
    assert out[0, 59] == pytest.approx(out[40, 59], abs=1e-4)  # the same at the rim of the frame
    assert out[40, 59, 0] > out[40, 45, 0] > out[40, 20, 0] - 1e-6
    dark = behind * np.array([0.01, 0.01, 0.01, 1], np.float32)
    assert np.allclose(spilled(near, dark, 8.0, 0.5), near, rtol=0, atol=1e-6)
    assert spilled(near, dark, 8.0, 0.5, only_brighter=False)[40, 59, 0] < 0.1


def test_a_soft_lens_is_found_as_soft_as_it_is():
    picture = linear(data.astronaut())
    rgba = np.dstack([picture, np.ones(picture.shape[:2], np.float32)])
    own, aim = halves(picture, filmed(softened(rgba, 1.4)[..., :3]))
    found = fit_spectra(power_spectrum(tiles_of(own)), power_spectrum(tiles_of(aim)), None, ("soft",))
    assert found.size == pytest.approx(1.4, abs=0.12)


def test_noise_of_a_frame_that_is_held_is_not_read_as_none():
    rng = np.random.default_rng(4)
    frame, _ = grained(np.full((240, 320, 3), 0.4, np.float32), 0.02, 0.0, rng)
    found = measure_noise([frame, frame, frame], [None] * 3)
    assert found is not None
    assert np.isfinite(found.model.spatial).all()
    middle = np.interp(0.4, found.model.levels, [row[1] for row in found.model.deviation])
    assert middle == pytest.approx(0.02 * (0.5 + 2 * 0.4 * 0.6), rel=0.06)
    clean = np.full((240, 320, 3), 0.4, np.float32)
    assert measure_noise([clean, clean], [None] * 2) is None


def test_what_is_burnt_out_is_no_haze():
    white = np.ones((120, 160, 3), np.float32)
    for picture in (white, white * 0.9):
        with pytest.raises(ValueError, match="nothing but haze"):
            guess_air(picture, None, 500.0)
