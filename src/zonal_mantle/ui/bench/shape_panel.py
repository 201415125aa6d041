"""The shapes of a matte: drawing, their list, and the chosen one's edge."""

from __future__ import annotations

import json

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QApplication, QCheckBox, QListWidget, QListWidgetItem

from ...paths import write_whole
from ...shot import MantleError, Shape
from ...words import say
from ..apart import apart
from ..ask import existing_file, new_file
from ..desk import Desk, new_gesture
from ..numberfield import NumberField
from ..tools.shape import FORMS_DRAWN, ShapeTool
from ..widgets import choice, chosen_of, fill, named, note, push_button, row, switched, tool_button
from .panel import Panel
from .takes import Takes

NOTHING = "nothing"


class ShapePanel(Panel):
    """Keep and drop shapes."""

    def __init__(self, desk: Desk, tool: ShapeTool) -> None:
        super().__init__(desk)
        self.tool = tool
        self.keep = push_button(
            "Keep shape", "Draw a keep shape: inside it all stays (alpha 1)", lambda: self._draw("keep"), "plus"
        )
        self.drop = push_button(
            "Drop shape", "Draw a drop shape: inside it all goes (alpha 0)", lambda: self._draw("drop"), "plus"
        )
        self.form = choice(list(FORMS_DRAWN), "The form of the next shape", lambda _: None)
        self.inside.addLayout(row(self.keep, self.drop, named("Form", self.form, wide=False)))
        self.list = QListWidget()
        self.list.setFixedHeight(76)
        self.list.setAccessibleName(say("Shapes"))
        self.list.setToolTip(say("The shapes of this matte. The box switches one on and off"))
        self.list.itemClicked.connect(self._choose)
        self.list.itemChanged.connect(self._switch)
        self.inside.addWidget(self.list)
        tools = [
            tool_button("diamond", "Key the chosen shape on this frame, or remove its key here", self._key),
            tool_button("spline", "Make the chosen point a corner, or smooth", tool.toggle_corner),
            tool_button("copy", "Copy the chosen shape", self.copy_shape),
            tool_button("clipboard", "Paste a shape, also from another zone or shot", self.paste_shape),
            tool_button(
                "clipboard-check", "Paste onto the chosen shape: the copied outline is its key here", self._paste_key
            ),
            tool_button("download", "Read shapes from an SVG file", self._read),
            tool_button("upload", "Write the shapes as they stand on this frame to an SVG file", self._write),
            tool_button("trash-2", "Remove the chosen shape (Delete)", tool.remove),
        ]
        self.key, self.corner, self.copy, self.paste, self.paste_key, self.read, self.write, self.remove = tools
        self.inside.addLayout(row(*tools, 1))
        self.feather_in = self._width("Feather inside", "feather_in_px", 0, "Softness inside the outline")
        self.feather_out = self._width("Feather outside", "feather_out_px", 0, "Softness outside the outline")
        self.inside.addLayout(row(self.feather_in, self.feather_out))
        self.grow = self._width("Grow", "grow_px", -500, "Moves the outline outward, below 0 inward")
        self.share = NumberField(
            "Point feather", 0, 4, 0.05, 1, 2, "", "How much of the feather the chosen points have"
        )
        self.plain(self.share, self._share, self._put_share)
        self.inside.addLayout(row(self.grow, self.share))
        self.shutter = NumberField(
            "Shutter", 0, 1, 0.05, 0, 2, "frame", "Share of a frame over which its motion is blurred"
        )
        self.plain(self.shutter, lambda: self._value("shutter"), lambda v, w, g: self._put(w, g, shutter=v))
        self.invert = QCheckBox(say("Invert"))
        self.invert.setToolTip(say("Works outside the outline instead of inside"))
        self.invert.clicked.connect(lambda on: self._put("Invert", None, invert=bool(on)))
        self.inside.addLayout(row(self.shutter, self.invert))
        self.rides = choice([NOTHING], "The lock that the chosen shape rides on", self._ride)
        self.inside.addWidget(named("Rides on", self.rides))
        self.takes = Takes("the chosen shape", tool.follow)
        self.inside.addWidget(self.takes)
        self.words = note()
        self.inside.addWidget(self.words)

    def refresh(self) -> None:
        super().refresh()
        shapes, chosen = self.desk.own_matte().shapes, self.shape
        self.list.blockSignals(True)
        self.list.clear()
        for shape in shapes:
            keys = say(" · {count} keys", count=len(shape.keys)) if len(shape.keys) > 1 else ""
            item = QListWidgetItem(f"{shape.name} · {say(shape.mode)}{keys}")
            item.setFlags(item.flags() | Qt.ItemFlag.ItemIsUserCheckable)
            item.setCheckState(Qt.CheckState.Checked if shape.on else Qt.CheckState.Unchecked)
            item.setData(Qt.ItemDataRole.UserRole, shape.id)
            self.list.addItem(item)
            if shape.id == self.tool.chosen:
                self.list.setCurrentItem(item)
        self.list.blockSignals(False)
        for part in (self.key, self.corner, self.copy, self.paste_key, self.remove, self.invert, self.rides):
            part.setEnabled(chosen is not None)
        self.write.setEnabled(bool(shapes))
        locks = self.desk.shot.locks
        entries = [(None, NOTHING), *((lock.id, lock.name) for lock in locks)]
        fill(self.rides, entries, chosen.rides if chosen is not None else None)
        self.rides.setVisible(not self.desk.cuts_own)  # no lock of the plate moves anything in another picture
        self.takes.show_parts(chosen.follow if chosen is not None and chosen.rides else None)
        self.invert.setChecked(chosen is not None and chosen.invert)
        self.words.setText(self.tool.words())

    @property
    def shape(self) -> Shape | None:
        """The chosen shape."""
        return next((s for s in self.desk.own_matte().shapes if s.id == self.tool.chosen), None)

    def _value(self, name: str) -> float | None:
        return getattr(self.shape, name) if self.shape is not None else None

    def _width(self, label: str, name: str, low: float, tip: str) -> NumberField:
        field = NumberField(label, low, 500, 0.25, 0, 1, "px", tip)
        return self.plain(field, lambda: self._value(name), lambda v, w, g: self._put(w, g, **{name: v}))

    def _put(self, words: str, gesture: str | None, **changes: object) -> None:
        matte, shape = self.desk.matte, self.shape
        if matte is not None and shape is not None:
            self.desk.edit_matte(
                matte.with_shape(shape.but(**changes)),
                say("{words} of {name}", words=say(words), name=shape.name),
                gesture,
            )

    def _share(self) -> float | None:
        shape, points = self.shape, self.tool.points_chosen
        if shape is None or not points:
            return None
        return shape.feather_shares[min(points)] if shape.feather_shares else 1.0

    def _put_share(self, value: float, words: str, gesture: str) -> None:
        shape, points = self.shape, self.tool.points_chosen
        if shape is not None:
            old = shape.feather_shares or (1.0,) * len(shape.keys[0].points)
            self._put(words, gesture, feather_shares=tuple(value if k in points else v for k, v in enumerate(old)))

    def _draw(self, mode: str) -> None:
        self.desk.choose_stage("Matte")
        self.tool.start(mode, chosen_of(self.form))
        self.desk.choice_changed.emit()

    def _choose(self, item: QListWidgetItem) -> None:
        self.tool.choose(item.data(Qt.ItemDataRole.UserRole))
        self.desk.choice_changed.emit()

    def _switch(self, item: QListWidgetItem) -> None:
        matte, id = self.desk.matte, item.data(Qt.ItemDataRole.UserRole)
        shape = next((s for s in matte.shapes if s.id == id), None) if matte is not None else None
        on = item.checkState() == Qt.CheckState.Checked
        if matte is not None and shape is not None and on != shape.on:
            self.desk.edit_matte(matte.with_shape(shape.but(on=on)), switched(shape.name, on))

    def _key(self) -> None:
        matte, shape, frame = self.desk.matte, self.shape, self.desk.frame
        if matte is None or shape is None:
            return
        if any(key.frame == frame for key in shape.keys) and len(shape.keys) > 1:
            new, words = shape.without_key(frame), say("Remove a key of {name}", name=shape.name)
        else:
            new, words = shape.with_points(frame, shape.points_at(frame)), say("Key {name}", name=shape.name)
        self.desk.edit_matte(matte.with_shape(new), words, new_gesture())

    def _ride(self, _: str) -> None:
        shape, lock = self.shape, self.rides.currentData()
        if shape is not None and lock != shape.rides:
            self.tool.ride(lock)

    def copy_shape(self) -> None:
        """The whole shape, and how it stands on this frame."""
        standing = self.tool.chosen_standing()
        if self.shape is not None and standing is not None:
            words = {"shape": self.shape.model_dump(mode="json"), "standing": standing.model_dump(mode="json")}
            QApplication.clipboard().setText(json.dumps(words))
            self.desk.said.emit(
                say("Copied {name} as it stands on frame {frame}.", name=self.shape.name, frame=self.desk.frame), False
            )

    def _copied(self, which: str) -> Shape | None:
        try:
            return Shape.model_validate(json.loads(QApplication.clipboard().text())[which])
        except (ValueError, KeyError, TypeError):
            self.desk.said.emit(say("The clipboard holds no shape. Copy one first."), True)
            return None

    def _paste_key(self) -> None:
        """The outline that was copied on another frame, of this or another shape, becomes a key on this frame."""
        matte, shape, copied = self.desk.matte, self.shape, self._copied("standing")
        if matte is None or shape is None or copied is None:
            return
        if len(copied.keys[0].points) != len(shape.keys[0].points) or copied.form != shape.form:
            words = say(
                "{name} has another outline than {other}: a key needs the same form and point count.",
                name=copied.name,
                other=shape.name,
            )
            self.desk.said.emit(words, True)
            return
        self.tool.key_outline(copied.keys[0])

    def paste_shape(self) -> None:
        """The shape on the clipboard as a new one."""
        shape = self._copied("shape")
        if shape is None:
            return
        if shape.rides not in {lock.id for lock in self.desk.shot.locks}:
            shape = shape.but(rides=None)
        self._take([shape], say("Paste {name}", name=shape.name))

    def _take(self, shapes: list[Shape], words: str) -> None:
        matte = self.desk.own_matte()
        shot = self.desk.shot
        for shape in shapes:
            shape = shape.but(id=shot.new_id("shape"))
            matte = matte.with_shape(shape)
            shot = shot.with_matte(matte)
            self.tool.choose(shape.id)
        self.desk.give_matte(matte, words)

    def _read(self) -> None:
        path = existing_file(self, "Read shapes", "SVG pictures (*.svg)")
        if path is None:
            return
        from ...shot.svg import read_shapes  # its library takes a while to load: not at each start

        frame = self.desk.frame
        try:
            shapes = apart(lambda: read_shapes(path, frame))
        except MantleError as problem:
            self.desk.said.emit(str(problem), True)
            return
        self._take(shapes, say("Read {name}", name=path.name))

    def _write(self) -> None:
        path = new_file(self, "Write shapes", "SVG pictures (*.svg)", ".svg")
        if path is None:
            return
        from ...shot.svg import shapes_to_svg

        shapes = self.tool.standing()
        try:
            text = shapes_to_svg(shapes, self.desk.frame, self.desk.shot.size)
            apart(lambda: write_whole(path, text))
        except OSError as problem:
            self.desk.said.emit(say("{path} cannot be written: {why}.", path=path, why=problem.strerror), True)
            return
        self.desk.said.emit(say("Wrote {count} shapes to {name}.", count=len(shapes), name=path.name), False)
