"""The noise of a shot's plate, measured on some of its frames."""

from __future__ import annotations

from collections.abc import Callable, Sequence

import numpy as np
from numpy.typing import NDArray

from ..match.errors import MatchError
from ..match.grain import unit_grain, with_grain
from ..match.noise import Noise, measure_noise, pooled
from ..match.sharpness import LUMA
from ..media.curves import coded
from ..media.errors import MediaError
from ..media.picture import picture_of
from ..place.transform import reference_to_frame
from ..shot import Shot
from ..shot.match import GrainModel
from ..words import say
from .digest import digest
from .pictures import Pictures, known

Progress = Callable[[float, str], None]
NOISE_FRAMES, NOISE_PARTS = 4, 3
NOISES_KNOWN = 64  # in one process


def _quiet(share: float, words: str) -> None:
    pass


def measured_grain(shot: Shot, pictures: Pictures, progress: Progress = _quiet) -> GrainModel:
    """The plate's own noise, as a model to make it anew by.

    Raises
    ------
    MatchError : nothing of the plate is flat or shows the same on two frames.
    """
    if shot.plate_source is None:
        raise MatchError(say("The shot has no plate. Open one first."))
    try:
        return plate_noise(shot, pictures, progress).model
    except ValueError as problem:
        raise MatchError(str(problem)) from problem


def plate_noise(
    shot: Shot, pictures: Pictures, progress: Progress = _quiet, parts: int = NOISE_PARTS, count: int = NOISE_FRAMES
) -> Noise:
    """The plate's noise, from `count` frames in each of some parts of the shot; measured once for these pixels.

    Raises
    ------
    ValueError : nothing of it is flat or shows the same on two frames.
    """
    source = shot.plate_source
    assert source is not None
    rest = max(len(shot.frames) - count, 0)
    starts = {round(k * rest / (parts + 1)) for k in range(1, parts + 1)}
    runs = [list(shot.frames[start : start + count]) for start in sorted(starts)]
    found: list[Noise] = []
    unread: MediaError | None = None
    for k, frames in enumerate(runs):
        steps: list[list[NDArray] | None] = [None]  # as the picture moves on the whole, and along each lock
        for lock in shot.locks:
            if len(frames) > 1 and all(lock.at(f) is not None for f in frames):
                ways = [
                    reference_to_frame(shot, lock.id, b) @ np.linalg.inv(reference_to_frame(shot, lock.id, a))
                    for a, b in zip(frames, frames[1:])
                ]
                steps.append([way / way[2, 2] for way in ways])

        def measure(k: int = k, frames: list[int] = frames, steps: list[list[NDArray] | None] = steps) -> list[Noise]:
            codes, each = [coded(pictures.plate(source, f)) for f in frames], []
            for turn, ways in enumerate(steps):
                progress((k + turn / len(steps)) / len(runs), say("Measuring grain"))
                each.append(measure_noise(codes, [None] * len(codes), ways))
            return [noise for noise in each if noise is not None]

        key = digest((tuple(picture_of(source, f) for f in frames), tuple(np.array(each) for each in steps[1:])))
        try:
            found += known(("noise", key), measure, NOISES_KNOWN)
        except MediaError as problem:  # the other places tell it as well
            unread = problem
    if not found and unread is not None:
        raise unread
    return pooled(found)


def grain_luma(model: GrainModel, pictures: Sequence[NDArray[np.float32]]) -> list[NDArray[np.float32]]:
    """Noise made anew on some pictures, (h, w, 3) scene-linear each: what it adds to their luma, (h, w) each."""
    out = []
    for number, picture in enumerate(pictures):
        height, width = picture.shape[:2]
        rgba = np.dstack([picture, np.ones((height, width), np.float32)]).astype(np.float32)
        grain = with_grain(rgba, unit_grain(model, (width, height), 1, number), model, np.ones((1, width), np.float32))
        out.append(np.asarray((grain[..., :3] - picture) @ LUMA, np.float32))
    return out
