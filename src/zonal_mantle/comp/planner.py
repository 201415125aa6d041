"""From a shot to the plan of one of its frames."""

from __future__ import annotations

from collections.abc import Iterable

import numpy as np
from numpy.typing import NDArray

from ..geometry import carry, scaling
from ..match.air import transmittance
from ..match.cdl import tone_of
from ..matte.build import STEADY_FRAMES
from ..matte.shapes import standing
from ..matte.sky_region import Said
from ..media.picture import Picture, picture_of
from ..place.horizon import plate_perspective
from ..place.mirror import mirror_line, mirrored
from ..place.rim import ENDS, edge_of
from ..place.seen import Seen, grid, zone_seen
from ..place.timing import source_frame
from ..place.transform import plate_moved, reference_to_frame
from ..shot import ClearSkyPull, DifferencePull, Matte, Shape, Shot, SkyStroke, Source, Zone
from ..shot.settled import settled
from .plan import (
    CleanPlate,
    DepthBlur,
    FirstSky,
    Flat,
    FramePlan,
    Gridded,
    Haze,
    Layer,
    MattePlan,
    Neighbour,
    Ramp,
    SkyPlan,
    SkyStudy,
)

SKY_FRAMES = 6  # spread over the shot, that its sky is learnt from


def proxy_size(size: tuple[int, int], scale: float) -> tuple[int, int]:
    """Width and height of a proxy."""
    return max(1, round(size[0] * scale)), max(1, round(size[1] * scale))


def plan(shot: Shot, frame: int, scale: float = 1.0, zones: Iterable[Zone] | None = None) -> FramePlan:
    """The plan of a frame.

    Parameters
    ----------
    scale : pixels of the picture to one of the plate.
    zones : from near to far; all of the shot's by default, with their mirrors.
    """
    near_to_far = shot.near_to_far() if zones is None else list(zones)
    standing_zones = [zone for zone in near_to_far if zone.is_seen(frame)]
    layers: list[Layer] = []
    if zones is None:
        for zone in standing_zones:
            layers[:0] = _mirror_layers(shot, zone, frame, scale)
    for zone in standing_zones:
        layers += _layers(shot, zone, frame, scale)
    return FramePlan(proxy_size(shot.size, scale), scale, tuple(layers))


def _layers(shot: Shot, zone: Zone, frame: int, scale: float) -> list[Layer]:
    """A zone's layers: what it holds and, where its seam goes to haze, the haze that it goes to."""
    source, holds_plate = shot.source(zone.source), shot.holds_plate(zone)
    if not holds_plate and not zone.placement.on:
        return []
    number = frame if holds_plate else source_frame(zone.timing, source, frame)
    if number is None:
        return []
    matte = zone_matte_plan(shot, zone, frame, scale)
    ramp = seam_ramp(shot, zone, frame)
    view: Flat | Gridded | None = None
    if holds_plate:
        moved = plate_moved(shot, zone, frame)
        if not np.allclose(moved, np.eye(3), atol=1e-9):  # then it is cut at full size, before it is moved
            fit = scaling(shot.size, proxy_size(shot.size, scale))
            view, matte = Flat((fit @ moved)[None]), zone_matte_plan(shot, zone, frame)
    else:
        view = _view(shot, zone, zone_seen(shot, zone, frame), scale)
    layer = Layer(
        picture=_picture(source, number),
        view=view,
        cut=matte if holds_plate else None,
        matte=None if holds_plate else matte,
        ramp=ramp,
        opacity=_unit(zone.blend.opacity.at(frame)),
        tone=tone_of(zone.match, frame),
        haze=haze_of(shot, zone),
        mode=zone.blend.mode,
        coded=zone.blend.coded,
        is_plate=holds_plate,
        zone=zone.id,
    )
    if ramp is None or zone.seam.to != "haze":
        return [layer]
    into = Layer(**{**vars(layer), "ramp": None, "haze": Haze(0.0, shot.air.airlight)})
    return [layer, into]


