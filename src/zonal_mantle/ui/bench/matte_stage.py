"""The Matte stage: which matte cuts the zone, its pulls, its edge, its shapes."""

from __future__ import annotations

from collections.abc import Callable
from functools import cached_property

from PySide6.QtWidgets import QLineEdit

from ...comp import MatteOverShot, mend_of_matte
from ...comp.matte_planner import zone_picture
from ...comp.readings import AGAINST_SKY_ACCEPTED, HOLES_ACCEPTED
from ...matte.first import first_pull
from ...shot import ClearSkyPull, Matte, MatteUse, Pull
from ..desk import Desk
from ..tools.sample import Area
from ..tools.shape import ShapeTool
from ..widgets import choice, fill, note, row, tool_button
from .edge_panel import EdgePanel
from .pull_panel import PullPanel
from .shape_panel import ShapePanel
from .stage import Stage

NONE = "No matte"


class MatteStage(Stage):
    """What of the zone is there."""

    name = "Matte"
    tip = "What of this zone stays: pulls from the plate or its own picture, levels, edge, keep and drop shapes"

    def __init__(self, desk: Desk, tool: ShapeTool, sample: Callable[[str, Callable[[Area], None]], None]) -> None:
        super().__init__(desk)
        self.which = choice([NONE], "The matte that cuts this zone; one matte may cut several zones", self._use)
        self.which.setFixedWidth(24)
        self.which.view().setMinimumWidth(170)
        self.title = QLineEdit()
        self.title.setToolTip("The matte's name")
        self.title.setAccessibleName("Matte name")
        self.title.editingFinished.connect(self._rename)
        self.new = tool_button(
            "plus",
            "A new matte for this zone: it begins with a pull on sky, screen or luma",
            self._new,
        )
        self.remove = tool_button("trash-2", "Remove this matte from the shot", self._remove)
        self.inside.addLayout(row(self.which, self.title, self.new, self.remove))
        self.problem = note(role="warn")
        self.inside.addWidget(self.problem)
        self._tool, self._sample = tool, sample
        self.add_parts(
            ("Pulls", lambda: self.pulls, "What is cut out by brightness, colour, screen, sky or difference"),
            ("Edge", lambda: self.edge, "Levels, growth, softness, specks and holes, steadying, the old sky's colour"),
            ("Shapes", lambda: self.shapes, "Keep and drop shapes"),
        )

    @cached_property
    def pulls(self) -> PullPanel:
        """What cuts by the picture."""
        return PullPanel(self.desk, self._sample)

    @cached_property
    def edge(self) -> EdgePanel:
        """What is done to the edge."""
        return EdgePanel(self.desk)

    @cached_property
    def shapes(self) -> ShapePanel:
        """Keep and drop shapes."""
        return ShapePanel(self.desk, self._tool)

    # --- showing ---
    def show_body(self) -> None:
        super().show_body()
        matte = self.desk.matte
        reading = self.desk.readings.mattes.get(matte.id) if matte is not None else None
        self.problem.setText(reading.problem if reading is not None else "")
        self.problem.setVisible(bool(self.problem.text()))
        mattes = [(each.id, each.name) for each in self.desk.shot.mattes]
        fill(self.which, [(None, NONE), *mattes], matte.id if matte is not None else None)
        for part in (self.title, self.remove):
            part.setEnabled(matte is not None)
        if not self.title.hasFocus():
            self.title.setText(matte.name if matte is not None else NONE)
        self.open_part(self.part)

    def show_header(self) -> None:
        matte = self.desk.matte
        reading = self.desk.readings.mattes.get(matte.id) if matte is not None else None
        self.header.switch.setChecked(self.zone.matte.on)
        mend = mend_of_matte(self.desk.shot, self.zone)
        self.header.show_mend(mend)
        if not self.zone.matte.on:
            what = "off: hides what is behind" if mend is not None else "off: all of it stays"
            self.header.show_reading(what, mend is not None)
        elif matte is None or not (matte.pulls or matte.shapes):
            self.header.show_reading("empty: add a pull", True)
        elif reading is None:
            self.header.show_reading("…")
        elif reading.problem:
            self.header.show_reading("cannot be pulled", True)
        else:
            limit = AGAINST_SKY_ACCEPTED if reading.by_sky else HOLES_ACCEPTED
            bad = reading.holes > limit or reading.leftover > limit or reading.off_px > 0 or reading.flicker > 0
            name = "gone" if reading.by_sky else "holes"
            so_far = ", so far" if self.desk.readings.partly else ""
            self.header.show_reading(f"{reading.holes:.1%} {name} · {reading.leftover:.1%} left{so_far}", bad)
            self.header.reading.setToolTip(_words(reading))

    # --- changing ---
    def switch(self, on: bool) -> None:
        matte = self.desk.matte
        if on and matte is None:
            self._new()
            return
        self.desk.edit_zone(self.zone.but(matte=self.zone.matte.but(on=on)), f"Matte {'on' if on else 'off'}")

    def _new(self) -> None:
        zone, shot = self.zone, self.desk.shot
        picture = zone_picture(shot, zone, self.desk.frame) if not shot.holds_plate(zone) else None
        id, store = shot.new_id("pull"), self.desk.store
        if picture is None:
            self._add(zone.id, ClearSkyPull(id=id), False)
            return
        self.desk.later(
            "first pull", lambda: first_pull(store.pixels(picture), id), lambda made: self._add(zone.id, *made)
        )

    def _add(self, zone_id: str, pull: Pull, on_black: bool) -> None:
        """A new matte with one pull for a zone."""
        zone, shot = self.desk.zone, self.desk.shot
        if zone is None or zone.id != zone_id:
            return
        own = not shot.holds_plate(zone)
        names = {matte.name for matte in shot.mattes}
        name, number = f"{zone.name} matte", 2
        while name in names:
            name, number = f"{zone.name} matte {number}", number + 1
        matte = Matte(id=shot.new_id("matte"), name=name, pulls=(pull,), over_black=on_black)
        self.desk.give_matte(matte.but(reads="own picture") if own else matte, f"New matte for {zone.name}")

    def _use(self, _: str) -> None:
        id = self.which.currentData()
        use = MatteUse(on=id is not None, id=id)
        if use != self.zone.matte:
            self.desk.edit_zone(self.zone.but(matte=use), f"Matte of {self.zone.name}")

    def _rename(self) -> None:
        matte, name = self.desk.matte, self.title.text().strip()
        if matte is not None and name and name != matte.name:
            self.desk.edit_matte(matte.but(name=name), f"Rename {matte.name}")

    def _remove(self) -> None:
        if (matte := self.desk.matte) is not None:
            self.desk.edit(self.desk.shot.without_matte(matte.id), f"Remove {matte.name}")


