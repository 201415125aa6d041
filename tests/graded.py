"""Matches of one ASC CDL, for tests of what a grade passes through."""

from typing import Any

from zonal_mantle.shot import AirMatch, Cdl, Match, ToneMatch


def graded(air: bool = True, **cdl: Any) -> Match:
    """A match that does an ASC CDL, and lets the air in or not."""
    return Match(tone=ToneMatch(cdl=Cdl(**cdl)), air=AirMatch(on=air))
