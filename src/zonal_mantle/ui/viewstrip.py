"""The strip over the viewer: views, wipe, held still, channels, exposure and gamma of the view; and the probe below."""

from __future__ import annotations

from dataclasses import replace

from PySide6.QtCore import Signal
from PySide6.QtWidgets import QComboBox, QHBoxLayout, QLabel, QSizePolicy, QToolButton, QWidget

from ..comp import BACKINGS, CHANNELS, VIEWS, Job
from ..comp.matte_planner import reads_own
from ..comp.scheduler import PROBE
from ..finish.lut import lut_processor
from ..media.curves import srgb_encode
from ..media.stamps import used_file
from ..shot import MantleError
from ..words import say
from . import ask, theme
from .desk import Desk
from .numberfield import NumberField
from .pairs import Pairs
from .viewer import Viewer
from .widgets import choice, show_choice, tool_button

TIPS = {
    "Composite": "All zones over one another (1)",
    "Plate": "The plate as it was shot (2)",
    "Matte": "The chosen zone's matte as grey: white stays (3)",
    "Alpha check": "The matte with all that is neither empty nor solid lifted; below 0 blue, above 1 yellow (4)",
    "Tint": "The plate, tinted where the matte drops it (5)",
    "Cut-out": "What the matte keeps, over the chosen ground (6)",
    "See-through": "The zone's painting as it hangs, half over the plate, without its matte (8)",
    "Painting": "The zone's painting by itself; lines are drawn on it here (9)",
    "Finished": "The whole picture finished, in the plate's own frame (0)",
    "Delivery": "The frame as it leaves: reframed, cropped, at its size, with bars and words",
    "Difference": "This frame less the chosen lock's reference frame: grey where the lock holds (7)",
}


FIRST = ("Composite", "Finished", "Plate", "Matte", "Cut-out")
REST = tuple(name for name in VIEWS if name not in FIRST)
MORE = "More views"


class ViewStrip(QWidget):
    """What the viewer shows, and how; nothing here is rendered."""

    def __init__(self, desk: Desk, viewer: Viewer) -> None:
        super().__init__()
        self.desk, self.viewer = desk, viewer
        layout = Pairs(even=False, spacing=2, grow=False)
        whole = QHBoxLayout(self)
        whole.setContentsMargins(4, 1, 4, 1)
        whole.addLayout(layout, 1)
        self.buttons: dict[str, QToolButton] = {}
        for name in FIRST:
            button = QToolButton()
            button.setText(say(name))
            button.setCheckable(True)
            button.setProperty("flat", True)
            button.setToolTip(say(TIPS[name]))
            button.clicked.connect(lambda _=False, name=name: desk.set_view(view=name))
            layout.addWidget(button)
            self.buttons[name] = button
        self.more = choice([MORE, *REST], "More views", self._more)
        self.more.setSizeAdjustPolicy(QComboBox.SizeAdjustPolicy.AdjustToContents)
        layout.addWidget(self.more)
        self.wipe = tool_button(
            "columns-2", "Wipe against another view; drag the line on the picture (W)", self._wipe, True
        )
        self.other = choice(
            list(VIEWS), "The view at the right of the wipe", lambda name: desk.set_view(other_view=name)
        )
        self.still = tool_button(
            "anchor", "Held still: the lock is inverted, what is locked stands still (H)", self.hold_still, True
        )
        self.loupe = tool_button("search", "Magnifier that follows the pointer (M)", self._loupe, True)
        self.backing = choice(list(BACKINGS), "What lies behind the cut-out", self._backing)
        self.channel = choice(list(CHANNELS), "One channel of the picture", self._channel)
        self.channel.setFixedWidth(60)
        self.exposure = NumberField("Exposure", -10, 10, 0.05, 0.0, 2, "", "Of the view, in stops. Never rendered")
        self.gamma = NumberField("Gamma", 0.2, 4, 0.02, 1.0, 2, "", "Of the view. Never rendered")
        for field in (self.exposure, self.gamma):
            field.setSizePolicy(QSizePolicy.Policy.Fixed, QSizePolicy.Policy.Fixed)
            field.changed.connect(self._look)
        self.lut = tool_button(
            "eye", "A LUT for the eye alone, never rendered; click again to take it away", self._lut, True
        )
        for part in (
            self.wipe,
            self.other,
            self.still,
            self.loupe,
            self.backing,
            self.channel,
            self.exposure,
            self.gamma,
            self.lut,
        ):
            layout.addWidget(part)
        whole.addWidget(tool_button("maximize", "Fit the picture to the viewer (F)", viewer.fit))
        desk.view_changed.connect(self.refresh)
        self.refresh()

    def refresh(self) -> None:
        desk = self.desk
        for name, button in self.buttons.items():
            button.setChecked(desk.view == name)
        rest = list(REST)
        if (fault := desk.look.fault) is not None:
            rest[rest.index("Alpha check")] = say("Alpha check: {fault}", fault=say(fault))
        at = REST.index(desk.view) if desk.view in REST else None
        show_choice(self.more, [MORE, *rest], MORE if at is None else rest[at])
        self.lut.setChecked(desk.look.lut is not None)
        self.wipe.setChecked(desk.wipe)
        self.other.setVisible(desk.wipe)
        self.still.setChecked(desk.held_still)
        self.loupe.setChecked(desk.loupe)
        cut_out = desk.view == "Cut-out" or (desk.wipe and desk.other_view == "Cut-out")
        self.backing.setVisible(cut_out)
        self.channel.setVisible(not cut_out and not desk.wipe)  # there is no room for all of them
        show_choice(self.backing, list(BACKINGS), desk.look.backing)
        show_choice(self.other, list(VIEWS), desk.other_view)
        show_choice(self.channel, list(CHANNELS), desk.look.channel)
        self.exposure.set_value(desk.look.exposure)
        self.gamma.set_value(desk.look.gamma)

    def _more(self, _: str) -> None:
        place = self.more.currentIndex()
        if place > 0:
            self.desk.set_view(view=REST[place - 1])
        else:
            self.refresh()

    def _lut(self) -> None:
        """Chooses a table for the eye alone, or takes it away."""
        look = self.desk.look
        if look.lut is not None:
            self.desk.set_view(look=replace(look, lut=None))
            return
        path = ask.existing_file(self.window(), "Choose a LUT for the viewer", ask.LUTS)
        if path is None:
            self.refresh()
            return
        file = used_file(str(path))
        try:
            lut_processor(file.path, file.stamp)
        except MantleError as problem:
            self.desk.said.emit(str(problem), True)
            self.refresh()
            return
        self.desk.set_view(look=replace(look, lut=file))

    def _wipe(self) -> None:
        self.desk.set_view(wipe=not self.desk.wipe)

    def hold_still(self) -> None:
        """Inverts the lock in the view, or shows the picture as it is again."""
        if self.desk.lock is None or not self.desk.lock.holds:
            self.desk.said.emit(say("Held still needs a solved lock. Solve one in the Lock stage."), True)
            self.refresh()
            return
        self.desk.set_view(held_still=not self.desk.held_still)

    def _loupe(self) -> None:
        self.desk.set_view(loupe=not self.desk.loupe)

    def _backing(self, name: str) -> None:
        self.desk.set_view(look=replace(self.desk.look, backing=name))

    def _channel(self, name: str) -> None:
        self.desk.set_view(look=replace(self.desk.look, channel=name))

    def _look(self, *_: object) -> None:
        self.desk.set_view(look=replace(self.desk.look, exposure=self.exposure.value, gamma=self.gamma.value))


