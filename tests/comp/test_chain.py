"""The fused chain against the same chain written plainly in NumPy: pull, shapes, grade, air, over."""

from pathlib import Path

import numpy as np
import pytest

from zonal_mantle.api import add_painting, shot_from_plate
from zonal_mantle.comp import Pictures, compose
from zonal_mantle.match import add_air, cdl, transmittance
from zonal_mantle.matte.shapes import shape_alpha
from zonal_mantle.media import open_source, read_frame
from zonal_mantle.media.curves import srgb_encode
from zonal_mantle.media.still import write_still
from zonal_mantle.place import flat_to_reference, warp
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
    return Match(
        slope=tuple(value(v) for v in rng.uniform(0.6, 1.5, 3)),
        offset=tuple(value(v) for v in rng.uniform(0.0, 0.1, 3)),
        power=tuple(value(v) for v in (rng.uniform(0.7, 1.4, 3) if power else np.ones(3))),
        saturation=value(rng.uniform(0.2, 1.6)),
    )


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
            layer = warp(read_frame(source, source.start), matrix, shot.size)
        alpha = layer[..., 3].astype(np.float64)
        colour = layer[..., :3] / np.maximum(alpha, 1e-6)[..., None]
        slope, offset, power = (
            [part.at(frame) for part in t] for t in (zone.match.slope, zone.match.offset, zone.match.power)
        )
        colour = cdl(colour, slope, offset, power, zone.match.saturation.at(frame)) * alpha[..., None]
        share = transmittance(zone.distance_m, shot.air.visibility_m) if zone.match.air else 1.0
        colour = add_air(np.maximum(colour, 0), alpha, share, shot.air.airlight)
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


@pytest.mark.parametrize("seed", range(4))
def test_a_shot_of_three_zones_comes_out_as_written_plainly(folder, seed):
    # published: Porter & Duff 1984 (over), ASC CDL 1.2, Koschmieder 1924 (air), each by its own plain function
    rng = np.random.default_rng(seed)
    shot = shot_from_plate(open_source(folder / "plate.%04d.exr", "plate"))
    for name, distance in (("range", 900.0), ("sky", None)):
        shot = add_painting(shot, open_source(folder / f"{name}.exr", name), distance)
        placement = Placement(
            size=value(rng.uniform(0.9, 1.4)), turn_deg=value(rng.uniform(-9, 9)), x=value(rng.uniform(-9, 9)),
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


def test_a_negative_grade_leaves_no_negative_light(folder):
    shot = shot_from_plate(open_source(folder / "plate.%04d.exr", "plate"))
    dark = Match(offset=(value(-0.5), value(-0.5), value(-0.5)), air=False)
    out = compose(shot.with_zone(shot.zones[0].but(match=dark)), 1001, Pictures())
    assert out.min() == 0
    assert out[..., 3].min() == 1
