"""The Matte stage: the luma pull and the shapes."""

from __future__ import annotations

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QCheckBox, QListWidget, QListWidgetItem

from ...matte import PRESETS
from ...shot import Keyed, LumaPull, Matte, Shape, Zone
from ..desk import Desk, new_gesture
from ..numberfield import NumberField
from ..tools.shape import ShapeTool
from ..widgets import choice, note, push_button, row, show_choice, tool_button
from .stage import Stage

OWN = "Own weights"
NONE = "No pull"


class MatteStage(Stage):
    """What of the zone is there."""

    name = "Matte"
    tip = "What of this zone stays: a pull from the plate, then keep shapes, then drop shapes"

    def __init__(self, desk: Desk, tool: ShapeTool) -> None:
        super().__init__(desk)
        self.tool = tool
        self.preset = choice([*PRESETS, OWN, NONE], "Which mix of the coded feed the luma pull looks at", self._preset)
        self.invert = QCheckBox("Invert")
        self.invert.setToolTip("Turns solid into empty and empty into solid")
        self.invert.clicked.connect(lambda on: self._pull(f"Invert {self.zone.name}", invert=bool(on)))
        self.clamp = QCheckBox("Clamp")
        self.clamp.setToolTip("Keeps alpha within 0…1")
        self.clamp.clicked.connect(lambda on: self._pull("Clamp", clamp=bool(on)))
        self.inside.addLayout(row(self.preset, 1, self.invert, self.clamp))
        self.weights = [
            NumberField(c, -2, 2, 0.01, v, 3, "", f"Weight of coded {n}")
            for c, n, v in (("R", "red", 0.2126), ("G", "green", 0.7152), ("B", "blue", 0.0722))
        ]
        for k, field in enumerate(self.weights):
            field.changed.connect(lambda value, gesture, k=k: self._weight(k, value, gesture))
            field.gesture.connect(desk.set_dragging)
        self.inside.addLayout(row(*self.weights))
        for label, name, low, high, default, tip in (
            ("High", "high", 0, 1.5, 0.8, "Coded value above which the matte begins to open"),
            ("Softness", "high_softness", 0, 1, 0.08, "Coded values from solid to empty above High"),
            ("Low", "low", -0.5, 1.5, 0.0, "Coded value below which the matte begins to open"),
            ("Softness", "low_softness", 0, 1, 0.0, "Coded values from solid to empty below Low"),
            ("Gain", "gain", 0, 4, 1.0, "Multiplies the matte before the clamp"),
        ):
            field = NumberField(label, low, high, 0.002, default, 3, "", tip)

            def get(zone: Zone, name: str = name) -> Keyed | None:
                return getattr(zone.matte.pull, name) if zone.matte.pull else None

            def put(zone: Zone, value: Keyed, name: str = name) -> Zone:
                assert zone.matte.pull is not None
                return zone.but(matte=zone.matte.but(pull=zone.matte.pull.but(**{name: value})))

            self.keyed_field(field, get, put)
            setattr(self, name, field)
        self.inside.addLayout(row(self.high, self.high_softness))
        self.inside.addLayout(row(self.low, self.low_softness))
        self.inside.addWidget(self.gain)

        self.inside.addSpacing(4)
        self.inside.addWidget(note("Shapes"))
        self.draw_keep = push_button(
            "Keep", "Draw a keep shape: inside it all stays (alpha 1)", lambda: self._draw("keep"), "plus"
        )
        self.draw_drop = push_button(
            "Drop", "Draw a drop shape: inside it all goes (alpha 0)", lambda: self._draw("drop"), "plus"
        )
        self.form = choice(["polygon", "smooth"], "The form of the next shape", lambda _: None)
        self.inside.addLayout(row(self.draw_keep, self.draw_drop, self.form))
        self.list = QListWidget()
        self.list.setFixedHeight(76)
        self.list.setAccessibleName("Shapes")
        self.list.setToolTip("The shapes of this matte. The box switches one on and off")
        self.list.itemClicked.connect(self._choose)
        self.list.itemChanged.connect(self._switch_shape)
        self.inside.addWidget(self.list)
        self.feather = NumberField(
            "Feather", 0, 200, 0.25, 0, 1, "px", "Width of the chosen shape's soft edge, half on either side"
        )
        self.feather.changed.connect(self._feather)
        self.feather.gesture.connect(desk.set_dragging)
        self.key = tool_button("diamond", "Key the chosen shape on this frame, or remove its key here", self._key)
        self.remove = tool_button("trash-2", "Remove the chosen shape (Delete)", tool.remove)
        self.inside.addLayout(row(self.feather, self.key, self.remove))
        self.words = note()
        self.inside.addWidget(self.words)

    # --- showing ---
    def refresh(self) -> None:
        super().refresh()
        matte = self.zone.matte
        self.header.switch.setChecked(matte.on)
        self._show_reading(matte)
        pull = matte.pull
        name = NONE if pull is None else next((n for n, w in PRESETS.items() if w == pull.weights), OWN)
        show_choice(self.preset, [*PRESETS, OWN, NONE], name)
        for box, value in ((self.invert, pull.invert if pull else False), (self.clamp, pull.clamp if pull else True)):
            box.setChecked(value)
            box.setEnabled(pull is not None)
        for k, field in enumerate(self.weights):
            field.setEnabled(pull is not None)
            if pull is not None:
                field.set_value(pull.weights[k])
        self._show_shapes(matte)

    def _show_reading(self, matte: Matte) -> None:
        reading = self.desk.readings.mattes.get(self.zone.id)
        if not matte.on:
            self.header.show_reading("off: all of it stays")
        elif matte.pull is None and not matte.shapes:
            self.header.show_reading("empty: choose a pull", True)
        elif reading is None:
            self.header.show_reading("…")
        else:
            bad = reading.holes > 0.002 or reading.leftover > 0.002
            self.header.show_reading(f"{reading.holes:.1%} holes · {reading.leftover:.1%} left", bad)
            self.header.reading.setToolTip(
                f"Share of the keep area that is not solid (worst on {reading.holes_frame}), and of the dropped area "
                f"that is not empty (worst on {reading.leftover_frame})"
            )

    def _show_shapes(self, matte: Matte) -> None:
        self.list.blockSignals(True)
        self.list.clear()
        for shape in matte.shapes:
            keys = f" · {len(shape.keys)} keys" if len(shape.keys) > 1 else ""
            item = QListWidgetItem(f"{shape.name} · {shape.mode}{keys}")
            item.setFlags(item.flags() | Qt.ItemFlag.ItemIsUserCheckable)
            item.setCheckState(Qt.CheckState.Checked if shape.on else Qt.CheckState.Unchecked)
            item.setData(Qt.ItemDataRole.UserRole, shape.id)
            self.list.addItem(item)
            if shape.id == self.tool.chosen:
                self.list.setCurrentItem(item)
        self.list.blockSignals(False)
        chosen = self._chosen()
        for part in (self.feather, self.key, self.remove):
            part.setEnabled(chosen is not None)
        if chosen is not None:
            self.feather.set_value(chosen.feather_px)
        self.words.setText(
            f"Click the points of a {self.tool.drawing[0]} shape; Enter or the first point closes it."
            if self.tool.drawing
            else ""
        )

    def _chosen(self) -> Shape | None:
        return next((s for s in self.zone.matte.shapes if s.id == self.tool.chosen), None)

    # --- changing ---
    def switch(self, on: bool) -> None:
        matte = self.zone.matte
        if on and matte.pull is None and not matte.shapes:
            matte = matte.but(pull=LumaPull())
        self.desk.edit_zone(self.zone.but(matte=matte.but(on=on)), f"Matte {'on' if on else 'off'}")

    def _pull(self, label: str, gesture: str | None = None, **changes: object) -> None:
        matte = self.zone.matte
        pull = (matte.pull or LumaPull()).but(**changes)
        self.desk.edit_zone(self.zone.but(matte=matte.but(pull=pull, on=True)), label, gesture)

    def _preset(self, name: str) -> None:
        if name == NONE:
            matte = self.zone.matte.but(pull=None)
            self.desk.edit_zone(self.zone.but(matte=matte), "No pull")
        elif name in PRESETS:
            self._pull(f"Pull {name}", weights=PRESETS[name])

    def _weight(self, k: int, value: float, gesture: str) -> None:
        pull = self.zone.matte.pull
        if pull is not None:
            weights = tuple(value if j == k else w for j, w in enumerate(pull.weights))
            self._pull("Weights", gesture, weights=weights)

    def _draw(self, mode: str) -> None:
        self.desk.choose_stage("Matte")
        self.tool.start(mode, self.form.currentText())
        self.desk.choice_changed.emit()

    def _choose(self, item: QListWidgetItem) -> None:
        self.tool.chosen = item.data(Qt.ItemDataRole.UserRole)
        self.desk.choice_changed.emit()

    def _put(self, shape: Shape, label: str, gesture: str | None = None) -> None:
        matte = self.zone.matte
        shapes = tuple(shape if s.id == shape.id else s for s in matte.shapes)
        self.desk.edit_zone(self.zone.but(matte=matte.but(shapes=shapes)), label, gesture)

    def _switch_shape(self, item: QListWidgetItem) -> None:
        id = item.data(Qt.ItemDataRole.UserRole)
        shape = next(s for s in self.zone.matte.shapes if s.id == id)
        on = item.checkState() == Qt.CheckState.Checked
        if on != shape.on:
            self._put(shape.but(on=on), f"{shape.name} {'on' if on else 'off'}")

    def _feather(self, value: float, gesture: str) -> None:
        if (shape := self._chosen()) is not None:
            self._put(shape.but(feather_px=value), f"Feather of {shape.name}", gesture)

    def _key(self) -> None:
        shape, frame = self._chosen(), self.desk.frame
        if shape is None:
            return
        if any(key.frame == frame for key in shape.keys) and len(shape.keys) > 1:
            self._put(shape.without_key(frame), f"Remove a key of {shape.name}", new_gesture())
        else:
            self._put(shape.with_points(frame, shape.points_at(frame)), f"Key {shape.name}", new_gesture())
