"""The look: neutral greys, one accent, a shipped font with tabular figures."""

from __future__ import annotations

from functools import cache
from pathlib import Path

import numpy as np
from PySide6.QtCore import QByteArray, QSize, Qt
from PySide6.QtGui import QColor, QFont, QFontDatabase, QIcon, QPainter, QPalette, QPixmap
from PySide6.QtSvg import QSvgRenderer
from PySide6.QtWidgets import QApplication

from ..media.curves import srgb_encode

ASSETS = Path(__file__).parent / "assets"
FONTS = Path(__file__).parents[1] / "assets"

GROUND = "#1f1f1f"
PANEL = "#262626"
SURROUND = "#2b2b2b"
RAISED = "#323232"
LINE = "#3a3a3a"
DIM = "#9c9c9c"
TEXT = "#d8d8d8"
ACCENT = "#6fb7a0"
WARN = "#d9a441"

# zones: the palette of Okabe & Ito (2008), black left out
ZONE_COLOURS = ("#E69F00", "#56B4E9", "#009E73", "#F0E442", "#0072B2", "#D55E00", "#CC79A7")

STYLE = f"""
QDialogButtonBox {{ dialogbuttonbox-buttons-have-icons: 0; }}
* {{ color: {TEXT}; selection-background-color: {ACCENT}; selection-color: #101010; }}
QWidget {{ background: {PANEL}; }}
QMainWindow, QSplitter {{ background: {GROUND}; }}
QMenuBar {{ background: {GROUND}; padding: 0 4px; }}
QMenuBar::item {{ padding: 4px 8px; background: transparent; }}
QMenuBar::item:selected, QMenu::item:selected {{ background: {LINE}; }}
QMenu {{ background: {RAISED}; border: 1px solid {LINE}; padding: 4px; }}
QMenu::item {{ padding: 4px 20px 4px 12px; }}
QMenu::item:disabled {{ color: {DIM}; }}
QToolTip {{ background: {RAISED}; color: {TEXT}; border: 1px solid {LINE}; padding: 4px; }}
QPushButton, QToolButton, QComboBox {{
  background: {RAISED}; border: 1px solid {LINE}; padding: 2px 6px; min-height: 16px;
}}
QToolButton {{ padding: 2px; }}
QPushButton:hover, QToolButton:hover, QComboBox:hover {{ border-color: #5a5a5a; }}
QPushButton:pressed, QToolButton:pressed {{ background: {GROUND}; }}
QPushButton:checked, QToolButton:checked {{ border-color: {ACCENT}; color: {ACCENT}; background: #24302c; }}
QPushButton:disabled, QToolButton:disabled, QComboBox:disabled {{ color: #7a7a7a; }}
QPushButton:focus, QToolButton:focus, QComboBox:focus, QLineEdit:focus, QListWidget:focus {{ border-color: {ACCENT}; }}
QPushButton[tab="true"] {{ padding: 2px 3px; }}
QToolButton[flat="true"] {{ background: transparent; border: 1px solid transparent; }}
QToolButton[flat="true"]:checked {{ border-color: {ACCENT}; background: #24302c; }}
QComboBox::drop-down {{ width: 16px; border: none; }}
QComboBox::down-arrow {{ image: url({ASSETS.as_posix()}/arrow.svg); width: 10px; height: 10px; }}
QComboBox QAbstractItemView {{ background: {RAISED}; border: 1px solid {LINE}; }}
QLineEdit {{ background: {GROUND}; border: 1px solid {LINE}; padding: 1px 4px; }}
QCheckBox::indicator {{ width: 12px; height: 12px; border: 1px solid #6a6a6a; background: {GROUND}; }}
QCheckBox::indicator:checked {{ background: {ACCENT}; border-color: {ACCENT}; }}
QListWidget {{ background: {PANEL}; border: none; outline: none; }}
QListWidget::item {{ padding: 2px; }}
QCheckBox::indicator:checked {{ image: url({ASSETS.as_posix()}/tick.svg); }}
QListWidget::item:selected {{ background: #24302c; color: {TEXT}; border: 1px solid {ACCENT}; }}
QScrollArea {{ border: none; }}
QScrollBar:vertical {{ background: {PANEL}; width: 8px; }}
QScrollBar::handle:vertical {{ background: #4a4a4a; min-height: 24px; }}
QScrollBar:horizontal {{ background: {PANEL}; height: 8px; }}
QScrollBar::handle:horizontal {{ background: #4a4a4a; min-width: 24px; }}
QScrollBar::add-line, QScrollBar::sub-line {{ width: 0; height: 0; }}
QLabel[role="title"] {{ color: {DIM}; }}
QLabel[role="warn"] {{ color: {WARN}; }}
QLabel[role="note"] {{ color: {DIM}; }}
"""


def font(size: int = 12, medium: bool = False) -> QFont:
    """The shipped sans at a size in px, with tabular figures."""
    face = QFont("Inter")
    face.setPixelSize(size)
    face.setWeight(QFont.Weight.Medium if medium else QFont.Weight.Normal)
    if hasattr(face, "setFeature"):
        face.setFeature(QFont.Tag("tnum"), 1)
    return face


@cache
def icon(name: str, colour: str = TEXT) -> QIcon:
    """An icon of the shipped set in a colour."""
    text = (ASSETS / "icons" / f"{name}.svg").read_text(encoding="utf-8").replace("currentColor", colour)
    renderer = QSvgRenderer(QByteArray(text.encode()))
    out = QIcon()
    for size in (14, 28):
        pixmap = QPixmap(QSize(size, size))
        pixmap.fill(Qt.GlobalColor.transparent)
        painter = QPainter(pixmap)
        renderer.render(painter)
        painter.end()
        out.addPixmap(pixmap)
    return out


def zone_colour(index: int) -> QColor:
    """A zone's colour by its place in the shot."""
    return QColor(ZONE_COLOURS[index % len(ZONE_COLOURS)])


def dress(app: QApplication) -> None:
    """Puts font, palette and style on the application. The sheet goes on a window once all of it is there: with one on
    the application every part would be polished again for each part that it is laid in."""
    for name in ("Inter-Regular.otf", "Inter-Medium.otf"):
        QFontDatabase.addApplicationFont(str(FONTS / name))
    app.setStyle("Fusion")
    app.setFont(font())
    palette = QPalette()
    for role, colour in (
        (QPalette.ColorRole.Window, PANEL),
        (QPalette.ColorRole.Base, GROUND),
        (QPalette.ColorRole.Text, TEXT),
        (QPalette.ColorRole.WindowText, TEXT),
        (QPalette.ColorRole.Button, RAISED),
        (QPalette.ColorRole.ButtonText, TEXT),
        (QPalette.ColorRole.Highlight, ACCENT),
        (QPalette.ColorRole.PlaceholderText, DIM),
    ):
        palette.setColor(role, QColor(colour))
    app.setPalette(palette)


def swatch(colour: tuple[float, float, float], to: tuple[float, float, float] | None = None) -> QIcon:
    """A small field of a scene-linear colour, or of two."""
    pixmap = QPixmap(QSize(20, 12))
    painter = QPainter(pixmap)
    for k, part in enumerate((colour, to or colour)):
        codes = [round(float(v) * 255) for v in np.clip(srgb_encode(np.array(part)), 0, 1)]
        painter.fillRect(10 * k, 0, 10, 12, QColor(*codes))
    painter.end()
    return QIcon(pixmap)
