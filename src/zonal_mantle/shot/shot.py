"""The document: one shot, as a frozen value."""

from __future__ import annotations

from fractions import Fraction
from typing import Literal, TypeVar

from pydantic import Field, model_validator

from ..words import say
from .air import Air, Optics
from .base import Value
from .errors import GoneError
from .finish import Finish, Group, Patch
from .guides import Base, Light, Line
from .limits import LONGEST_CHAIN, MOST_LOCKS, MOST_PARTS
from .lock import Lock
from .matte import ClearSkyPull, Matte
from .moods import Mood
from .notes import Note, SetAside, State
from .source import Source
from .zone import MatteUse, Zone

FORMAT_VERSION = 10

T = TypeVar("T", Source, Zone, Lock, Matte)


class Shot(Value):
    """Sources, locks, mattes, zones and air. Its frames are the plate's.

    `lines` are drawn on the plate and carried over the shot by the lock `lines_ride`; `light` says where its light
    comes from; `bases` are the stills that were made of it to be painted on. `work` is the range of frames that is
    worked on, all where it is None. `denoised` and `clean` are sources of the plate without its noise, and without what
    was taken out of it: mattes read the first where it is there, and either on request. `finish` is done to the whole
    picture; `moods` are kept beside one another, of which `mood` is the one at hand; `patches` are followed over the
    shot. `notes`, findings that were `set_aside` and `states` change no picture.
    """

    format: Literal["zonal-mantle-shot"] = "zonal-mantle-shot"
    version: int = FORMAT_VERSION
    name: str = "Untitled"
    plate: str | None = None
    sources: tuple[Source, ...] = Field(default=(), max_length=MOST_PARTS)
    locks: tuple[Lock, ...] = Field(default=(), max_length=MOST_LOCKS)
    mattes: tuple[Matte, ...] = Field(default=(), max_length=MOST_PARTS)
    zones: tuple[Zone, ...] = Field(default=(), max_length=MOST_PARTS)
    air: Air = Air()
    optics: Optics = Optics()
    lines: tuple[Line, ...] = ()
    lines_ride: str | None = None
    light: Light | None = None
    bases: tuple[Base, ...] = ()
    work: tuple[int, int] | None = None
    denoised: str | None = None
    clean: str | None = None
    finish: Finish = Finish()
    groups: tuple[Group, ...] = ()
    moods: tuple[Mood, ...] = ()
    mood: str | None = None
    patches: tuple[Patch, ...] = ()
    notes: tuple[Note, ...] = ()
    set_aside: tuple[SetAside, ...] = ()
    states: tuple[State, ...] = ()

    @model_validator(mode="after")
    def _joined_up(self) -> Shot:
        groups: dict[str, tuple[Source | Lock | Matte | Zone | Group | Mood | Patch | Note | State, ...]] = {
            "source": self.sources, "lock": self.locks, "matte": self.mattes, "zone": self.zones,
            "group": self.groups, "mood": self.moods, "patch": self.patches, "note": self.notes, "state": self.states,
        }  # fmt: skip
        for group, parts in groups.items():
            ids = [part.id for part in parts]
            if len(ids) != len(set(ids)):
                raise ValueError(say("Two parts of the kind {group} share an id.", group=group))
        source_ids = {source.id for source in self.sources}
        lock_ids = {lock.id for lock in self.locks}
        if self.plate is not None and self.plate not in source_ids:
            raise ValueError(say("The shot's plate is not among its sources."))
        if self.work is not None and self.work[0] > self.work[1]:
            raise ValueError(say("The work range ends before it begins."))
        for id in (self.denoised, self.clean):
            if id is not None and (id not in source_ids or not self._like_the_plate(self.source(id))):
                raise ValueError(
                    say("A denoised or clean plate must be among the sources and of the plate's own size.")
                )
        for zone in self.zones:
            if zone.source not in source_ids:
                raise ValueError(say("Zone {name} holds a source that the shot does not have.", name=zone.name))
            if zone.placement.rides is not None and zone.placement.rides not in lock_ids:
                raise ValueError(say("Zone {name} rides on a lock that the shot does not have.", name=zone.name))
            if zone.match.aim.rides is not None and zone.match.aim.rides not in lock_ids:
                raise ValueError(say("The aim of {name} rides on a lock that the shot does not have.", name=zone.name))
            if zone.match.grain.clip is not None and zone.match.grain.clip not in source_ids:
                raise ValueError(say("The grain of {name} is a source that the shot does not have.", name=zone.name))
            if zone.group is not None and all(group.id != zone.group for group in self.groups):
                raise ValueError(say("Zone {name} belongs to a group that the shot does not have.", name=zone.name))
            for id in (zone.matte.id, zone.mirror.matte):
                if id is not None and all(matte.id != id for matte in self.mattes):
                    raise ValueError(say("Zone {name} is cut by a matte that the shot does not have.", name=zone.name))
        zone_ids = {zone.id for zone in self.zones}
        finish = self.finish
        if not finish.locks <= lock_ids or not finish.zones <= zone_ids:
            raise ValueError(say("A local light goes by a lock or a zone that the shot does not have."))
        if finish.grain.clip is not None and finish.grain.clip not in source_ids:
            raise ValueError(say("The grain of the finish is a source that the shot does not have."))
        if any(patch.rides is not None and patch.rides not in lock_ids for patch in self.patches):
            raise ValueError(say("A patch rides on a lock that the shot does not have."))
        if self.mood is not None and all(mood.id != self.mood for mood in self.moods):
            raise ValueError(say("The mood at hand is not among the shot's moods."))
        if self.lines_ride is not None and self.lines_ride not in lock_ids:
            raise ValueError(say("The shot's lines ride on a lock that it does not have."))
        self._chains_end(lock_ids)
        for matte in self.mattes:
            if not matte.locks <= lock_ids:
                raise ValueError(say("{name} rides on a lock that the shot does not have.", name=matte.name))
            if not matte.sources <= source_ids:
                raise ValueError(say("{name} is pulled against a source that the shot does not have.", name=matte.name))
        return self

    def _chains_end(self, ids: set[str]) -> None:
        """Locks that depend on one another do so in chains that end, and soon."""
        waiting = {lock.id: set(lock.locks) for lock in self.locks}
        for lock in self.locks:
            if not lock.locks <= ids:
                raise ValueError(say("{name} depends on a lock that the shot does not have.", name=lock.name))
        for _ in range(LONGEST_CHAIN):
            free = {id for id, under in waiting.items() if not under}
            if not free:
                break
            waiting = {id: under - free for id, under in waiting.items() if id not in free}
        if waiting:
            name = next(lock.name for lock in self.locks if lock.id in waiting)
            if all(under for under in waiting.values()):
                raise ValueError(say("{name} would ride on itself.", name=name))
            raise ValueError(
                say(
                    "{name} ends a chain of more than {longest_chain} locks that ride on one another.",
                    name=name,
                    longest_chain=LONGEST_CHAIN,
                )
            )

    def _like_the_plate(self, source: Source) -> bool:
        plate = self.plate_source
        return plate is not None and (source.width, source.height) == (plate.width, plate.height)

    # --- looking things up ---
    def source(self, id: str) -> Source:
        """The source with an id; GoneError (a KeyError) if there is none."""
        return _find(self.sources, id)

    def zone(self, id: str) -> Zone:
        """The zone with an id; GoneError (a KeyError) if there is none."""
        return _find(self.zones, id)

    def lock(self, id: str) -> Lock:
        """The lock with an id; GoneError (a KeyError) if there is none."""
        return _find(self.locks, id)

    def matte(self, id: str) -> Matte:
        """The matte with an id; GoneError (a KeyError) if there is none."""
        return _find(self.mattes, id)

    def matte_of(self, zone: Zone) -> Matte | None:
        """The matte a zone is cut by, whether it is switched on or not."""
        return self.matte(zone.matte.id) if zone.matte.id is not None else None

    def locks_under(self, id: str) -> set[str]:
        """All the locks that a lock depends on, directly or through others."""
        found: set[str] = set()
        waiting = list(self.lock(id).locks)
        while waiting:
            other = waiting.pop()
            if other not in found:
                found.add(other)
                waiting += self.lock(other).locks
        return found

    @property
    def plate_source(self) -> Source | None:
        """The plate, or None in an empty shot."""
        return self.source(self.plate) if self.plate else None

    @property
    def first(self) -> int:
        """First frame."""
        return self.plate_source.start if self.plate_source else 1

    @property
    def last(self) -> int:
        """Last frame."""
        return self.plate_source.end if self.plate_source else 1

    @property
    def frames(self) -> range:
        """All frame numbers."""
        return range(self.first, self.last + 1)

    @property
    def work_frames(self) -> range:
        """The frames that are worked on."""
        if self.work is None:
            return self.frames
        first, last = max(self.work[0], self.first), min(self.work[1], self.last)
        return range(first, last + 1) if first <= last else self.frames

    @property
    def rate(self) -> Fraction:
        """Frames a second."""
        return self.plate_source.frames_per_second if self.plate_source else Fraction(24)

    @property
    def size(self) -> tuple[int, int]:
        """Width and height in plate pixels."""
        source = self.plate_source
        return (source.width, source.height) if source else (1280, 720)

    def holds_plate(self, zone: Zone) -> bool:
        """Whether a zone shows the plate itself."""
        return zone.source == self.plate

    def own_of(self, matte: Matte) -> Zone | None:
        """The nearest zone whose own picture a matte looks at; None where it looks at the plate."""
        if matte.reads != "own picture":
            return None
        zones = self.near_to_far()
        return next((z for z in zones if z.matte.id == matte.id and not self.holds_plate(z)), None)

    def near_to_far(self) -> list[Zone]:
        """Zones by distance, nearest first; at equal distance the later in the list is nearer."""
        order = sorted(
            enumerate(self.zones),
            key=lambda pair: (
                pair[1].distance_m if pair[1].distance_m is not None else float("inf"),
                -pair[0],
            ),
        )
        return [zone for _, zone in order]

    # --- editing ---
    def with_source(self, source: Source) -> Shot:
        """Adds a source or replaces the one with its id."""
        return self.but(sources=_put(self.sources, source))

    def with_zone(self, zone: Zone) -> Shot:
        """Adds a zone or replaces the one with its id."""
        return self.but(zones=_put(self.zones, zone))

    def with_lock(self, lock: Lock) -> Shot:
        """Adds a lock or replaces the one with its id."""
        return self.but(locks=_put(self.locks, lock))

    def with_matte(self, matte: Matte) -> Shot:
        """Adds a matte or replaces the one with its id."""
        return self.but(mattes=_put(self.mattes, matte))

    def with_zone_matte(self, zone: Zone, matte: Matte, on: bool = True) -> Shot:
        """A zone cut by a matte, which is added to the shot or replaces the one with its id."""
        return self.with_matte(matte).with_zone(zone.but(matte=MatteUse(on=on, id=matte.id)))

    def without_matte(self, id: str) -> Shot:
        """Without a matte; zones that were cut by it are whole."""
        zones = tuple(zone.but(matte=MatteUse()) if zone.matte.id == id else zone for zone in self.zones)
        zones = tuple(z.but(mirror=z.mirror.but(matte=None)) if z.mirror.matte == id else z for z in zones)
        return self.but(zones=zones, mattes=tuple(matte for matte in self.mattes if matte.id != id))

    def with_copy_of(self, zone: Zone) -> Shot:
        """A second zone like one of the shot's, just before it, with a matte of its own."""
        copied = zone.but(id=self.new_id("zone"), name=self._new_name(zone.name))
        shot, matte = self, self.matte_of(zone)
        if matte is not None:
            own = matte.but(id=shot.new_id("matte"), name=say("{name} matte", name=copied.name))
            shot = shot.with_matte(own)
            copied = copied.but(matte=copied.matte.but(id=own.id))
        return shot.with_zone(copied)

    def _new_name(self, name: str) -> str:
        taken, number = {zone.name for zone in self.zones}, 2
        while f"{name} {number}" in taken:
            number += 1
        return f"{name} {number}"

    def without_zone(self, id: str) -> Shot:
        """Without a zone; a group that it was the last of goes with it."""
        zones = tuple(zone for zone in self.zones if zone.id != id)
        used = {zone.group for zone in zones}
        groups = tuple(group for group in self.groups if group.id in used)
        return self.but(
            zones=zones, groups=groups, finish=self.finish.without_zone(id),
            moods=tuple(mood.without_zone(id) for mood in self.moods),
        )  # fmt: skip

    def group_of(self, zone: Zone) -> Group | None:
        """The group that a zone belongs to."""
        return next((group for group in self.groups if group.id == zone.group), None)

    def is_switched_on(self, zone: Zone) -> bool:
        """Whether a zone is on, and its group with it."""
        group = self.group_of(zone)
        return zone.on and (group is None or group.on)

    def members(self, group: str) -> tuple[Zone, ...]:
        """The zones of a group, from near to far."""
        return tuple(zone for zone in self.near_to_far() if zone.group == group)

    def with_group(self, group: Group) -> Shot:
        """Adds a group or replaces the one with its id."""
        known = any(each.id == group.id for each in self.groups)
        rest = tuple(group if each.id == group.id else each for each in self.groups)
        return self.but(groups=rest if known else (*self.groups, group))

    def grouped(self, zone: Zone, name: str) -> Shot:
        """A zone in the group of a name, which is made where there is none; in none where the name is empty. A group
        that nothing belongs to any more goes."""
        group = next((each for each in self.groups if each.name == name), None)
        shot = self
        if group is None and name:
            group = Group(id=self.new_id("group"), name=name)
            shot = shot.with_group(group)
        shot = shot.with_zone(zone.but(group=None if group is None else group.id))
        used = {each.group for each in shot.zones}
        return shot.but(groups=tuple(each for each in shot.groups if each.id in used))

    def without_lock(self, id: str) -> Shot:
        """Without a lock; what rode on it stays where it was hung."""
        zones = tuple(
            zone.but(placement=zone.placement.but(rides=None)) if zone.placement.rides == id else zone
            for zone in self.zones
        )
        zones = tuple(
            zone.but(match=zone.match.but(aim=zone.match.aim.but(rides=None))) if zone.match.aim.rides == id else zone
            for zone in zones
        )
        mattes = tuple(_let_go(matte, id) for matte in self.mattes)
        locks = tuple(_apart(lock, id) for lock in self.locks if lock.id != id)
        lines_ride = None if self.lines_ride == id else self.lines_ride
        patches = tuple(patch.but(rides=None) if patch.rides == id else patch for patch in self.patches)
        bases = tuple(base.but(rides=None) if base.rides == id else base for base in self.bases)
        return self.but(
            zones=zones, mattes=mattes, locks=locks, lines_ride=lines_ride, bases=bases, patches=patches,
            finish=self.finish.without_lock(id), moods=tuple(mood.without_lock(id) for mood in self.moods),
        )  # fmt: skip

    def new_id(self, stem: str) -> str:
        """An id that nothing in the shot has yet, such as `zone3`."""
        groups: tuple[tuple[Source | Zone | Lock | Matte | Group | Mood | Patch | Note | State, ...], ...] = (
            self.sources, self.locks, self.zones, self.mattes, self.groups, self.moods, self.patches, self.notes,
            self.states,
        )  # fmt: skip
        taken = {part.id for group in groups for part in group}
        taken |= {part.id for matte in self.mattes for part in (*matte.shapes, *matte.pulls)}
        taken |= {shape.id for lock in self.locks for shape in lock.field}
        taken |= {line.id for line in self.lines} | {line.id for source in self.sources for line in source.lines}
        taken |= {base.id for base in self.bases}
        taken |= {
            light.id for finish in (self.finish, *(mood.finish for mood in self.moods)) for light in finish.lights
        }
        number = 1
        while f"{stem}{number}" in taken:
            number += 1
        return f"{stem}{number}"


