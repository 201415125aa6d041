"""What cannot hang as it is set up is named at the stage, with what happens instead."""

import numpy as np
import pytest

from hung import pan, shot_with, walk
from zonal_mantle.comp import Pictures
from zonal_mantle.comp.readings_place import PlaceReading, painting_light, place_words, source_light, trouble_of
from zonal_mantle.place import zone_seen
from zonal_mantle.place.coverage import CoverageReading
from zonal_mantle.place.light import hand_light
from zonal_mantle.shot import Corner, Dome, Keyed, Source, Timing


def troubled(lock, size, **placed):
    shot = shot_with(lock, size, **placed)
    return trouble_of(shot, shot.zones[0])


def test_corners_that_cannot_be_are_named_and_still_seen():
    pins = tuple(Corner(x=Keyed(constant=float(x)), y=Keyed(constant=float(y)))
                 for x, y in ((0, 0), (100, 100), (100, 0), (0, 100)))  # fmt: skip
    assert "cross or fold" in troubled(pan(), (300, 200), way="corner pin", pins=pins)
    shot = shot_with(pan(), (300, 200), way="corner pin", pins=pins)
    at = zone_seen(shot, shot.zones[0], 1).back(np.array([[50.0, 50.0]]))
    assert np.isfinite(at).all()  # as a small square about their middle


@pytest.mark.parametrize(
    ("lock", "size", "placed", "words"),
    [
        (pan(), (2000, 900), {"way": "dome"}, "2:1"),
        (pan(), (2000, 900), {"way": "dome", "dome": Dome(wide_deg=120.0)}, ""),
        (None, (2000, 1000), {"way": "dome"}, "lens of a pan or camera lock"),
        (pan(), (2000, 1000), {"way": "dome"}, ""),
        (pan(), (300, 200), {"way": "card"}, "camera lock"),
        (walk(), (300, 200), {"way": "card"}, ""),
        (pan(), (300, 200), {}, ""),
    ],
)
def test_each_way_says_what_it_lacks(lock, size, placed, words):
    found = troubled(lock, size, **placed)
    assert words in found
    assert bool(found) == bool(words)


def test_a_clip_shorter_than_the_shot_says_what_is_seen_instead():
    shot = shot_with(None, (64, 36))
    clip = Source(id="sky", name="Clouds", path="c.mov", kind="video", width=64, height=36, last=9)
    shot = shot.with_source(clip)
    assert "its last frame is held" in trouble_of(shot, shot.zones[0])
    assert "nothing is shown" in trouble_of(shot, shot.zones[0].but(timing=Timing(after="clear")))
    assert trouble_of(shot, shot.zones[0].but(timing=Timing(after="loop"))) == ""


def test_findings_are_told_in_words():
    zone = shot_with(None, (64, 36)).zones[0]
    cover = CoverageReading(20, 24, 7, 0.02, -12.0, 7, 1.3, 9, (7,))
    left, right = hand_light((2.0, 5.0), (64, 36), False), hand_light((62.0, 5.0), (64, 36), False)
    found = place_words(zone, PlaceReading(cover, None, left, right, "Something is odd."))
    assert [frame for frame, _, _ in found] == [7, 9, 7, 7]
    assert "runs out on 4 of 24 frames" in found[0][1]
    assert "130%" in found[1][1]
    assert found[2][2] == "light"
    assert found[3][1] == "Something is odd."
    assert place_words(zone, PlaceReading(CoverageReading(24, 24, 1, 0.0, 4.0, 1, 0.9, 1))) == []


def test_a_pointed_out_sun_hangs_with_its_painting():
    shot = shot_with(None, (640, 360))
    source = shot.source("sky").but(sun=(600.0, 40.0))
    shot = shot.with_source(source)
    store = Pictures()
    assert source_light(source, store).side == "right"
    assert painting_light(shot, shot.zones[0], store).side == "right"
    flipped = shot.zones[0].but(placement=shot.zones[0].placement.but(flip_across=True))
    assert painting_light(shot, flipped, store).side == "left"
    dome = shot_with(pan(), (720, 360), way="dome", dome=Dome(turn_deg=Keyed(constant=30.0)))
    source = dome.source("sky").but(sun=(720 * (0.5 + 40 / 360), 100.0))
    dome = dome.with_source(source)
    assert painting_light(dome, dome.zones[0], store).bearing_deg == pytest.approx(70)
