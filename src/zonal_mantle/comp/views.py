"""What the viewer shows: linear pixels to display codes, mattes as grey, tint and cut-out."""

from __future__ import annotations

from dataclasses import dataclass, replace
from functools import lru_cache
from typing import Any, Literal

import numba
import numpy as np
from numpy.typing import NDArray

from ..finish.lut import through_lut
from ..media.bands import run_bands
from ..media.colour import display_table
from ..media.compiled import part
from ..media.curves import HIGHEST_EXPONENT, LOWEST_EXPONENT, coded
from ..media.picture import picture_of
from ..media.stamps import UsedFile
from ..place import reference_to_frame, warp
from ..shot import Blend, MatteUse, Mirror, Seam, Shot, Zone
from ..words import marks
from .digest import digest
from .finish_planner import finished_plan
from .matte_planner import proxy_size, reads_own, zone_matte_plan, zone_picture
from .pictures import Pictures
from .planner import plan
from .readings_matte import Fault, fault_key, faulty_pixels
from .readings_place import missing_cover
from .stack import compose, compose_plan

Array = NDArray[np.float32]
Codes = NDArray[np.uint8]
ViewName = Literal[
    "Composite",
    "Plate",
    "Matte",
    "Alpha check",
    "Tint",
    "Cut-out",
    "Difference",
    "See-through",
    "Painting",
    "Finished",
    "Delivery",
]
VIEWS: tuple[ViewName, ...] = (
    "Composite", "Plate", "Matte", "Alpha check", "Tint", "Cut-out", "Difference", "See-through", "Painting",
    "Finished", "Delivery",
)  # fmt: skip
WHOLE_VIEWS: tuple[ViewName, ...] = ("Composite", "Finished", "Delivery")  # of all zones together
OWN_VIEWS: tuple[ViewName, ...] = ("Matte", "Alpha check", "Tint", "Cut-out")  # of a matte of a zone's own picture
STEPPED: tuple[ViewName, ...] = ("Plate", "Matte", "Cut-out", "Composite")
BACKINGS = marks("checker", "black", "white", "grey", "new background")
CHANNELS = marks("RGB", "Red", "Green", "Blue", "Alpha", "Luma")

_BASE = (LOWEST_EXPONENT + 127) << 10
_COUNT = (HIGHEST_EXPONENT - LOWEST_EXPONENT) << 10
_GREYS = {  # scene-linear; middle grey is 18 %
    "checker": (np.float32(0.10), np.float32(0.17)),
    "black": (np.float32(0), np.float32(0)),
    "white": (np.float32(1), np.float32(1)),
    "grey": (np.float32(0.18), np.float32(0.18)),
}
_NOTHING = np.zeros((1, 1, 4), np.float32)
_MARKED = (0, 94, 213, 255)  # vermilion of the Okabe–Ito palette, as blue, green, red
_TINT = np.array([0.80, 0.10, 0.02], np.float32)


@dataclass(frozen=True)
class Look:
    """How the viewer shows a picture. Never rendered."""

    exposure: float = 0.0  # stops
    gamma: float = 1.0
    channel: str = "RGB"
    backing: str = "checker"  # what lies behind a cut-out
    lock: str | None = None  # whose reference frame a difference is taken from
    fault: Fault | None = None  # the pixels of a finding, marked in the view that sets alpha apart
    hatch: str | None = None  # the zone whose painting has run out where the picture is hatched
    lut: UsedFile | None = None  # a table for the eye alone, laid on whole pictures and on the plate
    lut_encoding: str = "sRGB"


@lru_cache(maxsize=16)
def _codes(gamma: float) -> Codes:
    table = np.clip(display_table().astype(np.float64), 0, 1) ** (1 / gamma)
    return np.round(table * 255).astype(np.uint8)


