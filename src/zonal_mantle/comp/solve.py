"""Solving a shot's lock from its plate: feeds, fields and covers for the solvers."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from functools import partial
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from ..lock import (
    LockError,
    follow_features,
    lock_feed,
    propose,
    region_parallax,
    remarks_on,
    solve_camera,
    solve_pan,
    solve_plane,
    solve_point,
    solve_staying,
)
from ..lock.again import found_again
from ..lock.propose import PARALLAX_PX, Proposal, tried, whole_region
from ..lock.runs import Direction, SoFar, unseen
from ..matte import shape_alpha
from ..media import bits_per_pixel
from ..place.ride import followed
from ..place.transform import reference_to_frame
from ..shot import Lock, Shape, ShapeKey, Shot
from ..shot.follow import WHOLE
from ..words import say
from .pictures import Pictures

Array = NDArray[np.float32]
SOLVED_FIELDS = ("solved", "lost", "remarks", "points", "lens", "in_metres")
MEASURED_FIELDS = (
    "kind", "reference_frame", "reads", "channel", "filter_px", "least_confidence", "rides", "follow", "marks",
    "renewal", "renew_below", "motion", "field", "field_stays", "lens", "shutter_deg",
)  # fmt: skip
MOST_COLUMNS = 100  # of each frame, by which doubled and interlaced frames are found
# what H.264 moves marks by, root mean square, px: measured on marks of two photographs at rate factors 16 to 34,
# where a pixel took 0.67 to 0.03 bits (docs/FIGURES.md); others were kept apart
CODEC_PX, CODEC_POWER, LEAST_BITS = 0.03, 0.7, 0.005
TRUSTED_BITS, UNTRUSTED = 0.015, 0.3  # below so many bits marks went astray; what their confidence is then at most
TRIED_FRAMES = 4  # to each side, on which a suggested lock is tried
WHOLE_MARGIN = 0.02  # of the width; a field that is not drawn is the whole frame but for its rim


def solve_lock(
    shot: Shot,
    lock_id: str,
    pictures: Pictures,
    direction: Direction = "both",
    progress: Callable[[float, str], None] = lambda share, words: None,
    missing_only: bool = False,
    so_far: SoFar = unseen,
) -> Shot:
    """The shot with a lock solved on its plate.

    Parameters
    ----------
    missing_only : frames that are solved stay as they are (point locks, and plane locks whose field rides).
    so_far : called, while it goes on, with what makes the lock as it is by then; its last frames are less exact than
        they will be.

    Raises
    ------
    LockError : the lock cannot be solved as it is set up.
    MediaError : a frame of the plate cannot be read.
    """
    work = _Work(shot, shot.lock(lock_id).but(remarks=()), pictures)
    solved = work.solve(direction, progress, missing_only, so_far)
    remarks = (*solved.remarks, *remarks_on(work.neighbours()), *work.codec_remarks())
    return shot.with_lock(solved.but(remarks=remarks))


def merged(now: Shot, began: Shot, solved: Lock) -> tuple[Shot, str]:
    """A finished solve put into the shot as it is by now.

    Only what was solved is taken over. Where the lock was set up anew while it ran, the result becomes a lock of its
    own beside it.

    Parameters
    ----------
    now, began : the shot now, and when the solve began. solved : the lock that came out.

    Returns
    -------
    The shot, and a sentence where there is something to say.
    """
    before = began.lock(solved.id)
    present = next((lock for lock in now.locks if lock.id == solved.id), None)
    if present is None:
        return now, say("{name} was removed while it was solved; its result was let go.", name=solved.name)
    found = {name: getattr(solved, name) for name in SOLVED_FIELDS}
    if all(getattr(present, name) == getattr(before, name) for name in MEASURED_FIELDS):
        return now.with_lock(present.but(**found)), ""
    beside = solved.but(id=now.new_id("lock"), name=say("{name}, as it was set up before", name=solved.name))
    words = say(
        "{name} was changed while it was solved. The result is kept beside it as “{other}”.",
        name=present.name,
        other=beside.name,
    )
    return now.with_lock(beside), words


class _Work:
    """What a solver asks for."""

    def __init__(self, shot: Shot, lock: Lock, pictures: Pictures) -> None:
        source = shot.plate_source
        if source is None:
            raise LockError(say("The shot has no plate to lock onto. Open a plate first."))
        if lock.kind == "by hand":
            raise LockError(
                say(
                    "{name} is keyed by hand: there is nothing to solve. Key its position under Correct.",
                    name=lock.name,
                )
            )
        if lock.reads == "denoised plate" and shot.denoised is not None:
            source = shot.source(shot.denoised)
        self.shot, self.lock, self.pictures, self.source = shot, lock, pictures, source
        self._small: dict[int, Array] = {}

    def feed(self, frame: int) -> Array:
        """A frame as the lock looks at it."""
        feed = lock_feed(self.pictures.plate(self.source, frame), self.lock.channel, self.lock.filter_px)
        if frame not in self._small:
            self._small[frame] = feed[: feed.shape[0] // 2 * 2, :: max(9, feed.shape[1] // MOST_COLUMNS)].copy()
        return feed

    def _with_codec(self, solved: Lock) -> Lock:
        """What a codec moves about is added to the error of marks. It moves a whole patch at once, by the motion that
        it found cheapest to write down, which the patch itself cannot see; a field of many blocks can."""
        bits = bits_per_pixel(self.source)
        if bits is None:
            return solved
        moved = CODEC_PX * max(bits, LEAST_BITS) ** -CODEC_POWER
        most = 1.0 if bits >= TRUSTED_BITS else UNTRUSTED
        before = set(self.lock.solved)
        entries = tuple(
            entry
            if entry.frame == solved.reference_frame or entry in before
            else entry.but(
                residual_px=float(np.hypot(entry.residual_px, moved)), confidence=min(entry.confidence, most)
            )
            for entry in solved.solved
        )
        return solved.but(solved=entries)

    def codec_remarks(self) -> tuple[str, ...]:
        """What has to be known of marks on a plate that hardly any bits were spent on."""
        bits = bits_per_pixel(self.source) if self.lock.kind == "point" else None
        if bits is None or bits >= TRUSTED_BITS:
            return ()
        words = say(
            "{name} is compressed to {bits:.3f} bits a pixel: marks may be led away by whole pixels.",
            name=self.source.name,
            bits=bits,
        )
        return (say("{words} Use a plane lock on a large field.", words=words),)

    def neighbours(self) -> dict[int, Array]:
        """Thin columns of all frames that were looked at, by which doubled and interlaced frames are found."""
        return self._small

    def solve(
        self, direction: Direction, progress: Callable[[float, str], None], missing_only: bool, so_far: SoFar = unseen
    ) -> Lock:
        """The lock, solved by its kind's solver."""
        lock, frames = self.lock, self.shot.frames
        guess = self.guess if lock.rides else None
        if lock.kind == "point":
            solved = solve_point(lock, self.feed, frames, direction, progress, missing_only, guess, so_far)
            return self._with_codec(solved)
        if lock.reference_frame not in frames:
            raise LockError(
                say(
                    "{name} starts on frame {reference_frame}, which is not in the shot ({frames}–{frames_2}). Draw "
                    "its field anew on a frame of the shot.",
                    name=lock.name,
                    reference_frame=lock.reference_frame,
                    frames=frames[0],
                    frames_2=frames[-1],
                )
            )
        if lock.kind == "camera":
            return solve_camera(lock, self.feed, self.cover, frames, progress, so_far)
        field = self.field()
        if lock.kind == "pan":
            return solve_pan(lock, self.feed, field, self.cover, frames, direction, progress, so_far)
        if lock.field_stays:
            return solve_staying(lock, self.feed, field, self.cover, frames, direction, progress, so_far)
        return solve_plane(lock, self.feed, field, self.cover, frames, direction, progress, missing_only, guess, so_far)

    def field(self) -> Array:
        """The field on the reference frame: its shapes, or the whole frame where none is drawn; without what is out."""
        width, height = self.shot.size
        drawn = [shape for shape in self.lock.field if shape.on and shape.mode == "keep"]
        reference = self.lock.reference_frame
        if drawn:
            out = np.zeros((height, width), np.float32)
            for shape in drawn:
                out = np.maximum(out, shape_alpha(shape, reference, self.shot.size, 1.0, self._ride))
        else:
            rim = round(WHOLE_MARGIN * width)
            out = np.zeros((height, width), np.float32)
            out[rim : height - rim, rim : width - rim] = 1
        cover = self.cover(reference)
        return out if cover is None else np.asarray(out * cover, np.float32)

    def cover(self, frame: int) -> Array | None:
        """What of a frame counts: all but the excluded shapes; None where nothing is excluded."""
        out: Array | None = None
        for shape in self.lock.excluded:
            inside = shape_alpha(shape, frame, self.shot.size, 1.0, self._ride)
            out = 1 - inside if out is None else np.minimum(out, 1 - inside)
        return None if out is None else np.asarray(out, np.float32)

    def guess(self, frame: int) -> NDArray[np.float64]:
        """Where the lock that this one rides on says that the reference frame went."""
        lock, about = self.lock, self._middle()
        start = reference_to_frame(self.shot, lock.rides, lock.reference_frame)
        motion = reference_to_frame(self.shot, lock.rides, frame) @ np.linalg.inv(start)
        return motion if lock.follow == WHOLE else followed(motion, lock.follow, about)

    def _middle(self) -> tuple[float, float]:
        """Of what the lock looks at, on its reference frame."""
        places = [shape.middle for shape in self.lock.field if shape.on and shape.mode == "keep"]
        places += [(mark.x, mark.y) for mark in self.lock.marks]
        x, y = np.mean(places, axis=0) if places else np.array(self.shot.size) / 2
        return float(x), float(y)

    def _ride(self, shape: Shape, frame: int) -> NDArray[np.float64]:
        return reference_to_frame(self.shot, shape, frame)


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
    look = _Work(shot, Lock(id="look", name="", kind="camera", reference_frame=shot.first), pictures)
    tracks = follow_features(
        look.feed, look.cover, shot.frames, lambda s, w: progress(0.7 * s, w), say("Looking at the shot")
    )
    seek = partial(found_again, feed_of=look.feed, cover_of=look.cover)
    found = tried(propose(tracks, shot.frames, shot.size), tracks, shot.frames, shot.size, progress, seek)
    lock, reasons = _as_suggested(shot, found), [found.why]
    expected, trouble = found.expected_px, ""
    if found.kind != "camera":
        progress(0.85, say("Trying the lock"))
        expected, words, trouble = _trial(shot, lock, pictures)
        if trouble and not found.field_stays:
            whole = replace(found, kind="plane", field_stays=True, region=whole_region(shot.size))
            other = _as_suggested(shot, whole)
            progress(0.92, say("Trying another lock"))
            again, other_words, still = _trial(shot, other, pictures)
            reasons.append(words)
            if not still:
                lock, expected, words, trouble = other, again, other_words, ""
        reasons.append(words)
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
        solved = lock.but(**{**values, "remarks": remarks_on(look.neighbours())})
    return Suggested(lock.but(remarks=tuple(reasons)), tuple(reasons), expected, solved)


