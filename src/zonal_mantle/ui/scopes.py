"""Scopes below the picture: waveform or parade, vectorscope, histogram; what is seen, and what is aimed at over it."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray
from PySide6.QtCore import QPointF, QRectF, Qt, QTimer, Signal
from PySide6.QtGui import QColor, QImage, QPainter, QPaintEvent, QPen, QPolygonF
from PySide6.QtWidgets import QCheckBox, QHBoxLayout, QWidget

from ..comp import Job
from ..comp.scheduler import PROBE
from ..comp.scope_seen import Box, Of, looked_at, scope_of_part
from ..finish.scopes import HIGH, LEVELS, LOW, REACH, Kind, Scope, bar_targets
from ..shot import MantleError
from ..words import say
from . import theme
from .desk import Desk
from .guard import guarded
from .widgets import choice, chosen_of, column, note, push_button, row

SCALE = 0.5  # of what is measured, of whole pictures
SEEN, ZONE, AIM, PLATE = "What is seen", "Zone alone", "Aim alone", "Plate"
HEIGHT = 156
INKS = {"luma": (216, 216, 216), "red": (226, 120, 92), "green": (120, 196, 140), "blue": (110, 160, 232)}
AIMED = (217, 164, 65)  # ochre: what is aimed at


class Measured(NamedTuple):
    """Scopes by kind of what is seen and of what is aimed at, and why there are none."""

    seen: dict[Kind, Scope]
    aimed: dict[Kind, Scope]
    problem: str = ""


def density(counts: NDArray, ink: tuple[int, int, int]) -> NDArray[np.float32]:
    """Counts as light of an ink, (h, w, 3) 0…1: brighter by the cube root, so that few pixels are seen too."""
    top = max(float(np.percentile(counts[counts > 0], 99)) if counts.any() else 1.0, 1.0)
    share = np.cbrt(np.minimum(counts / top, 1.0))[..., None]
    return np.asarray(share * np.array(ink, np.float32) / 255, np.float32)


@guarded
class ScopeView(QWidget):
    """One scope."""

    def __init__(self, kind: Kind) -> None:
        super().__init__()
        self.kind: Kind = kind
        self.measured: Measured | None = None
        self._image: QImage | None = None
        self.setAccessibleName(say(kind).capitalize())
        self.setToolTip(
            say("Coded values as they are seen; lines at 0 and 1 (ITU-R BT.709: 0 is black, 1 is reference white)")
            if kind != "vectorscope"
            else say("Colour differences of ITU-R BT.709; boxes at the colours of 75 % bars")
        )

    def show_scope(self, measured: Measured) -> None:
        """Shows other measurements."""
        self.measured = measured
        self._image = self._drawn(measured)
        self.update()

    def _drawn(self, measured: Measured) -> QImage | None:
        seen, aimed = measured.seen.get(self.kind), measured.aimed.get(self.kind)
        if seen is None or self.kind == "histogram":
            return None
        inks = [INKS["luma"]] if len(seen.counts) == 1 else [INKS["red"], INKS["green"], INKS["blue"]]
        parts = []
        for k, ink in enumerate(inks):
            light = density(seen.counts[k], ink)
            if aimed is not None:
                light = np.maximum(
                    light, 0.9 * density(aimed.counts[k], AIMED) * (1 - light.max(axis=2, keepdims=True))
                )
            parts.append(light)
        whole = np.concatenate(parts, axis=1)
        if self.kind != "vectorscope":
            whole = whole[::-1]
        codes = np.full((*whole.shape[:2], 4), 255, np.uint8)
        codes[..., :3] = np.clip(whole[..., ::-1] * 255, 0, 255)
        image = QImage(codes.data, codes.shape[1], codes.shape[0], codes.shape[1] * 4, QImage.Format.Format_RGB32)
        image.codes = codes  # keeps the memory alive
        return image

    def _box(self) -> QRectF:
        box = QRectF(self.rect()).adjusted(4, 4, -4, -4)
        if self.kind != "vectorscope":
            return box
        side = min(box.width(), box.height())
        return QRectF(box.center().x() - side / 2, box.center().y() - side / 2, side, side)

    def level_y(self, value: float) -> float:
        """Where a coded value lies, down from the top."""
        box = self._box()
        return float(box.bottom() - (value - LOW) / (HIGH - LOW) * box.height())

    def paintEvent(self, event: QPaintEvent) -> None:
        painter = QPainter(self)
        painter.fillRect(self.rect(), QColor(theme.GROUND))
        box = self._box()
        if self._image is not None:
            painter.setRenderHint(QPainter.RenderHint.SmoothPixmapTransform)
            painter.drawImage(box, self._image)
        painter.setFont(theme.font(10))
        if self.kind == "vectorscope":
            self._vector_marks(painter, box)
        elif self.kind == "histogram":
            self._histogram(painter, box)
        else:
            self._level_marks(painter, box)
        if self.measured is not None and self.measured.problem:
            painter.setPen(QColor(theme.WARN))
            flags = Qt.AlignmentFlag.AlignCenter | Qt.TextFlag.TextWordWrap
            painter.drawText(box.adjusted(6, 6, -6, -6), flags, self.measured.problem)

    def _level_marks(self, painter: QPainter, box: QRectF) -> None:
        for value in (0.0, 0.25, 0.5, 0.75, 1.0):
            y = self.level_y(value)
            strong = value in (0.0, 1.0)
            painter.setPen(QPen(QColor(theme.DIM if strong else theme.LINE), 1))
            painter.drawLine(QPointF(box.left(), y), QPointF(box.right(), y))
            painter.setPen(QColor(theme.DIM))
            painter.drawText(QPointF(box.left() + 2, y - 2), f"{value:g}")

    def _vector_marks(self, painter: QPainter, box: QRectF) -> None:
        def spot(cb: float, cr: float) -> QPointF:
            return QPointF(
                box.center().x() + cb / REACH * box.width() / 2, box.center().y() - cr / REACH * box.height() / 2
            )

        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setPen(QPen(QColor(theme.LINE), 1))
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.drawLine(spot(-0.5, 0), spot(0.5, 0))
        painter.drawLine(spot(0, -0.5), spot(0, 0.5))
        hexagon = QPolygonF([spot(*place) for place in bar_targets(1.0).values()])
        painter.drawPolygon(hexagon)
        for name, place in bar_targets(0.75).items():
            at = spot(*place)
            painter.setPen(QPen(QColor(theme.DIM), 1))
            painter.drawRect(QRectF(at.x() - 3, at.y() - 3, 6, 6))
            out = spot(place[0] * 1.42, place[1] * 1.42)
            painter.drawText(QRectF(out.x() - 30, out.y() - 7, 60, 14), Qt.AlignmentFlag.AlignCenter, say(name))

    def _histogram(self, painter: QPainter, box: QRectF) -> None:
        for value in (0.0, 0.25, 0.5, 0.75, 1.0):
            x = box.left() + (value - LOW) / (HIGH - LOW) * box.width()
            painter.setPen(QPen(QColor(theme.DIM if value in (0.0, 1.0) else theme.LINE), 1))
            painter.drawLine(QPointF(x, box.top()), QPointF(x, box.bottom()))
            painter.setPen(QColor(theme.DIM))
            painter.drawText(QPointF(x + 2, box.top() + 9), f"{value:g}")
        if self.measured is None or "histogram" not in self.measured.seen:
            return
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        seen = self.measured.seen["histogram"]
        inks = [INKS["red"], INKS["green"], INKS["blue"], INKS["luma"]]
        for counts, ink in zip(seen.counts, inks):
            self._outline(painter, box, counts, seen.pixels, QPen(QColor(*ink), 1.2))
        aimed = self.measured.aimed.get("histogram")
        if aimed is not None:
            pen = QPen(QColor(*AIMED), 1.4, Qt.PenStyle.DashLine)
            self._outline(painter, box, aimed.counts[3], aimed.pixels, pen)

    @staticmethod
    def _outline(painter: QPainter, box: QRectF, counts: NDArray, pixels: int, pen: QPen) -> None:
        share = np.convolve(counts / max(pixels, 1), np.ones(3) / 3, "same")
        tall = np.minimum(np.sqrt(share / 0.04), 1.0)  # a level that a twenty-fifth of all pixels has reaches the top
        step = box.width() / LEVELS
        painter.setPen(pen)
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.drawPolyline(
            QPolygonF(
                [QPointF(box.left() + (k + 0.5) * step, box.bottom() - v * box.height()) for k, v in enumerate(tall)]
            )
        )


@guarded
class Scopes(QWidget):
    """The scopes and what they look at. They follow the frame, also while it plays."""

    _arrived = Signal(object, object)
    region_wanted = Signal()
    patch_wanted = Signal()

    def __init__(self, desk: Desk) -> None:
        super().__init__()
        self.desk = desk
        self.region: Box | None = None
        self.asked: object = None
        self.shown: object = None  # what of `asked` stands on the screen
        self.measured: Measured | None = None
        self.of = choice([SEEN, ZONE, AIM, PLATE], "What the scopes look at", lambda _: self.refresh())
        self.over = QCheckBox(say("Overlay aim"))
        self.over.setToolTip(say("Draws what the chosen zone is compared with over it, in ochre"))
        self.over.clicked.connect(lambda _: self.refresh())
        self.levels = choice(["waveform", "parade"], "Luma, or red, green and blue beside one another", self._levels)
        self.limit = push_button("Region…", "Drag the only part that counts; again: all of it", self._limit)
        self.limit.setCheckable(True)
        self.patch = push_button("Follow a patch…", "Drag a patch whose colour is followed over the shot", self._patch)
        self.clear = push_button("Clear", "No patches", self._clear)
        self.words = note()
        left = column(3, (6, 4, 6, 4))
        left.addWidget(self.of)
        left.addLayout(row(self.levels, self.over))
        left.addLayout(row(self.limit, self.words))
        left.addLayout(row(self.patch, self.clear))
        left.addStretch(1)
        side = QWidget()
        side.setLayout(left)
        side.setFixedWidth(190)
        kinds: dict[str, Kind] = {"levels": "waveform", "vectorscope": "vectorscope", "histogram": "histogram"}
        self.views = {name: ScopeView(kind) for name, kind in kinds.items()}
        self.views["vectorscope"].setFixedWidth(HEIGHT)
        layout = QHBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(1)
        layout.addWidget(side)
        for name, share in (("levels", 3), ("vectorscope", 0), ("histogram", 2)):
            layout.addWidget(self.views[name], share)
        self.setFixedHeight(HEIGHT)
        self._soon = QTimer(self, singleShot=True, interval=0)
        self._soon.timeout.connect(self._measure)
        self._arrived.connect(self._take)
        for signal in (desk.shot_changed, desk.frame_changed, desk.view_changed, desk.choice_changed):
            signal.connect(self.refresh)

    def refresh(self) -> None:
        """Measures anew, where the scopes are seen."""
        if self.isVisible() and self.desk.shot.plate is not None:
            self._soon.start()
        self.clear.setEnabled(bool(self.desk.shot.patches))

    def showEvent(self, event: object) -> None:
        self.refresh()

    def _levels(self, kind: str) -> None:
        self.views["levels"].kind = kind  # type: ignore[assignment]
        self.refresh()

    def _limit(self) -> None:
        if self.region is not None:
            self.set_region(None)
        else:
            self.region_wanted.emit()

    def set_region(self, region: Box | None) -> None:
        """The only part of the picture that counts, in plate pixels."""
        self.region = region
        self.limit.setChecked(region is not None)
        self.words.setText("" if region is None else f"{region[2] - region[0]:.0f} × {region[3] - region[1]:.0f}")
        self.refresh()

    def _patch(self) -> None:
        self.patch_wanted.emit()

    def _clear(self) -> None:
        self.desk.edit(self.desk.shot.but(patches=()), "Clear the patches")

    def looked_at(self) -> Of:
        """What the scopes look at now."""
        chosen = chosen_of(self.of)
        if chosen in (ZONE, AIM):
            return "Zone" if chosen == ZONE else "Aim"
        if chosen == PLATE or self.desk.view == "Plate":
            return "Plate"
        return "Composite" if self.desk.view == "Composite" else "Finished"

    def _measure(self) -> None:
        desk, region = self.desk, self.region
        shot, frame, zone, of, store = desk.seen_shot, desk.frame, desk.zone_id, self.looked_at(), desk.store
        kinds: tuple[Kind, ...] = (self.views["levels"].kind, "vectorscope", "histogram")
        over = self.over.isChecked()
        key = (desk.seen_revision, frame, zone, of, kinds, region, over)
        self.asked = key

        def work(job: Job) -> Measured:
            try:
                seen = looked_at(shot, frame, store, of, zone, SCALE)
                found = {kind: scope_of_part(seen, shot.size, kind, region) for kind in kinds}
                aimed: dict[Kind, Scope] = {}
                if over:
                    aim = looked_at(shot, frame, store, "Aim", zone)
                    aimed = {kind: scope_of_part(aim, shot.size, kind, None) for kind in kinds}
            except MantleError as problem:
                return Measured({}, {}, str(problem))
            return Measured(found, aimed)

        desk.scheduler.submit("scopes", Job(work, on_end=lambda result, error: self._arrived.emit(key, result)), PROBE)

    def _take(self, key: object, measured: Measured | None) -> None:
        if measured is None:
            return
        self.measured, self.shown = measured, key
        for view in self.views.values():
            view.show_scope(measured)
