"""A scene grown frame by frame: each next frame is placed by the points that are known, and tells new ones.

References
----------
Incremental structure from motion with local adjustments: E. Mouragnon et al., Real time localization and 3D
reconstruction, CVPR 2006; J. L. Schönberger & J.-M. Frahm, Structure-from-motion revisited, CVPR 2016. From memory.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field

import numpy as np
from numpy.typing import NDArray

from .bundle import Scene, Views, adjust, pictured
from .features import Track
from .scene import only, placed, triangulated, views_of, with_points

Matrix = NDArray[np.float64]

AT_ONCE = 4  # frames that are added before what is near them is adjusted
MOVING, HELD = 12, 12  # frames at the growing end that are adjusted, and that hold them
WHOLE_EVERY = 24  # frames, after which all is adjusted, the lens too
LEAST_VIEWS = 4  # of a point, before it is believed
WORST_POINT_PX = 2.0  # root mean square of its views
LEAST_KNOWN = 12  # points that a frame is placed by


@dataclass
class Growing:
    """Cameras by frame, in the order in which they were added, and the points of the tracks that are known."""

    tracks: list[Track]
    focal: float
    middle: NDArray[np.float64]
    order: list[int] = field(default_factory=list)
    turns: list[Matrix] = field(default_factory=list)
    places: list[NDArray[np.float64]] = field(default_factory=list)
    points: dict[int, NDArray[np.float64]] = field(default_factory=dict)

    @property
    def index(self) -> dict[int, int]:
        """The camera of each frame."""
        return {frame: k for k, frame in enumerate(self.order)}

    def known_on(self, frame: int) -> list[tuple[NDArray[np.float64], tuple[float, float]]]:
        """The known points that a frame sees, and where."""
        return [(p, self.tracks[n].places[frame]) for n, p in self.points.items() if frame in self.tracks[n].places]

    def add(self, frame: int) -> bool:
        """Places one more frame; whether that could be done."""
        seen = self.known_on(frame)
        pose = placed(seen, self.focal, self.middle) if len(seen) >= LEAST_KNOWN else None
        if pose is None:
            return False
        self.order.append(frame)
        self.turns.append(pose[0])
        self.places.append(pose[1])
        return True

    def find_points(self) -> None:
        """Points of tracks that enough frames see by now."""
        index, turns, places = self.index, np.array(self.turns), np.array(self.places)
        some = [
            n
            for n, track in enumerate(self.tracks)
            if n not in self.points and sum(frame in index for frame in track.places) >= LEAST_VIEWS
        ]
        seen = [self.tracks[n] for n in some]
        points, there = triangulated(seen, index, turns, places, self.focal, self.middle)
        self.points.update((n, point) for n, point, known in zip(some, points, there) if known)

    def settle(self, moving: list[int], held: list[int]) -> None:
        """Adjusts some frames and the points that they see, held by others."""
        frames = moving + held
        index = {frame: k for k, frame in enumerate(frames)}
        whole = self.index
        moved = set(moving)
        some = [n for n in self.points if len(moved & self.tracks[n].places.keys()) >= 2]
        few = [only(self.tracks[n], index) for n in some]
        at = [whole[frame] for frame in frames]
        scene = Scene(
            self.focal,
            0.0,
            np.array(self.turns)[at],
            np.array(self.places)[at],
            np.array([self.points[n] for n in some]),
        )
        views = views_of(few, index, self.middle)
        free = np.arange(len(frames)) < len(moving)
        self._take(adjust(scene, views, False, rounds=8, least_gain=1e-3, moving=free), views, frames, some)

    def settle_all(self, free_focal: bool) -> None:
        """Adjusts all, the lens too where it is free."""
        index, some = self.index, list(self.points)
        few, points = [only(self.tracks[n], index) for n in some], np.array([self.points[n] for n in some])
        scene = Scene(self.focal, 0.0, np.array(self.turns), np.array(self.places), points)
        views = views_of(few, index, self.middle)
        scene = adjust(scene, views, free_focal, rounds=8, least_gain=5e-3)
        self.focal = scene.focal_px
        self._take(scene, views, self.order, some)

    def _take(self, scene: Scene, views: Views, frames: list[int], some: list[int]) -> None:
        index = self.index
        for k, frame in enumerate(frames):
            self.turns[index[frame]], self.places[index[frame]] = scene.turns[k], scene.places[k]
        square = ((pictured(scene, views) - views.seen) ** 2).sum(axis=1)
        off = np.sqrt(np.bincount(views.point, square, len(some)) / np.maximum(np.bincount(views.point), 1))
        for n, point, each in zip(some, scene.points, off):
            if each < WORST_POINT_PX:
                self.points[n] = point
            else:
                del self.points[n]


def grown(
    scene: Scene, order: list[int], tracks: list[Track], frames: range, middle: NDArray, free_focal: bool,
    report: Callable[[float], None] = lambda share: None,
) -> tuple[Scene, list[Track], list[int]] | None:  # fmt: skip
    """All frames that can be reached from a scene of some, the nearest first, either way.

    Parameters
    ----------
    scene, order : cameras of neighbouring frames, the reference frame first, without a gap.
    report : takes the share of the frames that is there.

    Returns
    -------
    The scene with its tracks and its frames; a way that is lost ends before the frame that could not be placed. None
    where too few points could be placed.
    """
    growing = Growing(tracks, scene.focal_px, middle, list(order), list(scene.turns), list(scene.places))
    growing.find_points()
    ends = {1: max(order), -1: min(order)}
    left, new, since = {1: frames[-1] - ends[1], -1: ends[-1] - frames[0]}, {1: 0, -1: 0}, 0
    while any(left.values()):
        side = max((way for way in left if left[way]), key=lambda way: len(growing.known_on(ends[way] + way)))
        if not growing.add(ends[side] + side):
            growing.find_points()
            if not growing.add(ends[side] + side):
                left[side] = 0
                continue
        ends[side], left[side], new[side], since = ends[side] + side, left[side] - 1, new[side] + 1, since + 1
        report(len(growing.order) / len(frames))
        if new[side] == AT_ONCE or not left[side]:
            new[side] = 0
            growing.find_points()
            near = [ends[side] - side * k for k in range(MOVING + HELD)]
            near = [frame for frame in near if frame in growing.index]
            moving = [frame for frame in near[:MOVING] if frame != order[0]]
            growing.settle(moving, [frame for frame in near if frame not in moving] or [order[0]])
        if since >= WHOLE_EVERY:
            since = 0
            growing.settle_all(free_focal)
    growing.settle_all(free_focal)
    whole = [order[0], *sorted(frame for frame in growing.order if frame != order[0])]
    at = [growing.index[frame] for frame in whole]
    turns, places = np.array(growing.turns)[at], np.array(growing.places)[at]
    places /= max(float(np.linalg.norm(places, axis=1).max()), 1e-9)  # the longest way is 1, as it was of the first
    index = {frame: k for k, frame in enumerate(whole)}
    few = [each for each in (only(track, index) for track in tracks) if each.life >= LEAST_VIEWS]
    both = with_points(few, index, turns, places, growing.focal, middle)
    return None if both is None else (both[0], both[1], whole)