def _as_suggested(shot: Shot, found: Proposal) -> Lock:
    x0, y0, x1, y1 = found.region
    key = ShapeKey(frame=found.frame, points=((x0, y0), (x1, y0), (x1, y1), (x0, y1)))
    name, number = say("Suggested {kind}", kind=say(found.kind)), 2
    while any(lock.name == name for lock in shot.locks):
        name, number = say("Suggested {kind} {number}", kind=say(found.kind), number=number), number + 1
    return Lock(
        id=shot.new_id("lock"), name=name, kind=found.kind, reference_frame=found.frame,
        field=(Shape(id="field", name="Field 1", keys=(key,)),) if found.kind == "plane" else (),
        field_stays=found.field_stays and found.kind == "plane",
    )  # fmt: skip


def _trial(shot: Shot, lock: Lock, pictures: Pictures) -> tuple[float | None, str, str]:
    """A lock measured on some frames about its reference frame: how far it is off there by its own word, a sentence
    about it, and what went wrong."""
    frames, start = shot.frames, lock.reference_frame
    some = range(max(start - TRIED_FRAMES, frames[0]), min(start + TRIED_FRAMES, frames[-1]) + 1)
    staying = lock.field_stays or lock.kind == "pan"
    trial = lock.but(kind="plane", field_stays=staying)
    work = _Work(shot.but(locks=(*shot.locks, trial)), trial, pictures)
    try:
        solver = solve_staying if staying else solve_plane
        solved = solver(trial, work.feed, work.field(), work.cover, some)
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
