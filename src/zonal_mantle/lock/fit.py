"""Motions fitted to points: shift, similarity, affine, perspective; least squares, and robust to a bad point."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from ..geometry import carry
from ..shot.lock import Motion
from ..words import say

Matrix = NDArray[np.float64]
POINTS_NEEDED: dict[Motion, int] = {
    "translation": 1, "similarity": 2, "affine": 3, "perspective": 4, "camera turn": 2,
}  # fmt: skip
LEAST_SPREAD_PX = 0.1  # no point is held to be bad for less
BAD_POINT = 0.05  # one of less weight disagrees with the others
WIDE = 4.685  # of Tukey's biweight, in robust deviations (Huber 1981)


def possible_motion(wanted: Motion, points: int) -> Motion:
    """The fullest motion, up to the wanted one, that a number of points can tell; a turning camera by any."""
    if wanted == "camera turn":
        return wanted
    order: list[Motion] = ["translation", "similarity", "affine", "perspective"]
    able = [motion for motion in order[: order.index(wanted) + 1] if POINTS_NEEDED[motion] <= points]
    return able[-1] if able else "translation"


def fit_motion(source: NDArray, target: NDArray, motion: Motion, weights: NDArray | None = None) -> Matrix:
    """The motion that carries points onto points, in the least-squares sense.

    Parameters
    ----------
    source, target : (n, 2).
    weights : (n), 1 for all by default.

    Returns
    -------
    (3, 3) homography; a similarity does not mirror.

    Raises
    ------
    ValueError : too few points for the motion, or points that coincide or lie on a line where that tells too little.

    References
    ----------
    Similarity: Umeyama 1991, for two dimensions, where it is closed in complex numbers. Perspective: the normalised
    direct linear transform, then Gauss–Newton on the distances in the target (Hartley & Zisserman 2004, algorithm 4.3).
    """
    source, target = np.asarray(source, float).reshape(-1, 2), np.asarray(target, float).reshape(-1, 2)
    if len(source) < POINTS_NEEDED[motion] or source.shape != target.shape:
        raise ValueError(
            say(
                "A {motion} needs the same number of points on both sides, at least {points_needed}.",
                motion=say(motion),
                points_needed=POINTS_NEEDED[motion],
            )
        )
    w = np.ones(len(source)) if weights is None else np.asarray(weights, float)
    if motion == "translation":
        out = np.eye(3)
        out[:2, 2] = np.average(target - source, axis=0, weights=w)
        return out
    if motion == "similarity":
        return _similarity(source, target, w)
    a, b = _normal(source), _normal(target)
    p, q = carry(a, source), carry(b, target)
    rows = _affine(p, q, w) if motion == "affine" else _perspective(p, q, w)
    out = np.linalg.inv(b) @ rows @ a
    return np.asarray(out / out[2, 2])


def robust_motion(source: NDArray, target: NDArray, motion: Motion) -> tuple[Matrix, NDArray[np.float64]]:
    """A motion fitted so that a bad point counts for nothing, and each point's weight 0…1.

    With no more points than the motion needs, all count. Starts from the least median of squares over small sets of
    points (Rousseeuw 1984), then weighs again by Tukey's biweight.
    """
    source, target = np.asarray(source, float).reshape(-1, 2), np.asarray(target, float).reshape(-1, 2)
    need, count = POINTS_NEEDED[motion], len(source)
    weights = np.ones(count)
    if count <= need:
        return fit_motion(source, target, motion), weights
    best, least = fit_motion(source, target, motion), np.inf
    rng = np.random.default_rng(count)
    for _ in range(60):
        few = rng.choice(count, need, replace=False)
        try:
            found = fit_motion(source[few], target[few], motion)
        except (ValueError, np.linalg.LinAlgError):
            continue
        middle = float(np.sort(_apart(found, source, target))[need + (count - need) // 2])  # of those not fitted
        if middle < least:
            best, least = found, middle
    for _ in range(8):
        apart = _apart(best, source, target)
        spread = max(1.4826 * float(np.median(apart)), LEAST_SPREAD_PX)
        weights = np.square(np.maximum(1 - np.square(apart / (WIDE * spread)), 0))
        if np.count_nonzero(weights > 0.01) < need:
            break
        try:
            best = fit_motion(source, target, motion, weights)
        except (ValueError, np.linalg.LinAlgError):
            break
    return best, weights


def misfit(squares: NDArray, weights: NDArray, motion: Motion) -> float:
    """The mean square (n) by which points lie off a motion that they were fitted by, with their weights (n)."""
    if np.count_nonzero(weights > BAD_POINT) <= POINTS_NEEDED[motion]:  # so few fit any motion: the others are heard
        return float(squares.mean())
    return float((weights * squares).sum() / weights.sum())


def _apart(motion: Matrix, source: NDArray, target: NDArray) -> NDArray[np.float64]:
    return np.asarray(np.linalg.norm(carry(motion, source) - target, axis=1))


def _similarity(source: NDArray, target: NDArray, w: NDArray) -> Matrix:
    a, b = np.average(source, axis=0, weights=w), np.average(target, axis=0, weights=w)
    p, q = (source - a) @ np.array([1, 1j]), (target - b) @ np.array([1, 1j])
    power = float((w * np.abs(p) ** 2).sum())
    if power < 1e-12:
        raise ValueError(say("The marks lie on one another; two marks must be apart."))
    ratio = complex((w * np.conj(p) * q).sum() / power)
    out = np.eye(3)
    out[:2, :2] = [[ratio.real, -ratio.imag], [ratio.imag, ratio.real]]
    out[:2, 2] = b - out[:2, :2] @ a
    return out


def _normal(points: NDArray) -> Matrix:
    """Brings points about 0 with a mean distance of √2 (Hartley 1997)."""
    middle = points.mean(axis=0)
    away = float(np.linalg.norm(points - middle, axis=1).mean())
    if away < 1e-9:
        raise ValueError(say("The points lie on one another."))
    s = np.sqrt(2) / away
    return np.array([[s, 0, -s * middle[0]], [0, s, -s * middle[1]], [0, 0, 1]])


def _affine(p: NDArray, q: NDArray, w: NDArray) -> Matrix:
    lifted = np.concatenate([p, np.ones((len(p), 1))], axis=1) * np.sqrt(w)[:, None]
    solution, _, rank, _ = np.linalg.lstsq(lifted, q * np.sqrt(w)[:, None], rcond=1e-9)
    if rank < 3:
        raise ValueError(say("The points lie on one line."))
    return np.vstack([solution.T, [0, 0, 1]])


def _perspective(p: NDArray, q: NDArray, w: NDArray) -> Matrix:
    (x, y), (u, v) = p.T, q.T
    one, nil, s = np.ones_like(x), np.zeros_like(x), np.sqrt(w)
    top = np.stack([x, y, one, nil, nil, nil, -u * x, -u * y, -u], axis=1) * s[:, None]
    low = np.stack([nil, nil, nil, x, y, one, -v * x, -v * y, -v], axis=1) * s[:, None]
    _, values, vt = np.linalg.svd(np.concatenate([top, low]))
    if (len(values) > 7 and values[7] < 1e-9 * values[0]) or abs(vt[-1][8]) < 1e-9:
        raise ValueError(say("The points lie too nearly on one line."))
    out = (vt[-1] / vt[-1][8]).reshape(3, 3)
    for _ in range(4):
        lifted = np.stack([x, y, one], axis=1) @ out.T
        z = lifted[:, 2]
        a, b = lifted[:, 0] / z, lifted[:, 1] / z
        top = np.stack([x, y, one, nil, nil, nil, -a * x, -a * y], axis=1) * (s / z)[:, None]
        low = np.stack([nil, nil, nil, x, y, one, -b * x, -b * y], axis=1) * (s / z)[:, None]
        rest = np.concatenate([(u - a) * s, (v - b) * s])
        step = np.linalg.lstsq(np.concatenate([top, low]), rest, rcond=None)[0]
        out = out + np.append(step, 0).reshape(3, 3)
    return np.asarray(out)
