"""What a camera lock says of its error: by repeated draws, and the ways that no picture tells."""

import cv2
import numpy as np
import pytest

from tracked import FOCAL, SIZE, small_scene
from zonal_mantle.geometry import carry
from zonal_mantle.lock.bundle import Scene, Views, adjust, pictured
from zonal_mantle.lock.dominant import Dominant
from zonal_mantle.lock.rivals import Rivals, apart_px
from zonal_mantle.lock.scene import error_of
from zonal_mantle.lock.slide import far_apart, slides_px

COUNT, NOISE = 24, 0.15


def far_places(focal):
    """Places hung far off over the first camera's picture, as points of a lock that has a focal length."""
    x, y = (each.reshape(-1) for each in np.meshgrid([-448, 0, 448.0], [-252, 0, 252.0]))
    return np.column_stack([x / focal, y / focal, np.ones(9), np.zeros(9)])


def seen_far(scene):
    cameras = len(scene.turns)
    views = Views(np.repeat(np.arange(cameras), 9), np.tile(np.arange(9), cameras), np.zeros((1, 2)))
    places = far_places(scene.focal_px)
    return pictured(Scene(scene.focal_px, scene.distortion, scene.turns, scene.places, places), views).reshape(-1, 9, 2)


def panned(cameras=8, points=60):
    """A camera that turns by ten degrees and hardly moves, and what it sees: the lens is told by few pixels."""
    true, _ = small_scene(seed=3, cameras=cameras, points=points)
    true.distortion = 0.0
    share = np.arange(cameras) / (cameras - 1)
    true.turns = np.array([cv2.Rodrigues(np.radians([0.8 * s, 10 * s, 0.3 * s]))[0] for s in share])
    true.places = np.outer(share, [0.3, 0.05, 0.1])
    camera, point = (each.reshape(-1) for each in np.meshgrid(np.arange(cameras), np.arange(points), indexing="ij"))
    views = Views(camera, point, np.zeros((len(camera), 2)))
    return true, Views(camera, point, pictured(true, views))


def strays_of(kind, views, rng):
    """Errors of the views: each by itself, or a slow wave along each track, or each by itself and as much more that all
    on one side of the picture share."""
    if kind == "each":
        return rng.normal(0, NOISE, views.seen.shape)
    if kind == "sides":
        side = np.digitize(views.seen[:, 0] - 20.0 * views.camera, [-120, 120])
        return (
            rng.normal(0, NOISE, views.seen.shape)
            + rng.normal(0, NOISE, (views.camera.max() + 1, 3, 2))[views.camera, side]
        )
    count, phases = views.camera.max() + 1, rng.uniform(0, 1, (views.point.max() + 1, 2))
    return 1.4 * NOISE * np.sin(2 * np.pi * (0.7 * views.camera[:, None] / count + phases[views.point]))


def drawn(kind, given=False, points=60):
    """Root mean square errors by camera over draws, the worse of the scene's points and of far things; and what is
    said."""
    true, views = panned(points=points)
    clean, far = views.seen, seen_far(true)
    rng, points, wide, said = np.random.default_rng(8), [], [], []
    for _ in range(COUNT):
        noisy = Views(views.camera, views.point, clean + strays_of(kind, views, rng))
        begun = Scene(FOCAL, 0.0, true.turns.copy(), true.places.copy(), true.points.copy())
        found = adjust(begun, noisy, not given, rounds=20)
        off = ((pictured(found, views) - clean) ** 2).sum(axis=1)
        points.append(np.bincount(views.camera, off) / np.bincount(views.camera))
        wide.append(((seen_far(found) - far) ** 2).sum(axis=2).mean(axis=1))
        said.append(slides_px(found, noisy, SIZE, not given) ** 2)
    points, wide, said = (np.mean(each, axis=0) for each in (points, wide, said))
    return np.sqrt(np.maximum(points, wide)), np.sqrt(said)


@pytest.mark.parametrize(("kind", "given"), [("each", False), ("each", True), ("wave", False)])
def test_the_error_that_is_said_is_that_of_repeated_draws(kind, given):
    true, said = drawn(kind, given)
    assert true.max() > 0.05
    assert 0.67 < np.sqrt((said[1:] ** 2).mean() / (true[1:] ** 2).mean()) < 1.5


