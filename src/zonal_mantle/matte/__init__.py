"""Mattes: pulls, levels, edge, old-sky removal, shapes, readings."""

from .build import Made, Surroundings, build_matte, feed_of
from .clear_sky import clear_sky
from .colour import colour
from .difference import difference
from .errors import MatteError
from .luma import PRESETS, free_curve, luma
from .oklab import oklab
from .old_sky import remove_old_sky
from .readings import MatteReading, change, chatter, halo, holes_and_leftover, lean, outside, read_matte
from .screen import despill, screen
from .shapes import coverage, outline, shape_alpha, standing
from .sky_fit import fit_sky
from .sky_matte import SkyCut, SkyFound, find_sky, has_sky, sky_matte

__all__ = [
    "PRESETS",
    "Made",
    "MatteError",
    "MatteReading",
    "SkyCut",
    "SkyFound",
    "Surroundings",
    "build_matte",
    "change",
    "chatter",
    "clear_sky",
    "colour",
    "coverage",
    "despill",
    "difference",
    "feed_of",
    "find_sky",
    "fit_sky",
    "free_curve",
    "halo",
    "has_sky",
    "holes_and_leftover",
    "lean",
    "luma",
    "oklab",
    "outline",
    "outside",
    "read_matte",
    "remove_old_sky",
    "screen",
    "shape_alpha",
    "sky_matte",
    "standing",
]
