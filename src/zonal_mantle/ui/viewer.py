"""The viewer: the picture, its handles, wipe, magnifier, probe."""

from __future__ import annotations

import math
from dataclasses import replace
from pathlib import Path

import numpy as np
from numpy.typing import NDArray
from PySide6.QtCore import QEvent, QPointF, QRectF, Qt, Signal
from PySide6.QtGui import (
    QColor,
    QImage,
    QKeyEvent,
    QMouseEvent,
    QPainter,
    QPaintEvent,
    QPen,
    QResizeEvent,
    QTransform,
    QWheelEvent,
)
from PySide6.QtWidgets import QWidget

from ..comp import WHOLE_VIEWS
from ..comp.finish_planner import output_size, plate_aspect
from ..comp.matte_planner import reads_own, zone_matte_plan, zone_picture
from ..media import MediaError
from ..media.memory import is_large
from ..media.picture import picture_of
from ..place import reference_to_frame
from ..words import say
from . import theme
from .desk import Desk
from .guard import guarded
from .guides import paint_frame
from .noteflags import paint_notes
from .numberfield import NOTCH
from .server import FrameServer, Wanted, proxy_scale
from .tools.base import Tool, label

AT_ONCE_PIXELS = 6_000_000  # a larger picture is shown small first
MARK_PX = 24  # from line to line of words at the top of the picture


