"""Bundle adjustment: cameras, points and lens that together explain all tracks."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import cv2
import numpy as np
from numpy.typing import NDArray

from ..geometry import turned_by
from . import bundle_rows

Matrix = NDArray[np.float64]
ROBUST_PX = 0.35  # about three times what a good feature is off by, until that is known


@dataclass
class Scene:
    """Cameras and points. A point is (x, y, z, w), in the first camera's axes: it lies along (x, y, z), at the distance
    1 / w times its length, so that what is very far is simply w = 0.

    turns : (n, 3, 3) first camera's axes to each camera's; places: (n, 3), in the first camera's axes; points: (p, 4).
    """

    focal_px: float
    distortion: float
    turns: NDArray[np.float64]
    places: NDArray[np.float64]
    points: NDArray[np.float64]

    def through(self, focal_px: float) -> Scene:
        """The scene as another lens has it: the first camera sees it as before, the others nearly so."""
        wider = np.array([self.focal_px / focal_px] * 2 + [1.0])
        points = self.points * [*wider, 1.0]
        return Scene(focal_px, self.distortion, self.turns.copy(), self.places * wider, points)


@dataclass(frozen=True)
class Views:
    """Where points were seen: camera and point of each view, (n) int, and the place from the frame's middle, (n, 2);
    what was taken off of it, px, see `stretch`; and from which error on a view is believed less, px."""

    camera: NDArray[np.intp]
    point: NDArray[np.intp]
    seen: NDArray[np.float64]
    taken: NDArray[np.float64] | None = None
    robust_px: float = ROBUST_PX


def _across(away: NDArray) -> NDArray[np.float64]:
    """Two directions square to each (n, 3) direction and to one another, (n, 3, 2)."""
    least = np.eye(3)[np.abs(away).argmin(axis=1)]
    one = np.cross(away, least)
    one /= np.linalg.norm(one, axis=1)[:, None]
    return np.stack([one, np.cross(away, one)], axis=2)


class Problem:
    """Residuals and their slopes, as functions of one vector: small turns and moves of all cameras that move, the
    logarithm of the focal length and the distortion where they are free, and of each point two small numbers across
    its direction and w.

    Parameters
    ----------
    moving : (cameras) bool, which cameras are free; all but the first by default.
    """

    def __init__(
        self, scene: Scene, views: Views, free_focal: bool, free_bend: bool, only_turns: bool = False,
        moving: NDArray[np.bool_] | None = None,
    ) -> None:  # fmt: skip
        self.scene, self.views, self.free_focal, self.free_bend = scene, views, free_focal, free_bend
        self.only_turns = only_turns
        self.cameras, self.count = len(scene.turns), len(scene.points)
        self.moving = np.arange(self.cameras) > 0 if moving is None else moving
        self.slot = np.where(self.moving, np.cumsum(self.moving) - 1, -1)
        self.lens_at = 6 * int(self.moving.sum())
        self.points_at = self.lens_at + int(free_focal) + int(free_bend)
        self.size = self.points_at + 3 * self.count
        length = np.linalg.norm(scene.points[:, :3], axis=1)[:, None]
        self.away, self.near = scene.points[:, :3] / length, scene.points[:, 3:] / length
        self.across = _across(self.away)

    def start(self) -> NDArray[np.float64]:
        """The vector of the scene as it is."""
        out = np.zeros(self.size)
        moves = out[: self.lens_at].reshape(-1, 6)
        moves[:, 3:] = self.scene.places[self.moving]
        if self.free_bend:
            out[self.points_at - 1] = self.scene.distortion
        out[self.points_at :].reshape(-1, 3)[:, 2:] = self.near
        return out

    def unpacked(self, values: NDArray) -> tuple[Scene, NDArray[np.float64]]:
        """The scene that a vector means, and the left Jacobians of its turns."""
        moves, small, places = values[: self.lens_at].reshape(-1, 6), np.zeros((self.cameras, 3)), self.scene.places
        small[self.moving] = moves[:, :3]
        turns, left = turned_by(small)
        focal = self.scene.focal_px * (float(np.exp(np.clip(values[self.lens_at], -4, 4))) if self.free_focal else 1.0)
        bend = float(values[self.points_at - 1]) if self.free_bend else self.scene.distortion
        places = places.copy()
        places[self.moving] = moves[:, 3:]
        three = values[self.points_at :].reshape(-1, 3)
        away = self.away + (self.across @ three[:, :2, None])[:, :, 0]
        return Scene(focal, bend, turns @ self.scene.turns, places, np.column_stack([away, three[:, 2]])), left

    def residuals(self, values: NDArray) -> NDArray[np.float64]:
        """Seen minus measured, px, x and y of each view in turn."""
        scene, _ = self.unpacked(values)
        return np.asarray((pictured(scene, self.views) - self.views.seen).reshape(-1))

    def slopes(self, values: NDArray) -> Slopes:
        """Derivatives of the residuals: each view knows its camera, its point and the lens."""
        scene, left = self.unpacked(values)
        count, free = len(self.views.camera), (self.free_focal, self.free_bend)
        out = np.empty((count, 2, 6)), np.empty((count, 2, sum(free))), np.empty((count, 2, 3))
        bundle_rows.slopes_of_views(
            scene.turns, left, scene.places, scene.points, self.across, self.views.camera, self.views.point,
            scene.focal_px, scene.distortion, free, self.only_turns, out,
        )  # fmt: skip
        return Slopes(*out)


@dataclass(frozen=True)
class Slopes:
    """How the picture of each view changes with its camera (n, 2, 6), with the lens (n, 2, 0…2), with its point
    (n, 2, 3)."""

    camera: NDArray[np.float64]
    lens: NDArray[np.float64]
    point: NDArray[np.float64]


class Normal:
    """The normal equations of a scene, parted into cameras with the lens, and points, each of which is tied to cameras
    only, so that points are taken out first (Schur complement; Triggs et al. 2000, section 6).

    Attributes
    ----------
    cameras : (k, k), k = six numbers for each camera that moves, and the lens; points: (p, 3, 3).
    tied : (k, p, 3), cameras to points. side, point_side: (k) and (p, 3), the right sides.
    """

    def __init__(self, problem: Problem, slopes: Slopes, weights: NDArray, rest: NDArray) -> None:
        self.views, self.count, self.slot = problem.views, problem.count, problem.slot
        k, lens = problem.points_at, problem.points_at - problem.lens_at
        self.cameras, self.side = np.zeros((k, k)), np.zeros(k)
        self.points, self.point_side = np.zeros((self.count, 3, 3)), np.zeros((self.count, 3))
        self.view_ties, self.lens_ties = np.zeros((len(self.views.camera), 6, 3)), np.zeros((self.count, lens, 3))
        bundle_rows.normal_sums(
            np.ascontiguousarray(weights.reshape(-1, 2)[:, 0]), rest.reshape(-1, 2),
            slopes.camera, slopes.lens, slopes.point, self.slot, self.views.camera, self.views.point,
            (self.cameras, self.side, self.points, self.point_side, self.view_ties, self.lens_ties),
        )  # fmt: skip
        self.tied = self._laid_out(np.broadcast_to(np.eye(3), self.points.shape).copy())

    def _laid_out(self, blocks: NDArray) -> NDArray[np.float64]:
        out = np.zeros((len(self.cameras), self.count, 3))
        of_views = self.slot, self.views.camera, self.views.point
        bundle_rows.laid_out(self.view_ties, self.lens_ties, blocks, *of_views, out)
        return out

    def reduced(self, damping: float) -> tuple[NDArray[np.float64], NDArray[np.float64], NDArray[np.float64]]:
        """The equations of cameras and lens alone, (k, k), with what takes points out, (k, p, 3), and the inverses of
        their own blocks, (p, 3, 3). Damped by Marquardt's scaling."""
        diagonal = np.diag(self.cameras)
        own = np.diagonal(self.points, axis1=1, axis2=2)
        least = 1e-9 * max(float(diagonal.max(initial=0.0)), float(own.max(initial=0.0)))
        points = self.points.copy()
        points[:, [0, 1, 2], [0, 1, 2]] += damping * np.maximum(own, least)
        inverse = np.linalg.inv(points)
        through = self._laid_out(inverse)
        k = len(self.cameras)
        square = self.cameras - through.reshape(k, -1) @ self.tied.reshape(k, -1).T
        square[np.diag_indices(k)] += damping * np.maximum(diagonal, least)
        return square, through, np.asarray(inverse, np.float64)

    def step(self, damping: float) -> NDArray[np.float64]:
        """A damped step of all numbers toward less."""
        square, through, inverse = self.reduced(damping)
        k = len(square)
        side = self.side - through.reshape(k, -1) @ self.point_side.reshape(-1)
        scale = 1 / np.sqrt(np.maximum(np.diag(square), 1e-30))
        cameras = scale * np.linalg.solve(square * np.outer(scale, scale), -scale * side)
        rest = -self.point_side - (cameras @ self.tied.reshape(k, -1)).reshape(-1, 3)
        points = (inverse @ rest[:, :, None])[:, :, 0]
        return np.asarray(np.concatenate([cameras, points.reshape(-1)]))


