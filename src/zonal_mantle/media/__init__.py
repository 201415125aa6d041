"""Pixels in and out: stills, sequences, video, colour."""

from .colour import encodings
from .errors import MediaError
from .reader import missing_frames, open_source, read_frame, source_problem

__all__ = ["MediaError", "encodings", "missing_frames", "open_source", "read_frame", "source_problem"]
