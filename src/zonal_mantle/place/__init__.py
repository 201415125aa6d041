"""Placement: where paintings hang, how they are carried there, whether they cover."""

from .coverage import CoverageReading, uncovered
from .transform import carry, lock_matrix, placement_matrix, zone_matrix
from .warp import warp

__all__ = ["CoverageReading", "carry", "lock_matrix", "placement_matrix", "uncovered", "warp", "zone_matrix"]