def summed(values: NDArray, where: NDArray, count: int) -> NDArray[np.float64]:
    """Sums of (n, …) values by the number that each belongs to, (count, …)."""
    flat = values.reshape(len(values), -1)
    sums = [np.bincount(where, flat[:, k], count) for k in range(flat.shape[1])]
    return np.asarray(np.stack(sums, axis=1).reshape(count, *values.shape[1:]), np.float64)


def pictured(scene: Scene, views: Views) -> NDArray[np.float64]:
    """Where the scene's points are seen, (n, 2) from the frame's middle."""
    out = np.empty((len(views.camera), 2))
    turns, places, points = (np.ascontiguousarray(each, float) for each in (scene.turns, scene.places, scene.points))
    lens = float(scene.focal_px), float(scene.distortion)
    bundle_rows.pictured_views(turns, places, points, views.camera, views.point, *lens, out)
    return out


def robust(rest: NDArray, scale_px: float = ROBUST_PX) -> tuple[float, NDArray[np.float64]]:
    """The soft ℓ1 cost of residuals, and the weight it gives to each; the two of a view share theirs."""
    square = np.repeat((rest.reshape(-1, 2) ** 2).sum(axis=1), 2) / scale_px**2
    root = np.sqrt(1 + square)
    return float((root - 1).sum()), 1 / root


