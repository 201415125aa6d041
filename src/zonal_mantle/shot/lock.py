"""Locks: measured motions of the shot, with what is measured, how, and what came out."""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import Field, model_validator

from ..words import say
from .base import Value
from .follow import Follow
from .keyed import Keyed
from .limits import MOST_POINTS
from .shapes import Point, Shape

Nine = tuple[float, float, float, float, float, float, float, float, float]
Triple = tuple[float, float, float]
LockKind = Literal["point", "plane", "pan", "camera", "by hand"]
Motion = Literal["translation", "similarity", "affine", "perspective", "camera turn"]
Renewal = Literal["hold the first", "renew below", "renew every frame"]


def _keyed(value: float) -> Keyed:
    return Keyed(constant=value)


class Mark(Value):
    """One tracked point: its patch (half width, half height) and its reach beyond the patch, in plate pixels.

    It is set on the lock's reference frame, or on a frame of its own: then it takes over from the marks that live
    there, with its offset carried.
    """

    x: float
    y: float
    patch: Point = (12.0, 12.0)
    reach: Point = (20.0, 20.0)
    frame: int | None = None


Outline = Annotated[tuple[Point, ...], Field(max_length=MOST_POINTS)]
MOST_LEFT_OUT = 64  # outlines of what stands in the frame
UNSOLVED: dict[str, tuple[()]] = {"solved": (), "lost": (), "remarks": (), "left_out": ()}  # what a solve gives, let go
LEAST_SPREAD = 1e-12  # of a homography's determinant: below, it has no way back


class LockFrame(Value):
    """A lock on one frame: the motion from the reference frame, where the marks lie, and how sure it is.

    `residual_px` is what the lock is likely to be off by on this frame, root mean square at the corners of what it
    looks at, by its own covariance; `confidence` is how likely the error is under SHOWN_TIMES that, the number shown.
    Marks that are not seen are None. Pan and camera locks add the camera's turn from the reference frame (an axis times
    an angle in radians) and a camera lock its position in metres, in the axes of the reference frame's camera (x right,
    y down, z forward).
    """

    frame: int
    homography: Nine
    marks: tuple[Point | None, ...] = ()
    residual_px: float = 0.0
    confidence: float = 1.0
    rotation: Triple | None = None
    position: Triple | None = None

    @model_validator(mode="after")
    def _can_be(self) -> LockFrame:
        a, b, c, d, e, f, g, h, i = self.homography
        if abs(a * (e * i - f * h) - b * (d * i - f * g) + c * (d * h - e * g)) < LEAST_SPREAD:
            raise ValueError(
                say("the motion on frame {frame} lays all of the picture on a line or a point.", frame=self.frame)
            )
        return self


SHOWN_TIMES = 2.0  # of the root mean square error: 98 % of a Gaussian's in two dimensions
FOCAL_TOLD = 0.15  # relative half width of the bounds above which a focal length is not told


class Lens(Value):
    """Focal length in plate pixels (None: to be solved) and one term of radial distortion.

    A point at the distance r from the middle of the frame, in focal lengths, is seen at r (1 + k1 r²). `sensor_mm`
    is the sensor's width, by which the focal length is also told in millimetres. `bounds_px` are the focal lengths that
    explain what was measured as well, where a solve looked; beside a given one, those that it contradicts.
    """

    focal_px: float | None = Field(default=None, gt=0)
    given: bool = False
    distortion: float = 0.0
    solve_distortion: bool = False
    sensor_mm: float = Field(default=36.0, gt=0)
    bounds_px: tuple[float, float] | None = None

    @property
    def focal_told(self) -> bool:
        """Whether what was measured tells the focal length, as far as a solve looked."""
        if self.bounds_px is None or self.focal_px is None or self.given:
            return True
        return (self.bounds_px[1] - self.bounds_px[0]) / 2 <= FOCAL_TOLD * self.focal_px


class ScenePoint(Value):
    """A point of the scene that a camera lock found: its place as `LockFrame.position`, and its error on the
    picture."""

    place: Triple
    error_px: float
    seen: int  # on how many frames


class Correction(Value):
    """Hand keys on top of a solve, in the lock's own space: a similarity about a centre, on the reference frame."""

    x: Keyed = _keyed(0.0)
    y: Keyed = _keyed(0.0)
    turn_deg: Keyed = _keyed(0.0)
    size: Keyed = _keyed(1.0)
    centre: Point | None = None


