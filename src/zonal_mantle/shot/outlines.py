"""What a hand does to an outline: dragging handles, points or the whole, scaling and turning it."""

from __future__ import annotations

import math
from collections.abc import Set
from typing import Literal

from .shapes import Handle, Point, ShapeKey

Hold = Literal["handle 0", "handle 1", "points", "whole", "scale", "turn"]


def dragged(
    what: Hold, start: Point, place: Point, key: ShapeKey, index: int, chosen: Set[int]
) -> tuple[tuple[Point, ...], tuple[Handle, ...]]:
    """Points and handles after a drag from `start` to `place`.

    Parameters
    ----------
    index : the point whose handle is held; chosen: the points that go along when points are held.
    """
    dx, dy = place[0] - start[0], place[1] - start[1]
    if what in ("handle 0", "handle 1"):
        return key.points, _bent(key.handles, index, int(what[-1]), dx, dy)
    if what == "points":
        points = tuple((x + dx, y + dy) if k in chosen else (x, y) for k, (x, y) in enumerate(key.points))
        return points, key.handles
    if what == "whole":
        return tuple((x + dx, y + dy) for x, y in key.points), key.handles
    count = len(key.points)
    cx, cy = sum(x for x, _ in key.points) / count, sum(y for _, y in key.points) / count
    (ax, ay), (bx, by) = (start[0] - cx, start[1] - cy), (place[0] - cx, place[1] - cy)
    size = math.hypot(bx, by) / max(math.hypot(ax, ay), 1e-6) if what == "scale" else 1.0
    angle = math.atan2(by, bx) - math.atan2(ay, ax) if what == "turn" else 0.0
    c, s = size * math.cos(angle), size * math.sin(angle)

    def turned(x: float, y: float) -> Point:
        return c * x - s * y, s * x + c * y

    points = tuple((cx + u, cy + v) for u, v in (turned(x - cx, y - cy) for x, y in key.points))
    return points, tuple((*turned(h[0], h[1]), *turned(h[2], h[3])) for h in key.handles)


def _bent(handles: tuple[Handle, ...], index: int, side: int, dx: float, dy: float) -> tuple[Handle, ...]:
    """One handle moved; the other keeps its length and lies opposite, so that the point stays smooth."""
    old, h = handles[index], list(handles[index])
    h[2 * side], h[2 * side + 1] = old[2 * side] + dx, old[2 * side + 1] + dy
    length, other = math.hypot(h[2 * side], h[2 * side + 1]), 2 * (1 - side)
    if length > 1e-6:
        far = math.hypot(old[other], old[other + 1]) / length
        h[other], h[other + 1] = -h[2 * side] * far, -h[2 * side + 1] * far
    return tuple((h[0], h[1], h[2], h[3]) if k == index else each for k, each in enumerate(handles))
