"""Air, lens and wrap of the match."""

from __future__ import annotations

import numpy as np
from PySide6.QtWidgets import QCheckBox

from ...comp import compose
from ...comp.match_fit import optics_focus_px
from ...match.air import transmittances
from ...match.edge_mtf import edge_response
from ...match.sharpness import LUMA
from ...media.picture import picture_of
from ...place.seen import zone_seen
from ...shot import Keyed
from ...words import mark, say
from ..desk import Desk
from ..numberfield import NumberField
from ..widgets import choice, note, push_button, row, show_choice
from .match_part import MatchPart, rgb_names

BLADES = ("Disc", "5 blades", "6 blades", "7 blades", "8 blades", "9 blades")


class AirPanel(MatchPart):
    """Haze by distance, depth, mist; visibility and airlight are the shot's."""

    part = "air"
    fit_tip = "Measures visibility and airlight between two areas of the aim or more whose distances are given"

    def __init__(self, desk: Desk) -> None:
        super().__init__(desk)
        self.visibility = self._of_air(
            "Visibility", "visibility_m", 10, 1e6, 100, 30000, 0, "m", "Of the whole shot (WMO-No. 8)"
        )
        self.exponent = self._of_air(
            "Colour", "exponent", -1, 4, 0.02, 0, 2, "", "Ångström's exponent: 0 in fog, 1.3 in clear air"
        )
        self.inside.addWidget(note("Of the shot"))
        self.inside.addWidget(self.visibility)
        self.inside.addWidget(self.exponent)
        self.airlight = [self._airlight(k, colour) for k, colour in enumerate(("red", "green", "blue"))]
        words = note("Airlight")
        words.setFixedWidth(44)
        self.inside.addLayout(rgb_names(44))
        self.inside.addLayout(row(words, *self.airlight))
        self.mist = QCheckBox(say("Mist on the ground"))
        self.mist.setToolTip(say("Air that thins with height; its foot is the plate's horizon"))
        self.mist.clicked.connect(lambda on: self._mist("Mist on the ground", None, on=bool(on)))
        self.inside.addWidget(self.mist)
        self.mist_fields = [
            self._of_mist("Visibility", "visibility_m", 1, 1e6, 10, 800, 0, "m", "At the ground"),
            self._of_mist("Falloff", "height_m", 0.1, 10000, 0.5, 10, 1, "m", "Height over which it thins to 1/e"),
            self._of_mist("Camera height", "lens_m", 0, 10000, 0.1, 1.7, 1, "m", "Height of the lens above the ground"),
        ]
        for field in self.mist_fields:
            self.inside.addWidget(field)
        self.inside.addWidget(note("Of the zone"))
        self.deep = QCheckBox(say("Depth"))
        self.deep.setToolTip(
            say("Its top lies farther off than its foot: a painted range stands paler behind than before")
        )
        self.deep.clicked.connect(self._deep)
        self.far = self._far()
        self.draw = push_button("Draw line", "Drag on the picture from the near end to the far one", self._line)
        self.inside.addLayout(row(self.deep, self.far, self.draw))
        self.own = self.number(
            "Haze in painting", "own_m", 0, 1e6, 50, 0, 0, "m", "How far it was painted or photographed through already"
        )
        self.inside.addWidget(self.own)
        self.distances: list[NumberField] = []

    def _of_air(self, label: str, name: str, *numbers: object) -> NumberField:
        field = NumberField(label, *numbers)  # type: ignore[arg-type]
        return self.plain(
            field, lambda: getattr(self.desk.shot.air, name),
            lambda v, w, g: self._put_air(w, g, **{name: v}),
        )  # fmt: skip

    def _put_air(self, words: str, gesture: str | None, **changes: object) -> None:
        shot = self.desk.shot
        self.desk.edit(shot.but(air=shot.air.but(**changes)), say("{words} of the air", words=words), gesture)

    def _airlight(self, k: int, colour: str) -> NumberField:
        field = NumberField(
            say("Airlight {colour}", colour=colour),
            0,
            20,
            0.005,
            0.75,
            3,
            "",
            say("{colour} of the airlight, scene-linear", colour=colour),
            bare=True,
        )

        def put(value: float, words: str, gesture: str) -> None:
            air = self.desk.shot.air
            light = tuple(value if j == k else v for j, v in enumerate(air.airlight))
            self.desk.edit(self.desk.shot.but(air=air.but(airlight=light)), words, gesture)

        return self.plain(field, lambda: self.desk.shot.air.airlight[k], put)

    def _mist(self, words: str, gesture: str | None, **changes: object) -> None:
        air = self.desk.shot.air
        self.desk.edit(self.desk.shot.but(air=air.but(mist=air.mist.but(**changes))), words, gesture)

    def _of_mist(self, label: str, name: str, *numbers: object) -> NumberField:
        field = NumberField(label, *numbers)  # type: ignore[arg-type]
        return self.plain(
            field, lambda: getattr(self.desk.shot.air.mist, name), lambda v, w, g: self._mist(w, g, **{name: v})
        )

    def _far(self) -> NumberField:
        field = NumberField("To", 0.1, 1e6, 10, 1000, 0, "m", "Distance of its far end")

        def get() -> Keyed | None:
            value = self.value()
            return None if value is None else value.far_m

        return self.keyed(field, get, lambda v, w, g: self.put("Far end", g, far_m=v))

    def _deep(self, on: bool) -> None:
        zone = self.desk.zone
        near = zone.distance_m if zone is not None and zone.distance_m else 100.0
        self.put(
            say("Depth {how}", how=say("on") if on else say("off")), far_m=Keyed(constant=3 * near) if on else None
        )

    def _line(self) -> None:
        self.line_wanted("Drag from the near end to the far one.", self._line_drawn)

    def _line_drawn(self, a: tuple[float, float], b: tuple[float, float]) -> None:
        zone, desk = self.desk.zone, self.desk
        if zone is None or zone.distance_m is None:
            return
        ends = zone_seen(desk.shot, zone, desk.frame).back(np.array([a, b]))
        if not np.isfinite(ends).all():
            desk.said.emit(say("That is outside of the painting. Drag over it."), True)
            return
        near, far = ((float(x), float(y)) for x, y in ends)
        self.put("Line of the depth", line=(near, far))

    def line_wanted(self, hint: str, then: object) -> None:
        """Set by the stage: asks for a line on the picture."""

    def reading(self) -> str:
        zone, air = self.desk.zone, self.desk.shot.air
        if zone is None or zone.distance_m is None:
            return say("At infinity: the sky painting already holds its air.")
        r, g, b = transmittances(zone.distance_m, air.visibility_m, air.exponent)
        share = f"{g:.0%}" if air.exponent == 0 else say("{r:.0%} red, {g:.0%} green, {b:.0%} blue", r=r, g=g, b=b)
        return say(
            "At {distance_m:g} m {share} of its own light reaches the lens", distance_m=zone.distance_m, share=share
        )

    def refresh(self) -> None:
        super().refresh()
        zone, value = self.desk.zone, self.value()
        if zone is None or value is None:
            return
        mist = self.desk.shot.air.mist
        self.mist.setChecked(mist.on)
        for field in self.mist_fields:
            field.setVisible(mist.on)
        self.deep.setChecked(value.far_m is not None)
        self.far.setVisible(value.far_m is not None)
        self.draw.setVisible(value.far_m is not None)
        self.deep.setEnabled(zone.distance_m is not None and not self.desk.shot.holds_plate(zone))


