"""A lock's readings."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from ..shot.lock import Lock

SHARE_UNDER = 0.94  # of marks found on six photographs, whose error was under SHOWN_TIMES what was said of it


def likely(alike: float) -> float:
    """How likely an error is under the number shown, 0…1, where what is seen is so much alike (0…1): never surer than
    locks were that could be looked up (benchmarks/shutters.py)."""
    return SHARE_UNDER * float(min(max(alike, 0.0), 1.0))


@dataclass(frozen=True)
class LockReading:
    """Root mean square and worst residual in px, the worst frame, and how many of the shot's frames are solved. The
    reference frame is off by nothing: a lock that holds no other is told by `solved` alone."""

    rms_px: float
    worst_px: float
    worst_frame: int
    solved: int
    wanted: int


def read_lock(lock: Lock, frames: range) -> LockReading | None:
    """What a lock measures of itself over the shot; None before it is solved."""
    entries = [entry for entry in lock.solved if entry.frame in frames]
    moved = [entry for entry in entries if entry.frame != lock.reference_frame] or entries
    if not moved:
        return None
    worst = max(moved, key=lambda entry: entry.residual_px)
    rms = float(np.sqrt(np.mean([entry.residual_px**2 for entry in moved])))
    return LockReading(rms, worst.residual_px, worst.frame, len(entries), len(frames))
