"""Parts of the finish: LUT, glow, vignette, grain over all."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

from ...comp.finish_fit import plate_falloff
from ...comp.plate_grain import measured_grain
from ...comp.readings_finish import lut_trouble
from ...finish.lut import lut_processor
from ...finish.vignette import Falloff
from ...media.colour import encodings
from ...media.stamps import stamp_of
from ...shot import GrainModel, MantleError
from ...words import say
from .. import ask
from ..desk import Desk
from ..numberfield import NumberField
from ..tools.sample import Area
from ..widgets import choice, note, push_button, row, show_choice
from .finish_part import FinishPart
from .match_part import rgb_names

Sampling = Callable[[str, Callable[[Area], None]], None]
NO_LUT = "no LUT"


class LutPanel(FinishPart):
    """A look-up table from a file, at part strength, in the encoding that it wants."""

    part, title = "lut", "LUT"

    def __init__(self, desk: Desk) -> None:
        super().__init__(desk)
        self.file = note(NO_LUT)
        self.load = push_button("Choose a LUT…", "A .cube or CLF file", self._load, "folder-open")
        self.clear = push_button("Remove LUT", "Takes the LUT away", lambda: self.put("Remove the LUT", path=""))
        self.inside.addWidget(self.file)
        self.inside.addLayout(row(self.load, 1, self.clear))
        self.encoding = choice(
            list(encodings()),
            "The encoding that the LUT takes and gives",
            lambda v: self.put("LUT encoding", encoding=v),
        )
        self.encoding.setMinimumContentsLength(14)
        self.inside.addLayout(row(note("Encoding"), self.encoding, 1))
        self.strength = self.number("Strength", "strength", 0, 1, 0.01, 1, 2, "", "Mixed in the LUT's encoding")
        self.inside.addWidget(self.strength)
        self.inside.addWidget(self.words)

    def _load(self) -> None:
        path = ask.existing_file(self.window(), "Choose a LUT", ask.LUTS)
        if path is None:
            return
        try:
            lut_processor(str(path), stamp_of(str(path), 0))
        except MantleError as problem:
            self.desk.said.emit(str(problem), True)
            return
        self.put(say("LUT {name}", name=path.name), path=str(path), on=True)

    def reading(self) -> str:
        return lut_trouble(self.desk.shot)

    def refresh(self) -> None:
        super().refresh()
        value = self.value()
        self.file.setText(Path(value.path).name or say(NO_LUT))
        self.file.setToolTip(value.path)
        self.clear.setEnabled(bool(value.path))
        show_choice(self.encoding, list(encodings()), value.encoding)


class GlowPanel(FinishPart):
    """What is bright spreads; its light is kept."""

    part, title = "glow", "Glow"

    def __init__(self, desk: Desk) -> None:
        super().__init__(desk)
        self.level = self.number(
            "Level", "level", 0, 20, 0.01, 0.8, 2, "", "What is brighter glows; scene-linear, 1 is diffuse white"
        )
        self.amount = self.number("Glow", "amount", 0, 1, 0.01, 0.3, 2, "", "Share of that light that is spread")
        self.radius = self.number("Radius", "radius_px", 0.5, 500, 0.5, 24, 1, "px", "Standard deviation of the glow")
        self.halation = self.number(
            "Halation", "halation", 0, 1, 0.01, 0, 2, "", "Share of that light that is thrown back by the film base"
        )
        self.halation_px = self.number("Radius", "halation_px", 0.5, 200, 0.5, 8, 1, "px", "Of the halation")
        self.halation_px.setAccessibleName(say("Halation radius"))
        for field in (self.level, self.amount, self.radius, self.halation, self.halation_px):
            self.inside.addWidget(field)
        self.colour = [self._colour(k, name) for k, name in enumerate(("red", "green", "blue"))]
        words = note("Colour")
        words.setFixedWidth(44)
        self.inside.addLayout(rgb_names(44))
        self.inside.addLayout(row(words, *self.colour))

    def _colour(self, k: int, name: str) -> NumberField:
        field = NumberField(
            say("Halation {name}", name=name),
            0,
            1,
            0.01,
            (1.0, 0.3, 0.08)[k],
            2,
            "",
            say("How much of {name} is thrown back", name=name),
            bare=True,
        )

        def put(value: float, words: str, gesture: str) -> None:
            old = self.value().colour
            self.put(words, gesture, colour=tuple(value if j == k else v for j, v in enumerate(old)))

        return self.plain(field, lambda: self.value().colour[k], put)


class VignettePanel(FinishPart):
    """Corners darker or brighter; the plate's own beside it."""

    part, title = "vignette", "Vignette"

    def __init__(self, desk: Desk, sample: Sampling) -> None:
        super().__init__(desk)
        self._sample = sample
        self._measured: tuple[object, Falloff | str] | None = None
        self.shape = choice(["round", "frame"], "Round on the screen, or by the frame's sides", self._shape)
        self.centre = push_button("Set centre", "Click on the picture where the vignette has its middle", self._centre)
        self.inside.addLayout(row(note("Shape"), self.shape, 1, self.centre))
        self.stops = self.number("At the corner", "stops", -6, 6, 0.02, -0.7, 2, "stops", "Below 0 darker")
        self.start = self.number("Start", "start", 0, 0.99, 0.01, 0.3, 2, "", "From the centre (0) to the corner (1)")
        self.softness = self.number("Softness", "softness", 0.01, 1, 0.01, 1, 2, "", "1 falls off up to the corner")
        for field in (self.stops, self.start, self.softness):
            self.inside.addWidget(field)
        self.measure = push_button(
            "Measure plate vignette",
            "From a lock: one thing seen in the middle and near the rim",
            self._measure,
            "crosshair",
        )
        self.take = push_button("Use measured values", "Sets the vignette to what the plate has by itself", self._take)
        self.inside.addLayout(row(self.measure, self.take))
        self.inside.addWidget(self.words)

    def _shape(self, name: str) -> None:
        self.put(say("Vignette: {name}", name=name), shape=name)

    def _centre(self) -> None:
        def taken(area: Area) -> None:
            width, height = self.desk.shot.size
            centre = ((area[0] + area[2]) / 2 / width, (area[1] + area[3]) / 2 / height)
            self.put("Centre of the vignette", centre=centre, on=True)

        self._sample("Click where the vignette has its middle.", taken)

    def _measure(self) -> None:
        shot = self.desk.shot

        def told(found: object) -> None:
            self._measured = (self._key(), found)  # type: ignore[assignment]
            self.refresh()

        def work(job: object) -> Falloff | str:
            try:
                return plate_falloff(shot, self.desk.store, job.progress)
            except MantleError as problem:
                return str(problem)

        self.desk.run("Measuring the plate's vignette", work, told)

    def _key(self) -> object:
        return (self.desk.shot.plate_source, self.desk.shot.locks)

    def _found(self) -> Falloff | str | None:
        known = self._measured
        return known[1] if known is not None and known[0] == self._key() else None

    def _take(self) -> None:
        found = self._found()
        if isinstance(found, Falloff):
            value, frame = self.value(), self.desk.frame
            changes = {"stops": found.stops, "start": 0.0, "softness": 1.0}
            keyed = {name: getattr(value, name).with_value(frame, number) for name, number in changes.items()}
            self.put("The plate's own vignette", on=True, shape="round", centre=(0.5, 0.5), **keyed)

    def reading(self) -> str:
        found = self._found()
        if isinstance(found, Falloff):
            return say(
                "The plate's own: {stops:+.2f} ± {give:.2f} stops at the corner", stops=found.stops, give=found.give
            )
        return found or "The plate's own: not measured"

    def refresh(self) -> None:
        super().refresh()
        show_choice(self.shape, ["round", "frame"], self.value().shape)
        self.take.setEnabled(isinstance(self._found(), Falloff))


