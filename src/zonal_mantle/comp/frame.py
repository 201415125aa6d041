"""A frame of the finished picture: a pure function of shot, frame and scale."""

from __future__ import annotations

from collections.abc import Iterable
from typing import Any

import numpy as np
from numpy.typing import NDArray

from ..match.air import transmittance
from ..match.cdl import grade_numbers
from ..matte import Made
from ..media.bands import cleared, run_bands
from ..place.horizon import plate_perspective
from ..place.minify import shrink_steps
from ..place.mirror import below_line, deeper_softer, mirrored
from ..place.rim import CALM, ENDS, FADE, edge_of
from ..place.seen import Seen, grid, shrink_of, zone_seen
from ..place.timing import source_frame
from ..place.warp import inverse_for
from ..shot import Keyed, Seam, Shot, Zone
from .blend import laid_on
from .lay import lay_foreground, lay_painting, lay_plate, lay_seen
from .store import PixelStore, proxy_size

Array = NDArray[np.float32]
_NO_MATTE = np.ones((1, 1), np.float32)
_NOTHING = np.zeros((1, 1, 4), np.float32)


def compose(
    shot: Shot, frame: int, store: PixelStore, scale: float = 1.0, zones: Iterable[Zone] | None = None
) -> Array:
    """All zones that are on, far to near, over one another; then what is mirrored.

    Parameters
    ----------
    zones : from near to far; all of the shot's by default, with their mirrors.

    Returns
    -------
    (h, w, 4) float32, scene-linear, premultiplied.

    Raises
    ------
    MediaError : a source cannot be read.
    """
    width, height = proxy_size(shot.size, scale)
    order = [zone for zone in (shot.near_to_far() if zones is None else zones) if zone.on]
    if all(_plain(zone) for zone in order):
        out = cleared((height, width, 4))
        for zone in order:
            _lay(shot, zone, frame, store, scale, out)
    else:
        out = _from_behind(shot, order, frame, store, scale)
    if zones is None:
        for zone in order:
            if zone.mirror.on and not shot.holds_plate(zone):
                out = _mirrored_on(shot, zone, frame, store, scale, out)
    return out


def _plain(zone: Zone) -> bool:
    return zone.blend.mode == "normal" and not (zone.blend.coded and zone.blend.opacity != Keyed(constant=1.0))


def _from_behind(shot: Shot, order: list[Zone], frame: int, store: PixelStore, scale: float) -> Array:
    """From far to near, where a zone's colour depends on what is behind it; plain runs between are laid at once."""
    width, height = proxy_size(shot.size, scale)
    out = cleared((height, width, 4))
    run: list[Zone] = []
    for zone in reversed(order):
        if _plain(zone):
            run.insert(0, zone)
            continue
        out = _run_on(shot, run, frame, store, scale, out)
        run = []
        layer = cleared((height, width, 4))
        _lay(shot, zone, frame, store, scale, layer)
        out = laid_on(out, layer, zone.blend.mode, zone.blend.coded)
    return _run_on(shot, run, frame, store, scale, out)


def _run_on(shot: Shot, run: list[Zone], frame: int, store: PixelStore, scale: float, behind: Array) -> Array:
    if not run:
        return behind
    near = cleared(behind.shape)
    for zone in run:
        _lay(shot, zone, frame, store, scale, near)
    return laid_on(behind, near, "normal", False)


def _limit(shot: Shot, zone: Zone, frame: int, scale: float, matte: Array) -> Array:
    """A zone's matte times its opacity, and what its seam leaves of it."""
    opacity = np.float32(min(max(zone.blend.opacity.at(frame), 0.0), 1.0))
    out = matte if opacity == 1 else matte * opacity
    if zone.seam.on:
        ramp = seam_ramp(shot, zone, frame, scale)
        out = out if ramp is None else out * ramp
    return np.ascontiguousarray(out, np.float32)


def seam_ramp(shot: Shot, zone: Zone, frame: int, scale: float) -> Array | None:
    """How much of a painting is left over the plate's horizon: 0 at and below the seam's line, 1 from its height on.
    (h, w) float32; None where the horizon is not known."""
    horizon = plate_perspective(shot, frame).horizon
    if horizon is None:
        return None
    width, height = proxy_size(shot.size, scale)
    x, y = (np.arange(width) + 0.5) / scale, (np.arange(height) + 0.5) / scale
    above = -(horizon[0] * x[None, :] + horizon[1] * y[:, None] + horizon[2]) - zone.seam.lift_px.at(frame)
    share = np.clip(above / max(zone.seam.height_px.at(frame), 1e-3), 0, 1)
    return np.asarray(share * share * (3 - 2 * share), np.float32)


