"""One stage of the bench: a header with switch and reading, and a body that opens."""

from __future__ import annotations

from collections.abc import Callable

from PySide6.QtCore import Qt, Signal
from PySide6.QtGui import QMouseEvent
from PySide6.QtWidgets import QCheckBox, QFrame, QHBoxLayout, QLabel, QPushButton, QVBoxLayout, QWidget

from ...shot import Keyed, Zone
from .. import theme
from ..desk import Desk, new_gesture
from ..numberfield import NumberField
from ..widgets import push_button, row
from .panel import Panel


class Header(QFrame):
    """Name, reading and switch of a stage. A click opens it."""

    opened = Signal()

    def __init__(self, name: str, tip: str) -> None:
        super().__init__()
        self.name = name
        self.setToolTip(tip)
        self.setFixedHeight(26)
        self.setCursor(Qt.CursorShape.PointingHandCursor)
        self.arrow = QLabel("▸")
        self.title = QLabel(name)
        self.title.setFont(theme.font(12, medium=True))
        self.reading = QLabel()
        self.reading.setAlignment(Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter)
        self.switch = QCheckBox()
        self.switch.setToolTip(f"Switch {name} on or off")
        self.switch.setAccessibleName(f"{name} on")
        layout = QHBoxLayout(self)
        layout.setContentsMargins(6, 0, 6, 0)
        layout.setSpacing(5)
        for part in (self.arrow, self.title):
            layout.addWidget(part)
        layout.addWidget(self.reading, 1)
        layout.addWidget(self.switch)
        self.show_open(False)

    def show_open(self, on: bool) -> None:
        self.arrow.setText("▾" if on else "▸")
        edge = theme.ACCENT if on else theme.LINE
        self.setStyleSheet(f"Header {{ background: {theme.RAISED}; border-left: 3px solid {edge}; }}")
        for part in (self.arrow, self.title, self.reading, self.switch):
            part.setAttribute(Qt.WidgetAttribute.WA_StyledBackground, False)
            if part is not self.reading:
                part.setStyleSheet("background: transparent;")

    def show_reading(self, words: str, trouble: bool = False) -> None:
        """The reading; trouble is shown by a mark as well as by colour."""
        self.reading.setText(("▲ " if trouble else "") + words)
        self.reading.setStyleSheet(f"background: transparent; color: {theme.WARN if trouble else theme.TEXT};")

    def mousePressEvent(self, event: QMouseEvent) -> None:
        self.opened.emit()


class Stage(QWidget):
    """A header and its body. Subclasses fill the body and show the zone in `refresh`."""

    name = ""
    tip = ""

    def __init__(self, desk: Desk) -> None:
        super().__init__()
        self.desk = desk
        self.header = Header(self.name, self.tip)
        self.body = QWidget()
        self.inside = QVBoxLayout(self.body)
        self.inside.setContentsMargins(8, 6, 8, 8)
        self.inside.setSpacing(3)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 1)
        layout.setSpacing(0)
        layout.addWidget(self.header)
        layout.addWidget(self.body)
        self.header.opened.connect(lambda: desk.choose_stage(self.name))
        self.header.switch.clicked.connect(lambda on: self.switch(bool(on)))
        self._fields: list[tuple[NumberField, Callable[[Zone], Keyed | None]]] = []

    @property
    def zone(self) -> Zone:
        zone = self.desk.zone
        assert zone is not None
        return zone

    def add_parts(self, *parts: tuple[str, Panel, str]) -> None:
        """Panels of which one is open at a time, with a button and a tip each; the first is open."""
        self.parts: dict[str, tuple[QPushButton, Panel]] = {}
        for name, panel, tip in parts:
            button = push_button(name, tip, lambda name=name: self.open_part(name), checkable=True)
            self.parts[name] = (button, panel)
        self.inside.addLayout(row(*(button for button, _ in self.parts.values())))
        for _, panel in self.parts.values():
            self.inside.addWidget(panel)
        self.part = parts[0][0]

    def open_part(self, name: str) -> None:
        """Shows one of the parts."""
        self.part = name
        for each, (button, panel) in self.parts.items():
            button.setChecked(each == name)
            panel.setVisible(each == name)
            if each == name:
                panel.refresh()

    def show_open(self, on: bool) -> None:
        self.header.show_open(on)
        self.body.setVisible(on)

    def switch(self, on: bool) -> None:
        """The header's switch was clicked."""

    def refresh(self) -> None:
        """Shows the chosen zone."""
        for field, get in self._fields:
            part = get(self.zone)
            field.setEnabled(part is not None)
            if part is not None:
                field.set_value(part.at(self.desk.frame), bool(part.keys), part.has_key(self.desk.frame))

    def keyed_field(
        self, field: NumberField, get: Callable[[Zone], Keyed | None], put: Callable[[Zone, Keyed], Zone]
    ) -> NumberField:
        """Ties a number field to a keyed value of the zone."""
        field.keyable = True

        def changed(value: float, gesture: str) -> None:
            part = get(self.zone)
            if part is not None:
                new = put(self.zone, part.with_value(self.desk.frame, value))
                self.desk.edit_zone(new, f"{field.label} of {self.zone.name}", gesture)

        def key(on: bool) -> None:
            part = get(self.zone)
            if part is None:
                return
            frame = self.desk.frame
            new = part.with_key(frame, part.at(frame)) if on else part.without_key(frame)
            self.desk.edit_zone(put(self.zone, new), f"Key {field.label}", new_gesture())

        field.changed.connect(changed)
        field.gesture.connect(self.desk.set_dragging)
        field.key_wanted.connect(key)
        self._fields.append((field, get))
        return field
