"""One stage of the bench: a header with switch and reading, and a body that opens."""

from __future__ import annotations

from collections.abc import Callable

from PySide6.QtCore import Qt, Signal
from PySide6.QtGui import QKeyEvent, QMouseEvent, QResizeEvent
from PySide6.QtWidgets import QCheckBox, QFrame, QLabel, QSizePolicy, QVBoxLayout, QWidget

from ...comp import Mend
from ...shot import Keyed, Zone
from ...words import say
from .. import theme
from ..desk import Desk, new_gesture
from ..guard import guarded
from ..numberfield import NumberField
from ..widgets import push_button, row
from .panel import Panel
from .tabbed import Tabbed


@guarded
class Header(QFrame):
    """Name, reading and switch of a stage. A click opens it."""

    opened = Signal()
    mend_wanted = Signal(object)

    def __init__(self, name: str, tip: str) -> None:
        super().__init__()
        self._shown_open: bool | None = None
        self._shown_trouble: bool | None = None
        self.name = name
        self._mend: Mend | None = None
        self.setToolTip(say(tip))
        self.setFocusPolicy(Qt.FocusPolicy.TabFocus)
        self.setAccessibleName(say(name))
        self.setCursor(Qt.CursorShape.PointingHandCursor)
        self.arrow = QLabel("▸")
        self.title = QLabel(say(name))
        self.title.setFont(theme.font(12, medium=True))
        self.reading, self.words = QLabel(), ""
        self.reading.setAlignment(Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter)
        self.switch = QCheckBox()
        self.switch.setToolTip(say("Switch {name} on or off", name=name))
        self.switch.setAccessibleName(say("{name} on", name=name))
        self.reading.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Preferred)
        self.mend = push_button("", "Mends the trouble of this stage", lambda: self.mend_wanted.emit(self._mend))
        self.mend.setAccessibleName(say("Mend {name}", name=name))
        self.mend.hide()
        line = row(self.arrow, self.title, self.reading, self.switch, spacing=5)
        line.setStretch(2, 1)  # type: ignore[attr-defined]
        layout = QVBoxLayout(self)
        layout.setContentsMargins(6, 4, 6, 4)
        layout.setSpacing(4)
        layout.addLayout(line)
        layout.addWidget(self.mend)
        self.show_open(False)

    def show_mend(self, mend: Mend | None) -> None:
        """The button that mends what the reading says, below it; none where nothing is to be mended."""
        self._mend = mend
        self.mend.setVisible(mend is not None)
        if mend is not None:
            self.mend.setText(mend.label)
            self.mend.setAccessibleName(mend.label)
            self.mend.setToolTip(say("Mends the trouble of this stage: {label}", label=mend.label))

    def resizeEvent(self, event: QResizeEvent) -> None:
        super().resizeEvent(event)
        self._show_words()

    def _show_words(self) -> None:
        room = max(self.reading.width(), 40)
        self.reading.setText(self.reading.fontMetrics().elidedText(self.words, Qt.TextElideMode.ElideRight, room))

    def show_open(self, on: bool) -> None:
        if self._shown_open == on:
            return  # a sheet that is set again is worked out again
        self._shown_open = on
        self.arrow.setText("▾" if on else "▸")
        edge = theme.ACCENT if on else theme.LINE
        self.setStyleSheet(
            f"Header {{ background: {theme.RAISED}; border-left: 3px solid {edge}; }}"
            f"Header:focus {{ border: 1px solid {theme.ACCENT}; border-left: 3px solid {theme.ACCENT}; }}"
        )
        for part in (self.arrow, self.title, self.reading, self.switch):
            part.setAttribute(Qt.WidgetAttribute.WA_StyledBackground, False)
            if part is not self.reading:
                part.setStyleSheet("background: transparent;")

    def show_reading(self, words: str, trouble: bool = False) -> None:
        """The reading; trouble is shown by a mark as well as by colour."""
        self.words = ("▲ " if trouble else "") + say(words)
        self.reading.setToolTip(self.words)
        self.setAccessibleDescription(self.words)
        self._show_words()
        if self._shown_trouble != trouble:
            self._shown_trouble = trouble
            self.reading.setStyleSheet(f"background: transparent; color: {theme.WARN if trouble else theme.TEXT};")

    def mousePressEvent(self, event: QMouseEvent) -> None:
        self.opened.emit()

    def keyPressEvent(self, event: QKeyEvent) -> None:
        if event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter, Qt.Key.Key_Space):
            self.opened.emit()
        else:
            super().keyPressEvent(event)


class Stage(QWidget):
    """A header and its body. Subclasses fill the body and show the zone in `show_header` and `show_body`."""

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

    def add_parts(self, *parts: tuple[str, Callable[[], Panel], str]) -> None:
        """Panels of which one is open at a time, each with a button and a tip; the first is open."""
        self.tabbed = Tabbed(self.inside, parts, self.open_part)
        self.tabs = self.tabbed.tabs

    @property
    def part(self) -> str:
        """The part that is open."""
        return self.tabbed.part

    def panel(self, name: str) -> Panel:
        """One of the parts' panels."""
        return self.tabbed.panel(name)

    def open_part(self, name: str) -> None:
        """Shows one of the parts."""
        self.tabbed.open(name)

    def show_open(self, on: bool) -> None:
        self.header.show_open(on)
        self.body.setVisible(on)

    def switch(self, on: bool) -> None:
        """The header's switch was clicked."""

    def refresh(self) -> None:
        """Shows the chosen zone: what its header says, and the body where it is open."""
        self.show_header()
        if not self.body.isHidden():
            self.show_body()

    def show_header(self) -> None:
        """Switch, reading and what mends; seen whether the stage is open or not."""

    def show_body(self) -> None:
        """The controls of an open stage."""
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
                self.desk.edit_zone(new, say("{label} of {name}", label=field.label, name=self.zone.name), gesture)

        def key(on: bool) -> None:
            part = get(self.zone)
            if part is None:
                return
            frame = self.desk.frame
            new = part.with_key(frame, part.at(frame)) if on else part.without_key(frame)
            self.desk.edit_zone(put(self.zone, new), say("Key {label}", label=field.label), new_gesture())

        field.changed.connect(changed)
        field.gesture.connect(self.desk.set_dragging)
        field.key_wanted.connect(key)
        self._fields.append((field, get))
        return field
