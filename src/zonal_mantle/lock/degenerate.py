"""Whether tracks tell what a camera is solved for: that it moved at all, and its focal length.

References
----------
P. H. S. Torr, Geometric motion segmentation and model selection, Philosophical Transactions of the Royal Society A 356
(1998): a fuller model is kept only where it explains more than its freedom does. R. Hartley & A. Zisserman, Multiple
View Geometry in Computer Vision (2nd edition, 2004), sections 11.9 and 19.8: what a camera that only turns, and one
that only slides, leave undetermined. The interval is a profile of the likelihood (D. R. Cox & D. V. Hinkley,
Theoretical Statistics, 1974, chapter 7; from memory).
"""

from __future__ import annotations

from collections.abc import Callable
from typing import NamedTuple

import numpy as np

from ..shot.lock import Lens
from ..words import say
from .bundle import Problem, Scene, Views, adjust, pictured
from .errors import OnlyTurned

NO_MORE = 1.09  # times: where turning alone leaves no more than this, moving explains nothing but its own freedom
LEAST_DEPTH = 200.0  # times the power of what strays square to depth, that depths must explain
CLEARLY = 6.0  # times: where turning leaves so much more after a few rounds, the camera moved
SURER, WELL_TOLD = 0.67, 0.016  # of the spread where it is told, and one that the rule of the same fit has of itself
QUICKLY, SLOWLY = (14, 1e-3), (60, 1e-6)  # rounds and the least gain of one
STEPS = (1.1, 1.25, 1.6, 2.5, 5.0, 12.0, 30.0)  # factors that a focal length is tried at to either side
SAME_FIT = 0.02  # a mean error that is larger by less is no worse: tracks err together, not each by itself
OF_POINTS = 3.0  # over how many points there are, where these are few: each counts once, however long it is seen


class Turning(NamedTuple):
    """Error of a view by turning alone and by moving, px, each by its own freedom; and how many times more depths move
    the tracks than these stray, in the same course, square to where depths could move them."""

    turning_px: float
    moving_px: float
    stands_out: float

    @property
    def explains_all(self) -> bool:
        """Whether moving adds nothing, or no more than tracks stray by themselves."""
        return self.turning_px <= NO_MORE * self.moving_px or self.stands_out < LEAST_DEPTH


def spread_px(scene: Scene, views: Views, unknowns: int) -> float:
    """Standard error of a coordinate, robustly: from the median, by the freedom that is left."""
    rest = pictured(scene, views) - views.seen
    square = (rest**2).sum(axis=1)
    # of two normal coordinates the square's median is 2 ln 2 of the variance
    plain = float(np.median(square)) / (2 * np.log(2))
    return float(np.sqrt(plain * rest.size / max(rest.size - unknowns, 1)))


def turning(scene: Scene, views: Views, free_focal: bool, free_bend: bool = False) -> Turning:
    """The same views by a camera that only turns, as well as that can be, against the scene that was found.

    The turning camera may bend the picture whether the moving one may or not: else depths would stand in for the bend.
    """
    cameras, points = len(scene.turns), len(scene.points)
    moving = spread_px(scene, views, 6 * (cameras - 1) + 3 * points + int(free_focal) + int(free_bend) - 1)
    unknowns = 3 * (cameras - 1) + 2 * points + int(free_focal) + 1
    places = np.zeros_like(scene.places)
    flat = Scene(scene.focal_px, scene.distortion, _turns_alone(scene, views), places, scene.points.copy())
    flat.points = _rays(flat, views)
    alone = np.inf
    for bend, rounds, gain in ((False, 8, 1e-2), (False, 25, 1e-4), (True, 20, 1e-4)):
        flat = adjust(flat, views, free_focal, bend, rounds, gain, only_turns=True)
        alone = spread_px(flat, views, unknowns)
        if alone > CLEARLY * moving:
            break  # no more rounds would close that
    return Turning(alone, moving, _depth_stands_out(scene, views))


def only_turned(off_px: float) -> OnlyTurned:
    """That turning alone explains all, to `off_px`."""
    return OnlyTurned(
        say(
            "The camera only turned: turning alone explains the features to {off_px:.2f} px, and moving "
            "explains no more, so that nothing tells their distances. Use a pan lock.",
            off_px=off_px,
        )
    )


def hardly_moved(off_px: float, share: float) -> OnlyTurned:
    """That it may be all, before a plane that a `share` of the features lie on."""
    return OnlyTurned(
        say(
            "The camera hardly moved: turning alone explains the features to {off_px:.2f} px, and {share:.0%} of them "
            "lie on one plane, so that nothing tells a turn from a small way. Use a pan lock.",
            off_px=off_px,
            share=share,
        )
    )


def better_turned(off_px: float, said_px: float) -> OnlyTurned:
    """That it is the better lock: as one that moves the camera would be off by `said_px`."""
    return OnlyTurned(
        say(
            "The camera hardly moved: turning alone explains the features to {off_px:.2f} px. Solved as one that moves "
            "it could be off by {said_px:.1f} px: nothing tells how far things are. Use a pan lock.",
            off_px=off_px,
            said_px=said_px,
        )
    )


