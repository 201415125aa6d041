"""Where the light comes from, in plate and painting, and the one click that makes them agree."""

from __future__ import annotations

from PySide6.QtCore import Signal
from PySide6.QtGui import QImage, QPixmap
from PySide6.QtWidgets import QLabel

from ...comp import Job, compose
from ...comp.readings_place import lights_apart
from ...comp.scheduler import PREVIEW
from ...comp.views import show
from ...place.hands import flipped_in_place
from ...place.light import Bearing, disagree
from ...shot import Light
from ...words import say
from ..desk import Desk
from ..tools.line import LineTool
from ..widgets import note, push_button, row
from .panel import Panel

PREVIEW_WIDE = 230  # px


class LightPanel(Panel):
    """Bearings of the sun, and flip with a look at what it would be."""

    _seen = Signal(object, object)

    def __init__(self, desk: Desk, lines: LineTool) -> None:
        super().__init__(desk)
        self.lines = lines
        self.words = note()
        self.inside.addWidget(self.words)
        self.shadow = push_button(
            "Draw a shadow",
            "Drag on the plate from the foot of a thing to the tip of its shadow",
            lambda: self._draw("shadow", "Drag from a thing's foot to its shadow's tip."),
            "plus",
        )
        self.edge = push_button(
            "Draw a lit side",
            "Drag on the plate from the shaded side of a thing to the lit one",
            lambda: self._draw("edge", "Drag from the shaded side to the lit one."),
            "plus",
        )
        self.forget = push_button("Automatic", "Looks for the plate's light in the sky that is removed", self._forget)
        self.inside.addLayout(row(self.shadow, self.edge, self.forget))
        self.here = push_button(
            "Mark the sun", "Click the painting's sun in the Painting view", self._here, "crosshair"
        )
        self.own = push_button("Find the sun", "Looks for the painting's sun by itself", self._own)
        self.inside.addLayout(row(self.here, self.own))
        self.flip = push_button(
            "Flip",
            "Mirrors the painting, so that its light comes from the plate's side",
            self.flip_now,
            "flip-horizontal",
        )
        self.turn = push_button("Turn the dome", "Turns the dome so that its sun is where the plate's is", self._turn)
        self.inside.addLayout(row(self.flip, self.turn))
        self.preview = QLabel()
        self.preview.setToolTip(say("The picture as it would be, flipped"))
        self.preview.setAccessibleName(say("Flipped"))
        self.inside.addWidget(self.preview)
        self._asked: object = None
        self._seen.connect(self._show_preview)

    def refresh(self) -> None:
        super().refresh()
        zone, shot = self.desk.zone, self.desk.shot
        if zone is None or shot.holds_plate(zone):
            return
        place = self.desk.readings.places.get(zone.id)
        self.turn.setVisible(zone.placement.way == "dome")
        if place is None:
            self.words.setText(say("Measuring…"))
            return
        lines = [say("Plate: {told}", told=_told(place.plate_lit)), say("Painting: {told}", told=_told(place.lit))]
        if place.lit is not None and place.plate_lit is not None:
            apart = lights_apart(place)
            sides = say("They disagree: flip it.") if disagree(place.plate_lit, place.lit) else say("They agree.")
            lines.append(say("{apart:.0f}° apart. {sides}", apart=abs(apart or 0), sides=sides))
            if disagree(place.plate_lit, place.lit):
                self._look_flipped()
            else:
                self._asked = None
                self.preview.clear()
        self.words.setText("\n".join(lines))

    def _draw(self, kind: str, words: str) -> None:
        self.desk.set_view(view="Plate")
        self.desk.choose_stage("Place")

        def drawn(a: tuple[float, float], b: tuple[float, float]) -> None:
            light = Light(kind=kind, a=a, b=b, frame=self.desk.frame)
            self.desk.edit(self.desk.shot.but(light=light), "The plate's light")

        self.lines.ask(words, drawn)
        self.desk.choice_changed.emit()

    def _forget(self) -> None:
        self.desk.edit(self.desk.shot.but(light=None), "The plate's light: automatic")

    def _here(self) -> None:
        desk = self.desk
        desk.set_view(view="Painting")
        desk.choose_stage("Place")

        def clicked(a: tuple[float, float], _: tuple[float, float]) -> None:
            zone = desk.zone
            if zone is not None:
                source = desk.shot.source(zone.source)
                desk.edit(desk.shot.with_source(source.but(sun=a)), say("Sun of {name}", name=source.name))

        self.lines.ask("Click the painting's sun.", clicked, point=True)
        desk.choice_changed.emit()

    def _own(self) -> None:
        zone, shot = self.desk.zone, self.desk.shot
        if zone is not None:
            source = shot.source(zone.source)
            self.desk.edit(shot.with_source(source.but(sun=None)), say("Sun of {name}: automatic", name=source.name))

    def flip_now(self) -> None:
        zone = self.desk.zone
        if zone is not None:
            self.desk.edit_zone(flipped_in_place(self.desk.shot, zone), say("Flip {name}", name=zone.name))

    def _look_flipped(self) -> None:
        """The flipped picture, small; made on a thread of its own."""
        desk, zone = self.desk, self.desk.zone
        key = (desk.revision, desk.frame, desk.zone_id)
        if zone is None or key == self._asked:
            return
        self._asked = key
        shot, frame, store = desk.shot.with_zone(flipped_in_place(desk.shot, zone)), desk.frame, desk.store
        scale = PREVIEW_WIDE / shot.size[0]
        job = Job(
            lambda job: show(compose(shot, frame, store, scale)),
            on_end=lambda codes, error: self._seen.emit(key, codes),
        )
        desk.scheduler.submit("preview", job, PREVIEW)

    def _show_preview(self, key: object, codes: object) -> None:
        if key == self._asked and codes is not None:
            height, width = codes.shape[:2]
            image = QImage(codes.data, width, height, 4 * width, QImage.Format.Format_RGB32).copy()
            self.preview.setPixmap(QPixmap.fromImage(image))

    def _turn(self) -> None:
        zone = self.desk.zone
        place = self.desk.readings.places.get(zone.id) if zone is not None else None
        apart = lights_apart(place) if place is not None else None
        if zone is None or apart is None:
            self.desk.said.emit(say("The light of both plate and painting has to be known first."), True)
            return
        dome, frame = zone.placement.dome, self.desk.frame
        turned = (dome.turn_deg.at(frame) - apart + 180) % 360 - 180
        dome = dome.but(turn_deg=dome.turn_deg.with_value(frame, turned))
        self.desk.edit_zone(
            zone.but(placement=zone.placement.but(dome=dome)), say("Turn {name} to the light", name=zone.name)
        )


def _told(light: Bearing | None) -> str:
    if light is None:
        return say("nothing tells")
    how = {
        "disc": say("its sun"),
        "sky": say("its sky's brighter side"),
        "shadow": say("a shadow"),
        "edge": say("a lit side"),
        "hand": say("pointed out"),
    }
    return f"{light.side}, {light.bearing_deg:+.0f}° ({how[light.how]})"
