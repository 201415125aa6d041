"""A lock while it is being solved: what is known of it by now is seen in the picture and on the rail."""

from __future__ import annotations

import time
from collections.abc import Callable
from typing import TYPE_CHECKING

from PySide6.QtCore import QObject, Signal

from ..comp.scheduler import Job
from ..lock.runs import SoFar
from ..shot import Lock, Shot

if TYPE_CHECKING:
    from .desk import Desk

EVERY_S = 1.0  # a lock is shown anew after so long


class Solving(QObject):
    """What a solve has found so far, as it is looked at until the solve is over."""

    _came = Signal(object, object)

    def __init__(self, desk: Desk) -> None:
        super().__init__()
        self.desk = desk
        self._lock: Lock | None = None
        self._known: tuple[Shot | None, Lock | None, Shot] = (None, None, Shot())
        self._came.connect(self._put)

    def listens(self, job: Job) -> SoFar:
        """What a solve calls, on its own thread, with each frame that is there."""
        last = time.monotonic()

        def so_far(made: Callable[[], Lock]) -> None:
            nonlocal last
            if time.monotonic() - last >= EVERY_S:
                self._came.emit(job, made())
                last = time.monotonic()

        return so_far

    def _put(self, job: Job, lock: Lock) -> None:
        if job is self.desk.job:
            self._lock = lock
            self.desk.view_changed.emit()

    def over(self) -> None:
        """The solve has ended, one way or the other."""
        if self._lock is not None:
            self._lock = None
            self.desk.view_changed.emit()

    def seen(self, lock: Lock | None) -> Lock | None:
        """A lock of the shot as it is by now."""
        return self.shot.lock(lock.id) if lock is not None and self._lock is not None else lock

    @property
    def shot(self) -> Shot:
        """The shot with what is known by now of the lock that is being solved."""
        shot, lock = self.desk.shot, self._lock
        if lock is None or all(each.id != lock.id for each in shot.locks):
            return shot
        if self._known[0] is not shot or self._known[1] is not lock:
            now = shot.lock(lock.id).but(solved=lock.solved, points=lock.points, lens=lock.lens)
            self._known = (shot, lock, shot.with_lock(now))
        return self._known[2]
