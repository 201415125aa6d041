"""All readings of a shot, and the findings among them."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import asdict, dataclass, field
from typing import Any

import numpy as np

from ..lock import LockReading, read_lock
from ..matte import read_matte
from ..media import source_problem
from ..place.coverage import CoverageReading, uncovered
from ..place.transform import zone_matrix
from ..shot import Shot, Zone
from .frame import openness, proxy_matrix
from .store import PixelStore, proxy_size

CHECK_SCALE = 0.25
HOLES_ACCEPTED = 0.002
LEFTOVER_ACCEPTED = 0.002
RESIDUAL_ACCEPTED_PX = 0.3
UNCOVERED_ACCEPTED = 0.00005


@dataclass(frozen=True)
class Finding:
    """A reading that falls outside what is acceptable: where, on which frame, and in words."""

    stage: str
    part: str
    frame: int
    words: str


@dataclass(frozen=True)
class MatteOverShot:
    """A matte's worst frames: shares 0…1."""

    holes: float
    holes_frame: int
    leftover: float
    leftover_frame: int


@dataclass
class Readings:
    """Every number the shot's stages show, by the id of their zone or lock."""

    mattes: dict[str, MatteOverShot] = field(default_factory=dict)
    locks: dict[str, LockReading] = field(default_factory=dict)
    coverage: dict[str, CoverageReading] = field(default_factory=dict)
    findings: list[Finding] = field(default_factory=list)

    def as_dict(self) -> dict[str, Any]:
        """Plain values for JSON."""
        return {
            "mattes": {key: asdict(value) for key, value in self.mattes.items()},
            "locks": {key: asdict(value) for key, value in self.locks.items()},
            "coverage": {key: asdict(value) for key, value in self.coverage.items()},
            "findings": [asdict(finding) for finding in self.findings],
        }


def take_readings(
    shot: Shot,
    store: PixelStore,
    progress: Callable[[float, str], None] = lambda share, words: None,
    scale: float = CHECK_SCALE,
) -> Readings:
    """Measures every stage on every frame, at proxy size.

    Raises
    ------
    MediaError : a frame cannot be read. Missing sources are findings, not errors.
    """
    out = Readings()
    missing = [finding for source in shot.sources if (finding := _source_finding(shot, source.id))]
    out.findings += missing
    for lock in shot.locks:
        reading = read_lock(lock, shot.frames)
        if reading is not None:
            out.locks[lock.id] = reading
    source = shot.plate_source
    if source is not None and not missing:
        _over_frames(shot, store, scale, progress, out)
    out.findings += _findings(shot, out)
    return out


def _source_finding(shot: Shot, id: str) -> Finding | None:
    source = shot.source(id)
    problem = source_problem(source)
    return Finding("Source", source.id, shot.first, problem) if problem else None


def _over_frames(
    shot: Shot, store: PixelStore, scale: float, progress: Callable[[float, str], None], out: Readings
) -> None:
    source = shot.plate_source
    assert source is not None
    matted = [zone for zone in shot.zones if zone.on and zone.matte.on]
    hung = [zone for zone in shot.zones if zone.on and zone.placement.on and not shot.holds_plate(zone)]
    holes: dict[str, list[float]] = {zone.id: [] for zone in matted}
    leftover: dict[str, list[float]] = {zone.id: [] for zone in matted}
    short: dict[str, list[float]] = {zone.id: [] for zone in hung}
    size = proxy_size(shot.size, scale)
    for done, frame in enumerate(shot.frames):
        progress(done / len(shot.frames), f"Reading frame {frame}")
        for zone in matted:
            reading = read_matte(store.matte(source, zone.matte, frame, scale), zone.matte, frame, scale)
            holes[zone.id].append(reading.holes)
            leftover[zone.id].append(reading.leftover)
        for zone in hung:
            short[zone.id].append(float(missing_cover(shot, zone, frame, store, scale).sum()) / (size[0] * size[1]))
    first = shot.first
    for zone in matted:
        h, l = np.array(holes[zone.id]), np.array(leftover[zone.id])
        out.mattes[zone.id] = MatteOverShot(
            float(h.max()), first + int(h.argmax()), float(l.max()), first + int(l.argmax())
        )
    for zone in hung:
        share = np.array(short[zone.id])
        out.coverage[zone.id] = CoverageReading(
            int((share <= UNCOVERED_ACCEPTED).sum()),
            len(share),
            first + int(share.argmax()),
            float(share.max()),
        )


def missing_cover(shot: Shot, zone: Zone, frame: int, store: PixelStore, scale: float) -> np.ndarray:
    """Where a painting has run out on a frame, (h, w) float32; see `place.coverage.uncovered`."""
    painting = store.painting(shot.source(zone.source), frame)
    matrix = proxy_matrix(shot, scale) @ zone_matrix(shot, zone, frame)
    opened = openness(shot, zone, frame, store, scale)
    opened[opened < 0.02] = 0
    if zone.matte.on and shot.plate_source is not None:
        opened = opened * np.clip(store.matte(shot.plate_source, zone.matte, frame, scale), 0, 1)
    return uncovered(np.ascontiguousarray(painting[..., 3]), matrix, proxy_size(shot.size, scale), opened)


def _findings(shot: Shot, readings: Readings) -> list[Finding]:
    found: list[Finding] = []
    for zone in shot.zones:
        matte = readings.mattes.get(zone.id)
        if matte and matte.holes > HOLES_ACCEPTED:
            words = f"{zone.name}: {matte.holes:.1%} of the keep area is not solid."
            found.append(Finding("Matte", zone.id, matte.holes_frame, words))
        if matte and matte.leftover > LEFTOVER_ACCEPTED:
            words = f"{zone.name}: {matte.leftover:.1%} of the dropped area is not empty."
            found.append(Finding("Matte", zone.id, matte.leftover_frame, words))
        cover = readings.coverage.get(zone.id)
        if cover and cover.covered < cover.frames:
            words = f"{zone.name} runs out on {cover.frames - cover.covered} of {cover.frames} frames."
            found.append(Finding("Place", zone.id, cover.worst_frame, words))
        if zone.placement.rides and not shot.lock(zone.placement.rides).solved:
            words = f"{zone.name} rides on {shot.lock(zone.placement.rides).name}, which is not solved."
            found.append(Finding("Lock", zone.id, shot.first, words))
    for lock in shot.locks:
        reading = readings.locks.get(lock.id)
        if reading and reading.worst_px > RESIDUAL_ACCEPTED_PX:
            words = f"{lock.name} is off by {reading.worst_px:.2f} px at its worst."
            found.append(Finding("Lock", lock.id, reading.worst_frame, words))
        if reading and reading.solved < reading.wanted:
            gaps = [frame for frame in shot.frames if lock.at(frame) is None]
            reason = lock.lost[0] if lock.lost else "not solved to the end."
            words = f"{lock.name} holds {reading.solved} of {reading.wanted} frames. {reason}"
            found.append(Finding("Lock", lock.id, gaps[0], words))
    return found