@part
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
def _grey_rows(y0, y1, alpha, apart, out):  # type: ignore[no-untyped-def]
    for y in range(y0, y1):
        for x in range(alpha.shape[1]):
            a = alpha[y, x]
            value = np.uint8(min(max(a, np.float32(0.0)), np.float32(1.0)) * 255 + 0.5)
            out[y, x, 0] = out[y, x, 1] = out[y, x, 2] = value
            out[y, x, 3] = 255
            if not apart:
                continue
            if a < np.float32(-1e-4):
                out[y, x, 0], out[y, x, 1], out[y, x, 2] = 178, 114, 0
            elif a > np.float32(1.0001):
                out[y, x, 0], out[y, x, 1], out[y, x, 2] = 66, 228, 240
            elif np.float32(0.01) <= a <= np.float32(0.99):
                lifted = np.uint8(56 + 136 * a)
                out[y, x, 0] = out[y, x, 1] = out[y, x, 2] = lifted


@numba.njit(cache=True, nogil=True)
def _tint_rows(y0, y1, plate, alpha, tint, out):  # type: ignore[no-untyped-def]
    for y in range(y0, y1):
        for x in range(alpha.shape[1]):
            a = min(max(alpha[y, x], np.float32(0.0)), np.float32(1.0))
            for c in range(3):
                out[y, x, c] = plate[y, x, c] * (1 - 0.55 * (1 - a)) + tint[c] * 0.55 * (1 - a)


@numba.njit(cache=True, nogil=True)
def _cut_rows(y0, y1, plate, alpha, cleared, dark, light, behind, out):  # type: ignore[no-untyped-def]
    """What stays over a checker of two greys, or over a picture."""
    for y in range(y0, y1):
        for x in range(alpha.shape[1]):
            a = min(max(alpha[y, x], np.float32(0.0)), np.float32(1.0))
            check = dark if ((x >> 4) + (y >> 4)) & 1 else light
            for c in range(3):
                stays = plate[y, x, c] if cleared else plate[y, x, c] * a
                under = behind[y, x, c] if behind.shape[0] > 1 else check
                out[y, x, c] = stays + under * (1 - a)


def show(pixels: Array, look: Look = Look()) -> Codes:
    """Scene-linear pixels as they appear on an sRGB display.

    Returns
    -------
    (h, w, 4) uint8: blue, green, red, 255.
    """
    out = np.empty((*pixels.shape[:2], 4), np.uint8)
    gain = np.float32(2.0**look.exposure)
    if look.lut is not None:
        whole = pixels if pixels.shape[2] == 4 else np.dstack([pixels, np.ones(pixels.shape[:2], np.float32)])
        lifted = np.ascontiguousarray(whole * np.array([gain, gain, gain, 1], np.float32), np.float32)
        pixels, gain = through_lut(lifted, look.lut.path, look.lut.stamp, look.lut_encoding), np.float32(1)
    channel = CHANNELS.index(look.channel)
    run_bands(_show_rows, out.shape[0], pixels, gain, _codes(look.gamma), channel, out)
    return out


def show_matte(alpha: Array, apart: bool = False) -> Codes:
    """A matte as grey; apart: below 0 blue, above 1 yellow, and 0.01 to 0.99 lifted so that faint holes show.

    Returns
    -------
    (h, w, 4) uint8.
    """
    out = np.empty((*alpha.shape, 4), np.uint8)
    run_bands(_grey_rows, out.shape[0], alpha, apart, out)
    return out


