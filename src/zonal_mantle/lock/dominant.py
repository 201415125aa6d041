"""A scene that is nearly one plane: whether it is, which other cameras see that plane alike, and which tracks move as
parts of a scene all the same.

A plane is seen alike by two pairs of cameras, and by more where the focal length is not known; only what lies off it
tells which is right. A point's nearness w is linear in its direction on a plane, w = m · u, and a camera sees the plane
by H = R (I − C mᵀ).

References
----------
O. Faugeras & F. Lustman, Motion and structure from motion in a piecewise planar environment (1988): the two ways to
decompose H, as OpenCV has them. O. Chum, T. Werner & J. Matas, Two-view geometry estimation unaffected by a dominant
plane, CVPR 2005: the epipole from what lies off the plane. R. Hartley & A. Zisserman, Multiple View Geometry in
Computer Vision (2nd edition, 2004), section 11.9. All from memory.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from typing import NamedTuple

import cv2
import numpy as np
from numpy.typing import NDArray

from ..geometry import carry
from .bundle import Problem, Scene, Views

Matrix = NDArray[np.float64]

OFF_PX = 1.0  # from which on a point does not lie on a plane
TRIES = 200  # planes through three points
MOSTLY = 0.75  # of the points on one plane: other cameras may see it alike, and what lies off it tells little
OTHER_FOCALS = (1.0, 0.8, 1.25)  # times the one that was found
BEFORE = 0.8  # of the points that must lie before the lens

LEAST_SHARED = 12  # features of two frames that tell a homography
PAIR_PX = 0.8  # from a homography, within which a place is one of its plane
PLANE_TRIES, EPIPOLE_TRIES = 300, 200
LEAST_OFF, MOST_ONE_WAY = 6, 0.5  # tracks that tell an epipole, and the share of them that must point to it


class Dominant(NamedTuple):
    """The plane that most points lie on, w = m · u of each direction u in the first camera's axes; the share of points
    that lie on it, and how many do not."""

    plane: NDArray[np.float64]
    share: float
    off: int


def dominant_plane(scene: Scene, views: Views) -> Dominant:
    """The plane that most of a scene's points lie on, to `OFF_PX` in the picture.

    Example
    -------
    >>> rays = np.random.default_rng(1).normal(0, 0.2, (40, 3)) + [0, 0, 1.0]
    >>> rays /= np.linalg.norm(rays, axis=1, keepdims=True)
    >>> points = np.column_stack([rays, rays @ [0.02, 0.0, 0.1]])
    >>> turns, places = np.tile(np.eye(3), (2, 1, 1)), np.array([[0, 0, 0], [1.0, 0, 0]])
    >>> views = Views(np.repeat([0, 1], 40), np.tile(np.arange(40), 2), np.zeros((80, 2)))
    >>> found = dominant_plane(Scene(500.0, 0.0, turns, places, points), views)
    >>> found.share, bool(np.allclose(found.plane, [0.02, 0, 0.1]))
    (1.0, True)
    """
    problem = Problem(scene, views, False, False)
    along = problem.slopes(problem.start()).point[:, :, 2]
    lives = np.maximum(np.bincount(views.point, minlength=problem.count), 1)
    size = np.sqrt(np.bincount(views.point, (along**2).sum(axis=1), problem.count) / lives)
    rng = np.random.default_rng(problem.count)
    best, least = np.zeros(3), np.inf
    for _ in range(TRIES):
        some = rng.choice(problem.count, 3, replace=False)
        plane = np.linalg.lstsq(problem.away[some], problem.near[some, 0], rcond=1e-6)[0]
        off = np.abs(problem.near[:, 0] - problem.away @ plane) * size
        cost = float(np.minimum(off, OFF_PX).sum())
        if cost < least:
            best, least = plane, cost
    for _ in range(3):
        on = np.abs(problem.near[:, 0] - problem.away @ best) * size < OFF_PX
        if np.count_nonzero(on) < 3:
            break
        weighed = problem.away[on] * size[on, None], problem.near[on, 0] * size[on]
        best = np.linalg.lstsq(*weighed, rcond=1e-9)[0]
    off = np.abs(problem.near[:, 0] - problem.away @ best) * size
    on = off < OFF_PX
    return Dominant(best, float(on.mean()), int(np.count_nonzero(~on)))


def seen_otherwise(scene: Scene, plane: NDArray[np.float64], free_focal: bool) -> Iterator[Scene]:
    """Other cameras that see a plane as the scene's do, with all points on it; with the focal length free they see it
    nearly so, and are to be adjusted.

    Parameters
    ----------
    plane : (3), see `Dominant`.
    """
    lens = np.array([scene.focal_px, scene.focal_px, 1.0])
    seen = [
        lens[:, None] * (turn @ (np.eye(3) - np.outer(place, plane))) / lens
        for turn, place in zip(scene.turns, scene.places)
    ]
    picture = scene.points[:, :3] * lens
    focals = [scene.focal_px * each for each in (OTHER_FOCALS if free_focal else (1.0,))]
    for focal, turns, places, other in cameras_of(np.array(seen), picture, focals):
        rays = picture / [focal, focal, 1.0]
        rays /= np.linalg.norm(rays, axis=1, keepdims=True)
        points = np.column_stack([rays, np.maximum(rays @ other, 0.0)])
        yield Scene(focal, scene.distortion, turns, places, points)


def cameras_of(
    seen: Matrix, picture: NDArray[np.float64], focals_px: Iterable[float]
) -> Iterator[tuple[float, Matrix, NDArray[np.float64], NDArray[np.float64]]]:
    """Focal lengths, and turns and places of cameras that see a plane by homographies of the first one's picture.

    Parameters
    ----------
    seen : (cameras, 3, 3), of places from the middle, px; the first is the identity.
    picture : (n, 3), places of the plane in the first picture, from its middle, px, homogeneous.
    focals_px : that are tried.

    Yields
    ------
    Focal length, (cameras, 3, 3), (cameras, 3) and the plane, see `Dominant`.
    """
    for focal in focals_px:
        lens = np.array([focal, focal, 1.0])
        rays = picture / lens
        homographies = seen * lens / lens[:, None]
        count, _, _, normals = cv2.decomposeHomographyMat(seen[_most_parallax(homographies)], np.diag(lens))
        tried: list[NDArray[np.float64]] = []
        for normal in normals[:count]:
            plane = np.asarray(normal, float).reshape(3)
            plane = plane if np.mean(rays @ plane > 0) > 0.5 else -plane
            if np.mean(rays @ plane > 0) < BEFORE or any(np.allclose(plane, each, atol=1e-3) for each in tried):
                continue
            tried.append(plane)
            turns, places = (np.array(each) for each in zip(*(_camera_of(each, plane) for each in homographies)))
            yield focal, turns @ turns[0].T, places - places[0], plane


def _most_parallax(homographies: Matrix) -> int:
    """Which homography, of rays, is the farthest from a turn: by its singular values."""
    values = np.linalg.svd(homographies, compute_uv=False)
    return int((values[:, 0] / values[:, 2]).argmax())


def _camera_of(homography: Matrix, plane: NDArray[np.float64]) -> tuple[Matrix, NDArray[np.float64]]:
    """The turn and the place of a camera that sees a plane by a homography, of any size: along the plane it is the turn
    times that size."""
    homography = homography * np.sign(np.linalg.det(homography) or 1.0)
    length = float(np.linalg.norm(plane))
    _, _, along = np.linalg.svd(plane[None] / length)
    one, two = homography @ along[1], homography @ along[2]
    size = float(np.sqrt(np.linalg.norm(np.cross(one, two)))) or 1.0
    there = np.column_stack([one / size, two / size, np.cross(one, two) / size**2])
    here = np.column_stack([along[1], along[2], np.cross(along[1], along[2])])
    u, _, vt = np.linalg.svd(there @ here.T)
    turn = u @ np.diag([1, 1, np.linalg.det(u @ vt)]) @ vt
    rest = np.eye(3) - turn.T @ homography / size
    return turn, np.asarray(rest @ plane / length**2)


def off_one_scene(source: NDArray[np.float64], target: NDArray[np.float64]) -> NDArray[np.bool_] | None:
    """Which of the features that two frames share break the epipolar constraint, where nearly all of them lie on one
    plane; None where they do not, or where too few lie off it to tell.

    Parameters
    ----------
    source, target : (n, 2) places, px.
    """
    plane, _ = cv2.findHomography(source, target, cv2.RANSAC, PAIR_PX, maxIters=PLANE_TRIES)
    if plane is None:
        return None
    there = carry(np.asarray(plane, float), source)
    apart = np.linalg.norm(there - target, axis=1)
    off = np.flatnonzero(apart > 2 * PAIR_PX)
    if len(off) > (1 - MOSTLY) * len(source):
        return None
    broken = np.zeros(len(source), bool)
    if len(off) < LEAST_OFF:
        return broken
    # each moves along a line through the epipole: a · e = 0, of homogeneous places
    a, b = (np.column_stack([each[off], np.ones(len(off))]) for each in (there, target))
    lines = np.cross(a, b)
    lines /= np.linalg.norm(lines[:, :2], axis=1, keepdims=True)
    rng, best = np.random.default_rng(len(off)), np.zeros(len(off), bool)
    for _ in range(EPIPOLE_TRIES):
        i, j = rng.choice(len(off), 2, replace=False)
        epipole = np.cross(lines[i], lines[j])
        wanted = np.cross(a, epipole)
        wanted /= np.maximum(np.linalg.norm(wanted[:, :2], axis=1, keepdims=True), 1e-12)
        good = np.abs((wanted * b).sum(axis=1)) < PAIR_PX
        best = good if good.sum() > best.sum() else best
    if best.mean() < MOST_ONE_WAY:
        return broken
    broken[off[~best]] = True
    return broken


def one_plane(places: list[dict[int, tuple[float, float]]], frames: list[int], middle: NDArray) -> Matrix | None:
    """Homographies from the first of some frames to each, of places from the middle, where nearly all features that
    they share lie on one plane; None where they do not, or share too few.

    Parameters
    ----------
    places : where each feature was seen, by frame, px.
    """
    out = [np.eye(3)]
    for frame in frames[1:]:
        pairs = [(each[frames[0]], each[frame]) for each in places if frames[0] in each and frame in each]
        if len(pairs) < LEAST_SHARED:
            return None
        source, target = (np.array(each) - middle for each in zip(*pairs))
        found, on = cv2.findHomography(source, target, cv2.RANSAC, 2 * PAIR_PX, maxIters=PLANE_TRIES)
        if found is None or on.mean() < MOSTLY:
            return None
        out.append(np.asarray(found, float))
    return np.array(out)
