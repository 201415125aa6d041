"""Horizons that meet over a shot, and where the light comes from."""

import cv2
import numpy as np
import pytest

from hung import FOCAL, K, pan, shot_with, walk
from zonal_mantle.geometry import carry
from zonal_mantle.place import met, plate_perspective
from zonal_mantle.place.horizon import read_horizons
from zonal_mantle.place.light import disagree, drawn_light, hand_light, sky_light
from zonal_mantle.place.perspective import height_at
from zonal_mantle.shot import Card, Dome, Keyed, Light, Line

LEVEL = Line(id="h", a=(20.0, 210.0), b=(600.0, 196.0), frame=1)
PAINTED = Line(id="p", a=(10.0, 400.0), b=(880.0, 430.0))


def drawn(shot, frame=1, line=LEVEL):
    """The shot with a horizon on the plate and one on the painting."""
    source = shot.sources[1].but(lines=(PAINTED,))
    rides = shot.locks[0].id if shot.locks else None
    return shot.with_source(source).but(lines=(line.but(frame=frame),), lines_ride=rides)


def test_the_plates_horizon_moves_with_the_lens():
    shot = drawn(shot_with(pan(), (900, 520)))
    for entry in shot.locks[0].solved[::7]:
        motion = np.array(entry.homography).reshape(3, 3)
        a, b = carry(motion, np.array([LEVEL.a, LEVEL.b]))
        line = plate_perspective(shot, entry.frame).horizon
        for x, y in (a, b):
            assert height_at(line, x) == pytest.approx(y, abs=1e-6)
    assert plate_perspective(shot, 1).focal_px == FOCAL


@pytest.mark.parametrize("way", ["flat", "corner pin", "card", "dome", "lens dome"])
def test_the_painting_meets_the_horizon_over_the_whole_shot(way):
    from zonal_mantle.place import converted

    shot = drawn(shot_with(walk() if way == "card" else pan(24, 10), (900, 520), size=Keyed(constant=0.8),
                           turn_deg=Keyed(constant=5), y=Keyed(constant=30)))  # fmt: skip
    if way == "dome":
        dome = Dome(wide_deg=80.0, tilt_deg=Keyed(constant=6))
        zone = shot.zones[0].but(placement=shot.zones[0].placement.but(way="dome", dome=dome))
    elif way == "lens dome":
        zone = converted(shot, shot.zones[0], "dome", 4).zone
    elif way == "card":
        card = Card(height_m=Keyed(constant=2e5))
        zone = shot.zones[0].but(placement=shot.zones[0].placement.but(way="card", card=card))
    else:
        zone = converted(shot, shot.zones[0], way, 4).zone
    before = read_horizons(shot.with_zone(zone), zone)
    assert abs(before.off_px) > 5
    new = met(shot, zone, 4)
    after = read_horizons(shot.with_zone(new), new)
    # a painted line across a lat-long dome is not a great circle: it meets at the middle, and bends away from there
    loose = way == "dome"
    assert abs(after.off_px) < (8 if loose else 0.05)
    assert abs(after.off_deg) < (2.5 if loose else 0.01)


def test_what_is_not_known_is_asked_for():
    shot = shot_with(pan(), (900, 520))
    with pytest.raises(ValueError, match="plate's horizon is not known"):
        met(shot, shot.zones[0], 1)
    with pytest.raises(ValueError, match="Painting view"):
        met(shot.but(lines=(LEVEL,)), shot.zones[0], 1)
    assert read_horizons(shot, shot.zones[0]) is None


def test_another_standpoint_is_told():
    shot = drawn(shot_with(pan(2, 0), (900, 520), 2))
    met_once = met(shot, shot.zones[0], 1)
    assert read_horizons(shot.with_zone(met_once), met_once).odd == ""
    high = PAINTED.but(a=(10.0, 60.0), b=(880.0, 60.0))
    other = shot.with_source(shot.sources[1].but(lines=(high,)))
    assert "another height" in read_horizons(other, other.zones[0]).odd


def test_vanishing_points_apart_are_told():
    lines = [
        Line(id="a", kind="first", a=(100.0, 100.0), b=(300.0, 160.0), frame=1),
        Line(id="b", kind="first", a=(100.0, 300.0), b=(300.0, 250.0), frame=1),
    ]
    shot = drawn(shot_with(pan(2, 0), (640, 360), 2))
    same = [line.but(id=f"{line.id}2") for line in lines]
    source = shot.sources[1].but(lines=(PAINTED.but(a=LEVEL.a, b=LEVEL.b), *same))
    shot = shot.but(lines=(LEVEL, *lines)).with_source(source)
    assert read_horizons(shot, shot.zones[0]).points_deg == pytest.approx(0, abs=1e-4)
    turned = shot.zones[0].but(placement=shot.zones[0].placement.but(x=Keyed(constant=80)))
    assert read_horizons(shot.with_zone(turned), turned).points_deg > 3


