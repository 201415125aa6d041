"""Readings of the shot's mattes over its frames."""

from __future__ import annotations

from dataclasses import replace
from typing import Any, Literal

import cv2
import numpy as np
from numpy.typing import NDArray

from ..matte import change, chatter, feed_of, halo, has_sky, holes_and_leftover, lean, outside
from ..matte.doubt import MUCH_WRONG, between
from ..matte.first import first_pull
from ..matte.readings import EMPTY, SOLID, enclosed
from ..matte.sky_check import SkyCheck, check_sky, edge_off, piece_left
from ..media import MediaError
from ..media.memory import one_at_a_time
from ..place.transform import reference_to_frame
from ..shot import ClearSkyPull, Matte, ScreenPull, Shape, Shot, Zone
from ..shot.shapes import Point
from ..words import say, spoken
from .digest import digest
from .matte_over_shot import NOWHERE, FrameReading, MatteOverShot, worst_of
from .matte_planner import matte_plan, reads_own, zone_picture
from .pictures import READINGS_KNOWN, Pictures, known
from .plan import SkyPlan

Array = NDArray[np.float32]
Fault = Literal["holes", "leftover", "halo", "chatter", "doubt"]

HALO_ACCEPTED = 20.0  # display code values
CHATTER_ACCEPTED = 0.12  # alpha a frame
DOUBTED = 0.5  # doubt from which a pixel is counted
DOUBT_ACCEPTED = 0.03  # of the frame
LIKELY_WRONG_ACCEPTED = MUCH_WRONG  # of the frame
LEAST_PART = 0.002  # of the frame: a matte that keeps less keeps nothing
STRIP_ACCEPTED = 0.001  # of the frame
JUMP_ACCEPTED = 0.1  # of the frame, from one frame to the next
OFF_ACCEPTED_PX, OFF_SURE = 1.5, 1.25  # of an edge, and how much better it must be explained elsewhere
ALIKE_SKIES = 0.5  # shared part of what a matte takes away and of the sky from which it is judged as a sky matte


class MatteTally:
    """Gathers one matte's readings frame by frame."""

    def __init__(self, shot: Shot, matte: Matte, pictures: Pictures) -> None:
        self.shot, self.matte, self.pictures = shot, matte, pictures
        self.frames: dict[int, FrameReading] = {}

    def add(self, frame: int) -> None:
        """Measures a frame; what was measured before of the same pixels is not measured again."""
        key = ("reading", digest(_judged(self.shot, self.matte, frame)), spoken())
        with one_at_a_time(self.shot.size):
            self.frames[frame] = known(key, lambda: _read(self.shot, self.matte, frame, self.pictures), READINGS_KNOWN)

    def result(self) -> MatteOverShot:
        """The worst of all frames, of which there must be one."""
        return worst_of(self.frames, self.shot.first)


def _judged(shot: Shot, matte: Matte, frame: int) -> tuple[Any, ...]:
    """All that a frame's reading depends on."""
    return (*fault_key(shot, matte, frame, 1.0), matte.shapes, _judging_sky(shot, matte, frame))


