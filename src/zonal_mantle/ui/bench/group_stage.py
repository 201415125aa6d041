"""The group of the chosen zone: its zones toned, softened and switched as one."""

from __future__ import annotations

from collections.abc import Callable
from functools import cached_property
from typing import Any, get_args

from PySide6.QtWidgets import QLineEdit

from ...shot import Group
from ...shot.hang import Mode
from ...words import say
from ..desk import Desk
from ..widgets import choice, note, row, show_choice
from .stage import Stage
from .valued import Valued
from .whole_tone import ToneOf, WholeTone

MODES = list(get_args(Mode))


class GroupBlend(Valued):
    """How a group is softened and laid."""

    def __init__(self, desk: Desk, stage: GroupStage) -> None:
        super().__init__(desk)
        self.stage = stage
        self.softness = self.number("Softness", "softness_px", 0, 100, 0.05, 0, 2, "px", "Of each of its zones")
        self.opacity = self.number("Opacity", "opacity", 0, 1, 0.01, 1, 2, "", "Of each of its zones")
        self.wrap = self.number(
            "Wrap width", "wrap_px", 0, 500, 0.5, 0, 1, "px", "On the rim of the farthest; 0 is none"
        )
        self.amount = self.number(
            "Wrap amount", "wrap_amount", 0, 4, 0.01, 0.5, 2, "", "Of the light behind the farthest"
        )
        for field in (self.softness, self.opacity, self.wrap, self.amount):
            self.inside.addWidget(field)
        self.mode = choice(MODES, "How the farthest of the group is laid on what is behind it", self._mode)
        self.mode.setMinimumContentsLength(10)
        self.inside.addLayout(row(note("Blend"), self.mode, 1))

    def value(self) -> Any:
        return self.stage.group

    def put(self, words: str, gesture: str | None = None, **changes: object) -> None:
        self.stage.put(words, gesture, **changes)

    def _mode(self, name: str) -> None:
        self.put(say("Blend {name}", name=name), None, mode=name)

    def refresh(self) -> None:
        super().refresh()
        if self.value() is not None:
            show_choice(self.mode, MODES, self.value().mode)


class GroupStage(Stage):
    """Seen where the chosen zone belongs to a group."""

    name = "Group"
    tip = "The zones of the group as one: tone, look, softness, wrap, blend"

    def __init__(self, desk: Desk) -> None:
        super().__init__(desk)
        self.members = note()
        self.title = self._line("Group name", "The group's name", lambda text: self.put("Rename", None, name=text))
        self.label = self._line(
            "Group label", "What the group is for, in a few words; shown in the section",
            lambda text: self.put("Label", None, label=text),
        )  # fmt: skip
        self.label.setPlaceholderText(say("label"))
        self.inside.addLayout(row(self.title, self.label))
        self.inside.addWidget(self.members)
        self.add_parts(
            ("Tone", lambda: self.tone, "Toned as one"),
            ("Blend", lambda: self.blend, "Softness, opacity, wrap and blend"),
        )

    def _line(self, name: str, tip: str, put: Callable[[str], None]) -> QLineEdit:
        line = QLineEdit()
        line.setAccessibleName(say(name))
        line.setToolTip(say(tip))

        def given() -> None:
            group, text = self.group, line.text().strip()
            known = None if group is None else group.name if line is self.title else group.label
            if known is not None and text != known and (text or line is self.label):
                put(text)

        line.editingFinished.connect(given)
        return line

    @cached_property
    def tone(self) -> WholeTone:
        """The tone of all of its zones."""
        tone = WholeTone(
            self.desk,
            ToneOf(
                name=lambda: "" if self.group is None else self.group.name,
                tone=lambda: None if self.group is None else self.group.tone,
                put_tone=lambda value, words, gesture: self.put(words, gesture, tone=value),
                look=lambda: None if self.group is None else self.group.look,
                put_look=lambda use, words, gesture: self.put(words, gesture, look=use),
                finish=lambda: None,
            ),
        )
        tone.across.hide()
        tone.draw.hide()
        return tone

    @cached_property
    def blend(self) -> GroupBlend:
        """How they are laid."""
        return GroupBlend(self.desk, self)

    @property
    def group(self) -> Group | None:
        """The chosen zone's group."""
        zone = self.desk.zone
        return None if zone is None else self.desk.shot.group_of(zone)

    def put(self, words: str, gesture: str | None = None, **changes: object) -> None:
        """Changes fields of the group."""
        group = self.group
        if group is not None:
            self.desk.edit(self.desk.shot.with_group(group.but(**changes)), f"{words} ({group.name})", gesture)

    def switch(self, on: bool) -> None:
        self.put(say("Group {how}", how=say("on") if on else say("off")), None, on=on)

    def show_header(self) -> None:
        group = self.group
        if group is None:
            return
        count = len(self.desk.shot.members(group.id))
        self.header.switch.setChecked(group.on)
        self.header.show_reading(
            say("{name}, {count} zones", name=group.name, count=count)
            if group.on
            else say("{name} off", name=group.name)
        )

    def show_body(self) -> None:
        super().show_body()
        group = self.group
        if group is not None:
            for line, text in ((self.title, group.name), (self.label, group.label)):
                if not line.hasFocus():
                    line.setText(text)
            self.members.setText(", ".join(zone.name for zone in self.desk.shot.members(group.id)))
            self.open_part(self.part)
