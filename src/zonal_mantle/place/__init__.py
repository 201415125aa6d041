"""Placement: how paintings hang, how they are carried there, whether they cover, meet and are lit alike."""

from .convert import converted
from .coverage import CoverageReading, covering, opening, read_coverage, uncovered
from .horizon import met, painting_perspective, plate_perspective
from .ride import card_motion, removed_px
from .seen import plate_places, zone_seen
from .transform import flat_to_reference, painting_to_frame, painting_to_reference, reference_to_frame
from .warp import warp

__all__ = [
    "CoverageReading",
    "card_motion",
    "converted",
    "covering",
    "flat_to_reference",
    "met",
    "opening",
    "painting_perspective",
    "painting_to_frame",
    "painting_to_reference",
    "plate_perspective",
    "plate_places",
    "read_coverage",
    "reference_to_frame",
    "removed_px",
    "uncovered",
    "warp",
    "zone_seen",
]
