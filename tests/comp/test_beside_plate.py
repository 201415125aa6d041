"""Whether what is far goes the way of its lock, by what the plate shows: a camera that slides past near and far, with
the truth known."""

from dataclasses import dataclass

import cv2
import numpy as np
import pytest

from lock_plates import turning_plates
from ranges import BANK, HILLS, RANGE, Ranges, Sheet, sliding_plates
from stores import kept_pictures
from zonal_mantle.api import new
from zonal_mantle.comp import mend_of, solve_lock
from zonal_mantle.comp.beside_plate import beside_plate, columns_beside
from zonal_mantle.comp.findings import findings_of
from zonal_mantle.comp.mends import Mend, mended
from zonal_mantle.comp.plate_moves import FarMoves, far_moves, plate_tracks
from zonal_mantle.comp.readings import Readings
from zonal_mantle.comp.readings_ride import read_ride
from zonal_mantle.comp.solve import on_a_camera
from zonal_mantle.geometry import carry
from zonal_mantle.lock import propose_marks
from zonal_mantle.media.still import write_still
from zonal_mantle.place.coverage import Opening, opening
from zonal_mantle.place.transform import reference_to_frame
from zonal_mantle.shot import Lock, LockFrame, Mark, Placement, Shape, ShapeKey, Shot, Source, Zone

COUNT = 12
MIDDLE = COUNT // 2
ONE = (1.0, 0.0, 0.0, 0.0, 1.0, 0.0, 0.0, 0.0, 1.0)
NEAR_TREES = Sheet(30.0, 0.24, 0.03, (0.35, 1.2), "astronaut")


@dataclass
class Filmed:
    """A shot with a sky that rides on a lock named l, what of its frames is open, and how the far moved in truth."""

    shot: Shot
    openings: dict[int, Opening]
    far: dict[int, np.ndarray]

    def riding(self, lock: Lock) -> Shot:
        return solve_lock(self.shot.with_lock(lock), "l", kept_pictures())

    def off_px(self, shot: Shot) -> float:
        """What the sky is off by at worst, in truth."""
        worst, zone = 0.0, shot.zone("z")
        for frame, true in self.far.items():
            places = self.openings[frame].places
            way = true @ np.linalg.inv(reference_to_frame(shot, zone, frame))
            worst = max(worst, float(np.linalg.norm(carry(way, places) - places, axis=1).max()))
        return worst

    def read(self, shot: Shot):
        return read_ride(shot, shot.zone("z"), self.openings, kept_pictures())


def filmed(folder, frames, skies, far) -> Filmed:
    for n, frame in enumerate(frames):
        write_still(folder / f"plate.{1001 + n}.png", np.repeat(frame[..., None], 3, axis=2))
    shot = new(folder / "plate.1001.png").shot
    sky = Source(id="sky", name="Sky", kind="still", path=str(folder / "none.png"), width=2000, height=1500)
    zone = Zone(id="z", name="Sky", source="sky", placement=Placement(rides="l"))
    shot = shot.with_source(sky).with_lock(marks_on([(1.0, 1.0)])).with_zone(zone)
    small = [cv2.resize(sky, None, fx=0.25, fy=0.25, interpolation=cv2.INTER_AREA) for sky in skies]
    return Filmed(shot, {1001 + n: opening(sky, 0.25) for n, sky in enumerate(small)}, far)


def slid(folder, plates: Ranges) -> Filmed:
    return filmed(folder, plates.frames, plates.skies, {1001 + n: plates.far(n, MIDDLE) for n in range(COUNT)})


def marks_on(places) -> Lock:
    marks = tuple(Mark(x=x, y=y) for x, y in places)
    return Lock(id="l", name="L", kind="point", reference_frame=1001 + MIDDLE, marks=marks, motion="camera turn")


@pytest.fixture(scope="module")
def slides(tmp_path_factory):
    plates = sliding_plates(count=COUNT, slide_m=1.0, pan_deg=4.0)
    return slid(tmp_path_factory.mktemp("slides"), plates), plates.frames[MIDDLE]


