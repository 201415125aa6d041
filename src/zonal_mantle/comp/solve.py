"""Solving a shot's lock from its plate."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
from numpy.typing import NDArray

from ..lock import LockError, lock_feed, solve_point
from ..lock.point import Direction
from ..shot import Shot
from .store import PixelStore


def solve_lock(
    shot: Shot,
    lock_id: str,
    store: PixelStore,
    direction: Direction = "both",
    progress: Callable[[float, str], None] = lambda share, words: None,
) -> Shot:
    """The shot with a lock solved on its plate.

    Raises
    ------
    LockError : the lock cannot be solved as it is set up.
    MediaError : a frame of the plate cannot be read.
    """
    source = shot.plate_source
    if source is None:
        raise LockError("The shot has no plate to lock onto. Open a plate first.")
    lock = shot.lock(lock_id)

    def feed_of(frame: int) -> NDArray[np.float32]:
        return lock_feed(store.plate(source, frame), lock.channel, lock.filter_px)

    return shot.with_lock(solve_point(lock, feed_of, shot.frames, direction, progress))
