"""The controls of one pull, a form for each kind."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
from PySide6.QtWidgets import QCheckBox, QListWidget, QListWidgetItem

from ...matte import PRESETS
from ...media.curves import srgb_encode
from ...shot import ColourSample, Keyed, Pull
from ...words import say
from .. import theme
from ..desk import Desk
from ..numberfield import NumberField
from ..tools.sample import Area, with_mean, with_pixels
from ..widgets import choice, choose, fill, named, push_button, row, show_choice, tool_button
from .curve_edit import CurveEdit
from .panel import Panel

Sample = Callable[[str, Callable[[Area], None]], None]  # a hint, and what is done with the area
OWN = "Own weights"
NOTHING = "None"


class Form(Panel):
    """Shows and changes the chosen pull. `sample` asks for an area of the picture."""

    kind = ""

    def __init__(self, desk: Desk, sample: Sample) -> None:
        super().__init__(desk)
        self.sample = sample
        self.pull: Pull | None = None
        self.build()
        self.invert = QCheckBox(say("Invert"))
        self.invert.setToolTip(say("Turns solid into empty and empty into solid"))
        self.invert.clicked.connect(lambda on: self.put("Invert", invert=bool(on)))
        self.gain = self.number("Gain", "gain", 0, 4, 0.01, 1.0, 2, "", "Multiplies this pull")
        self.inside.addLayout(row(self.gain, self.invert))

    def build(self) -> None:
        """Adds the kind's own controls."""

    def refresh(self) -> None:
        super().refresh()
        if self.pull is not None:
            self.invert.setChecked(self.pull.invert)

    def number(
        self, label: str, name: str, low: float, high: float, step: float, default: float, decimals: int, unit: str,
        tip: str,
    ) -> NumberField:  # fmt: skip
        """A field for one of the pull's keyed values."""
        field = NumberField(label, low, high, step, default, decimals, unit, tip)

        def get() -> Keyed | None:
            return getattr(self.pull, name, None)

        return self.keyed(field, get, lambda value, words, gesture: self.put(words, gesture, **{name: value}))

    def put(self, words: str, gesture: str | None = None, **changes: object) -> None:
        """Changes the pull in the shot."""
        matte = self.desk.matte
        if matte is None or self.pull is None:
            return
        current = next((pull for pull in matte.pulls if pull.id == self.pull.id), None)
        if current is not None:
            self.desk.edit_matte(
                matte.with_pull(current.but(**changes)),
                say("{words} of {name}", words=say(words), name=matte.name),
                gesture,
            )


