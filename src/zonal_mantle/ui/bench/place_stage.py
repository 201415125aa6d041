"""The Place stage: how the painting hangs, its horizon, whether it covers, its light, how it is laid."""

from __future__ import annotations

from functools import cached_property

import numpy as np

from ...comp import Mend
from ...comp.readings_place import PlaceReading
from ...place.transform import plate_moved
from ...words import say
from ..desk import Desk
from ..tools.place import PlaceTool
from .cover_panel import CoverPanel
from .hang_panel import HangPanel
from .lay_panel import LayPanel
from .level_panel import LevelPanel
from .light_panel import LightPanel
from .stage import Stage


class PlaceStage(Stage):
    """Transform, Level, Cover, Light, Blend."""

    name = "Place"
    tip = "Where the painting hangs, and whether it belongs there"

    def __init__(self, desk: Desk, tool: PlaceTool) -> None:
        super().__init__(desk)
        self._lines = tool.lines
        self.add_parts(
            ("Transform", lambda: self.hang, "How the painting hangs: its way and its numbers"),
            ("Level", lambda: self.level, "Horizon and vanishing points of plate and painting"),
            ("Cover", lambda: self.cover, "Whether it covers every frame; painting bases"),
            ("Light", lambda: self.light, "Which side the light comes from"),
            ("Blend", lambda: self.lay, "Blend mode, opacity, seam, mirror in water"),
        )

    @cached_property
    def hang(self) -> HangPanel:
        """How it hangs."""
        return HangPanel(self.desk)

    @cached_property
    def level(self) -> LevelPanel:
        """Horizons."""
        return LevelPanel(self.desk, self._lines)

    @cached_property
    def cover(self) -> CoverPanel:
        """Whether it covers."""
        return CoverPanel(self.desk)

    @cached_property
    def light(self) -> LightPanel:
        """Where its light comes from."""
        return LightPanel(self.desk, self._lines)

    @cached_property
    def lay(self) -> LayPanel:
        """How it is laid."""
        return LayPanel(self.desk, self._lines)

    def show_header(self) -> None:
        zone = self.zone
        placement = zone.placement
        self.header.switch.setChecked(placement.on)
        place = self.desk.readings.places.get(zone.id)
        self.header.show_mend(self._mend(place))
        if not placement.on:
            self.header.show_reading("off: not in the picture")
        elif self.desk.shot.holds_plate(zone):
            moved = not np.allclose(plate_moved(self.desk.shot, zone, self.desk.frame), np.eye(3), atol=1e-9)
            self.header.show_reading("moved" if moved else "as it was shot")
        elif place is None:
            self.header.show_reading("…")
        elif place.screen is not None:
            self.header.show_reading("not keyed")
        else:
            cover = place.coverage
            self.header.show_reading(
                say("covers {covered}/{frames}", covered=cover.covered, frames=cover.frames),
                place.runs_out,
            )

    def show_body(self) -> None:
        super().show_body()
        plate = self.desk.shot.holds_plate(self.zone)
        for name in ("Level", "Cover", "Light"):  # of paintings only
            self.tabs[name].setEnabled(not plate)
        self.open_part("Transform" if plate and self.part in ("Level", "Cover", "Light") else self.part)

    def _mend(self, place: PlaceReading | None) -> Mend | None:
        """Into the picture, or larger, where the painting runs out."""
        zone = self.zone
        if not zone.placement.on:
            return Mend("place on", "Switch the placement on", zone.id)
        short = place is not None and place.runs_out
        return Mend("cover", "Scale to cover", zone.id) if short and zone.placement.way == "flat" else None

    def switch(self, on: bool) -> None:
        placement = self.zone.placement.but(on=on)
        self.desk.edit_zone(self.zone.but(placement=placement), say("Place {how}", how=say("on") if on else say("off")))