@pytest.mark.parametrize("kind", ["each", "sides"])
def test_what_a_side_of_the_picture_errs_by_together_is_told_by_leaving_it_out(kind):
    """Tracks alone have half of it: they do not tell what many of them share."""
    true, said = drawn(kind, points=240)
    assert 0.67 < np.sqrt((said[1:] ** 2).mean() / (true[1:] ** 2).mean()) < 1.5


def test_a_lens_that_is_solved_adds_to_the_error():
    """A given lens leaves far things surer than one that was solved (Hartley & Zisserman 2004, section 19.8)."""
    _, free = drawn("each", False)
    _, known = drawn("each", True)
    assert free[-1] > 1.5 * known[-1]


def test_what_was_taken_off_for_a_stretched_pattern_is_doubted_as_a_whole():
    """A quarter of what is taken off, all one way, by a scene that is adjusted anew with it."""
    true, views = panned()
    rng = np.random.default_rng(12)
    noisy = views.seen + rng.normal(0, 0.02, views.seen.shape)
    far = 0.004 * views.seen[:, :1] * views.camera[:, None] * [1.0, 0.3]  # wider with each frame, as in a pan
    said, moved = [], []
    for taken in (np.zeros_like(far), far):
        given = Views(views.camera, views.point, noisy, taken)
        found = adjust(Scene(FOCAL, 0.0, true.turns, true.places, true.points), given, True, rounds=20)
        less = adjust(found, Views(views.camera, views.point, noisy - 0.25 * taken), True, rounds=40, least_gain=1e-9)
        moved.append(np.sqrt(((seen_far(less) - seen_far(found)) ** 2).sum(axis=2).mean(axis=1)))
        said.append(slides_px(found, given, SIZE, True))
    assert np.median(said[1][1:] / np.hypot(said[0], moved[1])[1:]) == pytest.approx(1, abs=0.25)
    assert said[1][-1] > 2 * said[0][-1]


def test_scenes_are_as_far_apart_as_a_turn_makes_what_is_far():
    """K R K⁻¹ carries what is far (Hartley & Zisserman 2004, 8.4.2); a bend alone moves nothing where it was hung."""
    turns, places = np.tile(np.eye(3), (3, 1, 1)), np.zeros((3, 3))
    here = Scene(FOCAL, 0.0, turns, places, np.array([[0.0, 0, 1, 0]]))
    turned = np.array([np.eye(3), np.eye(3), cv2.Rodrigues(np.array([0, 0.004, 0]))[0]])
    apart = far_apart(here, [Scene(FOCAL, 0.0, turned, places, here.points)], SIZE)
    assert apart[:2] == pytest.approx([0, 0], abs=1e-9)
    k = np.diag([FOCAL, FOCAL, 1.0])
    hung = far_places(1.0)[:, :2]
    moved = carry(k @ turned[2] @ np.linalg.inv(k), hung) - hung
    assert apart[2] == pytest.approx(np.sqrt((moved**2).sum(axis=1).mean()), rel=1e-6)
    assert far_apart(here, [Scene(FOCAL, 0.2, turns, places, here.points)], SIZE) == pytest.approx([0, 0, 0], abs=1e-6)
    assert far_apart(here, [], SIZE).tolist() == [0, 0, 0]
    back = np.array([np.eye(3), np.eye(3), cv2.Rodrigues(np.array([0, np.pi, 0]))[0]])
    behind, other = (Scene(FOCAL * each, 0.0, back, places, here.points) for each in (1.0, 1.1))
    assert far_apart(behind, [other], SIZE)[2] == 0  # nothing of it is before the lens there


def test_of_few_points_another_scene_explains_as_well_what_it_does_not_of_many():
    """One that is off by a tenth more, and hangs what is far elsewhere, is a rival of thirty, not of four hundred."""
    for points, counts in ((30, True), (400, False)):
        true, views = panned(points=points)
        strays = np.random.default_rng(3).normal(0, NOISE, views.seen.shape)
        views = Views(views.camera, views.point, views.seen + strays)
        least, other = error_of(true, views), true
        for turn in np.linspace(0, 0.01, 500):
            turned = cv2.Rodrigues(np.array([0, turn, 0]))[0]
            turns = np.concatenate([true.turns[:-1], [turned @ true.turns[-1]]])
            other = Scene(true.focal_px, 0.0, turns, true.places, true.points)
            if error_of(other, views) > 1.1 * least:
                break
        rivals = Rivals(other, [other], Dominant(np.zeros(3), 0.5, 20))
        apart = apart_px(true, views, rivals, None, SIZE)
        assert (apart[-1] > 0.2) == counts
        assert apart[0] == 0
