"""LUT, glow, vignette, local light, frame, burn-in: each against its published definition or a reference library."""

from pathlib import Path

import cv2
import numpy as np
import PyOpenColorIO as ocio
import pytest
from skimage import data

from zonal_mantle.finish import FinishError
from zonal_mantle.finish.burn_in import burnt_in
from zonal_mantle.finish.frame import bar_box, largest_frame, resampled, with_bars
from zonal_mantle.finish.glow import GlowNumbers, glowing
from zonal_mantle.finish.local import light_matrix, lit
from zonal_mantle.finish.lut import through_lut
from zonal_mantle.finish.vignette import VignetteNumbers, falloff_of, vignetted
from zonal_mantle.match.white import adaptation
from zonal_mantle.media.curves import srgb_decode, srgb_encode
from zonal_mantle.media.stamps import GONE, stamp_of


def photo(name: str = "coffee") -> np.ndarray:
    """A photograph that scikit-image ships, scene-linear RGBA."""
    linear = srgb_decode(getattr(data, name)().astype(np.float64) / 255).astype(np.float32)
    return np.dstack([linear, np.ones(linear.shape[:2], np.float32)])


def cube(path: Path, size: int = 17, function=lambda rgb: rgb) -> Path:
    """A table of `size` points a side, red the fastest, as the format has it."""
    at = np.linspace(0, 1, size)
    b, g, r = np.meshgrid(at, at, at, indexing="ij")
    rows = function(np.stack([r, g, b], axis=-1)).reshape(-1, 3)
    path.write_text(f"LUT_3D_SIZE {size}\n" + "".join(f"{x:.9f} {y:.9f} {z:.9f}\n" for x, y, z in rows))
    return path


def bent(rgb: np.ndarray) -> np.ndarray:
    """Channels that lean on one another."""
    return np.clip(np.stack([rgb[..., 0] ** 1.2, 0.8 * rgb[..., 1] + 0.2 * rgb[..., 0], rgb[..., 2] ** 0.7], -1), 0, 1)


def put_through(picture: np.ndarray, path: Path, encoding: str = "sRGB", strength: float = 1.0) -> np.ndarray:
    return through_lut(picture, str(path), stamp_of(str(path), 0), encoding, strength)


# --- LUT ---
def test_a_lut_is_opencolorios_within_a_thousandth_of_ten_bits(tmp_path):
    picture = photo()
    path = cube(tmp_path / "bent.cube", 17, bent)
    out = put_through(picture, path)
    wanted = srgb_encode(picture[..., :3]).astype(np.float32)
    transform = ocio.FileTransform(str(path), interpolation=ocio.INTERP_TETRAHEDRAL)
    ocio.Config.CreateRaw().getProcessor(transform).getDefaultCPUProcessor().applyRGB(wanted)
    assert np.abs(srgb_encode(out[..., :3]) - wanted).max() < 1 / 1023  # reference library: OpenColorIO


def test_a_clf_in_a_log_encoding_is_opencolorios(tmp_path):
    path = tmp_path / "lift.clf"
    group = ocio.GroupTransform([ocio.MatrixTransform([0.9, 0.1, 0, 0, 0, 1, 0, 0, 0, 0, 1.1, 0, 0, 0, 0, 1])])
    group.write("Academy/ASC Common LUT Format", str(path), ocio.Config.CreateRaw())
    picture = photo()
    out = put_through(picture, path, "ACEScct")
    config = ocio.Config.CreateFromFile("ocio://studio-config-v2.1.0_aces-v1.3_ocio-v2.3")
    wanted = np.ascontiguousarray(picture[..., :3])
    for step in (
        config.getProcessor("Linear Rec.709 (sRGB)", "ACEScct"),
        ocio.Config.CreateRaw().getProcessor(ocio.FileTransform(str(path))),
        config.getProcessor("ACEScct", "Linear Rec.709 (sRGB)"),
    ):
        step.getDefaultCPUProcessor().applyRGB(wanted)
    assert np.abs(srgb_encode(out[..., :3]) - srgb_encode(wanted)).max() < 1 / 1023


def test_strength_mixes_in_the_encoding(tmp_path):
    picture, path = photo(), cube(tmp_path / "bent.cube", 17, bent)
    none, half, whole = (srgb_encode(put_through(picture, path, strength=s)[..., :3]) for s in (0.0, 0.5, 1.0))
    assert np.abs(none - srgb_encode(picture[..., :3])).max() < 1e-4
    assert np.abs(half - (none + whole) / 2).max() < 1e-4


