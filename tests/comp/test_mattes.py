"""Mattes within a shot: shared, riding, clean plates, trouble, readings."""

from pathlib import Path

import numpy as np
import pytest
from scipy import ndimage

from plates import tree_line
from stores import kept_pictures
from zonal_mantle.api import Session, add_painting, new, open_shot, shot_from_plate
from zonal_mantle.comp import compose, take_readings
from zonal_mantle.comp.readings_matte import MatteTally, faulty_pixels
from zonal_mantle.matte import MatteError, chatter, feed_of, halo
from zonal_mantle.media import open_source
from zonal_mantle.media.still import read_still, write_still
from zonal_mantle.shot import (
    ClearSkyPull,
    ColourPull,
    DifferencePull,
    Edge,
    Keyed,
    Levels,
    Lock,
    LockFrame,
    LumaPull,
    Matte,
    OldSky,
    Shape,
    rectangle_key,
)


@pytest.fixture
def leaves(tmp_path: Path) -> Session:
    plate = tree_line(3, (384, 216))
    for frame in (1, 2, 3):
        write_still(tmp_path / f"plate.{frame:04d}.exr", plate.pixels, "half", "zip")
    write_still(tmp_path / "new.exr", plate.background, "half", "zip")
    session = new(tmp_path / "plate.0001.exr")
    session.add_painting(tmp_path / "new.exr")
    session.truth = plate
    return session


def cut(session: Session, matte: Matte) -> Session:
    session.shot = session.shot.with_zone_matte(session.shot.zones[0], matte)
    return session


def test_a_clear_sky_matte_reaches_the_picture_without_the_old_sky(leaves):
    from plates import codes, edge_band

    picture = cut(leaves, Matte(pulls=(ClearSkyPull(finds="surface"),))).frame(1)
    band = edge_band(leaves.truth.alpha)
    ours = np.sqrt(((codes(picture) - codes(leaves.truth.finished))[band] ** 2).mean())
    kept = cut(leaves, Matte(pulls=(ClearSkyPull(finds="surface"),), old_sky=OldSky(on=False))).frame(1)
    assert ours < 6.0
    assert np.sqrt(((codes(kept) - codes(leaves.truth.finished))[band] ** 2).mean()) > 2 * ours
    assert picture[..., 3].min() > 0.999


def test_one_matte_cuts_several_zones(leaves):
    cut(leaves, Matte(pulls=(ClearSkyPull(finds="surface"),)))
    second = leaves.shot.zones[0].but(id="zone9", name="Again", distance_m=900.0)
    leaves.shot = leaves.shot.with_zone(second)
    a, b = (leaves.matte(zone, 1) for zone in ("zone1", "zone9"))
    assert np.array_equal(a, b)
    leaves.shot = leaves.shot.with_matte(leaves.shot.mattes[0].but(levels=Levels(white=Keyed(constant=0.5))))
    assert leaves.matte("zone9", 1).mean() > b.mean()


