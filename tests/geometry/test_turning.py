"""How a camera turned by a few places, and its focal length: against SciPy, and by repeated draws."""

import numpy as np
import pytest
from scipy.optimize import least_squares
from scipy.spatial.transform import Rotation

from zonal_mantle.geometry import camera_matrix, carry, told_focal, turn_motion, turned_frames

SIZE, FOCAL = (1280, 720), 1400.0
HOMES = np.array([[220.0, 420.0], [900.0, 380.0], [560.0, 500.0], [1010.0, 560.0]])


def turns(count=24, degrees=9.0):
    at = np.linspace(0.1, 1, count)
    return Rotation.from_rotvec(np.stack([0.01 * np.sin(7 * at), -np.radians(degrees) * at, 0.006 * at], 1)).as_matrix()


def seen_by(rotations, homes=HOMES, focal=FOCAL, noise=0.0, seed=0):
    places = np.stack([carry(turn_motion(turn, focal, SIZE), homes) for turn in rotations])
    return places + noise * np.random.default_rng(seed).standard_normal(places.shape)


def test_a_turn_moves_the_picture_as_its_directions_turn():
    turn = turns()[-1]
    rays = (HOMES - np.array(SIZE) / 2) / FOCAL
    rays = np.concatenate([rays, np.ones((4, 1))], axis=1) @ turn.T
    assert carry(turn_motion(turn, FOCAL, SIZE), HOMES) == pytest.approx(
        rays[:, :2] / rays[:, 2:] * FOCAL + np.array(SIZE) / 2
    )


@pytest.mark.parametrize("count", [2, 3, 4])
def test_turns_are_those_of_least_squares_in_the_picture(count):
    places = seen_by(turns(4), HOMES[:count], noise=0.4)
    found = turned_frames(HOMES[:count], places, FOCAL, SIZE, robust=False)

    def off(turn, seen):
        return (carry(turn_motion(Rotation.from_rotvec(turn).as_matrix(), FOCAL, SIZE), HOMES[:count]) - seen).ravel()

    for turn, seen in zip(found.turns, places):
        best = least_squares(off, np.zeros(3), x_scale=1e-3, xtol=1e-14, ftol=1e-14, gtol=1e-14, args=(seen,))
        assert turn == pytest.approx(Rotation.from_rotvec(best.x).as_matrix(), abs=1e-6)


def test_one_place_tells_the_least_turn_that_brings_it_there():
    places = seen_by(turns(5), HOMES[:1])
    found = turned_frames(HOMES[:1], places, FOCAL, SIZE)
    k = np.linalg.inv(camera_matrix(FOCAL, SIZE))
    rays = np.concatenate([np.vstack([HOMES[:1], places[:, 0]]), np.ones((6, 1))], axis=1) @ k.T
    rays /= np.linalg.norm(rays, axis=1)[:, None]
    for turn, place, ray in zip(found.turns, places, rays[1:]):
        assert carry(turn_motion(turn, FOCAL, SIZE), HOMES[:1]) == pytest.approx(place, abs=1e-6)
        assert Rotation.from_matrix(turn).magnitude() == pytest.approx(np.arccos(rays[0] @ ray), abs=1e-6)


def test_a_place_that_goes_astray_counts_for_nothing_and_one_that_is_not_seen_is_left_out():
    true = turns(6)
    places = seen_by(true)
    places[3:, 1] += (25.0, -10.0)
    places[1, 2] = np.nan
    found = turned_frames(HOMES, places, FOCAL, SIZE)
    assert found.turns == pytest.approx(true, abs=2e-4)
    assert (found.weights[3:, 1] < 0.01).all()
    assert np.isnan(found.off[1, 2]).all()
    assert found.weights[1, 2] == 0


def test_the_covariance_of_a_turn_is_that_of_repeated_draws():
    draws = np.repeat(turns(1), 400, axis=0)
    found = turned_frames(HOMES, seen_by(draws, noise=0.3), FOCAL, SIZE, robust=False)
    small = Rotation.from_matrix(found.turns @ draws.transpose(0, 2, 1)).as_rotvec()
    ratio = np.diag(np.cov(small.T)) / np.diag(0.3**2 * found.covariances[0])
    assert ratio == pytest.approx(np.ones(3), rel=0.25)


def test_the_bounds_of_a_focal_length_hold_the_true_one():
    held = 0
    for seed in range(12):
        focal = float(np.random.default_rng(seed).uniform(900, 3000))
        places = seen_by(turns(), HOMES[:2], focal, 0.1, seed)
        found = told_focal(HOMES[:2], places, np.full(24, 0.1 * np.sqrt(2)), SIZE)
        held += found.bounds_px[0] <= focal <= found.bounds_px[1]
    assert held >= 11  # 95 %


def test_marks_that_are_shifted_alone_tell_a_long_lens():
    places = np.stack([HOMES[:2] + (12.0 * n, -3.0 * n) for n in range(1, 20)])  # a camera that slides along a wall
    found = told_focal(HOMES[:2], places, np.full(19, 0.1), SIZE)
    assert found.bounds_px[0] > 4 * SIZE[0]
