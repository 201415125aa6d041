"""Keep and drop shapes: closed outlines on the picture, keyed over the frames."""

from __future__ import annotations

from bisect import bisect_right
from typing import Literal

from pydantic import Field, model_validator

from ..words import say
from .base import Value
from .follow import Follow
from .limits import MOST_POINTS

Point = tuple[float, float]
Handle = tuple[float, float, float, float]  # from its point: where the curve comes in from, where it goes out to
ROUND = 0.5522847498307936  # handle length of a quarter circle: 4/3 (√2 − 1)


class ShapeKey(Value):
    """Where a shape's points lie on one frame, in full-resolution plate pixels (of the lock's reference frame where it
    rides on one), and their handles where the form is a curve."""

    frame: int
    points: tuple[Point, ...] = Field(max_length=MOST_POINTS)
    handles: tuple[Handle, ...] = Field(default=(), max_length=MOST_POINTS)


class Shape(Value):
    """A closed outline that forces the matte to 1 (keep) or to 0 (drop).

    A polygon has straight sides; a smooth shape runs through its points by itself; a curve has handles at each point,
    and a point whose handles are 0 is a corner. The edge is soft from `feather_in_px` inside to `feather_out_px`
    outside the outline, each times the point's own share.
    """

    id: str
    name: str = "Shape"
    mode: Literal["keep", "drop"] = "keep"
    form: Literal["polygon", "smooth", "curve"] = "polygon"
    keys: tuple[ShapeKey, ...] = Field(min_length=1)
    feather_in_px: float = Field(default=0.0, ge=0, le=500)
    feather_out_px: float = Field(default=0.0, ge=0, le=500)
    feather_shares: tuple[float, ...] = ()
    grow_px: float = Field(default=0.0, ge=-500, le=500)
    invert: bool = False
    rides: str | None = None
    follow: Follow = Follow()  # the parts of that lock's motion that it takes, taken apart about `about`
    about: Point | None = None
    shutter: float = Field(default=0.0, ge=0, le=1)  # frames over which its motion is blurred
    on: bool = True

    @model_validator(mode="after")
    def _consistent(self) -> Shape:
        count = len(self.keys[0].points)
        if any(len(key.points) != count for key in self.keys):
            raise ValueError(say("{name}: every key must have the same number of points.", name=self.name))
        if count < 3:
            raise ValueError(say("{name}: a shape needs at least three points.", name=self.name))
        if self.form == "curve" and any(len(key.handles) != count for key in self.keys):
            raise ValueError(say("{name}: every point of a curve needs handles.", name=self.name))
        if self.feather_shares and len(self.feather_shares) != count:
            raise ValueError(say("{name}: there must be one feather share a point, or none.", name=self.name))
        frames = [key.frame for key in self.keys]
        if frames != sorted(set(frames)):
            raise ValueError(say("{name}: keys must be in the order of their frames, one a frame.", name=self.name))
        return self

    @property
    def middle(self) -> Point:
        """The middle of the points of its first key."""
        xs, ys = zip(*self.keys[0].points)
        return sum(xs) / len(xs), sum(ys) / len(ys)

    def key_at(self, frame: float) -> ShapeKey:
        """The outline on a frame, straight in-betweens, held before the first and after the last key."""
        keys = self.keys
        if frame <= keys[0].frame:
            return keys[0]
        if frame >= keys[-1].frame:
            return keys[-1]
        i = bisect_right([key.frame for key in keys], frame) - 1
        a, b = keys[i], keys[i + 1]
        t = (frame - a.frame) / (b.frame - a.frame)
        points = tuple((p[0] + (q[0] - p[0]) * t, p[1] + (q[1] - p[1]) * t) for p, q in zip(a.points, b.points))
        handles = tuple(
            (p[0] + (q[0] - p[0]) * t, p[1] + (q[1] - p[1]) * t, p[2] + (q[2] - p[2]) * t, p[3] + (q[3] - p[3]) * t)
            for p, q in zip(a.handles, b.handles)
        )
        return ShapeKey(frame=int(frame), points=points, handles=handles)

    def points_at(self, frame: float) -> tuple[Point, ...]:
        """The points on a frame."""
        return self.key_at(frame).points

    def with_key(self, frame: int, points: tuple[Point, ...], handles: tuple[Handle, ...] | None = None) -> Shape:
        """The outline on a frame: keyed there, with the handles it had unless others are given."""
        if handles is None:
            handles = self.key_at(frame).handles
        rest = [key for key in self.keys if key.frame != frame]
        if rest and len(points) != len(rest[0].points):
            raise ValueError(say("{name}: every key must have the same number of points.", name=self.name))
        keys = sorted([*rest, ShapeKey(frame=frame, points=points, handles=handles)], key=lambda key: key.frame)
        return self.but(keys=tuple(keys))

    def with_points(self, frame: int, points: tuple[Point, ...]) -> Shape:
        """The points on a frame, keyed there."""
        return self.with_key(frame, points)

    def moved(self, frame: int, points: tuple[Point, ...], handles: tuple[Handle, ...] | None = None) -> Shape:
        """The outline changed as a hand does it: a shape that stands still goes on standing still, another is keyed."""
        if len(self.keys) > 1:
            return self.with_key(frame, points, handles)
        key = self.keys[0]
        return self.but(keys=(key.but(points=points, handles=key.handles if handles is None else handles),))

    def with_point_inserted(self, index: int, share: float = 0.5) -> Shape:
        """A new point on the stretch after point `index`, at a share of its length, on every key."""

        def insert(key: ShapeKey) -> ShapeKey:
            points, handles = key.points, key.handles
            after = (index + 1) % len(points)
            a, b = points[index], points[after]
            if self.form != "curve":
                new = (a[0] + (b[0] - a[0]) * share, a[1] + (b[1] - a[1]) * share)
                return key.but(points=(*points[: index + 1], new, *points[index + 1 :]))
            # de Casteljau's construction: the outline stays as it is
            h, k = handles[index], handles[after]
            p0, p1, p2, p3 = a, (a[0] + h[2], a[1] + h[3]), (b[0] + k[0], b[1] + k[1]), b
            q0, q1, q2 = _between(p0, p1, share), _between(p1, p2, share), _between(p2, p3, share)
            r0, r1 = _between(q0, q1, share), _between(q1, q2, share)
            new = _between(r0, r1, share)
            changed = list(handles)
            changed[index] = (h[0], h[1], q0[0] - a[0], q0[1] - a[1])
            changed[after] = (q2[0] - b[0], q2[1] - b[1], k[2], k[3])
            own = (r0[0] - new[0], r0[1] - new[1], r1[0] - new[0], r1[1] - new[1])
            return key.but(
                points=(*points[: index + 1], new, *points[index + 1 :]),
                handles=(*changed[: index + 1], own, *changed[index + 1 :]),
            )

        shares = self.feather_shares
        if shares:
            mean = shares[index] * (1 - share) + shares[(index + 1) % len(shares)] * share
            shares = (*shares[: index + 1], mean, *shares[index + 1 :])
        return self.but(keys=tuple(insert(key) for key in self.keys), feather_shares=shares)

    def with_point_removed(self, index: int) -> Shape:
        """Without point `index`, on every key. Three points always stay."""
        if len(self.keys[0].points) <= 3:
            raise ValueError(say("{name} has three points; a shape needs at least three.", name=self.name))

        def less(values: tuple) -> tuple:  # type: ignore[type-arg]
            return (*values[:index], *values[index + 1 :])

        keys = tuple(key.but(points=less(key.points), handles=less(key.handles)) for key in self.keys)
        return self.but(keys=keys, feather_shares=less(self.feather_shares))

    def as_curve(self) -> Shape:
        """The same outline with handles at its points."""
        if self.form == "curve":
            return self
        keys = []
        for key in self.keys:
            points, n = key.points, len(key.points)
            handles: list[Handle] = []
            for k in range(n):
                (x0, y0), (x1, y1) = points[k - 1], points[(k + 1) % n]
                dx, dy = ((x1 - x0) / 6, (y1 - y0) / 6) if self.form == "smooth" else (0.0, 0.0)
                handles.append((-dx, -dy, dx, dy))
            keys.append(key.but(handles=tuple(handles)))
        return self.but(form="curve", keys=tuple(keys))

    def with_corner(self, index: int, corner: bool) -> Shape:
        """A point made a corner, or smooth along the line between its neighbours, on every key."""
        curve = self.as_curve()
        keys = []
        for key in curve.keys:
            (x0, y0), (x1, y1) = key.points[index - 1], key.points[(index + 1) % len(key.points)]
            dx, dy = (0.0, 0.0) if corner else ((x1 - x0) / 6, (y1 - y0) / 6)
            handles = list(key.handles)
            handles[index] = (-dx, -dy, dx, dy)
            keys.append(key.but(handles=tuple(handles)))
        return curve.but(keys=tuple(keys))

    def is_corner(self, index: int) -> bool:
        """Whether the outline turns sharply at a point."""
        return self.form == "polygon" or (self.form == "curve" and not any(self.keys[0].handles[index]))

    def without_key(self, frame: int) -> Shape:
        """Removes the key on a frame; the last key always stays."""
        rest = tuple(key for key in self.keys if key.frame != frame)
        return self.but(keys=rest) if rest else self


def _between(a: Point, b: Point, share: float) -> Point:
    return (a[0] + (b[0] - a[0]) * share, a[1] + (b[1] - a[1]) * share)


def ellipse_key(frame: int, corner: Point, opposite: Point) -> ShapeKey:
    """An ellipse within a box: four points with the handles of quarter circles (within 0.03 % of the radius)."""
    (x0, y0), (x1, y1) = corner, opposite
    cx, cy, rx, ry = (x0 + x1) / 2, (y0 + y1) / 2, abs(x1 - x0) / 2, abs(y1 - y0) / 2
    h, v = rx * ROUND, ry * ROUND
    points = ((cx, cy - ry), (cx + rx, cy), (cx, cy + ry), (cx - rx, cy))
    handles = ((-h, 0.0, h, 0.0), (0.0, -v, 0.0, v), (h, 0.0, -h, 0.0), (0.0, v, 0.0, -v))
    return ShapeKey(frame=frame, points=points, handles=handles)


def rectangle_key(frame: int, corner: Point, opposite: Point) -> ShapeKey:
    """A rectangle between two corners."""
    (x0, y0), (x1, y1) = corner, opposite
    return ShapeKey(frame=frame, points=((x0, y0), (x1, y0), (x1, y1), (x0, y1)))
