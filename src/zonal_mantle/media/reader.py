"""From a file to a source, and from a source to linear pixels."""

from __future__ import annotations

import threading
from collections import OrderedDict
from pathlib import Path
from typing import Any

import cv2
import numpy as np
from numpy.typing import NDArray
from pydantic import ValidationError

from ..paths import as_text, named, on_disk, placed
from ..shot.door import sentence_of
from ..shot.source import Source
from ..words import say
from . import colour
from .alpha import alpha_seems
from .codes import light_of, table_of, values_of
from .errors import MediaError
from .opener import opener
from .picture import Picture, picture_of
from .sequence import frame_path, frames_of, is_pattern, name_of_pattern, pattern_of, spans
from .stamps import GONE, stamp_of
from .still import read_codes, read_still, still_info
from .video import VIDEO_SUFFIXES, VideoReader

Array = NDArray[np.float32]
MOST_LIGHT = 1e7  # scene-linear: the sun's disc is at some 1e5 of white; squares and sums of it stay within a float

_videos: OrderedDict[tuple[str, int, int], VideoReader] = OrderedDict()
_videos_lock = threading.Lock()


def open_source(path: str | Path, id: str = "source1", as_still: bool = False) -> Source:
    """Looks at a file and describes it: a still, the sequence that it belongs to, or a video.

    Parameters
    ----------
    path : a picture, a video, one file of a numbered sequence, or a pattern such as `plate.%04d.exr`.
    as_still : take a numbered picture for itself, not for its sequence.

    Raises
    ------
    MediaError : missing, unreadable.
    """
    file = Path(path).expanduser().absolute()
    try:
        return _source_of(file, id, as_still)
    except ValidationError as problem:
        raise MediaError(
            say("{named} cannot be used: {why}.", named=named(file), why=sentence_of(problem))
        ) from problem


def _source_of(file: Path, id: str, as_still: bool) -> Source:
    text = as_text(file)
    if file.suffix.lower() in VIDEO_SUFFIXES:
        opener.check(file)
        return _video_source(file, id)
    pattern = text if is_pattern(text) else (None if as_still else pattern_of(Path(text)))
    if pattern is not None:
        frames = frames_of(pattern)
        if is_pattern(text) and not frames:
            raise MediaError(
                say("No frames of {named} were found in {placed}.", named=named(file), placed=placed(file.parent))
            )
        if len(frames) > 1 or is_pattern(text):
            return _sequence_source(pattern, frames, id)
    opener.check(file)
    info = still_info(file)
    return Source(
        id=id,
        name=Path(text).stem,
        path=text,
        kind="still",
        width=info.width,
        height=info.height,
        pixel_aspect=info.pixel_aspect,
        encoding=colour.guess(file.suffix, info.bits, info.transfer),
        alpha=info.alpha,
    )


def _sequence_source(pattern: str, frames: list[int], id: str) -> Source:
    opener.check(frame_path(pattern, frames[0]))
    info = still_info(frame_path(pattern, frames[0]))
    return Source(
        id=id,
        name=name_of_pattern(pattern),
        path=pattern,
        kind="sequence",
        width=info.width,
        height=info.height,
        first=frames[0],
        last=frames[-1],
        pixel_aspect=info.pixel_aspect,
        encoding=colour.guess(Path(pattern).suffix, info.bits, info.transfer),
        alpha=info.alpha,
    )


def _video_source(file: Path, id: str) -> Source:
    video = _video(file)
    width, height = video.size
    rate = video.rate
    return Source(
        id=id,
        name=Path(as_text(file)).stem,
        path=as_text(file),
        kind="video",
        width=width,
        height=height,
        first=1,
        last=video.count,
        rate=(rate.numerator, rate.denominator),
        pixel_aspect=video.pixel_aspect,
        encoding=colour.guess(file.suffix, 8, video.transfer),
        alpha="straight" if video.has_alpha else "none",
    )


def _video(file: Path) -> VideoReader:
    key = (str(file), *stamp_of(str(file)))
    with _videos_lock:
        if key in _videos:
            _videos.move_to_end(key)
            return _videos[key]
        video = _videos[key] = VideoReader(file)
        while len(_videos) > 4:
            _videos.popitem(last=False)
        return video


def bits_per_pixel(source: Source) -> float | None:
    """How many bits a pixel of a video takes on average, where its codec predicts frames from one another and loses
    what it leaves out; None for stills, sequences and other codecs.

    Raises
    ------
    MediaError : the file cannot be read.
    """
    return _video(Path(on_disk(source.path))).bits_per_pixel if source.kind == "video" else None


def quantiser_of(source: Source) -> float | None:
    """How coarsely a video's frames are quantised, see `VideoReader.quantiser`; None where it is not told.

    Raises
    ------
    MediaError : the file cannot be read.
    """
    return _video(Path(on_disk(source.path))).quantiser if source.kind == "video" else None


def missing_frames(source: Source) -> list[int]:
    """Frames between first and last used that are not on disk. For stills and videos: their only file or nothing."""
    if source.kind == "sequence":
        there = set(frames_of(source.path))
        return [frame for frame in range(source.start, source.end + 1) if frame not in there]
    return [] if stamp_of(on_disk(source.path)) != GONE else [source.start]


