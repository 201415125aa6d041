"""Small pictures, made on a worker: what is asked for is there at once, or later and told."""

from __future__ import annotations

from collections.abc import Callable, Hashable
from typing import Any

import numpy as np
from PySide6.QtCore import QObject, Signal
from PySide6.QtGui import QImage

from ..comp import Job, Scheduler
from ..comp.scheduler import AHEAD

MOST = 256


class Thumbs(QObject):
    """Images by place, for what they were made of. Parts are compared by identity: values of the shot never change."""

    ready = Signal(object)  # the place
    _made = Signal(object, object, object)

    def __init__(self, scheduler: Scheduler) -> None:
        super().__init__()
        self._scheduler = scheduler
        self._images: dict[Hashable, tuple[tuple[Any, ...], QImage | None, str]] = {}
        self._asked: dict[Hashable, tuple[Any, ...]] = {}
        self._made.connect(self._take)

    def get(
        self, place: Hashable, parts: tuple[Any, ...], make: Callable[[], tuple[np.ndarray | None, str]]
    ) -> tuple[QImage | None, str]:
        """The image at a place and words on it, made of `parts`; what was there before until `make` has made it anew.
        `make` runs on a worker; what it raises counts as no image."""
        known = self._images.get(place)
        if known is not None and _same(known[0], parts):
            return known[1], known[2]
        if not _same(self._asked.get(place, ()), parts):
            self._asked[place] = parts
            job = Job(lambda _: make(), on_end=lambda made, error: self._made.emit(place, parts, made))
            self._scheduler.submit(f"thumb {place}", job, AHEAD)
        return (known[1], known[2]) if known is not None else (None, "")

    def _take(self, place: Hashable, parts: tuple[Any, ...], made: tuple[np.ndarray | None, str] | None) -> None:
        if not _same(self._asked.get(place, ()), parts):
            return
        codes, words = made if made is not None else (None, "")
        image = None
        if codes is not None:
            image = QImage(codes.data, codes.shape[1], codes.shape[0], QImage.Format.Format_RGB32).copy()
        if len(self._images) >= MOST:
            self._images.pop(next(iter(self._images)))
        self._images[place] = (parts, image, words)
        self.ready.emit(place)


def _same(a: tuple[Any, ...], b: tuple[Any, ...]) -> bool:
    return len(a) == len(b) and all(x is y or (isinstance(x, str | int) and x == y) for x, y in zip(a, b))
