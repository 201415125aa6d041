"""One picture in or out, through OpenImageIO."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path
from typing import Any, Literal

import numpy as np
import OpenImageIO as oiio
from numpy.typing import NDArray

from .errors import MediaError

Array = NDArray[np.float32]


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


def _open(path: Path) -> oiio.ImageInput:
    hints = oiio.ImageSpec()
    hints.attribute("oiio:UnassociatedAlpha", 1)
    picture = oiio.ImageInput.open(str(path), hints)
    if picture is None:
        reason = oiio.geterror().splitlines()
        raise MediaError(f"{path.name} cannot be read: {reason[0] if reason else 'unknown kind of picture'}.")
    return picture


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
        width=spec.full_width or spec.width,
        height=spec.full_height or spec.height,
        channels=spec.nchannels,
        bits=spec.get_int_attribute("oiio:BitsPerSample", spec.format.size() * 8) or spec.format.size() * 8,
        pixel_aspect=spec.get_float_attribute("PixelAspectRatio", 1.0) or 1.0,
        transfer=spec.get_string_attribute("oiio:ColorSpace", ""),
        alpha=alpha,
    )


def still_info(path: Path) -> StillInfo:
    """Reads a picture's header.

    Raises
    ------
    MediaError : the file is missing, or is not a picture.
    """
    if not path.exists():
        raise MediaError(f"{path.name} is missing from {path.parent}.")
    picture = _open(path)
    info = _info(picture.spec(), path.suffix)
    picture.close()
    return info


def read_still(path: Path) -> tuple[Array, StillInfo]:
    """Reads a picture's values as they stand in the file, integers scaled to 0…1.

    Returns
    -------
    (h, w, 3) or (h, w, 4) float32, and the header. Grey becomes three channels.

    Raises
    ------
    MediaError : missing, not a picture, or cut short.
    """
    if not path.exists():
        raise MediaError(f"{path.name} is missing from {path.parent}.")
    picture = _open(path)
    try:
        spec = picture.spec()
        info = _info(spec, path.suffix)
        keep = min(spec.nchannels, 4)
        pixels = picture.read_image(0, 0, 0, keep, oiio.FLOAT)
        if pixels is None or picture.has_error:
            reason = picture.geterror().splitlines()
            raise MediaError(
                f"{path.name} is cut short or damaged ({reason[0] if reason else 'no data'}). Deliver it again."
            )
    finally:
        picture.close()
    pixels = np.asarray(pixels, np.float32).reshape(spec.height, spec.width, keep)
    if (spec.full_width, spec.full_height) != (spec.width, spec.height) and spec.full_width and spec.full_height:
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


def _on_display_window(pixels: Array, spec: oiio.ImageSpec) -> Array:
    """A picture whose data window differs from its display window, laid on the display window."""
    out = np.zeros((spec.full_height, spec.full_width, pixels.shape[2]), np.float32)
    x, y = spec.x - spec.full_x, spec.y - spec.full_y
    x0, y0 = max(x, 0), max(y, 0)
    x1, y1 = min(x + spec.width, spec.full_width), min(y + spec.height, spec.full_height)
    if x1 > x0 and y1 > y0:
        out[y0:y1, x0:x1] = pixels[y0 - y : y1 - y, x0 - x : x1 - x]
    return out


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
    out = oiio.ImageOutput.create(str(path))
    if out is None:
        raise MediaError(f"{path.name}: pictures of this kind cannot be written.")
    if not out.open(str(path), spec):
        raise MediaError(f"{path} cannot be written: {out.geterror()}.")
    good = out.write_image(np.ascontiguousarray(pixels, np.float32))
    reason = "" if good else out.geterror()
    if not out.close() or not good:
        raise MediaError(f"{path} could not be written whole: {reason or out.geterror()}.")
    try:
        back = read_still(path)[0]
    except MediaError as problem:
        raise MediaError(f"{path} could not be written whole: the disk may be full.") from problem
    if back.shape[:2] != (height, width):
        raise MediaError(f"{path} could not be written whole: it holds {back.shape[1]}×{back.shape[0]} pixels.")
