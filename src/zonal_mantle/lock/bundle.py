"""Bundle adjustment: cameras, points and lens that together explain all tracks."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

import cv2
import numpy as np
from numpy.typing import NDArray

Matrix = NDArray[np.float64]
ROBUST_PX = 0.35  # about three times what a good feature is off by


@dataclass
class Scene:
    """Cameras and points. A point is (a, b, w): it lies along (a, b, 1) from the first camera, at the depth 1 / w, so
    that what is very far is simply w = 0.

    turns : (n, 3, 3) first camera's axes to each camera's; places: (n, 3), in the first camera's axes.
    """

    focal_px: float
    distortion: float
    turns: NDArray[np.float64]
    places: NDArray[np.float64]
    points: NDArray[np.float64]


@dataclass(frozen=True)
class Views:
    """Where points were seen: camera and point of each view, (n) int, and the place from the frame's middle, (n, 2)."""

    camera: NDArray[np.intp]
    point: NDArray[np.intp]
    seen: NDArray[np.float64]


def skew(v: NDArray) -> NDArray[np.float64]:
    """Cross-product matrices (n, 3, 3) of vectors (n, 3)."""
    out = np.zeros((len(v), 3, 3))
    out[:, 0, 1], out[:, 0, 2], out[:, 1, 2] = -v[:, 2], v[:, 1], -v[:, 0]
    return out - out.transpose(0, 2, 1)


def _turned(small: NDArray) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
    """Rotations (n, 3, 3) of turn vectors (n, 3), and their left Jacobians (Barfoot 2017, equation 7.77)."""
    angle = np.linalg.norm(small, axis=1)[:, None, None]
    k, eye = skew(small), np.eye(3)[None]
    safe = np.maximum(angle, 1e-9)
    a = np.where(angle < 1e-6, 1.0, np.sin(safe) / safe)
    b = np.where(angle < 1e-6, 0.5, (1 - np.cos(safe)) / safe**2)
    c = np.where(angle < 1e-6, 1 / 6, (safe - np.sin(safe)) / safe**3)
    return eye + a * k + b * k @ k, eye + b * k + c * k @ k


class Problem:
    """Residuals and their Jacobian, as functions of one vector: small turns and moves of all cameras but the first,
    the logarithm of the focal length and the distortion where they are free, points."""

    def __init__(self, scene: Scene, views: Views, free_focal: bool, free_bend: bool, only_turns: bool = False) -> None:
        self.scene, self.views, self.free_focal, self.free_bend = scene, views, free_focal, free_bend
        self.only_turns = only_turns
        self.cameras, self.count = len(scene.turns), len(scene.points)
        self.lens_at = 6 * (self.cameras - 1)
        self.points_at = self.lens_at + int(free_focal) + int(free_bend)
        self.size = self.points_at + 3 * self.count

    def start(self) -> NDArray[np.float64]:
        """The vector of the scene as it is."""
        out = np.zeros(self.size)
        moves = out[: self.lens_at].reshape(-1, 6)
        moves[:, 3:] = self.scene.places[1:]
        if self.free_bend:
            out[self.points_at - 1] = self.scene.distortion
        out[self.points_at :] = self.scene.points.reshape(-1)
        return out

    def unpacked(self, values: NDArray) -> tuple[Scene, NDArray[np.float64]]:
        """The scene that a vector means, and the left Jacobians of its turns."""
        moves = values[: self.lens_at].reshape(-1, 6)
        turns, left = _turned(np.concatenate([np.zeros((1, 3)), moves[:, :3]]))
        focal = self.scene.focal_px * (float(np.exp(np.clip(values[self.lens_at], -4, 4))) if self.free_focal else 1.0)
        bend = float(values[self.points_at - 1]) if self.free_bend else self.scene.distortion
        places = np.concatenate([np.zeros((1, 3)), moves[:, 3:]])
        return Scene(focal, bend, turns @ self.scene.turns, places, values[self.points_at :].reshape(-1, 3)), left

    def residuals(self, values: NDArray) -> NDArray[np.float64]:
        """Seen minus measured, px, x and y of each view in turn."""
        scene, _ = self.unpacked(values)
        return np.asarray((pictured(scene, self.views) - self.views.seen).reshape(-1))

    def jacobian(self, values: NDArray) -> Any:
        """Derivatives of the residuals, sparse: each view knows its camera, its point and the lens."""
        scene, left = self.unpacked(values)
        camera, point = self.views.camera, self.views.point
        turns, places = scene.turns[camera], scene.places[camera]
        a = scene.points[point]
        ray = np.concatenate([a[:, :2], np.ones((len(a), 1))], axis=1)
        away = ray - a[:, 2:] * places
        local = np.einsum("nij,nj->ni", turns, away)
        z = local[:, 2]
        flat = local[:, :2] / z[:, None]
        square = (flat**2).sum(axis=1)
        f, bend = scene.focal_px, scene.distortion
        # derivative of the picture by the local point
        by_flat = f * ((1 + bend * square)[:, None, None] * np.eye(2) + 2 * bend * np.einsum("ni,nj->nij", flat, flat))
        by_local = np.zeros((len(z), 2, 3))
        by_local[:, 0, 0] = by_local[:, 1, 1] = 1 / z
        by_local[:, :, 2] = -flat / z[:, None]
        by_local = by_flat @ by_local
        by_turn = by_local @ (-skew(local)) @ left[camera]
        by_place = by_local @ (-a[:, 2, None, None] * turns)
        by_point = np.empty((len(z), 2, 3))
        by_point[:, :, :2] = by_local @ turns[:, :, :2]
        by_point[:, :, 2] = np.einsum("nij,nj->ni", by_local @ turns, -places)
        if self.only_turns:  # what does not depend on anything stays where it is
            by_place, by_point[:, :, 2] = np.zeros_like(by_place), 0.0
        rows, columns, values_ = [], [], []
        row = 2 * np.arange(len(z))

        def put(part: NDArray, at: NDArray, which: NDArray | slice) -> None:
            for k in range(2):
                for m in range(part.shape[2]):
                    rows.append((row + k)[which])
                    columns.append((at + m)[which])
                    values_.append(part[which, k, m])

        moved = camera > 0
        put(by_turn, 6 * (camera - 1), moved)
        put(by_place, 6 * (camera - 1) + 3, moved)
        put(by_point, self.points_at + 3 * point, slice(None))
        whole = np.zeros_like(camera)
        if self.free_focal:
            put((f * (1 + bend * square)[:, None] * flat)[:, :, None], whole + self.lens_at, slice(None))
        if self.free_bend:
            put((f * square[:, None] * flat)[:, :, None], whole + self.points_at - 1, slice(None))
        shape = (2 * len(z), self.size)
        from scipy.sparse import csr_matrix  # slow to import

        return csr_matrix((np.concatenate(values_), (np.concatenate(rows), np.concatenate(columns))), shape=shape)


