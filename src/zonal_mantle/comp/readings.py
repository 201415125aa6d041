"""All readings of a shot, and the findings among them."""

from __future__ import annotations

import math
from dataclasses import asdict, dataclass, field
from typing import Any

from ..lock import LockReading
from ..place.coverage import CoverageReading
from .finding import Finding
from .matte_over_shot import MatteOverShot
from .readings_finish import FinishReading
from .readings_grain import GrainReading
from .readings_lens import LensReading
from .readings_match import MatchReading
from .readings_place import PlaceReading
from .readings_ride import RideReading


@dataclass
class Readings:
    """Every number the shot's stages show, by the id of their matte, lock or zone. `partly`: the mattes are not read on
    all frames yet."""

    mattes: dict[str, MatteOverShot] = field(default_factory=dict)
    locks: dict[str, LockReading] = field(default_factory=dict)
    coverage: dict[str, CoverageReading] = field(default_factory=dict)
    places: dict[str, PlaceReading] = field(default_factory=dict)
    rides: dict[str, RideReading] = field(default_factory=dict)
    matches: dict[str, MatchReading] = field(default_factory=dict)
    grains: dict[str, GrainReading] = field(default_factory=dict)
    lenses: dict[str, LensReading] = field(default_factory=dict)
    finish: FinishReading | None = None
    findings: list[Finding] = field(default_factory=list)
    partly: bool = False

    def as_dict(self) -> dict[str, Any]:
        """Plain values for JSON, which has no numbers that are not numbers: they are None."""
        whole = {
            "mattes": {key: asdict(value) for key, value in self.mattes.items()},
            "locks": {key: asdict(value) for key, value in self.locks.items()},
            "coverage": {key: asdict(value) for key, value in self.coverage.items()},
            "places": {key: asdict(value) for key, value in self.places.items()},
            "rides": {key: asdict(value) for key, value in self.rides.items()},
            "matches": {key: asdict(value) for key, value in self.matches.items()},
            "grains": {key: _of_grain(value) for key, value in self.grains.items()},
            "lenses": {key: asdict(value) for key, value in self.lenses.items()},
            "finish": None if self.finish is None else asdict(self.finish),
            "findings": [asdict(finding) for finding in self.findings],
        }
        return {key: _plain(value) for key, value in whole.items()}


def _of_grain(reading: GrainReading) -> dict[str, Any]:
    compared = None if reading.compared is None else reading.compared._asdict() | {"ratio": reading.compared.ratio}
    return asdict(reading) | {"compared": compared}


def _plain(value: Any) -> Any:
    if isinstance(value, dict):
        return {key: _plain(each) for key, each in value.items()}
    if isinstance(value, list | tuple):
        return [_plain(each) for each in value]
    return None if isinstance(value, float) and not math.isfinite(value) else value
