"""How far what is hung on a camera may slide: the covariance of its adjustment, seen in the picture.

References
----------
Covariance of a bundle by its reduced normal equations: R. Hartley & A. Zisserman, Multiple View Geometry in Computer
Vision (2nd edition, 2004), sections 5.2 and A6.5. That features err together along their tracks is told by their
scores, track by track, as in `spread.by_blocks` (Liang & Zeger 1986; from memory).

Features of one thing err together as well, a wall's through a codec or for its blur, which no track tells alone. What
the cameras are without each part of the points in turn tells that (the jackknife: B. Efron & C. Stein, Annals of
Statistics 9, 1981; from memory).

Of what patterns are shifted by when they are stretched (`stretch`) a part is not known, and it is wrong the same way
for all features that move alike. So it is asked by how much all cameras would be others without it.
"""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

from ..geometry import camera_matrix, undistorted
from .align import PICTURE_PX
from .bundle import Normal, Problem, Scene, Slopes, Views, pictured, robust
from .degenerate import spread_px

Matrix = NDArray[np.float64]
POINTS_A_FRAME = 40  # that stand for all
GRID_SHARE = 0.7  # of the frame, over which far things are spread
NOT_KNOWN = 0.25  # of what views are shifted by: what is seen need not face the camera, and noise is judged
UNTOLD = 1.5  # times, as measured on pictures with truth: features of pictures err together more than what is left says
PARTS = (3, 2, 2)  # of the points, across, down and by depth, as many in each: one after the other is left out
LEAST_POINTS = 100  # that parts tell anything of
APART, OF_PARTS = 1.5, 4.0  # times what tracks have parts apart by; times what is beyond: measured with truth
NOTHING = 1e-10  # of the largest, below which a way of moving all cameras changes no picture


def slides_px(
    scene: Scene, views: Views, size: tuple[int, int], free_focal: bool, free_bend: bool = False,
    focal_spread: float = 0.0, believed: float = 1.0,
) -> NDArray[np.float64]:  # fmt: skip
    """What the adjustment leaves unknown of each camera, (cameras): by how much things that were hung on the first
    camera's picture may be seen off their places, root mean square, px; of the scene's points, as they were found, and
    of what is far, the worse.

    The size of the whole is not part of it: nothing in the picture tells it, and what is hung grows with it.

    Parameters
    ----------
    focal_spread : standard deviation of the focal length's logarithm, where more of it is unknown than the views say.
    believed : the share of all views that is left; what was thrown away might have said something else.
    """
    problem = Problem(scene, views, free_focal, free_bend)
    values = problem.start()
    rest = problem.residuals(values)
    _, weights = robust(rest, views.robust_px)
    slopes = problem.slopes(values)
    normal = Normal(problem, slopes, weights, rest)
    square, through, inverse = normal.reduced(0.0)
    noise = spread_px(scene, views, problem.size - 1) ** 2
    back = _inverse(square)
    scores = _scores(problem, slopes, weights, rest, through, normal.point_side)
    together = back @ (scores.T @ scores) @ back
    cameras = [np.flatnonzero(views.camera == camera) for camera in range(problem.cameras)]
    some = [mine[np.linspace(0, len(mine) - 1, min(len(mine), POINTS_A_FRAME)).astype(int)] for mine in cameras]
    near = [_seen_moves(problem, slopes, through, mine) for mine in some]
    own = [noise * _mean_square(slopes.point[mine], inverse[views.point[mine]]) for mine in some]
    lens = np.zeros_like(back)
    if free_focal:  # all else follows the lens as the views have it
        along = back[:, problem.lens_at] / back[problem.lens_at, problem.lens_at]
        more = max(focal_spread**2 - noise * float(back[problem.lens_at, problem.lens_at]), 0.0)
        lens = more * np.outer(along, along)
    doubted = _pulled(problem, slopes, weights, views.taken, through, normal, back)
    share = believed if views.taken is None else believed / UNTOLD
    parted, alone = _by_parts(problem, slopes, weights, rest, scores, square, back)
    more_of_all = lens + np.outer(doubted, doubted)
    spread = [
        _by_three(moves, noise * back, together, parted, noise * alone, share**2)
        + [_mean_square(each, more_of_all) for each in moves]
        + extra
        for moves, extra in ((near, np.array(own)), (list(_far_moves(problem, size)), 0.0))
    ]
    return np.asarray(np.sqrt(np.maximum(*spread) + PICTURE_PX**2))


def _parts(scene: Scene) -> NDArray[np.intp]:
    """Which of `PARTS` each point of a scene lies in: as many in each third and half."""
    away = scene.points[:, :3] / np.linalg.norm(scene.points[:, :3], axis=1)[:, None]
    out = np.zeros(len(away), np.intp)
    for values, count in zip((away[:, 0], away[:, 1], scene.points[:, 3]), PARTS):
        out = out * count + np.argsort(np.argsort(values, kind="stable"), kind="stable") * count // len(away)
    return out


