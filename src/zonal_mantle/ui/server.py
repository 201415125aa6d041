"""Pictures for the viewer from a thread of their own: the newest request wins, idle time fills the cache."""

from __future__ import annotations

import logging
import threading
from dataclasses import dataclass

from PySide6.QtCore import QObject, Signal

from ..comp import Look, PixelStore, ViewName, view
from ..comp.cache import ByteCache
from ..shot import MantleError, Shot

log = logging.getLogger(__name__)
MIB = 1 << 20


@dataclass(frozen=True)
class Wanted:
    """One picture: all that it depends on. Shots count by their hash, which is taken once."""

    shot_hash: int
    frame: int
    view: ViewName
    zone: str | None
    scale: float
    look: Look


class FrameServer(QObject):
    """Makes pictures for the screen. `ready` carries the wanted picture and its codes, `failed` a sentence."""

    ready = Signal(object, object)
    failed = Signal(object, str)
    cached = Signal()

    def __init__(self, store: PixelStore, limit_bytes: int = 640 * MIB) -> None:
        super().__init__()
        self.store = store
        self.cache = ByteCache(limit_bytes)
        self._condition = threading.Condition()
        self._shot: Shot | None = None
        self._newest: list[Wanted] = []
        self._ahead: list[Wanted] = []
        self._closing = False
        self._thread = threading.Thread(target=self._run, daemon=True, name="frames")
        self._thread.start()

    def request(self, shot: Shot, wanted: list[Wanted], ahead: list[Wanted]) -> None:
        """Replaces whatever was asked for before. `ahead` is made when nothing else is to do."""
        with self._condition:
            self._shot, self._newest, self._ahead = shot, list(wanted), list(ahead)
            self._condition.notify()

    def close(self) -> None:
        """Ends the thread."""
        with self._condition:
            self._closing = True
            self._newest, self._ahead = [], []
            self._condition.notify()
        self._thread.join(5)

    def _next(self) -> tuple[Shot, Wanted, bool] | None:
        with self._condition:
            while not self._closing:
                if self._shot is not None and self._newest:
                    return self._shot, self._newest.pop(0), True
                if self._shot is not None and self._ahead:
                    return self._shot, self._ahead.pop(0), False
                self._condition.wait()
            return None

    def _run(self) -> None:
        while (task := self._next()) is not None:
            shot, wanted, shown = task
            codes = self.cache.get(wanted)
            try:
                if codes is None:
                    codes = view(shot, wanted.frame, wanted.view, wanted.zone, self.store, wanted.scale, wanted.look)
                    if wanted.scale == 1.0:
                        self.cache.put(wanted, codes)
                        if not shown and self.cache.used > self.cache.limit - 2 * codes.nbytes:
                            self._ahead = []
                        self.cached.emit()
                if shown:
                    self.ready.emit(wanted, codes)
            except MantleError as problem:
                self.failed.emit(wanted, str(problem))
            except Exception as problem:
                log.exception("A frame could not be made")
                self.failed.emit(wanted, f"Frame {wanted.frame} could not be made: {problem}.")