class LensPanel(MatchPart):
    """Focus, softness, sharpness, motion blur."""

    part = "lens"
    fit_tip = "Measures how soft the aim is against the zone, and the shutter by how its blur follows the motion"

    def __init__(self, desk: Desk) -> None:
        super().__init__(desk)
        self.focus = choice(
            ["radius", "distance"], "Focus by a radius, or by the zone's distance and the shot's optics",
            lambda v: self.put(say("Focus by {value}", value=say(v)), focus=v),
        )  # fmt: skip
        self.blades = choice(list(BLADES), "The aperture", self._blades)
        self.inside.addLayout(row(note("Focus by"), self.focus, self.blades))
        self.radius = self.number("Defocus", "radius_px", 0, 200, 0.05, 0, 2, "px", "Radius of a point's image")
        self.inside.addWidget(self.radius)
        self.optics = [
            self._of_optics("Focal length", "focal_mm", 1, 2000, 0.5, 35, 1, "mm", "Of the plate's lens"),
            self._of_optics("Aperture", "stop", 0.5, 128, 0.1, 4, 1, "", mark("f-number")),
            self._of_optics("In focus at", "focus_m", 0.1, 1e5, 0.5, 50, 1, "m", "Distance that is sharp"),
            self._of_optics("Sensor", "sensor_mm", 1, 100, 0.1, 24.9, 1, "mm", "Its width"),
        ]
        for a, b in zip(self.optics[::2], self.optics[1::2]):
            self.inside.addLayout(row(a, b))
        self.soft = self.number(
            "Softness", "softness_px", 0, 100, 0.02, 0, 2, "px", "Standard deviation of a soft blur"
        )
        self.inside.addWidget(self.soft)
        self.sharpen = self.number("Sharpen", "sharpen", 0, 5, 0.01, 0, 2, "", "How much of the detail is added")
        self.detail = self.number("Radius", "sharpen_px", 0.2, 50, 0.05, 1, 2, "px", "What counts as detail")
        self.inside.addLayout(row(self.sharpen, self.detail))
        self.overshoot = self.number(
            "Overshoot", "overshoot", 0, 2, 0.01, 0.2, 2, "", "How far beyond its surroundings a pixel may go"
        )
        self.inside.addWidget(self.overshoot)
        self.motion = QCheckBox(say("Motion blur"))
        self.motion.setToolTip(say("From how the zone itself moves while the shutter is open"))
        self.motion.clicked.connect(
            lambda on: self.put(say("Motion blur {how}", how=say("on") if on else say("off")), motion_blur=bool(on))
        )
        self.inside.addWidget(self.motion)
        self.shutter = self.number(
            "Shutter", "shutter_deg", 0, 720, 1, 180, 0, "°", "360 is open all of a frame's time"
        )
        self.phase = self.number(
            "Phase", "phase_deg", -360, 360, 1, -90, 0, "°", "When it opens, from the frame's own time"
        )
        self.inside.addLayout(row(self.shutter, self.phase))
        tip = "Drag along a straight edge of what is shown: says how sharp it is there (ISO 12233)"
        self.edge = push_button("Measure an edge…", tip, self._edge)
        self.inside.addWidget(self.edge)

    def line_wanted(self, hint: str, then: object) -> None:
        """Set by the stage: asks for a line on the picture."""

    def _edge(self) -> None:
        self.line_wanted("Drag along a straight edge, from one end to the other.", self._edge_drawn)

    def _edge_drawn(self, a: tuple[float, float], b: tuple[float, float]) -> None:
        """Says how sharp the edge between two places is, on the plate where that is shown, else in the composite."""
        desk = self.desk
        shot, frame, of_plate = desk.shot, desk.frame, desk.view == "Plate"

        def measure() -> str:
            source = shot.plate_source
            if of_plate and source is not None:
                seen = desk.store.pixels(picture_of(source, frame))
            else:
                seen = compose(shot, frame, desk.store)[..., :3]
            found = edge_response(np.ascontiguousarray(seen @ LUMA), (*a, *b))
            return say(
                "At this edge of the {how} the response falls to a half at {mtf50:.3f} cycles a pixel (MTF50); "
                "it overshoots by {overshoot:.0%}.",
                how=say("plate") if of_plate else say("composite"),
                mtf50=found.mtf50,
                overshoot=found.overshoot,
            )

        desk.later("edge", measure, lambda words: desk.said.emit(words, False))

    def _of_optics(self, label: str, name: str, *numbers: object) -> NumberField:
        field = NumberField(label, *numbers)  # type: ignore[arg-type]

        def put(value: float, words: str, gesture: str) -> None:
            optics = self.desk.shot.optics.but(**{name: value})
            self.desk.edit(self.desk.shot.but(optics=optics), words, gesture)

        return self.plain(field, lambda: getattr(self.desk.shot.optics, name), put)

    def _blades(self, name: str) -> None:
        count = 0 if name == "Disc" else int(name.split()[0])
        self.put(say("Aperture: {what}", what=name.lower()), blades=count)

    def reading(self) -> str:
        zone = self.desk.zone
        found = None if zone is None else self.desk.readings.matches.get(zone.id)
        out = []
        edges = None if zone is None else self.desk.readings.lenses.get(zone.id)
        if edges is not None and edges.aim_px is not None:
            if edges.zone_px is None:
                out.append(say("No edge stands out of noise; its aim's are {aim:.2f} px", aim=edges.aim_px))
            else:
                hidden = say(", hidden by noise") if edges.wider is None else ""
                words = say("Sharpest edges {own:.2f} px, its aim's {aim:.2f} px", own=edges.zone_px, aim=edges.aim_px)
                out.append(words + hidden)
        measured = (("", found.zone_mtf50), (say("its aim's "), found.aim_mtf50)) if found is not None else ()
        both = [f"{of}{at[0]:.2f} ± {at[1]:.2f}" for of, at in measured if at is not None]
        if both:
            out.append(say("MTF50 {names} cycles a pixel", names=", ".join(both)))
        value = self.value()
        if zone is not None and value is not None and value.focus == "distance":
            out.append(
                say(
                    "out of focus by {optics_focus_px:.1f} px",
                    optics_focus_px=optics_focus_px(self.desk.shot, zone.distance_m),
                )
            )
        return "; ".join(out)

    def refresh(self) -> None:
        super().refresh()
        value = self.value()
        if value is None:
            return
        show_choice(self.focus, ["radius", "distance"], value.focus)
        show_choice(
            self.blades, list(BLADES), "Disc" if value.blades == 0 else say("{blades} blades", blades=value.blades)
        )
        self.motion.setChecked(value.motion_blur)
        self.radius.setVisible(value.focus == "radius")
        for field in self.optics:
            field.setVisible(value.focus == "distance")
        for field in (self.shutter, self.phase):
            field.setVisible(value.motion_blur)
        self.overshoot.setVisible(value.sharpen.at(self.desk.frame) > 0)


class WrapPanel(MatchPart):
    """Light of the background over the rim."""

    part = "wrap"
    fit_tip = "Measures how much of the old sky's light lies on the plate's own rims"

    def __init__(self, desk: Desk) -> None:
        super().__init__(desk)
        self.width_px = self.number(
            "Width", "width_px", 0, 500, 0.5, 20, 1, "px", "How far the light reaches over the rim"
        )
        self.amount = self.number("Amount", "amount", 0, 4, 0.01, 0.5, 2, "", "Of the light that lies behind the rim")
        self.brighter = QCheckBox(say("Brighter only"))
        self.brighter.setToolTip(say("A dark background takes nothing from the rim"))
        self.brighter.clicked.connect(lambda on: self.put("Wrap where brighter", only_brighter=bool(on)))
        for part in (self.width_px, self.amount, self.brighter):
            self.inside.addWidget(part)

    def refresh(self) -> None:
        super().refresh()
        value = self.value()
        if value is not None:
            self.brighter.setChecked(value.only_brighter)
