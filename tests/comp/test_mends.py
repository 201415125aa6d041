"""What mends a trouble, and findings by their weight."""

from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest

from hung import marked, shot_with, turn_at
from zonal_mantle.api import new
from zonal_mantle.comp import (
    Finding,
    by_severity,
    came_back,
    mend_of,
    mend_of_lock,
    mend_of_matte,
    mend_of_ride,
    mended,
    reason_set_aside,
)
from zonal_mantle.comp.findings import findings_of
from zonal_mantle.comp.mends import Mend, best_lock, hidden_behind, is_there
from zonal_mantle.comp.readings import Readings
from zonal_mantle.comp.readings_match import MatchReading
from zonal_mantle.comp.readings_ride import read_ride
from zonal_mantle.lock import read_lock, turning_marks
from zonal_mantle.lock.runs import flat
from zonal_mantle.match.tone_off import ToneOff
from zonal_mantle.media.still import write_still
from zonal_mantle.place.coverage import Opening
from zonal_mantle.shot import Finish, Lock, LockFrame, MatteUse, SetAside, load


@pytest.fixture
def shot(demo):
    return load(demo / "SLT_0140.shot.json")


def plate_zone(shot):
    return next(zone for zone in shot.zones if shot.holds_plate(zone))


def hung(shot):
    return next(zone for zone in shot.near_to_far() if not shot.holds_plate(zone) and zone.distance_m is None)


def moving(id: str, px: float, error: float, frames=range(1001, 1011)) -> Lock:
    solved = tuple(
        LockFrame(frame=f, homography=(1, 0, px * (f - 1001), 0, 1, 0, 0, 0, 1), residual_px=error) for f in frames
    )
    return Lock(id=id, name=id.capitalize(), kind="plane", reference_frame=1001, solved=solved)


def test_a_painting_that_rides_on_nothing_is_offered_the_solved_lock(shot):
    zone = hung(shot)
    free = shot.with_zone(zone.but(placement=zone.placement.but(rides=None)))
    found = [f for f in findings_of(free, Readings()) if f.part == zone.id and f.stage == "Lock"]
    assert len(found) == 1
    mend = mend_of(free, found[0])
    assert mend is not None
    assert mend.label == f"Ride on {free.lock(mend.to).name}"
    after = mended(free, mend)
    assert after.zone(zone.id).placement.rides == mend.to
    assert not [f for f in findings_of(after, Readings()) if f.part == zone.id and f.stage == "Lock"]


def test_a_lock_that_holds_its_own_frame_alone_is_found_though_nothing_rides_on_it(shot):
    alone = moving("alone", 0, 0.0, range(1001, 1002)).but(lost=("Lost on frame 1002: too little texture.",))
    reading = read_lock(alone, shot.frames)
    assert (reading.solved, reading.worst_px) == (1, 0.0)
    found = findings_of(shot.with_lock(alone), Readings(locks={"alone": reading}))
    said = [f for f in found if f.part == "alone"]
    assert [f.words for f in said] == ["Alone holds 1 of 10 frames. Lost on frame 1002: too little texture."]
    assert (said[0].frame, said[0].severity) == (1002, "wrong")
    assert read_lock(alone.but(solved=()), shot.frames) is None


@pytest.mark.parametrize(
    ("tone", "drawn", "off"),
    [
        ((7.0, 3.0), True, True),
        ((7.0, 5.0), True, False),  # as unsure as that
        ((3.0, 0.5), True, False),  # too little to be seen beside other things
        ((7.0, 3.0), False, False),  # of no aim that somebody drew
        (None, True, False),
    ],
)
def test_a_tone_that_is_seen_to_be_off_is_offered_a_fit(shot, tone, drawn, off):
    zone = hung(shot)
    tone = None if tone is None else ToneOff(*tone)
    reading = MatchReading(1003, delta_e=(40.0, 6.0, 13.2), tone=tone, untold="" if tone else "unlike", drawn=drawn)
    found = [f for f in findings_of(shot, Readings(matches={zone.id: reading})) if f.stage == "Match"]
    assert [f.words for f in found] == (["Evening sky: its tone seems 7 ± 3 ΔE from its aim's."] if off else [])
    assert [mend_of(shot, f) for f in found] == ([Mend("fit tone", "Fit tone", zone.id)] if off else [])


def test_what_a_lock_is_off_by_is_said_with_its_reason(shot):
    off = moving("off", 1, 2.0).but(remarks=("A quarter of the field moves otherwise.", "Frames are doubled."))
    found = findings_of(shot.with_lock(off), Readings(locks={"off": read_lock(off, shot.frames)}))
    assert [f.words for f in found if f.part == "off"] == [
        "Off is off by 2.00 px at its worst. A quarter of the field moves otherwise."
    ]


