"""The bench at the right: the chosen zone, its stages, one open at a time."""

from __future__ import annotations

from collections.abc import Callable

from PySide6.QtCore import Qt, QTimer, Signal
from PySide6.QtWidgets import QApplication, QCheckBox, QHBoxLayout, QLineEdit, QScrollArea, QVBoxLayout, QWidget

from ...comp.finish_planner import output_size
from ...words import say
from ..desk import Desk
from ..tools.aim import AimTool
from ..tools.local import LocalTool
from ..tools.lock import LockTool
from ..tools.place import PlaceTool
from ..tools.sample import Area
from ..tools.shape import ShapeTool
from ..widgets import choice, fill, switched, tool_button
from .finish_bench import FinishBench
from .group_stage import GroupStage
from .lock_stage import LockStage
from .match_stage import MatchStage
from .matte_stage import MatteStage
from .place_stage import PlaceStage
from .source_stage import SourceStage
from .stage import Header, Stage

AHEAD_MS = 200  # between two panels that are made ahead


class Bench(QWidget):
    """Matte → Lock → Place → Match, always in that order, after the source."""

    relink_wanted = Signal(str)
    mend_wanted = Signal(object)

    def __init__(
        self,
        desk: Desk,
        shape_tool: ShapeTool,
        lock_tool: LockTool,
        place_tool: PlaceTool,
        aim_tool: AimTool,
        local_tool: LocalTool,
        sample: Callable[[str, Callable[[Area], None]], None],
    ) -> None:
        super().__init__()
        self.desk = desk
        self._stage_before, self._view_before = desk.stage, desk.view
        self.zones = choice([], "The zone on the bench", self._choose)
        self.name = QLineEdit()
        self.name.setToolTip(say("The zone's name"))
        self.name.setAccessibleName(say("Zone name"))
        self.name.editingFinished.connect(self._rename)
        self.on = QCheckBox(say("On"))
        self.on.setToolTip(say("Switches the whole zone on or off"))
        self.on.clicked.connect(self._switch)
        self.remove = tool_button("trash-2", "Remove this zone", self._remove)
        self.source = SourceStage(desk)
        self.matte = MatteStage(desk, shape_tool, sample)
        self.lock = LockStage(desk, lock_tool, sample)
        self.place = PlaceStage(desk, place_tool)
        self.match = MatchStage(desk, aim_tool.lines, sample)
        self.stages: list[Stage] = [self.source, self.matte, self.lock, self.place, self.match]
        self._group: GroupStage | None = None
        self._finish: FinishBench | None = None
        self._local_tool, self._sample = local_tool, sample
        self.finish_header = Header("Finish", "What is done to the whole picture: tone, LUT, glow, light, frame")
        self.finish_header.switch.setToolTip(say("Switch the finish on or off"))
        self.finish_header.opened.connect(self._open_finish)
        self.finish_header.switch.clicked.connect(
            lambda on: desk.edit(
                desk.shot.but(finish=desk.shot.finish.but(on=bool(on))),
                say("Finish {how}", how=say("on") if on else say("off")),
            )
        )
        head = QHBoxLayout()
        head.setContentsMargins(6, 4, 6, 4)
        head.setSpacing(4)
        head.addWidget(self.zones)
        head.addWidget(self.name, 1)
        head.addWidget(self.on)
        head.addWidget(self.remove)
        self.zones.setFixedWidth(24)
        self.zones.view().setMinimumWidth(150)
        inside = QWidget()
        stack = QVBoxLayout(inside)
        stack.setContentsMargins(0, 0, 0, 0)
        stack.setSpacing(0)
        for stage in self.stages:
            stack.addWidget(stage)
        stack.addStretch(1)
        self._stack = stack
        scroll = QScrollArea()
        scroll.setWidget(inside)
        scroll.setWidgetResizable(True)
        scroll.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        scroll.setFocusPolicy(Qt.FocusPolicy.NoFocus)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(0)
        layout.addLayout(head)
        layout.addWidget(scroll, 1)
        layout.addWidget(self.finish_header)
        self.setMinimumWidth(250)
        for stage in self.stages:
            stage.header.mend_wanted.connect(self.mend_wanted)
        self.source.relink_wanted.connect(self.relink_wanted)
        self._soon = QTimer(self, singleShot=True, interval=0)
        self._soon.timeout.connect(self.refresh)
        self._ahead = QTimer(self, interval=AHEAD_MS)
        self._ahead.timeout.connect(self._make_one)
        for signal in (
            desk.shot_changed,
            desk.frame_changed,
            desk.choice_changed,
            desk.readings_changed,
            desk.view_changed,
            desk.problems_changed,
        ):
            signal.connect(self._soon.start)
        self.refresh()

    def make_ahead(self) -> None:
        """Makes the panels that nobody opened yet, one at a time, while nothing else is asked of the window."""
        self._ahead.start()

    def _make_one(self) -> None:
        held = QApplication.mouseButtons() != Qt.MouseButton.NoButton
        if held or self.desk.dragging or self.desk.playing or not self.desk.is_showing():
            return
        parts = [stage.tabbed for stage in self.stages if hasattr(stage, "tabbed")]
        if not any(part.make_next() for part in parts) and not self.finish.tabbed.make_next():
            self._ahead.stop()

    @property
    def finish(self) -> FinishBench:
        """The bench of the whole picture, made when it is first asked for."""
        if self._finish is None:
            self._finish = FinishBench(self.desk, self._local_tool, self._sample)
            self._finish.line_wanted = self.match.line  # type: ignore[method-assign]
            self._stack.insertWidget(self._stack.count() - 1, self._finish)
        return self._finish

    @property
    def group(self) -> GroupStage:
        """The stage of the chosen zone's group, made when it is first asked for."""
        if self._group is None:
            self._group = GroupStage(self.desk)
            self.stages.append(self._group)
            self._stack.insertWidget(len(self.stages) - 1, self._group)
        return self._group

    def refresh(self) -> None:
        zone, whole = self.desk.zone, self.desk.stage == "Finish"
        for part in (self.name, self.on, self.remove, self.zones, *self.stages):
            part.setVisible(zone is not None and not whole)
        if whole or self._finish is not None:
            self.finish.setVisible(whole and self.desk.shot.plate is not None)
        self.finish_header.setVisible(self.desk.shot.plate is not None)
        self._show_finish_header(whole)
        if whole:
            self.finish.refresh()
            return
        if zone is None:
            return
        fill(self.zones, [(each.id, each.name) for each in self.desk.shot.near_to_far()], zone.id)
        if not self.name.hasFocus():
            self.name.setText(zone.name)
        self.on.setChecked(zone.on)
        if zone.group is not None or self._group is not None:
            self.group.setVisible(zone.group is not None)
        for stage in self.stages:
            stage.show_open(stage.name == self.desk.stage)
            stage.refresh()

    def _show_finish_header(self, whole: bool) -> None:
        finish, reading = self.desk.shot.finish, self.desk.readings.finish
        self.finish_header.show_open(whole)
        self.finish_header.switch.setChecked(finish.on)
        trouble = reading is not None and bool(reading.troubles) and finish.on
        width, height = output_size(self.desk.shot)
        words = "off" if not finish.on else "see the findings" if trouble else f"{width} × {height}"
        self.finish_header.show_reading(words, trouble)

    def _open_finish(self) -> None:
        """Opens the bench of the whole picture, or goes back to the zone's."""
        desk = self.desk
        if desk.stage == "Finish":
            desk.choose_stage(self._stage_before)
            if desk.view in ("Finished", "Delivery"):
                desk.set_view(view=self._view_before)
            return
        self._stage_before, self._view_before = desk.stage, desk.view
        desk.choose_stage("Finish")
        if desk.view not in ("Finished", "Delivery"):
            desk.set_view(view="Finished")

    def _choose(self, _: str) -> None:
        self.desk.choose_zone(self.zones.currentData())

    def _rename(self) -> None:
        zone, name = self.desk.zone, self.name.text().strip()
        if zone is not None and name and name != zone.name:
            self.desk.edit_zone(zone.but(name=name), say("Rename {name}", name=zone.name))

    def _switch(self, on: bool) -> None:
        if (zone := self.desk.zone) is not None:
            self.desk.edit_zone(zone.but(on=bool(on)), switched(zone.name, on))

    def _remove(self) -> None:
        if (zone := self.desk.zone) is not None:
            self.desk.edit(self.desk.shot.without_zone(zone.id), say("Remove {name}", name=zone.name))
