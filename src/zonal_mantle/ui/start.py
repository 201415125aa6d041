"""The start page of an empty window: recent shots with their pictures, and what to do first."""

from __future__ import annotations

import logging

from PySide6.QtCore import QSize, Qt, Signal
from PySide6.QtWidgets import QHBoxLayout, QLabel, QListWidget, QListWidgetItem, QSizePolicy, QVBoxLayout, QWidget

from ..words import say
from . import recent, theme
from .apart import apart
from .keptpictures import PICTURE, icon_of_png, kept_of
from .language import day
from .widgets import note, push_button

log = logging.getLogger(__name__)
STEPS = (
    "1.  Open a plate. It becomes the first zone of a new shot; trim it and check its encoding under Source.",
    "2.  Choose Shot › First pass: it locks, pulls the matte, adds the sky that fits best, and says what it doubts.",
    "3.  Go through the findings, one by one, until every reading holds; then Render.",
)


class StartPage(QWidget):
    """Shown in the viewer's place while there is no shot."""

    plate_wanted = Signal()
    shot_wanted = Signal()
    demo_wanted = Signal()
    tour_wanted = Signal()
    recent_wanted = Signal(object)

    def __init__(self) -> None:
        super().__init__()
        self.setAccessibleName(say("Start page"))
        title = QLabel(say("Zonal Mantle"))
        title.setFont(theme.font(22, medium=True))
        self.plate = push_button("Open a plate…", "A new shot from a plate (Ctrl+N)", self.plate_wanted.emit, "film")
        self.shot = push_button("Open a shot…", "A shot's file (Ctrl+O)", self.shot_wanted.emit, "folder-open")
        self.demo = push_button("Open the demo", "The made-up shot Saltern SLT_0140", self.demo_wanted.emit, "image")
        buttons = QHBoxLayout()
        buttons.setSpacing(8)
        self.tour = push_button("Take the tour", "Six steps over the window, on the demo", self.tour_wanted.emit)
        for button in (self.plate, self.shot, self.demo, self.tour):
            button.setMinimumHeight(28)
            buttons.addWidget(button)
        buttons.addStretch(1)
        self.recent_title = note("Recent shots")
        self.recent = QListWidget()
        self.recent.setAccessibleName(say("Recent shots"))
        self.recent.setViewMode(QListWidget.ViewMode.IconMode)
        self.recent.setMovement(QListWidget.Movement.Static)
        self.recent.setResizeMode(QListWidget.ResizeMode.Adjust)
        self.recent.setIconSize(PICTURE)
        self.recent.setSpacing(8)
        self.recent.setWordWrap(True)
        self.recent.setStyleSheet(f"QListWidget {{ background: {theme.SURROUND}; }}")
        self.recent.itemActivated.connect(self._open)
        self.recent.itemClicked.connect(self._open)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(36, 28, 36, 20)
        layout.setSpacing(12)
        layout.addWidget(title)
        layout.addLayout(buttons)
        for step in STEPS:
            line = QLabel(say(step))
            line.setWordWrap(True)
            line.setSizePolicy(QSizePolicy.Policy.Preferred, QSizePolicy.Policy.Fixed)
            layout.addWidget(line)
        layout.addSpacing(6)
        layout.addWidget(self.recent_title)
        layout.addWidget(self.recent, 1)
        layout.addStretch(0)
        layout.addWidget(note("A plate or a shot can also be dropped here."))
        self.setStyleSheet(f"StartPage, StartPage > QLabel {{ background: {theme.SURROUND}; }}")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self.refresh()

    def refresh(self) -> None:
        """Lists the recent shots that are still there."""
        self.recent.clear()
        known = apart(lambda: [(path, kept_of(path)) for path in recent.recent_shots()])
        there = [(path, kept) for path, kept in known if kept is not None]
        for path, (png, changed) in there:
            icon = icon_of_png(png) if png else theme.icon("film", theme.DIM)
            when = day(changed)
            item = QListWidgetItem(icon, f"{path.name.removesuffix('.shot.json')}\n{when}")
            item.setToolTip(str(path))
            item.setSizeHint(QSize(PICTURE.width() + 16, PICTURE.height() + 44))
            item.setData(Qt.ItemDataRole.UserRole, path)
            self.recent.addItem(item)
        for part in (self.recent, self.recent_title):
            part.setVisible(bool(there))

    def _open(self, item: QListWidgetItem) -> None:
        self.recent_wanted.emit(item.data(Qt.ItemDataRole.UserRole))
