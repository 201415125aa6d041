"""The section: the shot seen from the side, lens at the left, infinity at the right."""

from __future__ import annotations

import math
from pathlib import Path

import numpy as np
from PySide6.QtCore import QPointF, QRectF, Qt, Signal
from PySide6.QtGui import (
    QBrush,
    QColor,
    QDragEnterEvent,
    QDropEvent,
    QFontMetrics,
    QImage,
    QMouseEvent,
    QPainter,
    QPaintEvent,
    QPen,
    QPixmap,
    QPolygonF,
)
from PySide6.QtWidgets import QHBoxLayout, QLabel, QVBoxLayout, QWidget

from ..comp.thumbnails import zone_thumbnail
from ..match.air import transmittance, visibility_for
from ..media.curves import srgb_encode
from ..shot import Zone
from ..words import say
from . import theme
from .desk import Desk, new_gesture
from .guard import guarded
from .numberfield import NumberField
from .widgets import tool_button

NEAREST_M, FARTHEST_M = 3.0, 40000.0
INFINITY_PX, LENS_PX = 64, 34
UPRIGHT = (66, 42)


@guarded
class SectionView(QWidget):
    """The painted section. Drag an upright to change its distance, the curve to change the visibility."""

    dropped = Signal(object, object)  # path and distance in metres (None: infinity)

    def __init__(self, desk: Desk) -> None:
        super().__init__()
        self.desk = desk
        self.setMinimumHeight(60)
        self.setMouseTracking(True)
        self.setAcceptDrops(True)
        self.setAccessibleName(say("Section"))
        self._drag: str | None = None
        self._gesture = ""
        self._kept: tuple[tuple[object, ...], QPixmap] | None = None  # what its ground shows, and its picture
        for signal in (desk.shot_changed, desk.choice_changed, desk.readings_changed):
            signal.connect(self.update)
        desk.thumbs.ready.connect(self._thumb_ready)

    def _thumb_ready(self, place: object) -> None:
        self.update()

    # --- places ---
    def x_of(self, distance_m: float | None) -> float:
        """Where a distance stands; None is infinity."""
        if distance_m is None:
            return self.width() - INFINITY_PX / 2
        share = (math.log10(distance_m) - math.log10(NEAREST_M)) / (math.log10(FARTHEST_M) - math.log10(NEAREST_M))
        return LENS_PX + share * (self.width() - LENS_PX - INFINITY_PX)

    def distance_at(self, x: float) -> float | None:
        """The distance at a place; infinity in the band at the right."""
        if x > self.width() - INFINITY_PX:
            return None
        share = (x - LENS_PX) / max(self.width() - LENS_PX - INFINITY_PX, 1)
        power = math.log10(NEAREST_M) + share * (math.log10(FARTHEST_M) - math.log10(NEAREST_M))
        return float(f"{10 ** max(power, math.log10(NEAREST_M)):.3g}")

    def y_of(self, share: float) -> float:
        """Where a share of light is drawn."""
        return 8 + (1 - share) * (self.height() - 28)

    def upright(self, zone: Zone) -> QRectF:
        """A zone's panel."""
        w, h = UPRIGHT
        x = min(max(self.x_of(zone.distance_m), w / 2 + 2), self.width() - w / 2 - 2)
        order = [z.id for z in self.desk.shot.near_to_far()].index(zone.id)
        return QRectF(x - w / 2, self.height() - 20 - h - (order % 2) * 6, w, h)

    # --- painting ---
    def paintEvent(self, event: QPaintEvent) -> None:
        painter = QPainter(self)
        painter.drawPixmap(0, 0, self._ground())
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setFont(theme.font(11))
        for zone in reversed(self.desk.shot.near_to_far()):
            self._paint_upright(painter, zone)
        self._paint_share(painter)

    def _ground(self) -> QPixmap:
        """Scale, lens and curve, painted anew when one of them changed."""
        ratio, fit, air = self.devicePixelRatioF(), self.desk.air_fit, self.desk.shot.air
        shown = (self.size(), ratio, air.visibility_m, None if fit is None or fit[0] != air else fit[1])
        if self._kept is None or self._kept[0] != shown:
            picture = QPixmap(self.size() * ratio)
            picture.setDevicePixelRatio(ratio)
            painter = QPainter(picture)
            self._paint_ground(painter)
            painter.end()
            self._kept = (shown, picture)
        return self._kept[1]

    def _paint_ground(self, painter: QPainter) -> None:
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.fillRect(self.rect(), QColor(theme.GROUND))
        painter.setFont(theme.font(11))
        base = self.height() - 18
        painter.setPen(QColor(theme.LINE))
        painter.drawLine(QPointF(LENS_PX, base), QPointF(self.width(), base))
        for distance, text in ((10, "10 m"), (100, "100 m"), (1000, "1 km"), (10000, "10 km"), (None, "∞")):
            x = self.x_of(distance)
            painter.setPen(QPen(QColor("#303030"), 1))
            painter.drawLine(QPointF(x, 6), QPointF(x, base + 3))
            painter.setPen(QColor(theme.DIM))
            painter.drawText(QRectF(x - 30, base + 2, 60, 16), Qt.AlignmentFlag.AlignCenter, text)
        painter.fillRect(QRectF(self.width() - INFINITY_PX, 0, 1, base), QColor(theme.LINE))
        self._paint_lens(painter, base)
        self._paint_curve(painter)

    def _paint_lens(self, painter: QPainter, base: float) -> None:
        painter.setPen(QPen(QColor(theme.TEXT), 1.2))
        painter.setBrush(QColor(theme.RAISED))
        middle = base / 2 + 4
        painter.drawRect(QRectF(6, middle - 8, 14, 16))
        painter.drawPolygon(
            QPolygonF(
                [QPointF(20, middle - 4), QPointF(28, middle - 9), QPointF(28, middle + 9), QPointF(20, middle + 4)]
            )
        )
        painter.setPen(QColor(theme.DIM))
        painter.drawText(QRectF(0, base + 2, LENS_PX, 16), Qt.AlignmentFlag.AlignCenter, say("lens"))

    def _paint_upright(self, painter: QPainter, zone: Zone) -> None:
        shot = self.desk.shot
        index = [z.id for z in shot.zones].index(zone.id)
        colour = theme.zone_colour(index)
        box = self.upright(zone)
        chosen = zone.id == self.desk.zone_id
        painter.fillRect(box, QColor("#151515"))
        thumbnail = self._thumbnail(zone)
        if thumbnail is not None:
            painter.setOpacity(1.0 if zone.on else 0.25)
            inside = box.adjusted(1, 1, -1, -1)
            ratio = min(inside.width() / thumbnail.width(), inside.height() / thumbnail.height())
            size = QPointF(thumbnail.width() * ratio, thumbnail.height() * ratio)
            corner = QPointF(inside.center().x() - size.x() / 2, inside.bottom() - size.y())
            painter.drawImage(QRectF(corner, corner + size), thumbnail)
            painter.setOpacity(1.0)
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.setPen(QPen(QColor(theme.ACCENT) if chosen else QColor("#707070"), 2 if chosen else 1))
        painter.drawRect(box)
        foot = QRectF(box.left(), box.bottom(), box.width(), 4)
        if shot.holds_plate(zone):
            painter.fillRect(foot, QBrush(colour, Qt.BrushStyle.BDiagPattern))
        else:
            painter.fillRect(foot, colour)
        painter.setPen(QPen(colour, 1))
        painter.drawLine(
            QPointF(self.x_of(zone.distance_m), foot.bottom()), QPointF(self.x_of(zone.distance_m), self.height() - 16)
        )
        group = shot.group_of(zone)
        lines = in_lines(zone.name, painter.fontMetrics(), int(box.width()) - 6)
        label = QRectF(box.left() + 1, box.top() + 1, box.width() - 2, 13)
        for words, place in (
            *((line, label.translated(0, 12 * k)) for k, line in enumerate(lines)),
            *([] if group is None else [(group.label or group.name, label.translated(0, box.height() - 15))]),
        ):
            painter.fillRect(place, QColor(20, 20, 20, 205))
            of_group = group is not None and place.top() > box.center().y()
            painter.setPen(QColor(theme.DIM if of_group else theme.TEXT))
            flags = Qt.AlignmentFlag.AlignVCenter | (
                Qt.AlignmentFlag.AlignHCenter if of_group else Qt.AlignmentFlag.AlignLeft
            )
            shown = painter.fontMetrics().elidedText(words, Qt.TextElideMode.ElideRight, int(box.width()) - 6)
            painter.drawText(place.adjusted(3, -1, -3, 0), flags, shown)
        if not zone.on:
            painter.drawText(box, Qt.AlignmentFlag.AlignCenter, say("off"))

    def _paint_curve(self, painter: QPainter) -> None:
        visibility = self.desk.shot.air.visibility_m
        places = []
        for k in range(90):
            x = LENS_PX + k / 89 * (self.width() - LENS_PX - INFINITY_PX - 1)
            distance = self.distance_at(x)
            places.append(QPointF(x, self.y_of(transmittance(distance, visibility))))
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.setPen(QPen(QColor(0, 0, 0, 160), 3.5))
        painter.drawPolyline(QPolygonF(places))
        painter.setPen(QPen(QColor(theme.ACCENT), 1.5))
        painter.drawPolyline(QPolygonF(places))
        self._paint_measured(painter)

    def _paint_share(self, painter: QPainter) -> None:
        """How much of the chosen zone's light reaches the lens, at its place on the curve."""
        zone, visibility = self.desk.zone, self.desk.shot.air.visibility_m
        if zone is not None and zone.distance_m is not None:
            share = transmittance(zone.distance_m, visibility)
            at = QPointF(self.x_of(zone.distance_m), self.y_of(share))
            painter.setBrush(QColor(theme.ACCENT))
            painter.drawEllipse(at, 3, 3)
            words = say("{share:.0%} transmitted", share=share)
            upright = self.upright(zone)  # beside it, so that its name can be read
            left = upright.right() + 118 > self.width()
            box = QRectF(upright.left() - 112 if left else upright.right() + 6, max(at.y() - 8, 1), 106, 14)
            painter.fillRect(box.adjusted(-2, 0, 2, 0), QColor(31, 31, 31, 190))
            painter.setPen(QColor(theme.TEXT))
            painter.drawText(box, Qt.AlignmentFlag.AlignRight if left else Qt.AlignmentFlag.AlignLeft, words)

    def _paint_measured(self, painter: QPainter) -> None:
        """What the air was fitted to, as long as it stands: the parts' own shares, and the interval about the curve."""
        if self.desk.air_fit is None or self.desk.air_fit[0] != self.desk.shot.air:
            return
        values = self.desk.air_fit[1]
        pen = QPen(QColor(theme.DIM), 1)
        pen.setStyle(Qt.PenStyle.DashLine)
        painter.setPen(pen)
        for name in ("visibility_low_m", "visibility_high_m"):
            places = []
            for k in range(60):
                x = LENS_PX + k / 59 * (self.width() - LENS_PX - INFINITY_PX - 1)
                places.append(QPointF(x, self.y_of(transmittance(self.distance_at(x), values[name]))))
            painter.drawPolyline(QPolygonF(places))
        painter.setPen(QPen(QColor(theme.TEXT), 1.4))
        painter.setBrush(QColor(theme.GROUND))
        number = 1
        while f"share_{number}" in values:
            share = min(max(values[f"share_{number}"], 0.0), 1.0)
            at = QPointF(self.x_of(values[f"distance_{number}_m"]), self.y_of(share))
            painter.drawRect(QRectF(at.x() - 3, at.y() - 3, 6, 6))
            number += 1

    def _thumbnail(self, zone: Zone) -> QImage | None:
        """What a zone holds, cut by its matte; made on a worker, until when the last one stands."""
        desk = self.desk
        shot, store = desk.shot, desk.store
        source, plate = shot.source(zone.source), shot.holds_plate(zone)
        matte = shot.matte_of(zone) if plate and zone.matte.on else None
        locks = shot.locks if matte is not None and matte.locks else None
        width = UPRIGHT[0] * 2

        def make() -> tuple[np.ndarray, str]:
            return zone_thumbnail(shot, zone, matte, store, width), ""

        return desk.thumbs.get(f"zone {zone.id}", (source, matte, locks), make)[0]

    # --- hands ---
    def _curve_near(self, point: QPointF) -> bool:
        distance = self.distance_at(point.x())
        if distance is None or point.x() < LENS_PX:
            return False
        return abs(self.y_of(transmittance(distance, self.desk.shot.air.visibility_m)) - point.y()) < 7

    def mousePressEvent(self, event: QMouseEvent) -> None:
        if event.button() != Qt.MouseButton.LeftButton or self.desk.shot.plate is None:
            return
        point = event.position()
        self._gesture = new_gesture()
        for zone in self.desk.shot.near_to_far():
            if self.upright(zone).contains(point):
                self.desk.choose_zone(zone.id)
                self._drag = "zone"
                self._grip = point.x() - self.x_of(zone.distance_m)
                self._origin = point.x()
                return
        if self._curve_near(point):
            self._drag = "curve"

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        point = event.position()
        if self._drag is None:
            over = self._curve_near(point)
            self.setCursor(Qt.CursorShape.SizeVerCursor if over else Qt.CursorShape.ArrowCursor)
            self.setToolTip(self._tip(point, over))
            return
        if self._drag == "zone":
            zone = self.desk.zone
            if zone is None or abs(point.x() - self._origin) < 3:
                return
            self._origin = -1e9
            distance = self.distance_at(point.x() - self._grip)
            self.desk.set_dragging(True)
            self.desk.edit_zone(zone.but(distance_m=distance), say("Distance of {name}", name=zone.name), self._gesture)
        else:
            share = 1 - (point.y() - 8) / max(self.height() - 28, 1)
            distance = self.distance_at(point.x()) or FARTHEST_M
            visibility = visibility_for(min(max(share, 0.01), 0.99), distance)
            self.desk.set_dragging(True)
            set_visibility(self.desk, visibility, self._gesture)

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        self._drag = None
        self.desk.set_dragging(False)

    def _tip(self, point: QPointF, over_curve: bool) -> str:
        for zone in self.desk.shot.near_to_far():
            if self.upright(zone).contains(point):
                far = "infinity" if zone.distance_m is None else f"{zone.distance_m:g} m"
                group = self.desk.shot.group_of(zone)
                of = (
                    ""
                    if group is None
                    else say(", of {name}", name=group.name) + (f" ({group.label})" if group.label else "")
                )
                return say(
                    "{name}{of}, at {far}. Drag to change its distance: order and haze follow",
                    name=zone.name,
                    of=of,
                    far=far,
                )
        if over_curve:
            return say(
                "Transmittance: the share of a zone's own light that reaches the lens. Drag to set the visibility"
            )
        return say("The shot from the side. Drop a picture here to make a zone at that distance")

    def dragEnterEvent(self, event: QDragEnterEvent) -> None:
        if event.mimeData().hasUrls():
            event.acceptProposedAction()

    def dropEvent(self, event: QDropEvent) -> None:
        for url in event.mimeData().urls():
            self.dropped.emit(Path(url.toLocalFile()), self.distance_at(event.position().x()))
        event.acceptProposedAction()


