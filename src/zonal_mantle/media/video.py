"""Video files, frame by frame, through PyAV."""

from __future__ import annotations

import threading
from fractions import Fraction
from pathlib import Path
from typing import Any

import av
import numpy as np
from av.video.reformatter import ColorRange, Colorspace, Interpolation
from numpy.typing import NDArray

from .errors import MediaError

Array = NDArray[np.float32]
# cubic chroma at full precision, the same on every machine
EXACT = (
    Interpolation.BICUBIC
    | Interpolation.FULL_CHR_H_INT
    | Interpolation.FULL_CHR_H_INP
    | Interpolation.ACCURATE_RND
    | Interpolation.BITEXACT
)
VIDEO_SUFFIXES = {".mp4", ".mov", ".mkv", ".m4v", ".avi", ".mxf", ".webm"}

PREDICTING = {"h264", "hevc", "vp8", "vp9", "av1", "libdav1d", "mpeg4", "mpeg2video", "mpeg1video", "vc1", "wmv3"}


class VideoReader:
    """A video whose frames can be asked for by number, in any order. Safe to use from several threads.

    Raises
    ------
    MediaError : the file is missing or holds no picture stream.
    """

    def __init__(self, path: Path) -> None:
        if not path.exists():
            raise MediaError(f"{path.name} is missing from {path.parent}.")
        self.path = path
        self._lock = threading.Lock()
        try:
            self._container = av.open(str(path))
        except (av.error.FFmpegError, ValueError) as problem:
            raise MediaError(f"{path.name} cannot be read as video: {problem}.") from problem
        if not self._container.streams.video:
            raise MediaError(f"{path.name} holds no picture stream.")
        self._stream = self._container.streams.video[0]
        self._stream.thread_type = "AUTO"
        self._times = self._index()
        if not self._times:
            raise MediaError(f"{path.name} holds no frames.")
        self._decoder: Any = None
        self._next = -1

    def _index(self) -> list[int]:
        times: list[int] = []
        try:
            for packet in self._container.demux(self._stream):
                if packet.pts is not None and packet.size:
                    times.append(packet.pts)
        except av.error.FFmpegError:
            pass  # a file cut short: the frames up to there can still be read
        return sorted(times)

    @property
    def count(self) -> int:
        """How many frames there are."""
        return len(self._times)

    @property
    def size(self) -> tuple[int, int]:
        """Width and height."""
        return self._stream.codec_context.width, self._stream.codec_context.height

    @property
    def bits_per_pixel(self) -> float | None:
        """Bits that a pixel of a frame takes in the file on average, where the codec predicts frames from one another
        and loses what it leaves out; None for the others."""
        if self._stream.codec_context.name not in PREDICTING:
            return None
        width, height = self.size
        return self.path.stat().st_size * 8 / max(width * height * self.count, 1)

    @property
    def rate(self) -> Fraction:
        """Frames a second."""
        return Fraction(self._stream.average_rate or self._stream.base_rate or 24)

    @property
    def pixel_aspect(self) -> float:
        """Width of a pixel against its height."""
        return float(self._stream.sample_aspect_ratio or 1)

    @property
    def transfer(self) -> str:
        """The tagged transfer curve, as text; empty where there is no tag."""
        context = self._stream.codec_context
        value = int(getattr(context, "color_trc", 2) or 2)
        wide = int(getattr(context, "color_primaries", 2) or 2) == 9 or value in (14, 15)
        if wide and value in (1, 2, 6, 14, 15):
            return "bt2020"
        # code points of ITU-T H.273, table 3
        return {
            1: "bt709",
            6: "smpte170m",
            8: "linear",
            13: "iec61966-2-1 srgb",
            16: "smpte2084",
            18: "arib-std-b67",
        }.get(value, "")

    def read(self, index: int) -> Array:
        """One frame, coded as in the file, full-range RGB 0…1. (h, w, 3) float32.

        Raises
        ------
        MediaError : there is no such frame, or it cannot be decoded.
        """
        if not 0 <= index < len(self._times):
            raise MediaError(f"{self.path.name} has frames 1–{len(self._times)}; {index + 1} was asked for.")
        with self._lock:
            try:
                frame = self._decode(index)
            except av.error.FFmpegError as problem:
                self._decoder = None
                raise MediaError(f"{self.path.name} is damaged at frame {index + 1}: {problem}.") from problem
            if frame is None:
                self._decoder = None
                raise MediaError(f"{self.path.name} is cut short: frame {index + 1} cannot be read.")
            return self._to_rgb(frame)

    def _decode(self, index: int) -> av.VideoFrame | None:
        wanted = self._times[index]
        if self._decoder is None or index < self._next or index > self._next + 24:
            self._container.seek(wanted, stream=self._stream, backward=True, any_frame=False)
            self._decoder = self._container.decode(self._stream)
        for frame in self._decoder:
            if frame.pts is not None and frame.pts >= wanted:
                self._next = index + 1
                return frame if frame.pts == wanted else None
        return None

    def _to_rgb(self, frame: av.VideoFrame) -> Array:
        matrix = frame.colorspace
        if int(matrix) == 10:  # BT.2020 of constant luminance: its matrix is the nearest that there is
            matrix = Colorspace.BT2020
        known = (Colorspace.ITU709, Colorspace.ITU601, Colorspace.SMPTE240M, Colorspace.FCC, Colorspace.BT2020)
        if matrix not in known:
            matrix = Colorspace.ITU709 if frame.height >= 720 else Colorspace.ITU601
        full = "j" in frame.format.name or frame.color_range == ColorRange.JPEG or frame.format.is_rgb
        picture = frame.reformat(
            format="rgb48le",
            src_colorspace=matrix,
            dst_colorspace=matrix,
            src_color_range=ColorRange.JPEG if full else ColorRange.MPEG,
            dst_color_range=ColorRange.JPEG,
            interpolation=EXACT,
        )
        return (picture.to_ndarray().astype(np.float32)) * np.float32(1 / 65535)
