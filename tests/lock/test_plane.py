"""The plane lock: followed both ways, kept where it is lost, refused where it cannot be."""

import numpy as np
import pytest

from lock_plates import box_mask, corner_errors, finished, flat_plates, photograph
from zonal_mantle.lock import LockError, joined, lock_feed, solve_plane
from zonal_mantle.lock.plane import too_loose
from zonal_mantle.shot import Lock, Shape, ShapeKey

SIZE, BOX = (480, 270), (130, 70, 350, 200)
LOCK = Lock(id="wall", name="Wall", kind="plane", reference_frame=4)


def solve(frames, lock=LOCK, box=BOX, **how):
    size = frames[0].shape[::-1]
    return solve_plane(
        lock, lambda f: frames[f - 1], box_mask(size, box), how.pop("cover", lambda f: None), range(1, len(frames) + 1),
        **how,
    )  # fmt: skip


def rms(values):
    return float(np.sqrt(np.mean(np.square(values))))


@pytest.fixture(scope="module")
def wall():
    return flat_plates("gravel", 11, SIZE, count=8, speed=0.8)


def truth(plates, frame, reference=4):
    return plates.truth[frame - 1] @ np.linalg.inv(plates.truth[reference - 1])


def test_it_is_solved_both_ways_from_its_reference_frame(wall):
    lock = solve(wall.frames)
    assert [entry.frame for entry in lock.solved] == list(range(1, 9))
    assert lock.at(4).homography == (1, 0, 0, 0, 1, 0, 0, 0, 1)
    for entry in lock.solved:
        assert corner_errors(np.array(entry.homography).reshape(3, 3), truth(wall, entry.frame), BOX) < 0.1
        assert entry.residual_px < 0.2


def test_frames_blurred_unlike_are_made_alike(monkeypatch):
    """A hard-edged picture, 180 degrees of shutter: without it, edges of unlike blur pull the field about."""
    plates = flat_plates("coffee", 7, (1280, 720), count=9)
    lock, box = LOCK.but(reference_frame=1), (340, 210, 940, 510)

    def off():
        found = solve(plates.frames, lock, box).solved
        return rms([corner_errors(np.reshape(e.homography, (3, 3)), truth(plates, e.frame, 1), box) for e in found])

    alike = off()
    monkeypatch.setattr("zonal_mantle.lock.blur.unlike", lambda a, b: False)
    assert alike < 0.05
    assert alike < 0.85 * off()


def test_one_way_keeps_what_was_solved_on_the_other(wall):
    lock = solve(wall.frames, direction="forward")
    assert [entry.frame for entry in lock.solved] == [4, 5, 6, 7, 8]
    both = solve(wall.frames, lock, direction="backward")
    assert both.at(7) == lock.at(7)
    assert len(both.solved) == 8


def test_only_missing_frames_are_solved(wall):
    lock = solve(wall.frames)
    marked = lock.at(6).but(residual_px=0.5)
    holed = lock.but(solved=tuple(marked if e.frame == 6 else e for e in lock.solved if e.frame != 7))
    again = solve(wall.frames, holed, missing_only=True)
    assert again.at(6) == marked
    assert again.at(7) is not None


@pytest.mark.parametrize("renewal", ["renew below", "renew every frame"])
def test_with_renewal_what_is_not_known_adds_up(wall, renewal):
    held, renewed = solve(wall.frames), solve(wall.frames, LOCK.but(renewal=renewal, renew_below=1.0))
    assert len(renewed.solved) == 8
    assert renewed.at(8).residual_px > held.at(8).residual_px
    assert corner_errors(np.array(renewed.at(8).homography).reshape(3, 3), truth(wall, 8), BOX) < 0.4


def test_full_cover_leaves_a_gap_and_it_is_found_again(wall):
    frames = [np.full_like(frame, 0.1) if k + 1 in (6, 7) else frame for k, frame in enumerate(wall.frames)]
    lock = solve(frames)
    assert [entry.frame for entry in lock.solved] == [1, 2, 3, 4, 5, 8]
    assert lock.lost[0].startswith("Forward: lost on frame")
    assert lock.lost[0].endswith("Found again on frame 8.")
    clear = solve(wall.frames)
    for entry in lock.solved[5:]:
        whole = np.reshape(clear.at(entry.frame).homography, (3, 3))
        assert corner_errors(np.reshape(entry.homography, (3, 3)), whole, BOX) < 0.15


