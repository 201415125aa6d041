"""From a shot to the plan of one of its mattes: of the plate, or of the picture that a zone holds."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
from numpy.typing import NDArray

from ..geometry import carry, scaling
from ..matte.build import STEADY_FRAMES
from ..matte.shapes import Standing, standing
from ..matte.sky_region import Said
from ..media.picture import Picture, picture_of
from ..place.timing import zone_between, zone_frame
from ..place.transform import reference_to_frame
from ..shot import ClearSkyPull, DifferencePull, Matte, Shape, Shot, SkyStroke, Source, Zone
from ..shot.settled import settled
from .plan import Between, CleanPlate, FirstSky, MattePlan, Neighbour, SkyPlan, SkyStudy

SKY_FRAMES = 6  # spread over the shot, that its sky is learnt from


def proxy_size(size: tuple[int, int], scale: float) -> tuple[int, int]:
    """Width and height of a proxy."""
    return max(1, round(size[0] * scale)), max(1, round(size[1] * scale))


def zone_picture(shot: Shot, zone: Zone, frame: int) -> Picture | Between | None:
    """What a zone's source shows on a frame of the shot; None where it shows nothing."""
    source, number = shot.source(zone.source), zone_frame(shot, zone, frame)
    if number is None:
        return None
    between = zone_between(shot, zone, frame)
    if between is None:
        return shown_of(source, number)
    before, after, share = between
    return Between(shown_of(source, before), shown_of(source, after), share, zone.timing.between == "flow")


def reads_own(shot: Shot, zone: Zone) -> bool:
    """Whether what cuts a zone is pulled on the zone's own picture."""
    matte = shot.matte_of(zone)
    return zone.matte.on and matte is not None and matte.reads == "own picture" and not shot.holds_plate(zone)


def is_cut(shot: Shot, zone: Zone) -> bool:
    """Whether a matte that pulls or has shapes cuts a zone."""
    matte = shot.matte_of(zone)
    return zone.matte.on and matte is not None and bool(matte.pulls or matte.shapes)


def shown_of(source: Source, frame: int) -> Picture:
    """A source's picture on one of its own frames, or on the nearest that it uses."""
    return picture_of(source, source.start if source.kind == "still" else min(max(frame, source.start), source.end))


def zone_matte_plan(shot: Shot, zone: Zone, frame: int, scale: float = 1.0) -> MattePlan | None:
    """The plan of what cuts a zone on a frame; None where nothing does."""
    matte = shot.matte_of(zone)
    if not zone.matte.on or matte is None or shot.plate_source is None:
        return None
    return matte_plan(shot, matte, frame, scale, zone)


def matte_plan(shot: Shot, matte: Matte, frame: int, scale: float = 1.0, zone: Zone | None = None) -> MattePlan:
    """The plan of a matte on a frame of the shot.

    zone : what it cuts, where it looks at that zone's own picture; by default the nearest that it cuts. Such a plan is
        in that picture's pixels, and `scale` is to one of them. The own picture of a zone of the plate is the plate.
    """
    if matte.reads == "own picture":
        zone = shot.own_of(matte) if zone is None else zone
        if zone is not None and not shot.holds_plate(zone):
            return _own_plan(shot, matte, frame, scale, zone)
        matte = on_plate(matte)
    size = proxy_size(shot.size, scale)
    plate = plate_for(shot, matte)

    def ride(shape: Shape, at: int) -> NDArray[np.float64]:
        return reference_to_frame(shot, shape, at)

    def shapes(mode: str) -> tuple:  # type: ignore[type-arg]
        return tuple(standing(shape, frame, ride) for shape in matte.shapes if shape.on and shape.mode == mode)

    return MattePlan(
        picture=shown_of(plate, frame),
        scale=scale,
        matte=_bare(settled(matte, frame)),
        keep=shapes("keep"),
        drop=shapes("drop"),
        cleans=tuple(_clean(shot, pull, frame, size) for pull in matte.pulls),
        skies=tuple(_first_sky(shot, matte, pull, frame) for pull in matte.pulls),
        neighbours=tuple(_neighbours(shot, matte, frame, scale)) if matte.edge.steady > 0 else (),
        regions=tuple(_region(shot, matte, pull, frame) for pull in matte.pulls),
    )


def on_plate(matte: Matte) -> Matte:
    """A matte as it is of the plate, whatever it looks at elsewhere."""
    return matte.but(reads="plate") if matte.reads == "own picture" else matte


