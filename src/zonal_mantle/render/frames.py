"""Frames to disk: sequences and video, whole or not at all."""

from __future__ import annotations

import contextlib
import logging
import os
import shutil
import tempfile
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from fractions import Fraction
from pathlib import Path
from typing import Any, Literal

import av
import numpy as np
from av.video.reformatter import ColorRange, Colorspace
from numpy.typing import NDArray

from ..comp import Pictures, finish_frame
from ..comp.finish_planner import output_size, plate_aspect
from ..comp.readings_finish import LARGEST_HALF
from ..media import colour
from ..media.errors import MediaError
from ..media.memory import MIB
from ..media.sequence import spans
from ..media.still import PLAN, read_still, write_still
from ..media.video import EXACT, VideoReader
from ..paths import for_library, placed, sweep_parts, why_no_file, why_not, written_whole
from ..shot import Shot
from ..words import say
from .errors import RenderError
from .header import exr_header, png_header
from .plan import PlanDigests, stands_for

Array = NDArray[np.float32]
Format = Literal["exr", "png", "h264", "prores"]
FORMATS: tuple[Format, ...] = ("exr", "png", "h264", "prores")
Progress = Callable[[float, str], None]
MOST_STEM = 60  # characters; file systems end at 255 bytes, of which the frame's number needs some
LEAST_VIDEO = 2  # pixels a side: colour is coded for two at a time
log = logging.getLogger(__name__)
BT709_TRANSFER, SRGB_TRANSFER = 1, 13  # ITU-T H.273, table 3


@dataclass(frozen=True)
class RenderPlan:
    """What is rendered, and where to.

    `out` is a folder for sequences and videos alike. With `resume`, frames of a sequence stay that are there whole and
    were made from the shot and files as they are now, at this scale.
    `depth` is that of EXR.
    """

    out: Path
    format: Format = "exr"
    first: int | None = None
    last: int | None = None
    scale: float = 1.0
    resume: bool = False
    depth: Literal["half", "float"] = "half"


def render(shot: Shot, plan: RenderPlan, progress: Progress = lambda share, words: None) -> list[Path]:
    """Renders a shot's frames.

    Each file is written under a temporary name and renamed once it is whole. `progress` may raise to cancel: the
    file being written is removed, finished frames of a sequence stay. Its last words say where the files are, and on
    which frames there was more light than a half holds.

    Returns
    -------
    The files, in order.

    Raises
    ------
    RenderError : no plate, frames outside the shot, no room on disk, an unknown format.
    MediaError : a source cannot be read or a file cannot be written.
    """
    frames = _frames(shot, plan)
    try:
        plan.out.mkdir(parents=True, exist_ok=True)
        sweep_parts(plan.out, stem(shot))
        with tempfile.TemporaryFile(dir=plan.out):
            pass
    except (OSError, ValueError) as problem:
        why = why_not(problem)
        raise RenderError(
            say("Nothing can be written to {placed}: {why}. Choose another folder.", placed=placed(plan.out), why=why)
        ) from problem
    _check_names(shot, plan, frames)
    _check_room(shot, plan, len(frames))
    store = Pictures(limit_bytes=160 * MIB, painting_bytes=320 * MIB)
    if plan.format in ("exr", "png"):
        return list(_sequence(shot, plan, frames, store, progress))
    return [_video(shot, plan, frames, store, progress)]


def _frames(shot: Shot, plan: RenderPlan) -> range:
    if shot.plate is None:
        raise RenderError(say("The shot has no plate, so there is nothing to render. Open a plate first."))
    if plan.format not in FORMATS:
        raise RenderError(
            say("There is no format {format}. Choose one of {names}.", format=plan.format, names=", ".join(FORMATS))
        )
    first = shot.first if plan.first is None else plan.first
    last = shot.last if plan.last is None else plan.last
    if first < shot.first or last > shot.last or first > last:
        raise RenderError(
            say(
                "Frames {first}–{last} were asked for; the shot has {first_2}–{last_2}.",
                first=first,
                last=last,
                first_2=shot.first,
                last_2=shot.last,
            )
        )
    if not 0.05 <= plan.scale <= 1:
        raise RenderError(say("A scale of {scale:g} was asked for; it must lie between 0.05 and 1.", scale=plan.scale))
    return range(first, last + 1)


def _path_of(shot: Shot, plan: RenderPlan, frame: int) -> Path:
    """The file that a frame goes to."""
    if plan.format in ("exr", "png"):
        return plan.out / f"{stem(shot)}.{frame:04d}.{plan.format}"
    return plan.out / f"{stem(shot)}{'.mp4' if plan.format == 'h264' else '.mov'}"


