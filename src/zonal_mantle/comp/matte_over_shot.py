"""What is measured of a matte on each frame, and what is the worst of it over a shot."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass

import numpy as np

from ..matte.sky_check import EdgeOff
from ..shot.shapes import Point
from ..words import say

FLICKER_LEAST, FLICKER_TIMES = 0.002, 8.0  # of the frame; and of what is usual from frame to frame
NOWHERE: Point = (0.0, 0.0)


@dataclass(frozen=True)
class FrameReading:
    """What is measured of a matte on one frame, at full size, on the pixels that are rendered.

    by_sky : whether holes and leftover are what contradicts the sky found in the picture; else they are judged by their
        neighbourhood.
    piece_px2 : the largest piece that stays by itself and is the sky's for the most part.
    no_sky : what goes is doubted as a whole.
    strip : of the frame that goes just above the ground and is set off from the sky, see `matte.doubt.between`.
    off : how far the edge lies beside the picture's, px, where that is sure.

    Places are in pixels of what the matte is pulled on.
    """

    holes: float = 0.0
    hole_place: Point = NOWHERE
    largest_hole_px2: float = 0.0
    leftover: float = 0.0
    left_place: Point = NOWHERE
    piece_px2: float = 0.0
    piece_place: Point = NOWHERE
    soft: float = 0.0
    outside: float = 0.0
    stays: float = 1.0
    halo: float | None = None
    chatter: float | None = None
    doubt: float | None = None
    doubt_place: Point = NOWHERE
    no_sky: bool = False
    likely_wrong: float = 0.0
    strip: float = 0.0
    strip_place: Point = NOWHERE
    off: EdgeOff | None = None
    by_sky: bool = False
    problem: str = ""


@dataclass(frozen=True)
class MatteOverShot:
    """A matte's worst frames. Shares are 0…1, halo is in display code values, chatter in alpha; None: none to judge.
    Each `_frame` is the frame of its worst, each `_place` where on it, in pixels of what the matte is pulled on.

    by_sky : see `FrameReading`. doubt : of the frame that may be sky or not. likely_wrong : of the frame, by what the
    automatic mattes of other pictures were wrong on. least : of a frame that stays. jump : the
    most that this changes from one frame to the next. flicker : the most by which what stays of a frame departs from
    the frames beside it, where that stands out from all others. off_px : how far the edge lies beside the picture's.
    """

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
    doubt_place: Point = NOWHERE
    no_sky: bool = False
    likely_wrong: float = 0.0
    likely_wrong_frame: int = 0
    likely_wrong_place: Point = NOWHERE
    least: float = 1.0
    least_frame: int = 0
    jump: float = 0.0
    jump_frame: int = 0
    by_sky: bool = False
    holes_place: Point = NOWHERE
    leftover_place: Point = NOWHERE
    piece_px2: float = 0.0
    piece_frame: int = 0
    piece_place: Point = NOWHERE
    flicker: float = 0.0
    flicker_frame: int = 0
    strip: float = 0.0
    strip_frame: int = 0
    strip_place: Point = NOWHERE
    off_px: float = 0.0
    off_frame: int = 0
    off_words: str = ""


def worst_of(frames: Mapping[int, FrameReading], first_frame: int) -> MatteOverShot:
    """The worst of what was measured of each frame."""
    each = dict(sorted(frames.items()))
    first = next(iter(each), first_frame)

    def worst(value: Callable[[FrameReading], float | None]) -> int:
        return max(each, key=lambda frame: abs(value(each[frame]) or 0.0), default=first)

    holes, left = worst(lambda r: r.holes), worst(lambda r: r.leftover)
    pale, restless, doubtful = worst(lambda r: r.halo), worst(lambda r: r.chatter), worst(lambda r: r.doubt)
    hazy, likely = worst(lambda r: r.strip), worst(lambda r: r.likely_wrong)
    piece = worst(lambda r: r.piece_px2)
    off = worst(lambda r: r.off.px if r.off is not None else None)
    stays = {frame: r.stays for frame, r in each.items() if not r.problem} or {first: 0.5}
    least = min(stays, key=lambda frame: stays[frame])
    jumps = {at: abs(stays[at] - stays[at - 1]) for at in stays if at - 1 in stays} or {first: 0.0}
    jump = max(jumps, key=lambda frame: jumps[frame])
    flicker, flickering = flicker_of(stays)
    troubled = next((frame for frame, r in each.items() if r.problem), None)
    edge = each[off].off
    return MatteOverShot(
        holes=each[holes].holes,
        holes_frame=holes,
        largest_hole_px2=max(r.largest_hole_px2 for r in each.values()),
        leftover=each[left].leftover,
        leftover_frame=left,
        soft=max(r.soft for r in each.values()),
        outside=max(r.outside for r in each.values()),
        halo=each[pale].halo,
        halo_frame=pale,
        chatter=each[restless].chatter,
        chatter_frame=restless,
        problem=each[troubled].problem if troubled is not None else "",
        problem_frame=troubled if troubled is not None else first,
        doubt=each[doubtful].doubt,
        doubt_frame=doubtful,
        doubt_place=each[doubtful].doubt_place,
        no_sky=each[doubtful].no_sky,
        likely_wrong=each[likely].likely_wrong,
        likely_wrong_frame=likely,
        likely_wrong_place=each[likely].doubt_place,
        least=stays[least],
        least_frame=least,
        jump=jumps[jump],
        jump_frame=jump,
        by_sky=any(r.by_sky for r in each.values()),
        holes_place=each[holes].hole_place,
        leftover_place=each[left].left_place,
        piece_px2=each[piece].piece_px2,
        piece_frame=piece,
        piece_place=each[piece].piece_place,
        strip=each[hazy].strip,
        strip_frame=hazy,
        strip_place=each[hazy].strip_place,
        flicker=flicker,
        flicker_frame=flickering,
        off_px=edge.px if edge is not None else 0.0,
        off_frame=off,
        off_words=_off_words(edge) if edge is not None else "",
    )


def flicker_of(stays: Mapping[int, float]) -> tuple[float, int]:
    """By how much what stays of a frame departs from the frames beside it, where that stands out; and which frame.

    Departures are from the mean of the frames before and after; they stand out from FLICKER_TIMES their median on. An
    end that flickers shows on the frame beside it alone.
    """
    frames = sorted(stays)
    between = [frame for frame in frames if frame - 1 in stays and frame + 1 in stays]
    apart = {frame: abs(stays[frame] - (stays[frame - 1] + stays[frame + 1]) / 2) for frame in between}
    if len(apart) < 3:
        return 0.0, frames[0]
    most = max(between, key=lambda frame: apart[frame])
    if apart[most] <= max(FLICKER_LEAST, FLICKER_TIMES * float(np.median(list(apart.values())))):
        return 0.0, most
    for (second, third), end in ((between[:2], frames[0]), (between[:-3:-1], frames[-1])):
        if most == second and apart[third] < apart[second] / 4:
            return 2 * apart[most], end
    return apart[most], most


def _off_words(edge: EdgeOff) -> str:
    if edge.grow:
        return say("{grow} px {how}", grow=abs(edge.grow), how=say("inside") if edge.grow > 0 else say("outside"))
    sides = ((edge.right, say("far left"), say("far right")), (edge.down, say("high"), say("low")))
    # where it fits best is where it should be moved to: it lies on the other side
    said = [say("{by} px too {how}", by=abs(by), how=less if by > 0 else more) for by, less, more in sides if by]
    return say(" and ").join(said)
