"""Lines drawn on plate or painting: horizon, edges that run away, uprights; where the light comes from."""

from __future__ import annotations

from typing import Literal

from .base import Value
from .shapes import Point

LineKind = Literal["horizon", "first", "second"]
LightKind = Literal["shadow", "edge"]


class Line(Value):
    """A straight line on a picture, in its pixels. `first` and `second` are edges of two level directions at right
    angles to one another; on a plate it lies on `frame`."""

    id: str
    kind: LineKind = "horizon"
    a: Point
    b: Point
    frame: int = 0


class Light(Value):
    """How the plate tells where its light comes from: a shadow from foot to tip, or an arrow from the shaded side of a
    thing to the lit one; on a frame."""

    kind: LightKind = "shadow"
    a: Point
    b: Point
    frame: int


class Base(Value):
    """A wide still that was made of the plate through a lock, to be painted on: its size in pixels, and where its
    first pixel lies in plate pixels of the lock's reference frame. `scale` is its pixels to one plate pixel."""

    id: str
    name: str
    rides: str | None
    origin: Point
    size: tuple[int, int]
    scale: float = 1.0
    distance_m: float | None = None