def in_lines(words: str, metrics: QFontMetrics, width: int) -> list[str]:
    """Words in one line of a width in pixels, or in two where they do not fit in one."""
    if metrics.horizontalAdvance(words) <= width or " " not in words:
        return [words]
    parts = words.split(" ")
    first = max((k for k in range(1, len(parts)) if metrics.horizontalAdvance(" ".join(parts[:k])) <= width), default=1)
    return [" ".join(parts[:first]), " ".join(parts[first:])]


def set_visibility(desk: Desk, visibility_m: float, gesture: str) -> None:
    """The shot with another visibility."""
    value = float(f"{min(max(visibility_m, 10.0), 1e6):.3g}")
    desk.edit(desk.shot.but(air=desk.shot.air.but(visibility_m=value)), "Visibility", gesture)


class Section(QWidget):
    """The section with the numbers of the air at its left."""

    pick_wanted = Signal()

    def __init__(self, desk: Desk) -> None:
        super().__init__()
        self.desk = desk
        self.view = SectionView(desk)
        self.visibility = NumberField(
            "Visibility",
            0.01,
            1000,
            0.1,
            30.0,
            2,
            "km",
            "Meteorological visibility: at it 5 % of a zone's own light is left",
        )
        self.distance = NumberField("Distance", 3, 40000, 5, 60, 0, "m", "Distance of the chosen zone from the lens")
        self.infinite = tool_button("layers", "Put the chosen zone at infinity, or back at 5 km", self._infinity, True)
        self.swatch = QLabel()
        self.swatch.setFixedSize(40, 16)
        pick = tool_button("pipette", "Pick the airlight colour off the plate", self.pick_wanted.emit)
        side = QVBoxLayout()
        side.setContentsMargins(6, 4, 6, 4)
        side.setSpacing(3)
        side.addWidget(self.visibility)
        side.addWidget(self.distance)
        line = QHBoxLayout()
        line.setSpacing(4)
        line.addWidget(QLabel(say("Airlight")))
        line.addWidget(self.swatch)
        line.addWidget(pick)
        line.addStretch(1)
        line.addWidget(self.infinite)
        side.addLayout(line)
        side.addStretch(1)
        panel = QWidget()
        panel.setLayout(side)
        panel.setFixedWidth(172)
        layout = QHBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(1)
        layout.addWidget(panel)
        layout.addWidget(self.view, 1)
        self.setMinimumHeight(66)
        self.setMaximumHeight(240)
        self.visibility.changed.connect(lambda value, gesture: set_visibility(desk, value * 1000, gesture))
        self.distance.changed.connect(self._distance)
        for field in (self.visibility, self.distance):
            field.gesture.connect(desk.set_dragging)
        desk.shot_changed.connect(self.refresh)
        desk.choice_changed.connect(self.refresh)
        self.refresh()

    def refresh(self) -> None:
        air, zone = self.desk.shot.air, self.desk.zone
        self.visibility.set_value(air.visibility_m / 1000)
        self.distance.setEnabled(zone is not None and zone.distance_m is not None)
        self.infinite.setEnabled(zone is not None)
        self.infinite.setChecked(zone is not None and zone.distance_m is None)
        if zone is not None and zone.distance_m is not None:
            self.distance.set_value(zone.distance_m)
        codes = [round(float(v) * 255) for v in np.clip(srgb_encode(np.array(air.airlight)), 0, 1)]
        self.swatch.setStyleSheet(
            f"background: rgb({codes[0]}, {codes[1]}, {codes[2]}); border: 1px solid {theme.LINE};"
        )
        r, g, b = air.airlight
        self.swatch.setToolTip(say("Airlight, scene-linear: {r:.3f} {g:.3f} {b:.3f}", r=r, g=g, b=b))

    def _distance(self, value: float, gesture: str) -> None:
        zone = self.desk.zone
        if zone is not None:
            self.desk.edit_zone(zone.but(distance_m=value), say("Distance of {name}", name=zone.name), gesture)

    def _infinity(self) -> None:
        zone = self.desk.zone
        if zone is not None:
            far = 5000.0 if zone.distance_m is None else None
            self.desk.edit_zone(zone.but(distance_m=far), say("Distance of {name}", name=zone.name))