def _check_names(shot: Shot, plan: RenderPlan, frames: range) -> None:
    """Said before hours are spent: what stands where a frame goes, and is no file."""
    for frame in frames:
        path = _path_of(shot, plan, frame)
        why = why_no_file(path) if os.path.lexists(path) else None
        if why is not None:
            raise RenderError(
                say(
                    "{placed} {why}: nothing can be written there. Choose another folder.", placed=placed(path), why=why
                )
            )


def _check_room(shot: Shot, plan: RenderPlan, count: int) -> None:
    width, height = output_size(shot)
    pixels = width * height * plan.scale**2
    bytes_a_pixel = {"exr": 16 if plan.depth == "float" else 8, "png": 8, "h264": 1, "prores": 3}[plan.format]
    needed = int(pixels * bytes_a_pixel * count)
    free = shutil.disk_usage(plan.out).free
    if needed > free:
        raise RenderError(
            say(
                "{placed} has {amount} free and the render may need {amount_2}. Free some room or choose another "
                "folder.",
                placed=placed(plan.out),
                amount=_amount(free),
                amount_2=_amount(needed),
            )
        )


def _amount(count: int) -> str:
    """Bytes in a unit in which they are not nothing."""
    for unit, size in (("GB", 1e9), ("MB", 1e6), ("kB", 1e3)):
        if count >= size:
            return f"{count / size:.1f} {unit}"
    return say("{count} bytes", count=count)


def stem(shot: Shot) -> str:
    """The files' name without number and ending."""
    return "".join(c if c.isalnum() or c in "-_" else "_" for c in shot.name)[:MOST_STEM] or "shot"


def _sequence(shot: Shot, plan: RenderPlan, frames: range, store: Pictures, progress: Progress) -> Iterator[Path]:
    digests = PlanDigests(shot, plan.scale, f"{plan.format} {plan.depth}")
    held: list[int] = []
    for done, frame in enumerate(frames):
        progress(done / len(frames), say("Rendering frame {frame}", frame=frame))
        path = _path_of(shot, plan, frame)
        made_from = digests.of(frame)
        if plan.resume and stands_for(path, made_from) and _is_whole(path):
            yield path
            continue
        picture = finish_frame(shot, frame, store, plan.scale)
        with _written(path) as part:
            if plan.format == "exr":
                if plan.depth == "half" and np.abs(picture).max() > LARGEST_HALF:
                    picture = np.clip(picture, -LARGEST_HALF, LARGEST_HALF)
                    held.append(frame)
                write_still(part, picture, plan.depth, "zip", {**exr_header(shot, frame), PLAN: made_from})
            else:
                header = {**png_header(shot), PLAN: made_from}
                write_still(part, _coded_straight(picture), "uint16", attributes=header)
        yield path
    progress(
        1.0,
        say(
            "{count} frames are in {placed}{held}",
            count=len(frames),
            placed=placed(plan.out),
            held=_of_held(held),
        ),
    )


@contextlib.contextmanager
def _written(path: Path) -> Iterator[Path]:
    """As `paths.written_whole`, with what the system says as a sentence."""
    try:
        with written_whole(path) as part:
            yield part
    except OSError as problem:
        raise RenderError(
            say(
                "{placed} cannot be written: {why}. What was there stays.",
                placed=placed(path),
                why=why_not(problem),
            )
        ) from problem


def _of_held(frames: list[int]) -> str:
    """What is said of frames whose light was held at the largest half (65 504, IEEE 754 binary16)."""
    if not frames:
        return ""
    where = (
        say("Frame {spans} holds", spans=spans(frames))
        if len(frames) == 1
        else say("Frames {spans} hold", spans=spans(frames))
    )
    return say(
        ". {where} more light than a half does, written as {largest_half:,.0f}: render EXR of float for all of it.",
        where=where,
        largest_half=LARGEST_HALF,
    )


def _coded_straight(picture: Array) -> Array:
    """Unpremultiplied sRGB with alpha, as PNG wants it."""
    alpha = picture[..., 3:]
    plain = np.where(alpha > 0, picture[..., :3] / np.maximum(alpha, 1e-6), 0).astype(np.float32)
    coded = np.clip(colour.from_linear(plain, colour.SRGB), 0, 1)
    return np.concatenate([coded, np.clip(alpha, 0, 1)], axis=2)


def _is_whole(path: Path) -> bool:
    try:
        read_still(path)
    except MediaError:
        return False
    return True


