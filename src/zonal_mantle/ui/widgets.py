"""Small parts that the panels share."""

from __future__ import annotations

from collections.abc import Callable, Sequence

from PySide6.QtCore import QEvent, QObject, QSize, Qt
from PySide6.QtWidgets import (
    QCheckBox,
    QComboBox,
    QHBoxLayout,
    QLabel,
    QLayout,
    QListWidget,
    QPushButton,
    QToolButton,
    QVBoxLayout,
    QWidget,
)

from ..words import say
from . import theme
from .guard import guarded
from .numberfield import NumberField
from .pairs import Pairs

THUMB = QSize(88, 50)
KNOWN_BY = Qt.ItemDataRole.UserRole + 1  # the English of an entry in a list
NAME_PX = 88  # of the names before lists, so that lists line up


def row(*parts: QWidget | int, spacing: int = 4) -> QLayout:
    """Parts side by side; a number is a stretch. Numbers, words and buttons wrap where there is no room for all."""
    if len(parts) > 1 and all(isinstance(part, WRAPPED) for part in parts):
        even = all(isinstance(part, NumberField) for part in parts)
        wrapping = Pairs(even, spacing)
        for part in parts:
            wrapping.addWidget(part)  # type: ignore[arg-type]
        return wrapping
    layout = QHBoxLayout()
    layout.setContentsMargins(0, 0, 0, 0)
    layout.setSpacing(spacing)
    for part in parts:
        if isinstance(part, int):
            layout.addStretch(part)
        else:
            layout.addWidget(part)
    return layout


@guarded
class Named(QWidget):
    """A control with its name before it; both are shown or hidden with the control."""

    def __init__(self, name: str, control: QWidget, wide: bool) -> None:
        super().__init__()
        self.control = control
        label = QLabel(say(name))
        label.setMinimumWidth(NAME_PX if wide else 0)
        label.setStyleSheet(f"color: {theme.DIM};")
        label.setBuddy(control)
        control.setAccessibleName(say(name))
        control.setAccessibleDescription(control.toolTip())
        layout = QHBoxLayout(self)
        layout.setContentsMargins(1, 0, 0, 0)
        layout.setSpacing(6)
        layout.addWidget(label)
        layout.addWidget(control, 1)
        control.installEventFilter(self)

    def eventFilter(self, watched: QObject, event: QEvent) -> bool:
        if watched is self.control and event.type() in (QEvent.Type.HideToParent, QEvent.Type.ShowToParent):
            self.setVisible(event.type() == QEvent.Type.ShowToParent)
        return False


WRAPPED = (NumberField, QPushButton, QCheckBox, QComboBox, Named)


def named(name: str, control: QWidget, wide: bool = True) -> Named:
    """A control with its name before it; `wide` names line up below one another."""
    return Named(name, control, wide)


def switched(name: str, on: bool) -> str:
    """What a step of the history is called that switches something on or off."""
    return say("{name} on", name=name) if on else say("{name} off", name=name)


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
    button.setToolTip(say(tip))
    button.setAccessibleName(say(tip))
    button.setCheckable(checkable)
    button.setProperty("flat", True)
    if action is not None:
        button.clicked.connect(lambda *_: action())
    return button


def push_button(
    text: str, tip: str, action: Callable[[], None], icon: str = "", checkable: bool = False
) -> QPushButton:
    """A button with words."""
    button = QPushButton(say(text))
    if icon:
        button.setIcon(theme.icon(icon))
        button.setIconSize(QSize(13, 13))
    button.setToolTip(say(tip))
    button.setCheckable(checkable)
    button.clicked.connect(lambda *_: action())
    return button


def choice(items: list[str], tip: str, chosen: Callable[[str], None]) -> QComboBox:
    """A list to choose from; tells only what a person chooses, by the English of it."""
    box = QComboBox()
    put_items(box, items)
    box.setToolTip(say(tip))
    box.setAccessibleName(say(tip))
    box.setMinimumContentsLength(4)
    box.setSizeAdjustPolicy(QComboBox.SizeAdjustPolicy.AdjustToMinimumContentsLengthWithIcon)
    box.textActivated.connect(lambda text: chosen(_known_by(box, text)))
    return box


def put_items(box: QComboBox, items: list[str]) -> None:
    """Fills a list; each is said, and known by its English."""
    for item in items:
        box.addItem(say(item))
        box.setItemData(box.count() - 1, item, KNOWN_BY)


def chosen_of(box: QComboBox) -> str:
    """The English of what is chosen in a list."""
    return _known_by(box, box.currentText())


def choose(box: QComboBox, item: str) -> None:
    """Chooses what is known by an English word, without telling anybody."""
    at = box.findData(item, KNOWN_BY)
    box.setCurrentIndex(at if at >= 0 else box.findText(item))


def _known_by(box: QComboBox, text: str) -> str:
    at = box.currentIndex() if text == box.currentText() else box.findText(text)
    return str(box.itemData(at, KNOWN_BY) or text)


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
    shelf.setAccessibleName(say(name))
    shelf.setToolTip(say(tip))
    shelf.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)


def note(text: str = "", role: str = "note") -> QLabel:
    """A wrapped line of small words."""
    label = QLabel(say(text))
    label.setWordWrap(True)
    label.setProperty("role", role)
    label.setFont(theme.font(11))
    return label


def show_choice(box: QComboBox, items: list[str], current: str) -> None:
    """Refills a list without telling anybody."""
    if [box.itemData(i, KNOWN_BY) for i in range(box.count())] != items:
        box.clear()
        put_items(box, items)
    choose(box, current)


def fill(box: QComboBox, entries: Sequence[tuple[str | None, str]], current: str | None) -> None:
    """Refills a list of things that are known by their ids, without telling anybody.

    Things of the same name get a number, so that they can be told apart.
    """
    names = [say(name) if id is None else name for id, name in entries]
    shown = [
        (id, f"{name} ({names[:k].count(name) + 1})" if names.count(name) > 1 else name)
        for k, ((id, _), name) in enumerate(zip(entries, names))
    ]
    if [(box.itemData(i), box.itemText(i)) for i in range(box.count())] != shown:
        box.clear()
        for id, name in shown:
            box.addItem(name, id)
    box.setCurrentIndex(next((k for k, (id, _) in enumerate(shown) if id == current), 0 if shown else -1))