def test_a_mend_whose_lock_or_zone_is_gone_does_not_apply(shot):
    zone, lock = hung(shot), shot.locks[0]
    ride = Mend("ride", f"Ride on {lock.name}", zone.id, lock.id)
    assert is_there(shot, ride)
    assert is_there(shot, Mend("hide border", "Hide border", ""))
    assert not is_there(shot.without_lock(lock.id), ride)
    assert not is_there(shot, Mend("solve", "Solve", "gone"))


def test_what_is_far_rides_on_what_moves_least_and_what_is_near_on_the_surest(shot):
    locks = (moving("wall", 6.0, 0.05), moving("hills", 1.0, 0.2), moving("short", 0.1, 0.01, range(1001, 1004)))
    bare = shot.but(
        zones=(), mattes=(), lines_ride=None, patches=(), bases=(), locks=locks, finish=Finish(), moods=(), mood=None
    )
    assert best_lock(bare, None).id == "hills"
    assert best_lock(bare, 50.0).id == "wall"
    assert best_lock(bare, None, "dome") is None  # a plane does not say how the camera turned


def test_a_file_that_is_there_is_not_offered_to_be_linked_anew(shot):
    source = shot.sources[0].id
    missing = Finding("Source", source, 1001, "gone.exr is missing.", severity="wrong")
    assert mend_of(shot, missing).what == "relink"
    assert mend_of(shot, Finding("Source", source, 1001, "Its alpha looks premultiplied.")) is None


def test_a_plate_that_is_not_cut_hides_what_is_behind_and_its_switch_is_offered(shot):
    zone = plate_zone(shot)
    off = shot.with_zone(zone.but(matte=zone.matte.but(on=False)))
    names = {each.name for each in hidden_behind(off, off.zone(zone.id))}
    assert hung(shot).name in names
    mend = mend_of_matte(off, off.zone(zone.id))
    assert mend.what == "matte on"
    assert mended(off, mend) == shot
    bare = shot.with_zone(zone.but(matte=MatteUse()))
    made = mended(bare, mend_of_matte(bare, bare.zone(zone.id)))
    assert made.matte_of(made.zone(zone.id)).pulls
    assert hidden_behind(made, made.zone(zone.id)) == []
    assert mend_of_matte(shot, zone) is None


def test_an_unsolved_lock_is_solved_and_a_lacking_one_completed(shot):
    zone = hung(shot)
    lock = shot.lock(zone.placement.rides)
    unsolved = shot.with_lock(lock.but(solved=()))
    assert mend_of_lock(unsolved, zone).what == "solve"
    short = shot.with_lock(lock.but(solved=lock.solved[:-2]))
    assert mend_of_lock(short, zone).what == "solve missing"
    assert mend_of_lock(shot, zone) is None
    assert mended(unsolved, mend_of_lock(unsolved, zone)) is None  # that takes a measurement


def test_marks_that_cannot_follow_a_turning_camera_are_a_finding_and_one_step_mends_it():
    shot = shot_with(marked(), (640, 360), 12)
    places = np.array([[x, y] for x in (1.0, 320.0, 639.0) for y in (1.0, 120.0, 700.0)])  # the last is not painted
    openings = {frame: Opening(places, places, np.ones(9, np.float32), 640 * 360) for frame in shot.frames}

    def found(of):
        reading = read_ride(of, of.zone("z"), openings)
        findings = findings_of(of, Readings(rides={"z": reading}))
        return reading, [f for f in findings if f.part == "z" and f.stage == "Lock"]

    reading, findings = found(shot)
    assert reading.worst_px > 5
    assert reading.worst_place[1] <= 360
    assert reading.frames_px[1] == 0
    assert sorted(reading.frames_px) == list(shot.frames)
    assert [f.fault for f in findings] == ["bent"]
    mend = mend_of(shot, findings[0])
    assert (mend.what, mend.part) == ("turn marks", "m")
    after = mended(shot, mend)
    assert after.lock("m").moves == "camera turn"
    assert found(after)[0].fault == "far"
    assert found(after)[0].worst_px < reading.worst_px / 2
    assert mend_of_ride(after, after.zone("z"), "far") is None
    plane = shot.with_lock(marked().but(kind="plane", motion="similarity"))
    mend = mend_of_ride(plane, plane.zone("z"), "far")
    assert (mend.what, mend.part) == ("as pan", "m")
    assert mended(plane, mend) is None  # that takes a measurement
    near = plane.with_zone(plane.zone("z").but(distance_m=40.0))
    assert mend_of_ride(near, near.zone("z"), "far") is None

    far = replace(reading, fault="far", worst_px=1.5)
    assert not [f for f in findings_of(shot, Readings(rides={"z": far})) if f.fault == "far"]  # a bound, not a guess
    far = replace(reading, fault="far", worst_px=9.0)
    words = [f.words for f in findings_of(shot, Readings(rides={"z": far})) if f.fault == "far"]
    assert "reaches far beyond what M tells" in words[0]