def _by_parts(
    problem: Problem, slopes: Slopes, weights: NDArray, rest: NDArray, scores: Matrix, square: Matrix, back: Matrix
) -> tuple[Matrix, Matrix]:
    """The covariance of the cameras and the lens, (k, k), by where one step from the solution takes them without each
    part of the points, and what that would be of a noise of 1 that each view has by itself: the equations without a
    part, inverted, less those with it; nothing of few points. `square`: all of them, the sum of their parts; `back`:
    inverted."""
    scene, views, part = problem.scene, problem.views, _parts(problem.scene)
    steps, alone = [], np.zeros_like(back)
    if len(part) < LEAST_POINTS:
        return alone, alone
    for each in np.unique(part):
        mine = part == each
        seen = mine[views.point]
        some = Views(views.camera[seen], (np.cumsum(mine) - 1)[views.point[seen]], views.seen[seen])
        few = Scene(scene.focal_px, scene.distortion, scene.turns, scene.places, scene.points[mine])
        of_some = Slopes(slopes.camera[seen], slopes.lens[seen], slopes.point[seen])
        both = np.repeat(seen, 2)
        own = Normal(Problem(few, some, problem.free_focal, problem.free_bend), of_some, weights[both], rest[both])
        without = _inverse(square - own.reduced(0.0)[0])
        steps.append(without @ scores[~mine].sum(axis=0))
        alone += without - back
    share = (len(steps) - 1) / len(steps)
    apart = np.array(steps) - np.mean(steps, axis=0)
    return share * apart.T @ apart, share * alone


def _pulled(
    problem: Problem, slopes: Slopes, weights: NDArray, taken: NDArray | None, through: Matrix, normal: Normal,
    back: Matrix,
) -> NDArray[np.float64]:  # fmt: skip
    """By how much the cameras and the lens would be others if that share of what was taken off the views were wrong
    that is not known of it, all of it one way."""
    if taken is None:
        return np.zeros(len(back))
    wrong = (NOT_KNOWN * taken).reshape(-1)
    side = np.zeros_like(normal.point_side)
    np.add.at(side, problem.views.point, np.einsum("nki,nk->ni", slopes.point, (weights * wrong).reshape(-1, 2)))
    return np.asarray(back @ _scores(problem, slopes, weights, wrong, through, side).sum(axis=0))


def _by_three(
    moves: list[Matrix], plain: Matrix, clustered: Matrix, parted: Matrix, alone: Matrix, share: float
) -> NDArray[np.float64]:
    """The mean square of moves of each camera by one covariance, and as much more as that by tracks has it in the mean
    over a share of the views; or as much more as parts of the points are farther apart than that, if it is more."""
    ways = plain, clustered, parted, alone
    one, tracks, parts, expected = (np.array([_mean_square(each, way) for each in moves]) for way in ways)
    least = max(float(one.sum()), 1e-20)
    by_tracks = max(1.0, float(tracks.sum()) / least)
    beyond = max(float(parts.sum()) - APART * by_tracks * float(expected.sum()), 0.0) / least
    return np.asarray(one * max(by_tracks / share, 1 + OF_PARTS * beyond))


def _mean_square(moves: Matrix, covariance: Matrix) -> float:
    """The mean over (n, 2, k) moves of the variance of where they go, by one covariance, (k, k), or by one each."""
    if len(moves) == 0:
        return 0.0
    if covariance.ndim == 3:
        return float(((moves @ covariance) * moves).sum() / len(moves))
    flat = moves.reshape(-1, moves.shape[-1])
    return float(((flat @ covariance) * flat).sum() / len(moves))


def _grid(size: tuple[int, int]) -> NDArray[np.float64]:
    """Places spread over a picture, px from its middle, (9, 2)."""
    across, down = ((np.arange(3) / 2 - 0.5) * GRID_SHARE * each for each in size)
    return np.stack(np.meshgrid(across, down), axis=-1).reshape(-1, 2)


def _ahead(scene: Scene) -> NDArray[np.bool_]:
    """Which points, infinitely far, lie before each camera, (cameras, points)."""
    return np.asarray(np.einsum("cj,pj->cp", scene.turns[:, 2], scene.points[:, :3]) > 0)


