"""The document: one shot, as a frozen value."""

from __future__ import annotations

from fractions import Fraction
from typing import Literal, TypeVar

from pydantic import Field, model_validator

from .base import Value
from .guides import Base, Light, Line
from .lock import Lock
from .matte import ClearSkyPull, Matte
from .source import Source
from .zone import MatteUse, Zone

FORMAT_VERSION = 8

T = TypeVar("T", Source, Zone, Lock, Matte)


class Mist(Value):
    """Air that thins with height: the visibility at the ground, the height over which it thins to 1/e, and how high the
    lens stands above the ground. Its foot is the plate's horizon."""

    on: bool = False
    visibility_m: float = Field(default=800.0, ge=1, le=1e6)
    height_m: float = Field(default=10.0, ge=0.1, le=1e4)
    lens_m: float = Field(default=1.7, ge=0, le=1e4)


class Air(Value):
    """Haze between lens and zone: meteorological visibility in metres and the scene-linear airlight colour.

    exponent : how much less of red than of blue is lost, 0 in fog, 1.3 in clear air (Ångström 1929).
    """

    visibility_m: float = Field(default=30000.0, ge=10, le=1e6)
    airlight: tuple[float, float, float] = (0.75, 0.78, 0.82)
    exponent: float = Field(default=0.0, ge=-1, le=4)
    mist: Mist = Mist()


class Optics(Value):
    """The plate's lens and sensor, for focus by distance: focal length, aperture number, distance in focus, width of
    the sensor."""

    focal_mm: float = Field(default=35.0, gt=0, le=2000)
    stop: float = Field(default=4.0, gt=0, le=128)
    focus_m: float = Field(default=50.0, gt=0)
    sensor_mm: float = Field(default=24.9, gt=0, le=100)


