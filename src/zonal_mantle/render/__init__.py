"""Frames to disk."""

from .errors import RenderError
from .frames import FORMATS, RenderPlan, render

__all__ = ["FORMATS", "RenderError", "RenderPlan", "render"]
