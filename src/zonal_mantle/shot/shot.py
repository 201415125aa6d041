"""The document: one shot, as a frozen value."""

from __future__ import annotations

from fractions import Fraction
from typing import Literal, TypeVar

from pydantic import Field, model_validator

from .base import Value
from .source import Source
from .zone import Lock, Zone

FORMAT_VERSION = 1

T = TypeVar("T", Source, Zone, Lock)


class Air(Value):
    """Haze between lens and zone: meteorological visibility in metres and the scene-linear airlight colour."""

    visibility_m: float = Field(default=30000.0, ge=10, le=1e6)
    airlight: tuple[float, float, float] = (0.75, 0.78, 0.82)


class Shot(Value):
    """Sources, locks, zones and air. Its frames are the plate's."""

    format: Literal["zonal-mantle-shot"] = "zonal-mantle-shot"
    version: int = FORMAT_VERSION
    name: str = "Untitled"
    plate: str | None = None
    sources: tuple[Source, ...] = ()
    locks: tuple[Lock, ...] = ()
    zones: tuple[Zone, ...] = ()
    air: Air = Air()

    @model_validator(mode="after")
    def _joined_up(self) -> Shot:
        for group, parts in (("source", self.sources), ("lock", self.locks), ("zone", self.zones)):
            ids = [part.id for part in parts]
            if len(ids) != len(set(ids)):
                raise ValueError(f"Two {group}s share an id.")
        source_ids = {source.id for source in self.sources}
        lock_ids = {lock.id for lock in self.locks}
        if self.plate is not None and self.plate not in source_ids:
            raise ValueError("The shot's plate is not among its sources.")
        for zone in self.zones:
            if zone.source not in source_ids:
                raise ValueError(f"Zone {zone.name} holds a source that the shot does not have.")
            if zone.placement.rides is not None and zone.placement.rides not in lock_ids:
                raise ValueError(f"Zone {zone.name} rides on a lock that the shot does not have.")
        return self

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

    def without_zone(self, id: str) -> Shot:
        """Without a zone."""
        return self.but(zones=tuple(zone for zone in self.zones if zone.id != id))

    def without_lock(self, id: str) -> Shot:
        """Without a lock; what rode on it stays where it was hung."""
        zones = tuple(
            zone.but(placement=zone.placement.but(rides=None)) if zone.placement.rides == id else zone
            for zone in self.zones
        )
        return self.but(zones=zones, locks=tuple(lock for lock in self.locks if lock.id != id))

    def new_id(self, stem: str) -> str:
        """An id that nothing in the shot has yet, such as `zone3`."""
        groups: tuple[tuple[Source | Zone | Lock, ...], ...] = (self.sources, self.locks, self.zones)
        taken = {part.id for group in groups for part in group}
        taken |= {shape.id for zone in self.zones for shape in zone.matte.shapes}
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
