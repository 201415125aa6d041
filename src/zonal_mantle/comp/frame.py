"""A frame of the finished picture: a pure function of shot, frame and scale."""

from __future__ import annotations

from collections.abc import Iterable

import numpy as np
from numpy.typing import NDArray

from ..match.air import transmittance
from ..match.cdl import grade_numbers
from ..matte import Made
from ..media.bands import cleared, run_bands
from ..place.minify import shrink_steps
from ..place.transform import zone_matrix
from ..place.warp import inverse_for
from ..shot import Shot, Zone
from .lay import lay_foreground, lay_painting, lay_plate
from .store import PixelStore, proxy_size

Array = NDArray[np.float32]
_NO_MATTE = np.ones((1, 1), np.float32)


def compose(
    shot: Shot, frame: int, store: PixelStore, scale: float = 1.0, zones: Iterable[Zone] | None = None
) -> Array:
    """All zones that are on, far to near, over one another.

    Parameters
    ----------
    zones : from near to far; all of the shot's by default.

    Returns
    -------
    (h, w, 4) float32, scene-linear, premultiplied.

    Raises
    ------
    MediaError : a source cannot be read.
    """
    width, height = proxy_size(shot.size, scale)
    out = cleared((height, width, 4))
    for zone in shot.near_to_far() if zones is None else zones:
        if zone.on:
            _lay(shot, zone, frame, store, scale, out)
    return out


def _lay(shot: Shot, zone: Zone, frame: int, store: PixelStore, scale: float, out: Array) -> None:
    height = out.shape[0]
    made = zone_matte(shot, zone, frame, store, scale)
    matte, matted = (made.alpha, True) if made is not None else (_NO_MATTE, False)
    grade, graded, powered = grade_numbers(zone.match, frame)
    hazy = zone.match.on and zone.match.air
    keep = np.float32(transmittance(zone.distance_m, shot.air.visibility_m) if hazy else 1.0)
    haze = tuple(np.float32(a) * (1 - keep) for a in shot.air.airlight)
    look = (matted, grade, graded, powered, keep, haze)
    source = shot.source(zone.source)
    if shot.holds_plate(zone):
        if made is not None and made.foreground is not None:
            run_bands(lay_foreground, height, made.foreground, *look[1:], out)
        else:
            run_bands(lay_plate, height, store.plate(source, frame, scale), matte, *look, out)
        return
    if not zone.placement.on:
        return
    matrix = proxy_matrix(shot, scale) @ zone_matrix(shot, zone, frame)
    level = store.painting(source, frame, shrink_steps(matrix))
    inverse = inverse_for(matrix, (source.height, source.width), level.shape)
    run_bands(lay_painting, height, level, inverse, matte, *look, out)


def zone_matte(shot: Shot, zone: Zone, frame: int, store: PixelStore, scale: float = 1.0) -> Made | None:
    """What cuts a zone on a frame; None where nothing does."""
    matte = shot.matte_of(zone)
    if not zone.matte.on or matte is None or shot.plate_source is None:
        return None
    return store.matte(shot, matte, frame, scale)


def proxy_matrix(shot: Shot, scale: float) -> NDArray[np.float64]:
    """Plate pixels to proxy pixels."""
    width, height = proxy_size(shot.size, scale)
    return np.diag([width / shot.size[0], height / shot.size[1], 1.0])


def openness(shot: Shot, zone: Zone, frame: int, store: PixelStore, scale: float = 1.0) -> Array:
    """Share of a zone's light that passes all that is nearer. (h, w) float32."""
    nearer = []
    for other in shot.near_to_far():
        if other.id == zone.id:
            break
        nearer.append(other)
    return np.ascontiguousarray(1 - compose(shot, frame, store, scale, nearer)[..., 3])
