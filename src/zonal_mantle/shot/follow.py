"""Which parts of a lock's motion a rider takes."""

from __future__ import annotations

from ..words import marks
from .base import Value


class Follow(Value):
    """The parts of a motion, each on or off. A painting, a shape or a lock that rides takes those that are on."""

    position: bool = True
    turn: bool = True
    size: bool = True
    shear: bool = True
    perspective: bool = True


WHOLE = Follow()
PARTS = tuple(Follow.model_fields)
NAMES = marks("position", "turn", "size", "shear", "perspective")  # for translators
