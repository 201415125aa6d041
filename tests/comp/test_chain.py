"""The fused chain against the same chain written plainly in NumPy: pull, shapes, grade, air, over."""

from pathlib import Path

import numpy as np
import OpenEXR
import pytest

from graded import graded
from zonal_mantle.api import add_painting, shot_from_plate
from zonal_mantle.comp import Pictures, compose
from zonal_mantle.match import add_air, cdl, transmittance
from zonal_mantle.matte import remove_old_sky
from zonal_mantle.matte.shapes import shape_alpha
from zonal_mantle.media import open_source, read_frame
from zonal_mantle.media.curves import srgb_encode
from zonal_mantle.media.still import write_still
from zonal_mantle.place import flat_to_reference
from zonal_mantle.render import RenderPlan, render
from zonal_mantle.shot import Air, Keyed, LumaPull, Match, Matte, Placement, Shape, ShapeKey

SIZE = (203, 117)  # odd on purpose: rows and stretches do not divide evenly


def value(number: float) -> Keyed:
    return Keyed(constant=number)


@pytest.fixture
def folder(tmp_path: Path) -> Path:
    rng = np.random.default_rng(8)
    plate = rng.uniform(0, 1, (SIZE[1], SIZE[0], 3)).astype(np.float32)
    write_still(tmp_path / "plate.1001.exr", plate, "float")
    painting = rng.uniform(0, 1, (160, 300, 4)).astype(np.float32)
    painting[..., 3] = 0.4 + 0.6 * painting[..., 3]
    painting[..., :3] *= painting[..., 3:]
    write_still(tmp_path / "range.exr", painting, "float")
    write_still(tmp_path / "sky.exr", rng.uniform(0, 4, (200, 320, 3)).astype(np.float32), "float")
    return tmp_path


def random_match(rng: np.random.Generator, power: bool) -> Match:
    return graded(
        slope=tuple(value(v) for v in rng.uniform(0.6, 1.5, 3)),
        offset=tuple(value(v) for v in rng.uniform(0.0, 0.1, 3)),
        power=tuple(value(v) for v in (rng.uniform(0.7, 1.4, 3) if power else np.ones(3))),
        saturation=value(rng.uniform(0.2, 1.6)),
    )


def keys_cubic(picture: np.ndarray, matrix: np.ndarray) -> np.ndarray:
    """A painting through a homography by Keys 1981 (a = −1/2), clear outside, no light below 0."""
    picture = picture if picture.shape[2] == 4 else np.dstack([picture, np.ones(picture.shape[:2])])
    y, x = np.mgrid[0 : SIZE[1], 0 : SIZE[0]] + 0.5
    u, v, w = (row[0] * x + row[1] * y + row[2] for row in np.linalg.inv(matrix))
    u, v = u / w - 0.5, v / w - 0.5

    def weight(distance: np.ndarray) -> np.ndarray:
        d = np.abs(distance)
        return np.where(d <= 1, 1.5 * d**3 - 2.5 * d**2 + 1, np.where(d < 2, -0.5 * d**3 + 2.5 * d**2 - 4 * d + 2, 0))

    wide = np.pad(picture.astype(np.float64), ((3, 3), (3, 3), (0, 0)))
    out = np.zeros((*x.shape, 4))
    first_u, first_v = np.floor(u).astype(int), np.floor(v).astype(int)
    for j in range(-1, 3):
        for i in range(-1, 3):
            at_u = np.clip(first_u + i + 3, 0, wide.shape[1] - 1)
            at_v = np.clip(first_v + j + 3, 0, wide.shape[0] - 1)
            share = weight(u - first_u - i) * weight(v - first_v - j)
            out += share[..., None] * wide[at_v, at_u]
    out = np.maximum(out, 0)
    out[..., 3] = np.minimum(out[..., 3], 1)
    return out


def plainly(shot, frame: int) -> np.ndarray:
    """Far to near, one step after another, nothing fused."""
    plate = read_frame(shot.plate_source, frame)[..., :3]
    out = np.zeros((*plate.shape[:2], 4))
    for zone in reversed(shot.near_to_far()):
        source = shot.source(zone.source)
        if shot.holds_plate(zone):
            layer = np.concatenate([plate, np.ones((*plate.shape[:2], 1))], axis=2)
        else:
            matrix = flat_to_reference(zone.placement, frame, (source.width, source.height), shot.size)
            layer = keys_cubic(read_frame(source, source.start), matrix)
        alpha = layer[..., 3].astype(np.float64)
        colour = layer[..., :3] / np.maximum(alpha, 1e-6)[..., None]
        slope, offset, power = (
            [part.at(frame) for part in t]
            for t in (zone.match.tone.cdl.slope, zone.match.tone.cdl.offset, zone.match.tone.cdl.power)
        )
        colour = cdl(colour, slope, offset, power, zone.match.tone.cdl.saturation.at(frame)) * alpha[..., None]
        share = transmittance(zone.distance_m, shot.air.visibility_m) if zone.match.air.on else 1.0
        colour = add_air(colour, alpha, share, shot.air.airlight)
        cover = plain_matte(shot.matte_of(zone), plate, frame) if zone.matte.on else np.ones(alpha.shape)
        out[..., :3] = colour * cover[..., None] + out[..., :3] * (1 - alpha * cover)[..., None]
        out[..., 3] = alpha * cover + out[..., 3] * (1 - alpha * cover)
    return out


