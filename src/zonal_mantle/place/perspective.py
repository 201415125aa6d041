"""Vanishing points, horizons, and what they tell of the camera.

References: Hartley & Zisserman 2004, *Multiple View Geometry*, sections 2.2, 8.6 and 8.8; Caprile & Torre 1990 for the
focal length from two vanishing points of directions at right angles.
"""

from __future__ import annotations

from dataclasses import dataclass

import cv2
import numpy as np
from numpy.typing import NDArray

from ..words import say

Vector = NDArray[np.float64]
LEAST_ANGLE = np.deg2rad(0.15)  # between lines that should meet; less tells nothing


@dataclass(frozen=True)
class Perspective:
    """What lines tell.

    horizon : a x + b y + c = 0 with a² + b² = 1 and b > 0, or None. first, second : vanishing points, homogeneous, or
    None. focal_px : or None. problem : one sentence where lines were drawn that tell nothing.
    """

    horizon: Vector | None = None
    first: Vector | None = None
    second: Vector | None = None
    focal_px: float | None = None
    problem: str = ""


def line_through(a: tuple[float, float], b: tuple[float, float]) -> Vector:
    """The line through two places, normalised."""
    return normal_line(np.cross([*a, 1.0], [*b, 1.0]))


def normal_line(line: NDArray) -> Vector:
    """A line with a unit normal that points down the picture."""
    size = float(np.hypot(line[0], line[1]))
    if size < 1e-15:
        raise ValueError(say("A line at infinity has no place on the picture."))
    out = np.asarray(line, float) / size
    return out if out[1] > 0 or (out[1] == 0 and out[0] > 0) else -out


def vanishing_point(segments: NDArray) -> Vector:
    """Where lines that are parallel in the scene meet on the picture.

    Parameters
    ----------
    segments : (n, 2, 2), n ≥ 2, the ends of drawn lines in pixels.

    Returns
    -------
    (3,) homogeneous, of length 1.

    Raises
    ------
    ValueError : fewer than two lines, or lines that are parallel on the picture.

    The sum of squared distances of the drawn ends from the lines through each drawn middle and the point is least
    (Hartley & Zisserman 2004, section 8.6.1).
    """
    segments = np.asarray(segments, float)
    if len(segments) < 2:
        raise ValueError(say("Two lines or more are needed to tell where they meet."))
    middle = segments.reshape(-1, 2).mean(axis=0)
    unit = max(float(np.abs(segments - middle).max()), 1.0)
    own = (segments - middle) / unit
    lines = np.array([normal_line(np.cross([*a, 1], [*b, 1])) for a, b in own])
    ways = own[:, 1] - own[:, 0]
    ways = ways / np.linalg.norm(ways, axis=1, keepdims=True)
    spread = [abs(np.arcsin(np.clip(p[0] * q[1] - p[1] * q[0], -1, 1))) for p in ways for q in ways]
    if max(spread) < LEAST_ANGLE:
        raise ValueError(say("These lines are parallel on the picture: they do not tell where they meet."))
    lengths = np.linalg.norm(own[:, 1] - own[:, 0], axis=1)
    start = np.linalg.svd(lines * lengths[:, None])[2][-1]
    middles = np.concatenate([own.mean(axis=1), np.ones((len(own), 1))], axis=1)

    def off(v: Vector) -> Vector:
        through = np.cross(middles, v / np.linalg.norm(v))
        through /= np.maximum(np.hypot(through[:, 0], through[:, 1]), 1e-12)[:, None]
        return np.asarray((own[:, 0] * through[:, :2]).sum(axis=1) + through[:, 2])

    from scipy.optimize import least_squares  # slow to import

    found = start if len(own) == 2 else least_squares(off, start, method="lm", x_scale="jac").x
    back = np.array([[unit, 0, middle[0]], [0, unit, middle[1]], [0, 0, 1]]) @ found
    return np.asarray(back / np.linalg.norm(back))


def horizon_of(first: NDArray, second: NDArray) -> Vector:
    """The line on which two vanishing points of level directions lie."""
    return normal_line(np.cross(first, second))


def focal_of(first: NDArray, second: NDArray, centre: tuple[float, float]) -> float:
    """Focal length in pixels from the vanishing points of two directions at right angles, for square pixels and a lens
    that looks through `centre`.

    Raises
    ------
    ValueError : they do not tell it: one is at infinity, or they lie on one side.
    """
    if min(abs(first[2]) / np.linalg.norm(first), abs(second[2]) / np.linalg.norm(second)) < 1e-9:
        raise ValueError(
            say("One of the two directions runs along the picture: the focal length does not follow from it.")
        )
    a, b = first[:2] / first[2] - centre, second[:2] / second[2] - centre
    square = -float(a @ b)
    if square <= 1:
        raise ValueError(say("These two directions cannot be at right angles in the scene."))
    return float(np.sqrt(square))


def read_lines(
    horizon: NDArray, first: NDArray, second: NDArray, size: tuple[int, int], focal_px: float | None = None
) -> Perspective:
    """What drawn lines tell of a picture.

    Parameters
    ----------
    horizon, first, second : (n, 2, 2) drawn lines of each kind, in pixels.
    size : of the picture. focal_px : where it is known.
    """
    points: list[Vector | None] = []
    problem = ""
    for name, drawn in (("first", first), ("second", second)):
        try:
            points.append(vanishing_point(drawn) if len(drawn) > 1 else None)
        except ValueError as trouble:
            points.append(None)
            problem = say("Edges of the {name} direction: {trouble}", name=name, trouble=trouble)
    one, two = points
    line, focal = None, focal_px
    centre = (size[0] / 2, size[1] / 2)
    if one is not None and two is not None:
        try:
            line = horizon_of(one, two)
            focal = focal_of(one, two, centre)
        except ValueError as trouble:
            problem = problem or str(trouble)
    elif (known := one if one is not None else two) is not None and abs(known[2]) > 1e-12:
        line = np.array([0.0, 1.0, -known[1] / known[2]])  # held level
    if len(horizon):
        line = _fitted(np.asarray(horizon, float))
    return Perspective(line, one, two, focal, problem)


