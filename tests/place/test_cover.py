"""Coverage against brute force; what covers; the clocks of sequences."""

import numpy as np
import pytest

from hung import SIZE, pan, shot_with, walk
from zonal_mantle.place import covering, opening, plate_places, read_coverage, warp, zone_seen
from zonal_mantle.place.coverage import rim_of, uncovered
from zonal_mantle.place.hands import flipped_in_place
from zonal_mantle.place.timing import source_frame
from zonal_mantle.place.transform import painting_to_frame
from zonal_mantle.shot import Corner, Dome, Keyed, Source, Timing


def case(seed: int):
    """A painting hung at random, and what is open on each frame."""
    chance = np.random.default_rng(seed)
    lock = [pan(12, chance.uniform(0, 12)), walk(12), None][seed % 3]
    placed = {
        "size": Keyed(constant=chance.uniform(0.5, 1.4)), "x": Keyed(constant=chance.uniform(-60, 60)),
        "y": Keyed(constant=chance.uniform(-40, 40)), "turn_deg": Keyed(constant=chance.uniform(-12, 12)),
        "width": Keyed(constant=chance.uniform(0.9, 1.2)),
    }  # fmt: skip
    if seed % 5 == 4:
        pins = chance.uniform(-70, 70, (4, 2)) + [[0, 0], [640, 0], [640, 360], [0, 360]]
        corners = tuple(Corner(x=Keyed(constant=float(x)), y=Keyed(constant=float(y))) for x, y in pins)
        placed = {"way": "corner pin", "pins": corners}
    elif seed % 7 == 6:
        placed = {"way": "dome", "dome": Dome(wide_deg=chance.uniform(40, 75))}
    shot = shot_with(lock, (900, 520), 12, 60.0 if seed % 3 == 1 else None, **placed)
    yy, xx = np.mgrid[0:90, 0:160]
    openings, masks = {}, {}
    for frame in shot.frames:
        horizon = 40 + 12 * np.sin(frame / 3 + seed) + 10 * np.sin(xx / 23 + seed)
        masks[frame] = ((yy < horizon) & (xx > chance.integers(0, 30))).astype(np.float32)
        openings[frame] = opening(masks[frame], 0.25)
    return shot, openings, masks


@pytest.mark.parametrize("seed", range(30))
def test_coverage_agrees_with_drawing_the_painting(seed):
    """The issue's floor: on every frame of 30 random cases. What is drawn is opaque inside the rim."""
    shot, openings, masks = case(seed)
    zone = shot.zones[0]
    reading = read_coverage(shot, zone, openings)
    scale = np.diag([0.25, 0.25, 1.0])
    short = []
    for frame in shot.frames:
        seen = zone_seen(shot, zone, frame)
        if seen.matrix is not None:
            drawn = warp(np.ones((520, 900, 3), np.float32), scale @ seen.matrix, (160, 90))[..., 3]
        else:  # place by place, by the definition
            centres = (np.stack(np.meshgrid(np.arange(160), np.arange(90)), axis=-1).reshape(-1, 2) + 0.5) * 4
            at = seen.back(centres)
            drawn = ((at >= 0) & (at <= [900, 520])).all(axis=1).reshape(90, 160).astype(np.float32)
        missing = (masks[frame] > 0) & (drawn < 0.5)
        if missing.sum():
            short.append((frame, int(missing.sum())))
    # a pixel whose centre lies on the rim itself may be told either way
    told, drawn_short = set(reading.short_on), {frame for frame, _ in short}
    if told - drawn_short:
        assert reading.worst_share < 2 / masks[shot.first].size
    assert {frame for frame, count in short if count > 1} <= told
    if abs(reading.margin_px) >= 1.0:
        assert (reading.margin_px < 0) == bool(told | drawn_short)


@pytest.mark.parametrize("seed", [0, 2, 3, 5, 8, 10, 11, 12])
def test_cover_moves_and_enlarges_no_more_than_needed(seed):
    shot, openings, _ = case(seed)
    zone = shot.zones[0]
    if zone.placement.way != "flat":
        with pytest.raises(ValueError, match="hangs by"):
            covering(shot, zone, openings)
        return
    placed = covering(shot, zone, openings)
    after = read_coverage(shot, zone.but(placement=placed), openings)
    assert after.covered == after.frames
    grown = placed.size.constant / zone.placement.size.constant
    if grown > 1 + 1e-9:  # a little less would not do
        tight = placed.but(size=placed.size.scaled(0.985))
        assert read_coverage(shot, zone.but(placement=tight), openings).covered < after.frames
    else:
        assert grown == pytest.approx(1)


def test_what_covers_already_stays():
    shot, openings, _ = case(0)
    zone = shot.zones[0].but(placement=shot.zones[0].placement.but(size=Keyed(constant=3.0)))
    assert read_coverage(shot, zone, openings).covered == 12
    assert covering(shot, zone, openings) == zone.placement


