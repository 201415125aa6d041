"""How the zone is laid on what is behind it: blend mode, opacity, a seam toward the horizon, a mirror image."""

from __future__ import annotations

from typing import get_args

import numpy as np
from PySide6.QtWidgets import QCheckBox

from ...geometry import carry
from ...place.transform import reference_to_frame
from ...shot import Keyed, Value
from ...shot.hang import Mode
from ...words import say
from ..desk import Desk
from ..numberfield import NumberField
from ..tools.line import LineTool
from ..widgets import choice, fill, named, note, push_button, row, show_choice
from .panel import Panel

NO_MATTE = "All of it below the line"


class LayPanel(Panel):
    """Blend, seam, mirror."""

    def __init__(self, desk: Desk, lines: LineTool) -> None:
        super().__init__(desk)
        self.lines = lines
        self.mode = choice(
            list(get_args(Mode)),
            "How colours mix with what is behind (W3C Compositing and Blending)",
            lambda v: self._put("blend", say("Blend {value}", value=say(v)), mode=v),
        )
        self.coded = self._box("Mix encoded values", "Mixes coded values instead of light", "blend", "coded")
        self.opacity = self._keyed("Opacity", "blend", "opacity", 0, 1, 0.01, 1, 2, "", "Share of it that is laid")
        self.old_sky = self._box(
            "On the old sky", "Lies on the plate's own sky, as its matte takes it away, not on what is farther",
            "blend", "on_old_sky",
        )  # fmt: skip
        self.inside.addLayout(row(named("Blend mode", self.mode), self.coded))
        self.inside.addWidget(self.old_sky)
        self.inside.addWidget(self.opacity)
        self.seam = self._box("Seam at the horizon", "Fades the painting toward the plate's horizon", "seam", "on")
        self.to = choice(
            ["plate", "haze"],
            "What it fades to",
            lambda v: self._put("seam", say("Seam to {value}", value=say(v)), to=v),
        )
        self.inside.addLayout(row(self.seam, named("Fades to", self.to, wide=False)))
        self.fade = self._keyed("Height", "seam", "height_px", 0.1, 5000, 1, 60, 1, "px", "Over which it fades")
        self.lift = self._keyed(
            "Lift", "seam", "lift_px", -5000, 5000, 1, 0, 1, "px", "Of the fade's foot above the horizon"
        )
        self.inside.addLayout(row(self.fade, self.lift))
        self.mirror = self._box("Mirror in water", "Shows the zone once more, mirrored below a line", "mirror", "on")
        self.true = self._box("Level water", "Mirrors directions at the horizon, as level water does", "mirror", "true")
        self.inside.addLayout(row(self.mirror, self.true))
        self.line = push_button(
            "Draw waterline", "Drag along the waterline; it rides with the zone", self._line, "plus"
        )
        self.at_horizon = push_button(
            "Waterline at horizon",
            "Takes the plate's horizon as the line",
            lambda: self._put("mirror", "Mirror at the horizon", line=None),
        )
        self.inside.addLayout(row(self.line, self.at_horizon))
        self.squeeze = self._keyed(
            "Squeeze", "mirror", "squeeze", 0.05, 5, 0.01, 1, 2, "", "Height of what is mirrored"
        )
        self.share = self._keyed("Opacity", "mirror", "opacity", 0, 1, 0.01, 0.6, 2, "", "Of the mirror image")
        self.inside.addLayout(row(self.squeeze, self.share))
        self.blur = self._keyed(
            "Blur", "mirror", "blur_px", 0, 100, 0.1, 0, 1, "px", "At a hundred pixels below the line"
        )
        self.ripple = self._keyed("Ripple", "mirror", "ripple_px", 0, 100, 0.1, 0, 1, "px", "How far waves displace it")
        self.inside.addLayout(row(self.blur, self.ripple))
        self.long = self._plain(
            "Waves", "ripple_long_px", 1, 2000, 1, 24, 0, "px", "Their length, 100 px below the line"
        )
        self.speed = self._plain("Speed", "ripple_speed", -2, 2, 0.01, 0.08, 2, "", "Waves a frame")
        self.inside.addLayout(row(self.long, self.speed))
        self.matte = choice([NO_MATTE], "The matte of the water, which limits the mirror", self._matte)
        self.inside.addWidget(self.matte)
        self.words = note()
        self.inside.addWidget(self.words)

    # --- building ---
    def _part(self, name: str) -> Value | None:
        zone = self.desk.zone
        return None if zone is None else getattr(zone, name)

    def _put(self, part: str, words: str, gesture: str | None = None, **changes: object) -> None:
        zone = self.desk.zone
        if zone is not None:
            self.desk.edit_zone(
                zone.but(**{part: getattr(zone, part).but(**changes)}),
                say("{words} of {name}", words=say(words), name=zone.name),
                gesture,
            )

    def _box(self, text: str, tip: str, part: str, name: str) -> QCheckBox:
        box = QCheckBox(say(text))
        box.setToolTip(say(tip))
        box.clicked.connect(lambda on: self._put(part, text, **{name: bool(on)}))
        return box

    def _keyed(self, label: str, part: str, name: str, *numbers: object) -> NumberField:
        field = NumberField(label, *numbers)  # type: ignore[arg-type]

        def get() -> Keyed | None:
            holder = self._part(part)
            return None if holder is None else getattr(holder, name)

        return self.keyed(field, get, lambda value, words, gesture: self._put(part, words, gesture, **{name: value}))

    def _plain(self, label: str, name: str, *numbers: object) -> NumberField:
        field = NumberField(label, *numbers)  # type: ignore[arg-type]

        def get() -> float | None:
            holder = self._part("mirror")
            return None if holder is None else getattr(holder, name)

        return self.plain(field, get, lambda v, w, g: self._put("mirror", w, g, **{name: v}))

    # --- showing ---
    def refresh(self) -> None:
        super().refresh()
        zone, shot = self.desk.zone, self.desk.shot
        if zone is None:
            return
        plate = shot.holds_plate(zone)
        self.mirror.setEnabled(not plate)
        show_choice(self.mode, list(get_args(Mode)), zone.blend.mode)
        self.coded.setChecked(zone.blend.coded)
        self.old_sky.setChecked(zone.blend.on_old_sky)
        self.old_sky.setVisible(not plate)
        self.seam.setChecked(zone.seam.on)
        show_choice(self.to, ["plate", "haze"], zone.seam.to)
        for part in (self.to, self.fade, self.lift):
            part.setVisible(zone.seam.on)
        self.mirror.setChecked(zone.mirror.on)
        self.true.setChecked(zone.mirror.true)
        for part in (
            self.true,
            self.line,
            self.at_horizon,
            self.squeeze,
            self.share,
            self.blur,
            self.ripple,
            self.long,
            self.speed,
            self.matte,
        ):
            part.setVisible(zone.mirror.on)
        mattes = [(matte.id, say("Within {name}", name=matte.name)) for matte in shot.mattes]
        fill(self.matte, [(None, NO_MATTE), *mattes], zone.mirror.matte)
        needs = (zone.seam.on or (zone.mirror.on and (zone.mirror.true or zone.mirror.line is None))) and not shot.lines
        self.words.setText(say("The plate's horizon is not known: draw it under Level.") if needs else "")

    # --- changing ---
    def _line(self) -> None:
        def drawn(a: tuple[float, float], b: tuple[float, float]) -> None:
            zone = self.desk.zone
            if zone is not None:
                back = reference_to_frame(self.desk.shot, zone, self.desk.frame)
                (ax, ay), (bx, by) = carry(np.linalg.inv(back), np.array([a, b]))
                line = ((float(ax), float(ay)), (float(bx), float(by)))
                self._put("mirror", "Draw waterline", line=line, true=False)

        self.lines.ask("Drag along the waterline.", drawn)
        self.desk.choice_changed.emit()

    def _matte(self, _: str) -> None:
        self._put("mirror", "Matte of the mirror", matte=self.matte.currentData())
