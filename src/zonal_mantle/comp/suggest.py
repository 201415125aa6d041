"""A lock that suits a shot, tried before it is proposed."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from functools import partial
from typing import NamedTuple

from ..lock import LockError, follow_features, propose, region_parallax, remarks_on, solve_plane, solve_staying
from ..lock.again import found_again
from ..lock.bend import bends_words
from ..lock.propose import PARALLAX_PX, Proposal, tried, whole_region
from ..shot import Lock, Shape, ShapeKey, Shot
from ..words import say
from .lock_work import FirstLook, LockWork
from .pictures import Pictures
from .solve import SOLVED_FIELDS, unused_name

TRIED_FRAMES = 4  # to each side, on which a suggested lock is tried


class Suggested(NamedTuple):
    """A lock that is not solved yet, why it and no other, and by how much it is likely to be off: what the worst of
    the frames on which it was tried says of itself, px; None where no trial held. `solved` is the lock as `solve_lock`
    makes it, where the trial was of the whole shot (cameras)."""

    lock: Lock
    reasons: tuple[str, ...]
    expected_px: float | None
    solved: Lock | None = None


def suggest_lock(
    shot: Shot, pictures: Pictures, progress: Callable[[float, str], None] = lambda share, words: None
) -> Suggested:
    """A lock that suits the shot, tried on some frames about its reference frame.

    Raises
    ------
    LockError : no plate, or a plate of one frame.
    MediaError : a frame of the plate cannot be read.
    """
    if shot.plate_source is None or len(shot.frames) < 2:
        raise LockError(say("There is no moving plate to look at. Open one first."))
    look = LockWork(shot, Lock(id="look", name="", kind="camera", reference_frame=shot.first), pictures)
    look.look(progress)
    tracks = follow_features(
        look.feed, look.cover, shot.frames, lambda s, w: progress(0.7 * s, w), say("Looking at the shot")
    )
    seek = partial(found_again, feed_of=look.feed, cover_of=look.cover)
    found = tried(propose(tracks, shot.frames, shot.size), tracks, shot.frames, shot.size, progress, seek)
    lock, reasons = _as_suggested(shot, found), [found.why]
    expected, trouble = found.expected_px, ""
    if found.kind != "camera":
        progress(0.85, say("Trying the lock"))
        expected, words, trouble = _trial(shot, lock, pictures, look.seen)
        if trouble and not found.field_stays:
            whole = replace(found, kind="plane", field_stays=True, region=whole_region(shot.size))
            other = _as_suggested(shot, whole)
            progress(0.92, say("Trying another lock"))
            again, other_words, still = _trial(shot, other, pictures, look.seen)
            reasons.append(words)
            if not still:
                lock, expected, words, trouble = other, again, other_words, ""
        reasons.append(words)
    if lock.kind == "pan" and look.seen.bend is not None:
        lock = lock.but(lens=lock.lens.but(solve_distortion=True))
        reasons.append(bends_words(look.seen.bend, shot.size) + say("The pan lock solves it."))
    reasons += LockWork(shot, lock, pictures, look.seen).look_remarks()
    if trouble:
        reasons.append(
            say(
                "Draw a region over something that has texture, stays in view and does not change, or lock "
                "single points."
            )
        )
    for each in shot.locks:
        box = _field_box(each)
        off = region_parallax(tracks, box, each.reference_frame) if box is not None else 0.0
        if off > PARALLAX_PX:
            reasons.append(
                say(
                    "The field of {name} is not one plane: parts of it move apart by {off:.1f} px. What rides on it "
                    "as if it were farther away will slide.",
                    name=each.name,
                    off=off,
                )
            )
    progress(1.0, say("Looking at the shot: done"))
    solved = None
    if found.solved is not None:
        values = {name: getattr(found.solved, name) for name in SOLVED_FIELDS}
        solved = lock.but(
            **{**values, "remarks": (*look.look_remarks(), *remarks_on(look.neighbours())), "left_out": look.left_out()}
        )
    return Suggested(lock.but(remarks=tuple(reasons)), tuple(reasons), expected, solved)


def _as_suggested(shot: Shot, found: Proposal) -> Lock:
    x0, y0, x1, y1 = found.region
    key = ShapeKey(frame=found.frame, points=((x0, y0), (x1, y0), (x1, y1), (x0, y1)))
    name = unused_name(shot, say("Suggested {kind}", kind=say(found.kind)))
    return Lock(
        id=shot.new_id("lock"), name=name, kind=found.kind, reference_frame=found.frame,
        field=(Shape(id="field", name="Field 1", keys=(key,)),) if found.kind == "plane" else (),
        field_stays=found.field_stays and found.kind == "plane",
    )  # fmt: skip


def _trial(shot: Shot, lock: Lock, pictures: Pictures, seen: FirstLook) -> tuple[float | None, str, str]:
    """A lock measured on some frames about its reference frame: how far it is off there by its own word, a sentence
    about it, and what went wrong."""
    frames, start = shot.frames, lock.reference_frame
    some = range(max(start - TRIED_FRAMES, frames[0]), min(start + TRIED_FRAMES, frames[-1]) + 1)
    staying = lock.field_stays or lock.kind == "pan"
    trial = lock.but(kind="plane", field_stays=staying)
    work = LockWork(shot.but(locks=(*shot.locks, trial)), trial, pictures, seen)
    try:
        if staying:
            solved = solve_staying(
                trial, work.feed, work.field(), work.cover, some, bend=seen.bend, codec_step=work.codec_step
            )
        else:
            solved = solve_plane(trial, work.feed, work.field(), work.cover, some, codec_step=work.codec_step)
    except LockError as problem:
        return (
            None,
            say("Tried on frames {first}–{last}: {problem}", first=some[0], last=some[-1], problem=problem),
            str(problem),
        )
    if solved.lost:
        return (
            None,
            say("Tried on frames {first}–{last}: {names}", first=some[0], last=some[-1], names=" ".join(solved.lost)),
            solved.lost[0],
        )
    worst = max(entry.residual_px for entry in solved.solved)
    return (
        worst,
        say("Tried on frames {first}–{last}: it holds to {worst:.2f} px.", first=some[0], last=some[-1], worst=worst),
        "",
    )


def _field_box(lock: Lock) -> tuple[float, float, float, float] | None:
    points = [p for shape in lock.field if shape.on and shape.mode == "keep" for p in shape.keys[0].points]
    if not points or lock.field_stays:
        return None
    xs, ys = zip(*points)
    return min(xs), min(ys), max(xs), max(ys)