def _read(shot: Shot, matte: Matte, frame: int, pictures: Pictures) -> FrameReading:
    plan = matte_plan(shot, matte, frame)
    made, pixels = pictures.made(plan), pictures.pixels(plan.picture)
    if made.problem:
        return FrameReading(problem=made.problem)
    sky = _checked(shot, matte, frame, pictures, pixels, made.alpha)
    holes, left, keep, drop = _faults(shot, matte, frame, made.alpha, sky)
    piece = piece_left(made.alpha, left) if sky is not None else np.zeros_like(left)
    count, _, stats, _ = cv2.connectedComponentsWithStats(holes.astype(np.uint8), connectivity=8)
    off = edge_off(pixels, made.alpha) if matte.pulls else None
    sure = off is not None and off.px > OFF_ACCEPTED_PX and off.better > OFF_SURE
    doubt, likely_wrong = made.judged(pixels)
    doubted = None if doubt is None else doubt > DOUBTED
    strip = between(pixels, made.alpha) > 0.5 if made.skies else np.zeros(made.alpha.shape, np.bool_)
    found = FrameReading(
        holes=_share(holes, keep),
        hole_place=_middle(holes),
        largest_hole_px2=float(stats[1:, cv2.CC_STAT_AREA].max()) if count > 1 else 0.0,
        leftover=_share(left, drop),
        left_place=_middle(left),
        piece_px2=float(np.count_nonzero(piece)),
        piece_place=_middle(piece),
        soft=float(np.mean((made.alpha > EMPTY) & (made.alpha < SOLID))),
        outside=0.0 if matte.clamp else outside(made.alpha),
        stays=float(np.clip(made.alpha, 0, 1).mean()),
        halo=halo(pixels, made.alpha, made.foreground),
        chatter=None,
        doubt=float(doubted.mean()) if doubted is not None else None,
        doubt_place=_middle(doubted) if doubted is not None else NOWHERE,
        no_sky=doubt is not None and made.is_doubted(doubt),
        likely_wrong=likely_wrong,
        strip=float(strip.mean()),
        strip_place=_middle(strip),
        off=off if sure else None,
        by_sky=sky is not None,
    )
    del made, pixels, sky, holes, left, piece, keep, drop, doubt, doubted, strip  # before another matte is made
    try:
        pair = _beside(shot, matte, frame, pictures)
    except MediaError:  # the frame beside cannot be read, which is a finding of its own
        pair = None
    return found if pair is None else replace(found, chatter=chatter(*pair))


def wrong_picture(shot: Shot, zone: Zone, frame: int, pictures: Pictures) -> str:
    """Where a zone's matte pulls a screen on the plate that is in the zone's own picture, or one of another colour than
    that was shot before: a sentence, or nothing."""
    matte, picture = shot.matte_of(zone), zone_picture(shot, zone, frame)
    if matte is None or not zone.matte.on or shot.holds_plate(zone) or picture is None:
        return ""
    screens = [pull.screen for pull in matte.pulls if isinstance(pull, ScreenPull) and pull.on]
    own, _ = pictures.kept(("first pull", picture), lambda: first_pull(pictures.pixels(picture), ""))
    if not isinstance(own, ScreenPull) or not screens:
        return ""
    if reads_own(shot, zone):
        other = say(
            "{name} pulls a {screens} screen, but {other} was shot before a {screen} one.",
            name=matte.name,
            screens=screens[0],
            other=zone.name,
            screen=own.screen,
        )
        return "" if own.screen in screens else other
    if own.screen not in screens:
        return ""
    return say(
        "{name} pulls a {screen} screen on the {reads}, but the screen is in the own picture of "
        "{other}. Set Looks at to own picture.",
        name=matte.name,
        screen=own.screen,
        reads=matte.reads,
        other=zone.name,
    )


def _share(part: NDArray[np.bool_], whole: NDArray[np.bool_]) -> float:
    return int(np.count_nonzero(part)) / max(int(np.count_nonzero(whole)), 1)


def _middle(mask: NDArray[np.bool_]) -> Point:
    """A place in the middle of the largest part of a mask."""
    count, labels, stats, _ = cv2.connectedComponentsWithStats(mask.astype(np.uint8), connectivity=8)
    if count < 2:
        return NOWHERE
    rows, columns = np.nonzero(labels == 1 + int(stats[1:, cv2.CC_STAT_AREA].argmax()))
    return float(np.median(columns)) + 0.5, float(np.median(rows)) + 0.5


def _judging_sky(shot: Shot, matte: Matte, frame: int) -> SkyPlan | None:
    """How the sky is found that a matte of the plate is judged by: as its own pull finds it, else by itself."""
    if shot.own_of(matte) is not None:
        return None
    own = next((p for p in matte.pulls if isinstance(p, ClearSkyPull) and p.on and p.finds == "region"), None)
    pull = ClearSkyPull() if own is None else own
    return matte_plan(shot, matte.but(pulls=(pull,)), frame).regions[0]