def _mirror_layers(shot: Shot, zone: Zone, frame: int, scale: float) -> list[Layer]:
    """What is seen of a zone in its mirror: nearer than everything, below the mirror's line."""
    mirror, source = zone.mirror, shot.source(zone.source)
    if not mirror.on or shot.holds_plate(zone) or not zone.placement.on:
        return []
    seen, line = mirrored(shot, zone, frame), mirror_line(shot, zone, frame)
    number = source_frame(zone.timing, source, frame)
    if seen is None or line is None or number is None:
        return []
    at = (float(line[0]), float(line[1]), float(line[2]))
    rate = mirror.blur_px.at(frame) / 100
    layer = Layer(
        picture=_picture(source, number),
        view=_view(shot, zone, seen, scale),
        matte=matte_plan(shot, shot.matte(mirror.matte), frame, scale) if mirror.matte is not None else None,
        ramp=Ramp(at, 0.0, 0.0),
        opacity=_unit(mirror.opacity.at(frame)),
        tone=tone_of(zone.match, frame),
        blur=DepthBlur(at, rate) if rate > 0 else None,
        zone=zone.id,
    )
    return [layer]


def _picture(source: Source, frame: int) -> Picture:
    return picture_of(source, source.start if source.kind == "still" else min(max(frame, source.start), source.end))


def _view(shot: Shot, zone: Zone, seen: Seen, scale: float) -> Flat | Gridded:
    source, size = shot.source(zone.source), proxy_size(shot.size, scale)
    edge = edge_of(zone.placement.rim, seen.wraps)
    if seen.matrix is not None and edge == ENDS:
        return Flat((scaling(shot.size, size) @ seen.matrix)[None])
    whole = (source.width, source.height)
    places = grid(seen, size, (size[0] / shot.size[0], size[1] / shot.size[1]), whole)
    return Gridded(places.places, places.step, places.origin, edge)


def haze_of(shot: Shot, zone: Zone) -> Haze:
    """The air between the lens and a zone, where its match lets it in."""
    if not (zone.match.on and zone.match.air):
        return Haze()
    keep = transmittance(zone.distance_m, shot.air.visibility_m)
    r, g, b = shot.air.airlight
    return Haze(keep, (r * (1 - keep), g * (1 - keep), b * (1 - keep)))


def seam_ramp(shot: Shot, zone: Zone, frame: int) -> Ramp | None:
    """What a zone's seam leaves of it above the plate's horizon; None without a seam, or where no horizon is known."""
    horizon = plate_perspective(shot, frame).horizon if zone.seam.on else None
    if horizon is None:
        return None
    above = (-float(horizon[0]), -float(horizon[1]), -float(horizon[2]))
    return Ramp(above, zone.seam.lift_px.at(frame), max(zone.seam.height_px.at(frame), 1e-3))


def zone_matte_plan(shot: Shot, zone: Zone, frame: int, scale: float = 1.0) -> MattePlan | None:
    """The plan of what cuts a zone on a frame; None where nothing does."""
    matte = shot.matte_of(zone)
    if not zone.matte.on or matte is None or shot.plate_source is None:
        return None
    return matte_plan(shot, matte, frame, scale)


def matte_plan(shot: Shot, matte: Matte, frame: int, scale: float = 1.0) -> MattePlan:
    """The plan of a matte on a frame of the plate."""
    size = proxy_size(shot.size, scale)
    plate = plate_for(shot, matte)

    def ride(shape: Shape, at: int) -> NDArray[np.float64]:
        return reference_to_frame(shot, shape, at)

    def shapes(mode: str) -> tuple:  # type: ignore[type-arg]
        return tuple(standing(shape, frame, ride) for shape in matte.shapes if shape.on and shape.mode == mode)

    return MattePlan(
        picture=_picture(plate, frame),
        scale=scale,
        matte=_bare(settled(matte, frame)),
        keep=shapes("keep"),
        drop=shapes("drop"),
        cleans=tuple(_clean(shot, pull, frame, size) for pull in matte.pulls),
        skies=tuple(_first_sky(shot, matte, pull, frame) for pull in matte.pulls),
        neighbours=tuple(_neighbours(shot, matte, frame, scale)) if matte.edge.steady > 0 else (),
        regions=tuple(_region(shot, matte, pull, frame) for pull in matte.pulls),
    )


def plate_for(shot: Shot, matte: Matte) -> Source:
    """What a matte is pulled on: the plate, denoised where there is such a one, or as it came, or clean."""
    plate = shot.plate_source
    assert plate is not None
    other = {"plate": shot.denoised, "raw plate": None, "clean plate": shot.clean}[matte.reads]
    return plate if other is None else shot.source(other)


