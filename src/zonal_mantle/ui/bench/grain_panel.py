"""Grain of the match."""

from __future__ import annotations

from ...words import say
from ..desk import Desk
from ..numberfield import NumberField
from ..widgets import choice, fill, note, push_button, row
from .match_part import MatchPart, rgb_names

NO_CLIP = "Made from the model"


class GrainPanel(MatchPart):
    """Grain on what is not plate."""

    part = "grain"
    fit_tip = "Measures the plate's own noise by level and channel, its width and how alike it is in the channels"

    def __init__(self, desk: Desk) -> None:
        super().__init__(desk)
        self.strength = self.number(
            "Strength", "strength", 0, 8, 0.01, 1, 2, "", "1 is as strong as was measured or set"
        )
        self.grain_size = self.number("Size", "size", 0.2, 8, 0.02, 1, 2, "", "1 is as wide as was measured")
        self.inside.addWidget(self.strength)
        self.inside.addWidget(self.grain_size)
        self.deviation = [self._deviation(k, colour) for k, colour in enumerate(("red", "green", "blue"))]
        words = note("Middle grey")
        words.setFixedWidth(76)
        self.inside.addLayout(rgb_names(76))
        self.inside.addLayout(row(words, *self.deviation))
        self.clip = choice([NO_CLIP], "Made anew on every frame, or a scanned clip of grain from the stock", self._clip)
        self.inside.addWidget(self.clip)
        self.another = push_button("New seed", "The same grain, drawn anew", self._another)
        self.inside.addWidget(self.another)

    def _deviation(self, k: int, colour: str) -> NumberField:
        field = NumberField(
            say("Grain {colour}", colour=colour),
            0,
            100,
            0.05,
            2.5,
            2,
            "",
            say("Standard deviation in {colour} at middle grey, of 255", colour=colour),
            bare=True,
        )

        def get() -> float | None:
            value = self.value()
            return None if value is None else value.model.middle[k] * 255

        def put(number: float, words: str, gesture: str) -> None:
            self.put(words, gesture, model=self.value().model.with_middle(k, number / 255))

        return self.plain(field, get, put)

    def _clip(self, _: str) -> None:
        found = self.clip.currentData()
        self.put("Grain from a clip" if found else "Grain from the model", clip=found)

    def _another(self) -> None:
        self.put("New seed", seed=(self.value().seed + 1) % 2**31)

    def reading(self) -> str:
        zone = self.desk.zone
        found = None if zone is None else self.desk.readings.grains.get(zone.id)
        return "" if found is None else found.words

    def refresh(self) -> None:
        super().refresh()
        value, shot = self.value(), self.desk.shot
        if value is None:
            return
        clips = [(source.id, source.name) for source in shot.sources if source.id != shot.plate]
        fill(self.clip, [(None, NO_CLIP), *clips], value.clip)
        for field in self.deviation:
            field.setEnabled(value.clip is None)
