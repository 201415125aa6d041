"""A zone, or one stage of it, taken out of a shot and put into the same or another one."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Literal

from ..words import say
from .base import Value
from .errors import ShotError
from .lock import Lock
from .match import Aim, Match, Part
from .matte import Matte
from .shot import Shot
from .source import Source
from .zone import MatteUse, Placement, Zone

Stage = Literal["Matte", "Place", "Match"]


class Carried(Value):
    """A copied zone, or the stage of one, with the matte, source and locks that belong to it, and its plate's path; of
    a match perhaps one `part`."""

    what: str
    stage: Stage | None
    zone: Zone
    matte: Matte | None = None
    source: Source | None = None
    locks: tuple[Lock, ...] = ()
    plate: str | None = None
    part: Part | None = None


def taken_zone(shot: Shot, zone: Zone) -> Carried:
    """A zone whole: with its matte, its source, and the locks that they ride on."""
    return _taken(shot, zone, zone.name, None)


def taken_stage(shot: Shot, zone: Zone, stage: str, part: Part | None = None) -> Carried:
    """One stage of a zone, or one part of its match.

    Raises
    ------
    ShotError : a stage that belongs to the file or to a lock, which zones share anyway.
    """
    if stage not in ("Matte", "Place", "Match"):
        raise ShotError(say("{stage} is not copied from zone to zone. Open Matte, Place or Match.", stage=say(stage)))
    what = part.capitalize() if part is not None else stage
    return _taken(shot, zone, say("{what} of {name}", what=what, name=zone.name), stage).but(part=part)  # type: ignore[arg-type]


def _taken(shot: Shot, zone: Zone, what: str, stage: Stage | None) -> Carried:
    matte = shot.matte_of(zone) if stage in (None, "Matte") else None
    ids = set() if matte is None else set(matte.locks)
    if stage in (None, "Place") and zone.placement.rides is not None:
        ids.add(zone.placement.rides)
    if stage in (None, "Match") and zone.match.aim.rides is not None:
        ids.add(zone.match.aim.rides)
    ids |= {under for id in ids for under in shot.locks_under(id)}
    return Carried(
        what=what,
        stage=stage,
        zone=zone,
        matte=matte,
        source=shot.source(zone.source) if stage is None and not shot.holds_plate(zone) else None,
        locks=tuple(lock for lock in shot.locks if lock.id in ids),
        plate=shot.plate_source.path if shot.plate_source is not None else None,
    )


def pasted(shot: Shot, carried: Carried, to: Sequence[str]) -> tuple[Shot, str, str]:
    """A shot with a carried zone added, or with a carried stage in the place of that of the zones `to`.

    Locks come along only to a shot of the same plate; elsewhere what rode stands still.

    Returns
    -------
    The shot, the id of the zone to look at, and a sentence.

    Raises
    ------
    ShotError : a stage is pasted and no zone is chosen; the plate's zone is pasted into a shot without a plate.
    """
    same_plate = shot.plate_source is not None and shot.plate_source.path == carried.plate
    shot, names = _with_locks(shot, carried.locks if same_plate else ())
    lost = bool(carried.locks) and not same_plate
    words = say(" It belongs to another plate, so what rode on its locks stands still.") if lost else ""
    matte = None if carried.matte is None else _riding(carried.matte, names)
    rides = names.get(carried.zone.placement.rides or "")
    placement = carried.zone.placement.but(rides=rides)
    match = _match_there(carried.zone.match, shot, names, same_plate)
    if carried.stage is None:
        return _with_zone(shot, carried, placement, match, matte, words)
    if not to:
        raise ShotError(say("Choose the zone first that the stage is to be pasted to."))
    for id in to:
        zone = shot.zone(id)
        if carried.stage == "Place":
            parts = {name: getattr(carried.zone, name) for name in ("timing", "blend", "seam", "mirror")}
            parts["mirror"] = parts["mirror"].but(matte=None)
            shot = shot.with_zone(zone.but(placement=placement, **parts))
        elif carried.stage == "Match":
            new = match if carried.part is None else zone.match.with_part(carried.part, match)
            look = carried.zone.look if carried.part in (None, "tone") else zone.look
            shot = shot.with_zone(zone.but(match=new, look=look))
        elif matte is None:
            shot = shot.with_zone(zone.but(matte=MatteUse()))
        else:
            own = matte.but(id=shot.new_id("matte"), name=say("{name} matte", name=zone.name))
            shot = shot.with_zone_matte(zone, own, carried.zone.matte.on)
    names_of = ", ".join(shot.zone(id).name for id in to)
    return (
        shot,
        to[0],
        say("{what} is now that of {zones}.{words}", what=carried.what, zones=names_of, words=words),
    )


def _match_there(match: Match, shot: Shot, names: dict[str, str], same_plate: bool) -> Match:
    """A match in another shot: an aim belongs to its plate, and a clip of grain to the sources."""
    aim = match.aim
    if not same_plate:
        aim = Aim()
    elif aim.rides is not None:
        aim = aim.but(rides=names.get(aim.rides))
    clip = match.grain.clip
    known = clip is None or any(source.id == clip for source in shot.sources)
    return match.but(aim=aim, grain=match.grain if known else match.grain.but(clip=None))


def _with_zone(
    shot: Shot, carried: Carried, placement: Placement, match: Match, matte: Matte | None, words: str
) -> tuple[Shot, str, str]:
    source = carried.source
    if source is None:
        if shot.plate is None:
            raise ShotError(
                say("{name} holds a plate, and this shot has none. Open a plate first.", name=carried.zone.name)
            )
        held = shot.plate
    else:
        there = next((each for each in shot.sources if each.but(id="", name="") == source.but(id="", name="")), None)
        own = there or source.but(id=shot.new_id("source"))
        shot, held = (shot if there else shot.with_source(own)), own.id
    zone = carried.zone.but(
        id=shot.new_id("zone"), source=held, matte=MatteUse(), placement=placement, match=match,
        mirror=carried.zone.mirror.but(matte=None),
        group=carried.zone.group if any(each.id == carried.zone.group for each in shot.groups) else None,
    )  # fmt: skip
    shot = shot.with_zone(zone)
    if matte is not None:
        own_matte = matte.but(id=shot.new_id("matte"), name=say("{name} matte", name=zone.name))
        shot = shot.with_zone_matte(zone, own_matte, carried.zone.matte.on)
    return shot, zone.id, say("{name} is in the shot.{words}", name=zone.name, words=words)


def _with_locks(shot: Shot, locks: tuple[Lock, ...]) -> tuple[Shot, dict[str, str]]:
    """Locks that the shot does not have yet are added; old ids and the ids they go by here."""
    names: dict[str, str] = {}
    for lock in locks:
        there = next((each for each in shot.locks if each == lock or each.but(id=lock.id) == lock), None)
        if there is not None:
            names[lock.id] = there.id
    for lock in locks:
        if lock.id not in names:
            names[lock.id] = shot.new_id("lock")
            field = tuple(shape.but(rides=names.get(shape.rides or "")) for shape in lock.field)
            own = lock.but(id=names[lock.id], rides=names.get(lock.rides or ""), field=field)
            shot = shot.with_lock(own)
    return shot, names


def _riding(matte: Matte, names: dict[str, str]) -> Matte:
    """A matte whose locks go by other ids, or are gone; and whose clean plate is not carried."""
    shapes = tuple(shape.but(rides=names.get(shape.rides or "")) for shape in matte.shapes)
    pulls = []
    for pull in matte.pulls:
        for name in ("rides", "carried_by"):
            if hasattr(pull, name):
                pull = pull.but(**{name: names.get(getattr(pull, name) or "")})
        pulls.append(pull)
    edge = matte.edge.but(steady_lock=names.get(matte.edge.steady_lock or ""))
    return matte.but(shapes=shapes, pulls=tuple(pulls), edge=edge)
