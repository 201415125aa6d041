"""The sky matte within a shot: learnt from its frames, told by strokes, read for doubt."""

import json
import shutil
from dataclasses import replace

import numpy as np
import pytest
from skimage import data

from skies_plates import cloudy
from stores import kept_pictures
from zonal_mantle.api import Session, luma_between, new
from zonal_mantle.comp import Pictures
from zonal_mantle.comp.findings import findings_of
from zonal_mantle.comp.first_answer import FirstAnswers, QuickAnswers, awaited
from zonal_mantle.comp.matte_planner import matte_plan
from zonal_mantle.matte import MatteError, sky_matte
from zonal_mantle.media.still import write_still
from zonal_mantle.shot import ClearSkyPull, Keyed, Levels, Lock, LockFrame, LumaPull, Matte, ShotError, SkyStroke
from zonal_mantle.shot.file import from_json, to_json


def cut(session: Session, matte: Matte) -> Session:
    session.shot = session.shot.with_zone_matte(session.shot.zones[0], matte)
    return session


def cloudy_session(tmp_path, frames=3):
    for frame in range(1, frames + 1):
        pixels, _ = cloudy(1, "grass", size=(480, 270))
        write_still(tmp_path / f"plate.{frame:04d}.exr", np.roll(pixels, 3 * frame, axis=1), "half")
    session = new(tmp_path / "plate.0001.exr")
    return cut(session, Matte(id="m", name="Sky", pulls=(ClearSkyPull(id="a"),)))


def test_a_region_is_the_same_by_itself_and_in_any_order(tmp_path):
    """Bit for bit: what the shot teaches is part of the plan, whichever frame asks first."""
    session = cloudy_session(tmp_path)
    forward = [session.matte("zone1", frame) for frame in (1, 2, 3)]
    again = cut(new(tmp_path / "plate.0001.exr"), session.shot.mattes[0])
    for frame in (3, 1, 2):
        assert (again.matte("zone1", frame) == forward[frame - 1]).all()
    alone = cut(new(tmp_path / "plate.0001.exr"), session.shot.mattes[0])
    assert (alone.matte("zone1", 2) == forward[1]).all()


def test_a_first_answer_is_that_of_the_frame_alone_and_leaves_no_trace(tmp_path):
    session = cloudy_session(tmp_path)
    shot, matte = session.shot, session.shot.mattes[0]
    plan = matte_plan(shot, matte, 2)
    store = kept_pictures()
    assert awaited(shot, 2)
    first = FirstAnswers(store).made(plan).alpha
    assert awaited(shot, 2)  # nothing of the shot was learnt
    (tmp_path / "alone").mkdir()
    shutil.copy(tmp_path / "plate.0002.exr", tmp_path / "alone")
    single = cut(new(tmp_path / "alone" / "plate.0002.exr"), matte)
    assert (first == single.matte("zone1", 2)).all()
    after = store.made(plan).alpha
    assert not awaited(shot, 2)
    assert (after == kept_pictures().made(plan).alpha).all()
    assert (first != after).any()  # else the above shows nothing
    assert np.abs(first - after).mean() < 0.01
    bare = shot.with_zone_matte(shot.zones[0], Matte(id="m", name="Sky", pulls=(LumaPull(id="a"),)))
    assert not awaited(bare, 2)


def test_while_something_is_dragged_a_sky_is_cut_at_the_size_that_is_shown_unless_it_is_at_hand(tmp_path, monkeypatch):
    session, sizes = cloudy_session(tmp_path), []
    half, full = (matte_plan(session.shot, session.shot.mattes[0], 2, scale) for scale in (0.5, 1.0))

    def counted(pixels, *given):
        sizes.append(pixels.shape[:2])
        return sky_matte(pixels, *given)

    monkeypatch.setattr("zonal_mantle.comp.pictures.sky_matte", counted)
    store = Pictures()
    quick = QuickAnswers(store, 4 << 20)
    own = quick.made(half).alpha
    harder = session.shot.mattes[0].but(levels=Levels(black=Keyed(constant=0.2)))
    assert (quick.made(matte_plan(session.shot, harder, 2, 0.5)).alpha != own).any()
    assert sizes == [(135, 240)]  # for both
    store.made(full)
    finer = QuickAnswers(store).made(half).alpha
    assert sizes == [(135, 240), (270, 480)]
    assert (finer == store.made(half).alpha).all()
    assert (finer != own).any()  # else the above shows nothing
    assert np.abs(finer - own).mean() < 0.01


def test_strokes_hold_on_their_frame_or_ride_on_a_lock_and_teach_all(tmp_path):
    session = cloudy_session(tmp_path)
    entries = tuple(
        LockFrame(frame=f, homography=(1, 0, 3.0 * (f - 1), 0, 1, 0, 0, 0, 1), marks=((5, 5),)) for f in (1, 2, 3)
    )
    lock = Lock(id="pan", name="Pan", reference_frame=1, solved=entries)
    session.shot = session.shot.with_lock(lock)
    box = SkyStroke(says="not sky", frame=1, points=((100, 30), (160, 30), (160, 60), (100, 60)), filled=True)
    for rides, held in ((None, {1}), ("pan", {1, 2, 3})):
        cut(session, Matte(id="m", name="Sky", pulls=(ClearSkyPull(id="a", strokes=(box.but(rides=rides),)),)))
        for frame in (1, 2, 3):
            shift = 3 * (frame - 1)
            inside = session.matte("zone1", frame)[34:56, 106 + shift : 154 + shift]
            assert (inside.min() > 0.99) == (frame in held), (rides, frame)
    told, bare = session.shot.mattes[0], Matte(id="m", name="Sky", pulls=(ClearSkyPull(id="a"),))
    assert (
        matte_plan(session.shot, told, 3).digest != matte_plan(session.shot, bare, 3).digest
    )  # frame 3 depends on what was said of frame 1
    gone = session.shot.without_lock("pan")
    assert gone.mattes[0].pulls[0].strokes[0].rides is None