def _far_moves(problem: Problem, size: tuple[int, int]) -> list[Matrix]:
    """How what is infinitely far, and was hung at places spread over the first camera's picture, moves in each picture
    that sees it, with all cameras and the lens: by camera, (places, 2, k)."""
    scene = problem.scene
    rays = _grid(size) / scene.focal_px
    count, cameras = len(rays), problem.cameras
    places = np.column_stack([rays, np.ones(count), np.zeros(count)])
    views = Views(np.repeat(np.arange(cameras), count), np.tile(np.arange(count), cameras), np.zeros((1, 2)))
    seen = Problem(Scene(scene.focal_px, scene.distortion, scene.turns, scene.places, places), views,
                   problem.free_focal, problem.free_bend)  # fmt: skip
    slopes = seen.slopes(seen.start())
    out = np.zeros((cameras, count, 2, problem.points_at))
    for camera in range(1, cameras):
        out[camera, :, :, 6 * (camera - 1) : 6 * camera] = slopes.camera[count * camera : count * (camera + 1)]
    if problem.free_focal:  # a place of the picture is another direction where the focal length is another
        length = np.linalg.norm(places[:, :3], axis=1)[:, None]
        turned = np.einsum("nij,ni->nj", seen.across, -places[:, :3] * [1, 1, 0] / length)
        drawn = slopes.lens[..., 0] + np.einsum("nij,nj->ni", slopes.point[:, :, :2], turned[views.point])
        out[..., problem.lens_at] = drawn.reshape(cameras, count, 2)
    at = pictured(seen.scene, views).reshape(cameras, count, 2)
    inside = _ahead(seen.scene) & (np.abs(at) < np.array(size) / 2).all(axis=2)
    return [moves[each] for moves, each in zip(out, inside)]


def far_apart(scene: Scene, others: Sequence[Scene], size: tuple[int, int]) -> NDArray[np.float64]:
    """How far a scene and others have apart what is infinitely far, and was hung at places spread over the first
    camera's picture, (cameras), px root mean square; that of the farthest other, 0 without any."""
    hung = _grid(size) + np.array(size) / 2
    count, cameras = len(hung), len(scene.turns)
    views = Views(np.repeat(np.arange(cameras), count), np.tile(np.arange(count), cameras), np.zeros((1, 2)))

    def seen(each: Scene) -> tuple[NDArray[np.float64], NDArray[np.bool_]]:
        straight = undistorted(hung, camera_matrix(each.focal_px, size), each.distortion) - np.array(size) / 2
        places = np.column_stack([straight / each.focal_px, np.ones(count), np.zeros(count)])
        far = Scene(each.focal_px, each.distortion, each.turns, each.places, places)
        return pictured(far, views).reshape(cameras, count, 2), _ahead(far)

    here, ahead = seen(scene)
    inside = ahead & (np.abs(here) < np.array(size) / 2).all(axis=2)
    squares = [np.square(seen(other)[0] - here).sum(axis=2) * inside for other in others]
    means = [each.sum(axis=1) / np.maximum(inside.sum(axis=1), 1) for each in squares]
    return np.asarray(np.sqrt(np.max([np.zeros(cameras), *means], axis=0)))


def _inverse(square: Matrix) -> Matrix:
    """The inverse of the cameras' equations along all ways that change a picture."""
    scale = 1 / np.sqrt(np.maximum(np.diag(square), 1e-30))
    values, vectors = np.linalg.eigh(square * np.outer(scale, scale))
    told = values > NOTHING * values.max()
    root = scale[:, None] * vectors[:, told] / np.sqrt(values[told])
    return np.asarray(root @ root.T)


def _scores(
    problem: Problem, slopes: Slopes, weights: NDArray, rest: NDArray, through: Matrix, point_side: Matrix
) -> Matrix:
    """What the views of each point pull the cameras and the lens by, together, (points, k)."""
    views, off = problem.views, (weights * rest).reshape(-1, 2)
    out = np.zeros((problem.count, problem.points_at))
    moved = problem.moving[views.camera]
    rows = 6 * problem.slot[views.camera[moved]][:, None] + np.arange(6)
    np.add.at(out, (views.point[moved][:, None], rows), np.einsum("nki,nk->ni", slopes.camera[moved], off[moved]))
    lens = np.einsum("nki,nk->ni", slopes.lens, off)
    np.add.at(out, (views.point[:, None], np.arange(problem.lens_at, problem.points_at)), lens)
    return np.asarray(out - (through * point_side).sum(axis=2).T)


def _seen_moves(problem: Problem, slopes: Slopes, through: Matrix, views: NDArray[np.intp]) -> Matrix:
    """How the picture of some views moves with all cameras and the lens, their points following, (n, 2, k)."""
    out = np.zeros((len(views), 2, problem.points_at))
    camera, point = problem.views.camera[views], problem.views.point[views]
    for n, k in enumerate(problem.slot[camera]):
        if k >= 0:
            out[n, :, 6 * k : 6 * k + 6] = slopes.camera[views[n]]
    out[:, :, problem.lens_at :] = slopes.lens[views]
    return np.asarray(out - slopes.point[views] @ through[:, point].transpose(1, 2, 0))
