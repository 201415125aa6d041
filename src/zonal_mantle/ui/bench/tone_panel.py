"""Tone: light, balance, curves, colour, CDL. Each says the encoding that it works in."""

from __future__ import annotations

from PySide6.QtWidgets import QComboBox, QLabel, QPushButton, QVBoxLayout, QWidget

from ...comp.readings_match import MatchReading
from ...finish.look import look_from
from ...match.grade import curve_at, tone_of
from ...match.tone import logged
from ...match.tone_files import CDL_FORMATS, read_cdl, write_cdl, write_tone
from ...shot import Keyed, Look, LookUse, MantleError, Match, ToneMatch
from ...shot.match import DAYLIGHT_DUV, DAYLIGHT_K
from ...words import say
from .. import ask
from ..apart import apart
from ..desk import Desk
from ..numberfield import NumberField
from ..widgets import choice, chosen_of, column, note, push_button, row, show_choice
from .curve_edit import CurveEdit
from .look_page import LookPage
from .match_part import MatchPart, rgb_names
from .tint_pad import TintPad, factors_of

RANGES = (("shadows", "Shadows"), ("middle", "Middle"), ("lights", "Lights"))
CURVE_PX = 80
STRAIGHT = ((0.0, 0.0), (0.5, 0.5), (1.0, 1.0))
HUES = tuple((float(hue), 0.0) for hue in range(0, 360, 60))
CURVES = {"All": "curve_all", "Red": "curve_red", "Green": "curve_green", "Blue": "curve_blue"}
HUE_NAMES = ("Red", "Yellow", "Green", "Cyan", "Blue", "Magenta")
BY_HUE = {"Hue": "hue_by_hue", "Saturation": "saturation_by_hue", "Lightness": "lightness_by_hue"}