def test_the_largest_pixel_is_told():
    shot = shot_with(None, (900, 520), 3, size=Keyed(constant=1.6))
    whole = {frame: opening(np.ones((90, 160), np.float32), 0.25) for frame in shot.frames}
    reading = read_coverage(shot, shot.zones[0], whole)
    assert reading.enlarged == pytest.approx(1.6, rel=1e-6)
    assert reading.margin_px == pytest.approx((520 * 1.6 - 360) / 2 + 2, abs=0.1)


def test_a_cut_out_runs_out_only_where_its_rim_is_solid():
    alpha = np.zeros((40, 60), np.float32)
    alpha[20:] = 1  # a range: clear above, solid to its foot and sides
    shot = shot_with(None, (60, 40), 1)
    seen = zone_seen(shot, shot.zones[0], 1)
    missing = uncovered(seen, shot.zones[0], alpha, np.ones((360, 640), np.float32), 1.0)
    assert missing[:170].sum() == 0  # the painting lies in the middle of the frame
    assert missing[190, 20] == 1
    assert missing[300, 320] == 1
    reading = read_coverage(shot, shot.zones[0], {1: opening(np.ones((360, 640), np.float32), 1.0)}, rim_of(alpha))
    assert reading.worst_share == pytest.approx(float(missing.sum()) / missing.size, rel=1e-6)


def test_a_continued_rim_never_runs_out():
    shot, openings, _ = case(0)
    zone = shot.zones[0].but(placement=shot.zones[0].placement.but(size=Keyed(constant=0.3)))
    assert read_coverage(shot, zone, openings).covered < 12
    for rim in ("mirrored", "sky"):
        assert read_coverage(shot, zone.but(placement=zone.placement.but(rim=rim)), openings).covered == 12


def clip(first: int, last: int) -> Source:
    return Source(id="c", name="Clip", path="c.mov", kind="video", width=8, height=8, first=first, last=last)


@pytest.mark.parametrize(
    ("timing", "wanted"),
    [
        (Timing(), [1, 2, 3, 4, 4, 4, 4]),
        (Timing(start=3), [1, 1, 1, 2, 3, 4, 4]),
        (Timing(start=3, after="clear"), [None, None, 1, 2, 3, 4, None]),
        (Timing(after="loop"), [1, 2, 3, 4, 1, 2, 3]),
        (Timing(after="back and forth"), [1, 2, 3, 4, 3, 2, 1]),
        (Timing(start=1, speed=0.5), [1, 1, 2, 2, 3, 3, 4]),
        (Timing(start=1, speed=2), [1, 3, 4, 4, 4, 4, 4]),
        (Timing(start=1, speed=-1), [4, 3, 2, 1, 1, 1, 1]),
    ],
)
def test_a_clip_has_a_time_of_its_own(timing, wanted):
    assert [source_frame(timing, clip(1, 4), frame) for frame in range(1, 8)] == wanted


@pytest.mark.parametrize("seed", [0, 1, 2, 3])
def test_a_flip_for_the_light_covers_what_it_covered(seed):
    shot = shot_with(pan(4), (900, 520), 4, size=Keyed(constant=0.9), turn_deg=Keyed(constant=0.0),
                     anchor=(100.0 + 90 * seed, 80.0), x=Keyed(constant=20.0))  # fmt: skip
    zone = shot.zones[0]
    flipped = flipped_in_place(shot, zone)
    assert flipped.placement.flip_across
    corners = np.array([[0, 0], [900, 0], [900, 520], [0, 520]], float)
    before, after = (plate_places(shot, each, 3, corners) for each in (zone, flipped))
    assert after[[1, 0, 3, 2]] == pytest.approx(before, abs=1e-6)
    assert flipped_in_place(shot, flipped).placement.x.constant == pytest.approx(20)


def test_a_clip_that_is_over_covers_no_more():
    shot = shot_with(None, (900, 520), 6, size=Keyed(constant=3.0))
    shot = shot.with_source(clip(1, 4).but(id="sky", width=900, height=520))
    whole = {frame: opening(np.ones((90, 160), np.float32), 0.25) for frame in shot.frames}
    held = read_coverage(shot, shot.zones[0], whole)
    assert held.covered == 6
    over = read_coverage(shot, shot.zones[0].but(timing=Timing(after="clear")), whole)
    assert over.short_on == (5, 6)
    assert over.worst_share == pytest.approx(1)


def test_a_still_is_the_same_on_every_frame():
    still = clip(1, 1).but(kind="still")
    assert {source_frame(Timing(start=99, after="clear"), still, frame) for frame in range(1, 5)} == {1}


def test_the_frame_of_a_shot_is_its_own_matrix():
    shot = shot_with(pan(), (640, 360))
    assert painting_to_frame(shot, shot.zones[0], 1) == pytest.approx(np.eye(3))
    assert SIZE == (640, 360)