def test_premultiplied_pixels_go_through_a_lut_by_their_own_colour(tmp_path):
    path = cube(tmp_path / "bent.cube", 17, bent)
    solid = np.array([[[0.3, 0.2, 0.1, 1.0]]], np.float32)
    thin = solid * np.float32(0.25)
    assert np.allclose(put_through(thin, path), put_through(solid, path) * 0.25, atol=1e-5)


def test_a_lut_that_was_written_anew_is_read_anew(tmp_path):
    picture, path = photo(), cube(tmp_path / "one.cube", 5)
    first = put_through(picture, path)
    cube(path, 5, lambda rgb: 1 - rgb)
    assert np.abs(put_through(picture, path) - first).max() > 0.1


@pytest.mark.parametrize(
    ("name", "text", "words"),
    [
        ("nan.cube", "LUT_3D_SIZE 2\n" + "0 nan 0\n" + "0 0 0\n" * 7, "nan in line 2"),
        ("inf.cube", "LUT_3D_SIZE 2\n" + "0 0 0\n" * 7 + "0 -inf 0\n", "-inf in line 9"),
        ("short.cube", "LUT_3D_SIZE 3\n0 0 0\n", "cannot be read as a LUT"),
        ("large.cube", "LUT_3D_SIZE 300\n0 0 0\n", "cannot be read as a LUT"),
        ("picture.cube", "\x89PNG\r\n", "cannot be read as a LUT"),
        ("broken.clf", "<ProcessList>", "cannot be read as a LUT"),
        ("table.txt", "LUT_3D_SIZE 2\n", "Choose a .cube or a CLF"),
        ("empty.cube", "", "cannot be read as a LUT"),
    ],
)
def test_a_bad_lut_is_said(tmp_path, name, text, words):
    path = tmp_path / name
    path.write_text(text, encoding="latin-1")
    with pytest.raises(FinishError, match=words) as said:
        put_through(photo(), path)
    assert name in str(said.value)
    assert str(tmp_path) not in str(said.value)
    assert "\n" not in str(said.value)


def test_a_lut_that_is_gone_is_said(tmp_path):
    with pytest.raises(FinishError, match=r"gone.cube is missing"):
        through_lut(photo(), str(tmp_path / "gone.cube"), GONE, "sRGB")


# --- glow ---
@pytest.mark.parametrize("radius", [1.5, 6.0, 24.0, 90.0])
def test_a_glow_keeps_the_light_of_every_channel(radius):
    picture = photo("astronaut")
    picture[40:60, 60:64, :3] = 30
    shares = (0.4, 0.4, 0.4)
    out = glowing(picture, GlowNumbers(0.5, shares, radius, (0.3, 0.1, 0.0), radius / 3))
    before, after = picture[..., :3].sum(axis=(0, 1), dtype=float), out[..., :3].sum(axis=(0, 1), dtype=float)
    assert np.abs(after / before - 1).max() < 1e-3  # the floor; conservation of energy
    assert np.abs(out - picture).max() > 0.5


@pytest.mark.parametrize("place", [200, 201, 202, 203])
@pytest.mark.parametrize("radius", [5.0, 24.0])
def test_glow_is_a_sum_of_gaussians_wherever_the_light_is(radius, place):
    picture = np.zeros((400, 400, 4), np.float32)
    picture[place, place] = 1000
    out = glowing(picture, GlowNumbers(0.0, (1.0, 1.0, 1.0), radius, (0.0, 0.0, 0.0), 0.0))[..., 1]
    wanted = sum(  # OpenCV in float64, at full size
        share * cv2.GaussianBlur(picture[..., 1].astype(float), (0, 0), width * radius, borderType=cv2.BORDER_REFLECT)
        for width, share in ((0.5, 0.5), (1.0, 0.3), (2.0, 0.2))
    )
    assert np.abs(out - wanted).max() < 0.06 * wanted.max()
    assert abs(out.sum(dtype=float) / 1000 - 1) < 1e-3


def test_nothing_below_the_level_glows():
    picture = photo()
    assert np.array_equal(glowing(picture, GlowNumbers(1.0, (0.5,) * 3, 10, (0.5,) * 3, 4)), picture)