def _find(parts: tuple[T, ...], id: str) -> T:
    for part in parts:
        if part.id == id:
            return part
    raise GoneError(say("The shot has no {id!r}, or not any more.", id=id))


def _put(parts: tuple[T, ...], new: T) -> tuple[T, ...]:
    if any(part.id == new.id for part in parts):
        return tuple(new if part.id == new.id else part for part in parts)
    return parts + (new,)


def _apart(lock: Lock, id: str) -> Lock:
    """A lock that depends on another no more."""
    field = tuple(shape.but(rides=None) if shape.rides == id else shape for shape in lock.field)
    return lock.but(field=field, rides=None if lock.rides == id else lock.rides)


def _let_go(matte: Matte, lock: str) -> Matte:
    """A matte that rides on a lock no more."""
    shapes = tuple(shape.but(rides=None) if shape.rides == lock else shape for shape in matte.shapes)
    pulls = tuple(
        pull.but(**{name: None})
        if (name := {"difference": "rides", "clear sky": "carried_by"}.get(pull.kind)) and getattr(pull, name) == lock
        else pull
        for pull in matte.pulls
    )
    pulls = tuple(
        pull.but(strokes=tuple(each.but(rides=None) if each.rides == lock else each for each in pull.strokes))
        if isinstance(pull, ClearSkyPull)
        else pull
        for pull in pulls
    )
    edge = matte.edge.but(steady_lock=None) if matte.edge.steady_lock == lock else matte.edge
    return matte.but(shapes=shapes, pulls=pulls, edge=edge)
