"""Point locks: the similarity, the search, when a patch is lost, what is refused."""

import cv2
import numpy as np
import pytest
from skimage.transform import SimilarityTransform

from zonal_mantle.lock import LockError, Patch, fit_motion, lock_feed, propose_marks, read_lock, solve_point
from zonal_mantle.shot import Lock, Mark

COUNT = 12


def moved(photograph: np.ndarray, frame: int, rng: np.random.Generator | None = None) -> tuple[np.ndarray, np.ndarray]:
    """The photograph under a known motion, with grain, as 8-bit: (feed, 3×3 from frame 0)."""
    angle, size = np.deg2rad(0.25 * frame), 1 + 0.004 * frame
    c, s = np.cos(angle) * size, np.sin(angle) * size
    centre = np.array([320.0, 213.0])
    shift = np.array([3.37 * frame, 6 * np.sin(frame / 3.0)])
    linear = np.array([[c, -s], [s, c]])
    matrix = np.eye(3)
    matrix[:2, :2], matrix[:2, 2] = linear, centre - linear @ centre + shift
    array = matrix.copy()  # from continuous places to array places: half a pixel on either side
    half = np.array([[1, 0, 0.5], [0, 1, 0.5], [0, 0, 1]])
    array = np.linalg.inv(half) @ matrix @ half
    grey = lock_feed(photograph)
    picture = cv2.warpAffine(grey, array[:2], (640, 427), flags=cv2.INTER_LANCZOS4, borderMode=cv2.BORDER_REFLECT)
    if rng is not None:
        picture = picture + rng.normal(0, 0.012, picture.shape)
    return (np.round(np.clip(picture, 0, 1) * 255) / 255).astype(np.float32), matrix


MARKS = (Mark(x=322.5, y=340.0, patch=(16, 16), reach=(14, 14)), Mark(x=250.0, y=385.0, patch=(16, 16), reach=(14, 14)))


@pytest.fixture
def feeds(photograph):
    rng = np.random.default_rng(4)
    return [moved(photograph, frame, rng) for frame in range(COUNT)]


@pytest.mark.parametrize("count", [2, 3, 9])
def test_the_similarity_agrees_with_a_reference_solver(count):
    rng = np.random.default_rng(count)
    source, target = rng.uniform(0, 500, (count, 2)), rng.uniform(0, 500, (count, 2))
    # reference library: scikit-image, SimilarityTransform (Umeyama 1991)
    reference = SimilarityTransform.from_estimate(source, target)
    ours = fit_motion(source, target, "similarity")
    expected = np.linalg.norm(reference(source) - target)
    lifted = np.c_[source, np.ones(count)] @ ours.T
    assert np.linalg.norm(lifted[:, :2] - target) <= 1.05 * expected + 1e-6
    if np.linalg.det(reference.params[:2, :2]) > 0:
        assert ours == pytest.approx(reference.params, abs=1e-6)


def test_one_point_gives_a_shift_and_coinciding_points_are_refused():
    assert fit_motion(np.array([[1.0, 2]]), np.array([[4.0, 6]]), "translation")[:2, 2].tolist() == [3, 4]
    with pytest.raises(ValueError, match="apart"):
        fit_motion(np.ones((2, 2)), np.ones((2, 2)), "similarity")


def test_one_mark_follows_a_photograph_to_well_under_a_tenth_of_a_pixel(photograph):
    # a photograph from a reference library (scikit-image), moved by a known shift, grain and 8-bit
    rng = np.random.default_rng(8)
    grey = lock_feed(photograph)
    mark = MARKS[0]
    patch = Patch(grey, mark)
    for dx, dy in ((0.25, 0.5), (3.7, -2.1), (-9.33, 6.81)):
        shifted = cv2.warpAffine(grey, np.array([[1, 0, dx], [0, 1, dy]]), (640, 427), flags=cv2.INTER_LANCZOS4)
        noisy = np.round((shifted + rng.normal(0, 0.01, grey.shape)) * 255).astype(np.float32) / 255
        found = patch.search(noisy, mark.x, mark.y)
        assert found is not None
        assert (found.x - mark.x, found.y - mark.y) == pytest.approx((dx, dy), abs=0.07)
        assert found.confidence > 0.9


def test_gain_and_bias_do_not_move_the_place(photograph):
    grey = lock_feed(photograph)
    found = Patch(grey, MARKS[0]).search(grey * 0.6 + 0.2, MARKS[0].x + 5, MARKS[0].y - 4)
    assert found is not None
    assert (found.x, found.y) == pytest.approx((MARKS[0].x, MARKS[0].y), abs=1e-3)


def test_two_marks_give_position_turn_and_size(feeds):
    lock = Lock(id="l", name="Hills", reference_frame=0, marks=MARKS)
    solved = solve_point(lock, lambda frame: feeds[frame][0], range(COUNT))
    assert len(solved.solved) == COUNT
    assert not solved.lost
    points = np.array([[m.x, m.y, 1.0] for m in MARKS]).T
    errors = []
    for entry in solved.solved:
        ours = np.array(entry.homography).reshape(3, 3) @ points
        truth = feeds[entry.frame][1] @ points
        errors.append(np.hypot(*(ours - truth)[:2]).mean())
    assert np.sqrt(np.mean(np.square(errors))) < 0.15
    reading = read_lock(solved, range(COUNT))
    assert reading.rms_px < 0.3
    assert np.sqrt(np.mean(np.square(errors))) < 3 * reading.rms_px + 0.02  # it does not flatter itself