# --- vignette ---
def test_a_round_vignette_is_what_it_says_in_the_middle_and_at_the_corner():
    grey = np.full((108, 192, 4), 0.5, np.float32)
    out = vignetted(grey, VignetteNumbers((0.5, 0.5), 192 / 108, False, -1.0, 0.0, 1.0))
    assert out[54, 96, 0] == pytest.approx(0.5, abs=1e-3)
    far = np.hypot(191.5 - 96, 107.5 - 54) / np.hypot(96, 54)
    assert out[107, 191, 0] == pytest.approx(0.5 * 2 ** -(far**2 * (3 - 2 * far)), rel=2e-3)
    assert np.array_equal(out[..., 3], grey[..., 3])
    ring = [(54, 96 + 40), (54, 96 - 41), (54 - 41, 96), (54 + 40, 96)]
    assert np.ptp([out[y, x, 0] for y, x in ring]) < 2e-3  # round on the screen


def test_a_squeezed_frame_has_a_vignette_that_is_round_once_it_is_seen():
    grey = np.full((108, 96, 4), 0.5, np.float32)  # pixels twice as wide as high
    out = vignetted(grey, VignetteNumbers((0.5, 0.5), 192 / 108, False, -1.0, 0.0, 1.0))
    assert out[54, 48 + 20, 0] == pytest.approx(out[54 + 40, 48, 0], abs=3e-3)


def test_a_vignette_by_the_frame_follows_its_sides():
    grey = np.full((108, 192, 4), 0.5, np.float32)
    out = vignetted(grey, VignetteNumbers((0.5, 0.5), 192 / 108, True, -1.0, 0.5, 1.0))
    assert np.ptp(out[:, 0, 0]) < 1e-3
    assert np.ptp(out[0, :, 0]) < 1e-3
    assert out[54, 96, 0] == 0.5


@pytest.mark.parametrize(("stops", "seed"), [(-0.5, 1), (-1.0, 2), (0.0, 3)])
def test_the_falloff_of_a_plate_is_told_from_points_that_are_seen_twice(stops, seed):
    rng = np.random.default_rng(seed)
    here, there, change, group = [], [], [], []
    for pair in range(6):
        for _ in range(200):
            x, y = rng.uniform(-1, 1, 2) * (0.87, 0.49)
            dx, dy = (pair + 1) * 0.12, 0.02
            a, b = x * x + y * y, (x + dx) ** 2 + (y + dy) ** 2
            here.append(a)
            there.append(b)
            change.append(stops * (a - b) + 0.1 * pair + rng.normal(0, 0.05))
            group.append(pair)
    found = falloff_of(*(np.array(each) for each in (here, there, change, group)))
    assert abs(found.stops - stops) < 3 * found.give + 0.03
    assert found.give < 0.3


def test_points_that_stand_still_tell_no_falloff():
    at = np.linspace(0, 1, 500)
    assert falloff_of(at, at + 0.001, np.zeros(500), np.zeros(500)) is None


# --- local light ---
def test_a_local_light_is_exposure_white_and_saturation():
    picture = photo()
    cover = np.zeros(picture.shape[:2], np.float32)
    cover[:, 100:200] = 1
    out = lit(picture, cover, light_matrix(1.0, 4000.0, 1.0))
    assert np.array_equal(out[:, :100], picture[:, :100])
    wanted = 2 * picture[:, 100:200, :3] @ adaptation(4000.0, 0.0032).T  # Bradford, as in `match`
    assert np.allclose(out[:, 100:200, :3], wanted, atol=1e-4)
    half = lit(picture, cover, light_matrix(1.0, 4000.0, 1.0), np.full(picture.shape[:2], 0.5, np.float32))
    assert np.allclose(half, (out + picture) / 2, atol=1e-5)


def test_a_grey_local_light_keeps_luma():
    picture = photo()
    out = lit(picture, np.ones(picture.shape[:2], np.float32), light_matrix(0.0, 6504.0, 0.0))
    assert np.allclose(out[..., 0], picture[..., :3] @ (0.2126, 0.7152, 0.0722), atol=1e-4)  # BT.709-6, 3.2


# --- the frame ---
def test_a_crop_of_whole_pixels_is_handed_on_bit_for_bit():
    picture = photo()
    assert np.array_equal(resampled(picture, (10, 20, 110, 90), (100, 70)), picture[20:90, 10:110])