def _bare(matte: Matte) -> Matte:
    """Settings without what only names something: ids, names, and references that the plan holds resolved."""
    named = {"id": "", "carried_by": None, "rides": None, "clean": None, "strokes": ()}
    pulls = tuple(
        pull.model_copy(update={name: value for name, value in named.items() if hasattr(pull, name)})
        for pull in matte.pulls
    )
    edge = matte.edge.model_copy(update={"steady_lock": None})
    return matte.model_copy(update={"id": "", "name": "", "reads": "plate", "shapes": (), "pulls": pulls, "edge": edge})


def _clean(shot: Shot, pull: object, frame: int, size: tuple[int, int]) -> CleanPlate | None:
    if not isinstance(pull, DifferencePull) or pull.clean is None or not pull.on:
        return None
    source = shot.source(pull.clean)
    motion = reference_to_frame(shot, pull.rides, frame)
    whole = scaling((source.width, source.height), shot.size)
    return CleanPlate(_picture(source, frame), scaling(shot.size, size) @ motion @ whole)


def _first_sky(shot: Shot, matte: Matte, pull: object, frame: int) -> FirstSky | None:
    if not isinstance(pull, ClearSkyPull) or pull.finds != "surface" or pull.carried_by is None or not pull.on:
        return None
    reference = min(max(shot.lock(pull.carried_by).reference_frame, shot.first), shot.last)
    return FirstSky(_picture(plate_for(shot, matte), reference), reference_to_frame(shot, pull.carried_by, frame))


def _region(shot: Shot, matte: Matte, pull: object, frame: int) -> SkyPlan | None:
    """Where the sky is looked for by region: learnt from frames spread over the shot, and from those that were drawn
    on."""
    if not isinstance(pull, ClearSkyPull) or pull.finds != "region" or not pull.on:
        return None
    boxes = [] if pull.areas_frame is None else [_box(area, pull.areas_frame) for area in pull.areas]
    strokes = [*boxes, *pull.strokes]
    spread = {shot.frames[int(k)] for k in np.linspace(0, len(shot.frames) - 1, min(SKY_FRAMES, len(shot.frames)))}
    frames = sorted(spread | {stroke.frame for stroke in strokes if stroke.frame in shot.frames})
    plate = plate_for(shot, matte)
    study = SkyStudy(
        shot.size,
        tuple(_picture(plate, each) for each in frames),
        tuple(tuple(_said(shot, stroke, each) for stroke in strokes if stroke.frame == each) for each in frames),
    )
    here = tuple(_said(shot, stroke, frame) for stroke in strokes if stroke.frame == frame or stroke.rides is not None)
    return SkyPlan(study, here)


def _box(area: tuple[float, float, float, float], frame: int) -> SkyStroke:
    x0, y0, x1, y1 = area
    return SkyStroke(frame=frame, points=((x0, y0), (x1, y0), (x1, y1), (x0, y1)), filled=True)


def _said(shot: Shot, stroke: SkyStroke, frame: int) -> Said:
    """A stroke where it lies on a frame."""
    points = np.array(stroke.points, np.float64)
    if stroke.rides is not None and stroke.frame != frame:
        there = reference_to_frame(shot, stroke.rides, stroke.frame)
        points = carry(reference_to_frame(shot, stroke.rides, frame) @ np.linalg.inv(there), points)
    return Said(stroke.says == "sky", tuple((float(x), float(y)) for x, y in points), stroke.width_px, stroke.filled)


def _neighbours(shot: Shot, matte: Matte, frame: int, scale: float) -> list[Neighbour]:
    """The frames beside, made without steadying and without shapes, with their motion to this one."""
    bare = matte.but(shapes=(), edge=matte.edge.but(steady=0.0), old_sky=matte.old_sky.but(on=False))
    lock = matte.edge.steady_lock
    fit = scaling(shot.size, proxy_size(shot.size, scale))
    here = reference_to_frame(shot, lock, frame)
    found = []
    for step in STEADY_FRAMES:
        if frame + step in shot.frames:
            there = reference_to_frame(shot, lock, frame + step)
            motion = fit @ here @ np.linalg.inv(there) @ np.linalg.inv(fit)
            found.append(Neighbour(matte_plan(shot, bare, frame + step, scale), motion))
    return found


def _unit(value: float) -> float:
    return min(max(value, 0.0), 1.0)