class TonePanel(MatchPart):
    """All of the tone, a page at a time; a page is made when it is first opened."""

    part = "tone"
    balance_note, curve_note = "Log (ACEScct). Dot: the zone; ring: its aim", "Log (ACEScct). Below: zone; above: aim"
    fit_tip = "Measures lightness, contrast, tint and saturation of the aim and sets them"

    def __init__(self, desk: Desk) -> None:
        super().__init__(desk)
        self.strength = self.inner(
            "Share of the fit",
            "palette",
            "strength",
            0,
            1.5,
            0.01,
            0,
            2,
            "",
            "How much of what was fitted is done; log encoding",
        )
        self.inside.addWidget(self.strength)
        self.pages: dict[str, tuple[QPushButton, QWidget]] = {}
        makers = (
            ("Light", self._light, "Exposure, white, contrast, saturation"),
            ("Balance", self._balance, "Colour balance of shadows, middle and lights"),
            ("Curves", self._curves, "Levels and curves"),
            ("Colour", self._colour, "By hue; a tint along lightness"),
            ("CDL", self._cdl, "Slope, offset, power, saturation (ASC CDL)"),
            ("Look", self._look, "A look laid on after the tone; saving this tone as one"),
        )
        self._makers = {name: make for name, make, _ in makers}
        for name, _, tip in makers:
            button = push_button(name, tip, lambda name=name: self.open_page(name), checkable=True)
            button.setStyleSheet("padding: 2px 0px; font-size: 11px;")
            self.pages[name] = (button, QWidget())
        self.inside.addLayout(row(*(button for button, _ in self.pages.values()), spacing=2))
        for _, page in self.pages.values():
            self.inside.addWidget(page)
        self._make("Light")
        self._show("Light")

    def has_page(self, name: str) -> bool:
        """Whether a page was made."""
        return name not in self._makers

    def open_page(self, name: str) -> None:
        """Shows one of the pages."""
        if not self.has_page(name):
            self._make(name)
            self.refresh()
        self._show(name)

    def _make(self, name: str) -> None:
        self.pages[name][1].setLayout(self._makers.pop(name)())

    def _show(self, name: str) -> None:
        self.page = name
        for each, (button, page) in self.pages.items():
            button.setChecked(each == name)
            page.setVisible(each == name)

    # --- pages ---
    def _light(self) -> QVBoxLayout:
        out = column(3)
        out.addWidget(note("Scene-linear"))
        self.exposure = self.number("Exposure", "exposure_stops", -10, 10, 0.02, 0, 2, "stops", "Scene-linear gain")
        self.kelvin = self.number(
            "White", "temperature_k", 1500, 15000, 20, DAYLIGHT_K, 0, "K", "The white of its light; adapted by Bradford"
        )
        self.duv = self.number(
            "Tint", "tint_duv", -0.05, 0.05, 0.0005, DAYLIGHT_DUV, 4, "Duv", "Above 0.0032 greener, below more magenta"
        )
        self.saturation = self.number("Saturation", "saturation", 0, 4, 0.005, 1, 3, "", "0 is grey")
        self.hue = self.number("Hue", "hue_deg", -180, 180, 0.5, 0, 1, "°", "Turns all hues")
        self.contrast = self.number(
            "Contrast, log", "contrast", 0, 4, 0.005, 1, 3, "", "About middle grey; in the log encoding (ACEScct)"
        )
        self.across = self.inner(
            "Toward the sun", "across", "stops", -4, 4, 0.02, 0, 2, "stops", "Exposure that grows along a drawn line"
        )
        self.draw = push_button(
            "Draw line", "Drag on the picture from where it begins to where all of it is there", self._line
        )
        for field in (self.exposure, self.kelvin, self.duv, self.saturation, self.hue, self.contrast):
            out.addWidget(field)
        out.addWidget(self.across)
        self.sky = push_button(
            "Fit to light of new sky",
            "Proposes exposure and white for this zone of the plate from old and new sky",
            self._new_sky,
        )
        self.whole = push_button(
            "Fit palette", "Takes on the palette of the aim as a whole", lambda: self.fit_now(whole_palette=True)
        )
        out.addWidget(self.sky)
        out.addLayout(row(self.draw, self.whole))
        return out

    def _balance(self) -> QVBoxLayout:
        out = column(3)
        out.addWidget(note(self.balance_note))
        self.pads = {}
        for name, _ in RANGES:
            pad = TintPad(name)
            pad.changed.connect(lambda x, y, gesture, name=name: self._tint(name, x, y, gesture))
            pad.gesture.connect(self.desk.set_dragging)
            self.pads[name] = pad

        def named(words: str) -> QLabel:
            label = note(words)
            label.setFixedWidth(38)
            return label

        out.addLayout(row(named(""), *(note(label) for _, label in RANGES)))
        out.addLayout(row(named(""), *self.pads.values()))
        self.balance: dict[str, list[NumberField]] = {name: [] for name, _ in RANGES}
        for colour in ("all", "red", "green", "blue"):
            for name, label in RANGES:
                tip = (
                    say("Lightness of the {name}; 1 unchanged", name=say(name))
                    if colour == "all"
                    else say("{colour} in the {name}", colour=say(colour), name=say(name))
                )
                field = self.inner(
                    say("{label} {colour}", label=say(label), colour=say(colour)),
                    name,
                    colour,
                    0.01,
                    1.99,
                    0.005,
                    1,
                    3,
                    "",
                    tip,
                    bare=True,
                )
                self.balance[name].append(field)
            out.addLayout(row(named(say(colour).capitalize()), *(self.balance[name][-1] for name, _ in RANGES)))
        return out

    def _curves(self) -> QVBoxLayout:
        out = column(3)
        out.addWidget(note(self.curve_note))
        self.which = choice(list(CURVES), "The curve that is shown", lambda _: self.refresh())
        self.flat = push_button("Reset curve", "Takes this curve away", lambda: self._curve((), None))
        out.addLayout(row(self.which, self.flat))
        self.curve = CurveEdit(curve_at, 1.0, rising=True)
        self.curve.setAccessibleName(say("Tone curve"))
        self.curve.changed.connect(self._curve)
        self.curve.gesture.connect(self.desk.set_dragging)
        out.addWidget(self.curve)
        self.levels = []
        for label, name, place, default in (
            ("Black in", "levels_in", 0, 0), ("White in", "levels_in", 1, 1),
            ("Black out", "levels_out", 0, 0), ("White out", "levels_out", 1, 1),
        ):  # fmt: skip
            self.levels.append(self._level(label, name, place, default))
        out.addLayout(row(*self.levels[:2]))
        out.addLayout(row(*self.levels[2:]))
        self.gamma = self.number("Gamma", "levels_gamma", 0.05, 8, 0.01, 1, 2, "", "Of the levels; above 1 brightens")
        out.addWidget(self.gamma)
        return out

    def _colour(self) -> QVBoxLayout:
        out = column(3)
        out.addWidget(note("Scene-linear"))
        self.by = choice(list(BY_HUE), "What is changed by hue", lambda _: self.refresh())
        out.addWidget(self.by)
        self.hue_fields = []
        for k, name in enumerate(HUE_NAMES):
            field = NumberField(
                name, -180, 180, 0.5, 0, 2, "", say("For {what} and what is near it", what=name.lower())
            )
            self.plain(field, lambda k=k: self._hue_value(k), lambda v, w, g, k=k: self._set_hue(k, v, g))
            self.hue_fields.append(field)
        for a, b in zip(self.hue_fields[::2], self.hue_fields[1::2]):
            out.addLayout(row(a, b))
        self.tint = self.inner(
            "Tint", "tint", "strength", 0, 1, 0.01, 0, 2, "", "Draws dark to one colour and bright to another"
        )
        out.addWidget(self.tint)
        self.tints = {}
        out.addLayout(rgb_names(38))
        for end in ("dark", "bright"):
            parts = []
            for k, colour in enumerate(("red", "green", "blue")):
                field = NumberField(
                    say("{label} {colour}", label=say(end), colour=say(colour)),
                    0,
                    4,
                    0.005,
                    0.5,
                    3,
                    "",
                    say("{colour} where it is {end}", colour=say(colour), end=say(end)),
                    bare=True,
                )
                self.plain(
                    field,
                    lambda end=end, k=k: self._tint_value(end, k),
                    lambda v, w, g, end=end, k=k: self._set_tint(end, k, v, g),
                )
                parts.append(field)
            self.tints[end] = parts
            words = note(say(end).capitalize())
            words.setFixedWidth(38)
            out.addLayout(row(words, *parts))
        return out

    def _cdl(self) -> QVBoxLayout:
        out = column(3)
        self.encoding: QComboBox = choice(
            ["scene-linear", "log"], "The encoding that the CDL works in",
            lambda v: self.put(say("CDL in {value}", value=say(v)), cdl=self.value().cdl.but(encoding=v)),
        )  # fmt: skip
        self.encoding.setMinimumContentsLength(11)
        out.addLayout(row(note("Works in"), self.encoding, 1))
        self.cdl = {}
        out.addLayout(rgb_names(38))
        for label, name, low, high, step, default in (
            ("Slope", "slope", 0, 8, 0.005, 1), ("Offset", "offset", -1, 1, 0.001, 0),
            ("Power", "power", 0.1, 8, 0.005, 1),
        ):  # fmt: skip
            parts = [
                self.inner(
                    say("{label} {colour}", label=say(label), colour=say(colour)),
                    "cdl",
                    name,
                    low,
                    high,
                    step,
                    default,
                    3,
                    "",
                    say("{label} of {colour}", label=label, colour=colour),
                    place=k,
                    bare=True,
                )
                for k, colour in enumerate(("red", "green", "blue"))
            ]
            self.cdl[name] = parts
            words = note(label)
            words.setFixedWidth(38)
            out.addLayout(row(words, *parts))
        self.cdl_saturation = self.inner("Saturation", "cdl", "saturation", 0, 4, 0.005, 1, 3, "", "0 is grey")
        out.addWidget(self.cdl_saturation)
        self.load = push_button("Load CDL…", "Takes the CDL of a .cc, .ccc or .cdl file", self._load)
        self.save = push_button(
            "Save CDL…", "The CDL as .cc, .ccc or .cdl; the whole tone as .clf or .cube with a shaper", self._save
        )
        out.addLayout(row(self.load, self.save))
        return out

    def _look(self) -> QVBoxLayout:
        out = column(3)
        self.look = LookPage(self.desk, self.look_use, self.put_look, self.as_look)
        out.addWidget(self.look)
        return out

    # --- looks ---
    def look_use(self) -> LookUse | None:
        """The look that is laid on after the tone."""
        return None if self.desk.zone is None else self.desk.zone.look

    def put_look(self, use: LookUse | None, words: str, gesture: str | None = None) -> None:
        """Lays another look on."""
        zone = self.desk.zone
        if zone is not None:
            self.desk.edit_zone(zone.but(look=use), say("{words} on {name}", words=words, name=zone.name), gesture)

    def as_look(self, name: str) -> Look | None:
        """The tone as a look of a name."""
        value = self.value()
        return None if value is None else look_from(name, value, self.desk.frame)

    # --- changing ---
    def _level(self, label: str, name: str, place: int, default: float) -> NumberField:
        field = NumberField(label, -0.5, 1.5, 0.002, default, 2, "", say("{label}, in the log encoding", label=label))

        def get() -> Keyed | None:
            value = self.value()
            return None if value is None else getattr(value, name)[place]

        def put(new: Keyed, words: str, gesture: str) -> None:
            pair = getattr(self.value(), name)
            self.put(words, gesture, **{name: tuple(new if k == place else v for k, v in enumerate(pair))})

        return self.keyed(field, get, put)

    def _tint(self, name: str, x: float, y: float, gesture: str) -> None:
        frame, part = self.desk.frame, getattr(self.value(), name)
        red, green, blue = factors_of(x, y)
        new = part.but(
            red=part.red.with_value(frame, red), green=part.green.with_value(frame, green),
            blue=part.blue.with_value(frame, blue),
        )  # fmt: skip
        self.put(say("Tint of the {name}", name=name), gesture, **{name: new})

    def _curve(self, points: object, gesture: str | None) -> None:
        name = chosen_of(self.which)
        straight = tuple(points) == STRAIGHT  # type: ignore[arg-type]
        self.put(say("Curve {what}", what=name.lower()), gesture, **{CURVES[name]: () if straight else points})

    def _hue_value(self, k: int) -> float | None:
        value = self.value()
        if value is None:
            return None
        name = chosen_of(self.by)
        points = getattr(value, BY_HUE[name])
        rest = 0.0 if name == "Hue" else 1.0
        return points[k][1] if len(points) == len(HUES) else rest

    def _set_hue(self, k: int, number: float, gesture: str) -> None:
        name = chosen_of(self.by)
        rest = 0.0 if name == "Hue" else max(number, 0.0)
        old = getattr(self.value(), BY_HUE[name])
        plain = 0.0 if name == "Hue" else 1.0
        points = list(old) if len(old) == len(HUES) else [(hue, plain) for hue, _ in HUES]
        points[k] = (points[k][0], number if name == "Hue" else rest)
        gone = all(value == plain for _, value in points)
        self.put(say("{name} by hue", name=name), gesture, **{BY_HUE[name]: () if gone else tuple(points)})

    def _tint_value(self, end: str, k: int) -> float | None:
        value = self.value()
        return None if value is None else getattr(value.tint, end)[k]

    def _set_tint(self, end: str, k: int, number: float, gesture: str) -> None:
        tint = self.value().tint
        colour = tuple(number if j == k else v for j, v in enumerate(getattr(tint, end)))
        self.put(say("Tint of {end}", end=end), gesture, tint=tint.but(**{end: colour}))

    def _line(self) -> None:
        self.line_wanted("Drag from where the light begins to where all of it is there.", self._line_drawn)

    def _line_drawn(self, a: tuple[float, float], b: tuple[float, float]) -> None:
        across = self.value().across
        stops = across.stops if across.stops.at(self.desk.frame) else Keyed(constant=0.5)
        self.put("Line of the light", across=across.but(a=a, b=b, stops=stops))

    def line_wanted(self, hint: str, then: object) -> None:
        """Set by the stage: asks for a line on the picture."""

    def _new_sky(self) -> None:
        self.sky_wanted()

    def sky_wanted(self) -> None:
        """Set by the stage: proposes the light of the new sky."""

    def _load(self) -> None:
        path = ask.existing_file(self.window(), "Load a CDL", ask.CDLS)
        if path is None:
            return
        try:
            self.put(say("CDL of {name}", name=path.name), cdl=apart(lambda: read_cdl(path)))
        except MantleError as problem:
            self.desk.said.emit(str(problem), True)

    def _save(self) -> None:
        value = self.value()
        path = ask.new_file(self.window(), "Save the tone", ask.TONES, "")
        if path is None or value is None:
            return
        try:
            if path.suffix.lower() in CDL_FORMATS:
                name, frame = self.subject_name, self.desk.frame
                lost = apart(lambda: write_cdl(path, value.cdl, name, frame))
            else:
                tone = tone_of(Match(tone=value.but(on=True)), self.desk.frame)
                lost = apart(lambda: write_tone(path, tone))
        except MantleError as problem:
            self.desk.said.emit(str(problem), True)
            return
        self.desk.said.emit(say("{name} is written. {lost}", name=path.name, lost=lost), False)

    # --- showing ---
    @property
    def subject_name(self) -> str:
        """What the tone belongs to."""
        return "" if self.desk.zone is None else self.desk.zone.name

    def reading(self) -> str:
        zone = self.desk.zone
        found = None if zone is None else self.desk.readings.matches.get(zone.id)
        if found is None or found.problem:
            return found.problem if found is not None else ""
        dark, middle, light = found.delta_e
        untold = found.drawn and bool(found.untold)
        about = say("How far its tone is off cannot be told: {why} ", why=found.untold) if untold else ""
        return about + say(
            "As seen, shadows, middle, lights: ΔE {dark:.1f}, {middle:.1f}, {light:.1f}; {stops:+.1f}, "
            "{stops_2:+.1f}, {stops_3:+.1f} stops",
            dark=dark,
            middle=middle,
            light=light,
            stops=found.stops[0],
            stops_2=found.stops[2],
            stops_3=found.stops[-1],
        )

    def refresh(self) -> None:
        self.refresh_fields()
        zone, value = self.desk.zone, self.value()
        if zone is None or value is None:
            return
        plate = self.desk.shot.holds_plate(zone)
        self.sky.setVisible(plate)
        self.whole.setVisible(not plate)
        self.show_tone(value, self.desk.readings.matches.get(zone.id))

    def refresh_fields(self) -> None:
        """Shows the numbers, the switch and what was measured."""
        self.set_hue_ranges()
        super().refresh()

    def set_hue_ranges(self) -> None:
        """What the fields by hue hold: degrees, or factors."""
        if not self.has_page("Colour"):
            return
        hue = chosen_of(self.by)
        for field in self.hue_fields:
            field.low, field.high = (-180, 180) if hue == "Hue" else (0, 4)
            field.step, field.default = (0.5, 0.0) if hue == "Hue" else (0.01, 1.0)
            field.unit = "°" if hue == "Hue" else ""

    def show_tone(self, value: ToneMatch, found: MatchReading | None) -> None:
        """Shows what is not a number, and the aim in it."""
        if self.has_page("Look"):
            self.look.refresh()
        if self.has_page("Balance"):
            self._show_balance(value, found)
        if self.has_page("Curves"):
            self._show_curve(value, found)
        if self.has_page("CDL"):
            show_choice(self.encoding, ["scene-linear", "log"], value.cdl.encoding)

    def _show_balance(self, value: ToneMatch, found: MatchReading | None) -> None:
        frame = self.desk.frame
        for k, (name, _) in enumerate(RANGES):
            part = getattr(value, name)
            factors = tuple(float(each.at(frame)) for each in (part.red, part.green, part.blue))
            known = found is not None and len(found.zone_colours) == 3
            self.pads[name].show_values(
                factors,
                found.zone_colours[k] if known else None,  # type: ignore[union-attr]
                found.aim_colours[k] if known else None,  # type: ignore[arg-type,union-attr]
            )

    def _show_curve(self, value: ToneMatch, found: MatchReading | None) -> None:
        points = getattr(value, CURVES[chosen_of(self.which)])
        if found is not None and found.zone_light:
            self.curve.ticks = (
                tuple(logged(max(v, 0.0)) for v in found.zone_light),
                tuple(logged(max(v, 0.0)) for v in found.aim_light),
            )  # fmt: skip
        self.curve.show_response((), points or STRAIGHT)
        self.curve.setFixedHeight(CURVE_PX)
