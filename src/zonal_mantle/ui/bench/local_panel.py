"""Local light: soft shapes that ride on locks, in which the picture is brighter or darker, warmer or cooler."""

from __future__ import annotations

from typing import Any

from PySide6.QtWidgets import QCheckBox, QComboBox

from ...shot import LocalLight
from ...shot.match import DAYLIGHT_K
from ...words import say
from ..desk import Desk
from ..numberfield import NumberField
from ..tools.local import LocalTool
from ..widgets import choice, fill, named, push_button, row, show_choice, tool_button
from .finish_part import FinishPart

STILL = "stays in frame"
REACHES = {"whole picture": "all", "behind zone": "behind", "zone and in front": "before"}


class LocalPanel(FinishPart):
    """The lights of the finish, one of them at hand."""

    part, title = "lights", "local light"

    def __init__(self, desk: Desk, tool: LocalTool) -> None:
        super().__init__(desk)
        self.tool = tool
        self.on.setToolTip(say("Switches the chosen light on or off"))
        self.lights: QComboBox = choice([], "The light at hand", self._choose)
        self.lights.setMinimumContentsLength(10)
        self.ellipse = push_button("Add ellipse", "Drag an ellipse on the picture", lambda: self._draw("ellipse"))
        self.smooth = push_button("Add shape", "Click the points of a smooth shape", lambda: self._draw("smooth"))
        self.remove = tool_button("trash-2", "Remove the chosen light", self.tool.remove)
        self.inside.addLayout(row(self.ellipse, self.smooth))
        self.inside.addLayout(row(self.lights, self.remove))
        self.inside.itemAt(self.inside.count() - 1).layout().setStretch(0, 1)
        self.exposure = self.number("Exposure", "exposure_stops", -8, 8, 0.02, 0, 2, "stops", "Brighter or darker")
        self.kelvin = self.number(
            "White", "temperature_k", 1500, 15000, 20, DAYLIGHT_K, 0, "K", "Lower is warmer; adapted by Bradford"
        )
        self.saturation = self.number("Saturation", "saturation", 0, 4, 0.005, 1, 3, "", "0 is grey")
        self.soft_in = self._soft("Feather inside", "feather_in_px")
        self.soft_out = self._soft("Feather outside", "feather_out_px")
        self.controls = [self.exposure, self.kelvin, self.saturation, self.soft_in, self.soft_out]
        for field in self.controls:
            self.inside.addWidget(field)
        self.invert = QCheckBox(say("Invert shape"))
        self.invert.setToolTip(say("The light falls on all but the shape"))
        self.invert.clicked.connect(lambda on: self._shape("Invert the light", None, invert=bool(on)))
        self.inside.addWidget(self.invert)
        self.rides = choice([STILL], "What the shape rides on", self._ride)
        self.rides.setMinimumContentsLength(10)
        self.inside.addWidget(named("Rides on", self.rides))
        self.reach = choice(list(REACHES), "What the light falls on", self._reach)
        self.reach.setMinimumContentsLength(10)
        self.zone = choice([], "The zone that the light falls behind, or before", self._zone)
        self.inside.addLayout(row(named("Affects", self.reach), self.zone))
        self.inside.addWidget(self.words)

    # --- the light at hand ---
    def value(self) -> Any:
        return self.tool.light

    def put(self, words: str, gesture: str | None = None, **changes: object) -> None:
        light = self.tool.light
        if light is not None:
            finish = self.desk.shot.finish.with_light(light.but(**changes))
            self.desk.edit(
                self.desk.shot.but(finish=finish), say("{words} of {name}", words=say(words), name=light.name), gesture
            )

    def _set_back(self) -> None:
        plain = LocalLight.model_fields
        names = ("exposure_stops", "temperature_k", "saturation")
        self.put("Reset", None, **{name: plain[name].default for name in names})

    def _choose(self, name: str) -> None:
        place = self.lights.currentIndex()
        lights = self.desk.shot.finish.lights
        self.tool.choose(lights[place].id if 0 <= place < len(lights) else None)
        self.desk.view_changed.emit()
        self.refresh()

    def _draw(self, form: str) -> None:
        self.tool.start("keep", form)
        self.desk.choice_changed.emit()
        self.desk.said.emit(self.tool.words(), False)

    def _shape(self, words: str, gesture: str | None, **changes: object) -> None:
        light = self.tool.light
        if light is not None:
            self.put(words, gesture, shape=light.shape.but(**changes))

    def _soft(self, label: str, name: str) -> NumberField:
        field = NumberField(
            label, 0, 500, 1, 40, 0, "px", say("How far the edge is soft: {what} of the outline", what=label.lower())
        )
        return self.plain(
            field,
            lambda: None if self.tool.light is None else getattr(self.tool.light.shape, name),
            lambda v, w, g: self._shape(w, g, **{name: v}),
        )

    def _ride(self, name: str) -> None:
        self.tool.ride(self.rides.currentData() if name != STILL else None)

    def _reach(self, name: str) -> None:
        reach = REACHES[name]
        zone = None
        if reach != "all":
            light = self.tool.light
            known = light.zone if light is not None else None
            zone = known or self.desk.zone_id or next((z.id for z in self.desk.shot.near_to_far()), None)
        self.put("Reach", None, reach=reach, zone=zone)

    def _zone(self, name: str) -> None:
        self.put("Zone", None, zone=self.zone.currentData())

    def refresh(self) -> None:
        lights, shot = self.desk.shot.finish.lights, self.desk.shot
        if self.tool.light is None and lights:
            self.tool.choose(lights[-1].id)
        light = self.tool.light
        super().refresh()
        for part in (*self.controls, self.invert, self.rides, self.reach, self.remove, self.on, self.back, self.lights):
            part.setVisible(light is not None)
        self.zone.setVisible(light is not None and light.reach != "all")
        if light is None:
            return
        self.on.setChecked(light.on)
        fill(self.lights, [(each.id, each.name) for each in lights], light.id)
        self.invert.setChecked(light.shape.invert)
        fill(
            self.rides,
            [(None, STILL), *((lock.id, say("on {name}", name=lock.name)) for lock in shot.locks if lock.holds)],
            light.shape.rides,
        )
        show_choice(self.reach, list(REACHES), next(n for n, v in REACHES.items() if v == light.reach))
        fill(self.zone, [(zone.id, zone.name) for zone in shot.near_to_far()], light.zone)

    def reading(self) -> str:
        return (
            ""
            if self.tool.light is not None
            else say("No light yet. Add an ellipse or a shape, then brighten or warm it.")
        )
