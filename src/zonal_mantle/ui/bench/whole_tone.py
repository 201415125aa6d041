"""The tone of the whole picture, or of a group: the controls of the match, without what is measured on a zone."""

from __future__ import annotations

from collections.abc import Callable
from typing import NamedTuple

from ...finish.look import look_from
from ...shot import Finish, Look, LookUse, ToneMatch
from ...words import say
from ..desk import Desk
from .panel import Panel
from .tone_panel import TonePanel


class ToneOf(NamedTuple):
    """Where a tone and a look stand: how they are had and changed (a label, a gesture), and the name of what has
    them."""

    name: Callable[[], str]
    tone: Callable[[], ToneMatch | None]
    put_tone: Callable[[ToneMatch, str, str | None], None]
    look: Callable[[], LookUse | None]
    put_look: Callable[[LookUse | None, str, str | None], None]
    finish: Callable[[], Finish | None]


class WholeTone(TonePanel):
    """All of the tone of something that is not one zone."""

    balance_note = curve_note = "Log (ACEScct)"  # nothing is measured here

    def __init__(self, desk: Desk, of: ToneOf) -> None:
        self.of = of
        super().__init__(desk)
        self.on.setToolTip(say("Switches this tone on or off"))
        for part in (self.fit, self.strength, self.sky, self.whole):
            part.hide()

    @property
    def subject_name(self) -> str:
        return self.of.name()

    def value(self) -> ToneMatch | None:
        return self.of.tone()

    def put(self, words: str, gesture: str | None = None, **changes: object) -> None:
        value = self.value()
        if value is not None:
            self.of.put_tone(
                value.but(**changes), say("{words} of {name}", words=say(words), name=self.of.name()), gesture
            )

    def _set_back(self) -> None:
        if self.value() is not None:
            self.of.put_tone(ToneMatch(), say("Reset tone of {name}", name=self.of.name()), None)

    def look_use(self) -> LookUse | None:
        return self.of.look()

    def put_look(self, use: LookUse | None, words: str, gesture: str | None = None) -> None:
        self.of.put_look(use, say("{words} on {name}", words=words, name=self.of.name()), gesture)

    def as_look(self, name: str) -> Look | None:
        value = self.value()
        return None if value is None else look_from(name, value, self.desk.frame, self.of.finish())

    def refresh(self) -> None:
        self.refresh_fields()
        value = self.value()
        if value is not None:
            self.show_tone(value, None)

    def refresh_fields(self) -> None:
        self.set_hue_ranges()
        Panel.refresh(self)
        value = self.value()
        if value is not None:
            self.on.setChecked(value.on)
        self.words.hide()
