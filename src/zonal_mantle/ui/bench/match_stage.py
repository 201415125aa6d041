"""The Match stage: slope, offset, power, saturation, air."""

from __future__ import annotations

from PySide6.QtWidgets import QCheckBox, QGridLayout, QLabel

from ...match import transmittance
from ...shot import Keyed, Match, Zone
from ..desk import Desk
from ..numberfield import NumberField
from ..widgets import note, push_button
from .stage import Stage


class MatchStage(Stage):
    """How the zone is fitted to the plate."""

    name = "Match"
    tip = "Grade (ASC CDL, on scene-linear colour) and air for the zone's distance"

    def __init__(self, desk: Desk) -> None:
        super().__init__(desk)
        grid = QGridLayout()
        grid.setSpacing(3)
        for k, colour in enumerate("RGB"):
            grid.addWidget(note(colour), 0, k + 1)
        for row_, (label, name, low, high, step, default, tip) in enumerate(
            (
                ("Slope", "slope", 0, 8, 0.005, 1, "multiplies the colour"),
                ("Offset", "offset", -1, 1, 0.001, 0, "is added after the slope"),
                ("Power", "power", 0.1, 8, 0.005, 1, "bends the tones after slope and offset"),
            ),
            1,
        ):
            grid.addWidget(QLabel(label), row_, 0)
            for k, colour in enumerate("RGB"):
                field = NumberField(
                    f"{label} {colour}", low, high, step, default, 3, "", f"{label} of {colour}: {tip}", bare=True
                )

                def get(zone: Zone, name: str = name, k: int = k) -> Keyed | None:
                    part: Keyed = getattr(zone.match, name)[k]
                    return part

                def put(zone: Zone, value: Keyed, name: str = name, k: int = k) -> Zone:
                    triple = tuple(value if j == k else v for j, v in enumerate(getattr(zone.match, name)))
                    return zone.but(match=zone.match.but(**{name: triple}))

                self.keyed_field(field, get, put)
                grid.addWidget(field, row_, k + 1)
        self.inside.addLayout(grid)
        self.saturation = NumberField("Saturation", 0, 4, 0.005, 1, 3, "", "0 is grey, 1 leaves the colour as it is")
        self.keyed_field(
            self.saturation, lambda z: z.match.saturation, lambda z, v: z.but(match=z.match.but(saturation=v))
        )
        self.inside.addWidget(self.saturation)
        self.air = QCheckBox("Air by distance")
        self.air.setToolTip("Haze between lens and zone, from its distance, the shot's visibility and airlight")
        self.air.clicked.connect(self._air)
        self.inside.addWidget(self.air)
        self.words = note()
        self.inside.addWidget(self.words)
        self.reset = push_button(
            "Set the grade back", "Slope 1, offset 0, power 1, saturation 1", self._reset, "rotate-ccw"
        )
        self.inside.addWidget(self.reset)

    def refresh(self) -> None:
        super().refresh()
        zone, air = self.zone, self.desk.shot.air
        self.header.switch.setChecked(zone.match.on)
        self.air.setChecked(zone.match.air)
        self.air.setEnabled(zone.distance_m is not None)
        share = transmittance(zone.distance_m, air.visibility_m)
        if not zone.match.on:
            self.header.show_reading("off")
        elif zone.distance_m is None:
            self.header.show_reading("no air at infinity")
        elif not zone.match.air:
            self.header.show_reading("air off")
        else:
            self.header.show_reading(f"{share:.0%} own light")
        if zone.distance_m is None:
            self.words.setText("At infinity: the sky painting already holds its air.")
        else:
            self.words.setText(
                f"At {zone.distance_m:g} m and a visibility of {air.visibility_m / 1000:g} km, {share:.1%} of its own "
                "light reaches the lens. Both are set in the section."
            )

    def switch(self, on: bool) -> None:
        self.desk.edit_zone(self.zone.but(match=self.zone.match.but(on=on)), f"Match {'on' if on else 'off'}")

    def _air(self, on: bool) -> None:
        self.desk.edit_zone(self.zone.but(match=self.zone.match.but(air=bool(on))), f"Air {'on' if on else 'off'}")

    def _reset(self) -> None:
        match = Match(on=self.zone.match.on, air=self.zone.match.air)
        self.desk.edit_zone(self.zone.but(match=match), "Set the grade back")
