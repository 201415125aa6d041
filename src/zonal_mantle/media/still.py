"""One picture in or out, through OpenImageIO."""

from __future__ import annotations

import logging
import math
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path
from typing import Any, Literal, TypeVar

import numpy as np
import OpenImageIO as oiio
from numpy.typing import NDArray

from ..paths import for_library, named, placed, why_no_file
from ..shot.limits import MOST_PIXELS, MOST_SIDE
from ..words import say
from .codes import values_of
from .errors import MediaError

Array = NDArray[np.float32]
T = TypeVar("T")
log = logging.getLogger(__name__)
# the most that deflate makes of nothing (zlib's technical details, "maximum compression factor"), doubled
MOST_TIMES_SMALLER = 2064
LOOKED_AT_BYTES = 1 << 29  # as floats: below this a header that promises too much does no harm


@dataclass(frozen=True)
class StillInfo:
    """What a picture's header says."""

    width: int
    height: int
    channels: int
    bits: int
    pixel_aspect: float
    transfer: str
    alpha: Literal["none", "straight", "premultiplied"]


def guarded(path: Path, work: Callable[[], T], words: str) -> T:
    """What a library makes of a file. Whatever it raises is kept in the log and said in one sentence with its name.

    Raises
    ------
    MediaError : `name words`.
    """
    try:
        return work()
    except MediaError:
        raise
    except Exception as problem:  # other people's code, on a file that may hold anything
        log.info("%s: %s: %s", placed(path), type(problem).__name__, problem)
        raise MediaError(f"{named(path)} {words}") from problem


# the first bytes of files of a kind (their specifications' "magic numbers")
BEGIN = {
    ".png": (b"\x89PNG\r\n\x1a\n",), ".exr": (b"v/1\x01",), ".jpg": (b"\xff\xd8\xff",), ".jpeg": (b"\xff\xd8\xff",),
    ".tif": (b"II*\0", b"MM\0*", b"II+\0", b"MM\0+"), ".tiff": (b"II*\0", b"MM\0*", b"II+\0", b"MM\0+"),
    ".dpx": (b"SDPX", b"XPDS"), ".hdr": (b"#?RADIANCE", b"#?RGBE"), ".webp": (b"RIFF",),
}  # fmt: skip
WINDOWED = (".exr", ".tif", ".tiff")  # kinds whose display window may be another than their data's


def _why_unlike(path: Path) -> str:
    """What is wrong with a picture that its library refuses, as far as its first bytes tell."""
    try:
        with path.open("rb") as file:
            begin = file.read(16)
    except OSError as problem:
        return str(problem.strerror)
    if not begin:
        return say("it is empty")
    kinds = BEGIN.get(path.suffix.lower())
    if kinds is None:
        return say(
            "files that end in {suffix} are of no kind that is known, or it is damaged", suffix=path.suffix or "nothing"
        )
    if not begin.startswith(kinds):
        return say("it does not begin as {kind} files do", kind=path.suffix[1:].upper())
    return say("its header is damaged")


