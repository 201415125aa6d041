"""Pictures put through H.264 by FFmpeg, as cameras and editors do."""

import io
from pathlib import Path

import av
import numpy as np


def write_h264(file: Path | io.BytesIO, frames: list[np.ndarray], quality: int) -> None:
    """Writes coded frames (h, w, 3), 0…1, of even sizes, at a constant rate factor."""
    with av.open(file, "w", format="mp4") as out:
        stream = out.add_stream("libx264", rate=24, options={"crf": str(quality)})
        stream.height, stream.width = frames[0].shape[:2]
        stream.pix_fmt = "yuv420p"
        for frame in frames:
            picture = np.clip(np.round(frame * 255), 0, 255).astype(np.uint8)
            out.mux(stream.encode(av.VideoFrame.from_ndarray(np.ascontiguousarray(picture), format="rgb24")))
        out.mux(stream.encode())


def coded_anew(frames: list[np.ndarray], quality: int) -> list[np.ndarray]:
    """Frames as they come back."""
    file = io.BytesIO()
    write_h264(file, frames, quality)
    file.seek(0)
    with av.open(file) as film:
        return [each.to_ndarray(format="rgb24").astype(np.float32) / 255 for each in film.decode(video=0)]