class Shot(Value):
    """Sources, locks, mattes, zones and air. Its frames are the plate's.

    `lines` are drawn on the plate and carried over the shot by the lock `lines_ride`; `light` says where its light
    comes from; `bases` are the stills that were made of it to be painted on. `work` is the range of frames that is
    worked on, all where it is None. `denoised` and `clean` are sources of the plate without its noise, and without what
    was taken out of it: mattes read the first where it is there, and either on request.
    """

    format: Literal["zonal-mantle-shot"] = "zonal-mantle-shot"
    version: int = FORMAT_VERSION
    name: str = "Untitled"
    plate: str | None = None
    sources: tuple[Source, ...] = ()
    locks: tuple[Lock, ...] = ()
    mattes: tuple[Matte, ...] = ()
    zones: tuple[Zone, ...] = ()
    air: Air = Air()
    optics: Optics = Optics()
    lines: tuple[Line, ...] = ()
    lines_ride: str | None = None
    light: Light | None = None
    bases: tuple[Base, ...] = ()
    work: tuple[int, int] | None = None
    denoised: str | None = None
    clean: str | None = None

    @model_validator(mode="after")
    def _joined_up(self) -> Shot:
        groups: dict[str, tuple[Source | Lock | Matte | Zone, ...]] = {
            "source": self.sources, "lock": self.locks, "matte": self.mattes, "zone": self.zones,
        }  # fmt: skip
        for group, parts in groups.items():
            ids = [part.id for part in parts]
            if len(ids) != len(set(ids)):
                raise ValueError(f"Two {group}s share an id.")
        source_ids = {source.id for source in self.sources}
        lock_ids = {lock.id for lock in self.locks}
        if self.plate is not None and self.plate not in source_ids:
            raise ValueError("The shot's plate is not among its sources.")
        if self.work is not None and self.work[0] > self.work[1]:
            raise ValueError("The work range ends before it begins.")
        for id in (self.denoised, self.clean):
            if id is not None and (id not in source_ids or not self._like_the_plate(self.source(id))):
                raise ValueError("A denoised or clean plate must be among the sources and of the plate's own size.")
        for zone in self.zones:
            if zone.source not in source_ids:
                raise ValueError(f"Zone {zone.name} holds a source that the shot does not have.")
            if zone.placement.rides is not None and zone.placement.rides not in lock_ids:
                raise ValueError(f"Zone {zone.name} rides on a lock that the shot does not have.")
            if zone.match.aim.rides is not None and zone.match.aim.rides not in lock_ids:
                raise ValueError(f"The aim of {zone.name} rides on a lock that the shot does not have.")
            if zone.match.grain.clip is not None and zone.match.grain.clip not in source_ids:
                raise ValueError(f"The grain of {zone.name} is a source that the shot does not have.")
            for id in (zone.matte.id, zone.mirror.matte):
                if id is not None and all(matte.id != id for matte in self.mattes):
                    raise ValueError(f"Zone {zone.name} is cut by a matte that the shot does not have.")
        if self.lines_ride is not None and self.lines_ride not in lock_ids:
            raise ValueError("The shot's lines ride on a lock that it does not have.")
        for lock in self.locks:
            if not lock.locks <= lock_ids:
                raise ValueError(f"{lock.name} depends on a lock that the shot does not have.")
            if lock.id in self.locks_under(lock.id):
                raise ValueError(f"{lock.name} would ride on itself.")
        for matte in self.mattes:
            if not matte.locks <= lock_ids:
                raise ValueError(f"{matte.name} rides on a lock that the shot does not have.")
            if not matte.sources <= source_ids:
                raise ValueError(f"{matte.name} is pulled against a source that the shot does not have.")
        return self

    def _like_the_plate(self, source: Source) -> bool:
        plate = self.plate_source
        return plate is not None and (source.width, source.height) == (plate.width, plate.height)

    # --- looking things up ---
    def source(self, id: str) -> Source:
        """The source with an id; KeyError if there is none."""
        return _find(self.sources, id)

    def zone(self, id: str) -> Zone:
        """The zone with an id; KeyError if there is none."""
        return _find(self.zones, id)

    def lock(self, id: str) -> Lock:
        """The lock with an id; KeyError if there is none."""
        return _find(self.locks, id)

    def matte(self, id: str) -> Matte:
        """The matte with an id; KeyError if there is none."""
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
            own = matte.but(id=shot.new_id("matte"), name=f"{copied.name} matte")
            shot = shot.with_matte(own)
            copied = copied.but(matte=copied.matte.but(id=own.id))
        return shot.with_zone(copied)

    def _new_name(self, name: str) -> str:
        taken, number = {zone.name for zone in self.zones}, 2
        while f"{name} {number}" in taken:
            number += 1
        return f"{name} {number}"

    def without_zone(self, id: str) -> Shot:
        """Without a zone."""
        return self.but(zones=tuple(zone for zone in self.zones if zone.id != id))

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
        bases = tuple(base.but(rides=None) if base.rides == id else base for base in self.bases)
        return self.but(zones=zones, mattes=mattes, locks=locks, lines_ride=lines_ride, bases=bases)

    def new_id(self, stem: str) -> str:
        """An id that nothing in the shot has yet, such as `zone3`."""
        groups: tuple[tuple[Source | Zone | Lock | Matte, ...], ...] = (
            self.sources, self.locks, self.zones, self.mattes,
        )  # fmt: skip
        taken = {part.id for group in groups for part in group}
        taken |= {part.id for matte in self.mattes for part in (*matte.shapes, *matte.pulls)}
        taken |= {shape.id for lock in self.locks for shape in lock.field}
        taken |= {line.id for line in self.lines} | {line.id for source in self.sources for line in source.lines}
        taken |= {base.id for base in self.bases}
        number = 1
        while f"{stem}{number}" in taken:
            number += 1
        return f"{stem}{number}"


def _find(parts: tuple[T, ...], id: str) -> T:
    for part in parts:
        if part.id == id:
            return part
    raise KeyError(id)


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