def _video(shot: Shot, plan: RenderPlan, frames: range, store: Pictures, progress: Progress) -> Path:
    path = _path_of(shot, plan, frames[0])
    aspect = Fraction(shot.finish.output.pixel_aspect or plate_aspect(shot)).limit_denominator(1000)
    with _written(path) as part:
        with VideoWriter(part, plan.format, shot.rate, transfer=SRGB_TRANSFER, pixel_aspect=aspect) as writer:
            for done, frame in enumerate(frames):
                progress(done / len(frames), say("Rendering frame {frame}", frame=frame))
                picture = finish_frame(shot, frame, store, plan.scale)[..., :3]
                writer.write(colour.from_linear(np.ascontiguousarray(picture), colour.SRGB))
        progress(1.0, say("Reading {name} back", name=path.name))
        if VideoReader(part).count != len(frames):
            raise RenderError(say("{placed} could not be written whole: the disk may be full.", placed=placed(path)))
    progress(1.0, say("{name} is in {placed}", name=path.name, placed=placed(plan.out)))
    return path


class VideoWriter:
    """Writes video of Rec. 709 primaries from coded RGB, tagged as such; a context. `format` is h264, h264 10-bit or
    prores, `quality` H.264's constant rate factor, `transfer` says by which curve the values are coded, `pixel_aspect`
    how wide a pixel is against its height.

    Raises
    ------
    RenderError : the file cannot be opened for writing.
    """

    def __init__(
        self, path: Path, format: str, rate: Fraction, quality: int = 16, transfer: int = BT709_TRANSFER,
        pixel_aspect: Fraction = Fraction(1),
    ) -> None:  # fmt: skip
        self._format, self._quality, self._transfer, self._aspect = format, quality, transfer, pixel_aspect
        self._path = path
        self._container: Any = self._guarded(lambda: av.open(for_library(path), "w"))
        is_h264 = format.startswith("h264")
        codec = "libx264" if is_h264 else "prores_ks"
        options = {"crf": str(quality), "preset": "medium", "threads": "1"} if is_h264 else {"profile": "3"}
        self._stream: Any = self._container.add_stream(codec, rate=rate, options=options)
        self._pixels = "yuv420p" if format == "h264" else "yuv422p10le"  # "h264 10-bit" and ProRes
        self._open = False

    def __enter__(self) -> VideoWriter:
        return self

    def write(self, coded: Array) -> None:
        """Adds one frame: (h, w, 3) float32, coded 0…1. Odd sizes lose their last row or column."""
        height, width = coded.shape[0] // 2 * 2, coded.shape[1] // 2 * 2
        if min(height, width) < LEAST_VIDEO:
            size = f"{coded.shape[1]}×{coded.shape[0]}"
            raise RenderError(
                say(
                    "A video of {size} is too small: its codec needs {least_video} pixels a side.",
                    size=size,
                    least_video=LEAST_VIDEO,
                )
            )
        if not self._open:
            context = self._stream.codec_context
            context.width, context.height, context.pix_fmt = width, height, self._pixels
            context.colorspace, context.color_range = 1, ColorRange.MPEG  # H.273: BT.709 matrix
            context.color_primaries, context.color_trc = 1, self._transfer
            context.sample_aspect_ratio = self._aspect
            self._open = True
        whole = (np.clip(coded[:height, :width], 0, 1) * 65535 + 0.5).astype(np.uint16)
        frame = av.VideoFrame.from_ndarray(np.ascontiguousarray(whole), format="rgb48le")
        frame = frame.reformat(
            format=self._pixels,
            src_colorspace=Colorspace.ITU709,
            dst_colorspace=Colorspace.ITU709,
            src_color_range=ColorRange.JPEG,
            dst_color_range=ColorRange.MPEG,
            interpolation=EXACT,
        )
        self._guarded(lambda: self._put(frame))

    def _put(self, frame: av.VideoFrame | None) -> None:
        for packet in self._stream.encode(frame):
            self._container.mux(packet)

    def __exit__(self, kind: object, *rest: object) -> None:
        if kind is not None:
            with contextlib.suppress(Exception):  # what went wrong is on its way already
                self._container.close()
            return
        if self._open:
            self._guarded(lambda: self._put(None))
        self._guarded(self._container.close)

    def _guarded(self, work: Callable[[], Any]) -> Any:
        """What the library does; whatever it raises is kept in the log and said in one sentence."""
        try:
            return work()
        except Exception as problem:
            log.info("%s: %s: %s", placed(self._path), type(problem).__name__, problem)
            why = why_not(problem) if isinstance(problem, OSError) else say("the codec refused it")
            raise RenderError(
                say("{placed} cannot be written: {why}. Choose another folder.", placed=placed(self._path), why=why)
            ) from problem
