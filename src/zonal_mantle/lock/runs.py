"""Going through the shot from the reference frame, both ways, keeping what was solved."""

from __future__ import annotations

from collections.abc import Callable
from typing import Literal

import numpy as np
from numpy.typing import NDArray

from ..shot.lock import Lock, LockFrame, Nine
from ..words import english, mark, say

Direction = Literal["forward", "backward", "both"]
CUT, TWO, MIXED = mark("there is a cut"), "two things in the field move apart", "the field does not hold together"
FINAL = (TWO, MIXED)  # after which nothing is looked for again
UNTOLD, FEW = "too little texture", 3  # for which a lock is lost; frames before that, which tell no more than the next
BLANK = mark("the frame is blank.")
FLASH = 3  # frames, over which what looks like a cut may be a flash, or frames that are black
AGAIN_PX = 0.3  # of error; what is found again must be known better, or as well as before it was lost
SoFar = Callable[[Callable[[], Lock]], None]  # takes what makes the lock as it is so far, where that is asked for
Follow = Callable[[int, LockFrame], tuple[LockFrame | None, str]]


def unseen(lock: Callable[[], Lock]) -> None:
    """Nobody asks for a lock before it is done."""


def flat(matrix: NDArray) -> Nine:
    """A (3, 3) matrix as nine numbers."""
    a, b, c, d, e, f, g, h, i = (float(v) for v in np.asarray(matrix).reshape(-1))
    return (a, b, c, d, e, f, g, h, i)


def triple(values: NDArray) -> tuple[float, float, float]:
    """Three numbers."""
    x, y, z = (float(v) for v in np.asarray(values).reshape(-1))
    return (x, y, z)


def run_both_ways(
    lock: Lock,
    first: LockFrame,
    frames: range,
    direction: Direction,
    begin: Callable[[], Follow],
    progress: Callable[[float, str], None],
    missing_only: bool = False,
    look_on: int = 0,
    so_far: SoFar = unseen,
) -> Lock:
    """Solves frame after frame, away from the reference frame.

    Parameters
    ----------
    first : the reference frame's own entry.
    begin : called for each way; gives what solves a frame from the one before it: the entry, or None and why not.
    missing_only : solved frames are gone through but stay as they are.
    look_on : over how many frames it is looked for again where it is lost; fewer after what looks like a cut.
    so_far : called with each frame that is there.

    Returns
    -------
    The lock with what was solved. Each way stops where it is lost and not found again; both are said in `lost`.
    """
    start = first.frame
    old = {entry.frame: entry for entry in lock.solved}
    entries, lost, ways = {start: first}, list[str](), list[range]()
    for side, name, way in (
        ("forward", mark("Forward"), range(start + 1, frames[-1] + 1)),
        ("backward", mark("Backward"), range(start - 1, frames[0] - 1, -1)),
    ):
        if direction in (side, "both"):
            ways.append(way)
        else:
            entries |= {frame: old[frame] for frame in way if frame in old}
            lost += [words for words in lock.lost if words.startswith((name, say(name)))]
    total, done = max(1, sum(len(way) for way in ways)), 0

    def as_it_is() -> Lock:
        return lock.but(solved=tuple(entries[frame] for frame in sorted(entries)), lost=tuple(lost))

    for way in ways:
        follow, previous, since, why, held = begin(), first, 0, "", list[int]()
        if missing_only:
            entries |= {frame: old[frame] for frame in way if frame in old}
        for frame in way:
            progress(done / total, say("{name}: frame {frame}", name=lock.name, frame=frame))
            entry, problem = follow(frame, previous)
            done += 1
            stays = missing_only and frame in old
            if stays:
                entry = old[frame]
            if entry is not None and (stays or not since or entry.residual_px <= max(AGAIN_PX, previous.residual_px)):
                if since:
                    lost[-1] += say(" Found again on frame {frame}.", frame=frame)
                entries[frame] = previous = entry
                held.append(frame)
                since = 0
                so_far(as_it_is)
                continue
            if not since:
                why = problem
                side = say("Forward") if frame > start else say("Backward")
                lost.append(say("{side}: lost on frame {frame}: {problem}", side=side, frame=frame, problem=problem))
            since += 1
            told = english(problem)
            over = FLASH if BLANK in told else min(look_on, FLASH) if CUT in told else look_on
            if since > over or any(words in told for words in FINAL):
                break
        if since and UNTOLD in english(why) and 0 < len(held) < FEW and not missing_only:
            for frame in held:  # what hardly tells the next frame did not tell these
                del entries[frame]
            side = say("Forward") if way[0] > start else say("Backward")
            lost[-1] = say("{side}: lost on frame {frame}: {problem}", side=side, frame=way[0], problem=why)
    progress(1.0, say("{name}: done", name=lock.name))
    return as_it_is()
