"""Small pictures of sources and of what zones hold, ready for a screen."""

from __future__ import annotations

import cv2
import numpy as np
from numpy.typing import NDArray

from ..media.picture import Picture
from ..shot import Matte, Shot, Source, Zone
from .matte_planner import proxy_size
from .pictures import Pictures
from .views import show

Codes = NDArray[np.uint8]  # (h, w, 4), BGRX
SEEN_ACROSS = 4  # pixels of a picture across one of its thumbnail
OVER_BLACK, OVER_GREY = 0.01, 0.05  # what shows through where a thumbnail holds nothing: plate, painting


def source_thumbnail(source: Source, pictures: Pictures, is_plate: bool, most: tuple[int, int]) -> Codes:
    """The first frame of a source, shrunk into a box of `most` pixels.

    Raises
    ------
    MediaError : it cannot be read.
    """
    pixels = pictures.plate(source, source.start) if is_plate else pictures.painting(source, source.start)
    ratio = min(most[0] / source.width, most[1] / source.height)
    size = (max(1, round(source.width * ratio)), max(1, round(source.height * ratio)))
    return show(_small(pixels, size))


def zone_thumbnail(shot: Shot, zone: Zone, matte: Matte | None, pictures: Pictures, width: int) -> Codes:
    """What a zone holds on its first frame, cut by a matte where it holds the plate.

    Raises
    ------
    MantleError : it cannot be read, or its matte not be pulled.
    """
    source = shot.source(zone.source)
    scale = width / source.width
    if shot.holds_plate(zone):
        pixels = pictures.plate(source, shot.first, scale)
        if matte is not None:
            alpha = np.clip(pictures.matte(shot, matte, shot.first, scale).alpha, 0, 1)[..., None]
            pixels = pixels * alpha + OVER_BLACK * (1 - alpha)
    else:
        size = proxy_size((source.width, source.height), scale)
        whole = pictures.painting(source, source.start)
        small = _small(whole, size)
        pixels = small[..., :3] + OVER_GREY * (1 - small[..., 3:])
    return show(np.ascontiguousarray(pixels, np.float32))


def shown_picture(picture: Picture, pictures: Pictures, size: tuple[int, int]) -> Codes:
    """Any picture shrunk to a size.

    Raises
    ------
    MediaError : it cannot be read.
    """
    pixels = pictures.pixels(picture)[..., :3]
    return show(_small(pixels, size))


def _small(pixels: NDArray, size: tuple[int, int]) -> NDArray[np.float32]:
    """A picture shrunk to (width, height): the mean of some pixels of each, of all of them where they are few."""
    step = max(1, min(pixels.shape[1] // size[0], pixels.shape[0] // size[1]) // SEEN_ACROSS)
    some = np.ascontiguousarray(pixels[step // 2 :: step, step // 2 :: step], np.float32)
    return np.asarray(cv2.resize(some, size, interpolation=cv2.INTER_AREA), np.float32)