def source_problem(source: Source) -> str | None:
    """One sentence on what is missing of a source, or None."""
    missing = missing_frames(source)
    if not missing:
        return None
    name, folder = named(source.path), placed(Path(source.path).parent)
    if source.kind != "sequence" or len(missing) == source.end - source.start + 1:
        return say("{name} is missing from {folder}. Relink it.", name=name, folder=folder)
    verb = say("frame is") if len(missing) == 1 else say("frames are")
    return say(
        "{name}: {count} {verb} missing: {spans}. The shot needs {start}–{end}.",
        name=name,
        count=len(missing),
        verb=verb,
        spans=spans(missing),
        start=source.start,
        end=source.end,
    )


def uneven_trouble(source: Source) -> str | None:
    """One sentence where a video's frames are not shown for equally long, or None.

    Raises
    ------
    MediaError : it cannot be read.
    """
    if source.kind != "video" or (spread := _video(Path(on_disk(source.path))).uneven) is None:
        return None
    spans_ms = say("{spread:.0f} to {spread_2:.0f} ms", spread=spread[0] * 1000, spread_2=spread[1] * 1000)
    return say(
        "{named} shows its frames for {spans_ms}: they are taken one after the other, as if they were "
        "equally long. Have it delivered at a constant rate.",
        named=named(source.path),
        spans_ms=spans_ms,
    )


def read_frame(source: Source, frame: int) -> Array:
    """One frame of a source, scene-linear Rec. 709, premultiplied; see `read_picture`."""
    return read_picture(picture_of(source, frame))


def read_picture(picture: Picture) -> Array:
    """A picture's pixels, scene-linear Rec. 709, premultiplied.

    Returns
    -------
    (h, w, 3) float32 where it has no alpha, else (h, w, 4). NaN and infinities become 0 and the largest half; what is
    beyond ±MOST_LIGHT is held there.

    Raises
    ------
    MediaError : the frame is missing, cut short or of another size, with its name and number.
    """
    if picture.stamp != GONE:
        opener.check(Path(picture.path))
    codes = _video(Path(picture.path)).read(picture.index) if picture.kind == "video" else _read_file(picture)
    height, width = codes.shape[:2]
    if (width, height) != picture.size:
        raise MediaError(
            say(
                "{named} is {width}×{height}, not {width_2}×{height_2} as its source says. Deliver it again, or "
                "link the source anew.",
                named=named(picture.name),
                width=width,
                height=height,
                width_2=picture.width,
                height_2=picture.height,
            )
        )
    if picture.alpha == "none":
        codes = np.ascontiguousarray(codes[..., :3])
    if codes.dtype == np.float32:
        pixels = np.asarray(codes, np.float32)
    else:
        table = table_of(picture.encoding, 8 * codes.itemsize)
        if table is not None and picture.alpha != "premultiplied":
            return light_of(codes, table)
        pixels = values_of(codes)
    if not cv2.checkRange(pixels.reshape(len(pixels), -1), quiet=True, minVal=-MOST_LIGHT, maxVal=MOST_LIGHT)[0]:
        pixels = np.nan_to_num(pixels, nan=0.0, posinf=65504.0, neginf=0.0)
        np.clip(pixels, -MOST_LIGHT, MOST_LIGHT, out=pixels)
    return _linear_premultiplied(pixels, picture)


def _read_file(picture: Picture) -> NDArray[Any]:
    path = Path(picture.path)
    if stamp_of(picture.path) != GONE:
        return read_codes(path)[0]
    if picture.kind == "still":
        raise MediaError(
            say("{named} is missing from {placed}. Relink it.", named=named(path), placed=placed(path.parent))
        )
    first, last = picture.wanted
    raise MediaError(
        say(
            "Frame {number} of {named} is missing. The shot needs {first}–{last}.",
            number=picture.number,
            named=named(picture.pattern),
            first=first,
            last=last,
        )
    )


def alpha_trouble(source: Source) -> str | None:
    """One sentence where a source's alpha is not what it is taken for, or None. Looks at its first frame.

    Raises
    ------
    MediaError : it cannot be read.
    """
    if source.alpha == "none" or source.kind == "video":
        return None
    path = frame_path(source.path, source.start) if source.kind == "sequence" else Path(on_disk(source.path))
    pixels, _ = read_still(path)
    if pixels.shape[2] != 4 or (seems := alpha_seems(pixels, source.alpha)) is None:
        return None
    return say(
        "{named} is read as having {alpha} alpha, but its values look {seems}: edges will be too "
        "{how}. Say {seems} under Source.",
        named=named(path),
        alpha=say(source.alpha),
        seems=say(seems),
        how=say("bright") if seems == "straight" else say("dark"),
    )


def _linear_premultiplied(pixels: Array, source: Picture) -> Array:
    if pixels.shape[-1] == 3:
        return colour.to_linear(pixels, source.encoding)
    alpha = pixels[..., 3:].copy()
    if source.alpha == "straight":
        out = colour.to_linear(pixels, source.encoding)
        out[..., :3] *= alpha
        return out
    if colour.is_linear(source.encoding):
        return colour.to_linear(pixels, source.encoding)
    # coded after it was premultiplied by its alpha; what has none is light that adds, such as fire
    whole = np.where(alpha > 0, alpha, 1)
    pixels[..., :3] /= whole
    out = colour.to_linear(pixels, source.encoding)
    out[..., :3] *= whole
    return out
