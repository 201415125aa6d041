"""Pixels at hand: plates, paintings and mattes, read or made once and kept within bounds."""

from __future__ import annotations

from collections.abc import Callable
from typing import TypeVar

import cv2
import numpy as np
from numpy.typing import NDArray

from ..matte import Made, MatteError, Surroundings, build_matte
from ..media import read_frame
from ..place.minify import shrunk
from ..place.rim import calm_rim
from ..place.transform import lock_matrix, shape_matrix
from ..place.warp import warp, with_alpha
from ..shot import DifferencePull, Matte, Shot, Source
from .cache import ByteCache

Array = NDArray[np.float32]
T = TypeVar("T")
MIB = 1 << 20


class PixelStore:
    """Keeps what frames are made of. `limit_bytes` bounds plates and mattes, and again paintings."""

    def __init__(self, limit_bytes: int = 900 * MIB, painting_bytes: int = 400 * MIB) -> None:
        self._frames = ByteCache(limit_bytes)
        self._paintings = ByteCache(painting_bytes)
        self._small: dict[tuple[object, ...], object] = {}

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

    def kept(self, key: tuple[object, ...], make: Callable[[], T]) -> T:
        """A small thing that was worked out of pixels, or works it out."""
        if key not in self._small:
            while len(self._small) > 256:
                self._small.pop(next(iter(self._small)))
            self._small[key] = make()
        found: T = self._small[key]  # type: ignore[assignment]
        return found

    def calm(self, source: Source, frame: int) -> Array:
        """The calm continuation of a painting beyond its rim; see `place.rim.calm_rim`."""
        key = ("calm", source, frame)
        return np.asarray(self._paintings.make(key, lambda: calm_rim(self.painting(source, frame))), np.float32)

    def matte(self, shot: Shot, matte: Matte, frame: int, scale: float = 1.0) -> Made:
        """A matte on a frame. One that cannot be made keeps all of the plate and says why in `problem`."""

        def make() -> Made:
            plate = shot.plate_source
            assert plate is not None
            pixels = self.plate(plate, frame, scale)
            try:
                return build_matte(pixels, matte, frame, scale, self._around(shot, scale))
            except MatteError as problem:
                return Made(np.ones(pixels.shape[:2], np.float32), problem=str(problem))

        made = self._frames.make(_matte_key(shot, matte, frame, scale), make)
        assert isinstance(made, Made)
        return made

    def matte_steps(self, shot: Shot, matte: Matte, frame: int) -> dict[str, Array]:
        """A matte's alpha after each step, by the step's name, at full size."""
        key = (*_matte_key(shot, matte, frame, 1.0), "steps")
        plate = shot.plate_source
        assert plate is not None
        made = self._frames.get(key)
        if made is None:
            try:
                around = self._around(shot, 1.0)
                made = build_matte(self.plate(plate, frame), matte, frame, 1.0, around, with_steps=True)
            except MatteError:
                return {}
            self._frames.put(key, made)
        return dict(made.steps)

    def _around(self, shot: Shot, scale: float) -> Surroundings:
        plate = shot.plate_source
        assert plate is not None

        def clean(pull: DifferencePull, frame: int) -> Array | None:
            if pull.clean is None:
                return None
            source = shot.source(pull.clean)
            picture = self.painting(source, frame)
            size = proxy_size(shot.size, scale)
            fit = np.diag([size[0] / shot.size[0], size[1] / shot.size[1], 1.0])
            motion = lock_matrix(shot, pull.rides, frame)
            whole = np.diag([shot.size[0] / source.width, shot.size[1] / source.height, 1.0])
            return warp(picture, fit @ motion @ whole, size)

        return Surroundings(
            plate=lambda frame: self.plate(plate, frame, scale),
            lock=lambda id, frame: lock_matrix(shot, id, frame),
            ride=lambda shape, frame: shape_matrix(shot, shape, frame),
            clean=clean,
            frames=shot.frames,
            reference=lambda id: shot.lock(id).reference_frame,
        )

    def plate_if_there(self, source: Source, frame: int) -> Array | None:
        """The plate where it is at hand already."""
        pixels: Array | None = self._frames.get(("plate", source, frame))
        return pixels

    def matte_if_there(self, shot: Shot, matte: Matte, frame: int) -> Made | None:
        """A matte at full size where it is at hand already."""
        made: Made | None = self._frames.get(_matte_key(shot, matte, frame, 1.0))
        return made

    def clear(self) -> None:
        """Forgets everything, so that files are read anew."""
        self._frames.clear()
        self._paintings.clear()
        self._small.clear()


def _matte_key(shot: Shot, matte: Matte, frame: int, scale: float) -> tuple[object, ...]:
    """All that a matte on a frame depends on."""
    locks = tuple(shot.lock(id) for id in sorted(matte.locks))
    sources = tuple(shot.source(id) for id in sorted(matte.sources))
    return ("matte", shot.plate_source, matte, locks, sources, frame, scale)


def proxy_size(size: tuple[int, int], scale: float) -> tuple[int, int]:
    """Width and height of a proxy."""
    return max(1, round(size[0] * scale)), max(1, round(size[1] * scale))


def _three(pixels: Array) -> Array:
    return np.ascontiguousarray(pixels[..., :3])