@pytest.mark.parametrize(
    ("pull", "words"),
    [
        (ColourPull(), "no sample yet"),
        (DifferencePull(), "no clean plate"),
        (ClearSkyPull(), "No sky was found"),
    ],
)
def test_a_pull_that_cannot_be_made_says_so_shows_the_plate_and_renders(tmp_path, pull, words):
    rough = np.random.default_rng(1).standard_normal((180, 240, 3), np.float32)
    blotches = [
        ndimage.zoom(rough[:h, :w], (180 // h, 240 // w, 1), order=0) for h, w in ((180, 240), (45, 60), (18, 24))
    ]
    rough = np.clip(0.5 + 0.25 * sum(blotches), 0, 1).astype(np.float32)
    write_still(tmp_path / "rough.exr", rough, "float")
    shot = shot_from_plate(open_source(tmp_path / "rough.exr", "plate"))
    shot = shot.with_zone_matte(shot.zones[0], Matte(pulls=(pull,)))
    store = kept_pictures()
    picture = compose(shot, 1, store)
    assert np.isfinite(picture).all()
    assert np.abs(picture[..., 3] - 1).max() == 0
    session = Session(shot)
    with pytest.raises(MatteError, match=words):
        session.matte("zone1", 1)
    finding = next(f for f in take_readings(shot, store).findings if f.stage == "Matte")
    assert words in finding.words
    assert finding.frame == 1


def test_a_plate_with_nan_and_infinity_is_cut_without_them(tmp_path):
    plate = tree_line(2, (256, 144)).pixels.copy()
    plate[100:103, 50:60] = np.nan
    plate[10, 10] = np.inf
    write_still(tmp_path / "wild.exr", plate, "float")
    session = new(tmp_path / "wild.exr")
    for pull in (ClearSkyPull(), LumaPull(), ColourPull(samples=({"colour": (0.6, 0.6, 0.6)},))):
        cut(session, Matte(pulls=(pull,), edge=Edge(grow_px=Keyed(constant=0.7), holes_px2=20)))
        assert np.isfinite(session.frame(1)).all()
        assert np.isfinite(session.matte("zone1", 1)).all()


def test_a_plate_darker_than_the_thresholds_is_all_kept_or_all_gone(tmp_path):
    write_still(tmp_path / "dark.exr", np.full((60, 80, 3), 1e-4, np.float32), "float")
    session = cut(new(tmp_path / "dark.exr"), Matte(pulls=(LumaPull(),)))
    assert session.matte("zone1", 1).min() == 1
    cut(session, Matte(pulls=(LumaPull(low=Keyed(constant=0.5)),)))
    assert session.matte("zone1", 1).max() == 0
    assert np.isfinite(session.frame(1)).all()


def test_a_clean_plate_that_rides_on_a_lock_is_in_place(tmp_path):
    rng = np.random.default_rng(3)
    import cv2

    wide = cv2.GaussianBlur(rng.uniform(0, 1, (80, 140, 3)).astype(np.float32), (0, 0), 2.0)
    for frame in (1, 2):
        plate = wide[10:70, 10 + 4 * (frame - 1) : 110 + 4 * (frame - 1)].copy()
        plate[20:40, 40:60] = 0.9
        write_still(tmp_path / f"plate.{frame:04d}.exr", plate, "float")
    write_still(tmp_path / "clean.exr", wide[10:70, 10:110], "float")
    session = new(tmp_path / "plate.0001.exr")
    source = open_source(tmp_path / "clean.exr", "clean")
    entries = tuple(
        LockFrame(frame=f, homography=(1, 0, -4.0 * (f - 1), 0, 1, 0, 0, 0, 1), marks=((5, 5),)) for f in (1, 2)
    )
    lock = Lock(id="pan", name="Pan", reference_frame=1, solved=entries)
    session.shot = session.shot.with_source(source).with_lock(lock)
    cut(session, Matte(pulls=(DifferencePull(clean="clean", rides="pan"),)))
    for frame in (1, 2):
        alpha = session.matte("zone1", frame)
        assert alpha[25:35, 45:55].min() > 0.9
        assert alpha[5:15, 5:85].max() < 0.02
    cut(session, Matte(pulls=(DifferencePull(clean="clean"),)))
    assert session.matte("zone1", 2)[5:15, 5:85].mean() > 0.02  # without the lock it slides


def test_the_cache_knows_a_matte_by_all_it_depends_on(leaves):
    lock = Lock(
        id="l", name="L", reference_frame=1, solved=(LockFrame(frame=1, homography=(1, 0, 0, 0, 1, 0, 0, 0, 1)),)
    )
    shape = Shape(id="s", mode="drop", keys=(rectangle_key(1, (0, 0), (100, 216)),), rides="l")
    leaves.shot = leaves.shot.with_lock(lock)
    before = cut(leaves, Matte(shapes=(shape,))).matte("zone1", 1)
    moved = lock.but(solved=(LockFrame(frame=1, homography=(1, 0, 50, 0, 1, 0, 0, 0, 1)),))
    leaves.shot = leaves.shot.with_lock(moved)
    after = leaves.matte("zone1", 1)
    assert before[50, 20] == 0
    assert after[50, 20] == 1
    assert after[50, 120] == 0


def test_a_pale_fringe_is_measured_and_found(leaves):
    plate = leaves.truth
    kept = halo(plate.pixels, plate.alpha)
    true = np.dstack([plate.foreground, plate.alpha])
    cleared = halo(plate.pixels, plate.alpha, true)
    assert kept > 20
    assert abs(cleared) < kept / 4
    cut(leaves, Matte(pulls=(ClearSkyPull(finds="surface"),), old_sky=OldSky(on=False)))
    readings = leaves.readings()
    assert any("pale fringe" in finding.words for finding in readings.findings)
    cut(leaves, Matte(pulls=(ClearSkyPull(finds="surface"),)))
    assert abs(leaves.readings().mattes["matte1"].halo) < readings.mattes["matte1"].halo / 2


def test_a_rim_that_is_lighter_by_itself_is_no_fringe():
    """Lit leaves: as light where the rim is nearly solid as where it is thin. Old sky that was left in is a fringe."""
    y, x = np.mgrid[0:160, 0:160].astype(np.float32)
    inside = 60 - np.hypot(x - 80, y - 80)
    alpha = np.clip(inside / 6, 0, 1).astype(np.float32)
    colour = np.where(inside < 7, 0.08, 0.05)[..., None] * np.array([1.0, 0.9, 0.6], np.float32)
    held = (alpha[..., None] * colour).astype(np.float32)
    pixels = (held + (1 - alpha[..., None]) * np.array([0.5, 0.6, 0.8], np.float32)).astype(np.float32)
    clean = halo(pixels, alpha, np.dstack([held, alpha]).astype(np.float32))
    left = halo(pixels, alpha)
    half = halo(pixels, alpha, np.dstack([0.5 * held + 0.5 * pixels * alpha[..., None], alpha]).astype(np.float32))
    assert abs(clean) < 3
    assert left > half > 20


def test_chatter_is_the_change_at_locked_edges(leaves):
    alpha, feed = leaves.truth.alpha, feed_of(leaves.truth.pixels)
    assert chatter(alpha, feed, alpha, feed, np.eye(3)) == pytest.approx(0, abs=1e-6)
    rng = np.random.default_rng(2)
    restless = np.clip(alpha + rng.choice([-0.2, 0.2], alpha.shape), 0, 1).astype(np.float32)
    assert 0.1 < chatter(alpha, feed, restless, feed, np.eye(3)) < 0.2
    assert chatter(alpha, feed, restless, feed * 0, np.eye(3)) is None  # the plate itself changed: nothing to judge


def test_readings_name_the_largest_hole_and_the_soft_share(leaves):
    holes = Shape(id="s", mode="drop", keys=(rectangle_key(1, (100, 180), (140, 200)),))
    cut(leaves, Matte(pulls=(ClearSkyPull(finds="surface"),)))
    reading = leaves.readings().mattes["matte1"]
    assert 0.03 < reading.soft < 0.4
    assert reading.outside == 0
    cut(leaves, Matte(pulls=(LumaPull(gain=Keyed(constant=1.5)),), clamp=False, shapes=(holes.but(on=False),)))
    assert leaves.readings().mattes["matte1"].outside > 0.2


def test_the_steps_of_a_matte_can_be_looked_at(leaves):
    matte = Matte(
        pulls=(ClearSkyPull(id="a"), LumaPull(id="b", high=Keyed(constant=1.4))),
        levels=Levels(white=Keyed(constant=0.8)),
        shapes=(Shape(id="s", mode="drop", keys=(rectangle_key(1, (0, 0), (100, 216)),)),),
    )
    cut(leaves, matte)
    steps = leaves.store.matte_steps(leaves.shot, matte, 1)
    assert list(steps) == ["1 clear sky", "2 luma", "levels", "edge", "shapes"]
    assert steps["levels"].mean() > steps["1 clear sky"].mean()
    assert steps["shapes"][:, :100].max() == 0
    assert np.clip(steps["shapes"], 0, 1) == pytest.approx(leaves.matte("zone1", 1), abs=1e-6)


def test_added_paintings_are_whole_until_a_matte_is_given(leaves):
    zone = leaves.shot.zones[-1]
    assert leaves.shot.matte_of(zone) is None
    again = add_painting(leaves.shot, leaves.shot.source(zone.source), 50.0)
    assert again.zones[-1].matte.on is False


def test_a_sky_may_be_fitted_once_and_carried_by_a_lock(tmp_path):
    # a graded sky with a cloud that moves with the scenery, 30 px a frame; on frame 2 the cloud is partly behind a wall
    rng = np.random.default_rng(5)
    y, x = np.mgrid[0:160, 0:420]
    sky = 0.6 + 0.1 * y / 160 + 0.12 * np.exp(-((x - 200) ** 2 + (y - 50) ** 2) / 1800.0)
    wide = sky[..., None] * np.array([0.9, 1.0, 1.05])
    for frame in (1, 2):
        plate = wide[:, 60 + 30 * (frame - 1) : 360 + 30 * (frame - 1)].copy()
        plate[120:] = 0.05
        plate[:, :40] = 0.05
        plate = (plate + rng.normal(0, 0.004, plate.shape)).astype(np.float32)
        write_still(tmp_path / f"plate.{frame:04d}.exr", plate, "float")
    session = new(tmp_path / "plate.0001.exr")
    entries = tuple(
        LockFrame(frame=f, homography=(1, 0, -30.0 * (f - 1), 0, 1, 0, 0, 0, 1), marks=((5, 5),)) for f in (1, 2)
    )
    session.shot = session.shot.with_lock(Lock(id="pan", name="Pan", reference_frame=1, solved=entries))
    for carried in (None, "pan"):
        cut(session, Matte(pulls=(ClearSkyPull(finds="surface", carried_by=carried),)))
        alpha = session.matte("zone1", 2)
        assert np.percentile(alpha[10:110, 60:260], 99) < 0.05
        assert alpha[130:].min() > 0.98
    cut(session, Matte(pulls=(ClearSkyPull(finds="surface", carried_by="pan"),)))
    wrong = tuple(entry.but(homography=(1, 0, 90.0 * (entry.frame - 1), 0, 1, 0, 0, 0, 1)) for entry in entries)
    session.shot = session.shot.with_lock(session.shot.locks[0].but(solved=wrong))
    assert session.matte("zone1", 2)[10:110, 60:260].mean() > 0.03  # carried the wrong way the cloud stands out


def test_each_fault_names_the_pixels_that_its_number_counts(leaves):
    luma = Matte(pulls=(LumaPull(high=Keyed(constant=0.3), high_softness=Keyed(constant=0.3)),), clamp=False)
    cut(leaves, luma)
    reading = take_readings(leaves.shot, leaves.store, scale=1.0).mattes[luma.id]
    alpha = leaves.matte("zone1", 1)
    holes, leftover = (
        faulty_pixels(leaves.shot, luma, reading.holes_frame, fault, leaves.store) for fault in ("holes", "leftover")
    )
    assert alpha[holes].max() < 0.99
    assert (holes.sum() > 0) == (reading.holes > 0)
    assert alpha[leftover].min() > 0.01 if leftover.any() else reading.leftover == 0
    left_in = luma.but(old_sky=OldSky(on=False), pulls=(LumaPull(high=Keyed(constant=0.6)),))
    cut(leaves, left_in)
    pale = faulty_pixels(leaves.shot, left_in, 1, "halo", leaves.store)
    rim = leaves.matte("zone1", 1)[pale]
    assert pale.any()
    assert (rim > 0.3).all()
    assert (rim < 0.95).all()


def test_an_edge_that_chatters_is_marked_and_steadied_along_its_lock_over_the_shot(demo):
    """On the moving demo, grain and all: the chatter that is read falls, and nothing is smeared."""
    session = open_shot(demo / "SLT_0140.shot.json")
    shot = session.shot
    bare = Matte(pulls=(LumaPull(high=Keyed(constant=0.62), high_softness=Keyed(constant=0.12)),))
    lock = shot.locks[0].id
    calm = bare.but(edge=Edge(steady=1.0, steady_lock=lock))
    loose = bare.but(edge=Edge(steady_lock=lock))
    changes = {}
    for name, matte in (("loose", loose), ("calm", calm)):
        shot = shot.with_zone_matte(shot.zones[0], matte)
        tally = MatteTally(shot, matte, session.store)
        for frame in shot.frames:
            tally.add(frame)
        changes[name] = tally.result().chatter
    assert changes["calm"] < 0.8 * changes["loose"]
    truth = [read_still(demo / "truth" / "alpha" / f"alpha.{frame}.png")[0][:190, :, 0] for frame in shot.frames]
    wrong = {
        name: np.mean([
            ((session.store.matte(shot, matte, frame).alpha[:190] - true) ** 2).mean()
            for frame, true in zip(shot.frames, truth)
        ])
        for name, matte in (("loose", loose), ("calm", calm))
    }  # fmt: skip
    assert wrong["calm"] < 1.05 * wrong["loose"]
    restless = faulty_pixels(shot, loose, shot.first + 4, "chatter", session.store)
    assert 0 < restless.mean() < 0.05


def test_a_clip_serves_as_the_clean_plate_of_a_moving_shot(demo, tmp_path):
    """The plate itself, with a figure put before it, against the plate without: the figure stays, the rest goes."""
    session = open_shot(demo / "SLT_0140.shot.json")
    plate, frames = session.shot.plate_source, session.shot.frames[:4]
    rng = np.random.default_rng(5)
    for frame in frames:
        clean = session.plate(frame)
        y, x = np.mgrid[: clean.shape[0], : clean.shape[1]] + 0.5
        figure = np.clip(20 - np.hypot(x - 200 - 6 * (frame - frames[0]), (y - 120) / 2) + 0.5, 0, 1)[..., None]
        grain = rng.normal(0, 0.004, clean.shape)
        both = clean * (1 - figure) + np.array([0.35, 0.1, 0.08]) * figure + grain
        write_still(tmp_path / f"figure.{frame:04d}.exr", both.astype(np.float32), "half", "zip")
    work = new(tmp_path / f"figure.{frames[0]:04d}.exr")
    work.shot = work.shot.with_source(plate.but(id="clean"))
    matte = Matte(pulls=(DifferencePull(clean="clean"),))
    cut(work, matte)
    for frame in frames:
        alpha = work.matte("zone1", frame)
        y, x = np.mgrid[: alpha.shape[0], : alpha.shape[1]] + 0.5
        true = np.clip(20 - np.hypot(x - 200 - 6 * (frame - frames[0]), (y - 120) / 2) + 0.5, 0, 1)
        # a difference is no share: a rim of strong contrast is solid early, by up to half a pixel, never by more
        assert alpha[true == 1].min() > 0.9, frame
        assert np.percentile(alpha[ndimage.distance_transform_edt(true == 0) >= 2], 99.9) < 0.05, frame
        assert 0 < alpha.sum() / true.sum() - 1 < 0.07, frame