class Lock(Value):
    """A measured motion that things can ride on.

    - point: marks; one gives position, more give what `motion` allows (a similarity where it is None). By a turning
      camera they tell its turn, and its focal length where they are far enough apart; all else has no such motion.
    - plane: a field, its keep shapes without its drop shapes, measured as a whole. A field that stays does not move
      with what it measures: the motion seen through it is added up.
    - pan: a camera that turns and does not move, measured through a field that stays.
    - by hand: nothing is measured; its motion is its correction, keyed by hand.
    - camera: a camera that moves, from features of the whole frame without the field's drop shapes.

    `filter_px` blurs the feed before the search when above 0 and sharpens it when below. A camera's places and
    points are in metres once it is scaled (`in_metres`); before, its longest way is 1. `rides` names a lock whose
    motion, or the parts of it in `follow`, the search starts from. `smooth_frames` is the standard deviation of a
    smoothing over time. `shutter_deg` is how long the plate's shutter was open where that is known (360: from frame to
    frame); where it is not, marks and fields find it in their own blur. `left_out` are outlines, in plate pixels, of
    what the last solve left out by itself since it stands in the frame.
    """

    id: str
    name: str
    kind: LockKind = "point"
    reference_frame: int
    reads: Literal["raw plate", "denoised plate"] = "raw plate"
    channel: Literal["luma", "red", "green", "blue", "saturation"] = "luma"
    filter_px: float = Field(default=0.0, ge=-3, le=5)
    least_confidence: float = Field(default=0.6, ge=0, le=1)
    rides: str | None = None
    follow: Follow = Follow()
    marks: tuple[Mark, ...] = Field(default=(), max_length=64)
    renewal: Renewal = "hold the first"
    renew_below: float = Field(default=0.8, ge=0, le=1)
    motion: Motion | None = None
    field: tuple[Shape, ...] = ()
    field_stays: bool = False
    lens: Lens = Lens()
    points: tuple[ScenePoint, ...] = ()
    in_metres: bool = False
    distance_m: float | None = Field(default=None, gt=0)
    correction: Correction = Correction()
    smooth_frames: float = Field(default=0.0, ge=0, le=50)
    shutter_deg: float | None = Field(default=None, ge=0, le=360)
    solved: tuple[LockFrame, ...] = ()
    lost: tuple[str, ...] = ()
    remarks: tuple[str, ...] = ()
    left_out: tuple[Outline, ...] = Field(default=(), max_length=MOST_LEFT_OUT)
    quad: tuple[Point, Point, Point, Point] | None = None

    @property
    def moves(self) -> Motion:
        """The fullest motion that the lock may find."""
        if self.kind == "point":
            return self.motion or "similarity"
        return "perspective" if self.motion in (None, "camera turn") else self.motion

    @property
    def knows_camera(self) -> bool:
        """Whether its motion is that of a camera with a lens: it turns, or moves too."""
        return self.kind in ("pan", "camera") or (self.kind == "point" and self.moves == "camera turn")

    @property
    def holds(self) -> bool:
        """Whether things can ride on it: it is solved, or keyed by hand."""
        return self.kind == "by hand" or bool(self.solved)

    @property
    def locks(self) -> set[str]:
        """The locks that it depends on."""
        found = {shape.rides for shape in self.field if shape.on} | {self.rides}
        return {id for id in found if id is not None}

    @property
    def excluded(self) -> tuple[Shape, ...]:
        """Shapes of what does not belong to the field."""
        return tuple(shape for shape in self.field if shape.on and shape.mode == "drop")

    def at(self, frame: int) -> LockFrame | None:
        """The lock on a frame, or None where it is not solved."""
        for entry in self.solved:
            if entry.frame == frame:
                return entry
        return None

    def error_px(self, frame: int) -> float | None:
        """How far the lock is likely to be off on a frame: root mean square at the corners of what it looks at, px, by
        its own covariance; None where it is not solved."""
        entry = self.at(frame)
        return None if entry is None else entry.residual_px

    def nearest(self, frame: int) -> LockFrame | None:
        """The lock on the frame, else on the nearest solved one, else None."""
        return min(self.solved, key=lambda entry: (abs(entry.frame - frame), entry.frame), default=None)
