"""Placement: how paintings hang, how they are carried there, whether they cover, meet and are lit alike."""

from .convert import converted
from .coverage import CoverageReading, covering, opening, read_coverage, uncovered
from .horizon import met, painting_perspective, plate_perspective
from .ride import camera_matrix, card_motion, carry, removed_px
from .seen import plate_places, zone_seen
from .transform import hanging_matrix, lock_matrix, placement_matrix, shape_matrix, zone_matrix
from .warp import warp

__all__ = [
    "CoverageReading",
    "camera_matrix",
    "card_motion",
    "carry",
    "converted",
    "covering",
    "hanging_matrix",
    "lock_matrix",
    "met",
    "opening",
    "painting_perspective",
    "placement_matrix",
    "plate_perspective",
    "plate_places",
    "read_coverage",
    "removed_px",
    "shape_matrix",
    "uncovered",
    "warp",
    "zone_matrix",
    "zone_seen",
]