def _checked(shot: Shot, matte: Matte, frame: int, pictures: Pictures, pixels: Array, alpha: Array) -> SkyCheck | None:
    """A matte of the sky against the picture; None where it is no matte of the sky, or no sky is found."""
    wanted = _judging_sky(shot, matte, frame)
    if wanted is None or not matte.pulls:
        return None
    found = pictures.sky_of(matte_plan(shot, matte, frame).picture, wanted)
    if not has_sky(found):
        return None
    small = cv2.resize(np.clip(alpha, 0, 1), found.chance.shape[::-1], interpolation=cv2.INTER_AREA)
    gone, sky = small < 0.5, found.chance > 0.5
    alike = _share(gone & sky, gone | sky)
    if alike < ALIKE_SKIES and not any(isinstance(pull, ClearSkyPull) and pull.on for pull in matte.pulls):
        return None
    return check_sky(pixels, alpha, found)


def _faults(
    shot: Shot, matte: Matte, frame: int, alpha: Array, sky: SkyCheck | None
) -> tuple[NDArray[np.bool_], NDArray[np.bool_], NDArray[np.bool_], NDArray[np.bool_]]:
    """Holes, leftover, and what they are shares of. Shapes say what stays and goes, whatever the picture says."""

    def ride(shape: Shape, at: int) -> NDArray[np.float64]:
        return np.eye(3) if shot.own_of(matte) is not None else reference_to_frame(shot, shape, at)

    if sky is None:
        return holes_and_leftover(alpha, matte, frame, 1.0, ride)
    kept, dropped = enclosed(matte, frame, (alpha.shape[1], alpha.shape[0]), 1.0, ride)
    holes = (sky.gone & ~dropped) | (kept & (alpha < SOLID))
    left = (sky.left & ~kept) | (dropped & (alpha > EMPTY))
    return holes, left, (~sky.sky & ~dropped) | kept, (sky.sky & ~kept) | dropped


def _beside(
    shot: Shot, matte: Matte, frame: int, pictures: Pictures, scale: float = 1.0
) -> tuple[Array, Array, Array, Array, NDArray] | None:
    """What chatter is judged by: alpha and feed of a frame and of the one beside it, and the motion between.

    The edge is judged along the lock that steadies it, else along the first that is solved; None where there is none.
    """
    plate, after = shot.plate_source, frame + 1 if frame < shot.last else frame - 1
    lock = _judged_along(shot, matte)
    if plate is None or lock is None or shot.own_of(matte) is not None or after not in shot.frames:
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
    plan = matte_plan(shot, matte, frame, scale)
    made, pixels = pictures.made(plan), pictures.pixels(plan.picture, scale)
    if fault in ("holes", "leftover"):
        whole = pictures.made(matte_plan(shot, matte, frame))
        sky = _checked(shot, matte, frame, pictures, pictures.pixels(plan.picture), whole.alpha)
        holes, leftover, _, _ = _faults(shot, matte, frame, whole.alpha, sky)
        seen = (holes if fault == "holes" else leftover).astype(np.uint8)
        return np.asarray(cv2.resize(seen, made.alpha.shape[::-1], interpolation=cv2.INTER_NEAREST) > 0)
    if fault == "doubt":
        doubt = made.doubt(pixels)
        return doubt > DOUBTED if doubt is not None else np.zeros(made.alpha.shape, np.bool_)
    if fault == "halo":
        leaning = lean(pixels, made.alpha, made.foreground)
        seen = np.isfinite(leaning)
        way = np.sign(leaning[seen].mean()) if seen.any() else 1.0
        return np.asarray(np.nan_to_num(leaning) * way > HALO_ACCEPTED)
    pair = _beside(shot, matte, frame, pictures, scale)
    if pair is None:
        return np.zeros(made.alpha.shape, np.bool_)
    return np.asarray(np.nan_to_num(change(*pair)) > CHATTER_ACCEPTED)
