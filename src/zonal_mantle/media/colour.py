"""Colour encodings by name, through OpenColorIO's built-in studio configuration."""

from __future__ import annotations

from functools import cache

import numpy as np
import PyOpenColorIO as ocio
from numpy.typing import NDArray

from ..words import say
from .bands import run_bands
from .curves import bake
from .errors import MediaError
from .wide import WIDE_CURVES

Array = NDArray[np.float32]

CONFIG = "ocio://studio-config-v2.1.0_aces-v1.3_ocio-v2.3"
LINEAR = "Linear Rec.709 (sRGB)"
SRGB = "sRGB"
CAMERA = "Rec. 709 camera"
SCENE_LINEAR = "Scene-linear Rec. 709"
CAMERA_2020, PQ, HLG = "Rec. 2020 camera", "Rec. 2100 PQ", "Rec. 2100 HLG"
WIDE = "Linear Rec.2020"
_PLAIN = {SRGB: "sRGB - Texture", CAMERA: "Camera Rec.709", SCENE_LINEAR: LINEAR}
_VIEW = ("sRGB - Display", "Un-tone-mapped")


@cache
def config() -> ocio.Config:
    """The colour configuration, loaded once."""
    return ocio.Config.CreateFromFile(CONFIG)


@cache
def encodings() -> tuple[str, ...]:
    """All input encodings by name: the three plain ones first, then the configuration's own."""
    names = [space.getName() for space in config().getColorSpaces() if not space.isData()]
    own = [name for name in names if name not in _PLAIN.values() and "Display" not in name]
    return (*_PLAIN, CAMERA_2020, PQ, HLG, *own)


def space_of(encoding: str) -> str:
    """The configuration's name of an encoding.

    Raises
    ------
    MediaError : there is no such encoding.
    """
    name = _PLAIN.get(encoding, WIDE if encoding in WIDE_CURVES else encoding)
    if config().getColorSpace(name) is None:
        raise MediaError(
            say(
                "There is no colour encoding named {encoding}. Choose one from the list of encodings.",
                encoding=encoding,
            )
        )
    return name


@cache
def _processor(source: str, target: str) -> ocio.CPUProcessor:
    return config().getProcessor(source, target).getDefaultCPUProcessor()


def to_linear(pixels: Array, encoding: str) -> Array:
    """Coded colour to scene-linear Rec. 709, in place where the array allows it.

    Parameters
    ----------
    pixels : (h, w, 3) or (h, w, 4) float32, coded; alpha is left as it is.
    encoding : one of `encodings()`.

    Returns
    -------
    The same shape, float32, scene-linear, Rec. 709 primaries, D65.
    """
    if encoding in WIDE_CURVES:
        pixels = np.array(pixels, np.float32)
        pixels[..., :3] = WIDE_CURVES[encoding].decode(pixels[..., :3])
    return _transform(pixels, space_of(encoding), LINEAR)


def is_linear(encoding: str) -> bool:
    """Whether an encoding holds light itself, so that a matrix is all there is to it."""
    if encoding in WIDE_CURVES:
        return False
    return str(config().getColorSpace(space_of(encoding)).getEncoding()) == "scene-linear"


def from_linear(pixels: Array, encoding: str) -> Array:
    """Scene-linear Rec. 709 to a coded picture. Shapes as in `to_linear`."""
    out = _transform(pixels, LINEAR, space_of(encoding))
    if encoding in WIDE_CURVES:
        out = np.array(out, np.float32)
        out[..., :3] = WIDE_CURVES[encoding].encode(out[..., :3])
    return out


def _transform(pixels: Array, source: str, target: str) -> Array:
    pixels = np.ascontiguousarray(pixels, np.float32)
    if source == target:
        return pixels
    processor = _processor(source, target)
    if not processor.isNoOp():
        apply = processor.applyRGBA if pixels.shape[-1] == 4 else processor.applyRGB
        run_bands(lambda first, end: apply(pixels[first:end]), len(pixels))
    return pixels


@cache
def display_table() -> Array:
    """The view transform to an sRGB display as a baked curve: scene-linear in, display code 0…1 out."""
    view = ocio.DisplayViewTransform(src=LINEAR, display=_VIEW[0], view=_VIEW[1])
    processor = config().getProcessor(view).getDefaultCPUProcessor()

    def function(x: NDArray) -> NDArray:
        grey = np.ascontiguousarray(np.repeat(np.asarray(x, np.float32)[None, :, None], 3, axis=2))
        processor.applyRGB(grey)
        return grey[0, :, 0]

    return bake(function)


def guess(suffix: str, bits: int, transfer: str = "") -> str:
    """A sensible encoding for a file: by its tagged transfer curve, else by its kind and depth."""
    transfer = transfer.lower()
    if "2084" in transfer:
        return PQ
    if "b67" in transfer:
        return HLG
    if "bt2020" in transfer:
        return CAMERA_2020
    if transfer.startswith("lin") or "linear" in transfer:
        return SCENE_LINEAR
    if "srgb" in transfer or "61966" in transfer:
        return SRGB
    if "709" in transfer or "170m" in transfer:
        return CAMERA
    suffix = suffix.lower()
    if suffix in {".exr", ".hdr"} or bits == 32:
        return SCENE_LINEAR
    if suffix in {".mov", ".mp4", ".mkv", ".m4v", ".mxf"}:
        return CAMERA
    return SRGB
