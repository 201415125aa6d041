"""The Matte stage: which matte cuts the zone, its pulls, its edge, its shapes."""

from __future__ import annotations

from collections.abc import Callable
from functools import cached_property

from PySide6.QtWidgets import QLineEdit

from ...comp import MatteOverShot, mend_of_matte
from ...comp.findings import AGAINST_SKY_ACCEPTED, HOLES_ACCEPTED, LIKELY_WRONG_ACCEPTED
from ...comp.matte_planner import zone_picture
from ...comp.mends import mend_of_screen
from ...matte.first import first_pull
from ...shot import ClearSkyPull, Matte, MatteUse, Pull
from ...words import say
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
        self.title.setToolTip(say("The matte's name"))
        self.title.setAccessibleName(say("Matte name"))
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
            self.title.setText(matte.name if matte is not None else say(NONE))
        self.open_part(self.part)

    def show_header(self) -> None:
        matte = self.desk.matte
        reading = self.desk.readings.mattes.get(matte.id) if matte is not None else None
        self.header.switch.setChecked(self.zone.matte.on)
        place = self.desk.readings.places.get(self.zone.id)
        screen = None if place is None or self.zone.matte.on else place.screen
        mend = mend_of_matte(self.desk.shot, self.zone) if screen is None else mend_of_screen(self.zone, screen)
        self.header.show_mend(mend)
        if not self.zone.matte.on:
            what = say("off: hides what is behind") if mend is not None else say("off: all of it stays")
            self.header.show_reading(what, mend is not None)
        elif matte is None or not (matte.pulls or matte.shapes):
            self.header.show_reading("empty: add a pull", True)
        elif reading is None:
            self.header.show_reading("…")
        elif reading.problem:
            self.header.show_reading("cannot be pulled", True)
        else:
            limit = AGAINST_SKY_ACCEPTED if reading.by_sky else HOLES_ACCEPTED
            bad = reading.holes > limit or reading.leftover > limit or reading.piece_px2 > 0
            bad = bad or reading.off_px > 0 or reading.flicker > 0
            so_far = say(", so far") if self.desk.readings.partly else ""
            if not bad and reading.likely_wrong > LIKELY_WRONG_ACCEPTED:
                words = say("{wrong:.1%} likely wrong{so_far}", wrong=reading.likely_wrong, so_far=so_far)
                self.header.show_reading(words, True)
            else:
                name = say("gone") if reading.by_sky else say("holes")
                words = say(
                    "{holes:.1%} {name} · {leftover:.1%} left{so_far}",
                    holes=reading.holes,
                    name=name,
                    leftover=reading.leftover,
                    so_far=so_far,
                )
                self.header.show_reading(words, bad)
            self.header.reading.setToolTip(_words(reading))

    # --- changing ---
    def switch(self, on: bool) -> None:
        matte = self.desk.matte
        if on and matte is None:
            self._new()
            return
        self.desk.edit_zone(
            self.zone.but(matte=self.zone.matte.but(on=on)), say("Matte {how}", how=say("on") if on else say("off"))
        )

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
        name, number = say("{name} matte", name=zone.name), 2
        while name in names:
            name, number = say("{name} matte {number}", name=zone.name, number=number), number + 1
        matte = Matte(id=shot.new_id("matte"), name=name, pulls=(pull,), over_black=on_black)
        self.desk.give_matte(
            matte.but(reads="own picture") if own else matte, say("New matte for {name}", name=zone.name)
        )

    def _use(self, _: str) -> None:
        id = self.which.currentData()
        use = MatteUse(on=id is not None, id=id)
        if use != self.zone.matte:
            self.desk.edit_zone(self.zone.but(matte=use), say("Matte of {name}", name=self.zone.name))

    def _rename(self) -> None:
        matte, name = self.desk.matte, self.title.text().strip()
        if matte is not None and name and name != matte.name:
            self.desk.edit_matte(matte.but(name=name), say("Rename {name}", name=matte.name))

    def _remove(self) -> None:
        if (matte := self.desk.matte) is not None:
            self.desk.edit(self.desk.shot.without_matte(matte.id), say("Remove {name}", name=matte.name))


def _words(reading: MatteOverShot) -> str:
    holes = (
        say("Gone: {holes:.2%} of the ground that the picture shows does not stay", holes=reading.holes)
        if reading.by_sky
        else say("Holes: {holes:.2%} of the keep area is not solid", holes=reading.holes)
    )
    left = (
        say("Left: {leftover:.2%} of the sky that the picture shows stays", leftover=reading.leftover)
        if reading.by_sky
        else say("Leftover: {leftover:.2%} of the dropped area is not empty", leftover=reading.leftover)
    )
    lines = [
        say(
            "{holes} (worst on {holes_frame}); the largest {largest_hole_px2:.0f} px²",
            holes=holes,
            holes_frame=reading.holes_frame,
            largest_hole_px2=reading.largest_hole_px2,
        ),
        say("{left} (worst on {leftover_frame})", left=left, leftover_frame=reading.leftover_frame),
        say("Soft: up to {soft:.1%} of the frame", soft=reading.soft),
    ]
    if reading.doubt is not None:
        lines.append(
            say(
                "Likely wrong: about {wrong:.1%} of the frame (on {wrong_frame}); {doubt:.1%} of it is in doubt (on "
                "{doubt_frame})",
                wrong=reading.likely_wrong,
                wrong_frame=reading.likely_wrong_frame,
                doubt=reading.doubt,
                doubt_frame=reading.doubt_frame,
            )
        )
    if reading.off_px:
        lines.append(
            say("Edge: {off_words} (on {off_frame})", off_words=reading.off_words, off_frame=reading.off_frame)
        )
    if reading.flicker:
        lines.append(
            say(
                "Flicker: {flicker:.1%} of the frame (on {flicker_frame})",
                flicker=reading.flicker,
                flicker_frame=reading.flicker_frame,
            )
        )
    if reading.outside:
        lines.append(say("Outside 0…1: {outside:.2%} of the frame", outside=reading.outside))
    if reading.halo is not None:
        lines.append(
            say(
                "Halo: {halo:+.1f} of 255 toward the old sky (worst on {halo_frame})",
                halo=reading.halo,
                halo_frame=reading.halo_frame,
            )
        )
    if reading.chatter is not None:
        words = say("Chatter: alpha changes by {chatter:.3f} a frame at locked edges", chatter=reading.chatter)
        lines.append(say("{words} (worst on {chatter_frame})", words=words, chatter_frame=reading.chatter_frame))
    return "\n".join(lines)