def test_a_sky_on_near_marks_of_a_camera_that_slides_is_told_by_how_much_and_rides_on_the_camera(slides):
    filmed, middle = slides
    shot = filmed.riding(marks_on(propose_marks(middle, (40, 260, 600, 350), 3)))
    true = filmed.off_px(shot)
    assert true > 12
    assert max(entry.residual_px for entry in shot.lock("l").solved) < 4  # by itself it knows little of it
    reading = filmed.read(shot)
    assert reading.fault == "apart"
    assert 0.67 < reading.worst_px / true < 1.5
    assert reading.worst_place[1] < 200
    assert min(reading.frames_px, key=lambda frame: reading.frames_px[frame]) == 1001 + MIDDLE

    found = [f for f in findings_of(shot, Readings(rides={"z": reading})) if f.fault == "apart"]
    assert "what is far moves otherwise than L" in found[0].words
    mend = mend_of(shot, found[0])
    assert mend == Mend("ride camera", "Let Sky ride on a camera lock", "z")
    assert mended(shot, mend) is None  # that takes a measurement
    alone = LockFrame(frame=1001, homography=ONE)
    there = shot.with_lock(Lock(id="c", name="Camera", kind="camera", reference_frame=1001, solved=(alone,)))
    assert mend_of(there, found[0]) == Mend("ride", "Ride on Camera", "z", "c")


def test_of_a_long_shot_so_many_frames_are_asked_and_the_locks_own_among_them(slides, monkeypatch):
    filmed, middle = slides
    shot = filmed.riding(marks_on(propose_marks(middle, (40, 260, 600, 350), 3)))
    true = filmed.off_px(shot)
    monkeypatch.setattr("zonal_mantle.comp.plate_moves.MOST_FRAMES", 10)
    monkeypatch.setattr("zonal_mantle.comp.plate_moves.SOME_FRAMES", 6)
    far = far_moves(plate_tracks(shot, kept_pictures()), shot, 1001 + MIDDLE)
    assert list(far.asked) == [*range(1001, 1001 + COUNT, 2)]
    assert far.ways.keys() <= set(far.asked)
    reading = filmed.read(shot)
    assert reading.fault == "apart"
    assert 0.67 < reading.worst_px / true < 1.5


def test_a_plane_on_what_is_near_is_told_likewise_and_marks_that_are_far_are_not_blamed(slides):
    filmed, middle = slides
    field = ShapeKey(frame=1001 + MIDDLE, points=((60, 265), (580, 265), (580, 350), (60, 350)))
    plane = Lock(
        id="l", name="L", kind="plane", reference_frame=1001 + MIDDLE, motion="perspective",
        field=(Shape(id="f", name="F", keys=(field,)),),
    )  # fmt: skip
    shot = filmed.riding(plane)
    assert filmed.read(shot).fault == "apart"
    assert 0.67 < filmed.read(shot).worst_px / filmed.off_px(shot) < 1.5
    near = shot.with_zone(shot.zone("z").but(distance_m=20.0))  # what is hung where the field is goes with it
    assert filmed.read(near).fault != "apart"

    far = filmed.riding(marks_on(propose_marks(middle, (40, 100, 600, 160), 3)))
    assert filmed.off_px(far) < 1
    assert filmed.read(far).fault != "apart"
    assert filmed.read(far).worst_px < 2


def test_trees_that_are_nearer_than_the_lock_are_no_proof_against_it(tmp_path):
    plates = sliding_plates((RANGE, HILLS, BANK, NEAR_TREES), count=COUNT, slide_m=1.0, pan_deg=-3.0, seed=2)
    filmed = slid(tmp_path, plates)
    shot = filmed.riding(marks_on(propose_marks(plates.frames[MIDDLE], (20, 100, 215, 160), 3)))
    assert filmed.off_px(shot) < 3
    assert filmed.read(shot).fault != "apart"


