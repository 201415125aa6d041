"""Readings of the shot's mattes over its frames."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any, Literal

import numpy as np
from numpy.typing import NDArray

from ..matte import (
    MatteReading,
    change,
    chatter,
    feed_of,
    halo,
    holes_and_leftover,
    lean,
    outside,
    read_matte,
)
from ..place.transform import reference_to_frame
from ..shot import Matte, Shape, Shot
from .matte_planner import matte_plan
from .pictures import Pictures

Array = NDArray[np.float32]
Fault = Literal["holes", "leftover", "halo", "chatter", "doubt"]

SAMPLES = 5  # frames that are judged at full size
HALO_ACCEPTED = 20.0  # display code values
CHATTER_ACCEPTED = 0.12  # alpha a frame
DOUBTED = 0.5  # doubt from which a pixel is counted
DOUBT_ACCEPTED = 0.03  # of the frame
LEAST_PART = 0.002  # of the frame: a matte that keeps less keeps nothing
JUMP_ACCEPTED = 0.1  # of the frame, from one frame to the next


@dataclass(frozen=True)
class MatteOverShot:
    """A matte's worst frames. Shares are 0…1, halo is in display code values, chatter in alpha; None: none to judge.
    doubt : of the frame that may be sky or not; its middle, in plate pixels, is `doubt_place`.
    least : of a frame that stays. jump : the most that this changes from one frame to the next, `jump_frame`."""

    holes: float
    holes_frame: int
    largest_hole_px2: float
    leftover: float
    leftover_frame: int
    soft: float
    outside: float
    halo: float | None
    halo_frame: int
    chatter: float | None
    chatter_frame: int
    problem: str = ""
    problem_frame: int = 0
    doubt: float | None = None
    doubt_frame: int = 0
    doubt_place: tuple[float, float] = (0.0, 0.0)
    least: float = 1.0
    least_frame: int = 0
    jump: float = 0.0
    jump_frame: int = 0


class MatteTally:
    """Gathers one matte's readings frame by frame."""

    def __init__(self, shot: Shot, matte: Matte, pictures: Pictures, scale: float) -> None:
        self.shot, self.matte, self.pictures, self.scale = shot, matte, pictures, scale
        self._each: list[MatteReading] = []
        self._problem: tuple[str, int] = ("", shot.first)
        count = min(SAMPLES, len(shot.frames))
        self._judged = {shot.frames[int(k)] for k in np.linspace(0, len(shot.frames) - 1, count)}
        self._halo: dict[int, float] = {}
        self._chatter: dict[int, float] = {}
        self._outside = 0.0
        self._stays: dict[int, float] = {}
        self._doubt: dict[int, tuple[float, tuple[float, float]]] = {}

    def add(self, frame: int) -> None:
        """Measures a frame; a few of them at full size for edge and chatter."""
        made = self.pictures.matte(self.shot, self.matte, frame, self.scale)
        if made.problem and not self._problem[0]:
            self._problem = (made.problem, frame)

        if not made.problem:
            self._stays[frame] = float(np.clip(made.alpha, 0, 1).mean())
        if made.doubt is not None:
            places = np.argwhere(made.doubt > DOUBTED)
            middle = (np.median(places, axis=0) + 0.5) / self.scale if len(places) else np.zeros(2)
            self._doubt[frame] = len(places) / made.doubt.size, (float(middle[1]), float(middle[0]))

        def ride(shape: Shape, at: int) -> NDArray[np.float64]:
            return reference_to_frame(self.shot, shape, at)

        self._each.append(read_matte(made.alpha, self.matte, frame, self.scale, ride))
        if frame in self._judged and not made.problem:
            self._judge(frame)

    def _judge(self, frame: int) -> None:
        shot, plate = self.shot, self.shot.plate_source
        assert plate is not None
        made, pixels = self.pictures.matte(shot, self.matte, frame), self.pictures.plate(plate, frame)
        if not self.matte.clamp:
            self._outside = max(self._outside, outside(made.alpha))
        if (value := halo(pixels, made.alpha, made.foreground)) is not None:
            self._halo[frame] = value
        pair = _beside(shot, self.matte, frame, self.pictures)
        if pair is not None and (value := chatter(*pair)) is not None:
            self._chatter[frame] = value

    def result(self) -> MatteOverShot:
        """The worst of all frames."""
        first = self.shot.first
        holes, leftover = (np.array([getattr(each, name) for each in self._each]) for name in ("holes", "leftover"))
        pale = max(self._halo, key=lambda frame: abs(self._halo[frame]), default=first)
        restless = max(self._chatter, key=lambda frame: self._chatter[frame], default=first)
        doubtful = max(self._doubt, key=lambda frame: self._doubt[frame][0], default=first)
        share, place = self._doubt.get(doubtful, (None, (0.0, 0.0)))
        stays = self._stays or {first: 0.5}
        least = min(stays, key=lambda frame: stays[frame])
        jumps = {at: abs(stays[at] - stays[at - 1]) for at in stays if at - 1 in stays} or {first: 0.0}
        jump = max(jumps, key=lambda frame: jumps[frame])
        return MatteOverShot(
            holes=float(holes.max()),
            holes_frame=first + int(holes.argmax()),
            largest_hole_px2=max(each.largest_hole_px2 for each in self._each),
            leftover=float(leftover.max()),
            leftover_frame=first + int(leftover.argmax()),
            soft=max(each.soft for each in self._each),
            outside=self._outside,
            halo=self._halo.get(pale),
            halo_frame=pale,
            chatter=self._chatter.get(restless),
            chatter_frame=restless,
            problem=self._problem[0],
            problem_frame=self._problem[1],
            doubt=share,
            doubt_frame=doubtful,
            doubt_place=place,
            least=stays[least],
            least_frame=least,
            jump=jumps[jump],
            jump_frame=jump,
        )