def test_missing_frames_that_cannot_be_found_take_no_solved_ones_along(wall):
    """Frames beyond a gap stay as they were, also such as would not do as found again, and beyond a cut."""
    rng = np.random.default_rng(1)
    other = finished(photograph("coffee")[100:370, 300:780], 0.01, rng)
    whole = solve(wall.frames)
    poor = tuple(entry.but(residual_px=0.8) for entry in whole.solved if entry.frame != 6)
    again = solve([*wall.frames[:5], other, *wall.frames[6:]], whole.but(solved=poor), missing_only=True)
    assert again.solved == tuple(entry if entry.frame != 4 else whole.at(4) for entry in poor)
    assert "frame 6" in again.lost[0]


def test_cover_to_the_end_keeps_what_was_solved(wall):
    lock = solve([np.full_like(frame, 0.1) if k > 4 else frame for k, frame in enumerate(wall.frames)])
    assert lock.solved[-1].frame == 5
    assert "Found again" not in lock.lost[0]


def test_a_cut_is_named_with_its_frame(wall):
    rng = np.random.default_rng(1)
    other = finished(photograph("coffee")[100:370, 300:780], 0.01, rng)
    lock = solve([*wall.frames[:6], other, other])
    assert lock.solved[-1].frame == 6
    assert "cut between frame 6" in lock.lost[0]


def test_what_is_left_out_does_not_count(wall):
    """A poster that slides over half of the field pulls a lock that looks at it, and not one that leaves it out."""
    poster = photograph("coffee")[:130, :150]
    frames = [frame.copy() for frame in wall.frames]
    for k, frame in enumerate(frames):
        frame[70:200, 135 + 7 * k : 285 + 7 * k] = poster

    def cover(frame):
        out = np.ones((270, 480), np.float32)
        out[66:204, 128 + 7 * (frame - 1) : 292 + 7 * (frame - 1)] = 0
        return out

    size = frames[0].shape[::-1]
    lock = solve_plane(LOCK, lambda f: frames[f - 1], box_mask(size, BOX) * cover(4), cover, range(1, 9))
    assert len(lock.solved) == 8
    assert corner_errors(np.array(lock.at(8).homography).reshape(3, 3), truth(wall, 8), BOX) < 0.5


def test_two_solves_from_different_frames_are_joined(wall):
    early = solve(wall.frames[:6], LOCK.but(reference_frame=2))
    late = solve(wall.frames, LOCK.but(reference_frame=7), direction="backward")
    late = late.but(solved=(*late.solved, solve(wall.frames, LOCK.but(reference_frame=7)).at(8)))
    whole = joined(early, late)
    assert [entry.frame for entry in whole.solved] == list(range(1, 9))
    assert corner_errors(np.array(whole.at(8).homography).reshape(3, 3), truth(wall, 8, 2), BOX) < 0.2
    with pytest.raises(LockError, match="share no solved frame"):
        joined(early.but(solved=early.solved[:1]), late.but(solved=late.solved[-1:]))


@pytest.mark.parametrize(
    ("lock", "box", "frames", "words"),
    [
        (LOCK.but(reference_frame=40), BOX, 8, "frame 40, which is not in the shot"),
        (LOCK, (0, 0, 0, 0), 8, "empty, too small, or off the picture"),
        (LOCK.but(reference_frame=1), BOX, 1, "one frame"),
    ],
)
def test_what_cannot_be_solved_is_refused_in_words(wall, lock, box, frames, words):
    with pytest.raises(LockError, match=words):
        solve(wall.frames[:frames], lock, box)


def test_a_field_without_texture_is_refused(wall):
    flat = [np.full((270, 480), 0.7, np.float32) for _ in range(4)]
    with pytest.raises(LockError, match="nothing to hold"):
        solve(flat, LOCK.but(reference_frame=2))


def test_pixels_that_are_not_numbers_do_not_reach_the_search():
    pixels = np.full((20, 30, 3), 0.4, np.float32)
    pixels[5, 6], pixels[7, 8] = np.nan, np.inf
    for channel in ("luma", "blue", "saturation"):
        assert np.isfinite(lock_feed(pixels, channel, 1.0)).all()


def test_a_whole_frame_that_tells_too_little_is_not_asked_to_be_larger():
    free = Lock(id="l", name="L", kind="plane", reference_frame=1)
    corners = ((10, 10), (90, 10), (90, 60), (10, 60))
    drawn = free.but(field=(Shape(id="f", name="F", keys=(ShapeKey(frame=1, points=corners),)),))
    assert "Draw it over one thing" in too_loose(free, 1.2)
    assert "larger" not in too_loose(free, 1.2)
    assert "Make it larger" in too_loose(drawn, 1.2)
    assert "Draw it over one thing" in too_loose(drawn.but(field=(drawn.field[0].but(on=False),)), 1.2)
