"""Skies made by us, standing in for a stock house."""

from .library import PLANS, SkyCard, make_library, read_library, sky_picture

__all__ = ["PLANS", "SkyCard", "make_library", "read_library", "sky_picture"]
