"""The Source stage: how the file is read."""

from __future__ import annotations

from pathlib import Path

from PySide6.QtCore import Signal

from ...comp import Mend
from ...media import encodings
from ...shot import Source
from ...words import say
from ..desk import Desk
from ..numberfield import NumberField
from ..widgets import choice, fill, named, note, push_button, row, show_choice
from .stage import Stage

RATES = {
    "23.976": (24000, 1001),
    "24": (24, 1),
    "25": (25, 1),
    "29.97": (30000, 1001),
    "30": (30, 1),
    "50": (50, 1),
    "60": (60, 1),
}


NONE = "none"


class SourceStage(Stage):
    """Encoding, alpha, frames and rate of what the zone holds."""

    name = "Source"
    tip = "The file this zone holds, and how it is read"
    relink_wanted = Signal(str)

    def __init__(self, desk: Desk) -> None:
        super().__init__(desk)
        self.header.switch.hide()
        self.file = note()
        self.inside.addWidget(self.file)
        self.problem = note(role="warn")
        self.inside.addWidget(self.problem)
        self.encoding = choice(list(encodings()), "The file's colour encoding", self._encoding)
        self.guess = note()
        self.inside.addWidget(named("Encoding", self.encoding))
        self.inside.addWidget(self.guess)
        self.alpha = choice(["none", "straight", "premultiplied"], "How the file's alpha is to be taken", self._alpha)
        self.inside.addWidget(named("Alpha", self.alpha))
        self.first = NumberField("First frame", -1e6, 1e7, 1, 1, 0, "", "First frame that is used")
        self.last = NumberField("Last frame", -1e6, 1e7, 1, 1, 0, "", "Last frame that is used")
        self.first.changed.connect(lambda v, g: self._put("Trim", g, trim_first=round(v)))
        self.last.changed.connect(lambda v, g: self._put("Trim", g, trim_last=round(v)))
        self.trim = row(self.first, self.last)
        self.inside.addLayout(self.trim)
        self.rate = choice(list(RATES), "Frames a second", self._rate)
        self.aspect = NumberField("Pixel aspect", 0.25, 4, 0.01, 1, 3, "", "Width of a pixel against its height")
        self.aspect.changed.connect(lambda v, g: self._put("Pixel aspect", g, pixel_aspect=v))
        self.inside.addLayout(row(named("Frame rate", self.rate), self.aspect))
        self.denoised = choice([NONE], "The plate without its noise, from the stock: mattes look at it", self._denoised)
        self.clean = choice([NONE], "The plate without what is taken out of it, from the stock", self._clean)
        self.inside.addWidget(named("Denoised plate", self.denoised))
        self.inside.addWidget(named("Clean plate", self.clean))
        self.relink = push_button(
            "Relink…", "Choose the file anew", lambda: self.relink_wanted.emit(self.zone.source), "link"
        )
        self.inside.addWidget(self.relink)

    @property
    def source(self) -> Source:
        return self.desk.shot.source(self.zone.source)

    def show_header(self) -> None:
        source = self.source
        problem = self.desk.problem_of(source)
        self.header.show_mend(Mend("relink", "Relink…", source.id) if problem else None)
        if problem:
            self.header.show_reading("missing", True)
        else:
            self.header.show_reading(f"{source.encoding}{' ?' if source.encoding_guessed else ''}")

    def show_body(self) -> None:
        super().show_body()
        source = self.source
        problem = self.desk.problem_of(source)
        moving = source.kind != "still"
        self.file.setText(f"{Path(source.path).name}\n{say(source.kind)}, {source.width}×{source.height}")
        self.file.setToolTip(source.path)
        self.problem.setText(problem or "")
        self.problem.setVisible(bool(problem))
        show_choice(self.encoding, list(encodings()), source.encoding)
        self.guess.setText(say("The encoding is a guess.") if source.encoding_guessed else "")
        self.guess.setVisible(source.encoding_guessed)
        show_choice(self.alpha, ["none", "straight", "premultiplied"], source.alpha)
        for field, value in ((self.first, source.start), (self.last, source.end)):
            field.setVisible(moving)
            field.low, field.high = source.first, max(source.last, source.first + 1)
            field.set_value(value)
        name = next((n for n, r in RATES.items() if r == source.rate), f"{float(source.frames_per_second):.4g}")
        show_choice(self.rate, list(dict.fromkeys([*RATES, name])), name)
        self.rate.setVisible(moving)
        self.aspect.set_value(source.pixel_aspect)
        self._show_plates()

    def _show_plates(self) -> None:
        """The denoised and the clean plate, where the zone holds the plate and the stock has any of its size."""
        shot = self.desk.shot
        like = [s for s in shot.sources if s.id != shot.plate and (s.width, s.height) == shot.size]
        entries = [(None, NONE), *((s.id, s.name) for s in like)]
        shown = shot.holds_plate(self.zone) and bool(like)
        for part in (self.denoised, self.clean):
            part.setVisible(shown)
        fill(self.denoised, entries, shot.denoised)
        fill(self.clean, entries, shot.clean)

    def _denoised(self, name: str) -> None:
        self.desk.edit(
            self.desk.shot.but(denoised=self.denoised.currentData()), say("Denoised plate: {name}", name=name)
        )

    def _clean(self, name: str) -> None:
        self.desk.edit(self.desk.shot.but(clean=self.clean.currentData()), say("Clean plate: {name}", name=name))

    def _put(self, label: str, gesture: str | None = None, **changes: object) -> None:
        self.desk.edit(self.desk.shot.with_source(self.source.but(**changes)), label, gesture)

    def _rate(self, name: str) -> None:
        """Another rate; sequences that went by the plate's go by its new one."""
        shot, old = self.desk.shot, self.source.rate
        changed = [self.source]
        if self.source.id == shot.plate:
            changed += [s for s in shot.sources if s.kind == "sequence" and s.id != shot.plate and s.rate == old]
        for source in changed:
            shot = shot.with_source(source.but(rate=RATES[name]))
        self.desk.edit(shot, "Rate")

    def _encoding(self, name: str) -> None:
        self._put(say("Read as {name}", name=name), encoding=name, encoding_guessed=False)

    def _alpha(self, name: str) -> None:
        self._put(say("Alpha {name}", name=name), alpha=name)