def _fitted(segments: NDArray) -> Vector:
    """The line through all ends of drawn lines, by least squares of their distances."""
    ends = segments.reshape(-1, 2)
    middle = ends.mean(axis=0)
    normal = np.linalg.svd(ends - middle)[2][1]
    return normal_line(np.array([*normal, -float(normal @ middle)]))


def height_at(line: NDArray, x: float) -> float:
    """Where a horizon crosses a column, px."""
    return float(-(line[0] * x + line[2]) / line[1]) if abs(line[1]) > 1e-9 else float("nan")


def roll_deg(line: NDArray) -> float:
    """A horizon's angle on the picture, clockwise."""
    return float(np.degrees(np.arctan2(-line[0], line[1])))


def pitch_deg(line: NDArray, focal_px: float, size: tuple[int, int]) -> float:
    """How far the camera looks up, from a horizon."""
    off = line[0] * size[0] / 2 + line[1] * size[1] / 2 + line[2]  # the picture's middle below the horizon
    return float(-np.degrees(np.arctan2(off, focal_px)))


def carried(line: NDArray, motion: NDArray) -> Vector:
    """A line through a homography of places."""
    return normal_line(np.linalg.inv(motion).T @ line)


def level_mirror(line: NDArray, k: NDArray) -> Vector:
    """(3, 3), how level water far below mirrors directions: those above a horizon to as far below it.

    The horizon's plane through the lens has the normal Kᵀ l (Hartley & Zisserman 2004, result 8.2); directions are
    mirrored at it by Householder's reflection.
    """
    normal = k.T @ line
    normal = normal / np.linalg.norm(normal)
    return np.asarray(k @ (np.eye(3) - 2 * np.outer(normal, normal)) @ np.linalg.inv(k))


def quad_of_edges(across: NDArray, down: NDArray) -> NDArray[np.float64]:
    """The four corners where two pairs of edges cross.

    Parameters
    ----------
    across, down : (2, 2, 2), the ends of two edges each: of the top and bottom, and of the left and right side.

    Returns
    -------
    (4, 2) from the upper left on, clockwise.

    Raises
    ------
    ValueError : two of them do not cross.
    """
    across = np.array(sorted(np.asarray(across, float).tolist(), key=lambda e: e[0][1] + e[1][1]))
    down = np.array(sorted(np.asarray(down, float).tolist(), key=lambda e: e[0][0] + e[1][0]))
    corners = []
    for i, j in ((0, 0), (0, 1), (1, 1), (1, 0)):
        at = np.cross(line_through(*across[i]), line_through(*down[j]))
        if abs(at[2]) < 1e-6:
            raise ValueError(say("Two of the four edges are parallel and do not cross."))
        corners.append(at[:2] / at[2])
    return np.array(corners)


def find_lines(picture: NDArray, least_share: float = 0.06) -> tuple[NDArray, NDArray]:
    """Straight edges of two level directions, found by themselves.

    Parameters
    ----------
    picture : (h, w) float32, coded, 0…1.
    least_share : of the picture's width that an edge is long at least.

    Returns
    -------
    Two (n, 2, 2) of drawn-like lines, that of the direction with more edge length first; either may be empty.

    References
    ----------
    Line segments: von Gioi et al. 2010. Random trials for the vanishing points: Fischler & Bolles 1981.
    """
    grey = np.clip(picture * 255, 0, 255).astype(np.uint8)
    found = cv2.createLineSegmentDetector(cv2.LSD_REFINE_STD).detect(grey)[0]
    empty = np.zeros((0, 2, 2))
    if found is None:
        return empty, empty
    segments = found.reshape(-1, 2, 2).astype(float) + 0.5
    ways = segments[:, 1] - segments[:, 0]
    lengths = np.linalg.norm(ways, axis=1)
    upright = np.abs(ways[:, 0]) < np.tan(np.deg2rad(8)) * np.abs(ways[:, 1])
    segments = segments[(lengths > least_share * picture.shape[1]) & ~upright]
    first, rest = _strongest(segments)
    second, _ = _strongest(rest)
    return (first, second) if len(first) > 2 else (empty, empty)


def _strongest(segments: NDArray, tries: int = 600) -> tuple[NDArray, NDArray]:
    """The lines that meet in the point to which most length runs, and the others."""
    if len(segments) < 3:
        return np.zeros((0, 2, 2)), segments
    ends = np.concatenate([segments, np.ones((*segments.shape[:2], 1))], axis=2)
    lines = np.cross(ends[:, 0], ends[:, 1])
    middles, ways = ends.mean(axis=1), segments[:, 1] - segments[:, 0]
    lengths = np.linalg.norm(ways, axis=1)
    chance, best, most = np.random.default_rng(1), np.zeros(len(segments), bool), 0.0
    share = lengths / lengths.sum()
    for _ in range(tries):
        i, j = chance.choice(len(segments), 2, replace=False, p=share)
        point = np.cross(lines[i], lines[j])
        to = point[:2] - point[2] * middles[:, :2]
        off = np.abs(to[:, 0] * ways[:, 1] - to[:, 1] * ways[:, 0])
        angle = off / np.maximum(np.linalg.norm(to, axis=1) * lengths, 1e-9)
        near = angle < np.sin(np.deg2rad(0.8))
        if (total := float(lengths[near].sum())) > most and near.sum() > 2:
            best, most = near, total
    return segments[best], segments[~best]