def test_findings_are_known_again_whatever_their_numbers():
    one = Finding("Lock", "a", 1003, "Hills is off by 0.42 px at its worst.")
    other = Finding("Lock", "a", 1007, "Hills is off by 1.7 px at its worst.")
    assert one.key == other.key
    assert one.key != Finding("Lock", "b", 1003, one.words).key


def test_the_gravest_come_first_and_those_set_aside_last(shot):
    wrong = Finding("Place", "z", 1009, "runs out", severity="wrong")
    doubt = Finding("Matte", "m", 1001, "3 % may be sky")
    aside = Finding("Source", "s", 1001, "missing", severity="wrong")
    kept = shot.but(set_aside=(SetAside(finding=aside.key, reason="comes tonight"),))
    assert by_severity([aside, doubt, wrong], kept) == [wrong, doubt, aside]
    assert reason_set_aside(kept, aside) == "comes tonight"
    assert reason_set_aside(kept, doubt) is None


def test_a_still_lacks_no_lock(shot, tmp_path):
    """Nothing moves in one frame: nothing is offered, and nothing is wrong."""
    write_still(tmp_path / "still.exr", np.full((48, 64, 3), 0.4, np.float32), "float")
    still = new(tmp_path / "still.exr").shot
    assert still.first == still.last
    assert mend_of_lock(still, still.zones[0]) is None
    moving_plate = new(Path(shot.plate_source.path)).shot
    assert mend_of_lock(moving_plate, moving_plate.zones[0]).what == "suggest lock"


def test_frames_on_which_a_lock_was_lost_are_shown_rather_than_solved_once_more(shot):
    zone = hung(shot)
    lock = shot.lock(zone.placement.rides)
    lost = shot.with_lock(lock.but(solved=lock.solved[:-2], lost=("Forward: lost on frame 1009: too little is seen.",)))
    mend = mend_of_lock(lost, zone)
    assert mend.what == "show lost"
    assert mended(lost, mend) is None


@pytest.mark.parametrize(
    ("then", "now", "open_again"),
    [
        ("Hills is off by 0.42 px at its worst.", "Hills is off by 0.55 px at its worst.", False),
        ("Hills is off by 0.42 px at its worst.", "Hills is off by 0.84 px at its worst.", True),
        ("On frame 3 the edge is off by 2 px.", "On frame 9 the edge is off by 2 px.", False),
        ("a dark fringe, −12 of 255", "a dark fringe, −40 of 255", True),
        ("1,200 px too few", "1,300 px too few", False),
        ("Lock 2 is off by 0.42 px at its worst.", "Lock 2 is off by 0.90 px at its worst.", True),
        ("Hills holds 44 of 48 frames.", "Hills holds 12 of 48 frames.", True),
        ("Hills holds 12 of 48 frames.", "Hills holds 44 of 48 frames.", False),
        ("ground may be gone, 0.3% of it, about 40, 90.", "ground may be gone, 0.3% of it, about 900, 300.", False),
        ("ground may be gone, 0.3% of it, about 40, 90.", "ground may be gone, 2.1% of it, about 40, 90.", True),
        ("", "Hills is off by 9 px at its worst.", False),  # of older shots what was said is not known
    ],
)
def test_what_was_set_aside_counts_again_once_it_is_much_worse(shot, then, now, open_again):
    before, finding = Finding("Lock", "lock1", 1003, then), Finding("Lock", "lock1", 1003, now)
    kept = shot.but(set_aside=(SetAside(finding=finding.key, reason="soft focus", words=then),))
    assert (reason_set_aside(kept, finding) is None) == open_again
    assert (came_back(kept, finding) is not None) == open_again
    if then:
        assert reason_set_aside(kept, before) == "soft focus"


def test_a_sky_rides_on_the_lock_by_which_it_is_off_least_of_those_that_move_alike():
    by_picture = marked()
    by_camera = turning_marks(marked(), (640, 360)).but(id="c", name="C")
    shot = shot_with(by_picture, (640, 360), 12)
    for locks in ((by_picture, by_camera), (by_camera, by_picture)):
        assert best_lock(shot.but(zones=(), locks=locks)).id == "c"
    twice = {entry.frame: turn_at(2 * (entry.frame - 1)) for entry in by_camera.solved}  # of what is nearer
    moved = tuple(e.but(homography=flat(twice[e.frame] / twice[e.frame][2, 2])) for e in by_camera.solved)
    nearer = by_camera.but(id="n", solved=moved)
    assert best_lock(shot.but(zones=(), locks=(nearer, by_picture))).id == "m"
