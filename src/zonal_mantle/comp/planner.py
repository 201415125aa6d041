"""From a shot to the plan of one of its frames."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import replace

import numpy as np

from ..geometry import scaling
from ..place.horizon import plate_perspective
from ..place.mirror import mirror_line, mirrored
from ..place.rim import ENDS, edge_of
from ..place.seen import Seen, grid, zone_seen
from ..place.transform import plate_moved
from ..shot import Shot, Zone
from .match_planner import (
    across_of,
    blend_of,
    deep_of,
    films_of,
    glass_of,
    haze_of,
    opacity_of,
    tone_of_zone,
    wrap_of,
)
from .matte_planner import matte_plan, on_plate, proxy_size, reads_own, shown_of, zone_matte_plan, zone_picture
from .plan import (
    DepthBlur,
    Flat,
    FramePlan,
    Gridded,
    Haze,
    Layer,
    Ramp,
)


def plan(shot: Shot, frame: int, scale: float = 1.0, zones: Iterable[Zone] | None = None) -> FramePlan:
    """The plan of a frame.

    Parameters
    ----------
    scale : pixels of the picture to one of the plate.
    zones : from near to far; all of the shot's by default, with their mirrors.
    """
    near_to_far = shot.near_to_far() if zones is None else list(zones)
    standing_zones = [zone for zone in near_to_far if zone.is_seen(frame) and shot.is_switched_on(zone)]
    layers: list[Layer] = []
    if zones is None:
        for zone in standing_zones:
            layers[:0] = _mirror_layers(shot, zone, frame, scale)
    for zone in standing_zones:
        layers += _layers(shot, zone, frame, scale)
    return FramePlan(proxy_size(shot.size, scale), scale, tuple(layers), films=films_of(shot, tuple(layers), frame))


def _layers(shot: Shot, zone: Zone, frame: int, scale: float) -> list[Layer]:
    """A zone's layers: what it holds and, where its seam goes to haze, the haze that it goes to."""
    source, holds_plate = shot.source(zone.source), shot.holds_plate(zone)
    if not holds_plate and not zone.placement.on:
        return []
    picture = shown_of(source, frame) if holds_plate else zone_picture(shot, zone, frame)
    if picture is None:
        return []
    own = reads_own(shot, zone)
    matte = zone_matte_plan(shot, zone, frame, 1.0 if own else scale)
    ramp = seam_ramp(shot, zone, frame)
    view: Flat | Gridded | None = None
    glass = glass_of(shot, zone, frame, scale)
    if holds_plate:
        moved = plate_moved(shot, zone, frame)
        if not np.allclose(moved, np.eye(3), atol=1e-9):  # then it is cut at full size, before it is moved
            fit = scaling(shot.size, proxy_size(shot.size, scale))
            view, matte = Flat((fit @ moved)[None]), zone_matte_plan(shot, zone, frame)
    else:
        margin = 0 if glass is None else glass.margin
        view = _view(shot, zone, zone_seen(shot, zone, frame), scale, margin)
    deep, blend = deep_of(shot, zone, frame), blend_of(shot, zone, frame)
    layer = Layer(
        picture=picture,
        view=view,
        cut=matte if holds_plate or own else None,
        matte=None if holds_plate or own else matte,
        ramp=ramp,
        opacity=opacity_of(shot, zone, frame),
        tone=tone_of_zone(shot, zone, frame),
        haze=haze_of(shot, zone, frame),
        across=across_of(shot, zone, frame),
        deep=None if deep is None else replace(deep, step=deep.step * scale),
        glass=glass,
        wrap=wrap_of(shot, zone, frame),
        mode=blend.mode,
        coded=blend.coded,
        is_plate=holds_plate,
        zone=zone.id,
    )
    layers = [layer]
    if ramp is not None and zone.seam.to == "haze":
        layers.append(
            Layer(**{**vars(layer), "ramp": None, "deep": None, "haze": Haze((0.0, 0.0, 0.0), shot.air.airlight)})
        )
    if zone.blend.on_old_sky and not holds_plate and shot.plate_source is not None:
        layers.append(_old_sky(shot, zone, frame, scale))
    return layers


def _old_sky(shot: Shot, zone: Zone, frame: int, scale: float) -> Layer:
    """The plate's own sky, behind a zone that is laid on it: what the nearest matte of the plate takes away."""
    nearer = shot.near_to_far()
    nearer = nearer[: nearer.index(zone)] if zone in nearer else nearer
    cutting = next((z for z in nearer if shot.holds_plate(z) and z.is_seen(frame) and z.matte.on), None)
    still = cutting is not None and np.allclose(plate_moved(shot, cutting, frame), np.eye(3), atol=1e-9)
    assert shot.plate_source is not None
    return Layer(
        picture=shown_of(shot.plate_source, frame),
        without=zone_matte_plan(shot, cutting, frame, scale) if cutting is not None and still else None,
        is_plate=True,
        zone=zone.id,
    )


def _mirror_layers(shot: Shot, zone: Zone, frame: int, scale: float) -> list[Layer]:
    """What is seen of a zone in its mirror: nearer than everything, below the mirror's line."""
    mirror = zone.mirror
    if not mirror.on or shot.holds_plate(zone) or not zone.placement.on:
        return []
    seen, line = mirrored(shot, zone, frame), mirror_line(shot, zone, frame)
    picture = zone_picture(shot, zone, frame)
    if seen is None or line is None or picture is None:
        return []
    at = (float(line[0]), float(line[1]), float(line[2]))
    rate = mirror.blur_px.at(frame) / 100
    layer = Layer(
        picture=picture,
        view=_view(shot, zone, seen, scale),
        cut=zone_matte_plan(shot, zone, frame) if reads_own(shot, zone) else None,
        matte=None if mirror.matte is None else matte_plan(shot, on_plate(shot.matte(mirror.matte)), frame, scale),
        ramp=Ramp(at, 0.0, 0.0),
        opacity=_unit(mirror.opacity.at(frame)),
        tone=tone_of_zone(shot, zone, frame),
        blur=DepthBlur(at, rate) if rate > 0 else None,
        zone=zone.id,
    )
    return [layer]


def _view(shot: Shot, zone: Zone, seen: Seen, scale: float, margin: int = 0) -> Flat | Gridded:
    source, size = shot.source(zone.source), proxy_size(shot.size, scale)
    edge = edge_of(zone.placement.rim, seen.wraps)
    if seen.matrix is not None and edge == ENDS:
        return Flat((scaling(shot.size, size) @ seen.matrix)[None])
    whole = (source.width, source.height)
    places = grid(seen, size, (size[0] / shot.size[0], size[1] / shot.size[1]), whole, margin)
    return Gridded(places.places, places.step, places.origin, edge)


def seam_ramp(shot: Shot, zone: Zone, frame: int) -> Ramp | None:
    """What a zone's seam leaves of it above the plate's horizon; None without a seam, or where no horizon is known."""
    horizon = plate_perspective(shot, frame).horizon if zone.seam.on else None
    if horizon is None:
        return None
    above = (-float(horizon[0]), -float(horizon[1]), -float(horizon[2]))
    return Ramp(above, zone.seam.lift_px.at(frame), max(zone.seam.height_px.at(frame), 1e-3))


def _unit(value: float) -> float:
    return min(max(value, 0.0), 1.0)
