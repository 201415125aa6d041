"""Pixels in and out: stills, sequences, video, colour."""

from .colour import encodings
from .errors import MediaError
from .reader import (
    alpha_trouble,
    bits_per_pixel,
    missing_frames,
    open_source,
    quantiser_of,
    read_frame,
    source_problem,
)

__all__ = [
    "MediaError",
    "alpha_trouble",
    "bits_per_pixel",
    "encodings",
    "missing_frames",
    "open_source",
    "quantiser_of",
    "read_frame",
    "source_problem",
]
