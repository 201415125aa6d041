"""Keep and drop shapes: closed outlines on the picture, keyed over the frames."""

from __future__ import annotations

from bisect import bisect_right
from typing import Literal

from pydantic import Field, model_validator

from .base import Value

Point = tuple[float, float]


class ShapeKey(Value):
    """Where a shape's points lie on one frame, in full-resolution plate pixels."""

    frame: int
    points: tuple[Point, ...]


class Shape(Value):
    """A closed outline that forces the matte to 1 (keep) or to 0 (drop)."""

    id: str
    name: str = "Shape"
    mode: Literal["keep", "drop"] = "keep"
    form: Literal["polygon", "smooth"] = "polygon"
    keys: tuple[ShapeKey, ...] = Field(min_length=1)
    feather_px: float = Field(default=0.0, ge=0, le=500)
    on: bool = True

    @model_validator(mode="after")
    def _consistent(self) -> Shape:
        if len({len(key.points) for key in self.keys}) != 1:
            raise ValueError(f"{self.name}: every key must have the same number of points.")
        if len(self.keys[0].points) < 3:
            raise ValueError(f"{self.name}: a shape needs at least three points.")
        frames = [key.frame for key in self.keys]
        if frames != sorted(set(frames)):
            raise ValueError(f"{self.name}: keys must be in the order of their frames, one a frame.")
        return self

    def points_at(self, frame: float) -> tuple[Point, ...]:
        """The points on a frame, straight in-betweens, held before the first and after the last key."""
        keys = self.keys
        if frame <= keys[0].frame:
            return keys[0].points
        if frame >= keys[-1].frame:
            return keys[-1].points
        i = bisect_right([key.frame for key in keys], frame) - 1
        a, b = keys[i], keys[i + 1]
        t = (frame - a.frame) / (b.frame - a.frame)
        return tuple((p[0] + (q[0] - p[0]) * t, p[1] + (q[1] - p[1]) * t) for p, q in zip(a.points, b.points))

    def with_points(self, frame: int, points: tuple[Point, ...]) -> Shape:
        """Sets the outline on a frame: moves the only key when there is one on another frame, else keys it.

        A change in the number of points is carried to every key by inserting or removing at the same place.
        """
        rest = [key for key in self.keys if key.frame != frame]
        if rest and len(points) != len(rest[0].points):
            raise ValueError(f"{self.name}: every key must have the same number of points.")
        keys = sorted([*rest, ShapeKey(frame=frame, points=points)], key=lambda key: key.frame)
        return self.but(keys=tuple(keys))

    def with_point_inserted(self, index: int, share: float = 0.5) -> Shape:
        """A new point on the stretch after point `index`, at a share of its length, on every key."""

        def insert(points: tuple[Point, ...]) -> tuple[Point, ...]:
            a, b = points[index], points[(index + 1) % len(points)]
            new = (a[0] + (b[0] - a[0]) * share, a[1] + (b[1] - a[1]) * share)
            return (*points[: index + 1], new, *points[index + 1 :])

        return self.but(keys=tuple(key.but(points=insert(key.points)) for key in self.keys))

    def with_point_removed(self, index: int) -> Shape:
        """Without point `index`, on every key. Three points always stay."""
        if len(self.keys[0].points) <= 3:
            raise ValueError(f"{self.name} has three points; a shape needs at least three.")
        return self.but(
            keys=tuple(key.but(points=(*key.points[:index], *key.points[index + 1 :])) for key in self.keys)
        )

    def without_key(self, frame: int) -> Shape:
        """Removes the key on a frame; the last key always stays."""
        rest = tuple(key for key in self.keys if key.frame != frame)
        return self.but(keys=rest) if rest else self