def _open(path: Path) -> oiio.ImageInput:
    why = why_no_file(path)
    if why is not None:
        raise MediaError(f"{named(path)} {why}.")
    hints = oiio.ImageSpec()
    hints.attribute("oiio:UnassociatedAlpha", 1)
    words = say("cannot be read as a picture: {why}. Deliver it again.", why=_why_unlike(path))
    picture = guarded(path, lambda: oiio.ImageInput.open(for_library(path), hints), words)
    if picture is None:
        log.info("%s: %s", placed(path), guarded(path, oiio.geterror, words))
        raise MediaError(f"{named(path)} {words}")
    spec = picture.spec()
    width, height = _window(spec, path.suffix)
    width, height = max(spec.width, width), max(spec.height, height)
    if min(spec.width, spec.height, spec.nchannels) < 1 or spec.deep:
        raise MediaError(
            say("{named} holds no picture that can be shown: it is empty, or a deep one.", named=named(path))
        )
    if max(width, height) > MOST_SIDE or width * height > MOST_PIXELS:
        most = say("{most_pixels} megapixels", most_pixels=MOST_PIXELS // 10**6)
        raise MediaError(
            say(
                "{named} is {width}×{height}, which is larger than {most}. Deliver it smaller.",
                named=named(path),
                width=width,
                height=height,
                most=most,
            )
        )
    raw = spec.image_bytes(True)
    if width * height * 16 > LOOKED_AT_BYTES and raw > MOST_TIMES_SMALLER * path.stat().st_size:
        raise MediaError(
            say(
                "{named} says that it is {width}×{height}, for which it is too small. Deliver it again.",
                named=named(path),
                width=width,
                height=height,
            )
        )
    return picture


def _window(spec: oiio.ImageSpec, suffix: str) -> tuple[int, int]:
    """Width and height that a picture is shown at."""
    has_own = suffix.lower() in WINDOWED and spec.full_width > 0 and spec.full_height > 0
    return (spec.full_width, spec.full_height) if has_own else (spec.width, spec.height)


def _info(spec: oiio.ImageSpec, suffix: str) -> StillInfo:
    alpha: Literal["none", "straight", "premultiplied"] = "none"
    if spec.alpha_channel >= 0:
        straight = spec.get_int_attribute("oiio:UnassociatedAlpha", 0) or suffix.lower() in {
            ".png",
            ".webp",
            ".tga",
        }
        alpha = "straight" if straight else "premultiplied"
    return StillInfo(
        width=_window(spec, suffix)[0],
        height=_window(spec, suffix)[1],
        channels=spec.nchannels,
        bits=spec.get_int_attribute("oiio:BitsPerSample", spec.format.size() * 8) or spec.format.size() * 8,
        pixel_aspect=_sane_aspect(spec.get_float_attribute("PixelAspectRatio", 1.0)),
        transfer=spec.get_string_attribute("oiio:ColorSpace", ""),
        alpha=alpha,
    )


def _sane_aspect(tagged: float) -> float:
    """A tagged pixel aspect; 1 where it is none that a lens or a scan makes."""
    return tagged if math.isfinite(tagged) and 0.05 <= tagged <= 20 else 1.0


def still_info(path: Path) -> StillInfo:
    """Reads a picture's header.

    Raises
    ------
    MediaError : the file is missing, no regular file, too large, or not a picture.
    """
    picture = _open(path)
    info = guarded(path, lambda: _info(picture.spec(), path.suffix), say("has a header that cannot be read."))
    picture.close()
    return info


def read_still(path: Path) -> tuple[Array, StillInfo]:
    """Reads a picture's values as they stand in the file, integers scaled to 0…1; see `read_codes`.

    Returns
    -------
    (h, w, 3) or (h, w, 4) float32, and the header.
    """
    codes, info = read_codes(path)
    return (codes if codes.dtype == np.float32 else values_of(codes)), info


def read_codes(path: Path) -> tuple[NDArray[Any], StillInfo]:
    """Reads a picture's values as they stand in the file.

    Returns
    -------
    (h, w, 3) or (h, w, 4), uint8 or uint16 where the file holds integers of at most as many bits (fewer are scaled to
    them), else float32; and the header. Grey becomes three channels.

    Raises
    ------
    MediaError : missing, no regular file, too large, not a picture, or cut short.
    """
    picture = _open(path)
    spec = picture.spec()
    keep = min(spec.nchannels, 4)
    kind = {"uint8": oiio.UINT8, "uint16": oiio.UINT16}.get(str(spec.format), oiio.FLOAT)
    words = say("is cut short or damaged. Deliver it again.")
    try:
        info = guarded(path, lambda: _info(spec, path.suffix), say("has a header that cannot be read."))
        pixels = guarded(path, lambda: picture.read_image(0, 0, 0, keep, kind), words)
        if pixels is None or picture.has_error:
            log.info("%s: %s", placed(path), guarded(path, picture.geterror, words))
            raise MediaError(f"{named(path)} {words}")
    finally:
        picture.close()
    if np.size(pixels) != spec.height * spec.width * keep:
        raise MediaError(f"{named(path)} {words}")
    pixels = np.asarray(pixels).reshape(spec.height, spec.width, keep)
    if _window(spec, path.suffix) != (spec.width, spec.height):
        pixels = _on_display_window(pixels, spec)
    if keep == 1:
        pixels = np.repeat(pixels, 3, axis=2)
    elif keep == 2:
        pixels = np.concatenate([np.repeat(pixels[..., :1], 3, axis=2), pixels[..., 1:]], axis=2)
    elif keep == 4 and info.alpha == "none":
        pixels = np.ascontiguousarray(pixels[..., :3])
    return np.ascontiguousarray(pixels), info


PLAN = "zonalMantlePlan"  # a rendered frame's attribute: what it was made from, see `render.plan`
TYPED = {"chromaticities": "float[8]", "framesPerSecond": "rational", "smpte:TimeCode": "timecode"}
NOT_OF_THE_SHOOTING = (
    "compression", "oiio:", "openexr:", "PixelAspectRatio", "chromaticities", "screenWindow", "FramesPerSecond",
    "framesPerSecond",
    "Software", "XResolution", "YResolution", "ResolutionUnit", "Orientation", "planarconfig", "tiff:", "png:", "ICC",
    "CICP", PLAN, "textureformat", "wrapmodes", "worldtocamera", "worldtoscreen", "jpeg:", "dpx:", "Histogram",
)  # fmt: skip


def shooting_notes(path: Path) -> dict[str, Any]:
    """What a picture's header says of how and when it was taken: text and numbers by name, and its timecode. Nothing
    of how its file is written, and nothing where it cannot be read."""
    try:
        picture = _open(path)
    except MediaError:
        return {}
    notes = {}
    for each in picture.spec().extra_attribs:
        plain = isinstance(each.value, str | int | float) or each.name == "smpte:TimeCode"
        if plain and not each.name.startswith(NOT_OF_THE_SHOOTING):
            notes[each.name] = each.value
    picture.close()
    return notes


def text_attribute(path: Path, name: str) -> str:
    """A text that a picture's header holds; empty where there is none, or no such picture."""
    try:
        picture = _open(path)
    except MediaError:
        return ""
    value = picture.spec().get_string_attribute(name, "")
    picture.close()
    return str(value)


def _on_display_window(pixels: NDArray[Any], spec: oiio.ImageSpec) -> NDArray[Any]:
    """A picture whose data window differs from its display window, laid on the display window."""
    out = np.zeros((spec.full_height, spec.full_width, pixels.shape[2]), pixels.dtype)
    x, y = spec.x - spec.full_x, spec.y - spec.full_y
    x0, y0 = max(x, 0), max(y, 0)
    x1, y1 = min(x + spec.width, spec.full_width), min(y + spec.height, spec.full_height)
    if x1 > x0 and y1 > y0:
        out[y0:y1, x0:x1] = pixels[y0 - y : y1 - y, x0 - x : x1 - x]
    return out


def why_not_written(path: Path) -> str:
    """Why a file cannot be written at a place, as far as the system tells; for libraries that do not say it."""
    try:
        with path.open("ab"):
            pass
    except OSError as problem:
        return str(problem.strerror)
    except ValueError:
        return say("no file can have that name")
    return say("the disk may be full")


def write_still(
    path: Path,
    pixels: Array,
    depth: str = "half",
    compression: str = "",
    attributes: dict[str, Any] | None = None,
) -> None:
    """Writes a picture whose values are already what the file should hold, and reads it back: some libraries that
    write files do not say that a disk was full.

    Parameters
    ----------
    path : its ending chooses the kind of file.
    pixels : (h, w, 3 or 4) float32; integers are made from 0…1.
    depth : `half`, `float`, `uint8`, `uint10` or `uint16`.
    compression : the file kind's own, such as `zip` or `dwab:120`.
    attributes : of the header, under OpenImageIO's names.

    Raises
    ------
    MediaError : the file cannot be written.
    """
    kinds = {
        "half": oiio.HALF,
        "float": oiio.FLOAT,
        "uint8": oiio.UINT8,
        "uint10": oiio.UINT16,
        "uint16": oiio.UINT16,
    }
    height, width, channels = pixels.shape
    spec = oiio.ImageSpec(width, height, channels, kinds[depth])
    if depth == "uint10":
        spec.attribute("oiio:BitsPerSample", 10)
    if compression:
        spec.attribute("compression", compression)
    if channels == 4 and path.suffix.lower() in {".png", ".webp", ".tga"}:
        spec.attribute("oiio:UnassociatedAlpha", 1)
    spec.attribute("DateTime", "")  # else the clock gets in, and no two renders are alike
    for name, value in (attributes or {}).items():
        if name in TYPED:
            spec.attribute(name, oiio.TypeDesc(TYPED[name]), value)
        else:
            spec.attribute(name, value)
    out = oiio.ImageOutput.create(for_library(path))
    if out is None:
        raise MediaError(say("{named}: pictures of this kind cannot be written.", named=named(path)))
    where = placed(path)
    if not out.open(for_library(path), spec):
        log.info("%s: %s", where, out.geterror())
        raise MediaError(say("{where} cannot be written: {why}.", where=where, why=why_not_written(path)))
    good = out.write_image(np.ascontiguousarray(pixels, np.float32))
    reason = "" if good else out.geterror()
    if not out.close() or not good:
        log.info("%s: %s", where, reason or out.geterror())
        raise MediaError(say("{where} could not be written whole: the disk may be full.", where=where))
    try:
        back = read_still(path)[0]
    except MediaError as problem:
        raise MediaError(say("{where} could not be written whole: the disk may be full.", where=where)) from problem
    if back.shape[:2] != (height, width):
        raise MediaError(
            say(
                "{where} could not be written whole: it holds {shape}×{shape_2} pixels.",
                where=where,
                shape=back.shape[1],
                shape_2=back.shape[0],
            )
        )
