"""Two solves made into one."""

from __future__ import annotations

import numpy as np

from ..shot.lock import Lock
from ..words import say
from .errors import LockError
from .runs import flat


def joined(first: Lock, second: Lock) -> Lock:
    """The first lock, with the frames that only the second has, carried over where both know a frame.

    With M and N the motions from either reference frame, and s a shared frame, a new frame f gets N(f) · N(s)⁻¹ ·
    M(s). Of the shared frames the one where both are surest is taken.

    Raises
    ------
    LockError : the two share no frame.
    """
    own = {entry.frame: entry for entry in first.solved}
    other = {entry.frame: entry for entry in second.solved}
    shared = sorted(set(own) & set(other))
    if not shared:
        raise LockError(
            say(
                "{name} and {other} share no solved frame. Solve one of them further, so that they overlap.",
                name=first.name,
                other=second.name,
            )
        )
    seam = min(shared, key=lambda frame: own[frame].residual_px + other[frame].residual_px)
    m, n = (np.array(each[seam].homography).reshape(3, 3) for each in (own, other))
    bridge = np.linalg.inv(n) @ m
    for frame, entry in other.items():
        if frame not in own:
            motion = np.array(entry.homography).reshape(3, 3) @ bridge
            residual = float(np.hypot(entry.residual_px, own[seam].residual_px))
            own[frame] = entry.but(homography=flat(motion / motion[2, 2]), marks=(), residual_px=residual)
    return first.but(solved=tuple(own[frame] for frame in sorted(own)), lost=())
