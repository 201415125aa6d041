"""What the parts of the finish have in common: a switch, a reset, fields of one part of it."""

from __future__ import annotations

from typing import Any

from PySide6.QtWidgets import QCheckBox

from ...shot import Finish
from ...words import say
from ..desk import Desk
from ..widgets import note, push_button, row, switched
from .valued import Valued


class FinishPart(Valued):
    """One part of the shot's finish, `part` by its field."""

    part = ""
    title = ""

    def __init__(self, desk: Desk) -> None:
        super().__init__(desk)
        self.on = QCheckBox(say("On"))
        self.on.setToolTip(say("Switches the {title} on or off", title=self.title))
        self.on.setAccessibleName(say("{title} on", title=self.title))
        self.on.clicked.connect(lambda on: self.put(switched(say(self.title), on), on=bool(on)))
        self.back = push_button(
            "Reset", say("Sets the {title} back to what does nothing", title=self.title), self._set_back
        )
        self.inside.addLayout(row(self.on, 1, self.back))
        self.words = note()

    def value(self) -> Any:
        return getattr(self.desk.shot.finish, self.part)

    def put(self, words: str, gesture: str | None = None, **changes: object) -> None:
        """Changes fields of the part; one that is moved while it is off is switched on."""
        old = self.value()
        if not getattr(old, "on", True):
            changes = {"on": True, **changes}
        value = old.but(**changes)
        self.put_finish(words, gesture, **{self.part: value})

    def put_finish(self, words: str, gesture: str | None = None, **changes: object) -> None:
        """Changes fields of the finish."""
        shot = self.desk.shot
        self.desk.edit(shot.but(finish=shot.finish.but(**changes)), words, gesture)

    def _set_back(self) -> None:
        self.put_finish(say("Reset {title}", title=self.title), None, **{self.part: getattr(Finish(), self.part)})

    def refresh(self) -> None:
        super().refresh()
        value = self.value()
        if hasattr(value, "on"):
            self.on.setChecked(value.on)
        self.words.setText(say(self.reading()))
        self.words.setVisible(bool(self.words.text()))

    def reading(self) -> str:
        """What is measured beside it, in words."""
        return ""