def _words(reading: MatteOverShot) -> str:
    holes = (
        f"Gone: {reading.holes:.2%} of the ground that the picture shows does not stay"
        if reading.by_sky
        else f"Holes: {reading.holes:.2%} of the keep area is not solid"
    )
    left = (
        f"Left: {reading.leftover:.2%} of the sky that the picture shows stays"
        if reading.by_sky
        else f"Leftover: {reading.leftover:.2%} of the dropped area is not empty"
    )
    lines = [
        f"{holes} (worst on {reading.holes_frame}); the largest {reading.largest_hole_px2:.0f} px²",
        f"{left} (worst on {reading.leftover_frame})",
        f"Soft: up to {reading.soft:.1%} of the frame",
    ]
    if reading.off_px:
        lines.append(f"Edge: {reading.off_words} (on {reading.off_frame})")
    if reading.flicker:
        lines.append(f"Flicker: {reading.flicker:.1%} of the frame (on {reading.flicker_frame})")
    if reading.outside:
        lines.append(f"Outside 0…1: {reading.outside:.2%} of the frame")
    if reading.halo is not None:
        lines.append(f"Halo: {reading.halo:+.1f} of 255 toward the old sky (worst on {reading.halo_frame})")
    if reading.chatter is not None:
        words = f"Chatter: alpha changes by {reading.chatter:.3f} a frame at locked edges"
        lines.append(f"{words} (worst on {reading.chatter_frame})")
    return "\n".join(lines)