@guarded
class Viewer(QWidget):
    """Shows the desk's view of its frame. Places are plate pixels; the tool of the open stage draws its handles."""

    probed = Signal(object)  # (x, y) in plate pixels, or None
    shown = Signal(object)  # what is on the screen now

    def __init__(self, desk: Desk, server: FrameServer) -> None:
        super().__init__()
        self.desk, self.server = desk, server
        self.tool = Tool(desk)
        self.zoom, self.offset = 1.0, QPointF(0, 0)
        self.fitted = True
        self.wipe_at = 0.5
        self._fitted_size = (0, 0)
        self.pointer: QPointF | None = None
        self.message = ""
        self._images: dict[str, tuple[Wanted, QImage]] = {}
        self._pan: QPointF | None = None
        self._wiping = False
        self._marks = 0  # lines of words at the top of the picture
        self._space = False
        self.setMouseTracking(True)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setMinimumSize(320, 200)
        self.setAccessibleName(say("Viewer"))
        server.ready.connect(self._arrived)
        server.failed.connect(self._failed)
        for signal in (desk.shot_changed, desk.frame_changed, desk.view_changed):
            signal.connect(self.refresh)
        desk.choice_changed.connect(self.refresh)

    # --- what is asked for ---
    def wanted(self, frame: int, full: bool = True) -> list[Wanted]:
        """The pictures that the present view needs on a frame."""
        desk = self.desk
        scale = 1.0 if full else proxy_scale(desk.shot.size)
        names = [desk.view, desk.other_view] if desk.wipe else [desk.view]
        if desk.comparing:
            plain = replace(desk.look, fault=None, hatch=None)
            zone = None if desk.view in (*WHOLE_VIEWS, "Plate") else desk.zone_id
            states = [desk.revision_of(desk.states[name]) for name in ("A", "B")]
            return [Wanted(revision, frame, desk.view, zone, scale, plain) for revision in states]
        out = []
        for name in names:
            zone = desk.zone_id if name not in (*WHOLE_VIEWS, "Plate", "Difference") else None
            fault = desk.look.fault if name == "Alpha check" else None
            hatch = desk.zone_id if desk.stage == "Place" and name in ("Composite", "See-through") else None
            lock = desk.lock_id if name == "Difference" else None
            look = replace(desk.look, fault=fault, lock=lock, hatch=hatch)
            out.append(Wanted(desk.seen_revision, frame, name, zone, scale, look))
        return out

    def refresh(self) -> None:
        """Asks for what should be on the screen; the newest request wins."""
        desk = self.desk
        self.message = ""
        if self.picture_size != self._fitted_size and (self.fitted or self._fitted_size != (0, 0)):
            self.fit()
        wanted = self.wanted(desk.frame, full=not desk.dragging)
        ahead: list[Wanted] = []
        if not desk.dragging and desk.shot.plate is not None and not is_large(desk.shot.size):  # else it takes too long
            frames = desk.shot.work_frames
            order = [*range(desk.frame + 1, frames[-1] + 1), *range(frames[0], desk.frame)]
            full = self.wanted(desk.frame)
            ahead = [w for frame in order for w in (replace(each, frame=frame) for each in full)]
            ahead = self.server.cache.missing(ahead)
        there = [self.server.cache.get(w) for w in wanted]
        if all(codes is not None for codes in there):
            for w, codes in zip(wanted, there):
                self._arrived(w, codes)
            wanted = []
        elif not desk.dragging and math.prod(desk.shot.size) > AT_ONCE_PIXELS:
            wanted = [*self.wanted(desk.frame, full=False), *wanted]
        others = {desk.revision_of(shot): shot for shot in desk.states.values()} if desk.comparing else {}
        self.server.request(desk.seen_shot, wanted, ahead, others)
        self.update()

    def is_cached(self, frame: int) -> bool:
        """Whether the present view of a frame can be shown at once."""
        return all(w in self.server.cache for w in self.wanted(frame))

    def cached_frames(self) -> set[int]:
        """The frames of which the present view can be shown at once."""
        shot = self.desk.shot
        wanted = [replace(each, frame=frame) for each in self.wanted(shot.first) for frame in shot.frames]
        return set(shot.frames) - {each.frame for each in self.server.cache.missing(wanted)}

    def is_showing(self) -> bool:
        """Whether the screen shows the present shot, frame and view at full size."""
        wanted = self.wanted(self.desk.frame)
        return all((entry := self._images.get(self._slot(w))) is not None and entry[0] == w for w in wanted)

    def _slot(self, wanted: Wanted) -> str:
        """Where a picture is kept: by its view, or by the state it is of where two are compared."""
        desk = self.desk
        if not desk.comparing:
            return wanted.view
        return "A" if wanted.revision == desk.revision_of(desk.states["A"]) else "B"

    def _arrived(self, wanted: Wanted, codes: NDArray[np.uint8]) -> None:
        desk = self.desk
        known = [desk.seen_revision]
        if desk.comparing:
            known = [desk.revision_of(shot) for shot in desk.states.values()]
        if wanted.frame != desk.frame or wanted.revision not in known:
            return
        shown = self._images.get(self._slot(wanted))
        whole = replace(wanted, scale=1.0, first=False)
        if wanted != whole and shown is not None and shown[0] == whole and not desk.dragging:
            return  # of a drag that is over
        height, width = codes.shape[:2]
        image = QImage(codes.data, width, height, width * 4, QImage.Format.Format_RGB32)
        image.codes = codes  # keeps the memory alive
        self._images[self._slot(wanted)] = (wanted, image)
        if desk.comparing and len(set(known)) == 1:
            self._images["B"] = (wanted, image)
        self.message = ""
        self.update()
        self.shown.emit(wanted)

    def _failed(self, wanted: Wanted, words: str) -> None:
        if wanted.frame == self.desk.frame:
            self.message = words
            self._images.clear()
            self.desk.said.emit(words, True)
            self.update()

    # --- places ---
    def transform(self) -> QTransform:
        """Plate pixels to the widget, with held still where that is on."""
        out = QTransform()
        out.translate(self.offset.x(), self.offset.y())
        out.scale(self.zoom * self._aspect(), self.zoom)
        plate_like = self.desk.own_zone is None and self.desk.view != "Delivery"
        if self.desk.held_still and plate_like and self.desk.lock is not None:
            m = np.linalg.inv(reference_to_frame(self.desk.solving.shot, self.desk.lock.id, self.desk.frame))
            still = QTransform(
                m[0, 0], m[1, 0], m[2, 0], m[0, 1], m[1, 1], m[2, 1], m[0, 2], m[1, 2], m[2, 2]
            )  # fmt: skip
            out = still * out
        return out

    def _aspect(self) -> float:
        if self.desk.view == "Delivery":
            return self.desk.shot.finish.output.pixel_aspect or plate_aspect(self.desk.shot)
        zone = self.desk.own_zone
        source = self.desk.shot.plate_source if zone is None else self.desk.shot.source(zone.source)
        return source.pixel_aspect if source else 1.0

    @property
    def picture_size(self) -> tuple[int, int]:
        """Width and height that places are told in: the plate's, or the painting's where that is shown by itself."""
        desk, zone = self.desk, self.desk.own_zone
        if zone is not None:
            source = desk.shot.source(zone.source)
            return source.width, source.height
        return output_size(desk.shot) if desk.view == "Delivery" else desk.shot.size

    def to_widget(self, x: float, y: float) -> QPointF:
        """A place on the plate, in widget pixels."""
        return self.transform().map(QPointF(x, y))

    def to_plate(self, point: QPointF) -> tuple[float, float]:
        """A widget place, in plate pixels."""
        back, _ = self.transform().inverted()
        place = back.map(point)
        return place.x(), place.y()

    def fit(self) -> None:
        """The whole picture, centred."""
        width, height = self.picture_size[0] * self._aspect(), self.picture_size[1]
        wide = self.width() / 2 if self.desk.comparing == "side by side" else self.width()
        self.zoom = min(wide / width, self.height() / height) * 0.995
        self.offset = QPointF((self.width() - width * self.zoom) / 2, (self.height() - height * self.zoom) / 2)
        self.fitted, self._fitted_size = True, self.picture_size
        self.update()

    def zoom_about(self, point: QPointF, factor: float) -> None:
        """Zooms so that what is under `point` stays there."""
        new = min(max(self.zoom * factor, 0.05), 40.0)
        self.offset = point - (point - self.offset) * (new / self.zoom)
        self.zoom, self.fitted = new, False
        self.update()

    def actual_size(self) -> None:
        """One plate pixel a screen pixel, about the middle."""
        self.zoom_about(QPointF(self.rect().center()), 1 / self.zoom)

    def set_tool(self, tool: Tool) -> None:
        """Another stage's handles."""
        self.tool = tool
        self.setCursor(tool.cursor)
        self.update()

    # --- painting ---
    def paintEvent(self, event: QPaintEvent) -> None:
        painter = QPainter(self)
        painter.fillRect(self.rect(), QColor(theme.SURROUND))
        desk, self._marks = self.desk, 0
        if desk.shot.plate is None:
            return
        entry = self._images.get(desk.view)
        if desk.comparing:
            entry = None
            self._paint_states(painter)
        if entry is not None:
            self._draw(painter, entry)
            other = self._images.get(desk.other_view) if desk.wipe else None
            if other is not None:
                painter.save()
                x = int(self.wipe_at * self.width())
                painter.setClipRect(QRectF(x, 0, self.width() - x, self.height()))
                self._draw(painter, other)
                painter.restore()
                painter.setPen(QPen(QColor(theme.TEXT), 1))
                painter.drawLine(x, 0, x, self.height())
                near, far = say(desk.view), say(desk.other_view)
                painter.drawText(x + 6, self.height() - 8, far)
                painter.drawText(x - 6 - painter.fontMetrics().horizontalAdvance(near), self.height() - 8, near)
        if desk.look.lut is not None:
            self._mark(painter, say("▲ Seen through {name}: never rendered", name=Path(desk.look.lut.path).name))
        if entry is not None and entry[0].first:
            self._mark(painter, say("First answer, from this frame alone: the shot's sky is being learnt"))
        if desk.compared is not None:
            self._mark(painter, say("Before: without one control"))
        if desk.comparing:
            return
        if desk.own_zone is None and desk.view != "Delivery" and desk.frame_guides and desk.overlays:
            paint_frame(painter, self, desk.shot, desk.frame)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        if not desk.overlays and not self.tool.asks:
            self._mark(painter, "Shapes, lines and handles are hidden (O)")
        elif desk.playing:
            self.tool.paint_playing(painter, self)
        else:
            self.tool.paint(painter, self)
        if desk.overlays and not desk.playing:
            paint_notes(painter, self, desk.shot.notes, desk.frame)
        self._magnify(painter, entry)
        if self.message:
            self._centre(painter, self.message)

    def _draw(self, painter: QPainter, entry: tuple[Wanted, QImage]) -> None:
        image = entry[1]
        width, height = self.picture_size
        painter.save()
        painter.setRenderHint(QPainter.RenderHint.SmoothPixmapTransform, self.zoom <= 2 or self.desk.smooth_pixels)
        painter.setTransform(self.transform(), True)
        painter.drawImage(QRectF(0, 0, width, height), image)
        painter.restore()

    def _paint_states(self, painter: QPainter) -> None:
        """States A and B: beside one another, wiped, or the one that is up."""
        desk, width, height = self.desk, self.width(), self.height()
        split = width // 2 if desk.comparing == "side by side" else int(self.wipe_at * width)
        if desk.comparing == "flicker":
            split = width if desk.shown_state == "A" else 0
        for name, left, right in (("A", 0, split), ("B", split, width)):
            entry = self._images.get(name)
            if entry is None or right <= left:
                continue
            painter.save()
            painter.setClipRect(QRectF(left, 0, right - left, height))
            if desk.comparing == "side by side":
                painter.translate((left + right) / 2 - width / 2, 0)
            self._draw(painter, entry)
            painter.restore()
            label(painter, QPointF(left + 8, height - 10), say("State {name}", name=name))
        if 0 < split < width:
            painter.setPen(QPen(QColor(theme.TEXT), 1))
            painter.drawLine(split, 0, split, height)

    def _mark(self, painter: QPainter, words: str) -> None:
        """Words at the top of the picture, below those that stand there, of what is not as it will be rendered."""
        painter.setFont(theme.font(12))
        label(painter, QPointF(12, 20 + MARK_PX * self._marks), words)
        self._marks += 1

    def picture_seen(self) -> QImage | None:
        """The picture of the view on the screen, without what is drawn over it."""
        entry = self._images.get(self.desk.view)
        return None if entry is None else entry[1]

    def _magnify(self, painter: QPainter, entry: tuple[Wanted, QImage] | None) -> None:
        """Five times the surroundings of what is being dragged, in the corner away from it."""
        focus = self.tool.magnified()
        if focus is None and self.desk.loupe and self.pointer is not None:
            focus = self.to_plate(self.pointer)
        if focus is None or entry is None:
            return
        side, factor = 150, 5.0
        at = self.to_widget(*focus)
        left = at.x() > self.width() / 2
        box = QRectF(10 if left else self.width() - side - 10, 10, side, side)
        image = entry[1]
        share = image.width() / self.picture_size[0]
        reach = side / 2 / factor
        source = QRectF((focus[0] - reach) * share, (focus[1] - reach) * share, 2 * reach * share, 2 * reach * share)
        painter.fillRect(box, QColor(theme.SURROUND))
        painter.setRenderHint(QPainter.RenderHint.SmoothPixmapTransform, False)
        painter.drawImage(box, image, source)
        painter.setPen(QPen(QColor(theme.ACCENT), 1))
        painter.drawRect(box)
        painter.drawLine(
            QPointF(box.center().x(), box.center().y() - 12), QPointF(box.center().x(), box.center().y() + 12)
        )
        painter.drawLine(
            QPointF(box.center().x() - 12, box.center().y()), QPointF(box.center().x() + 12, box.center().y())
        )

    def _centre(self, painter: QPainter, words: str) -> None:
        box = QRectF(self.rect()).adjusted(40, 40, -40, -40)
        flags = Qt.AlignmentFlag.AlignCenter | Qt.TextFlag.TextWordWrap
        area = painter.boundingRect(box, flags, words).adjusted(-12, -8, 12, 8)
        painter.fillRect(area, QColor(31, 31, 31, 235))
        painter.setPen(QColor(theme.TEXT))
        painter.drawText(area, flags, words)

    # --- hands ---
    def resizeEvent(self, event: QResizeEvent) -> None:
        if self.fitted:
            self.fit()

    def wheelEvent(self, event: QWheelEvent) -> None:
        turned = event.angleDelta().y()  # a touch-pad sends small parts of a notch, a wheel turned sideways none
        if turned:
            self.zoom_about(event.position(), 1.25 ** (turned / NOTCH))

    def mousePressEvent(self, event: QMouseEvent) -> None:
        self.setFocus()
        point = event.position()
        if event.button() == Qt.MouseButton.MiddleButton or (
            event.button() == Qt.MouseButton.LeftButton and self._space
        ):
            self._pan = point
            return
        if event.button() != Qt.MouseButton.LeftButton:
            return
        wiped = self.desk.wipe or self.desk.comparing == "wipe"
        if wiped and abs(point.x() - self.wipe_at * self.width()) < 6:
            self._wiping = True
            return
        if self.desk.shot.plate is not None and (self.desk.overlays or self.tool.asks):
            self.tool.press(self, point, event.modifiers())
        self.update()

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        point = event.position()
        self.pointer = point
        if self._pan is not None:
            self.offset += point - self._pan
            self._pan, self.fitted = point, False
        elif self._wiping:
            self.wipe_at = min(max(point.x() / max(self.width(), 1), 0.0), 1.0)
        else:
            self.tool.move(self, point, event.modifiers())
        self.probed.emit(self.to_plate(point))
        self.update()

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        if self._pan is not None:
            self._pan = None
        elif self._wiping:
            self._wiping = False
        elif event.button() == Qt.MouseButton.LeftButton:
            self.tool.release(self, event.position())
        self.update()

    def mouseDoubleClickEvent(self, event: QMouseEvent) -> None:
        if event.button() == Qt.MouseButton.LeftButton:
            self.tool.double(self, event.position())
            self.update()

    def keyPressEvent(self, event: QKeyEvent) -> None:
        if event.key() == Qt.Key.Key_Space and not event.isAutoRepeat():
            self._space = True
        elif not self.tool.key(self, event):
            super().keyPressEvent(event)
        self.update()

    def keyReleaseEvent(self, event: QKeyEvent) -> None:
        if event.key() == Qt.Key.Key_Space and not event.isAutoRepeat():
            self._space = False
        super().keyReleaseEvent(event)

    def leaveEvent(self, event: QEvent) -> None:
        self.pointer = None
        self.probed.emit(None)

    def probe(self, x: float, y: float) -> dict[str, object] | None:
        """Values at a pixel of the plate, or of the zone's own picture where that is shown: linear, and alpha."""
        desk, own = self.desk, self.desk.own_zone
        source, (width, height) = desk.shot.plate_source, self.picture_size
        if source is None or desk.view == "Delivery" or not (0 <= x < width and 0 <= y < height):
            return None
        picture = picture_of(source, desk.frame) if own is None else zone_picture(desk.shot, own, desk.frame)
        pixels = self.server.store.pixels_if_there(picture)
        if pixels is None:
            return None
        try:
            zone, alpha = desk.zone, None
            if zone is not None and (own is not None) == reads_own(desk.shot, zone):
                cut = zone_matte_plan(desk.shot, zone, desk.frame)
                made = None if cut is None else self.server.store.made_if_there(cut)
                alpha = None if made is None else float(made.alpha[int(y), int(x)])
            return {"linear": [float(v) for v in pixels[int(y), int(x)]], "alpha": alpha}
        except MediaError:
            return None