def test_a_lock_that_slips_before_a_camera_that_only_turns_is_told_by_the_plate(tmp_path):
    plates = turning_plates(("gravel", "coffee"), 3, (640, 360), COUNT, 5.0, grain=0.01, shutter=0)
    sky = np.zeros((360, 640), np.float32)
    sky[:150] = 1  # a sheet all over, of which the upper part is replaced
    far = {1001 + n: way @ np.linalg.inv(plates.truth[MIDDLE]) for n, way in enumerate(plates.truth)}
    filmed_ = filmed(tmp_path, plates.frames, [sky] * COUNT, far)

    def lock(slips_px: float) -> Lock:
        entries = []
        for frame, way in far.items():
            slip = np.array([[1, 0, slips_px * (frame - 1001 - MIDDLE)], [0, 1, 0], [0, 0, 1.0]])
            flat = tuple((slip @ way / way[2, 2]).ravel().tolist())
            entries.append(LockFrame(frame=frame, homography=flat, residual_px=0.1))
        return marks_on([(300.0, 250.0), (100.0, 260.0)]).but(solved=tuple(entries))

    good, bad = (filmed_.shot.with_lock(lock(slips)) for slips in (0.0, 1.5))
    assert filmed_.read(good).fault != "apart"
    assert filmed_.off_px(bad) == pytest.approx(1.5 * MIDDLE, rel=0.05)
    reading = filmed_.read(bad)
    assert reading.fault == "apart"
    assert 0.67 < reading.worst_px / filmed_.off_px(bad) < 1.5
    tracks = plate_tracks(bad, kept_pictures())
    assert far_moves(tracks, bad, 1001 + MIDDLE).turned
    assert plate_tracks(bad, kept_pictures()) is tracks  # once for its pixels
    after = on_a_camera(bad, "z", kept_pictures())  # a pan lock then
    assert after.lock(after.zone("z").placement.rides).kind == "pan"
    assert filmed_.off_px(after) < 1


def test_a_plate_that_does_not_move_or_shows_nothing_is_no_witness(tmp_path):
    write_still(tmp_path / "one.1001.png", np.full((90, 160, 3), 0.5, np.float32))
    assert plate_tracks(new(tmp_path / "one.1001.png").shot, kept_pictures()) is None
    flat = [np.full((360, 640), 0.5, np.float32)] * 4
    sky = np.ones((360, 640), np.float32)
    far = {1001 + n: np.eye(3) for n in range(4)}
    still = filmed(tmp_path, flat, [sky] * 4, far)
    entries = tuple(LockFrame(frame=f, homography=(1, 0, f - 1001.0, 0, 1, 0, 0, 0, 1), residual_px=0.1) for f in far)
    shot = still.shot.with_lock(marks_on([(9.0, 9.0), (99.0, 9.0)]).but(reference_frame=1001, solved=entries))
    assert still.read(shot).fault != "apart"


def test_things_that_are_near_lie_beside_unlike_one_another_and_what_is_far_alike(slides):
    filmed, middle = slides
    shot = filmed.riding(marks_on(propose_marks(middle, (40, 260, 600, 350), 3)))
    tracks, lock = plate_tracks(shot, kept_pictures()), shot.lock("l")
    columns = columns_beside(shot, shot.zone("z"), filmed.openings, tracks)
    assert min(columns[frame].alike for frame in (1001, 1000 + COUNT)) > 0.8  # the range
    places = {frame: opened.places for frame, opened in filmed.openings.items()}
    told = beside_plate(shot, shot.zone("z"), columns, places, tracks, None)  # were no camera known
    assert 0.67 < told.px[told.frame] / filmed.off_px(shot) < 1.5
    unlike = {frame: each._replace(alike=0.4) for frame, each in columns.items()}  # as a house, poles and trees
    assert beside_plate(shot, shot.zone("z"), unlike, places, tracks, None) is None
    ways = {entry.frame: np.reshape(entry.homography, (3, 3)) for entry in lock.solved}
    unsure = FarMoves(ways, dict.fromkeys(ways, 99.0))  # a camera that is not sure of it, and speaks for the lock
    assert beside_plate(shot, shot.zone("z"), columns, places, tracks, unsure) is None
