"""Marks that are so few that any motion fits them: nothing in them tells how far it is off elsewhere."""

from __future__ import annotations

import numpy as np

from ..geometry import carry
from ..shot.lock import Lock, LockFrame
from ..words import say
from .fit import POINTS_NEEDED, possible_motion

SAID_PX = 0.2  # of disagreement that was seen before, from which it is worth a word


def unchecked(lock: Lock) -> Lock:
    """A point lock with what its marks disagreed by, while there were enough of them to tell, counted as error on the
    frames beyond, where too few are left.

    Example
    -------
    >>> from zonal_mantle.shot import Mark
    >>> places = [(0.0, 0.0), (100.0, 0.0), (0.0, 100.0)]
    >>> ways = [(places[0], places[1], (3.0, 100.0)), (places[0], places[1], None)]
    >>> still = (1.0, 0.0, 0.0, 0.0, 1.0, 0.0, 0.0, 0.0, 1.0)
    >>> solved = tuple(LockFrame(frame=k + 1, homography=still, marks=marks) for k, marks in enumerate(ways))
    >>> marks = tuple(Mark(x=x, y=y) for x, y in places)
    >>> found = unchecked(Lock(id="l", name="L", reference_frame=0, marks=marks, solved=solved))
    >>> [round(entry.residual_px, 2) for entry in found.solved], len(found.remarks)
    ([0.0, 1.73], 1)
    """
    entries, remarks = {entry.frame: entry for entry in lock.solved}, list(lock.remarks)
    start = lock.reference_frame
    for side in (sorted(f for f in entries if f > start), sorted((f for f in entries if f < start), reverse=True)):
        seen, said = 0.0, False
        for frame in side:
            entry = entries[frame]
            off, count = _disagree(lock, entry)
            if count > POINTS_NEEDED[possible_motion(lock.moves, count)]:
                seen = off
            elif seen > 0:
                entries[frame] = entry.but(residual_px=max(entry.residual_px, seen))
                if seen > SAID_PX and not said:
                    said = True
                    remarks.append(_words(lock, frame, count, seen))
    return lock.but(solved=tuple(entries[frame] for frame in sorted(entries)), remarks=tuple(remarks))


def _disagree(lock: Lock, entry: LockFrame) -> tuple[float, int]:
    """By how much the marks that live on a frame lie beside their motion, px rms, and how many they are; of those that
    were set on the reference frame."""
    pairs = [
        ((mark.x, mark.y), place)
        for mark, place in zip(lock.marks, entry.marks)
        if place is not None and mark.frame in (None, lock.reference_frame)
    ]
    if not pairs:
        return 0.0, 0
    homes, places = np.array(pairs, float).transpose(1, 0, 2)
    off = carry(np.reshape(entry.homography, (3, 3)), homes) - places
    return float(np.sqrt((off**2).sum(axis=1).mean())), len(pairs)


def _words(lock: Lock, frame: int, count: int, seen_px: float) -> str:
    return say(
        "From frame {frame} on {count} of {all} marks are left, which fit any motion of their kind. They disagreed by "
        "{seen_px:.1f} px while there were more: set more marks there.",
        frame=frame,
        count=count,
        all=len(lock.marks),
        seen_px=seen_px,
    )
