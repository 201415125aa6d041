"""A camera that only turns: how it turned, and its focal length, by a few places that were followed."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from .camera import DEFAULT_FOCAL, camera_matrix, rays_of

Array = NDArray[np.float64]
ROUNDS = 6  # of Gauss and Newton
SOFT_PX = (16.0, 4.0, 1.0, 0.0)  # within which a place that disagrees is still heard, round by round
LEAST_SPREAD_PX = 0.1  # no place is held to be bad for less
WIDE = 4.685  # of Tukey's biweight, in robust deviations (Huber 1981)
MOST_OFF = 9.0  # squared deviations that one place counts for in a focal length
FOCALS = np.geomspace(0.35, 12.0, 60)  # that are tried, in widths of the frame
FINER, TIMES_FINER = 9, 3  # of them about the best, about the best of those, and so on
LEAST_ERROR_PX = 0.03  # no place is known better than pictures are
AS_MANY = 4.0  # frames' worth of what is told by any number: places that are followed err alike from frame to frame
MOST_FRAMES = 64  # that a focal length is asked of: more tell no more
WITHIN = 4.0  # of twice the logarithm of likeness, 95 %
RIDGE = 1e-7  # of the normal equations: a turn about the one place that is seen is none


class TurnedFrames(NamedTuple):
    """Turns from the reference frame to each frame, (f, 3, 3); where places lie off it, (f, n, 2), px, NaN where they
    are not seen; how much each counts, (f, n); and how unsure each turn is for errors of 1 px of each place, (f, 3, 3),
    radians squared, for a small turn on its left."""

    turns: Array
    off: Array
    weights: Array
    covariances: Array


class ToldFocal(NamedTuple):
    """A focal length in px, and those between which all explain the places as well."""

    focal_px: float
    bounds_px: tuple[float, float]

    def is_told(self, within: float) -> bool:
        """Whether it is known to a relative half width."""
        return (self.bounds_px[1] - self.bounds_px[0]) / 2 <= within * self.focal_px


def skew(v: NDArray) -> Array:
    """Cross-product matrices (n, 3, 3) of vectors (n, 3)."""
    out = np.zeros((len(v), 3, 3))
    out[:, 0, 1], out[:, 0, 2], out[:, 1, 2] = -v[:, 2], v[:, 1], -v[:, 0]
    return out - out.transpose(0, 2, 1)


def turned_by(small: NDArray) -> tuple[Array, Array]:
    """Rotations (n, 3, 3) of turn vectors (n, 3), and their left Jacobians (Barfoot 2017, equation 7.77)."""
    angle = np.linalg.norm(small, axis=1)[:, None, None]
    k, eye = skew(small), np.eye(3)[None]
    safe = np.maximum(angle, 1e-9)
    a = np.where(angle < 1e-6, 1.0, np.sin(safe) / safe)
    b = np.where(angle < 1e-6, 0.5, (1 - np.cos(safe)) / safe**2)
    c = np.where(angle < 1e-6, 1 / 6, (safe - np.sin(safe)) / safe**3)
    return eye + a * k + b * k @ k, eye + b * k + c * k @ k


def turn_motion(turn: NDArray, focal_px: float, size: tuple[int, int]) -> Array:
    """How a turn of the camera moves its picture: homographies (…, 3, 3) in pixels, with a 1 at their ends.

    Parameters
    ----------
    turn : (…, 3, 3), from the reference frame's camera axes (x right, y down, z forward). size : width and height.

    References
    ----------
    K R K⁻¹: Hartley & Zisserman 2004, section 8.4.2.

    Examples
    --------
    >>> from zonal_mantle.geometry import carry
    >>> turn = turned_by(np.array([[0.0, np.arctan(0.1), 0.0]]))[0][0]  # to the left by a tenth of the focal length
    >>> carry(turn_motion(turn, 1000.0, (1280, 720)), np.array([[640.0, 360.0]])).round(6).tolist()
    [[740.0, 360.0]]
    """
    k = camera_matrix(focal_px, size)
    out = k @ turn @ np.linalg.inv(k)
    return np.asarray(out / out[..., 2:, 2:])


def moved_by_turn(places: NDArray, focal_px: float, size: tuple[int, int]) -> Array:
    """How small turns about the three axes move places (…, 2) of the picture: (…, 2, 3), px to a radian."""
    x, y = np.moveaxis((np.asarray(places, float) - np.array(size) / 2) / focal_px, -1, 0)
    across = np.stack([-x * y, 1 + x * x, -y], axis=-1)
    down = np.stack([-(1 + y * y), x * y, x], axis=-1)
    return np.asarray(focal_px * np.stack([across, down], axis=-2))


def turned_frames(
    homes: NDArray, places: NDArray, focal_px: float, size: tuple[int, int], robust: bool = True
) -> TurnedFrames:
    """How a camera turned that carries places of its reference frame to where they are seen on each frame.

    One place tells the turn up and aside; the roll is then none. Of more than two, those that disagree count less.

    Parameters
    ----------
    homes : (n, 2) on the reference frame, px. places : (f, n, 2), NaN where one is not seen; each frame has one.
    size : width and height of the frame.

    References
    ----------
    First turn: Kabsch 1976. Then Gauss–Newton on the distances in the picture, weighed by Tukey's biweight.

    Examples
    --------
    >>> from zonal_mantle.geometry import carry
    >>> homes, size = np.array([[200.0, 300.0], [900.0, 350.0]]), (1280, 720)
    >>> turn = turned_by(np.array([[0.02, -0.1, 0.01]]))[0]
    >>> seen = carry(turn_motion(turn[0], 1500.0, size), homes)[None]
    >>> found = turned_frames(homes, seen, 1500.0, size)
    >>> bool(np.allclose(found.turns, turn, atol=1e-9)), bool(np.abs(found.off).max() < 1e-6)
    (True, True)
    """
    k, count = camera_matrix(focal_px, size), len(places)
    there = np.isfinite(places).all(axis=2)
    seen = np.where(there[..., None], places, homes)
    a = _unit(rays_of(k, homes))[None].repeat(count, axis=0)
    b = _unit(rays_of(k, seen.reshape(-1, 2))).reshape(count, -1, 3)
    turns = _first_turns(a, b, there)
    off = np.zeros(seen.shape)
    asked = robust and bool((there.sum(axis=1) > 2).any())
    for soft in (np.inf, *SOFT_PX) if asked else (np.inf,):
        weights = _weighed(off, there, soft)
        for _ in range(ROUNDS):
            turns, off, square = _step(a, seen, turns, weights, focal_px, size)
    return TurnedFrames(turns, np.where(there[..., None], off, np.nan), weights, _inverse(square))


def told_focal(homes: NDArray, places: NDArray, errors_px: NDArray, size: tuple[int, int]) -> ToldFocal:
    """The focal length by which places move most nearly as a turning camera moves them, and its bounds.

    Parameters
    ----------
    homes, places : as of `turned_frames`. errors_px : (f), how far off a place may be on each frame, rms.

    References
    ----------
    Bounds by the profile of the likelihood: Barndorff-Nielsen & Cox, Inference and Asymptotics (1994), section 3.4.
    From memory. Errors are alike from frame to frame, so that all frames tell no more than `AS_MANY` do.

    Examples
    --------
    >>> from zonal_mantle.geometry import carry
    >>> homes, size = np.array([[200.0, 300.0], [900.0, 350.0]]), (1280, 720)
    >>> turns = turned_by(np.array([[0.0, 0.02 * n, 0.0] for n in range(1, 9)]))[0]
    >>> seen = np.stack([carry(turn_motion(turn, 1500.0, size), homes) for turn in turns])
    >>> found = told_focal(homes, seen, np.full(8, 0.05), size)
    >>> round(found.focal_px, -1), found.is_told(0.1), told_focal(homes[:1], seen[:, :1], np.full(8, 0.05), size)
    (1500.0, True, ToldFocal(focal_px=1792.0, bounds_px=(448.0, 15360.0)))
    """
    enough = np.isfinite(places).all(axis=2).sum(axis=1) > 1
    ends = FOCALS[0] * size[0], FOCALS[-1] * size[0]
    if not enough.any():
        return ToldFocal(DEFAULT_FOCAL * size[0], (float(ends[0]), float(ends[1])))
    some = np.flatnonzero(enough)
    some = some[np.linspace(0, len(some) - 1, min(len(some), MOST_FRAMES)).round().astype(int)]
    places = places[some]
    deviation = np.maximum(np.asarray(errors_px, float)[some], LEAST_ERROR_PX) / np.sqrt(2)

    def cost(focal: float) -> float:
        found = turned_frames(homes, places, focal, size)
        squares = np.nansum(found.off**2, axis=2) / deviation[:, None] ** 2
        return float(np.minimum(squares, MOST_OFF).sum())

    focals = FOCALS * size[0]
    costs = np.array([cost(focal) for focal in focals])
    for _ in range(TIMES_FINER):
        best = int(costs.argmin())
        close = np.geomspace(focals[max(best - 1, 0)], focals[min(best + 1, len(focals) - 1)], FINER)
        focals, costs = np.append(focals, close), np.append(costs, [cost(focal) for focal in close])
        order = np.argsort(focals)
        focals, costs = focals[order], costs[order]
    best, counted = int(costs.argmin()), np.isfinite(places).all(axis=2).sum()
    free = max(2 * int(counted) - 3 * len(places) - 1, 1)
    share = min(AS_MANY / len(places), 1.0) / max(costs[best] / free, 1.0)
    away = np.sqrt((costs - costs[best]) * share)  # grows as the logarithm's distance does
    low = _reached(np.log(focals[best::-1]), away[best::-1])
    high = _reached(np.log(focals[best:]), away[best:])
    return ToldFocal(float(focals[best]), (float(np.exp(low)), float(np.exp(high))))


def _reached(at: Array, away: Array) -> float:
    """Where what is `away` (n), from 0 on, first reaches the bounds; at the end where it never does."""
    over = np.flatnonzero(away > np.sqrt(WITHIN))
    if not len(over):
        return float(at[-1])
    k = int(over[0])
    share = (np.sqrt(WITHIN) - away[k - 1]) / (away[k] - away[k - 1])
    return float(at[k - 1] + share * (at[k] - at[k - 1]))


def _unit(rays: Array) -> Array:
    return np.asarray(rays / np.linalg.norm(rays, axis=-1, keepdims=True))


def _first_turns(a: Array, b: Array, there: NDArray[np.bool_]) -> Array:
    """Turns (f, 3, 3) that carry directions (f, n, 3) onto directions; the least where one is there alone."""
    weights = there[..., None].astype(float)
    u, _, vt = np.linalg.svd((b * weights).transpose(0, 2, 1) @ a)
    u[:, :, 2] *= np.linalg.det(u @ vt)[:, None]
    out = u @ vt
    for frame in np.nonzero(there.sum(axis=1) == 1)[0]:
        which = int(there[frame].argmax())
        one, other = a[frame, which], b[frame, which]
        axis = np.cross(one, other)
        length = float(np.linalg.norm(axis))
        angle = float(np.arctan2(length, one @ other))
        out[frame] = turned_by((axis * (angle / max(length, 1e-12)))[None])[0][0]
    return np.asarray(out)


def _step(
    a: Array, seen: Array, turns: Array, weights: Array, focal: float, size: tuple[int, int]
) -> tuple[Array, Array, Array]:
    """Turns one step on, where places lie off them, and the normal equations there."""
    rays = a @ turns.transpose(0, 2, 1)
    now = rays[..., :2] / np.maximum(rays[..., 2:], 1e-6) * focal + np.array(size) / 2
    off = seen - now
    slopes = moved_by_turn(now, focal, size)
    count = len(a)
    weighed = (slopes * weights[..., None, None]).reshape(count, -1, 3)
    square = weighed.transpose(0, 2, 1) @ slopes.reshape(count, -1, 3)
    ridge = RIDGE * np.trace(square, axis1=1, axis2=2)[:, None, None] * np.eye(3)
    small = np.linalg.solve(square + ridge, weighed.transpose(0, 2, 1) @ off.reshape(count, -1, 1))[..., 0]
    turned = turned_by(small)[0] @ turns
    rays = a @ turned.transpose(0, 2, 1)
    off = seen - (rays[..., :2] / np.maximum(rays[..., 2:], 1e-6) * focal + np.array(size) / 2)
    return turned, off, square


def _inverse(square: Array) -> Array:
    """Covariances of what is told; of a way that is not told, none."""
    return np.asarray(np.linalg.pinv(square, rcond=10 * RIDGE, hermitian=True))


def _weighed(off: Array, there: NDArray[np.bool_], soft: float) -> Array:
    """How much each place counts, (f, n), by how far it lies off, within `soft` px or its frame's own spread."""
    away = np.where(there, np.linalg.norm(off, axis=2), np.nan)
    spread = np.maximum(1.4826 * np.nanmedian(away, axis=1, keepdims=True), max(soft, LEAST_SPREAD_PX))
    weights = np.square(np.maximum(1 - np.square(np.nan_to_num(away) / (WIDE * spread)), 0)) * there
    few = there.sum(axis=1, keepdims=True) <= 2
    return np.where(few, there, np.maximum(weights, 1e-3 * there))
