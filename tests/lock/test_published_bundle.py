"""The adjustment of a whole scene beside a published one, and beside SciPy on the same measurements.

`tests/data/balbianello.out`: N. Snavely, S. M. Seitz & R. Szeliski, Photo tourism (2006), five photographs.
"""

from pathlib import Path
from typing import NamedTuple

import numpy as np
import pytest
from scipy.optimize import least_squares
from scipy.sparse import lil_matrix
from scipy.spatial.transform import Rotation

from zonal_mantle.lock.bundle import ROBUST_PX, Scene, Views, adjust, pictured

FILE = Path(__file__).parent.parent / "data" / "balbianello.out"
FLIP = np.diag([1.0, -1.0, -1.0])  # Bundler looks along -z, with y upward


class Published(NamedTuple):
    focals: np.ndarray
    bends: np.ndarray
    scene: Scene
    views: Views


def published() -> Published:
    """The file's cameras and points as a scene of ours, with the mean of its lenses."""
    words = FILE.read_text().split("\n", 1)[1].split()
    count, points = int(words[0]), int(words[1])
    cameras = np.array(words[2 : 2 + 15 * count], float).reshape(count, 15)
    turns = FLIP @ cameras[:, 3:12].reshape(-1, 3, 3)
    shifts = cameras[:, 12:] @ FLIP
    at, places, seen = 2 + 15 * count, [], []
    for point in range(points):
        places.append([float(word) for word in words[at : at + 3]])
        views = int(words[at + 6])
        for k in range(views):
            camera, _, x, y = words[at + 7 + 4 * k : at + 11 + 4 * k]
            seen.append((int(camera), point, float(x), -float(y)))
        at += 7 + 4 * views
    local = np.array(places) @ turns[0].T + shifts[0]
    centres = -np.einsum("nji,nj->ni", turns, shifts)
    scene = Scene(
        float(cameras[:, 0].mean()),
        float(cameras[:, 1].mean()),
        turns @ turns[0].T,
        centres @ turns[0].T + shifts[0],
        np.column_stack([local / local[:, 2:], 1 / local[:, 2]]),
    )
    table = np.array(seen)
    views = Views(table[:, 0].astype(np.intp), table[:, 1].astype(np.intp), table[:, 2:])
    return Published(cameras[:, 0], cameras[:, 1], scene, views)


def off(scene: Scene, views: Views) -> np.ndarray:
    """How far each view is off, px."""
    return np.linalg.norm(pictured(scene, views) - views.seen, axis=1)


def disturbed(scene: Scene, seed: int) -> Scene:
    """Cameras turned by a degree and moved by a tenth of their distances, points at other depths, another lens."""
    rng = np.random.default_rng(seed)
    wide = float(np.linalg.norm(scene.places, axis=1).max())
    turns, places = scene.turns.copy(), scene.places.copy()
    for k in range(1, len(turns)):
        turns[k] = Rotation.from_rotvec(rng.normal(0, np.radians(1), 3)).as_matrix() @ turns[k]
        places[k] += rng.normal(0, 0.1 * wide, 3)
    points = scene.points + rng.normal(0, 0.003, scene.points.shape) * [1, 1, 0, 0]
    points[:, 3] *= np.exp(rng.normal(0, 0.1, len(points)))
    return Scene(1.15 * scene.focal_px, 0.0, turns, places, points)


@pytest.mark.parametrize("seed", [1, 2, 3])
def test_a_disturbed_scene_comes_back_to_the_published_one(seed):
    """Bundler gave each photograph a lens of its own, which ours does not: focal lengths of 519 to 524 px there."""
    known = published()
    begun = disturbed(known.scene, seed)
    assert np.median(off(begun, known.views)) > 5
    found = adjust(begun, known.views, True, True, rounds=80)
    assert np.median(off(found, known.views)) < 0.5
    assert known.focals.min() * 0.97 < found.focal_px < known.focals.max() * 1.03
    assert found.distortion == pytest.approx(known.bends.mean(), abs=0.06)
    turned = Rotation.from_matrix(found.turns @ known.scene.turns.transpose(0, 2, 1)).magnitude()
    assert np.degrees(turned).max() < 0.5
    ours, theirs = found.places[1:].ravel(), known.scene.places[1:].ravel()
    grown = float(ours @ theirs / (ours @ ours))
    assert np.linalg.norm(grown * ours - theirs) < 0.03 * np.linalg.norm(theirs)


def test_no_solver_of_scipys_finds_less_to_be_off():
    """The same measurements and loss, another parametrisation (rotation vectors, points in space), by SciPy's trust
    region: the lowest that it reaches is not below ours."""
    known = published()
    lives = np.bincount(known.views.point)
    chosen = np.flatnonzero(lives >= 3)[::2]
    number = np.full(len(lives), -1)
    number[chosen] = np.arange(len(chosen))
    kept = number[known.views.point] >= 0
    views = Views(known.views.camera[kept], number[known.views.point[kept]], known.views.seen[kept])
    begun = Scene(
        known.scene.focal_px, known.scene.distortion, known.scene.turns, known.scene.places, known.scene.points[chosen]
    )
    found = adjust(begun, views, True, True, rounds=80, least_gain=1e-9)
    cameras = len(begun.turns)
    xyz = begun.points[:, :3] / begun.points[:, 3:]
    turns = Rotation.from_matrix(begun.turns[1:]).as_rotvec()
    start = np.concatenate([[begun.focal_px, begun.distortion], turns.ravel(), begun.places[1:].ravel(), xyz.ravel()])
    moves = 3 * (cameras - 1)

    def left(values: np.ndarray) -> np.ndarray:
        all_turns = Rotation.from_rotvec(np.vstack([np.zeros(3), values[2 : 2 + moves].reshape(-1, 3)]))
        centres = np.vstack([np.zeros(3), values[2 + moves : 2 + 2 * moves].reshape(-1, 3)])
        points = values[2 + 2 * moves :].reshape(-1, 3)
        local = all_turns[views.camera].apply(points[views.point] - centres[views.camera])
        flat = local[:, :2] / local[:, 2:]
        at = values[0] * flat * (1 + values[1] * (flat**2).sum(axis=1, keepdims=True))
        square = ((at - views.seen) ** 2).sum(axis=1) / ROBUST_PX**2
        return np.sqrt(2 * (np.sqrt(1 + square) - 1))  # half its square is the soft loss

    pattern = lil_matrix((len(views.camera), len(start)), dtype=np.int8)
    pattern[:, :2] = 1
    for row, (camera, point) in enumerate(zip(views.camera, views.point)):
        pattern[row, 2 + 2 * moves + 3 * point : 5 + 2 * moves + 3 * point] = 1
        if camera:
            for base in (2, 2 + moves):
                pattern[row, base + 3 * (camera - 1) : base + 3 * camera] = 1
    theirs = least_squares(left, start, jac_sparsity=pattern, x_scale="jac", max_nfev=200)
    square = off(found, views) ** 2 / ROBUST_PX**2
    ours = float((np.sqrt(1 + square) - 1).sum())
    assert ours <= 1.001 * theirs.cost
