"""How the painting hangs: its way, its numbers, its time, its group."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any, cast, get_args

from PySide6.QtWidgets import QCheckBox, QLabel, QLineEdit

from ...place import converted
from ...shot import Keyed, Placement, Timing, Value, Zone
from ...shot.hang import WAYS, Between, Way
from ...words import say
from ..desk import Desk
from ..numberfield import NumberField
from ..tools.place import with_anchor
from ..widgets import choice, named, note, push_button, row, show_choice
from .panel import Panel

TIPS = {
    "flat": "place, size, turn and width, under any lock",
    "corner pin": "four corners on the picture",
    "card": "in metres, under a camera lock",
    "dome": "at infinity by its field of view, under a pan or camera lock",
}
AFTER = ["hold", "loop", "back and forth", "clear"]
FIELDS: dict[str, tuple[tuple[str, str, float, float, float, float, int, str, str], ...]] = {
    "": (
        ("X", "x", -20000, 20000, 1.0, 0, 1, "px", "Moves the painting right, in plate pixels"),
        ("Y", "y", -20000, 20000, 1.0, 0, 1, "px", "Moves the painting down, in plate pixels"),
        ("Size", "size", 0.01, 20, 0.005, 1, 3, "", "Plate pixels to one painting pixel"),
        ("Rotation", "turn_deg", -360, 360, 0.1, 0, 2, "°", "Turns the painting clockwise about its anchor"),
        ("Stretch", "width", 0.05, 20, 0.005, 1, 3, "", "Width against height"),
    ),
    "card": (
        ("Right", "right_m", -1e5, 1e5, 0.1, 0, 2, "m", "The card's middle, right of the lens's axis"),
        ("Up", "up_m", -1e5, 1e5, 0.1, 0, 2, "m", "The card's middle, above the lens's axis"),
        ("Height", "height_m", 0.01, 1e6, 0.1, 10, 2, "m", "The card's height"),
        ("Yaw", "yaw_deg", -180, 180, 0.2, 0, 2, "°", "Turns the card about the upright"),
        ("Pitch", "pitch_deg", -90, 90, 0.2, 0, 2, "°", "Leans the card back"),
        ("Roll", "roll_deg", -180, 180, 0.2, 0, 2, "°", "Rolls the card clockwise"),
    ),
    "dome": (
        ("Pan", "turn_deg", -360, 360, 0.2, 0, 2, "°", "Its middle, right of the reference frame's axis"),
        ("Tilt", "tilt_deg", -180, 180, 0.2, 0, 2, "°", "Its middle, above the reference frame's axis"),
        ("Roll", "roll_deg", -180, 180, 0.2, 0, 2, "°", "Rolls the dome clockwise"),
    ),
}


class HangPanel(Panel):
    """Way, numbers, flips, time and group."""

    def __init__(self, desk: Desk) -> None:
        super().__init__(desk)
        self.way = choice(
            list(WAYS),
            say("How the painting hangs: {names}", names="; ".join(f"{say(k)}: {say(v)}" for k, v in TIPS.items())),
            self._way,
        )
        self.grouped = QLineEdit()
        self.grouped.setPlaceholderText(say("no group"))
        self.grouped.setMinimumWidth(80)
        self.grouped.setToolTip(say("Zones with the same group name are moved together"))
        self.grouped.setAccessibleName(say("Group"))
        self.grouped.editingFinished.connect(self._group)
        self.inside.addLayout(row(named("Placement", self.way, wide=False), named("Group", self.grouped, wide=False)))
        self.fields: dict[tuple[str, str], NumberField] = {}
        for part, entries in FIELDS.items():
            made = [self._field(part, *entry) for entry in entries]
            for k in range(0, len(made), 2):
                self.inside.addLayout(row(*made[k : k + 2]))
        self.pins = [[self._pin(k, axis) for axis in ("x", "y")] for k in range(4)]
        for pair in self.pins:
            self.inside.addLayout(row(*pair))
        self.mapping = choice(
            ["lat-long", "lens"],
            "lat-long: columns are bearings; lens: a picture as a lens sees",
            lambda v: self._dome(say("Dome {value}", value=say(v)), mapping=v),
        )
        self.wide = NumberField("Field of view", 1, 360, 0.5, 360, 1, "°", "How wide the painting sees, in degrees")
        self.plain(self.wide, self._wide, lambda v, w, g: self._dome(w, g, wide_deg=v))
        self.inside.addLayout(row(named("Mapping", self.mapping), self.wide))
        self.across = push_button(
            "Flip horizontally",
            "Mirrors the painting about its anchor",
            lambda: self._flip("flip_across"),
            "flip-horizontal",
            True,
        )
        self.up = push_button(
            "Flip vertically",
            "Turns the painting upside down about its anchor",
            lambda: self._flip("flip_up"),
            "flip-vertical",
            True,
        )
        self.inside.addLayout(row(self.across, self.up))
        self.anchor = QLabel()
        self.to_mark = push_button(
            "Move anchor to the mark", "Puts the anchor on the lock's first mark; the painting stays", self._to_mark
        )
        self.inside.addWidget(self.anchor)
        self.inside.addWidget(self.to_mark)
        self.start = NumberField(
            "Starts at frame", -1e6, 1e7, 1, 0, 0, "", "Frame of the plate on which its first frame is seen"
        )
        self.speed = NumberField("Speed", -20, 20, 0.05, 1, 2, "×", "How fast it plays; below 0 backward")
        self.plain(self.start, self._starts, lambda v, w, g: self._timing(w, g, start=round(v)))
        self.keyed(self.speed, lambda: self._of(lambda z: z.timing.speed), lambda v, w, g: self._timing(w, g, speed=v))
        self.after = choice(
            AFTER,
            "What is seen before its first and after its last frame",
            lambda v: self._timing(say("After its end {value}", value=say(v)), after=v),
        )
        self.between = choice(
            list(get_args(Between)),
            "What is seen between two of its frames: the one before, both blended, or what optical flow moves them to",
            lambda v: self._timing(say("Between frames {value}", value=say(v)), between=v),
        )
        self.own_rate = QCheckBox(say("Own frame rate"))
        self.own_rate.setToolTip(say("A second of it lasts a second; off, a frame of it lasts one of the plate"))
        self.own_rate.clicked.connect(lambda on: self._timing("Own frame rate", own_rate=bool(on)))
        self.inside.addLayout(row(self.start, self.speed))
        self.inside.addLayout(row(named("Beyond its ends", self.after), named("Between frames", self.between)))
        self.inside.addWidget(self.own_rate)
        self.seen_from = NumberField("From", -1e6, 1e7, 1, 1, 0, "", "First frame on which the zone is in the picture")
        self.seen_to = NumberField("To", -1e6, 1e7, 1, 1, 0, "", "Last frame on which the zone is in the picture")
        self.seen_from.changed.connect(lambda v, g: self._seen("first", round(v), g))
        self.seen_to.changed.connect(lambda v, g: self._seen("last", round(v), g))
        self.inside.addLayout(row(self.seen_from, self.seen_to))
        self.words = note()
        self.inside.addWidget(self.words)

    # --- values ---
    def _of(self, get: Callable[[Zone], Any]) -> Any:
        zone = self.desk.zone
        return None if zone is None else get(zone)

    def _field(self, part: str, label: str, name: str, *numbers: object) -> NumberField:
        field = NumberField(label, *numbers)  # type: ignore[arg-type]
        self.fields[(part, name)] = field

        def holder(placement: Placement) -> Value:
            return cast(Value, getattr(placement, part) if part else placement)

        def get() -> Keyed | None:
            return self._of(lambda zone: getattr(holder(zone.placement), name))

        def put(value: Keyed, words: str, gesture: str) -> None:
            zone = self.desk.zone
            if zone is not None:
                new = holder(zone.placement).but(**{name: value})
                placement = zone.placement.but(**{part: new}) if part else new
                self.desk.edit_zone(
                    zone.but(placement=placement), say("{words} of {name}", words=say(words), name=zone.name), gesture
                )

        return self.keyed(field, get, put)

    def _pin(self, k: int, axis: str) -> NumberField:
        where = ("upper left", "upper right", "lower right", "lower left")[k]
        label = ("UL", "UR", "LR", "LL")[k] + " " + axis
        field = NumberField(
            label, -50000, 50000, 0.1, 0, 1, "px", say("The {where} corner, on the reference frame", where=say(where))
        )

        def put(value: Keyed, words: str, gesture: str) -> None:
            zone = self.desk.zone
            if zone is not None:
                pins = list(zone.placement.pins)
                pins[k] = pins[k].but(**{axis: value})
                placement = zone.placement.but(pins=tuple(pins))
                self.desk.edit_zone(zone.but(placement=placement), say("Pin {where}", where=say(where)), gesture)

        return self.keyed(field, lambda: self._of(lambda zone: getattr(zone.placement.pins[k], axis)), put)

    def _wide(self) -> float | None:
        return self._of(lambda zone: zone.placement.dome.wide_deg)

    def _starts(self) -> float | None:
        zone = self.desk.zone
        if zone is None:
            return None
        return zone.timing.start if zone.timing.start is not None else self.desk.shot.source(zone.source).start

    # --- showing ---
    def refresh(self) -> None:
        super().refresh()
        zone, shot = self.desk.zone, self.desk.shot
        if zone is None:
            return
        placement, source, plate = zone.placement, shot.source(zone.source), shot.holds_plate(zone)
        way = "flat" if plate else placement.way
        show_choice(self.way, list(WAYS), way)
        self.way.setEnabled(not plate)
        self.seen_from.set_value(shot.first if zone.first is None else zone.first)
        self.seen_to.set_value(shot.last if zone.last is None else zone.last)
        if not self.grouped.hasFocus():
            self.grouped.setText(self._group_name(zone))
        for (part, name), field in self.fields.items():
            field.setVisible((part or "flat") == way or (way == "card" and name == "width" and not part))
        for pair in self.pins:
            for field in pair:
                field.setVisible(way == "corner pin")
        for widget in (self.mapping, self.wide):
            widget.setVisible(way == "dome")
        show_choice(self.mapping, ["lat-long", "lens"], placement.dome.mapping)
        self.across.setChecked(placement.flip_across)
        self.up.setChecked(placement.flip_up)
        x, y = placement.anchor or (shot.size[0] / 2, shot.size[1] / 2)
        x, y = x + placement.x.at(self.desk.frame), y + placement.y.at(self.desk.frame)
        self.anchor.setText(say("Anchor {x:.1f}, {y:.1f}", x=x, y=y))
        lock = shot.lock(placement.rides) if placement.rides else None
        for widget in (self.anchor, self.to_mark):
            widget.setVisible(way == "flat")
        self.to_mark.setEnabled(lock is not None and bool(lock.marks))
        moving = source.kind != "still" and not plate
        for widget in (self.start, self.speed, self.after, self.between, self.own_rate):
            widget.setVisible(moving)
        show_choice(self.between, list(get_args(Between)), zone.timing.between)
        self.own_rate.setChecked(zone.timing.own_rate)
        rates = say(
            "{frames_per_second:.4g} against the plate's {rate:.4g} frames a second",
            frames_per_second=float(source.frames_per_second),
            rate=float(shot.rate),
        )
        self.own_rate.setToolTip(
            say("A second of it lasts a second ({rates}); off, a frame of it lasts one of the plate", rates=rates)
        )
        show_choice(self.after, AFTER, zone.timing.after)
        place = self.desk.readings.places.get(zone.id)
        moves = "Moves what the matte leaves of the plate; nothing is filled in where it was." if plate else ""
        self.words.setText(place.trouble if place is not None else say(moves))

    # --- changing ---
    def _put(self, zone: Zone, words: str, gesture: str | None = None) -> None:
        self.desk.edit_zone(zone, words, gesture)

    def _way(self, way: str) -> None:
        zone = self.desk.zone
        if zone is not None and way != zone.placement.way:
            found = converted(self.desk.shot, zone, cast(Way, way), self.desk.frame)
            self._put(found.zone, say("Hang {name} as {way}", name=zone.name, way=say(way)))
            self.desk.choice_changed.emit()  # the hint is another
            self.desk.said.emit(
                found.words or say("{name} hangs as {way}; the picture has not moved.", name=zone.name, way=say(way)),
                False,
            )

    def _group_name(self, zone: Zone) -> str:
        group = self.desk.shot.group_of(zone)
        return "" if group is None else group.name

    def _group(self) -> None:
        zone, name = self.desk.zone, self.grouped.text().strip()
        if zone is not None and name != self._group_name(zone):
            self.desk.edit(self.desk.shot.grouped(zone, name), say("Group of {name}", name=zone.name))

    def _dome(self, words: str, gesture: str | None = None, **changes: object) -> None:
        zone = self.desk.zone
        if zone is not None:
            dome = zone.placement.dome.but(**changes)
            self._put(
                zone.but(placement=zone.placement.but(dome=dome)),
                say("{words} of {name}", words=say(words), name=zone.name),
                gesture,
            )

    def _timing(self, words: str, gesture: str | None = None, **changes: object) -> None:
        zone = self.desk.zone
        if zone is not None:
            timing: Timing = zone.timing.but(**changes)
            self._put(zone.but(timing=timing), say("{words} of {name}", words=say(words), name=zone.name), gesture)

    def _seen(self, end: str, frame: int, gesture: str | None) -> None:
        zone, shot = self.desk.zone, self.desk.shot
        if zone is not None:
            outside = frame <= shot.first if end == "first" else frame >= shot.last
            words = say("{end} frame of {name}", end=say(end).capitalize(), name=zone.name)
            self._put(zone.but(**{end: None if outside else frame}), words, gesture)

    def _flip(self, name: str) -> None:
        zone = self.desk.zone
        if zone is not None:
            placement = zone.placement.but(**{name: not getattr(zone.placement, name)})
            self._put(zone.but(placement=placement), say("Flip {name}", name=zone.name))

    def _to_mark(self) -> None:
        zone = self.desk.zone
        if zone is None:
            return
        placement = zone.placement
        lock = self.desk.shot.lock(placement.rides) if placement.rides else None
        if lock is None or not lock.marks:
            return
        size, frame = self.desk.shot.size, self.desk.frame
        x, y = placement.anchor or (size[0] / 2, size[1] / 2)
        shown = (x + placement.x.at(frame), y + placement.y.at(frame))
        by = (lock.marks[0].x - shown[0], lock.marks[0].y - shown[1])
        self._put(zone.but(placement=with_anchor(placement, frame, by, size)), "Anchor to the mark")