def test_a_shot_of_format_5_keeps_its_surface(tmp_path):
    session = cloudy_session(tmp_path, 1)
    old = json.loads(to_json(session.shot))
    old["version"] = 5
    for name in ("finds", "strokes"):
        old["mattes"][0]["pulls"][0].pop(name, None)
    assert from_json(json.dumps(old), "old").mattes[0].pulls[0].finds == "surface"


def test_doubt_is_told_where_it_is_and_no_sky_is_said(tmp_path):
    session = cloudy_session(tmp_path, 1)
    assert session.cutout("zone1", 1).doubt.mean() < 0.03
    assert not session.doubts()
    write_still(tmp_path / "wall.0001.exr", data.brick()[:270, :480, None].repeat(3, 2) / np.float32(255), "half")
    wall = cut(new(tmp_path / "wall.0001.exr"), session.shot.mattes[0])
    assert "No sky was found" in wall.doubts()[0].words
    with pytest.raises(MatteError, match="No sky"):
        wall.cutout("zone1", 1)


def test_what_may_be_no_sky_at_all_is_said_until_sky_is_shown(tmp_path):
    """scikit-image's astronaut: the studio's grey is cut. What is shown on one frame holds for the other."""
    for frame in (1, 2):
        write_still(tmp_path / f"studio.{frame:04d}.png", np.roll(data.astronaut(), frame, axis=1) / np.float32(255))
    studio = cut(new(tmp_path / "studio.0001.png"), Matte(id="m", name="Sky", pulls=(ClearSkyPull(),)))
    assert "may be no sky at all" in studio.doubts()[0].words
    shown = SkyStroke(says="sky", frame=1, points=((330.0, 20.0), (380.0, 90.0)))
    told = cut(studio, Matte(id="m", name="Sky", pulls=(ClearSkyPull(strokes=(shown,)),)))
    assert not any("no sky at all" in finding.words for finding in told.doubts())


def test_two_samples_make_a_luma_pull(tmp_path):
    session = cloudy_session(tmp_path, 1)
    goes, stays = session.sample(1, (10, 5, 60, 40)), session.sample(1, (10, 240, 200, 268))
    assert goes.luma > stays.luma
    cut(session, Matte(id="m", name="M", pulls=(luma_between(stays, goes),)))
    alpha = session.matte("zone1", 1)
    assert alpha[240:268, 10:200].mean() > 0.7
    assert alpha[5:40, 10:60].mean() < 0.3
    with pytest.raises(MatteError, match="as bright"):
        luma_between(goes, goes)
    with pytest.raises(ShotError, match="outside"):
        session.sample(1, (900, 5, 950, 40))


def test_a_blend_with_nothing_behind_it_is_said(tmp_path):
    session = cloudy_session(tmp_path, 1)
    zone = session.shot.zones[0]
    session.shot = session.shot.with_zone(zone.but(blend=zone.blend.but(mode="plus")))
    words = [finding.words for finding in session.readings().findings]
    assert any("nothing lies behind it" in each for each in words)
    session.shot = session.shot.with_zone(zone)
    assert not any("nothing lies behind it" in finding.words for finding in session.readings().findings)


def test_a_matte_that_keeps_nothing_all_or_flickers_is_found(tmp_path):
    """Damage of the whole frame, at which no share of holes or leftover moves."""
    session = cloudy_session(tmp_path, 3)

    def words(pull):
        cut(session, Matte(id="m", name="Edge", pulls=(pull,)))
        return " ".join(finding.words for finding in session.readings().findings)

    whole = "nothing of the frame stays", "cuts nothing", "from the frame before"
    assert not any(each in words(ClearSkyPull()) for each in whole)
    assert whole[0] in words(LumaPull(high=Keyed(constant=-1.0)))
    assert whole[1] in words(LumaPull(high=Keyed(constant=50.0)))
    flicker = Keyed().with_key(1, 0.5).with_key(2, 50.0).with_key(3, 0.5)
    assert whole[2] in words(LumaPull(high=flicker))


def test_a_wisp_that_stays_by_itself_is_found_whatever_its_share(tmp_path):
    session = cut(cloudy_session(tmp_path, 1), Matte(id="m", name="Edge", pulls=(ClearSkyPull(),)))
    readings = session.readings()
    reading = readings.mattes["m"]
    assert (reading.piece_px2, [f for f in readings.findings if "by itself" in f.words]) == (0, [])
    readings.mattes["m"] = replace(reading, piece_px2=130.0, piece_frame=1, piece_place=(40.0, 12.0))
    (found,) = [f for f in findings_of(session.shot, readings) if "by itself" in f.words]
    assert (found.frame, found.part, found.fault) == (1, "m", "leftover")
    assert "130 px²" in found.words
    readings.mattes["m"] = replace(readings.mattes["m"], leftover=0.01)  # more is left: one finding tells of both
    left = [f.words for f in findings_of(session.shot, readings) if f.fault == "leftover"]
    assert len(left) == 1
    assert "sky or clouds may be left" in left[0]
