"""What a zone's match comes to on a frame: air, lens, wrap, grain, as a plan holds them."""

from __future__ import annotations

import math
from dataclasses import replace

import numpy as np
from numpy.typing import NDArray

from ..finish.look import tone_of_look
from ..geometry import carry
from ..match.air import colour_of_extinction, extinction, mist_depth
from ..match.grade import tone_at, tone_of
from ..match.lens import blur_circle_px, reach_px
from ..match.tone import Tone
from ..media.picture import picture_of
from ..place.horizon import plate_perspective
from ..place.seen import plate_places, zone_seen
from ..place.transform import reference_to_frame
from ..shot import Blend, GrainMatch, Shot, Zone
from ..shot.settled import settled
from .finish_plan import Across, Film
from .plan import DeepHaze, Glass, Haze, Layer, Shutter, Wrap

Array = NDArray[np.float32]
GRID_PX = 24  # plate pixels between the places where depth and motion are worked out
SKY_M = 2e5  # how far off what is at infinity is taken to be in mist
MOST_CLEARED = 3.0  # times: taking more air out of a painting would lift its noise more than its light
MOST_MARGIN = 300
USUAL_FOCAL = 1.3  # frame widths: of a plate whose focal length is not known


def haze_of(shot: Shot, zone: Zone, frame: int) -> Haze:
    """The air between the lens and a zone, where its match lets it in and all of it lies at one distance."""
    if not (zone.match.on and zone.match.air.on) or zone.distance_m is None or needs_depth(shot, zone, frame):
        return Haze()
    thick = net_depth(shot, zone.distance_m, zone.match.air.own_m.at(frame))
    keep = tuple(math.exp(-value) for value in thick)
    added = tuple(light * (1 - share) for light, share in zip(shot.air.airlight, keep))
    return Haze((keep[0], keep[1], keep[2]), (added[0], added[1], added[2]))


def net_depth(shot: Shot, distance_m: NDArray | float, own_m: float) -> NDArray[np.float64]:
    """Optical depth in red, green and blue that is missing at a distance, (…, 3): less what a painting holds."""
    beta = extinction(shot.air.visibility_m) * np.array(colour_of_extinction(shot.air.exponent))
    return np.maximum((np.asarray(distance_m, float)[..., None] - own_m) * beta, -math.log(MOST_CLEARED))


def needs_depth(shot: Shot, zone: Zone, frame: int) -> bool:
    """Whether air changes across a zone on a frame."""
    deep = zone.match.air.far_m is not None and zone.distance_m is not None and not shot.holds_plate(zone)
    return deep or (shot.air.mist.on and plate_perspective(shot, frame).horizon is not None)


def deep_of(shot: Shot, zone: Zone, frame: int) -> DeepHaze | None:
    """The air between the lens and a zone that has depth, or stands in mist; its step is in plate pixels still."""
    if not (zone.match.on and zone.match.air.on and needs_depth(shot, zone, frame)):
        return None
    points, shape = _places(shot.size)
    distance = distances(shot, zone, frame, points)
    known = zone.distance_m is not None
    own = zone.match.air.own_m.at(frame)
    depth = net_depth(shot, distance, own) if known else np.zeros((len(points), 3))
    horizon, mist = plate_perspective(shot, frame).horizon, shot.air.mist
    if mist.on and horizon is not None and not shot.holds_plate(zone):
        focal = plate_perspective(shot, frame).focal_px or USUAL_FOCAL * shot.size[0]
        away = distance if known else np.full(len(points), SKY_M)
        up = -(points @ horizon[:2] + horizon[2]) / np.hypot(*horizon[:2]) * np.sign(horizon[1] or 1.0) * away / focal
        depth = depth + mist_depth(away, up, mist.visibility_m, mist.height_m, mist.lens_m)[:, None]
    return DeepHaze(depth.reshape(*shape, 3), float(GRID_PX), shot.air.airlight)


def distances(shot: Shot, zone: Zone, frame: int, points: NDArray) -> NDArray[np.float64]:
    """How far off a zone is at plate places (n, 2) of a frame: evenly on the section's axis from near to far."""
    near = zone.distance_m if zone.distance_m is not None else SKY_M
    far = zone.match.air.far_m
    if far is None or shot.holds_plate(zone):
        return np.full(len(points), near)
    source = shot.source(zone.source)
    default = ((0.0, float(source.height)), (0.0, 0.0))
    a, b = (np.array(point) for point in zone.match.air.line or default)
    at = zone_seen(shot, zone, frame).back(points)
    share = np.nan_to_num(((at - a) @ (b - a)) / max(float((b - a) @ (b - a)), 1e-9))
    return np.asarray(near * (max(far.at(frame), 1e-3) / near) ** np.clip(share, 0, 1))


