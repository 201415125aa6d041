"""What a motion does not tell is said: a camera that only turned, and a focal length that slides leave open."""

import cv2
import numpy as np
import pytest

from stores import kept_pictures
from tracked import SIZE as TRACKED
from tracked import walked
from zonal_mantle.comp import suggest_lock
from zonal_mantle.lock import LockError, propose
from zonal_mantle.lock.camera import camera_from_tracks
from zonal_mantle.lock.errors import OnlyTurned
from zonal_mantle.lock.features import Track
from zonal_mantle.lock.propose import tried
from zonal_mantle.shot import Lens, Lock, Shot, Source

SIZE, FOCAL, FRAMES = (1280, 720), 1300.0, range(1, 25)
LOCK = Lock(id="cam", name="Cam", kind="camera", reference_frame=1)


def seen(way, pan, noise, seed, sway=0.0, drift=0.0, bend=0.0):
    """Tracks of points 4 to 80 m away; each errs by `noise` on every frame, and drifts."""
    rng = np.random.default_rng(seed)
    world = np.column_stack([rng.uniform(-0.6, 0.6, 160), rng.uniform(-0.3, 0.3, 160), np.ones(160)])
    world *= np.exp(rng.uniform(np.log(4), np.log(80), 160))[:, None]
    tracks, drifts = [Track() for _ in world], rng.normal(0, drift, (160, 2))
    for k, frame in enumerate(FRAMES):
        share = k / (len(FRAMES) - 1)
        turn = cv2.Rodrigues(np.radians([0.6 * np.sin(5 * share), pan * share, 0.4 * share]) * (pan != 0))[0]
        place = np.array(way) * share + sway * np.sin([9 * share, 7 * share, 5 * share])
        local = (world - place) @ turn.T
        flat = local[:, :2] / local[:, 2:]
        at = FOCAL * flat * (1 + bend * (flat**2).sum(axis=1, keepdims=True)) + np.array(SIZE) / 2
        at = at + rng.normal(0, noise, at.shape) + drifts * k / len(FRAMES)
        for track, (x, y), z in zip(tracks, at, local[:, 2]):
            if z > 0 and 0 < x < SIZE[0] and 0 < y < SIZE[1]:
                track.places[frame] = (float(x), float(y))
    return [track for track in tracks if track.life > 4]


def solved(tracks, lens=None):
    return camera_from_tracks(LOCK.but(lens=lens or Lens()), tracks, FRAMES, SIZE, lambda share, words: None)


@pytest.mark.parametrize(
    ("pan", "noise", "drift", "bend", "seed"),
    [(5, 0.3, 0.6, 0, 1), (3, 0.4, 0, 0, 3), (10, 0.4, 0, -0.05, 2)],
)
def test_a_camera_that_only_turned_is_never_called_a_moving_one(pan, noise, drift, bend, seed):
    """Hartley & Zisserman 2004, 19.8: without a way there is no depth, however noisy the tracks."""
    with pytest.raises(OnlyTurned, match=r"only turned.*pan lock"):
        solved(seen((0, 0, 0), pan, noise, seed, drift=drift, bend=bend))


def test_a_camera_that_may_be_off_by_more_than_turning_leaves_is_not_solved_as_a_moving_one():
    """A way of a centimetre or two, points 4 m away: a turn explains it to a fifth of a pixel. Unless the camera is
    told as well, a pan lock serves better."""

    def found(way, seed):
        tracks = walked(seed=seed, way=(way, 0.0, 0.0), noise=0.04, sway=0.0)[0]
        return camera_from_tracks(LOCK, tracks, range(1, 21), TRACKED, lambda share, words: None)

    with pytest.raises(OnlyTurned, match="Solved as one that moves it could be off by"):
        found(0.015, 2)
    assert max(entry.residual_px for entry in found(0.02, 2).solved) < 0.3


def test_blurs_that_shift_patterns_are_not_taken_for_depth():
    """Each pattern is shifted by its own share of how much more a frame is smeared: all of one course, as depth is."""
    tracks, rng = seen((0, 0, 0), 15, 0.08, 2), np.random.default_rng(2)
    for track in tracks:
        share = rng.normal(0, 0.3)
        for frame, (x, y) in track.places.items():
            smear = np.sin(0.7 * (frame - 1)) + np.sin(0.31 * (frame - 1))
            track.places[frame] = (x + share * smear, y)
    with pytest.raises(OnlyTurned, match=r"could be off by \d.*pan lock"):
        solved(tracks)


@pytest.mark.parametrize("way", [(0.1, 0, 0.02), (0.6, 0.0, 0.1)])
def test_a_way_that_stands_out_from_the_noise_is_solved(way):
    lock = solved(seen(way, 8, 0.1, 2))
    assert lock.lens.focal_px == pytest.approx(FOCAL, rel=0.05)
    low, high = lock.lens.bounds_px
    assert low < FOCAL < high
    assert lock.lens.focal_told
    assert lock.lost == ()


