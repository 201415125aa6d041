"""What a zone can do: frames of its own, the plate placed and faded, copies, motion by hand, plates that are read."""

from pathlib import Path

import numpy as np
import pytest

from graded import graded as cdl_graded
from stores import kept_pictures
from zonal_mantle.api import Session, add_painting, open_shot, shot_from_plate
from zonal_mantle.comp import compose, solve_lock
from zonal_mantle.lock import LockError
from zonal_mantle.media import open_source
from zonal_mantle.media.still import write_still
from zonal_mantle.place import painting_to_frame
from zonal_mantle.shot import (
    Blend,
    Keyed,
    Lock,
    LumaPull,
    Matte,
    Shape,
    Shot,
    ShotError,
    load,
    rectangle_key,
    save,
)
from zonal_mantle.shot.carry_over import pasted, taken_stage, taken_zone
from zonal_mantle.shot.lock import Correction, LockFrame

SIZE = (96, 64)


def number(value: float) -> Keyed:
    return Keyed(constant=value)


@pytest.fixture
def shot(tmp_path: Path) -> Shot:
    rng = np.random.default_rng(6)
    for frame in range(1001, 1005):
        write_still(tmp_path / f"plate.{frame}.exr", rng.uniform(0.1, 0.6, (SIZE[1], SIZE[0], 3)).astype("f4"), "float")
    write_still(tmp_path / "sky.exr", np.full((SIZE[1], SIZE[0], 3), 0.9, np.float32), "float")
    shot = shot_from_plate(open_source(tmp_path / "plate.%04d.exr", "plate"))
    return add_painting(shot, open_source(tmp_path / "sky.exr", "sky"), None)


def cut(shot: Shot, box: tuple[float, float, float, float]) -> Shot:
    """The plate's zone cut to a box."""
    shape = Shape(id="k", keys=(rectangle_key(1001, box[:2], box[2:]),))
    return shot.with_zone_matte(shot.zones[0], Matte(id="m", name="Box", shapes=(shape,)))


def test_a_zone_is_in_the_picture_on_its_own_frames_only(shot):
    zone = shot.zones[0].but(first=1002, last=1003)
    seen = [compose(shot.with_zone(zone), frame, kept_pictures())[5, 5, 0] for frame in range(1001, 1005)]
    assert [value == pytest.approx(0.9) for value in seen] == [True, False, False, True]


def test_a_zone_is_judged_on_the_frames_on_which_it_is_in_the_picture(shot):
    x = Keyed().with_key(1001, 200, "hold").with_key(1003, 0)  # it runs out at first
    sky = shot.zones[1].but(placement=shot.zones[1].placement.but(x=x))
    matte = Matte(id="m", name="Gone", shapes=())
    open_plate = shot.with_zone(shot.zones[0].but(on=False)).with_matte(matte)
    everywhere = Session(open_plate.with_zone(sky)).readings()
    assert everywhere.coverage["zone2"].covered == 2
    later = Session(open_plate.with_zone(sky.but(first=1003))).readings()
    assert (later.coverage["zone2"].covered, later.coverage["zone2"].frames) == (2, 2)
    never = Session(open_plate.with_zone(sky.but(first=2000))).readings()
    assert "zone2" not in never.coverage


def test_part_of_the_plate_is_moved_by_keys_and_faded(shot):
    part = cut(shot, (10, 10, 30, 30))
    x = Keyed().with_key(1001, 0, "straight").with_key(1004, 30, "straight")
    zone = part.zones[0].but(placement=part.zones[0].placement.but(x=x), blend=Blend(opacity=number(0.5)))
    pictures, frame = kept_pictures(), 1003
    out = compose(part.with_zone(zone), frame, pictures)
    plate = pictures.plate(part.plate_source, frame)
    assert out[15:25, 35:45, :3] == pytest.approx(0.5 * plate[15:25, 15:25] + 0.45, abs=1e-5)  # 20 px to the right
    assert out[15:25, 12:18, :3] == pytest.approx(0.9, abs=1e-5)


