"""Least squares over links, points placed together, and cameras without points: against plain linear algebra."""

import numpy as np
import pytest
from scipy.optimize import least_squares

from tracked import FOCAL, SIZE, laid_out, walked
from zonal_mantle.lock import bundle
from zonal_mantle.lock.bundle import Normal, Problem
from zonal_mantle.lock.chain import NOTHING, columns_of, settled
from zonal_mantle.lock.features import Track
from zonal_mantle.lock.middle import middle
from zonal_mantle.lock.scene import triangulated, views_of, with_points

MIDDLE = np.array(SIZE) / 2


def seen_by_walking(noise=0.1):
    """Tracks, the number of each frame's camera, and the cameras, turned so that the first is the origin."""
    tracks, turns, places = walked(noise=noise, sway=0.0)
    turned = turns @ turns[0].T
    return tracks, {k + 1: k for k in range(len(turns))}, turned, places @ turns[0].T


@pytest.mark.parametrize("soft", [3.0, 60.0])
def test_links_settle_where_scipys_least_squares_does(soft):
    """Frames on a line, two numbers each; links say how far apart they are, bent a little, a few of them wrongly."""
    rng = np.random.default_rng(4)
    frames = 12
    true = np.vstack([[0, 0], rng.normal(0, 3, (frames - 1, 2))])
    keys = np.array([k for k in range(frames) for back in (1, 3, 5) if k >= back])
    ends = np.array([k - back for k in range(frames) for back in (1, 3, 5) if k >= back])
    said = true[ends] - true[keys] + rng.normal(0, 0.3, (len(keys), 2))
    said[::9] += 30.0

    def off(key, end):
        way = end - key
        return way + 0.02 * np.sin(way[:, ::-1]) - said

    def errors(local):
        return off(local[:, :2], local[:, 2:])

    def all_errors(values):
        places = np.vstack([[0, 0], values.reshape(-1, 2)])
        return off(places[keys], places[ends]).reshape(-1)

    columns = columns_of(keys, ends, 2)
    assert (columns[ends == 0, 2:] == NOTHING).all()
    ours = settled(errors, columns, 2 * frames - 2, soft=soft)
    theirs = least_squares(all_errors, np.zeros(2 * frames - 2), loss="soft_l1", f_scale=soft, xtol=1e-12, ftol=1e-12)
    assert ours.cost == pytest.approx(theirs.cost, rel=1e-5)
    assert np.abs(ours.values - theirs.x).max() < 1e-2 * np.abs(ours.values - true[1:].reshape(-1)).max()
    assert ours.square.toarray() == pytest.approx(theirs.jac.T @ theirs.jac, rel=1e-2, abs=1e-2)
    assert ours.errors == 2 * len(keys)


def test_points_are_placed_together_as_each_is_alone():
    """Each alone by the singular vectors of its own equations (Hartley & Zisserman 2004, section 12.2)."""
    tracks, index, turns, places = seen_by_walking()
    tracks.append(Track({3: (10.0, 10.0)}))  # seen once
    points, there = triangulated(tracks, index, turns, places, FOCAL, MIDDLE)
    assert not there[-1]
    for track, point, known in zip(tracks[:-1], points, there):
        at = [index[frame] for frame in track.places]
        seen = (np.array(list(track.places.values())) - MIDDLE) / FOCAL
        rows = turns[at, :2] - seen[:, :, None] * turns[at, 2][:, None]
        last = -np.einsum("nij,nj->ni", rows, places[at])
        alone = np.linalg.svd(np.concatenate([rows, last[:, :, None]], axis=2).reshape(-1, 4))[2][3]
        alone = alone / np.linalg.norm(alone[:3])
        assert abs(abs(alone @ point) - np.linalg.norm(alone) * np.linalg.norm(point)) < 1e-9
        depths = (turns[at, 2] * (point[:3] - point[3] * places[at])).sum(axis=1)
        assert known == bool((depths > 0).all() or (depths < 0).all())


def test_a_point_behind_a_lens_has_no_place():
    """Two cameras, of which the second is turned away: each place fits both, with the point behind one of them."""
    world = np.random.default_rng(2).uniform(-1, 1, (20, 3)) + [0, 0, 6]
    places = np.array([[0.0, 0, 0], [0.5, 0, 0]])
    for second, ahead in ((np.eye(3), True), (np.diag([-1.0, 1, -1]), False)):
        turns = np.array([np.eye(3), second])
        local = np.einsum("cij,pcj->pci", turns, world[:, None] - places)
        at = local[..., :2] / local[..., 2:] * FOCAL + MIDDLE
        tracks = [Track({1: tuple(one), 2: tuple(two)}) for one, two in at]
        points, there = triangulated(tracks, {1: 0, 2: 1}, turns, places, FOCAL, MIDDLE)
        assert (there == ahead).all()
        if ahead:
            assert np.allclose(points[:, :3] / points[:, 3:], world, rtol=0, atol=1e-6)


@pytest.mark.parametrize("free", [(False, False), (True, False), (True, True)])
def test_a_step_without_points_is_that_of_all_numbers_at_once(free):
    tracks, index, turns, places = seen_by_walking()
    scene, used = with_points(tracks, index, turns, places, FOCAL, MIDDLE)
    scene.distortion = 0.02
    views = views_of(used, index, MIDDLE)
    problem = Problem(scene, views, *free)
    values = problem.start()
    rest = problem.residuals(values)
    _, weights = bundle.robust(rest)
    slopes = problem.slopes(values)
    step = Normal(problem, slopes, weights, rest).step(1e-3)
    dense = laid_out(problem, slopes)
    square = dense.T @ (weights[:, None] * dense)
    square += 1e-3 * np.diag(np.diag(square))
    whole = np.linalg.solve(square, -dense.T @ (weights * rest))
    assert step == pytest.approx(whole, rel=1e-5, abs=1e-5 * np.abs(whole).max())


def test_the_middle_of_many_is_their_median():
    values = np.random.default_rng(0).normal(0, 1, 1001)
    assert middle(values) == np.median(values)
