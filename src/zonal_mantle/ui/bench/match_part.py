"""What the five parts of the match have in common: switch, fit, set back, words of what was measured."""

from __future__ import annotations

from typing import Any

from PySide6.QtWidgets import QCheckBox, QHBoxLayout

from ...comp.match_fit import Fitted, fit_part
from ...shot import Match
from ...shot.match import Part
from ...words import say
from ..desk import Desk
from ..widgets import note, push_button, row, switched
from .valued import Valued


def rgb_names(beside: int = 0) -> QHBoxLayout:
    """The names above three fields; `beside` is the width of what stands before them."""
    names = [note(name) for name in ("Red", "Green", "Blue")]
    before = note()
    before.setFixedWidth(beside)
    return row(before, *names) if beside else row(*names)


class MatchPart(Valued):
    """One part of the match of the chosen zone."""

    part: Part = "tone"
    fit_tip = ""

    def __init__(self, desk: Desk) -> None:
        super().__init__(desk)
        self.on = QCheckBox(say("On"))
        self.on.setToolTip(say("Switches the {part} of this zone on or off", part=say(self.part)))
        self.on.setAccessibleName(say("{part} on", part=say(self.part)))
        self.on.clicked.connect(lambda on: self.put(switched(say(self.part).capitalize(), on), on=bool(on)))
        self.fit = push_button("Fit", self.fit_tip, self.fit_now, "crosshair")
        self.back = push_button(
            "Reset", say("Sets the {part} back to what does nothing", part=say(self.part)), self._set_back
        )
        self.head = row(self.on, 1, self.back, self.fit)
        self.inside.addLayout(self.head)
        self.words = note()
        self.inside.addWidget(self.words)

    # --- the value ---
    def value(self) -> Any:
        """The part of the chosen zone's match."""
        zone = self.desk.zone
        return None if zone is None else getattr(zone.match, self.part)

    def put(self, words: str, gesture: str | None = None, **changes: object) -> None:
        """Changes fields of the part."""
        zone, value = self.desk.zone, self.value()
        if zone is not None and value is not None:
            match = zone.match.but(**{self.part: value.but(**changes)})
            self.desk.edit_zone(
                zone.but(match=match), say("{words} of {name}", words=say(words), name=zone.name), gesture
            )

    # --- fit ---
    def fit_now(self, **options: Any) -> None:
        """Measures the part on the plate and sets it: one step of undo."""
        desk, zone = self.desk, self.desk.zone
        if zone is None:
            return
        shot, id, part = desk.shot, zone.id, self.part

        def fitted(found: Fitted) -> None:
            now = next((each for each in desk.shot.zones if each.id == id), None)
            if now is None:
                return
            match = now.match.with_part(part, found.shot.zone(id).match).but(on=True)
            new = desk.shot.with_zone(now.but(match=match))
            if part == "air":
                new = new.but(air=found.shot.air)
                desk.air_fit = (found.shot.air, found.values)
            desk.fit_words[(id, part)] = (found.words, getattr(match, part))
            desk.edit(new, say("Fit {part} of {name}", part=say(part), name=now.name))
            desk.said.emit(f"{now.name}: {found.words}.", False)

        desk.run(
            say("Fitting {part}", part=say(part)),
            lambda job: fit_part(shot, id, part, desk.store, job.progress, **options),
            fitted,
        )

    def _set_back(self) -> None:
        zone = self.desk.zone
        if zone is not None:
            self.desk.fit_words.pop((zone.id, self.part), None)
            match = zone.match.with_part(self.part, Match())
            self.desk.edit_zone(
                zone.but(match=match), say("Reset {part} of {name}", part=say(self.part), name=zone.name)
            )

    # --- showing ---
    def refresh(self) -> None:
        super().refresh()
        zone, value = self.desk.zone, self.value()
        if zone is None or value is None:
            return
        self.on.setChecked(value.on)
        is_plate = self.desk.shot.holds_plate(zone)
        self.fit.setEnabled(not is_plate or self.part in ("air", "wrap"))
        words, fitted = self.desk.fit_words.get((zone.id, self.part), ("", None))
        stands = fitted == value and not (self.part == "air" and self._air_moved())
        parts = (say("Fit: {words}.", words=words) if words and stands else "", self.reading())
        self.words.setText("\n".join(part for part in parts if part))
        self.words.setVisible(bool(self.words.text()))

    def _air_moved(self) -> bool:
        """Whether the shot's air is another than what was fitted."""
        return self.desk.air_fit is None or self.desk.air_fit[0] != self.desk.shot.air

    def reading(self) -> str:
        """The part's reading against the plate, in words."""
        return ""
