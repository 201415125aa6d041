"""Small parts that the panels share."""

from __future__ import annotations

from collections.abc import Callable

from PySide6.QtCore import QSize, Qt
from PySide6.QtWidgets import (
    QComboBox,
    QHBoxLayout,
    QLabel,
    QListWidget,
    QPushButton,
    QToolButton,
    QVBoxLayout,
    QWidget,
)

from . import theme

THUMB = QSize(88, 50)


def row(*parts: QWidget | int, spacing: int = 4) -> QHBoxLayout:
    """Parts side by side; a number is a stretch."""
    layout = QHBoxLayout()
    layout.setContentsMargins(0, 0, 0, 0)
    layout.setSpacing(spacing)
    for part in parts:
        if isinstance(part, int):
            layout.addStretch(part)
        else:
            layout.addWidget(part)
    return layout


def column(spacing: int = 4, margins: tuple[int, int, int, int] = (0, 0, 0, 0)) -> QVBoxLayout:
    """Parts above one another."""
    layout = QVBoxLayout()
    layout.setContentsMargins(*margins)
    layout.setSpacing(spacing)
    return layout


def tool_button(icon: str, tip: str, action: Callable[[], None] | None = None, checkable: bool = False) -> QToolButton:
    """A flat button with an icon; its tip is also its name for assistive tools."""
    button = QToolButton()
    button.setIcon(theme.icon(icon))
    button.setIconSize(QSize(14, 14))
    button.setToolTip(tip)
    button.setAccessibleName(tip)
    button.setCheckable(checkable)
    button.setProperty("flat", True)
    if action is not None:
        button.clicked.connect(lambda *_: action())
    return button


def push_button(
    text: str, tip: str, action: Callable[[], None], icon: str = "", checkable: bool = False
) -> QPushButton:
    """A button with words."""
    button = QPushButton(text)
    if icon:
        button.setIcon(theme.icon(icon))
        button.setIconSize(QSize(13, 13))
    button.setToolTip(tip)
    button.setCheckable(checkable)
    button.clicked.connect(lambda *_: action())
    return button


def choice(items: list[str], tip: str, chosen: Callable[[str], None]) -> QComboBox:
    """A list to choose from; tells only what a person chooses."""
    box = QComboBox()
    box.addItems(items)
    box.setToolTip(tip)
    box.setAccessibleName(tip)
    box.setMinimumContentsLength(4)
    box.setSizeAdjustPolicy(QComboBox.SizeAdjustPolicy.AdjustToMinimumContentsLengthWithIcon)
    box.textActivated.connect(chosen)
    return box


def as_shelf(shelf: QListWidget, name: str, tip: str) -> None:
    """Makes a list a column of thumbnails that can be dragged out."""
    shelf.setIconSize(THUMB)
    shelf.setViewMode(QListWidget.ViewMode.IconMode)
    shelf.setFlow(QListWidget.Flow.TopToBottom)
    shelf.setWrapping(False)
    shelf.setMovement(QListWidget.Movement.Static)
    shelf.setSpacing(1)
    shelf.setDragEnabled(True)
    shelf.setFont(theme.font(11))
    shelf.setWordWrap(True)
    shelf.setAccessibleName(name)
    shelf.setToolTip(tip)
    shelf.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)


def note(text: str = "", role: str = "note") -> QLabel:
    """A wrapped line of small words."""
    label = QLabel(text)
    label.setWordWrap(True)
    label.setProperty("role", role)
    label.setFont(theme.font(11))
    return label


def show_choice(box: QComboBox, items: list[str], current: str) -> None:
    """Refills a list without telling anybody."""
    if [box.itemText(i) for i in range(box.count())] != items:
        box.clear()
        box.addItems(items)
    box.setCurrentText(current)