def pictured(scene: Scene, views: Views) -> NDArray[np.float64]:
    """Where the scene's points are seen, (n, 2) from the frame's middle."""
    a = scene.points[views.point]
    ray = np.concatenate([a[:, :2], np.ones((len(a), 1))], axis=1)
    local = np.einsum("nij,nj->ni", scene.turns[views.camera], ray - a[:, 2:] * scene.places[views.camera])
    flat = local[:, :2] / np.where(np.abs(local[:, 2:]) < 1e-6, 1e-6, local[:, 2:])
    square = (flat**2).sum(axis=1, keepdims=True)
    return np.asarray(scene.focal_px * flat * (1 + scene.distortion * square))


def _robust(rest: NDArray) -> tuple[float, NDArray[np.float64]]:
    """The soft ℓ1 cost of residuals, and the weight it gives to each; the two of a view share theirs."""
    square = np.repeat((rest.reshape(-1, 2) ** 2).sum(axis=1), 2) / ROBUST_PX**2
    root = np.sqrt(1 + square)
    return float((root - 1).sum()), 1 / root


def _solved(square: NDArray, damping: float, side: NDArray, points_at: int) -> NDArray[np.float64]:
    """A damped step of the normal equations, by Marquardt's scaling; points are taken out first (Schur complement),
    since each of them is tied to cameras only."""
    diagonal = np.diag(square)
    root = np.sqrt(np.maximum(diagonal, 1e-9 * diagonal.max()))
    scaled = square / root[:, None]
    scaled /= root
    scaled[np.diag_indices(len(scaled))] += damping
    right = side / root
    k, count = points_at, (len(square) - points_at) // 3
    each = scaled[k:, k:].reshape(count, 3, count, 3)
    inverse = np.linalg.inv(each[np.arange(count), :, np.arange(count)])
    tied = scaled[:k, k:]
    through = (tied.reshape(k, count, 3).transpose(1, 0, 2) @ inverse).transpose(1, 0, 2).reshape(k, -1)
    reduced = scaled[:k, :k] - through @ tied.T
    cameras = np.linalg.solve(reduced, right[:k] - through @ right[k:])
    rest = (right[k:] - tied.T @ cameras).reshape(count, 3, 1)
    return np.asarray(np.concatenate([cameras, (inverse @ rest).reshape(-1)]) / root)


def adjust(
    scene: Scene,
    views: Views,
    free_focal: bool,
    free_bend: bool = False,
    rounds: int = 40,
    least_gain: float = 1e-5,
    report: Callable[[], None] = lambda: None,
    only_turns: bool = False,
) -> Scene:
    """The scene for which the views fit best, robustly. The first camera stays; the size of the whole is left as it
    was. With `only_turns` no camera moves from its place and no point from its depth.

    References
    ----------
    Triggs et al. 2000. Levenberg–Marquardt on the sparse Jacobian, reweighted for a soft ℓ1 loss.
    """
    problem = Problem(scene, views, free_focal, free_bend, only_turns)
    values, damping = problem.start(), 1e-3
    rest = problem.residuals(values)
    cost, weights = _robust(rest)
    for _ in range(rounds):
        report()
        jacobian = problem.jacobian(values)
        weighed = jacobian.multiply(weights[:, None]).tocsr()
        square = (weighed.T @ jacobian).toarray()
        slope = weighed.T @ rest
        gain = 0.0
        for _ in range(8):
            step = _solved(square, damping, -slope, problem.points_at)
            trial = values + step
            rest_now = problem.residuals(trial)
            cost_now, weights_now = _robust(rest_now)
            if np.isfinite(cost_now) and cost_now < cost:
                gain = (cost - cost_now) / cost
                values, rest, cost, weights, damping = trial, rest_now, cost_now, weights_now, damping / 5
                break
            damping *= 6
        if gain < least_gain:
            break
    out, _ = problem.unpacked(values)
    before, after = np.linalg.norm(scene.places, axis=1).max(), np.linalg.norm(out.places, axis=1).max()
    if before > 0 and after > 0:
        grow = before / after
        out.places = out.places * grow
        out.points = out.points / [1, 1, grow]
    out.turns = np.array([cv2.Rodrigues(cv2.Rodrigues(turn)[0])[0] for turn in out.turns])
    return out