def _difference(shot: Shot, frame: int, plate: Array, lock_id: str | None, pictures: Pictures, scale: float) -> Codes:
    """Coded difference, four times, about middle grey: the plate less the reference frame as the lock carries it."""
    source = shot.plate_source
    lock = next((each for each in shot.locks if each.id == lock_id), None)
    if source is None or lock is None or lock.at(frame) is None:
        return np.full((*plate.shape[:2], 4), (118, 118, 118, 255), np.uint8)
    reference = pictures.plate(source, lock.reference_frame, scale)
    fit = np.diag([plate.shape[1] / source.width, plate.shape[0] / source.height, 1.0])
    motion = fit @ reference_to_frame(shot, lock.id, frame) @ np.linalg.inv(fit)
    carried = warp(reference, motion, (plate.shape[1], plate.shape[0]))
    apart = (coded(plate) - coded(np.ascontiguousarray(carried[..., :3]))) * carried[..., 3:]
    out = np.full((*plate.shape[:2], 4), 255, np.uint8)
    out[..., :3] = np.clip(118 + 4 * 255 * apart[..., ::-1], 0, 255)
    return out


def _hatched(shot: Shot, frame: int, pictures: Pictures, scale: float, look: Look, codes: Codes) -> Codes:
    """Slanted lines where a zone's painting has run out."""
    zone = next((z for z in shot.zones if z.id == look.hatch), None)
    if zone is None or shot.holds_plate(zone) or not zone.placement.on:
        return codes
    missing = missing_cover(shot, zone, frame, pictures, scale) > 0.05
    if missing.any():
        y, x = np.nonzero(missing)
        line = (x + y) % 12 < 3
        codes[y[line], x[line]] = _MARKED
    return codes


def _painting_view(
    shot: Shot,
    frame: int,
    name: ViewName,
    zone_id: str | None,
    pictures: Pictures,
    scale: float,
    look: Look,
    plate: Array,
) -> Codes:
    """A zone's painting by itself, or as it hangs half over the plate, whole."""
    zone = next((z for z in shot.zones if z.id == zone_id), None)
    if zone is None or shot.holds_plate(zone):
        return show(plate, look)
    source = shot.source(zone.source)
    if name == "Painting":
        pixels = pictures.painting_of(zone_picture(shot, zone, frame) or picture_of(source, source.start))
        return show(np.ascontiguousarray(pixels), look)
    layer = compose(shot, frame, pictures, scale, [_bare(zone)])
    return show(np.ascontiguousarray(plate * (1 - 0.5 * layer[..., 3:]) + 0.5 * layer[..., :3]), look)


def view_key(shot: Shot, frame: int, name: ViewName, zone_id: str | None, scale: float, look: Look) -> str:
    """Names all that a view depends on; parameters as in `view`."""
    source = shot.plate_source
    if source is None:
        return digest(("nothing", proxy_size(shot.size, scale)))
    zone = next((z for z in shot.zones if z.id == zone_id), None)
    hatched = next((z for z in shot.zones if z.id == look.hatch), None)
    of_view: tuple[Any, ...] = (name, scale, replace(look, lock=None, hatch=None))
    if hatched is not None and name in ("Composite", "See-through"):
        of_view = (*of_view, _cover_key(shot, hatched, frame, scale))
    plate = picture_of(source, frame)
    if name == "Composite":
        return digest((of_view, plan(shot, frame, scale)))
    if name in ("Finished", "Delivery"):
        return digest((of_view, finished_plan(shot, frame, scale, leaves=name == "Delivery")))
    if name == "Plate":
        return digest((of_view, plate))
    if name == "Painting" and zone is not None:
        own = shot.source(zone.source)
        return digest((of_view, plate, zone_picture(shot, zone, frame) or picture_of(own, own.start)))
    if name == "See-through":
        bare = () if zone is None or shot.holds_plate(zone) else (plan(shot, frame, scale, [_bare(zone)]),)
        return digest((of_view, plate, bare))
    if name == "Difference":
        lock = next((each for each in shot.locks if each.id == look.lock), None)
        if lock is None or lock.at(frame) is None:
            return digest((of_view, plate, None))
        motion = reference_to_frame(shot, lock.id, frame)
        return digest((of_view, plate, picture_of(source, lock.reference_frame), motion))
    cutting = _cutting(shot, zone_id)
    cut = None if cutting is None else zone_matte_plan(shot, cutting, frame, scale)
    extra: tuple[Any, ...] = ()
    if cutting is not None and look.fault is not None and (matte := shot.matte_of(cutting)) is not None:
        extra = fault_key(shot, matte, frame, scale)
    apart = cutting is not None and reads_own(shot, cutting)
    if cutting is not None and look.backing == "new background" and name == "Cut-out" and not apart:
        extra = (plan(shot, frame, scale, _behind(shot, cutting)),)
    return digest((of_view, plate, cut, extra))


