"""A first answer while the sky of a shot is not learnt yet: its mattes, found on the one frame that is looked at.

What the shot teaches takes a few frames from all over it to be read and judged. Until then a frame can be cut by what
it shows alone; that is for the eye, and is never kept, measured or rendered.
"""

from __future__ import annotations

from dataclasses import replace

import numpy as np
from numpy.typing import NDArray

from ..matte import Made, SkyCut
from ..media.picture import Picture
from ..shot import ClearSkyPull, Shot
from .matte_planner import zone_matte_plan
from .pictures import Pictures, is_learnt
from .plan import Between, MattePlan, SkyPlan, SkyStudy

Array = NDArray[np.float32]


class FirstAnswers(Pictures):
    """Pictures that are read by others, with mattes of their own, each found on its frame alone."""

    def __init__(self, pictures: Pictures) -> None:
        super().__init__()
        self._read = pictures

    def pixels(self, picture: Picture | Between, scale: float = 1.0) -> Array:
        return self._read.pixels(picture, scale)

    def painting_of(self, picture: Picture | Between, steps: tuple[int, int] = (0, 0)) -> Array:
        return self._read.painting_of(picture, steps)

    def calm_of(self, picture: Picture | Between) -> Array:
        return self._read.calm_of(picture)

    def sky_cut(self, picture: Picture | Between, plan: SkyPlan, pull: ClearSkyPull, scale: float) -> SkyCut:
        """Cut at its own size, which is quick."""
        return self._sky_cut(picture, plan, pull, scale)

    def made(self, plan: MattePlan, with_steps: bool = False) -> Made:
        return super().made(on_its_own(plan), with_steps)


def on_its_own(plan: MattePlan) -> MattePlan:
    """A matte by what its own frame shows."""
    if not isinstance(plan.picture, Picture):
        return plan
    picture = plan.picture

    def alone(region: SkyPlan | None) -> SkyPlan | None:
        return None if region is None else SkyPlan(SkyStudy(region.study.size, (picture,), (region.said,)), region.said)

    return replace(plan, regions=tuple(alone(region) for region in plan.regions), neighbours=())


def awaited(shot: Shot, frame: int) -> list[SkyStudy]:
    """What must be learnt of a shot's skies before the mattes on a frame can be made."""
    plans = [zone_matte_plan(shot, zone, frame) for zone in shot.zones if zone.is_seen(frame)]
    studies = [region.study for plan in plans if plan is not None for region in plan.regions if region is not None]
    return [study for study in studies if not is_learnt(study)]