def _lay(shot: Shot, zone: Zone, frame: int, store: PixelStore, scale: float, out: Array) -> None:
    height = out.shape[0]
    made = zone_matte(shot, zone, frame, store, scale)
    matte, matted = (made.alpha, True) if made is not None else (_NO_MATTE, False)
    grade, graded, powered = grade_numbers(zone.match, frame)
    hazy = zone.match.on and zone.match.air
    keep = np.float32(transmittance(zone.distance_m, shot.air.visibility_m) if hazy else 1.0)
    haze = tuple(np.float32(a) * (1 - keep) for a in shot.air.airlight)
    look = (grade, graded, powered, keep, haze)
    source = shot.source(zone.source)
    if shot.holds_plate(zone):
        if made is not None and made.foreground is not None:
            run_bands(lay_foreground, height, made.foreground, *look, out)
        else:
            run_bands(lay_plate, height, store.plate(source, frame, scale), matte, matted, *look, out)
        return
    if not zone.placement.on:
        return
    whole = matte
    if zone.seam.on or zone.blend.opacity != Keyed(constant=1.0):
        full = np.ones(out.shape[:2], np.float32) if not matted else matte
        matte, matted = _limit(shot, zone, frame, scale, full), True
        whole = _limit(shot, zone.but(seam=Seam()), frame, scale, full)
    _lay_painting(shot, zone, frame, store, scale, zone_seen(shot, zone, frame), (matte, matted), look, out)
    if zone.seam.on and zone.seam.to == "haze":
        air = tuple(np.float32(a) for a in shot.air.airlight)
        into = (*look[:3], np.float32(0), air)
        _lay_painting(shot, zone, frame, store, scale, zone_seen(shot, zone, frame), (whole, True), into, out)


def _lay_painting(
    shot: Shot, zone: Zone, frame: int, store: PixelStore, scale: float, seen: Seen, limit: tuple[Array, bool],
    look: tuple[Any, ...], out: Array,
) -> None:  # fmt: skip
    """A zone's painting as it is seen, limited by a matte."""
    source = shot.source(zone.source)
    number = source_frame(zone.timing, source, frame)
    if number is None:
        return
    height, width = out.shape[:2]
    matte, matted = limit
    edge = edge_of(zone.placement.rim, seen.wraps)
    if seen.matrix is not None and edge == ENDS:
        matrix = proxy_matrix(shot, scale) @ seen.matrix
        level = store.painting(source, number, shrink_steps(matrix))
        inverse = inverse_for(matrix, (source.height, source.width), level.shape)
        run_bands(lay_painting, height, level, inverse, matte, matted, *look, out)
        return
    whole = (source.width, source.height)
    places = grid(seen, (width, height), scale, whole, whole)
    steps = shrink_of(places, (width, height))
    level = store.painting(source, number, steps)
    if steps != (0, 0):
        places = places.on(whole, (level.shape[1], level.shape[0]))
    calm = store.calm(source, number) if edge == CALM else _NOTHING
    fade = FADE * min(level.shape[:2])
    run_bands(
        lay_seen, height, level, calm, places.places, places.step, places.origin, edge, fade, matte, matted, *look, out
    )


def _mirrored_on(shot: Shot, zone: Zone, frame: int, store: PixelStore, scale: float, picture: Array) -> Array:
    """The picture with a zone's mirror image laid on it, below the mirror's line."""
    mirror = zone.mirror
    seen = mirrored(shot, zone, frame)
    if seen is None or not zone.placement.on:
        return picture
    height, width = picture.shape[:2]
    depth = below_line(shot, zone, frame, scale)
    limit = (depth > 0).astype(np.float32) * np.float32(min(max(mirror.opacity.at(frame), 0.0), 1.0))
    if mirror.matte is not None:
        limit = limit * np.clip(store.matte(shot, shot.matte(mirror.matte), frame, scale).alpha, 0, 1)
    grade, graded, powered = grade_numbers(zone.match, frame)
    layer = cleared((height, width, 4))
    look = (grade, graded, powered, np.float32(1), (np.float32(0),) * 3)
    _lay_painting(shot, zone, frame, store, scale, seen, (_NO_MATTE, False), look, layer)
    layer = deeper_softer(layer, depth, mirror.blur_px.at(frame) * scale / 100)
    layer *= limit[..., None]
    return laid_on(picture, layer, "normal", False)


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