def _cover_key(shot: Shot, zone: Zone, frame: int, scale: float) -> tuple[Any, ...]:
    """What decides where a zone's painting runs out."""
    order = shot.near_to_far()
    nearer = plan(shot, frame, scale, order[: order.index(zone) + 1])
    return (nearer, zone.placement.rim)


def _cutting(shot: Shot, zone_id: str | None) -> Zone | None:
    """Whose matte is shown: the zone's, or the nearest zone's that has one on."""
    zone = next((z for z in shot.zones if z.id == zone_id), None)
    if zone is None or not zone.matte.on:
        zone = next((z for z in shot.near_to_far() if z.matte.on and not reads_own(shot, z)), zone)
    return zone


def _behind(shot: Shot, zone: Zone) -> list[Zone]:
    order = shot.near_to_far()
    return order[order.index(zone) + 1 :]


def _bare(zone: Zone) -> Zone:
    return zone.but(matte=MatteUse(), on=True, seam=Seam(), mirror=Mirror(), blend=Blend())


def view(
    shot: Shot, frame: int, name: ViewName, zone_id: str | None, pictures: Pictures, scale: float, look: Look
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
        return _hatched(shot, frame, pictures, scale, look, show(compose(shot, frame, pictures, scale), look))
    if name in ("Finished", "Delivery"):
        planned = finished_plan(shot, frame, scale, leaves=name == "Delivery")
        return show(compose_plan(planned, pictures), look)
    plate = pictures.plate(source, frame, scale)
    if name == "Plate":
        return show(plate, look)
    if name in ("See-through", "Painting"):
        codes = _painting_view(shot, frame, name, zone_id, pictures, scale, look, plate)
        return _hatched(shot, frame, pictures, scale, look, codes) if name == "See-through" else codes
    if name == "Difference":
        return _difference(shot, frame, plate, look.lock, pictures, scale)
    zone = _cutting(shot, zone_id)
    cut = None if zone is None else zone_matte_plan(shot, zone, frame, scale)
    made = None if cut is None else pictures.made(cut)
    own = zone is not None and reads_own(shot, zone)
    if own and cut is not None:
        plate = pictures.pixels(cut.picture, scale)
    alpha = np.ones(plate.shape[:2], np.float32) if made is None else made.alpha
    if name in ("Matte", "Alpha check"):
        codes = show_matte(alpha, name == "Alpha check")
        if name == "Alpha check" and look.fault is not None and made is not None and zone is not None:
            matte = shot.matte_of(zone)
            assert matte is not None
            codes[faulty_pixels(shot, matte, frame, look.fault, pictures, scale)] = _MARKED
        return codes
    mixed = np.empty_like(plate)
    if name == "Tint":
        run_bands(_tint_rows, mixed.shape[0], plate, alpha, _TINT, mixed)
        return show(mixed, look)
    behind = _NOTHING
    if look.backing == "new background" and zone is not None and not own:
        behind = compose(shot, frame, pictures, scale, _behind(shot, zone))
    greys = _GREYS.get(look.backing, _GREYS["checker"])
    cleared = made is not None and made.foreground is not None
    stays = made.foreground if made is not None and made.foreground is not None else plate
    rim = stays[..., 3] if cleared else alpha
    run_bands(_cut_rows, mixed.shape[0], stays, rim, cleared, *greys, behind, mixed)
    return show(mixed, look)
