"""Quick answers, for the eye alone: nothing that measures or renders asks for them.

While something is dragged a sky is cut at the size that is shown. A first answer is for while the sky of a shot is not
learnt yet, which takes a few frames from all over it to be read and judged: until then a frame is cut by what it shows
alone.
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


class QuickAnswers(Pictures):
    """Pictures that are read by others, with mattes of their own, whose skies are cut at the size that is shown, unless
    they are at hand."""

    def __init__(self, pictures: Pictures, limit_bytes: int | None = None) -> None:
        super().__init__(limit_bytes, limit_bytes)
        if limit_bytes is not None:  # half of it for cuts, which sliders of levels and edges go by
            self._frames.limit = self._cuts.limit = limit_bytes // 2
        self._read = pictures

    def pixels(self, picture: Picture | Between, scale: float = 1.0) -> Array:
        return self._read.pixels(picture, scale)

    def painting_of(self, picture: Picture | Between, steps: tuple[int, int] = (0, 0)) -> Array:
        return self._read.painting_of(picture, steps)

    def calm_of(self, picture: Picture | Between) -> Array:
        return self._read.calm_of(picture)

    def cut_out(self, picture: Picture | Between, cut: MattePlan, steps: tuple[int, int] = (0, 0)) -> Array:
        return self._read.cut_out(picture, cut, steps)

    def sky_cut(self, picture: Picture | Between, plan: SkyPlan, pull: ClearSkyPull, scale: float) -> SkyCut:
        there = self._read.finer_cut_if_there(picture, plan, pull, scale)
        return self._own_cut(picture, plan, pull, scale) if there is None else there


class FirstAnswers(QuickAnswers):
    """Quick answers of which each matte is found on its frame alone."""

    cut_out = Pictures.cut_out

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