@pytest.mark.parametrize(("way", "sway"), [((1, 0.1, 0.02), 0.01), ((0, 0, 1.5), 0.0)])
def test_a_slide_without_a_turn_says_that_it_does_not_tell_the_focal_length(way, sway):
    """Hartley & Zisserman 2004, 19.8: a camera that only slides leaves its focal length and depths to one another."""
    lock = solved(seen(way, 0, 0.15, 3, sway=sway))
    low, high = lock.lens.bounds_px
    assert low < FOCAL < high
    assert not lock.lens.focal_told
    assert any("does not tell the focal length" in words for words in lock.lost)


def test_a_slide_whose_focal_length_is_given_is_solved_without_a_word():
    lock = solved(seen((1, 0.1, 0.02), 0, 0.1, 3, sway=0.01), Lens(focal_px=FOCAL, given=True))
    assert lock.lens.focal_told
    assert lock.lost == ()
    assert np.sqrt(np.mean([entry.residual_px**2 for entry in lock.solved])) < 0.2


def test_an_untold_focal_length_is_a_finding(plate_folder):
    from zonal_mantle.comp import take_readings
    from zonal_mantle.shot import LockFrame

    source = Source(
        id="plate", name="Plate", path=str(plate_folder / "plate.%04d.exr"), kind="sequence", width=32, height=24,
        first=1001, last=1005, encoding="Scene-linear Rec. 709",
    )  # fmt: skip
    lens = Lens(focal_px=1300, bounds_px=(300, 6000))
    entries = tuple(
        LockFrame(frame=frame, homography=(1, 0, 0, 0, 1, 0, 0, 0, 1), rotation=(0, 0, 0), position=(0, 0, 0))
        for frame in range(1001, 1006)
    )
    lock = LOCK.but(reference_frame=1001, lens=lens, solved=entries)
    shot = Shot(plate="plate", sources=(source,), locks=(lock,))
    found = [each.words for each in take_readings(shot, kept_pictures()).findings]
    assert any("focal length" in words for words in found)
    known = shot.with_lock(lock.but(lens=lens.but(given=True)))
    assert not any("focal length" in each.words for each in take_readings(known, kept_pictures()).findings)


def test_hopeless_tracks_are_refused():
    rng = np.random.default_rng(1)
    tracks = [Track({f: tuple(rng.uniform(0, 700, 2).tolist()) for f in FRAMES}) for _ in range(80)]
    with pytest.raises(LockError):
        solved(tracks)


def filmed(kind: str, degrees: float, tmp_path):
    """The photograph *coffee* (scikit-image), seen by a camera that turns; first and last frame share nothing."""
    from skimage import data

    focal, size, count = 500.0, (400, 225), 24
    picture = cv2.resize(data.coffee()[..., ::-1], (1600, 1066))
    picture = np.hstack([picture, picture[:, ::-1]])
    k = np.array([[focal, 0, size[0] / 2], [0, focal, size[1] / 2], [0, 0, 1]])
    rays = np.array([[1 / focal, 0, -1600 / focal], [0, 1 / focal, -533 / focal], [0, 0, 1]])
    rng = np.random.default_rng(1)
    for n in range(count):
        turn = cv2.Rodrigues(np.radians([1.5 * np.sin(n), degrees * (n / (count - 1) - 0.5), 0.5 * np.sin(2 * n)]))[0]
        frame = cv2.warpPerspective(picture, k @ turn.T @ rays, size, flags=cv2.INTER_CUBIC)
        noisy = np.clip(frame + rng.normal(0, 2, frame.shape), 0, 255)
        cv2.imwrite(str(tmp_path / f"{kind}.{n + 1:04d}.png"), noisy.astype(np.uint8))
    return tmp_path / f"{kind}.%04d.png"


def test_a_proposed_lock_was_tried_and_holds(tmp_path):
    from zonal_mantle.api import new

    session = new(filmed("pan", 60, tmp_path))
    lock = suggest_lock(session.shot, session.store).lock
    assert "Tried" in lock.remarks[0]
    session.shot = session.shot.with_lock(lock)
    session.solve(lock.id)
    solved = session.shot.lock(lock.id)
    assert len(solved.solved) == 24
    assert solved.kind == "pan"
    assert solved.lens.focal_px == pytest.approx(500, rel=0.05)


def test_a_pan_is_not_proposed_where_the_turn_does_not_tell_the_focal_length():
    """Features that slide off the frame as a whole, as by a camera that only slides past one wall."""
    rng = np.random.default_rng(3)
    tracks = []
    for _ in range(240):
        x, y = rng.uniform(0, 4000), rng.uniform(0, 720)
        places = {f: (x - 120.0 * f + rng.normal(0, 0.1), y + rng.normal(0, 0.1)) for f in FRAMES}
        track = Track({f: p for f, p in places.items() if 0 < p[0] < SIZE[0]})
        if track.life > 4:
            tracks.append(track)
    first = propose(tracks, FRAMES, SIZE)
    assert first.kind == "pan"
    found = tried(first, tracks, FRAMES, SIZE)
    assert (found.kind, found.field_stays) == ("plane", True)
    assert "Tried as a turning camera" in found.why
