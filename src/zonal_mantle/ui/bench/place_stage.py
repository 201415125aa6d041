"""The Place stage: how the painting hangs, its horizon, whether it covers, its light, how it is laid."""

from __future__ import annotations

import numpy as np

from ...comp import Mend
from ...comp.readings_place import PlaceReading
from ...place.transform import plate_moved
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
        self.hang = HangPanel(desk)
        self.level = LevelPanel(desk, tool.lines)
        self.cover = CoverPanel(desk)
        self.light = LightPanel(desk, tool.lines)
        self.lay = LayPanel(desk, tool.lines)
        self.add_parts(
            ("Transform", self.hang, "How the painting hangs: its way and its numbers"),
            ("Level", self.level, "Horizon and vanishing points of plate and painting"),
            ("Cover", self.cover, "Whether it covers every frame; painting bases"),
            ("Light", self.light, "Which side the light comes from"),
            ("Blend", self.lay, "Blend mode, opacity, seam, mirror in water"),
        )

    def refresh(self) -> None:
        super().refresh()
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
        else:
            cover = place.coverage
            self.header.show_reading(f"covers {cover.covered}/{cover.frames}", cover.covered < cover.frames)
        plate = self.desk.shot.holds_plate(zone)
        for name in ("Level", "Cover", "Light"):  # of paintings only
            self.parts[name][0].setEnabled(not plate)
        self.open_part("Transform" if plate and self.part in ("Level", "Cover", "Light") else self.part)

    def _mend(self, place: PlaceReading | None) -> Mend | None:
        """Into the picture, or larger, where the painting runs out."""
        zone = self.zone
        if not zone.placement.on:
            return Mend("place on", "Switch the placement on", zone.id)
        short = place is not None and place.coverage.covered < place.coverage.frames
        return Mend("cover", "Scale to cover", zone.id) if short and zone.placement.way == "flat" else None

    def switch(self, on: bool) -> None:
        placement = self.zone.placement.but(on=on)
        self.desk.edit_zone(self.zone.but(placement=placement), f"Place {'on' if on else 'off'}")
