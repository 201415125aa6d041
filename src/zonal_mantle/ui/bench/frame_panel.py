"""The frame as it leaves: reframing, crop, size, pixels, aspect and bars, burn-in."""

from __future__ import annotations

from collections.abc import Callable

from PySide6.QtWidgets import QCheckBox, QLineEdit

from ...comp.finish_fit import hide_border
from ...comp.finish_planner import crop_of, output_size, plate_aspect
from ...shot import Finish, Reframe
from ...shot.finish import LEAST_PX, MOST_PX
from ...words import mark, marks, say
from ..desk import Desk
from ..numberfield import NumberField
from ..tools.sample import Area
from ..widgets import choice, note, push_button, row, show_choice, tool_button
from .finish_part import FinishPart

ASPECTS = {"As it is": None, "1.33 : 1": 4 / 3, "1.66 : 1": 1.66, "1.78 : 1": 16 / 9, "1.85 : 1": 1.85, "2 : 1": 2.0,
           "2.39 : 1": 2.39}  # fmt: skip
PIXELS = {"as the plate's": None, "square": 1.0, "1.33 wide": 4 / 3, "1.5 wide": 1.5, "2 wide": 2.0}


class FramePanel(FinishPart):
    """Reframing, crop, size, bars and words; what is delivered in numbers."""

    part, title = "reframe", "reframing"

    def __init__(self, desk: Desk, sample: Callable[[str, Callable[[Area], None]], None]) -> None:
        super().__init__(desk)
        self._sample = sample
        self.on.setText(say("Reframe"))
        self.hide_it = push_button(
            "Hide border", "The least push in that hides every place that stays empty on some frame", self.hide_now
        )
        self.push_in = self.number("Push in", "size", 0.1, 20, 0.002, 1, 3, "×", "How much larger the picture is")
        self.right = self.number(
            "Move right", "x", -10000, 10000, 0.5, 0, 1, "px", "Middle of the frame, from the plate's own"
        )
        self.down = self.number(
            "Move down", "y", -10000, 10000, 0.5, 0, 1, "px", "Middle of the frame, from the plate's own"
        )
        self.inside.addLayout(row(self.push_in, self.hide_it))
        self.inside.addLayout(row(self.right, self.down))
        self.aspect = choice(list(ASPECTS), "The frame that is composed for; shown over everything", self._aspect)
        self.aspect.setMinimumContentsLength(8)
        self.ratio = self.plain(
            NumberField("Ratio", 0.2, 20, 0.01, 2.39, 3, "", "Width against height, as it is seen"),
            lambda: self.desk.shot.finish.output.aspect,
            lambda v, w, g: self._output("Aspect", g, aspect=v),
        )
        self.bars = QCheckBox(say("Bars"))
        self.bars.setToolTip(say("Black bars over what lies beyond the aspect; else it is only shown"))
        self.bars.clicked.connect(
            lambda on: self._output(say("Bars {how}", how=say("on") if on else say("off")), None, bars=bool(on))
        )
        self.inside.addLayout(row(note("Aspect"), self.aspect, self.bars))
        self.inside.addWidget(self.ratio)
        self.crop = push_button("Crop…", "Drag the part of the plate that is delivered", self._crop)
        self.whole = tool_button("x", "All of the plate is delivered", lambda: self._output("No crop", None, crop=None))
        self.crop_words = note()
        self.inside.addLayout(row(self.crop, self.whole, self.crop_words))
        self.inside.itemAt(self.inside.count() - 1).layout().setStretch(2, 1)
        self.width_px = self._side("Width", "width")
        self.height_px = self._side("Height", "height")
        self.inside.addLayout(row(self.width_px, self.height_px))
        self.pixels = choice(list(PIXELS), "The shape of a delivered pixel", self._pixels)
        self.pixels.setMinimumContentsLength(10)
        self.inside.addLayout(row(note("Pixels"), self.pixels, 1))
        self.burn = QCheckBox(say("Burn in"))
        self.burn.setToolTip(say("Words at the foot of every frame"))
        self.burn.clicked.connect(
            lambda on: self._burn(say("Burn-in {how}", how=say("on") if on else say("off")), on=bool(on))
        )
        self.burnt = {}
        for name in marks("shot", "frame", "date"):
            box = QCheckBox(say(name).capitalize())
            box.setToolTip(say("Burns the {name} in", name=say(name)))
            box.clicked.connect(
                lambda on, name=name: self._burn(say("Burn in the {name}", name=say(name)), **{name: bool(on)})
            )
            self.burnt[name] = box
        self.version = QLineEdit()
        self.version.setPlaceholderText(say("Version"))
        self.version.setToolTip(say("A version to burn in, such as v003"))
        self.version.setAccessibleName(say("Version"))
        self.version.setMaxLength(80)
        self.version.editingFinished.connect(self._version)
        self.inside.addLayout(row(self.burn, *self.burnt.values()))
        self.inside.addWidget(self.version)
        self.inside.addWidget(self.words)

    def _set_back(self) -> None:
        plain = Finish()
        self.put_finish("Reset frame", None, reframe=plain.reframe, output=plain.output, burn_in=plain.burn_in)

    def _output(self, words: str, gesture: str | None, **changes: object) -> None:
        self.put_finish(words, gesture, output=self.desk.shot.finish.output.but(**changes))

    def _burn(self, words: str, **changes: object) -> None:
        self.put_finish(words, None, burn_in=self.desk.shot.finish.burn_in.but(**changes))

    def _version(self) -> None:
        text = self.version.text().strip()
        if text != self.desk.shot.finish.burn_in.version:
            self._burn("Version", version=text)

    def _side(self, label: str, name: str) -> NumberField:
        field = NumberField(
            label,
            0,
            MOST_PX,
            2,
            0,
            0,
            "px",
            say("{label} of the delivered frame; 0 follows from the rest", label=label),
        )

        field.words_at_zero = mark("automatic")

        def get() -> float:
            return float(getattr(self.desk.shot.finish.output, name) or 0)

        def put(value: float, words: str, gesture: str) -> None:
            if 1 <= value < LEAST_PX:
                self.desk.said.emit(
                    say("A frame is at least {least_px} px: {least_px} is set.", least_px=LEAST_PX), True
                )
            self._output(
                say("Delivered {name}", name=name),
                gesture,
                **{name: max(round(value), LEAST_PX) if value >= 1 else None},
            )

        return self.plain(field, get, put)

    def _aspect(self, name: str) -> None:
        self._output(
            say("Aspect {name}", name=name), None, aspect=ASPECTS.get(name, self.desk.shot.finish.output.aspect)
        )

    def _pixels(self, name: str) -> None:
        self._output(
            say("Pixels {name}", name=name),
            None,
            pixel_aspect=PIXELS.get(name, self.desk.shot.finish.output.pixel_aspect),
        )

    def _crop(self) -> None:
        def taken(area: Area) -> None:
            x0, y0, x1, y1 = (float(round(v)) for v in area)
            if min(x1 - x0, y1 - y0) < LEAST_PX:
                self.desk.said.emit(
                    say("A crop is at least {least_px} pixels wide and high. Drag a larger one.", least_px=LEAST_PX),
                    True,
                )
                return
            self._output("Crop", None, crop=(x0, y0, x1, y1))

        self._sample("Drag the part of the plate that is delivered.", taken)

    def hide_now(self) -> None:
        shot, desk = self.desk.shot, self.desk

        def found(reframe: Reframe) -> None:
            if not reframe.on:
                desk.said.emit(say("No border shows: the frame is filled on all frames."), False)
                return
            self.put_finish("Hide border", None, reframe=reframe)
            desk.said.emit(
                say("Pushed in {at:.3f} ×: the least that hides the border.", at=reframe.size.at(desk.frame)), False
            )

        desk.run("Looking at the border", lambda job: hide_border(shot, desk.store, job.progress), found)

    def reading(self) -> str:
        shot = self.desk.shot
        width, height = output_size(shot)
        own = shot.finish.output.pixel_aspect or plate_aspect(shot)
        shape = "" if own == 1 else say(", pixels {own:g} wide", own=own)
        return say("Delivered: {width} × {height}{shape}", width=width, height=height, shape=shape)

    def refresh(self) -> None:
        super().refresh()
        finish = self.desk.shot.finish
        output, burn_in = finish.output, finish.burn_in
        names = list(ASPECTS)
        known = next(
            (
                n
                for n, v in ASPECTS.items()
                if v == output.aspect or (v and output.aspect and abs(v - output.aspect) < 1e-4)
            ),
            None,
        )
        if known is None:
            known = f"{output.aspect:g} : 1"
            names.append(known)
        show_choice(self.aspect, names, known)
        self.ratio.setVisible(output.aspect is not None)
        self.bars.setChecked(output.bars)
        self.bars.setEnabled(output.aspect is not None)
        shapes = list(PIXELS)
        shape = next((n for n, v in PIXELS.items() if v == output.pixel_aspect), None)
        if shape is None:
            shape = say("{pixel_aspect:g} wide", pixel_aspect=output.pixel_aspect)
            shapes.append(shape)
        show_choice(self.pixels, shapes, shape)
        x0, y0, x1, y1 = crop_of(self.desk.shot)
        self.crop_words.setText(
            say("all of the plate")
            if output.crop is None
            else say("{x1:g} × {y1:g} at {x0:g}, {y0:g}", x1=x1 - x0, y1=y1 - y0, x0=x0, y0=y0)
        )
        self.whole.setVisible(output.crop is not None)
        self.burn.setChecked(burn_in.on)
        for name, box in self.burnt.items():
            box.setChecked(getattr(burn_in, name))
            box.setEnabled(burn_in.on)
        self.version.setVisible(burn_in.on)
        if not self.version.hasFocus():
            self.version.setText(burn_in.version)