# --- light ---
def ball(sun: np.ndarray) -> np.ndarray:
    """A plain sky whose brightness grows toward a sun that is out of view. (h, w, 3)."""
    y, x = np.mgrid[0:120, 0:200]
    rays = np.stack([(x - 100) / 150, (y - 110) / 150, np.ones_like(x)], axis=-1)
    rays /= np.linalg.norm(rays, axis=-1, keepdims=True)
    angle = np.arccos(np.clip(rays @ sun, -1, 1))
    light = 0.3 + 0.5 * np.exp(-1.5 * angle)
    return (light[..., None] * [0.6, 0.8, 1.0]).astype(np.float32)


@pytest.mark.parametrize("bearing", [-70, -40, 40, 70])
@pytest.mark.parametrize("seed", [1, 2, 3])
def test_a_skys_brighter_side_is_where_its_sun_is(bearing, seed):
    a = np.radians(bearing)
    sky = ball(np.array([np.sin(a), -0.3, np.cos(a)]) / np.sqrt(1.09))
    chance = np.random.default_rng(seed)
    clouds = cv2.GaussianBlur(chance.random(sky.shape[:2]).astype(np.float32), (0, 0), 9)
    sky *= (1 + 1.5 * (clouds - clouds.mean()))[..., None]
    found = sky_light(sky)
    assert found.side == ("right" if bearing > 0 else "left")
    flipped = sky_light(np.ascontiguousarray(sky[:, ::-1]))
    assert flipped.side != found.side


def test_a_disc_is_found_where_it_is():
    sky = ball(np.array([0.0, -0.3, 1.0]) / np.sqrt(1.09))
    cv2.circle(sky, (152, 40), 3, (60.0, 55.0, 45.0), -1)
    found = sky_light(sky)
    assert found.how == "disc"
    assert found.place == pytest.approx((152.5, 40.5), abs=1.5)
    assert found.side == "right"
    around = np.zeros((128, 256, 3), np.float32) + 0.2
    cv2.circle(around, (200, 40), 2, (90.0, 80.0, 70.0), -1)
    assert sky_light(around, around=True).bearing_deg == pytest.approx((200.5 - 128) / 256 * 360, abs=2)


def test_an_even_sky_tells_nothing():
    assert sky_light(np.full((90, 160, 3), 0.5, np.float32)) is None


@pytest.mark.parametrize("bearing", [-150, -90, -35, 0, 20, 60, 120, 175])
def test_a_shadow_on_the_ground_tells_its_suns_bearing(bearing):
    """A post on level ground, its shadow projected by a camera of known height and pitch."""
    a, pitch = np.radians(bearing), np.radians(-6)
    turn = cv2.Rodrigues(np.array([pitch, 0, 0]))[0]
    foot = np.array([0.5, 1.7, 9.0])
    tip = foot - 2.5 * np.array([np.sin(a), 0, np.cos(a)])
    seen = [(K @ turn @ p)[:2] / (K @ turn @ p)[2] for p in (foot, tip)]
    normal = turn @ [0, 1, 0]
    horizon = np.linalg.inv(K).T @ normal
    light = Light(a=tuple(seen[0]), b=tuple(seen[1]), frame=1)
    found = drawn_light(light, (640, 360), horizon / np.hypot(*horizon[:2]), FOCAL)
    assert (found.bearing_deg - bearing + 180) % 360 - 180 == pytest.approx(0, abs=0.5)
    rough = drawn_light(light, (640, 360))
    if abs(bearing) not in (0, 175):
        assert rough.side == found.side


def test_sides_agree_or_not():
    left, right = (hand_light((x, 10.0), (200, 100), False) for x in (10.0, 190.0))
    assert disagree(left, right)
    assert not disagree(left, left)
    assert not disagree(left, hand_light((100.0, 10.0), (200, 100), False))
    arrow = Light(kind="edge", a=(100.0, 50.0), b=(60.0, 50.0), frame=1)
    assert drawn_light(arrow, (640, 360)).side == "left"