def _beside(
    shot: Shot, matte: Matte, frame: int, pictures: Pictures, scale: float = 1.0
) -> tuple[Array, Array, Array, Array, NDArray] | None:
    """What chatter is judged by: alpha and feed of a frame and of the one beside it, and the motion between.

    The edge is judged along the lock that steadies it, else along the first that is solved; None where there is none.
    """
    plate, after = shot.plate_source, frame + 1 if frame < shot.last else frame - 1
    lock = _judged_along(shot, matte)
    if plate is None or lock is None or after not in shot.frames:
        return None
    grow = np.diag([scale, scale, 1.0])
    motion = grow @ reference_to_frame(shot, lock, frame) @ np.linalg.inv(grow @ reference_to_frame(shot, lock, after))
    here, there = (pictures.matte(shot, matte, at, scale).alpha for at in (frame, after))
    feeds = [feed_of(pictures.plate(plate, at, scale)) for at in (frame, after)]
    return here, feeds[0], there, feeds[1], motion


def fault_key(shot: Shot, matte: Matte, frame: int, scale: float) -> tuple[Any, ...]:
    """All that `faulty_pixels` depends on beside the fault."""
    after = frame + 1 if frame < shot.last else frame - 1
    lock = _judged_along(shot, matte)
    motions = tuple(reference_to_frame(shot, lock, at) for at in (frame, after)) if lock else ()
    return (matte_plan(shot, matte, frame, scale), matte_plan(shot, matte, max(after, shot.first), scale), motions)


def _judged_along(shot: Shot, matte: Matte) -> str | None:
    """The lock that an edge's chatter is judged along: that which steadies it, else the first that is solved."""
    return matte.edge.steady_lock or next((lock.id for lock in shot.locks if len(lock.solved) > 1), None)


def faulty_pixels(
    shot: Shot, matte: Matte, frame: int, fault: Fault, pictures: Pictures, scale: float = 1.0
) -> NDArray[np.bool_]:
    """The pixels that a finding is about. (h, w)."""
    plate = shot.plate_source
    assert plate is not None
    made, pixels = pictures.matte(shot, matte, frame, scale), pictures.plate(plate, frame, scale)
    if fault in ("holes", "leftover"):

        def ride(shape: Shape, at: int) -> NDArray[np.float64]:
            return reference_to_frame(shot, shape, at)

        holes, leftover, _, _ = holes_and_leftover(made.alpha, matte, frame, scale, ride)
        return holes if fault == "holes" else leftover
    if fault == "doubt":
        return made.doubt > DOUBTED if made.doubt is not None else np.zeros(made.alpha.shape, np.bool_)
    if fault == "halo":
        leaning = lean(pixels, made.alpha, made.foreground)
        seen = np.isfinite(leaning)
        way = np.sign(leaning[seen].mean()) if seen.any() else 1.0
        return np.asarray(np.nan_to_num(leaning) * way > HALO_ACCEPTED)
    pair = _beside(shot, matte, frame, pictures, scale)
    if pair is None:
        return np.zeros(made.alpha.shape, np.bool_)
    return np.asarray(np.nan_to_num(change(*pair)) > CHATTER_ACCEPTED)
