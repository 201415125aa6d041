"""Pixels at hand: plates, paintings and mattes, read or made once and kept within bounds."""

from __future__ import annotations

import cv2
import numpy as np
from numpy.typing import NDArray

from ..matte import build_matte
from ..media import read_frame
from ..place.minify import shrunk
from ..place.warp import with_alpha
from ..shot import Matte, Source
from .cache import ByteCache

Array = NDArray[np.float32]
MIB = 1 << 20


class PixelStore:
    """Keeps what frames are made of. `limit_bytes` bounds plates and mattes, and again paintings."""

    def __init__(self, limit_bytes: int = 900 * MIB, painting_bytes: int = 400 * MIB) -> None:
        self._frames = ByteCache(limit_bytes)
        self._paintings = ByteCache(painting_bytes)

    def plate(self, source: Source, frame: int, scale: float = 1.0) -> Array:
        """The plate on a frame, (h, w, 3) float32; a proxy is the mean over the pixels it stands for."""
        if scale == 1.0:
            return np.asarray(
                self._frames.make(("plate", source, frame), lambda: _three(read_frame(source, frame))),
                np.float32,
            )

        def small() -> Array:
            full = self._frames.get(("plate", source, frame))
            if full is None:
                full = _three(read_frame(source, frame))
            size = proxy_size((source.width, source.height), scale)
            return np.asarray(cv2.resize(full, size, interpolation=cv2.INTER_AREA))

        return np.asarray(self._frames.make(("plate", source, frame, scale), small), np.float32)

    def painting(self, source: Source, frame: int, steps: tuple[int, int] = (0, 0)) -> Array:
        """A painting, shrunk by quarter octaves; (h, w, 4) float32, premultiplied."""
        frame = source.start if source.kind == "still" else min(max(frame, source.start), source.end)

        def full() -> Array:
            return with_alpha(read_frame(source, frame))

        def small() -> Array:
            return shrunk(self.painting(source, frame), steps)

        key = ("painting", source, frame, *steps)
        return np.asarray(self._paintings.make(key, full if steps == (0, 0) else small), np.float32)

    def matte(self, plate: Source, matte: Matte, frame: int, scale: float = 1.0) -> Array:
        """A matte on a frame, (h, w) float32."""
        key = ("matte", plate, matte, frame, scale)
        return np.asarray(
            self._frames.make(key, lambda: build_matte(self.plate(plate, frame, scale), matte, frame, scale)),
            np.float32,
        )

    def plate_if_there(self, source: Source, frame: int) -> Array | None:
        """The plate where it is at hand already."""
        pixels: Array | None = self._frames.get(("plate", source, frame))
        return pixels

    def matte_if_there(self, plate: Source, matte: Matte, frame: int) -> Array | None:
        """A matte at full size where it is at hand already."""
        alpha: Array | None = self._frames.get(("matte", plate, matte, frame, 1.0))
        return alpha

    def clear(self) -> None:
        """Forgets everything, so that files are read anew."""
        self._frames.clear()
        self._paintings.clear()


def proxy_size(size: tuple[int, int], scale: float) -> tuple[int, int]:
    """Width and height of a proxy."""
    return max(1, round(size[0] * scale)), max(1, round(size[1] * scale))


def _three(pixels: Array) -> Array:
    return np.ascontiguousarray(pixels[..., :3])