def _depth_stands_out(scene: Scene, views: Views) -> float:
    """The power by which depths move the tracks against that of what the tracks are off by in the same course, turned
    by a right angle, where no depth could move them: a track that drifts does so either way."""
    problem = Problem(scene, views, False, False)
    values = problem.start()
    along = problem.slopes(values).point[:, :, 2]  # how a view moves with its point's w
    rest = problem.residuals(values).reshape(-1, 2)
    square = np.stack([-along[:, 1], along[:, 0]], axis=1)
    power = np.bincount(views.point, (along**2).sum(axis=1)) + 1e-12
    depth = problem.near[:, 0] - np.median(problem.near[:, 0])
    stray = np.bincount(views.point, (rest * square).sum(axis=1)) / power
    return float((depth**2 * power).sum() / max((stray**2 * power).sum(), 1e-12))


def _turns_alone(scene: Scene, views: Views) -> np.ndarray:
    """The turn of each camera that carries the directions of the one that sees most onto what it sees, in least
    squares; a camera that shares too little with it turns as the one before."""
    count = len(scene.turns)
    base = int(np.bincount(views.camera, minlength=count).argmax())
    known = np.full((len(scene.points), 3), np.nan)
    at = views.camera == base
    known[views.point[at]] = _directions(views.seen[at], scene.focal_px)
    out = np.tile(np.eye(3), (count, 1, 1))
    for k in range(count):
        mine = views.camera == k
        a, b = known[views.point[mine]], _directions(views.seen[mine], scene.focal_px)
        good = np.isfinite(a).all(axis=1)
        if k != base and good.sum() >= 6:
            u, _, vt = np.linalg.svd(b[good].T @ a[good])
            out[k] = u @ np.diag([1, 1, np.linalg.det(u @ vt)]) @ vt
        elif k != base and k > 0:
            out[k] = out[k - 1]
    return out


def _directions(seen: np.ndarray, focal: float) -> np.ndarray:
    rays = np.concatenate([seen / focal, np.ones((len(seen), 1))], axis=1)
    return np.asarray(rays / np.linalg.norm(rays, axis=1, keepdims=True))


def _rays(scene: Scene, views: Views) -> np.ndarray:
    """Points infinitely far off, each the mean of the directions that it is seen in."""
    world = np.einsum("nji,nj->ni", scene.turns[views.camera], _directions(views.seen, scene.focal_px))
    sums = np.stack([np.bincount(views.point, world[:, k], len(scene.points)) for k in range(3)], axis=1)
    return np.column_stack([sums / np.linalg.norm(sums, axis=1, keepdims=True), np.zeros(len(sums))])


class FocalInterval(NamedTuple):
    """Between which focal lengths, in pixels, the tracks are explained as well; a bound is as far as was looked."""

    low_px: float
    high_px: float
    focal_px: float
    ends: tuple[tuple[Scene, float], ...] = ()  # a scene at each end, and the share of the way to it that fits as well

    @property
    def known(self) -> bool:
        """Whether the tracks tell it."""
        return Lens(focal_px=self.focal_px, bounds_px=(self.low_px, self.high_px)).focal_told

    @property
    def spread(self) -> float:
        """Of the focal length's logarithm, the farther bound taken as two standard deviations."""
        return max(float(np.log(self.high_px / self.focal_px)), float(np.log(self.focal_px / self.low_px))) / 2

    @property
    def beyond(self) -> float:
        """By how much the focal length is less sure than the views say, of its logarithm: nothing where it is told."""
        if not self.known:
            return self.spread
        return float(np.sqrt(max((self.spread * SURER) ** 2 - WELL_TOLD**2, 0.0)))

    def words(self) -> str:
        """What is not told, and what to do."""
        return say(
            "This motion does not tell the focal length: from {low_px:.0f} to {high_px:.0f} px it explains "
            "the features as well. Give it at the lens, or distances are not those of the scene.",
            low_px=self.low_px,
            high_px=self.high_px,
        )


def focal_interval(
    scene: Scene,
    views: Views,
    free_bend: bool = False,
    report: Callable[[], None] = lambda: None,
    slow: bool = False,
) -> FocalInterval:
    """What focal lengths explain the views as well as the one that was found: all else is adjusted to each."""
    found = scene.focal_px
    least, same = _mean(scene, views), 1 + max(SAME_FIT, OF_POINTS / len(scene.points))
    bounds, ends = [], []
    for sign in (-1, 1):
        bound, last, before, share = found, scene, 1.0, 1.0
        for step in STEPS:
            report()
            focal = found * step**sign
            trial = adjust(last.through(focal), views, False, free_bend, *(SLOWLY if slow else QUICKLY), report)
            mean = _mean(trial, views)
            if mean > same * least:
                if before == 1.0:
                    # how far to this step the fit grows worse than is the same, as a parabola has it
                    share = min(float(np.sqrt((same - 1) / max(mean / least - 1, 1e-9))), 1.0)
                    bound, last = found * float(np.exp(np.log(step) * share)) ** sign, trial
                break
            bound, last, before = focal, trial, step
        bounds.append(bound)
        ends.append((last, share))
    return FocalInterval(bounds[0], bounds[1], found, tuple(ends))


def _mean(scene: Scene, views: Views) -> float:
    """Robust mean error of the views."""
    off = np.linalg.norm(pictured(scene, views) - views.seen, axis=1)
    return float(np.sqrt(np.median(off**2)) * 0.5 + np.minimum(off, 1.0).mean() * 0.5)
