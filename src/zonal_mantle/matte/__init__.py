"""Mattes: pulls, shapes, readings."""

from .build import build_matte
from .luma import PRESETS, luma
from .readings import MatteReading, read_matte
from .shapes import coverage, outline, shape_alpha

__all__ = [
    "PRESETS",
    "MatteReading",
    "build_matte",
    "coverage",
    "luma",
    "outline",
    "read_matte",
    "shape_alpha",
]
