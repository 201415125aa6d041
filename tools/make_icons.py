"""Renders the application's icon in the usual sizes."""

from PySide6.QtCore import Qt
from PySide6.QtGui import QGuiApplication, QImage, QPainter
from PySide6.QtSvg import QSvgRenderer

from zonal_mantle.desktop import ID, SIZES
from zonal_mantle.ui.theme import FONTS

if __name__ == "__main__":
    app = QGuiApplication(["make_icons", "-platform", "offscreen"])
    folder = FONTS / "desktop"
    renderer = QSvgRenderer(str(folder / f"{ID}.svg"))
    for size in SIZES:
        image = QImage(size, size, QImage.Format.Format_ARGB32)
        image.fill(Qt.GlobalColor.transparent)
        painter = QPainter(image)
        renderer.render(painter)
        painter.end()
        image.save(str(folder / f"{ID}-{size}.png"))