def across_of(shot: Shot, zone: Zone, frame: int) -> Across | None:
    """Exposure that changes across the picture; its line rides with the zone."""
    slope = zone.match.tone.across
    stops = slope.stops.at(frame)
    if not (zone.match.on and zone.match.tone.on) or stops == 0:
        return None
    a, b = carry(reference_to_frame(shot, zone, frame), np.array([slope.a, slope.b]))
    return Across((float(a[0]), float(a[1])), (float(b[0]), float(b[1])), stops)


MOST_BLUR = 0.25  # of the plate's longer side: a blur wider than that leaves nothing to be seen of a shape


def glass_of(shot: Shot, zone: Zone, frame: int, scale: float) -> Glass | None:
    """What the lens does to a zone, with the margin that it looks into."""
    group = shot.group_of(zone)
    also = 0.0 if group is None else min(max(group.softness_px.at(frame), 0.0), MOST_BLUR * max(shot.size))
    if not (zone.match.on and zone.match.lens.on):
        if also < 0.02:
            return None
        return Glass(softness_px=also, margin=min(math.ceil(3 * also * scale) + 1, MOST_MARGIN))
    lens = zone.match.lens
    most = MOST_BLUR * max(shot.size)
    radius = min(focus_radius_px(shot, zone, frame), most)
    soft = min(math.hypot(lens.softness_px.at(frame), also), most)
    glass = Glass(
        radius_px=radius, blades=lens.blades, turn_deg=lens.blade_turn_deg, softness_px=soft,
        sharpen=lens.sharpen.at(frame), sharpen_px=lens.sharpen_px.at(frame), overshoot=lens.overshoot.at(frame),
    )  # fmt: skip
    reach = radius + 3 * glass.softness_px
    moved = shutter_of(shot, zone, frame, scale, 0) if lens.motion_blur and not shot.holds_plate(zone) else None
    if moved is not None:
        reach += reach_px(moved.along, moved.bend, moved.opens, moved.closes) / scale
    if reach < 0.02 and glass.sharpen == 0:
        return None
    margin = min(math.ceil(reach * scale) + 1, MOST_MARGIN)
    shutter = None if moved is None else shutter_of(shot, zone, frame, scale, margin)
    return replace(glass, shutter=shutter, margin=margin)


def focus_radius_px(shot: Shot, zone: Zone, frame: int) -> float:
    """How far out of focus a zone is: the radius of a point's disc, in plate pixels."""
    lens, optics = zone.match.lens, shot.optics
    if lens.focus == "radius":
        return max(lens.radius_px.at(frame), 0.0)
    return blur_circle_px(zone.distance_m, optics.focal_mm, optics.stop, optics.focus_m, optics.sensor_mm, shot.size[0])


def shutter_of(shot: Shot, zone: Zone, frame: int, scale: float, margin: int) -> Shutter | None:
    """How a zone moves about a frame: from where it is on the frames before and after; None where it stands still."""
    lens = zone.match.lens
    opens = lens.phase_deg.at(frame) / 360
    closes = opens + max(lens.shutter_deg.at(frame), 0.0) / 360
    points, shape = _places(shot.size, margin / scale)
    before, after = (_found_at(shot, zone, frame, frame + by, points) for by in (-1, 1))
    if before is None and after is None:
        return None
    if before is None or after is None:
        only = after if after is not None else -np.asarray(before)
        along, bend = np.asarray(only), np.zeros_like(points)
    else:
        along, bend = (after - before) / 2, (after + before) / 2
    way, turn = (np.nan_to_num(part * scale).reshape(*shape, 2).astype(np.float32) for part in (along, bend))
    if reach_px(way, turn, opens, closes) < 0.02:
        return None
    return Shutter(way, turn, GRID_PX * scale, opens, closes)


def _found_at(shot: Shot, zone: Zone, frame: int, other: int, points: NDArray) -> NDArray | None:
    """Where on a frame is found what is seen at plate places on another, from there; None off the shot."""
    if other not in shot.frames:
        return None
    there = zone_seen(shot, zone, other).back(points)
    return np.asarray(plate_places(shot, zone, frame, there) - points)


