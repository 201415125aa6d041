"""Pictures as a codec gives them back, in memory: what compression does to a plate, done to something else as well."""

from __future__ import annotations

import io
from collections.abc import Sequence
from typing import Any

import av
import numpy as np
from numpy.typing import NDArray

from ..words import say
from .errors import MediaError

Array = NDArray[np.float32]
LEAST_SIDE = 16  # pixels, that the encoder takes
MOST_QUANTISER = 51  # ITU-T H.264, 7.4.2.2, of eight bits


def coded_anew(frames: Sequence[Array], quantiser: float) -> list[Array]:
    """Frames as H.264 of eight bits and 4:2:0 gives them back, each quantised by about the same step.

    Parameters
    ----------
    frames : coded values, (h, w, 3), 0…1, of one even size. quantiser : H.264's parameter for frames that are predicted
        (ITU-T H.264, 8.5; the step doubles every 6); it is rounded.

    Raises
    ------
    MediaError : they cannot be encoded.

    Example
    -------
    >>> seen = np.repeat(np.random.default_rng(1).random((32, 48, 1), np.float32), 3, axis=2)
    >>> fine, coarse = (np.abs(coded_anew([seen, seen], step)[1] - seen).mean() for step in (4, 40))
    >>> bool(fine < 0.5 * coarse)
    True
    """
    height, width = frames[0].shape[:2]
    if min(height, width) < LEAST_SIDE or height % 2 or width % 2:
        raise MediaError(say("A picture of {width}×{height} cannot be compressed.", width=width, height=height))
    file, step = io.BytesIO(), int(np.clip(round(quantiser), 0, MOST_QUANTISER))
    try:
        with av.open(file, "w", format="mp4") as out:
            stream: Any = out.add_stream("libx264", rate=24, options={"qp": str(step), "threads": "1"})
            stream.width, stream.height, stream.pix_fmt = width, height, "yuv420p"
            for frame in frames:
                codes = np.clip(np.round(frame * 255), 0, 255).astype(np.uint8)
                out.mux(stream.encode(av.VideoFrame.from_ndarray(np.ascontiguousarray(codes), format="rgb24")))
            out.mux(stream.encode())
        file.seek(0)
        with av.open(file, "r") as film:
            seen = [frame.to_ndarray(format="rgb24") for frame in film.decode(video=0)]
        return [np.asarray(codes / np.float32(255), np.float32) for codes in seen]
    except (av.error.FFmpegError, ValueError) as problem:
        raise MediaError(say("A picture cannot be compressed: {problem}", problem=str(problem))) from problem
