"""Video files, frame by frame, through PyAV."""

from __future__ import annotations

import threading
from collections.abc import Iterator
from fractions import Fraction
from functools import cached_property
from itertools import islice
from pathlib import Path
from typing import Any

import av
import numpy as np
from av.sidedata.encparams import VideoEncParams
from av.video.reformatter import ColorRange, Colorspace, Interpolation
from numpy.typing import NDArray

from ..paths import for_library, named, why_no_file
from ..shot.limits import MOST_FRAMES, MOST_PIXELS, MOST_SIDE
from ..words import say
from .errors import MediaError
from .still import guarded

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

QUANTISED = 12  # frames that tell how coarsely they are
ALPHA_BESIDE = {"vp8": "libvpx", "vp9": "libvpx-vp9"}  # codecs whose alpha is a layer of its own, and who reads both


class VideoReader:
    """A video whose frames can be asked for by number, in any order. Safe to use from several threads.

    Raises
    ------
    MediaError : the file is missing or holds no picture stream.
    """

    def __init__(self, path: Path) -> None:
        why = why_no_file(path)
        if why is not None:
            raise MediaError(f"{named(path)} {why}.")
        self.path = path
        self._lock = threading.Lock()
        words = say("cannot be read as video: it is damaged, or of a kind that is not known. Deliver it again.")
        self._container = guarded(path, lambda: av.open(for_library(path), metadata_errors="ignore"), words)
        if not self._container.streams.video:
            raise MediaError(say("{named} holds no picture stream.", named=named(path)))
        self._stream = self._container.streams.video[0]
        if self._stream.codec_context is None:
            raise MediaError(
                say("{named} is coded in a way that is not known. Deliver it in another codec.", named=named(path))
            )
        self._stream.thread_type = "AUTO"
        context = self._stream.codec_context
        self._layered = self._alpha_beside(context)
        # as the container tags them: decoding puts what the stream itself says in their place, which is often less
        self._curve, self._primaries = (
            int(getattr(context, name, 2) or 2) for name in ("color_trc", "color_primaries")
        )
        self._times = guarded(path, self._index, words)
        if not self._times:
            raise MediaError(say("{named} holds no frames.", named=named(path)))
        if len(self._times) > MOST_FRAMES:
            raise MediaError(
                say(
                    "{named} has more than {most_frames} frames. Deliver it in parts.",
                    named=named(path),
                    most_frames=MOST_FRAMES,
                )
            )
        self._decoder: Any = None
        self._next = -1
        self._quarter_turns = 0
        self._turns_known = False
        width, height = self._coded_size
        if min(width, height) < 1 or max(width, height) > MOST_SIDE or width * height > MOST_PIXELS:
            raise MediaError(
                say(
                    "{named} says that it is {width}×{height}, which cannot be. Deliver it again.",
                    named=named(path),
                    width=width,
                    height=height,
                )
            )

    def _alpha_beside(self, context: Any) -> Any:
        """What decodes a stream whose alpha is a layer beside its picture; None for the others."""
        if self._stream.metadata.get("alpha_mode") != "1" or context.name not in ALPHA_BESIDE:
            return None
        decoder = av.CodecContext.create(ALPHA_BESIDE[context.name], "r")
        decoder.extradata = context.extradata
        return decoder

    def _frames(self) -> Iterator[av.VideoFrame]:
        """All frames from where the file stands."""
        if self._layered is None:
            yield from self._container.decode(self._stream)
            return
        self._layered.flush_buffers()
        for packet in self._container.demux(self._stream):
            yield from self._layered.decode(packet)

    def _index(self) -> list[int]:
        """When each frame is shown, in the stream's own units. What an edit list cuts off does not count."""
        times: list[int] = []
        try:
            for packet in self._container.demux(self._stream):
                if packet.pts is not None and packet.size and not packet.is_discard:
                    times.append(packet.pts)
        except av.error.FFmpegError:
            pass  # a file cut short: the frames up to there can still be read
        return sorted(set(times))

    @property
    def count(self) -> int:
        """How many frames there are."""
        return len(self._times)

    @property
    def _coded_size(self) -> tuple[int, int]:
        return self._stream.codec_context.width, self._stream.codec_context.height

    @property
    def size(self) -> tuple[int, int]:
        """Width and height, as it is shown: turned as it is tagged."""
        width, height = self._coded_size
        return (height, width) if self.quarter_turns % 2 else (width, height)

    @property
    def quarter_turns(self) -> int:
        """By how many quarters its pictures are turned counter-clockwise to be upright, as it is tagged."""
        if not self._turns_known:
            with self._lock:
                frame = guarded(
                    self.path, lambda: self._decode(0), say("is damaged at its first frame. Deliver it again.")
                )
            self._quarter_turns = round((frame.rotation if frame is not None else 0) / 90) % 4
            self._turns_known = True
        return self._quarter_turns

    @property
    def has_alpha(self) -> bool:
        """Whether its pictures have an alpha of their own."""
        if self._layered is not None:
            return True
        format = self._stream.codec_context.format
        return format is not None and any(part.is_alpha for part in format.components)

    @property
    def uneven(self) -> tuple[float, float] | None:
        """How long its shortest and its longest frame are shown, seconds, where they differ by more than the rounding
        of its clock; None where they are alike."""
        steps = np.diff(np.array(self._times, np.float64)) * float(self._stream.time_base or 0)
        if len(steps) < 2 or steps.max() - steps.min() <= 2.5 * float(self._stream.time_base or 0):
            return None
        return (float(steps.min()), float(steps.max())) if steps.max() > 1.2 * steps.min() else None

    @property
    def bits_per_pixel(self) -> float | None:
        """Bits that a pixel of a frame takes in the file on average, where the codec predicts frames from one another
        and loses what it leaves out; None for the others."""
        if self._stream.codec_context.name not in PREDICTING:
            return None
        width, height = self.size
        size = guarded(self.path, lambda: self.path.stat().st_size, say("is gone. Deliver it again."))
        return size * 8 / max(width * height * self.count, 1)

    @cached_property
    def quantiser(self) -> float | None:
        """How coarsely frames are quantised: H.264's parameter (ITU-T H.264, 8.5; the step doubles every 6), as of a
        plate of eight bits, the median of some frames; None where a codec does not tell it."""
        told: list[float] = []
        try:
            with av.open(for_library(self.path), metadata_errors="ignore") as container:
                stream = container.streams.video[0]
                if stream.codec_context.name != "h264":
                    return None
                stream.codec_context.options = {"export_side_data": "venc_params"}
                for frame in islice(container.decode(stream), QUANTISED):
                    told += [
                        float(part.qp_map().mean()) for part in frame.side_data if isinstance(part, VideoEncParams)
                    ]
                told_as = stream.codec_context.format
                depth = told_as.components[0].bits if told_as else 8
        except (av.error.FFmpegError, RuntimeError):  # of what is damaged it is told where it is read
            return None
        return float(np.median(told)) - 6 * (depth - 8) if told else None

    @property
    def rate(self) -> Fraction:
        """Frames a second."""
        rate = Fraction(self._stream.average_rate or self._stream.base_rate or 24).limit_denominator(100_000)
        return rate if Fraction(1, 1000) <= rate <= 100_000 else Fraction(24)

    @property
    def pixel_aspect(self) -> float:
        """Width of a pixel against its height."""
        aspect = float(self._stream.sample_aspect_ratio or 1)
        aspect = aspect if 0.05 <= aspect <= 20 else 1.0
        return 1 / aspect if self.quarter_turns % 2 else aspect

    @property
    def transfer(self) -> str:
        """The tagged transfer curve, as text; empty where there is no tag."""
        value = self._curve
        wide = self._primaries == 9 or value in (14, 15)
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

    def read(self, index: int) -> NDArray[np.uint16]:
        """One frame, coded as in the file, full-range RGB of 16 bits. (h, w, 3) uint16, (h, w, 4) with alpha.

        Raises
        ------
        MediaError : there is no such frame, or it cannot be decoded.
        """
        if not 0 <= index < len(self._times):
            raise MediaError(
                say(
                    "{named} has frames 1–{count}; {index} was asked for.",
                    named=named(self.path),
                    count=len(self._times),
                    index=index + 1,
                )
            )
        turns = self.quarter_turns
        words = say("is damaged at frame {index}. Deliver it again.", index=index + 1)
        with self._lock:
            try:
                frame = guarded(self.path, lambda: self._decode(index), words)
            except MediaError:
                self._decoder = None
                raise
            if frame is None:
                self._decoder = None
                raise MediaError(
                    say("{named} is cut short: frame {index} cannot be read.", named=named(self.path), index=index + 1)
                )
            if (frame.width, frame.height) != self._coded_size:
                size = "×".join(map(str, self._coded_size))
                raise MediaError(
                    say(
                        "{named} is {width}×{height} at frame {index}, but began as {size}. Deliver it in one size.",
                        named=named(self.path),
                        width=frame.width,
                        height=frame.height,
                        index=index + 1,
                        size=size,
                    )
                )
            pixels = guarded(self.path, lambda: self._to_rgb(frame), words)
        return np.ascontiguousarray(np.rot90(pixels, turns)) if turns else pixels

    def _decode(self, index: int) -> av.VideoFrame | None:
        wanted = self._times[index]
        if self._decoder is None or index < self._next or index > self._next + 24:
            self._container.seek(wanted, stream=self._stream, backward=True, any_frame=False)
            self._decoder = self._frames()
        for frame in self._decoder:
            if frame.pts is not None and frame.pts >= wanted:
                self._next = index + 1
                return frame if frame.pts == wanted else None
        return None

    def _to_rgb(self, frame: av.VideoFrame) -> NDArray[np.uint16]:
        matrix = frame.colorspace
        if int(matrix) == 10:  # BT.2020 of constant luminance: its matrix is the nearest that there is
            matrix = Colorspace.BT2020
        known = (Colorspace.ITU709, Colorspace.ITU601, Colorspace.SMPTE240M, Colorspace.FCC, Colorspace.BT2020)
        if matrix not in known:
            matrix = Colorspace.ITU709 if frame.height >= 720 else Colorspace.ITU601
        full = "j" in frame.format.name or frame.color_range == ColorRange.JPEG or frame.format.is_rgb
        picture = frame.reformat(
            format="rgba64le" if self.has_alpha else "rgb48le",
            src_colorspace=matrix,
            dst_colorspace=matrix,
            src_color_range=ColorRange.JPEG if full else ColorRange.MPEG,
            dst_color_range=ColorRange.JPEG,
            interpolation=EXACT,
        )
        return np.asarray(picture.to_ndarray(), np.uint16)