def test_a_part_of_the_plate_that_is_not_moved_stays_whatever_it_rides_on(shot):
    lock = Lock(
        id="l", name="L", reference_frame=1001,
        solved=tuple(LockFrame(frame=1001 + k, homography=(1, 0, 5 * k, 0, 1, 0, 0, 0, 1)) for k in range(4)),
    )  # fmt: skip
    part = cut(shot.with_lock(lock), (10, 10, 30, 30))
    riding = part.zones[0].but(placement=part.zones[0].placement.but(rides="l"))
    pictures = kept_pictures()
    assert np.array_equal(compose(part.with_zone(riding), 1003, pictures), compose(part, 1003, pictures))
    up = riding.but(placement=riding.placement.but(y=number(4.0)))
    assert painting_to_frame(part.with_zone(up), up, 1003) == pytest.approx(np.array([[1, 0, 0], [0, 1, 4], [0, 0, 1]]))


def test_shots_of_the_format_before_keep_the_plate_where_it_lay(shot, tmp_path):
    path = tmp_path / "old.shot.json"
    save(shot, path)
    import json

    data = json.loads(path.read_text())
    data["version"] = 4
    data["zones"][0]["placement"] = {"x": 40.0}
    data["zones"][0]["blend"] = {"mode": "normal", "opacity": 0.3}
    data["zones"][1]["placement"] = {"x": 7.0}
    path.write_text(json.dumps(data))
    opened = load(path)
    assert opened.zones[0].placement.x.constant == 0
    assert opened.zones[0].blend.opacity.constant == 1
    assert opened.zones[1].placement.x.constant == 7


def test_a_copy_of_a_zone_has_a_matte_of_its_own(shot):
    part = cut(shot, (10, 10, 30, 30))
    twice = part.with_copy_of(part.zones[0])
    assert twice.zones[-1].name == "Plate 2"
    assert twice.zones[-1].matte.id != part.zones[0].matte.id
    moved = twice.zones[-1].but(placement=twice.zones[-1].placement.but(x=number(30.0)))
    out = compose(twice.with_zone(moved), 1001, kept_pictures())
    assert out[15:25, 42:58, :3] == pytest.approx(out[15:25, 12:28, :3], abs=1e-5)


def test_a_stage_is_carried_to_other_zones_and_to_another_shot(shot, tmp_path):
    warm = cdl_graded(slope=(number(1.2), number(1.0), number(0.8)))
    graded = shot.with_zone(shot.zones[1].but(match=warm))
    carried = taken_stage(graded, graded.zones[1], "Match")
    now, chosen, words = pasted(graded, carried, [graded.zones[0].id])
    assert now.zone(chosen).match == warm
    assert "Match of sky" in words
    with pytest.raises(ShotError, match="Open Matte, Place or Match"):
        taken_stage(graded, graded.zones[1], "Lock")
    with pytest.raises(ShotError, match="Choose the zone"):
        pasted(graded, carried, [])


def test_a_zone_is_carried_with_its_matte_source_and_locks(shot, tmp_path):
    lock = Lock(
        id="l",
        name="Ridge",
        reference_frame=1001,
        solved=(LockFrame(frame=1001, homography=(1, 0, 0, 0, 1, 0, 0, 0, 1)),),
    )
    sky = shot.zones[1].but(placement=shot.zones[1].placement.but(rides="l"))
    matte = Matte(id="m", name="M", pulls=(LumaPull(),))
    whole = shot.with_lock(lock).with_zone(sky)
    whole = whole.with_zone_matte(whole.zones[1], matte)
    carried = taken_zone(whole, whole.zones[1])
    same, chosen, _ = pasted(shot, carried, [])  # a shot of the same plate that has none of it
    zone = same.zone(chosen)
    assert same.lock(zone.placement.rides or "").name == "Ridge"
    assert same.matte(zone.matte.id or "").pulls == matte.pulls
    assert same.source(zone.source).path == shot.source("sky").path
    other = tmp_path / "other"
    other.mkdir()
    write_still(other / "b.1001.exr", np.zeros((SIZE[1], SIZE[0], 3), np.float32), "float")
    write_still(other / "b.1002.exr", np.zeros((SIZE[1], SIZE[0], 3), np.float32), "float")
    elsewhere = shot_from_plate(open_source(other / "b.%04d.exr", "plate"))
    there, chosen, words = pasted(elsewhere, carried, [])
    assert there.zone(chosen).placement.rides is None
    assert "another plate" in words


