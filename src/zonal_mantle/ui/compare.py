"""Comparing: one control before and after by a held key, two kept states beside one another, patches over the shot."""

from __future__ import annotations

from PySide6.QtCore import QObject, Qt, QTimer
from PySide6.QtGui import QCursor
from PySide6.QtWidgets import QApplication, QCheckBox, QComboBox, QWidget

from ..comp.finish_fit import patch_curves
from ..shot import Patch
from ..words import say
from .bench.curve_edit import CurveEdit
from .bench.look_page import LookPage
from .bench.tint_pad import TintPad
from .bench.tone_panel import STRAIGHT
from .bench.valued import Valued
from .desk import Desk, new_gesture
from .numberfield import NumberField
from .tools.sample import Area
from .viewer import Viewer

FLICKER_MS = 600
HELD = Qt.Key.Key_C
CONTROLS = (NumberField, QCheckBox, QComboBox, CurveEdit, TintPad)
WAYS = ("side by side", "wipe", "flicker")


class Compare(QObject):
    """What the Compare menu does, and the held key."""

    def __init__(self, window: QWidget, desk: Desk, viewer: Viewer) -> None:
        super().__init__(window)
        self.window, self.desk, self.viewer = window, desk, viewer
        self._flicker = QTimer(self, interval=FLICKER_MS)
        self._flicker.timeout.connect(self._flip)

    def close(self) -> None:
        """Flickers no more."""
        self._flicker.stop()

    # --- one control ---
    def hold(self) -> bool:
        """Shows the picture without the control under the pointer, or that has the focus; False where there is none."""
        control = self._control()
        if control is None:
            return False
        shot = self.desk.tried(lambda: _without(control))
        if shot is None:
            return False
        label = control.label if isinstance(control, NumberField) else control.accessibleName()
        if isinstance(control, QCheckBox):
            label = control.text() or label
        self.desk.set_view(compared=shot)
        self.desk.said.emit(say("Before: without {label}. Let the key go to come back.", label=label), False)
        return True

    def let_go(self) -> None:
        """The picture as it is again."""
        self.desk.set_view(compared=None)
        self.desk.said.emit("", False)

    def _control(self) -> QWidget | None:
        under = QApplication.widgetAt(QCursor.pos())
        for widget in (under, QApplication.focusWidget()):
            while widget is not None and widget is not self.window:
                if isinstance(widget, CONTROLS) and widget.isEnabled() and _is_edit(widget):
                    return widget
                widget = widget.parentWidget()
        return None

    # --- two states ---
    def keep(self, name: str) -> None:
        """Keeps the shot as it stands as state A or B."""
        self.desk.states[name] = self.desk.shot
        self.desk.said.emit(say("State {name} is kept.", name=name), False)
        if self.desk.comparing:
            self.desk.view_changed.emit()

    def show(self, way: str) -> None:
        """Shows both states: side by side, wiped or flickered; again: the shot as it is."""
        desk = self.desk
        if way and set(desk.states) != {"A", "B"}:
            missing = say(" and ").join(sorted({"A", "B"} - set(desk.states)))
            desk.said.emit(say("Keep state {missing} first: View, Compare.", missing=missing), True)
            return
        way = "" if way == desk.comparing else way
        if way == "flicker":
            self._flicker.start()
        else:
            self._flicker.stop()
        desk.set_view(comparing=way, shown_state="A")
        if self.viewer.fitted:
            self.viewer.fit()
        words = say("A and B, {way}. Choose it again to end.", way=say(way)) if way else say("The shot as it is.")
        desk.said.emit(words, False)

    def _flip(self) -> None:
        self.desk.set_view(shown_state="B" if self.desk.shown_state == "A" else "A")

    # --- patches ---
    def add_patch(self, area: Area) -> None:
        """Follows a patch of the picture; it rides on what the chosen zone rides on."""
        desk, shot = self.desk, self.desk.shot
        zone = desk.zone
        rides = zone.placement.rides if zone is not None else None
        rides = rides if rides is not None and shot.lock(rides).holds else None
        if rides is None and desk.lock is not None and desk.lock.holds:
            rides = desk.lock.id
        patch = Patch(id=shot.new_id("patch"), box=area, frame=desk.frame, rides=rides)
        desk.edit(shot.but(patches=(*shot.patches, patch)), "Follow a patch")
        self.follow()

    def follow(self) -> None:
        """Measures the patches on every frame; the rail shows their curves."""
        desk, shot = self.desk, self.desk.shot

        def told(found: object) -> None:
            desk.patch_curves = (shot.patches, found)  # type: ignore[assignment]
            desk.readings_changed.emit()
            worst = max((curve.worst for curve in found), default=0.0)  # type: ignore[attr-defined]
            desk.said.emit(
                say(
                    "{count} patches followed: at most {worst:.1f} ΔE from their own frame.",
                    count=len(shot.patches),
                    worst=worst,
                ),
                False,
            )

        if shot.patches:
            desk.run("Following patches", lambda job: patch_curves(shot, shot.patches, desk.store, job.progress), told)


def _is_edit(control: QWidget) -> bool:
    """Whether a control changes the shot; a list outside of the benches' panels may do something else."""
    if not isinstance(control, QComboBox):
        return True
    parent = control.parentWidget()
    while parent is not None:
        if isinstance(parent, Valued | LookPage):
            return True
        parent = parent.parentWidget()
    return False


def _without(control: QWidget) -> None:
    """Sets a control to what does nothing, as a hand would: a number to its default, a list to its first entry."""
    if isinstance(control, NumberField):
        control.changed.emit(control.default, new_gesture())
    elif isinstance(control, CurveEdit):
        control.changed.emit(STRAIGHT, new_gesture())
    elif isinstance(control, TintPad):
        control.changed.emit(0.0, 0.0, new_gesture())
    elif isinstance(control, QComboBox):
        control.textActivated.emit(control.itemText(0))
    elif isinstance(control, QCheckBox):
        shown = control.isChecked()
        control.click()  # and not its signal alone: PySide does not always know that it has an argument
        control.setChecked(shown)