def test_a_smaller_frame_does_not_alias_and_keeps_the_mean():
    yy, xx = np.mgrid[:256, :256]
    picture = np.ones((256, 256, 4), np.float32)
    picture[..., :3] = (0.5 + 0.5 * ((xx + yy) % 2))[..., None]
    small = resampled(picture, (0, 0, 256, 256), (64, 64))
    assert np.abs(small[4:-4, 4:-4, :3] - 0.75).max() < 0.01


def test_resampling_is_keys_cubic_as_in_opencv():
    picture = photo()
    size = (picture.shape[1] * 2, picture.shape[0] * 2)
    ours = resampled(picture, (0, 0, picture.shape[1], picture.shape[0]), size)
    # reference: scikit-image's photograph through the kernel with a = -1/2 written out in float64
    row = np.pad(picture[100, :, 1].astype(float), 2, mode="edge")
    t = 0.25  # the first of the two new pixels lies a quarter beyond the one before
    w = [-0.5 * (1 + t) ** 3 + 2.5 * (1 + t) ** 2 - 4 * (1 + t) + 2, 1.5 * t**3 - 2.5 * t**2 + 1]
    w += [1.5 * (1 - t) ** 3 - 2.5 * (1 - t) ** 2 + 1, -0.5 * (2 - t) ** 3 + 2.5 * (2 - t) ** 2 - 4 * (2 - t) + 2]
    across = sum(w[k] * row[k + 1 : k + 1 + picture.shape[1]] for k in range(4))
    flat = resampled(picture[100:101].repeat(4, axis=0), (0, 0, picture.shape[1], 4), (size[0], 8))
    assert np.allclose(flat[4, 1::2, 1], across, atol=1e-5)
    assert ours.shape == (size[1], size[0], 4)


def test_what_lies_beyond_the_picture_is_opaque_black():
    picture = photo()
    out = resampled(
        picture, (-50.0, 0, picture.shape[1] - 50.0, picture.shape[0]), (picture.shape[1], picture.shape[0])
    )
    assert np.array_equal(out[:, 10], np.tile(np.array([0, 0, 0, 1], np.float32), (picture.shape[0], 1)))
    soft = resampled(picture, (-50.5, 0, picture.shape[1], picture.shape[0]), (300, 200))
    assert soft[100, 5, :3].max() == 0
    assert soft[100, 5, 3] == 1


@pytest.mark.parametrize(
    ("size", "pixel", "aspect", "box"),
    [
        ((1920, 1080), 1.0, 2.0, (0, 60, 1920, 1020)),
        ((1920, 1080), 1.0, 4 / 3, (240, 0, 1680, 1080)),
        ((1920, 1080), 1.0, 16 / 9, (0, 0, 1920, 1080)),
        ((960, 1080), 2.0, 2.0, (0, 60, 960, 1020)),  # squeezed
    ],
)
def test_bars_leave_the_ratio_open(size, pixel, aspect, box):
    assert bar_box(size, pixel, aspect) == box  # arithmetic of the ratio
    picture = np.full((size[1], size[0], 4), 0.5, np.float32)
    out = with_bars(picture, box)
    assert out[..., 0].sum() == pytest.approx(0.5 * (box[2] - box[0]) * (box[3] - box[1]))
    assert out[0, 0, 3] == (1 if box[0] or box[1] else 0.5)


def test_the_largest_frame_is_found_around_a_hole():
    solid = np.ones((180, 320), bool)
    solid[:, :32] = False
    x, y, tall = largest_frame(solid, 320 / 180)
    assert tall == pytest.approx(0.9, abs=0.01)
    assert (x, y) == (pytest.approx(0.55, abs=0.01), pytest.approx(0.5, abs=0.06))
    assert largest_frame(np.zeros((9, 16), bool), 16 / 9) is None


def test_words_are_burnt_into_the_foot_alone():
    picture = photo("rocket")
    out = burnt_in(picture, "SLT_0140", "1001", "v003")
    changed = np.argwhere((out != picture).any(axis=2))
    assert changed[:, 0].min() > 0.9 * picture.shape[0]
    thirds = changed[:, 1] * 3 // picture.shape[1]
    assert set(thirds) == {0, 1, 2}
    assert not np.array_equal(out, burnt_in(picture, "SLT_0140", "1002", "v003"))
