"""Frames, cache, jobs, readings."""

import threading

import numpy as np
import pytest

from graded import graded
from plates import offset_px
from stores import kept_pictures
from zonal_mantle.api import add_painting, open_shot, shot_from_plate
from zonal_mantle.comp import BACKINGS, VIEWS, Cancelled, Job, Look, Scheduler, compose, take_readings, view
from zonal_mantle.media import open_source
from zonal_mantle.media.memory import ByteCache
from zonal_mantle.media.still import write_still
from zonal_mantle.shot import Air, AirMatch, Keyed, LumaPull, Match, Matte, Placement


@pytest.fixture
def parts(plate_folder):
    painting = np.zeros((24, 32, 4), np.float32)
    painting[:] = (0.3, 0.2, 0.1, 0.5)
    write_still(plate_folder / "veil.exr", painting, "float")
    write_still(plate_folder / "sky.exr", np.full((48, 64, 3), 2.0, np.float32), "float")
    shot = shot_from_plate(open_source(plate_folder / "plate.%04d.exr", "plate"))
    return shot, plate_folder


def test_over_follows_porter_and_duff(parts):
    # published: Porter & Duff 1984, over: c = cA + (1 − αA) cB on premultiplied colour
    shot, folder = parts
    shot = add_painting(shot, open_source(folder / "veil.exr", "veil"), 10.0)
    zone = shot.zones[-1]
    shot = shot.with_zone(zone.but(match=Match(air=AirMatch(on=False))))
    out = compose(shot, 1004, kept_pictures())
    assert out[12, 16] == pytest.approx([0.3 + 0.5 * 0.4, 0.2 + 0.5 * 0.4, 0.1 + 0.5 * 0.4, 1.0], abs=1e-3)


def test_far_zones_lie_under_near_ones_whatever_their_place_in_the_list(parts):
    shot, folder = parts
    shot = add_painting(shot, open_source(folder / "sky.exr", "sky"), None)
    assert compose(shot, 1003, kept_pictures())[12, 16, 0] == pytest.approx(0.3, abs=1e-3)
    near = shot.with_zone(shot.zones[-1].but(distance_m=5.0, match=Match(air=AirMatch(on=False))))
    assert compose(near, 1003, kept_pictures())[12, 16, 0] == pytest.approx(2.0, abs=1e-3)


def test_a_matte_opens_the_plate_onto_the_sky(parts):
    shot, folder = parts
    shot = add_painting(shot, open_source(folder / "sky.exr", "sky"), None)
    pull = LumaPull(high=Keyed(constant=0.6), high_softness=Keyed(constant=0.0))
    shot = shot.with_zone_matte(shot.zones[0], Matte(pulls=(pull,)))
    store = kept_pictures()
    assert compose(shot, 1001, store)[12, 16, 0] == pytest.approx(0.1, abs=1e-3)  # 0.1 is 0.35 coded: stays
    assert compose(shot, 1005, store)[12, 16, 0] == pytest.approx(2.0, abs=1e-3)  # 0.5 is 0.74 coded: goes


def test_air_and_grade_reach_the_picture(parts):
    shot, folder = parts
    shot = add_painting(shot, open_source(folder / "sky.exr", "sky"), 1000.0)
    shot = shot.but(zones=shot.zones[1:], air=Air(visibility_m=1000, airlight=(0.5, 0.6, 0.7)))
    zone = shot.zones[0]
    doubled = graded(slope=(Keyed(constant=2.0), Keyed(constant=1.0), Keyed(constant=1.0)))
    out = compose(shot.with_zone(zone.but(match=doubled)), 1001, kept_pictures())
    assert out[12, 16, :3] == pytest.approx(
        [4 * 0.05 + 0.5 * 0.95, 2 * 0.05 + 0.6 * 0.95, 2 * 0.05 + 0.7 * 0.95], rel=1e-3
    )


def test_a_proxy_is_the_same_picture_smaller(demo):
    from zonal_mantle.api import open_shot

    session = open_shot(demo / "SLT_0140.shot.json")
    full, half = session.frame(1004), session.frame(1004, 0.5)
    assert half.shape == (180, 320, 4)
    mean = full.reshape(180, 2, 320, 2, 4).mean(axis=(1, 3))
    off = np.abs(np.clip(mean, 0, 1) - np.clip(half, 0, 1))
    assert np.percentile(off, [50, 95]) == pytest.approx([0, 0], abs=0.03)
    assert offset_px(half, mean) < 0.05


def test_front_to_back_equals_back_to_front(parts):
    # ground truth by the definition, zone by zone
    shot, folder = parts
    rng = np.random.default_rng(3)
    for k, distance in enumerate((10.0, 20.0, None)):
        alpha = rng.random((24, 32, 1), np.float32)
        picture = np.concatenate([rng.random((24, 32, 3), np.float32) * alpha, alpha], axis=2)
        write_still(folder / f"layer_{'abc'[k]}.exr", picture, "float")
        shot = add_painting(shot, open_source(folder / f"layer_{'abc'[k]}.exr", f"s{k}"), distance)
        shot = shot.with_zone(shot.zones[-1].but(match=Match(air=AirMatch(on=False))))
    shot = shot.but(zones=shot.zones[1:])
    store = kept_pictures()
    back = np.zeros((24, 32, 4), np.float32)
    for zone in reversed(shot.near_to_far()):
        top = compose(shot, 1001, store, 1.0, [zone])
        back = top + (1 - top[..., 3:]) * back
    assert np.abs(compose(shot, 1001, store) - back).max() < 1e-5