class LumaForm(Form):
    kind = "luma"

    def build(self) -> None:
        self.preset = choice([*PRESETS, OWN], "Which mix of the coded feed the pull looks at", self._preset)
        self.inside.addWidget(self.preset)
        self.weights = []
        for k, (name, default) in enumerate((("red", 0.2126), ("green", 0.7152), ("blue", 0.0722))):
            field = NumberField(name.title(), -2, 2, 0.01, default, 3, "", say("Weight of coded {name}", name=name))
            self.plain(
                field,
                lambda k=k: self.pull.weights[k] if self.pull else None,
                lambda v, w, g, k=k: self._weight(k, v, g),
            )
            self.weights.append(field)
        self.inside.addLayout(row(*self.weights))
        self.high = self.number(
            "High", "high", 0, 1.5, 0.002, 0.8, 3, "", "Coded value above which the matte begins to open"
        )
        self.high_softness = self.number(
            "Softness", "high_softness", 0, 1, 0.002, 0.08, 3, "", "Coded values from solid to empty above High"
        )
        self.low = self.number(
            "Low", "low", -0.5, 1.5, 0.002, 0.0, 3, "", "Coded value below which the matte begins to open"
        )
        self.low_softness = self.number(
            "Softness", "low_softness", 0, 1, 0.002, 0.0, 3, "", "Coded values from solid to empty below Low"
        )
        self.inside.addLayout(row(self.high, self.high_softness))
        self.inside.addLayout(row(self.low, self.low_softness))
        self.goes = push_button(
            "Sample to remove…",
            "Drag over what is to go; thresholds follow from both samples",
            lambda: self._ask("goes"),
        )
        self.stays = push_button(
            "Sample to keep…",
            "Drag over what is to stay; thresholds follow from both samples",
            lambda: self._ask("stays"),
        )
        self.inside.addLayout(row(self.goes, self.stays))
        self.free = QCheckBox(say("Free curve"))
        self.free.setToolTip(say("A curve from coded brightness to alpha stands in for the thresholds"))
        self.free.clicked.connect(self._free)
        self.inside.addWidget(self.free)
        self.curve = CurveEdit()
        self.curve.changed.connect(lambda points, gesture: self.put("Curve", gesture, curve=points))
        self.curve.gesture.connect(self.desk.set_dragging)
        self.inside.addWidget(self.curve)

    def refresh(self) -> None:
        super().refresh()
        if self.pull is None:
            return
        name = next((n for n, w in PRESETS.items() if w == self.pull.weights), OWN)
        show_choice(self.preset, [*PRESETS, OWN], name)
        high, low = self.high.value, self.low.value
        points = self.pull.curve
        self.free.setChecked(bool(points))
        for field in (self.high, self.high_softness, self.low, self.low_softness):
            field.setVisible(not points)
        self.curve.show_response((low, high, high + self.high_softness.value), points)

    def _free(self, on: bool) -> None:
        """A free curve begins as the thresholds are."""
        if not on:
            self.put("Thresholds", curve=())
            return
        low, soft_low, high, soft_high = (
            field.value for field in (self.low, self.low_softness, self.high, self.high_softness)
        )
        rise = [(low - soft_low, 0.0), (low, 1.0)] if low - soft_low > 0.004 else [(0.0, 1.0)]
        fall = [(high, 1.0), (high + max(soft_high, 0.01), 0.0)] if high < 1.0 else [(1.0, 1.0)]
        self.put("Free curve", curve=tuple(dict([*rise, *fall]).items()))

    def _preset(self, name: str) -> None:
        if name in PRESETS:
            self.put(say("Pull {name}", name=name), weights=PRESETS[name])

    def _weight(self, k: int, value: float, gesture: str) -> None:
        if self.pull is not None:
            self.put("Weights", gesture, weights=tuple(value if j == k else w for j, w in enumerate(self.pull.weights)))

    def _ask(self, which: str) -> None:
        words = "Drag over something that is to go." if which == "goes" else "Drag over something that is to stay."
        self.sample(words, lambda area: self._sampled(which, area))

    def _sampled(self, which: str, area: Area) -> None:
        with_pixels(self.desk, area, lambda pixels: self._levels_of(which, pixels))

    def _levels_of(self, which: str, pixels: np.ndarray) -> None:
        """Thresholds between the samples: solid up to nearly all of what stays, empty from nearly all of what goes."""
        if self.pull is None:
            return
        levels = srgb_encode(pixels) @ np.array(self.pull.weights)
        self.curve.samples = {**self.curve.samples, which: levels}
        both = self.curve.samples
        if len(both) == 2:
            goes, stays = np.percentile(both["goes"], [2, 98]), np.percentile(both["stays"], [2, 98])
            bright = float(np.median(both["goes"])) >= float(np.median(both["stays"]))
            if bright:
                solid, empty = float(stays[1]), max(float(goes[0]), float(stays[1]) + 0.01)
                changes = {"high": solid, "high_softness": empty - solid, "low": 0.0, "low_softness": 0.0}
            else:
                solid, empty = float(stays[0]), min(float(goes[1]), float(stays[0]) - 0.01)
                changes = {"low": solid, "low_softness": solid - empty, "high": 1.5, "high_softness": 0.0}
            self.put("Thresholds", **{name: Keyed(constant=value) for name, value in changes.items()})
        self.refresh()


class ColourForm(Form):
    kind = "colour"

    def build(self) -> None:
        self.add = push_button(
            "Sample to remove…", "Drag over (or click) a colour that is to go", lambda: self._ask("goes")
        )
        self.run = push_button(
            "Extend to a second colour…",
            "Joins the last sample to another: all colours between them go",
            lambda: self._ask("run"),
        )
        self.take = push_button(
            "Sample to keep…", "Drag over a colour that stays in spite of the others", lambda: self._ask("stays")
        )
        self.inside.addLayout(row(self.add, self.run, self.take))
        self.list = QListWidget()
        self.list.setFixedHeight(58)
        self.list.setAccessibleName(say("Samples"))
        self.list.setToolTip(say("The samples of this pull. Delete removes the chosen one"))
        self.remove = tool_button("trash-2", "Remove the chosen sample", self._remove)
        self.inside.addLayout(row(self.list, self.remove))
        self.tolerance = self.number(
            "Tolerance", "tolerance", 0, 1, 0.002, 0.04, 3, "", "Oklab distance from a sample within which all goes"
        )
        self.softness = self.number(
            "Softness", "softness", 0, 1, 0.002, 0.06, 3, "", "Oklab distance from all gone to all there"
        )
        self.lightness = self.number(
            "Lightness", "lightness", 0, 2, 0.01, 0.5, 2, "", "How much differences in lightness count against colour"
        )
        self.inside.addLayout(row(self.tolerance, self.softness))
        self.inside.addWidget(self.lightness)

    def refresh(self) -> None:
        super().refresh()
        samples = self.pull.samples if self.pull is not None else ()
        current = self.list.currentRow()
        self.list.clear()
        for sample in samples:
            words = "stays" if sample.subtract else "goes"
            codes = " ".join(f"{v:.2f}" for v in srgb_encode(np.array(sample.colour)))
            item = QListWidgetItem(
                theme.swatch(sample.colour, sample.to), f"{words} {codes}{' …' if sample.to else ''}"
            )
            self.list.addItem(item)
        self.list.setCurrentRow(min(current if current >= 0 else len(samples) - 1, len(samples) - 1))
        self.run.setEnabled(any(not sample.subtract for sample in samples))

    def _ask(self, which: str) -> None:
        words = {
            "goes": "Drag over a colour that is to go.",
            "run": "Drag over the other end of the run, such as the sky's zenith.",
            "stays": "Drag over a colour that is to stay.",
        }
        self.sample(words[which], lambda area: self._sampled(which, area))

    def _sampled(self, which: str, area: Area) -> None:
        with_mean(self.desk, area, lambda colour: self._colour_of(which, colour))

    def _colour_of(self, which: str, colour: tuple[float, float, float]) -> None:
        if self.pull is None:
            return
        samples = list(self.pull.samples)
        if which == "run":
            last = max(k for k, sample in enumerate(samples) if not sample.subtract)
            samples[last] = samples[last].but(to=colour)
        else:
            samples.append(ColourSample(colour=colour, subtract=which == "stays"))
        self.put("Sample", samples=tuple(samples))

    def _remove(self) -> None:
        k = self.list.currentRow()
        if self.pull is not None and 0 <= k < len(self.pull.samples):
            self.put("Remove a sample", samples=(*self.pull.samples[:k], *self.pull.samples[k + 1 :]))


