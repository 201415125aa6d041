"""What is measured on a plate between black borders is what is measured without them."""

import cv2
import numpy as np
import pytest
from skimage import data

from zonal_mantle.api import new
from zonal_mantle.comp.aim import kept_mask, within_borders
from zonal_mantle.media.curves import srgb_decode
from zonal_mantle.media.still import write_still
from zonal_mantle.shot import Keyed, LumaPull, Matte

WIDTH, HEIGHT, BAR = 480, 300, 40


def linear(picture):
    return srgb_decode(picture.astype(np.float64) / 255).astype(np.float32)


def plate():
    """Gravel before a bright sky whose light spills over its rim, in haze. Scene-linear."""
    rng = np.random.default_rng(4)
    x = np.arange(WIDTH)
    horizon = 130 + 25 * np.sin(x / 37) + 12 * np.sin(x / 11 + 1)
    ground = np.clip(np.arange(HEIGHT)[:, None] - horizon + 0.5, 0, 1).astype(np.float32)
    sky = np.array((0.55, 0.65, 0.8), np.float32)
    own = np.repeat(linear(data.gravel())[:HEIGHT, :WIDTH, None], 3, axis=2) * np.array((0.5, 0.42, 0.3), np.float32)
    spill = 0.35 * cv2.GaussianBlur(1 - ground, (0, 0), 6)[..., None]
    seen = 0.8 * own + 0.12 + spill * sky
    seen = ground[..., None] * seen + (1 - ground[..., None]) * sky
    return (seen + rng.normal(0, 0.002, seen.shape)).astype(np.float32)


def filmed(folder, barred):
    picture = plate()
    if barred:
        picture[:BAR] = picture[-BAR:] = 0
    for frame in (1001, 1002, 1003):
        write_still(folder / f"p.{frame}.exr", picture, "half", "zip")
    write_still(folder / "element.exr", linear(data.coffee()), "half", "zip")
    session = new(folder / "p.1001.exr")
    matte = Matte(id="m", name="Ground", pulls=(LumaPull(high=Keyed(constant=0.62)),))
    session.shot = session.shot.with_zone_matte(session.shot.zones[0], matte)
    session.shot = session.shot.with_zone(session.shot.zones[0].but(distance_m=80.0))
    session.add_painting(folder / "element.exr", 60.0)
    return session


@pytest.fixture(scope="module")
def whole(tmp_path_factory):
    return filmed(tmp_path_factory.mktemp("whole"), False)


@pytest.fixture(scope="module")
def barred(tmp_path_factory):
    return filmed(tmp_path_factory.mktemp("barred"), True)


def test_a_border_is_no_part_of_what_is_kept(whole, barred):
    kept, left = (kept_mask(each.shot, each.shot.zones[0], 1002, each.store) for each in (whole, barred))
    assert kept[-BAR:].mean() > 0.95
    assert not left[-BAR:].any()
    assert not left[:BAR].any()
    assert np.array_equal(kept[BAR + 4 : -BAR - 4], left[BAR + 4 : -BAR - 4])
    rows, columns = within_borders(barred.plate(1002))
    assert BAR <= rows.start <= BAR + 4
    assert columns == slice(0, WIDTH)
    assert within_borders(whole.plate(1002)) == (slice(0, HEIGHT), slice(0, WIDTH))


@pytest.mark.parametrize(
    ("part", "near"),
    [
        ("tone", {"moved_stops": 0.15, "contrast": 0.12}),
        ("wrap", {"amount": 0.06}),
        ("air", {"airlight_g": 0.05, "visibility_m": 150.0}),
    ],
)
def test_fits_do_not_take_a_border_for_the_plate(whole, barred, part, near):
    """A rim of black told surely that no light spills; its black was the plate's darkest."""
    ours, theirs = (each.fit(each.shot.zones[-1].id, part).values for each in (barred, whole))
    for name, within in near.items():
        assert ours[name] == pytest.approx(theirs[name], abs=within), name
    if part == "wrap":
        assert ours["amount"] > 0.2
        assert ours["lines"] <= theirs["lines"]
