"""Matching a zone to the plate: tone, air, lens, wrap, grain; how each is applied and how it is fitted."""

from .air import add_air, distance_for, extinction, transmittance, transmittances, visibility_for
from .cdl import cdl
from .grade import grade

__all__ = [
    "add_air", "cdl", "distance_for", "extinction", "grade", "transmittance", "transmittances", "visibility_for",
]  # fmt: skip
