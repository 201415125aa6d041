"""Placement: where paintings hang, how they are carried there, whether they cover."""

from .coverage import CoverageReading, uncovered
from .ride import camera_matrix, card_motion, carry, removed_px
from .transform import hanging_matrix, lock_matrix, placement_matrix, shape_matrix, zone_matrix
from .warp import warp

__all__ = [
    "CoverageReading",
    "camera_matrix",
    "card_motion",
    "carry",
    "hanging_matrix",
    "lock_matrix",
    "placement_matrix",
    "removed_px",
    "shape_matrix",
    "uncovered",
    "warp",
    "zone_matrix",
]
