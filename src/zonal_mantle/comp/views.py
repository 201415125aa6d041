"""What the viewer shows: linear pixels to display codes, mattes as grey, tint and cut-out."""

from __future__ import annotations

from dataclasses import dataclass
from functools import lru_cache
from typing import Literal

import numba
import numpy as np
from numpy.typing import NDArray

from ..media.bands import run_bands
from ..media.colour import display_table
from ..media.curves import HIGHEST_EXPONENT, LOWEST_EXPONENT
from ..shot import Shot
from .frame import compose
from .store import PixelStore, proxy_size

Array = NDArray[np.float32]
Codes = NDArray[np.uint8]
ViewName = Literal["Composite", "Plate", "Matte", "Tint", "Cut-out"]
VIEWS: tuple[ViewName, ...] = ("Composite", "Plate", "Matte", "Tint", "Cut-out")
CHANNELS = ("RGB", "Red", "Green", "Blue", "Alpha", "Luma")

_BASE = (LOWEST_EXPONENT + 127) << 10
_COUNT = (HIGHEST_EXPONENT - LOWEST_EXPONENT) << 10
_TINT = np.array([0.80, 0.10, 0.02], np.float32)


@dataclass(frozen=True)
class Look:
    """How the viewer shows a picture. Never rendered."""

    exposure: float = 0.0  # stops
    gamma: float = 1.0
    channel: str = "RGB"
    flag_range: bool = False  # mattes: below 0 and above 1 made visible


@lru_cache(maxsize=16)
def _codes(gamma: float) -> Codes:
    table = np.clip(display_table().astype(np.float64), 0, 1) ** (1 / gamma)
    return np.round(table * 255).astype(np.uint8)


@numba.njit(inline="always")
def _code(table, x):  # type: ignore[no-untyped-def]
    if not x > 0:
        return table[0]
    index = (np.float32(x).view(np.int32) >> 13) - _BASE
    if index < 0:
        return table[0]
    return table[min(index, _COUNT) + 1]  # type: ignore[operator]


@numba.njit(cache=True, nogil=True)
def _show_rows(y0, y1, pixels, gain, table, channel, out):  # type: ignore[no-untyped-def]
    deep = pixels.shape[2]
    for y in range(y0, y1):
        for x in range(pixels.shape[1]):
            r, g, b = pixels[y, x, 0] * gain, pixels[y, x, 1] * gain, pixels[y, x, 2] * gain
            out[y, x, 3] = 255
            if channel == 0:
                out[y, x, 0], out[y, x, 1], out[y, x, 2] = _code(table, b), _code(table, g), _code(table, r)
                continue
            if channel == 4:
                alpha = pixels[y, x, 3] if deep == 4 else np.float32(1.0)
                value = np.uint8(min(max(alpha, np.float32(0.0)), np.float32(1.0)) * 255 + 0.5)
            elif channel == 5:
                value = _code(table, np.float32(0.2126) * r + np.float32(0.7152) * g + np.float32(0.0722) * b)
            else:
                value = _code(table, pixels[y, x, channel - 1] * gain)
            out[y, x, 0] = out[y, x, 1] = out[y, x, 2] = value


@numba.njit(cache=True, nogil=True)
def _grey_rows(y0, y1, alpha, flag, out):  # type: ignore[no-untyped-def]
    for y in range(y0, y1):
        for x in range(alpha.shape[1]):
            a = alpha[y, x]
            value = np.uint8(min(max(a, np.float32(0.0)), np.float32(1.0)) * 255 + 0.5)
            out[y, x, 0] = out[y, x, 1] = out[y, x, 2] = value
            out[y, x, 3] = 255
            if flag and a < 0:
                out[y, x, 0], out[y, x, 1], out[y, x, 2] = 178, 114, 0
            elif flag and a > 1:
                out[y, x, 0], out[y, x, 1], out[y, x, 2] = 66, 228, 240


@numba.njit(cache=True, nogil=True)
def _mix_rows(y0, y1, plate, alpha, mode, tint, out):  # type: ignore[no-untyped-def]
    for y in range(y0, y1):
        for x in range(alpha.shape[1]):
            a = min(max(alpha[y, x], np.float32(0.0)), np.float32(1.0))
            check = np.float32(0.10) if ((x >> 4) + (y >> 4)) & 1 else np.float32(0.17)
            for c in range(3):
                if mode == 0:
                    out[y, x, c] = plate[y, x, c] * (1 - 0.55 * (1 - a)) + tint[c] * 0.55 * (1 - a)
                else:
                    out[y, x, c] = plate[y, x, c] * a + check * (1 - a)


def show(pixels: Array, look: Look = Look()) -> Codes:
    """Scene-linear pixels as they appear on an sRGB display.

    Returns
    -------
    (h, w, 4) uint8: blue, green, red, 255.
    """
    out = np.empty((*pixels.shape[:2], 4), np.uint8)
    gain = np.float32(2.0**look.exposure)
    channel = CHANNELS.index(look.channel)
    run_bands(_show_rows, out.shape[0], pixels, gain, _codes(look.gamma), channel, out)
    return out


def show_matte(alpha: Array, look: Look = Look()) -> Codes:
    """A matte as grey. (h, w, 4) uint8."""
    out = np.empty((*alpha.shape, 4), np.uint8)
    run_bands(_grey_rows, out.shape[0], alpha, look.flag_range, out)
    return out


def view(
    shot: Shot, frame: int, name: ViewName, zone_id: str | None, store: PixelStore, scale: float, look: Look
) -> Codes:
    """One view of a frame, ready for the screen.

    Parameters
    ----------
    zone_id : whose matte is shown; the nearest zone with a matte if None.

    Returns
    -------
    (h, w, 4) uint8: blue, green, red, 255.

    Raises
    ------
    MediaError : a source cannot be read.
    """
    source = shot.plate_source
    if source is None:
        width, height = proxy_size(shot.size, scale)
        return np.full((height, width, 4), (43, 43, 43, 255), np.uint8)
    if name == "Composite":
        return show(compose(shot, frame, store, scale), look)
    plate = store.plate(source, frame, scale)
    if name == "Plate":
        return show(plate, look)
    zone = next((z for z in shot.zones if z.id == zone_id), None)
    if zone is None or not zone.matte.on:
        zone = next((z for z in shot.near_to_far() if z.matte.on), zone)
    if zone is None or not zone.matte.on:
        alpha = np.ones(plate.shape[:2], np.float32)
    else:
        alpha = store.matte(source, zone.matte, frame, scale)
    if name == "Matte":
        return show_matte(alpha, look)
    mixed = np.empty_like(plate)
    run_bands(_mix_rows, mixed.shape[0], plate, alpha, 0 if name == "Tint" else 1, _TINT, mixed)
    return show(mixed, look)
