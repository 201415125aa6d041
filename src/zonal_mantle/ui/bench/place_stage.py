"""The Place stage: position, size, turn, width, flips, anchor."""

from __future__ import annotations

from PySide6.QtWidgets import QLabel

from ...shot import Keyed, Placement, Zone
from ..desk import Desk
from ..numberfield import NumberField
from ..widgets import note, push_button, row
from .stage import Stage


class PlaceStage(Stage):
    """How the painting hangs."""

    name = "Place"
    tip = "Where the painting hangs, about its anchor, in the lock's reference frame"

    def __init__(self, desk: Desk) -> None:
        super().__init__(desk)
        fields = {}
        for label, name, low, high, step, default, decimals, unit, tip in (
            ("X", "x", -20000, 20000, 1.0, 0, 1, "px", "Moves the painting right, in plate pixels"),
            ("Y", "y", -20000, 20000, 1.0, 0, 1, "px", "Moves the painting down, in plate pixels"),
            ("Size", "size", 0.01, 20, 0.005, 1, 3, "", "Plate pixels to one painting pixel"),
            ("Turn", "turn_deg", -360, 360, 0.1, 0, 2, "°", "Turns the painting clockwise about its anchor"),
            ("Width", "width", 0.05, 20, 0.005, 1, 3, "", "Width against height"),
        ):
            field = NumberField(label, low, high, step, default, decimals, unit, tip)

            def get(zone: Zone, name: str = name) -> Keyed | None:
                part: Keyed = getattr(zone.placement, name)
                return part

            def put(zone: Zone, value: Keyed, name: str = name) -> Zone:
                return zone.but(placement=zone.placement.but(**{name: value}))

            fields[name] = self.keyed_field(field, get, put)
        self.fields = fields
        self.inside.addLayout(row(fields["x"], fields["y"]))
        self.inside.addLayout(row(fields["size"], fields["turn_deg"]))
        self.inside.addWidget(fields["width"])
        self.across = push_button(
            "Flip left–right",
            "Mirrors the painting about its anchor",
            lambda: self._flip("flip_across"),
            "flip-horizontal",
            True,
        )
        self.up = push_button(
            "Flip up–down",
            "Turns the painting upside down about its anchor",
            lambda: self._flip("flip_up"),
            "flip-vertical",
            True,
        )
        self.inside.addLayout(row(self.across, self.up))
        self.anchor = QLabel()
        self.to_mark = push_button(
            "To the mark", "Puts the anchor on the lock's first mark; the painting stays", self._to_mark
        )
        self.inside.addLayout(row(self.anchor, 1, self.to_mark))
        self.words = note()
        self.inside.addWidget(self.words)

    def refresh(self) -> None:
        super().refresh()
        shot, zone = self.desk.shot, self.zone
        placement = zone.placement
        self.header.switch.setChecked(placement.on)
        self.across.setChecked(placement.flip_across)
        self.up.setChecked(placement.flip_up)
        x, y = placement.anchor or (shot.size[0] / 2, shot.size[1] / 2)
        x, y = x + placement.x.at(self.desk.frame), y + placement.y.at(self.desk.frame)
        self.anchor.setText(f"Anchor {x:.1f}, {y:.1f}")
        lock = shot.lock(placement.rides) if placement.rides else None
        self.to_mark.setEnabled(lock is not None and bool(lock.marks))
        cover = self.desk.readings.coverage.get(zone.id)
        if not placement.on:
            self.header.show_reading("off: not in the picture")
        elif cover is None:
            self.header.show_reading("…")
        else:
            self.header.show_reading(f"covers {cover.covered}/{cover.frames}", cover.covered < cover.frames)
        if cover is not None and cover.covered < cover.frames:
            self.words.setText(
                f"Worst on frame {cover.worst_frame}: {cover.worst_share:.2%} of the picture is uncovered."
            )
        else:
            self.words.setText("")
        source = shot.source(zone.source)
        self.words.setToolTip(f"{source.width}×{source.height}")

    def switch(self, on: bool) -> None:
        placement = self.zone.placement.but(on=on)
        self.desk.edit_zone(self.zone.but(placement=placement), f"Place {'on' if on else 'off'}")

    def _flip(self, name: str) -> None:
        placement: Placement = self.zone.placement
        new = placement.but(**{name: not getattr(placement, name)})
        self.desk.edit_zone(self.zone.but(placement=new), f"Flip {self.zone.name}")

    def _to_mark(self) -> None:
        from ..tools.place import with_anchor

        placement = self.zone.placement
        lock = self.desk.shot.lock(placement.rides) if placement.rides else None
        if lock is None or not lock.marks:
            return
        size, frame = self.desk.shot.size, self.desk.frame
        x, y = placement.anchor or (size[0] / 2, size[1] / 2)
        shown = (x + placement.x.at(frame), y + placement.y.at(frame))
        by = (lock.marks[0].x - shown[0], lock.marks[0].y - shown[1])
        self.desk.edit_zone(self.zone.but(placement=with_anchor(placement, frame, by, size)), "Anchor to the mark")