def plain_matte(matte: Matte, plate: np.ndarray, frame: int) -> np.ndarray:
    pull = matte.pulls[0]
    level = srgb_encode(plate) @ np.array(pull.weights)
    alpha = 1 - np.clip((level - pull.high.at(frame)) / pull.high_softness.at(frame), 0, 1)
    for shape in matte.shapes:
        cover = shape_alpha(shape, frame, SIZE).astype(np.float64)
        alpha = alpha + (1 - alpha) * cover if shape.mode == "keep" else alpha * (1 - cover)
    return alpha


def test_the_untouched_plate_passes_to_the_bit_also_below_zero_and_to_float_and_half_exr(tmp_path):
    rng = np.random.default_rng(3)
    plate = rng.normal(0.1, 0.2, (SIZE[1], SIZE[0], 3)).astype(np.float32)  # wide gamut: rightly negative in Rec. 709
    write_still(tmp_path / "plate.1001.exr", plate, "float")
    shot = shot_from_plate(open_source(tmp_path / "plate.%04d.exr", "plate"))
    assert np.array_equal(compose(shot, 1001, Pictures())[..., :3], plate)
    for depth, expected in (("float", plate), ("half", plate.astype(np.float16).astype(np.float32))):
        out = render(shot, RenderPlan(tmp_path / depth, depth=depth))[0]
        # reference library: OpenEXR's own bindings read it back; NumPy rounds to the nearest half
        assert np.array_equal(exr_pixels(out), expected)


def exr_pixels(path: Path) -> np.ndarray:
    with OpenEXR.File(str(path), separate_channels=True) as file:
        channels = file.channels()
        return np.stack([channels[c].pixels.astype(np.float32) for c in "RGB"], axis=2)


def test_a_plate_without_its_old_sky_keeps_what_is_below_zero():
    pixels = np.full((8, 8, 3), (-0.03, 0.2, 0.1), np.float32)
    out = remove_old_sky(pixels, np.ones((8, 8), np.float32), sky=np.full((8, 8, 3), 0.5, np.float32))
    assert np.array_equal(out[..., :3], pixels)


@pytest.mark.parametrize("seed", range(4))
def test_a_shot_of_three_zones_comes_out_as_written_plainly(folder, seed):
    # published: Porter & Duff 1984 (over), ASC CDL 1.2, Koschmieder 1924 (air), each by its own plain function
    rng = np.random.default_rng(seed)
    shot = shot_from_plate(open_source(folder / "plate.%04d.exr", "plate"))
    for name, distance in (("range", 900.0), ("sky", None)):
        shot = add_painting(shot, open_source(folder / f"{name}.exr", name), distance)
        placement = Placement(
            size=value(rng.uniform(1.0, 1.4)), turn_deg=value(rng.uniform(-9, 9)), x=value(rng.uniform(-9, 9)),
            y=value(rng.uniform(-9, 9)), flip_across=bool(seed % 2),
        )  # fmt: skip
        shot = shot.with_zone(shot.zones[-1].but(placement=placement, match=random_match(rng, seed > 1)))
    points = tuple((float(x), float(y)) for x, y in rng.uniform(10, 100, (5, 2)))
    keep = Shape(id="k", name="k", mode="keep", keys=(ShapeKey(frame=1001, points=points),), feather_in_px=2.5)
    drop = Shape(id="d", name="d", mode="drop", keys=(ShapeKey(frame=1001, points=((150, 20), (190, 30), (160, 99))),))
    pull = LumaPull(high=value(0.6), high_softness=value(0.2))
    matte = Matte(pulls=(pull,), shapes=(keep, drop))
    plate = shot.zones[0].but(match=random_match(rng, seed > 1), distance_m=80.0)
    shot = shot.with_zone_matte(plate, matte).but(air=Air(visibility_m=3000, airlight=(0.5, 0.55, 0.6)))
    difference = np.abs(compose(shot, 1001, Pictures()) - plainly(shot, 1001))
    assert difference.max() < 2e-4
    assert difference.mean() < 1e-5


def test_a_negative_grade_goes_below_zero_as_the_formula_says(folder):
    shot = shot_from_plate(open_source(folder / "plate.%04d.exr", "plate"))
    dark = graded(offset=(value(-0.5), value(-0.5), value(-0.5)), air=False)
    out = compose(shot.with_zone(shot.zones[0].but(match=dark)), 1001, Pictures())
    assert out[..., :3] == pytest.approx(read_frame(shot.plate_source, 1001) - 0.5, abs=1e-6)
    assert out[..., 3].min() == 1