class Probe(QLabel):
    """Values under the pointer: place, coded, linear, alpha after every step of the open matte, zoom."""

    _measured = Signal(object, object)

    def __init__(self, desk: Desk, viewer: Viewer) -> None:
        super().__init__()
        self.desk, self.viewer = desk, viewer
        self._steps: tuple[object, dict[str, object]] = (None, {})
        self._asked: object = None
        self._measured.connect(self._take_steps)
        self.setFixedHeight(20)
        self.setContentsMargins(8, 0, 8, 0)
        self.setFont(theme.font(11))
        viewer.probed.connect(self.show_place)
        self.show_place(None)

    def show_place(self, place: tuple[float, float] | None) -> None:
        hint = self.viewer.tool.hint
        if place is None:
            self.setText(say(hint))
            return
        x, y = place
        values = self.viewer.probe(x, y)
        if values is None:
            self.setText(f"x {x:7.1f}   y {y:7.1f}")
            return
        linear = values["linear"]
        coded = [float(v) for v in srgb_encode(linear)]  # type: ignore[arg-type]
        alpha = values["alpha"]
        steps = self._steps_at(x, y)
        self.setText(
            say(
                "x {x:.1f}  y {y:.1f}   coded {coded:.3f} {coded_2:.3f} {coded_3:.3f}   linear {linear:.4f} "
                "{linear_2:.4f} {linear_3:.4f}",
                x=x,
                y=y,
                coded=coded[0],
                coded_2=coded[1],
                coded_3=coded[2],
                linear=linear[0],
                linear_2=linear[1],
                linear_3=linear[2],
            )  # type: ignore[index]
            + (say("   alpha {alpha:.3f}", alpha=alpha) if alpha is not None else "")
            + (f" ({steps})" if steps else "")
            + f"   {self.viewer.zoom * 100:.0f} %"
        )

    def _steps_at(self, x: float, y: float) -> str:
        """Alpha after each step, once they are made; they are made on a thread of their own."""
        desk, matte = self.desk, self.desk.matte
        zone = desk.zone
        shown = zone is not None and (desk.own_zone is not None) == reads_own(desk.shot, zone)
        if desk.stage != "Matte" or matte is None or desk.dragging or not shown:
            return ""
        key = (desk.revision, matte.id, desk.frame)
        if self._steps[0] == key:
            return " → ".join(f"{say(name)} {float(step[int(y), int(x)]):.2f}" for name, step in self._steps[1].items())
        if self._asked != key:
            self._asked = key
            shot, frame = desk.shot, desk.frame
            job = Job(
                lambda job: desk.store.matte_steps(shot, matte, frame, zone),
                on_end=lambda result, error: self._measured.emit(key, result),
            )
            desk.scheduler.submit("probe", job, PROBE)
        return ""

    def _take_steps(self, key: object, steps: dict[str, object] | None) -> None:
        self._steps = (key, steps or {})