def test_a_solve_starts_at_the_reference_frame_both_ways(feeds):
    start = 6
    inverse = np.linalg.inv(feeds[0][1])
    places = [feeds[start][1] @ inverse @ [m.x, m.y, 1] for m in MARKS]
    marks = tuple(m.but(x=float(p[0]), y=float(p[1])) for m, p in zip(MARKS, places))
    lock = Lock(id="l", name="Hills", reference_frame=start, marks=marks)
    forward = solve_point(lock, lambda f: feeds[f][0], range(COUNT), "forward")
    assert [e.frame for e in forward.solved] == list(range(start, COUNT))
    both = solve_point(forward, lambda f: feeds[f][0], range(COUNT), "backward")
    assert [e.frame for e in both.solved] == list(range(COUNT))
    assert both.at(start).homography == (1, 0, 0, 0, 1, 0, 0, 0, 1)


def test_a_covered_patch_stops_the_solve_and_is_named(feeds):
    covered = [feed.copy() for feed, _ in feeds]
    for feed in covered[7:]:
        feed[:] = np.linspace(0.1, 0.3, feed.shape[1]) + 0.02 * np.random.default_rng(1).standard_normal(feed.shape)
    lock = Lock(id="l", name="Hills", reference_frame=0, marks=MARKS[:1])
    solved = solve_point(lock, lambda f: covered[f], range(COUNT))
    assert [e.frame for e in solved.solved] == list(range(7))
    assert len(solved.lost) == 1
    assert "lost on frame 7: mark 1" in solved.lost[0]


def test_a_mark_that_leaves_the_picture_is_lost_not_guessed(photograph):
    grey = lock_feed(photograph)
    feeds = [np.roll(grey, -12 * f, axis=1) for f in range(COUNT)]
    lock = Lock(id="l", name="L", reference_frame=0, marks=(Mark(x=80.0, y=380.0, patch=(16, 16), reach=(20, 10)),))
    solved = solve_point(lock, lambda f: feeds[f], range(COUNT))
    assert solved.lost
    assert all(e.marks[0][0] > 16 for e in solved.solved)


def test_cancelling_leaves_the_lock_as_it_was(feeds):
    class Stop(Exception):
        pass

    def progress(share: float, words: str) -> None:
        if share > 0.4:
            raise Stop

    lock = Lock(id="l", name="Hills", reference_frame=0, marks=MARKS)
    with pytest.raises(Stop):
        solve_point(lock, lambda f: feeds[f][0], range(COUNT), progress=progress)
    assert lock.solved == ()


@pytest.mark.parametrize(
    ("change", "words"),
    [
        ({"marks": ()}, "has no mark"),
        ({"reference_frame": 99}, "not in the shot"),
        ({"marks": (Mark(x=3, y=3),)}, "too near the rim"),
    ],
)
def test_what_cannot_be_solved_is_said(feeds, change, words):
    lock = Lock(id="l", name="Hills", reference_frame=0, marks=MARKS).but(**change)
    with pytest.raises(LockError, match=words):
        solve_point(lock, lambda f: feeds[f][0], range(COUNT))


def test_a_mark_on_nothing_is_refused():
    lock = Lock(id="l", name="Hills", reference_frame=0, marks=(Mark(x=50, y=50),))
    with pytest.raises(LockError, match="nothing that can be followed"):
        solve_point(lock, lambda f: np.full((100, 100), 0.9, np.float32), range(3))


def test_the_feed_has_its_channels_and_filters():
    picture = np.zeros((9, 9, 3), np.float32)
    picture[4, 4] = (1.0, 0.25, 0.0)
    assert lock_feed(picture, "red")[4, 4] == pytest.approx(1.0, abs=1e-5)
    assert lock_feed(picture, "saturation")[4, 4] == pytest.approx(1.0, abs=1e-5)
    assert (
        lock_feed(picture, "luma", 1.0)[4, 4]
        < lock_feed(picture, "luma")[4, 4]
        < lock_feed(picture, "luma", -1.0)[4, 4]
    )


def test_the_feed_is_that_of_the_standard_and_black_where_there_is_no_number():
    """IEC 61966-2-1's curve and the luma of ITU-R BT.709, by colour-science."""
    import colour

    picture = np.random.default_rng(2).random((20, 30, 4)).astype(np.float32)
    coded = colour.models.eotf_inverse_sRGB(picture[..., :3].astype(float))
    np.testing.assert_allclose(lock_feed(picture), coded @ [0.2126, 0.7152, 0.0722], atol=1e-4)
    np.testing.assert_allclose(lock_feed(picture[:, ::-1], "blue"), coded[:, ::-1, 2], atol=1e-4)
    picture[3, 4], picture[5, 6], picture[7, 8] = np.nan, -np.inf, np.inf
    feed = lock_feed(picture)
    assert feed[3, 4] == feed[5, 6] == 0
    assert 1 < feed[7, 8] < 10
    with pytest.raises(ValueError):
        lock_feed(picture, "violet")


def test_marks_are_proposed_on_corners_and_not_on_grain():
    """The corners of a board of squares are known."""
    rng = np.random.default_rng(3)
    y, x = np.mgrid[:160, :240]
    board = (0.3 + 0.4 * (((x // 40) + (y // 40)) % 2)).astype(np.float32) + rng.normal(0, 0.01, x.shape)
    places = propose_marks(board.astype(np.float32), (20.0, 20.0, 220.0, 140.0))
    assert len(places) == 6
    for px, py in places:
        assert abs(px - round(px / 40) * 40) < 3.5
        assert abs(py - round(py / 40) * 40) < 3.5
    grain = (0.5 + rng.normal(0, 0.01, x.shape)).astype(np.float32)
    assert propose_marks(grain, (20.0, 20.0, 220.0, 140.0)) == []
    assert propose_marks(grain, (20.0, 20.0, 22.0, 140.0)) == []