def _own_plan(shot: Shot, matte: Matte, frame: int, scale: float, zone: Zone) -> MattePlan:
    """A matte in the pixels of the picture that it cuts. No lock of the plate moves anything there."""
    source = shot.source(zone.source)
    shown = zone_picture(shot, zone, frame) or shown_of(source, source.start)
    size = proxy_size(shown.size, scale)

    def shapes(mode: str) -> tuple[Standing, ...]:
        free = (shape.but(rides=None, about=None) for shape in matte.shapes if shape.on and shape.mode == mode)
        return tuple(standing(shape, frame) for shape in free)

    def clean(pull: object) -> CleanPlate | None:
        if not isinstance(pull, DifferencePull) or pull.clean is None or not pull.on:
            return None
        other, now = shot.source(pull.clean), shown if isinstance(shown, Picture) else shown.before
        return CleanPlate(shown_of(other, now.number), scaling((other.width, other.height), size))

    def region(pull: object) -> SkyPlan | None:
        if not isinstance(pull, ClearSkyPull) or pull.finds != "region" or not pull.on:
            return None
        own = range(source.start, source.end + 1) if source.kind != "still" else range(source.start, source.start + 1)
        said = {each: _said_on(pull, each) for each in shot.frames}
        pictures = {each: zone_picture(shot, zone, each) for each in said if said[each]}
        spread = [own[int(k)] for k in np.linspace(0, len(own) - 1, min(SKY_FRAMES, len(own)))]
        studied: list[tuple[Picture, tuple[Said, ...]]] = [(shown_of(source, each), ()) for each in spread]
        studied += [(at, said[each]) for each, at in pictures.items() if isinstance(at, Picture)]
        study = SkyStudy(shown.size, tuple(at for at, _ in studied), tuple(words for _, words in studied))
        beside = _beside(source, shown.number, pull.neighbours) if isinstance(shown, Picture) else ()
        return SkyPlan(study, _said_on(pull, frame), beside)

    return MattePlan(
        picture=shown,
        scale=scale,
        matte=_bare(settled(matte, frame)),
        keep=shapes("keep"),
        drop=shapes("drop"),
        cleans=tuple(clean(pull) for pull in matte.pulls),
        skies=tuple(None for pull in matte.pulls),
        neighbours=tuple(_own_neighbours(shot, matte, frame, scale, zone, shown)) if matte.edge.steady > 0 else (),
        regions=tuple(region(pull) for pull in matte.pulls),
    )


def _own_neighbours(
    shot: Shot, matte: Matte, frame: int, scale: float, zone: Zone, shown: Picture | Between
) -> list[Neighbour]:
    """The clip's own frames beside the one that is shown. No lock says how they move: what does is left alone."""
    source = shot.source(zone.source)
    if source.kind == "still" or not isinstance(shown, Picture):
        return []
    bare = _own_plan(shot, _unsteadied(matte), frame, scale, zone)

    def there(number: int) -> MattePlan:
        regions = tuple(
            replace(region, beside=_beside(source, number, pull.neighbours))
            if region is not None and isinstance(pull, ClearSkyPull)
            else region
            for region, pull in zip(bare.regions, matte.pulls)
        )
        return replace(bare, picture=shown_of(source, number), regions=regions)

    numbers = [shown.number + step for step in STEADY_FRAMES]
    return [Neighbour(there(each), np.eye(3)) for each in numbers if source.start <= each <= source.end]


def _unsteadied(matte: Matte) -> Matte:
    """As the frames beside are made: without steadying and shapes, and nothing taken out of them."""
    return matte.but(shapes=(), edge=matte.edge.but(steady=0.0), old_sky=matte.old_sky.but(on=False))


def _said_on(pull: ClearSkyPull, frame: int) -> tuple[Said, ...]:
    """What was said of a frame, where it was said."""
    boxes = [_box(area, pull.areas_frame) for area in pull.areas if pull.areas_frame is not None]
    return tuple(
        Said(stroke.says == "sky", stroke.points, stroke.width_px, stroke.filled)
        for stroke in (*boxes, *pull.strokes)
        if stroke.frame == frame
    )


def plate_for(shot: Shot, matte: Matte) -> Source:
    """What a matte is pulled on: the plate, denoised where there is such a one, or as it came, or clean."""
    plate = shot.plate_source
    assert plate is not None
    other = {"raw plate": None, "clean plate": shot.clean}.get(matte.reads, shot.denoised)
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
    return CleanPlate(shown_of(source, frame), scaling(shot.size, size) @ motion @ whole)


def _first_sky(shot: Shot, matte: Matte, pull: object, frame: int) -> FirstSky | None:
    if not isinstance(pull, ClearSkyPull) or pull.finds != "surface" or pull.carried_by is None or not pull.on:
        return None
    reference = min(max(shot.lock(pull.carried_by).reference_frame, shot.first), shot.last)
    return FirstSky(shown_of(plate_for(shot, matte), reference), reference_to_frame(shot, pull.carried_by, frame))


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
        tuple(shown_of(plate, each) for each in frames),
        tuple(tuple(_said(shot, stroke, each) for stroke in strokes if stroke.frame == each) for each in frames),
    )
    here = tuple(_said(shot, stroke, frame) for stroke in strokes if stroke.frame == frame or stroke.rides is not None)
    return SkyPlan(study, here, _beside(plate, frame, pull.neighbours))


def _beside(source: Source, frame: int, count: int) -> tuple[Picture, ...]:
    """A clip's frames beside one of its own, up to `count` before and after."""
    if source.kind == "still":
        return ()
    numbers = [frame + step for step in range(-count, count + 1) if step != 0]
    return tuple(picture_of(source, each) for each in numbers if source.start <= each <= source.end)


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
    bare = _unsteadied(matte)
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