class WholeGrainPanel(FinishPart):
    """Grain over all of the picture, plate and added alike."""

    part, title = "grain", "Grain"

    def __init__(self, desk: Desk) -> None:
        super().__init__(desk)
        self.inside.addWidget(note("Over all of the picture; what is not plate gets the plate's own under Match."))
        self.strength = self.number(
            "Strength", "strength", 0, 8, 0.01, 1, 2, "", "1 is as strong as was set or measured"
        )
        self.grain_size = self.number("Size", "size", 0.2, 8, 0.02, 1, 2, "", "1 is as wide as was set or measured")
        self.inside.addWidget(self.strength)
        self.inside.addWidget(self.grain_size)
        self.deviation = [self._deviation(k, name) for k, name in enumerate(("red", "green", "blue"))]
        words = note("Middle grey")
        words.setFixedWidth(76)
        self.inside.addLayout(rgb_names(76))
        self.inside.addLayout(row(words, *self.deviation))
        self.measure = push_button("Match plate grain", "Measures the plate's own noise", self._measure, "crosshair")
        self.another = push_button("New seed", "The same grain, drawn anew", self._another)
        self.inside.addLayout(row(self.measure, 1, self.another))

    def _deviation(self, k: int, name: str) -> NumberField:
        field = NumberField(
            say("Grain {name}", name=name),
            0,
            100,
            0.05,
            2.5,
            2,
            "",
            say("Standard deviation in {name} at middle grey, of 255", name=name),
            bare=True,
        )

        def put(number: float, words: str, gesture: str) -> None:
            self.put(words, gesture, model=self.value().model.with_middle(k, number / 255))

        return self.plain(field, lambda: self.value().model.middle[k] * 255, put)

    def _measure(self) -> None:
        shot = self.desk.shot

        def told(model: GrainModel) -> None:
            self.put("The plate's grain", on=True, model=model)

        self.desk.run(
            "Measuring the plate's grain", lambda job: measured_grain(shot, self.desk.store, job.progress), told
        )

    def _another(self) -> None:
        self.put("New seed", seed=(self.value().seed + 1) % 2**31)