def test_no_view_ever_fails_on_an_extreme_plate(tmp_path):
    wild = np.array([[[np.nan, np.inf, -1.0], [1e9, 0, 0]]], np.float32)
    write_still(tmp_path / "wild.exr", np.tile(wild, (8, 8, 1)), "float")
    shot = shot_from_plate(open_source(tmp_path / "wild.exr", "plate"))
    shot = shot.with_zone_matte(shot.zones[0], Matte(pulls=(LumaPull(),)))
    store = kept_pictures()
    for name in VIEWS:
        assert view(shot, 1, name, None, store, 1.0, Look()).shape == (8, 16, 4)
    assert np.isfinite(compose(shot, 1, store)).all()


def test_alpha_apart_flags_what_is_out_of_range_and_lifts_what_is_between():
    from zonal_mantle.comp.views import show_matte

    alpha = np.array([[-0.1, 0.005, 0.02, 0.98, 0.995, 1.2]], np.float32)
    codes = show_matte(alpha, apart=True)[0].astype(int)
    assert codes[0, 0] > codes[0, 2]  # blue below 0
    assert codes[5, 2] > codes[5, 0]  # yellow above 1
    assert codes[1, 0] < 5  # empty stays black, solid white
    assert codes[4, 0] > 250
    assert codes[2, 0] > 50  # a trace of alpha and a faint hole can both be seen
    assert codes[3, 0] < 200
    assert show_matte(alpha)[0, 3, 0] == 250


def test_a_cut_out_lies_on_the_chosen_ground(parts):
    shot, folder = parts
    shot = add_painting(shot, open_source(folder / "sky.exr", "sky"), None)
    pull = LumaPull(high=Keyed(constant=0.0), high_softness=Keyed(constant=0.0))
    shot = shot.with_zone_matte(shot.zones[0], Matte(pulls=(pull,)))  # nothing stays
    shot = shot.but(zones=(shot.zones[0], shot.zones[1].but(match=graded(slope=(Keyed(constant=0.1),) * 3))))
    store = kept_pictures()
    shown = {
        ground: view(shot, 1001, "Cut-out", shot.zones[0].id, store, 1.0, Look(backing=ground))[12, 16, 0]
        for ground in BACKINGS
    }
    assert (shown["black"], shown["white"]) == (0, 255)
    assert shown["grey"] == pytest.approx(118, abs=1)  # published: 18 % grey is 117.6 in sRGB (IEC 61966-2-1)
    assert shown["new background"] == pytest.approx(124, abs=1)  # the sky, 0.2 linear


def test_coverage_names_the_frames_where_the_painting_runs_out(parts):
    shot, folder = parts
    shot = add_painting(shot, open_source(folder / "sky.exr", "sky"), None)
    from zonal_mantle.shot import Key

    slide = Keyed(keys=(Key(frame=1001, value=0, way="straight"), Key(frame=1005, value=40)))
    zone = shot.zones[-1]
    pull = LumaPull(high=Keyed(constant=0.0), high_softness=Keyed(constant=0.0))
    shot = shot.with_zone_matte(shot.zones[0], Matte(pulls=(pull,)))
    shot = shot.with_zone(zone.but(placement=Placement(x=slide)))
    reading = take_readings(shot, kept_pictures(), scale=1.0).coverage[zone.id]
    # 64 px wide over 32: 16 px to spare on either side; it moves 10 px a frame
    assert (reading.covered, reading.frames, reading.worst_frame) == (2, 5, 1005)
    assert reading.worst_share == pytest.approx(24 / 32, abs=0.05)


def test_a_missing_source_is_a_finding_not_a_crash(parts):
    shot, folder = parts
    (folder / "plate.1002.exr").unlink()
    readings = take_readings(shot, kept_pictures())
    assert [f.stage for f in readings.findings] == ["Source"]
    assert "1002" in readings.findings[0].words


def test_the_cache_stays_within_its_bounds():
    cache = ByteCache(1000)
    for k in range(10):
        cache.put(k, np.zeros(300, np.uint8))
    assert cache.used <= 1000
    assert cache.get(9) is not None
    assert cache.get(0) is None
    cache.put("huge", np.zeros(5000, np.uint8))
    assert "huge" not in cache


def test_a_cancelled_job_ends_with_nothing():
    began, ended = threading.Event(), []

    def work(job: Job) -> str:
        while True:
            began.set()
            job.progress(0.5)

    scheduler = Scheduler()
    job = scheduler.submit("job", Job(work, on_end=lambda result, error: ended.append((result, error))))
    assert began.wait(5)
    job.cancel()
    job.wait(5)
    assert ended == [(None, None)]
    with pytest.raises(Cancelled):
        job.progress(1.0)


def test_of_a_long_shot_some_frames_are_told_before_all(demo, monkeypatch):
    shot = open_shot(demo / "SLT_0140.shot.json").shot
    shot = shot.with_source(shot.plate_source.but(trim_last=shot.first + 5))
    monkeypatch.setattr("zonal_mantle.comp.all_readings.LEAST_FRAMES", 4)
    parts = []
    whole = take_readings(shot, kept_pictures(), part=parts.append)
    assert [(bool(each.grains), bool(each.mattes)) for each in parts] == [(False, False), (True, False), (True, True)]
    early, late = (next(iter(each.mattes.values())) for each in (parts[2], whole))
    assert 0 < early.soft <= late.soft  # the worst of some frames and of all
    assert early.chatter <= late.chatter
    monkeypatch.setattr("zonal_mantle.comp.all_readings.LEAST_FRAMES", 99)
    assert take_readings(shot, kept_pictures()).as_dict() == whole.as_dict()  # in whatever order they are read