def test_a_motion_keyed_by_hand_is_a_lock_that_others_ride_on(shot):
    x = Keyed().with_key(1001, 0, "straight").with_key(1003, 8, "straight")
    hand = Lock(id="h", name="By hand", kind="by hand", reference_frame=1001, correction=Correction(x=x))
    riding = shot.with_lock(hand)
    zone = riding.zones[1].but(placement=riding.zones[1].placement.but(rides="h"))
    matrix = painting_to_frame(riding.with_zone(zone), zone, 1002)
    assert matrix[0, 2] == pytest.approx(4)
    assert hand.holds
    with pytest.raises(LockError, match="keyed by hand"):
        solve_lock(riding, "h", kept_pictures())
    findings = [f.words for f in Session(riding.with_zone(zone)).readings().findings]
    assert not [words for words in findings if "not solved" in words]


def test_mattes_read_the_denoised_plate_or_the_clean_one(shot, tmp_path):
    for name, value in (("quiet", 0.2), ("clean", 0.95)):
        for frame in range(1001, 1005):
            write_still(tmp_path / f"{name}.{frame}.exr", np.full((SIZE[1], SIZE[0], 3), value, np.float32), "float")
        shot = shot.with_source(open_source(tmp_path / f"{name}.%04d.exr", name))
    matte = Matte(id="m", name="M", pulls=(LumaPull(high=number(0.5), high_softness=number(0.01)),))
    pictures = kept_pictures()

    def mean(changed: Shot, reads: str) -> float:
        return float(pictures.matte(changed, matte.but(reads=reads), 1002).alpha.mean())

    assert 0.1 < mean(shot, "plate") < 0.9  # noise on both sides of the threshold
    both = shot.but(denoised="quiet", clean="clean")
    assert mean(both, "plate") == 1
    assert mean(both, "clean plate") == 0
    assert mean(both, "raw plate") == pytest.approx(mean(shot, "plate"))
    write_still(tmp_path / "small.exr", np.zeros((4, 4, 3), np.float32))
    other = shot.with_source(open_source(tmp_path / "small.exr", "small"))
    with pytest.raises(ValueError, match="plate's own size"):
        other.but(denoised="small")


def test_the_work_range_lies_within_the_shot(shot):
    assert list(shot.work_frames) == [1001, 1002, 1003, 1004]
    assert list(shot.but(work=(1002, 1010)).work_frames) == [1002, 1003, 1004]
    with pytest.raises(ValueError, match="ends before"):
        shot.but(work=(1003, 1002))
    readings = Session(shot.but(work=(1002, 1003))).readings()
    assert readings.coverage["zone2"].frames == 2


def test_a_cut_out_is_the_callers_own_and_without_its_match(demo):
    session = open_shot(demo / "SLT_0140.shot.json")
    zone = session.shot.zone("zone1")
    session.shot = session.shot.with_zone(zone.but(match=cdl_graded(slope=(number(3.0),) * 3)))
    cutout = session.cutout("zone1", 1004)
    alpha = session.matte("zone1", 1004)
    assert np.allclose(cutout.alpha, np.clip(alpha, 0, 1), rtol=0, atol=1e-4)
    plate = session.plate(1004)
    solid = cutout.alpha > 0.9999
    assert np.allclose(cutout.foreground[solid], plate[solid], rtol=0, atol=1e-4)
    plate[:] = 0
    cutout.foreground[:] = 7
    assert session.plate(1004).max() > 0.1
    assert session.cutout("zone1", 1004).foreground.max() < 7
    half = session.cutout("zone1", 1004, 0.5)
    assert half.alpha.shape == (180, 320)
    with pytest.raises(ShotError, match="There is no zone sky"):
        session.cutout("sky", 1004)
