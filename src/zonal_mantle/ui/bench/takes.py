"""Which parts of a lock's motion a rider takes: a button with a list of switches."""

from __future__ import annotations

from collections.abc import Callable

from PySide6.QtGui import QAction
from PySide6.QtWidgets import QMenu, QToolButton

from ...shot import Follow
from ...shot.follow import PARTS, WHOLE
from ...words import say
from .. import theme


class Takes(QToolButton):
    """Says what a rider follows of its lock's motion; its list switches the parts on and off."""

    def __init__(self, rider: str, changed: Callable[[Follow], None]) -> None:
        super().__init__()
        self.follow, self._changed = WHOLE, changed
        self.setFont(theme.font(11))
        self.setPopupMode(QToolButton.ToolButtonPopupMode.InstantPopup)
        self.setToolTip(say("Which parts of the lock's motion {rider} follows", rider=say(rider)))
        self.setAccessibleName(self.toolTip())
        self.list = QMenu(self)
        self.parts: dict[str, QAction] = {}
        for name in PARTS:
            part = self.list.addAction(say(name).capitalize())
            part.setCheckable(True)
            part.triggered.connect(lambda on, name=name: self._changed(self.follow.but(**{name: bool(on)})))
            self.parts[name] = part
        self.setMenu(self.list)

    def show_parts(self, follow: Follow | None) -> None:
        """What the rider takes; hidden where nothing rides."""
        self.setVisible(follow is not None)
        self.follow = follow or WHOLE
        for name, part in self.parts.items():
            part.setChecked(getattr(self.follow, name))
        taken = [name for name in PARTS if getattr(self.follow, name)]
        words = say("all motion") if len(taken) == len(PARTS) else ", ".join(map(say, taken)) or say("no motion")
        self.setText(say("Follows {words}", words=words))
