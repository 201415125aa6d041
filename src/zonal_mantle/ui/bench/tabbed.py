"""Panels of which one is seen at a time, each with a button; a panel is made when it is first asked for."""

from __future__ import annotations

from collections.abc import Callable

from PySide6.QtWidgets import QPushButton, QVBoxLayout

from ..widgets import push_button, row
from .panel import Panel


class Tabbed:
    """The buttons and the panels, in a layout.

    parts : name, maker and tip of each; the first is open. opened : called with the name of the one whose button was
    pressed. across : buttons in a row.
    """

    def __init__(
        self,
        inside: QVBoxLayout,
        parts: tuple[tuple[str, Callable[[], Panel], str], ...],
        opened: Callable[[str], None],
        across: int = 8,
    ) -> None:
        self._inside = inside
        self._makers = {name: make for name, make, _ in parts}
        self.made: dict[str, Panel] = {}
        self.tabs: dict[str, QPushButton] = {}
        for name, _, tip in parts:
            button = push_button(name, tip, lambda name=name: opened(name), checkable=True)
            button.setProperty("tab", True)
            self.tabs[name] = button
        buttons = list(self.tabs.values())
        for first in range(0, len(buttons), across):
            inside.addLayout(row(*buttons[first : first + across]))
        self._place = inside.count()
        self.part = parts[0][0]

    def panel(self, name: str) -> Panel:
        """One of the panels."""
        if name not in self.made:
            panel = self.made[name] = self._makers[name]()
            self._inside.insertWidget(self._place, panel)
            panel.setVisible(name == self.part)  # not before it has its place: it would be a window of its own
        return self.made[name]

    def make_next(self) -> bool:
        """Makes a panel that was not opened yet; False where all are there."""
        name = next((name for name in self.tabs if name not in self.made), None)
        if name is not None:
            self.panel(name)
        return name is not None

    def open(self, name: str) -> None:
        """Shows one of them."""
        self.part = name
        self.panel(name).refresh()
        for each, button in self.tabs.items():
            button.setChecked(each == name)
        for each, panel in self.made.items():
            panel.setVisible(each == name)
