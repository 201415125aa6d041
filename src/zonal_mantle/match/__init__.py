"""Matching a zone to the plate: grade and air."""

from .air import add_air, distance_for, extinction, transmittance, visibility_for
from .cdl import cdl, grade

__all__ = ["add_air", "cdl", "distance_for", "extinction", "grade", "transmittance", "visibility_for"]