def _places(size: tuple[int, int], margin: float = 0.0) -> tuple[NDArray[np.float64], tuple[int, int]]:
    """Plate places every `GRID_PX` over a frame that is larger to each side, (n, 2), and their rows and columns."""
    xs, ys = (np.arange(0, extent + 2 * margin + 2 * GRID_PX, GRID_PX, dtype=float) - margin for extent in size)
    gx, gy = np.meshgrid(xs, ys)
    return np.stack([gx.ravel(), gy.ravel()], axis=1), (len(ys), len(xs))


def wrap_of(shot: Shot, zone: Zone, frame: int) -> Wrap | None:
    """The light of the background on a zone's rim: its group's where it is the group's farthest and that has one."""
    group, wrap = shot.group_of(zone), zone.match.wrap
    if group is not None and is_farthest(shot, zone, frame):
        far, much = group.wrap_px.at(frame), group.wrap_amount.at(frame)
        if far > 0 and much > 0:
            return Wrap(far / 2, min(much, 4.0), wrap.only_brighter)
    amount, width = wrap.amount.at(frame), wrap.width_px.at(frame)
    if not (zone.match.on and wrap.on) or amount <= 0 or width <= 0:
        return None
    return Wrap(width / 2, min(amount, 4.0), wrap.only_brighter)


def films_of(shot: Shot, layers: tuple[Layer, ...], frame: int) -> tuple[Film, ...]:
    """The grains of a frame, each with its strengths on the layers; what is plate has its own."""
    grouped: dict[Film, list[float]] = {}
    for number, layer in enumerate(layers):
        if layer.is_plate or not layer.zone:
            continue
        zone = shot.zone(layer.zone)
        grain = zone.match.grain
        film = film_of(shot, grain, frame) if zone.match.on and grain.on else None
        if film is not None:
            plain = replace(film, strengths=())
            grouped.setdefault(plain, [0.0] * len(layers))[number] = film.strengths[0]
    return tuple(replace(film, strengths=tuple(strengths)) for film, strengths in grouped.items())


def film_of(shot: Shot, grain: GrainMatch, frame: int, share: float = 1.0) -> Film | None:
    """A grain on a frame, by a share of its strength; None where there is nothing of it."""
    strength = grain.strength.at(frame) * share
    if strength <= 0:
        return None
    clip = None
    if grain.clip is not None:
        source = shot.source(grain.clip)
        count = source.end - source.start + 1  # a clip that is shorter than the shot begins again
        clip = picture_of(source, source.start + (frame - shot.first) % max(count, 1))
    model = None if clip else grain.model
    return Film(model, clip, grain.clip_grey, max(grain.size.at(frame), 0.1), grain.seed, frame, (strength,))


def tone_of_zone(shot: Shot, zone: Zone, frame: int) -> Tone:
    """All that is done to a zone's colour but for the air: its own tone, its look, and those of its group."""
    own = (*tone_of(zone.match, frame).stages, *tone_of_look(zone.look if zone.match.on else None, frame).stages)
    group = shot.group_of(zone)
    if group is None:
        return Tone(own)
    theirs = tone_at(settled(group.tone, frame)).stages if group.tone.on else ()
    return Tone((*own, *theirs, *tone_of_look(group.look, frame).stages))


def is_farthest(shot: Shot, zone: Zone, frame: int) -> bool:
    """Whether a zone is the farthest of its group that is seen on a frame: it carries the group's wrap and blend."""
    if zone.group is None:
        return False
    seen = [each for each in shot.members(zone.group) if each.is_seen(frame)]
    return bool(seen) and seen[-1].id == zone.id


def blend_of(shot: Shot, zone: Zone, frame: int) -> Blend:
    """How a zone is laid: by its own blend, or by its group's mode where it is the group's farthest."""
    group = shot.group_of(zone)
    if group is None or group.mode == "normal" or not is_farthest(shot, zone, frame):
        return zone.blend
    return zone.blend.but(mode=group.mode)


def opacity_of(shot: Shot, zone: Zone, frame: int) -> float:
    """A zone's opacity on a frame, with its group's."""
    group = shot.group_of(zone)
    whole = zone.blend.opacity.at(frame) * (1.0 if group is None else group.opacity.at(frame))
    return min(max(whole, 0.0), 1.0)