def adjust(
    scene: Scene,
    views: Views,
    free_focal: bool,
    free_bend: bool = False,
    rounds: int = 40,
    least_gain: float = 1e-5,
    report: Callable[[], None] = lambda: None,
    only_turns: bool = False,
    moving: NDArray[np.bool_] | None = None,
) -> Scene:
    """The scene for which the views fit best, robustly. The first camera stays, or those that are not `moving`; the
    size of the whole is left as it was. With `only_turns` no camera moves from its place and no point from its depth.

    References
    ----------
    Triggs et al. 2000. Levenberg–Marquardt on the sparse Jacobian, reweighted for a soft ℓ1 loss.
    """
    problem = Problem(scene, views, free_focal, free_bend, only_turns, moving)
    values, damping = problem.start(), 1e-3
    rest = problem.residuals(values)
    cost, weights = robust(rest, views.robust_px)
    for _ in range(rounds):
        report()
        normal = Normal(problem, problem.slopes(values), weights, rest)
        gain = 0.0
        for _ in range(8):
            step = normal.step(damping)
            trial = values + step
            rest_now = problem.residuals(trial)
            cost_now, weights_now = robust(rest_now, views.robust_px)
            if np.isfinite(cost_now) and cost_now < cost:
                gain = (cost - cost_now) / cost
                values, rest, cost, weights, damping = trial, rest_now, cost_now, weights_now, damping / 5
                break
            damping *= 6
        if gain < least_gain:
            break
    out, _ = problem.unpacked(values)
    before, after = np.linalg.norm(scene.places, axis=1).max(), np.linalg.norm(out.places, axis=1).max()
    if moving is None and before > 0 and after > 0:
        grow = before / after
        out.places = out.places * grow
        out.points = out.points / [1, 1, 1, grow]
    out.turns = np.array([cv2.Rodrigues(cv2.Rodrigues(turn)[0])[0] for turn in out.turns])
    return out