class ScreenForm(Form):
    kind = "screen"

    def build(self) -> None:
        self.which_screen = choice(["blue", "green"], "The screen's colour", lambda v: self.put("Screen", screen=v))
        self.pick = push_button("Sample the screen…", "Drag over the screen to sample its colour", self._ask)
        self.uneven = QCheckBox(say("Uneven screen"))
        self.uneven.setToolTip(say("Follows the screen's light over the frame"))
        self.uneven.clicked.connect(lambda on: self.put("Uneven screen", uneven=bool(on)))
        self.inside.addLayout(row(self.which_screen, self.pick, self.uneven))
        self.despill = choice(
            ["off", "larger", "mean", "smaller"],
            "Spill: holds the screen's channel to the larger, the mean or the smaller of the other two",
            lambda v: self.put("Spill limit", despill=v),
        )
        self.amount = self.number(
            "Spill removed", "despill_amount", 0, 1, 0.01, 1, 2, "", "How much of the spill is taken out"
        )
        self.light = self.number(
            "Lightness returned", "despill_lightness", 0, 1, 0.01, 0, 2, "",
            "Share of the lightness taken that is given back",
        )  # fmt: skip
        self.inside.addWidget(named("Limit spill to", self.despill))
        self.inside.addLayout(row(self.amount, self.light))
        self.white = self.number("Solid above", "white", 0, 1.5, 0.005, 0.95, 3, "", "Above this the matte is solid")
        self.black = self.number("Clear below", "black", -0.5, 1, 0.005, 0.05, 3, "", "Below this the matte is empty")
        self.balance = self.number(
            "Weight of smaller channel", "balance", 0, 1, 0.01, 0.5, 2, "",
            "The screen's channel is held against the larger (0) or the smaller (1) of the others",
        )  # fmt: skip
        self.soften = NumberField("Blur of the difference", 0, 20, 0.05, 0, 2, "px", "Blurs it before both limits")
        self.plain(
            self.soften, lambda: self.pull.soften_px if self.pull else None, lambda v, w, g: self.put(w, g, soften_px=v)
        )
        self.inside.addLayout(row(self.white, self.black))
        self.inside.addLayout(row(self.balance, self.soften))

    def refresh(self) -> None:
        super().refresh()
        if self.pull is not None:
            choose(self.which_screen, self.pull.screen)
            choose(self.despill, self.pull.despill)
            self.uneven.setChecked(self.pull.uneven)

    def _ask(self) -> None:
        self.sample("Drag over the screen.", self._screen_sampled)

    def _screen_sampled(self, area: Area) -> None:
        with_mean(self.desk, area, lambda colour: self.put("Screen colour", colour=colour))


class DifferenceForm(Form):
    kind = "difference"

    def build(self) -> None:
        self.clean = choice([NOTHING], "The clean plate: a still or clip of the stock", self._clean)
        self.rides = choice([NOTHING], "The lock that the clean plate rides on", self._ride)
        self.inside.addLayout(row(named("Clean plate", self.clean)))
        self.inside.addLayout(row(named("Rides on", self.rides)))
        self.tolerance = self.number(
            "Tolerance", "tolerance", 0, 1, 0.002, 0.03, 3, "", "Coded difference within which all goes"
        )
        self.softness = self.number(
            "Softness", "softness", 0, 1, 0.002, 0.12, 3, "", "Coded difference from all gone to all there"
        )
        self.inside.addLayout(row(self.tolerance, self.softness))

    def refresh(self) -> None:
        super().refresh()
        if self.pull is None:
            return
        shot = self.desk.shot
        sources = [source for source in shot.sources if source.id != shot.plate]
        fill(self.clean, [(None, NOTHING), *((source.id, source.name) for source in sources)], self.pull.clean)
        fill(self.rides, [(None, NOTHING), *((lock.id, lock.name) for lock in shot.locks)], self.pull.rides)

    def _clean(self, _: str) -> None:
        self.put("Clean plate", clean=self.clean.currentData())

    def _ride(self, _: str) -> None:
        self.put("Rides on", rides=self.rides.currentData())
