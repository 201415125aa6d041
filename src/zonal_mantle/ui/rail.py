"""The rail: frames, keys, residuals, cached frames, findings, playhead; playing; the progress of long work."""

from __future__ import annotations

import time
from typing import Any

from PySide6.QtCore import QPointF, QRectF, Qt, QTimer, Signal
from PySide6.QtGui import (
    QBrush,
    QColor,
    QContextMenuEvent,
    QMouseEvent,
    QPainter,
    QPaintEvent,
    QPen,
    QPixmap,
    QPolygonF,
)  # fmt: skip
from PySide6.QtWidgets import QHBoxLayout, QLabel, QMenu, QProgressBar, QVBoxLayout, QWidget

from ..comp import reason_set_aside
from ..shot.lock import SHOWN_TIMES
from ..words import say
from . import theme
from .desk import Desk
from .guard import guarded
from .railkeys import RailKeys
from .server import FrameServer
from .viewer import Viewer
from .widgets import push_button, tool_button

MARGIN = 14
PATCH_TOP = 10.0  # ΔE at the top of the graph
GRAPH_PX = (0.2, 0.5, 1.0, 2.0, 5.0, 10.0, 20.0, 50.0)  # errors of which one is at the top of the graph


@guarded
class Track(QWidget):
    """The painted part of the rail."""

    def __init__(self, desk: Desk, viewer: Viewer) -> None:
        super().__init__()
        self.desk, self.viewer = desk, viewer
        self.keys = RailKeys(desk)
        self._held: int | None = None  # the frame of the key that is dragged, and where it is now
        self._held_to: int | None = None
        self._pins: list[int] = []
        self._kept: tuple[tuple[Any, ...], tuple[Any, ...], QPixmap] | None = None  # what it stands for; its picture
        self._seen_kept: tuple[Any, ...] = ()
        self._ready: list[tuple[int, int]] = []  # runs of frames that can be shown at once, first and last
        self.setMinimumHeight(46)
        self.setMouseTracking(True)
        self.setAccessibleName(say("Rail"))
        for signal in (
            desk.shot_changed,
            desk.frame_changed,
            desk.choice_changed,
            desk.view_changed,
            desk.readings_changed,
        ):
            signal.connect(self.update)

    def x_of(self, frame: float) -> float:
        """The middle of a frame on the rail."""
        shot = self.desk.shot
        span = max(shot.last - shot.first, 1)
        return MARGIN + (frame - shot.first) / span * (self.width() - 2 * MARGIN)

    def frame_at(self, x: float) -> int:
        """The frame under a place on the rail."""
        shot = self.desk.shot
        return round(shot.first + (x - MARGIN) / max(self.width() - 2 * MARGIN, 1) * (shot.last - shot.first))

    def paintEvent(self, event: QPaintEvent) -> None:
        painter = QPainter(self)
        if self.desk.shot.plate is None:
            painter.fillRect(self.rect(), QColor(theme.GROUND))
            return
        painter.drawPixmap(0, 0, self._still())
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        step, _ = self._labelled()
        for first, last in self._ready:
            left, right = self.x_of(first) - step / 2, self.x_of(last) + step / 2
            painter.fillRect(QRectF(left, self.height() - 4, right - left + 0.5, 3), QColor("#5d8f80"))
        painter.setFont(theme.font(11))
        self._paint_here(painter)

    def _still(self) -> QPixmap:
        """All of it but where one is, painted anew when something of it changed: a shot is played without that."""
        desk = self.desk
        ratio = self.devicePixelRatioF()
        parts = (desk.shot, desk.readings, desk.patch_curves)  # values that never change: told apart by identity
        plain = (
            self.size(), ratio, self.viewer.server.cache.version, self.viewer.wanted(desk.shot.first), desk.zone_id,
            desk.lock_id, desk.stage, desk.finish_part, desk.match_part, self._held, self._held_to,
        )  # fmt: skip
        if self._kept is not None and self._kept[1] == plain and all(x is y for x, y in zip(self._kept[0], parts)):
            return self._kept[2]
        self._ready = _runs(sorted(self.viewer.cached_frames()))
        seen = self._seen()
        if self._kept is None or self._seen_kept != seen:
            picture = QPixmap(self.size() * ratio)
            picture.setDevicePixelRatio(ratio)
            painter = QPainter(picture)
            painter.setRenderHint(QPainter.RenderHint.Antialiasing)
            self._paint_still(painter)
            painter.end()
            self._seen_kept = seen
        else:
            picture = self._kept[2]
        self._kept = (parts, plain, picture)
        return picture

    def _seen(self) -> tuple[Any, ...]:
        """All that is painted: while a number is dragged the shot changes with every step, and mostly none of this."""
        desk, shot = self.desk, self.desk.shot
        self._pins = self.keys.frames()
        zone, readings = desk.zone, desk.readings
        place = readings.places.get(zone.id) if zone is not None and desk.stage == "Place" else None
        lock = desk.solving.seen(desk.lock)
        curve = None if lock is None else (lock.reference_frame, lock.solved, bool(lock.marks or lock.field))
        marks = [finding.frame for finding in readings.findings if reason_set_aside(shot, finding) is None]
        patches = None if desk.patch_curves is None else (desk.patch_curves[1], desk.patch_curves[0] == shot.patches)
        return (
            self.size(), self.devicePixelRatioF(), shot.first, shot.last, shot.work, curve,
            None if place is None else tuple(place.coverage.short_on), marks, patches, list(self._pins),
            self._held, self._held_to,
        )  # fmt: skip

    def _labelled(self) -> tuple[float, int]:
        """How wide a frame is, and every how many of them has its number."""
        shot = self.desk.shot
        step = self.x_of(shot.first + 1) - self.x_of(shot.first) if shot.last > shot.first else 0
        return step, next((n for n in (1, 2, 4, 5, 8, 10, 20, 25, 50, 100, 200, 500) if n * step > 46), 1000)

    def _paint_still(self, painter: QPainter) -> None:
        painter.fillRect(self.rect(), QColor(theme.GROUND))
        shot, height = self.desk.shot, self.height()
        painter.setFont(theme.font(11))
        step, every = self._labelled()
        for frame in shot.frames:
            x = self.x_of(frame)
            labelled = (frame - shot.first) % every == 0
            painter.setPen(QColor(theme.DIM if labelled else theme.LINE))
            painter.drawLine(QPointF(x, 14), QPointF(x, 18 if labelled else 16))
            if labelled:
                painter.drawText(QRectF(x - 30, 0, 60, 13), Qt.AlignmentFlag.AlignCenter, str(frame))
        if shot.work is not None:  # frames that are not worked on are shaded
            work = shot.work_frames
            for left, right in ((0.0, self.x_of(work[0]) - step / 2), (self.x_of(work[-1]) + step / 2, self.width())):
                painter.fillRect(QRectF(left, 13, max(right - left, 0), height - 13), QColor(0, 0, 0, 110))
        zone = self.desk.zone
        place = self.desk.readings.places.get(zone.id) if zone is not None else None
        if place is not None and self.desk.stage == "Place":
            hatched = QBrush(QColor(theme.WARN), Qt.BrushStyle.BDiagPattern)
            for frame in place.coverage.short_on if place.runs_out else ():
                painter.fillRect(QRectF(self.x_of(frame) - step / 2, 15, step + 0.5, 9), hatched)
        self._paint_residuals(painter)
        self._paint_patches(painter)
        for frame in self._pins:
            self._paint_pin(painter, frame, full=False)
        for finding in self.desk.readings.findings:
            if reason_set_aside(shot, finding) is not None:
                continue
            x = self.x_of(finding.frame)
            painter.setPen(Qt.PenStyle.NoPen)
            painter.setBrush(QColor(theme.WARN))
            painter.drawPolygon(
                QPolygonF([QPointF(x - 4, height - 5), QPointF(x + 4, height - 5), QPointF(x, height - 12)])
            )

    def _paint_here(self, painter: QPainter) -> None:
        """Where one is: over numbers that would stand under its own."""
        shot, here = self.desk.shot, self.desk.frame
        x, (step, every) = self.x_of(here), self._labelled()
        reach = int(38 / step) + 1 if step else 0
        for frame in range(max(here - reach, shot.first), min(here + reach, shot.last) + 1):
            if (frame - shot.first) % every == 0 and abs(self.x_of(frame) - x) <= 38:
                painter.fillRect(QRectF(self.x_of(frame) - 23, 0, 46, 13), QColor(theme.GROUND))
        if here in self._pins:
            self._paint_pin(painter, here, full=True)
        painter.setPen(QPen(QColor(theme.ACCENT), 1.5))
        painter.drawLine(QPointF(x, 14), QPointF(x, self.height()))
        text = str(here)
        wide = painter.fontMetrics().horizontalAdvance(text) + 8
        box = QRectF(min(max(x - wide / 2, 0), self.width() - wide), 0, wide, 14)
        painter.fillRect(box, QColor(theme.ACCENT))
        painter.setPen(QColor("#101010"))
        painter.drawText(box, Qt.AlignmentFlag.AlignCenter, text)

    def _paint_residuals(self, painter: QPainter) -> None:
        lock = self.desk.solving.seen(self.desk.lock)
        if lock is None:
            return
        top, bottom = 20.0, self.height() - 14.0
        x = self.x_of(lock.reference_frame)
        if lock.marks or lock.field or lock.solved:
            painter.setPen(QPen(QColor("#8a8a8a"), 1, Qt.PenStyle.DotLine))
            painter.drawLine(QPointF(x, top - 4), QPointF(x, self.height() - 4))
        if not lock.solved:
            return
        worst = max(lock.solved, key=lambda entry: entry.residual_px)
        zone = self.desk.zone
        ride = self.desk.readings.rides.get(zone.id) if zone is not None and zone.placement.rides == lock.id else None
        needed = max(SHOWN_TIMES * worst.residual_px, 0.0 if ride is None else ride.worst_px)
        most = next((top for top in GRAPH_PX if top >= needed), GRAPH_PX[-1])

        def curve(times: float) -> list[QPointF]:
            """So many times the error that is told, frame by frame."""
            shares = [(entry.frame, min(times * entry.residual_px / most, 1.0)) for entry in lock.solved]
            return [QPointF(self.x_of(frame), bottom - share * (bottom - top)) for frame, share in shares]

        band = QColor("#56B4E9")
        band.setAlpha(90)
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(band)
        ends = [QPointF(self.x_of(entry.frame), bottom) for entry in (lock.solved[-1], lock.solved[0])]
        painter.drawPolygon(QPolygonF([*curve(SHOWN_TIMES), *ends]))
        painter.setPen(QPen(QColor(theme.LINE), 1))
        painter.drawLine(QPointF(MARGIN, bottom), QPointF(self.width() - MARGIN, bottom))
        painter.setPen(QPen(QColor("#56B4E9"), 1.4))
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.drawPolyline(QPolygonF(curve(1.0)))
        sure = [
            QPointF(self.x_of(e.frame), bottom - min(max(e.confidence, 0.0), 1.0) * (bottom - top)) for e in lock.solved
        ]
        painter.setPen(QPen(QColor(theme.DIM), 1, Qt.PenStyle.DotLine))
        painter.drawPolyline(QPolygonF(sure))
        if worst.residual_px == 0:  # the reference frame alone: nothing is told of the others
            return
        painter.setPen(QColor(theme.DIM))
        words = say(
            "error < {shown_times:.2f} px ({frame})", shown_times=SHOWN_TIMES * worst.residual_px, frame=worst.frame
        )
        if ride is not None:
            painter.setPen(QPen(QColor(theme.WARN), 1.4, Qt.PenStyle.DashLine))
            shares = [(frame, min(px / most, 1.0)) for frame, px in sorted(ride.frames_px.items())]
            painter.drawPolyline(
                QPolygonF([QPointF(self.x_of(frame), bottom - share * (bottom - top)) for frame, share in shares])
            )
            painter.setPen(QColor(theme.DIM))
            words += say(" · zone < {px:.1f} px ({frame}, dashed)", px=ride.worst_px, frame=ride.worst_frame)
        at = min(self.x_of(worst.frame) + 4, self.width() - painter.fontMetrics().horizontalAdvance(words) - 6)
        wide = painter.fontMetrics().horizontalAdvance(words)
        painter.fillRect(QRectF(at - 3, top - 5, wide + 6, 14), QColor(theme.GROUND))
        painter.drawText(QPointF(at, top + 6), words)

    def _paint_patches(self, painter: QPainter) -> None:
        """How far the colours of followed patches are from those of their own frame."""
        known = self.desk.patch_curves
        if known is None or known[0] != self.desk.shot.patches or not known[1]:
            return
        top, bottom = 20.0, self.height() - 14.0
        for number, curve in enumerate(known[1]):
            run: list[QPointF] = []
            painter.setPen(QPen(theme.zone_colour(number), 1.4, Qt.PenStyle.DashLine))
            for frame, value in [*zip(curve.frames, curve.delta_e), (0, None)]:
                if value is None:
                    painter.drawPolyline(QPolygonF(run))
                    run = []
                else:
                    run.append(QPointF(self.x_of(frame), bottom - min(value / PATCH_TOP, 1.0) * (bottom - top)))
        worst = max(curve.worst for curve in known[1])
        painter.setPen(QColor(theme.DIM))
        painter.drawText(
            QPointF(MARGIN, top + 6),
            say("patches ≤ {worst:.1f} ΔE (dashed; {patch_top:g} at the top)", worst=worst, patch_top=PATCH_TOP),
        )

    def _paint_pin(self, painter: QPainter, frame: int, full: bool) -> None:
        """A key is a pin: a stem with a round head, full on the frame at hand."""
        painter.setPen(QPen(QColor(theme.TEXT), 1))
        x, y = self.x_of(self._held_to if frame == self._held and self._held_to else frame), self.height() - 11.0
        painter.drawLine(QPointF(x, y), QPointF(x, self.height() - 4))
        painter.setBrush(QColor(theme.TEXT) if full else QColor(theme.GROUND))
        painter.drawEllipse(QPointF(x, y), 3.2, 3.2)

    # --- hands ---
    def _key_at(self, point: QPointF) -> int | None:
        """The frame of the key under a place."""
        if point.y() < self.height() - 18:
            return None
        near = [frame for frame in self.keys.frames() if abs(self.x_of(frame) - point.x()) < 6]
        return min(near, key=lambda frame: abs(self.x_of(frame) - point.x())) if near else None

    def mousePressEvent(self, event: QMouseEvent) -> None:
        if event.button() != Qt.MouseButton.LeftButton:
            return
        self._held = self._held_to = self._key_at(event.position())
        if self._held is None:
            self._go(event)

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        frame = self.frame_at(event.position().x())
        words = [finding.words for finding in self.desk.readings.findings if finding.frame == frame]
        self.setToolTip("\n".join([say("Frame {frame}", frame=frame), *words]))
        if self._held is not None:
            self._held_to = min(max(frame, self.desk.shot.first), self.desk.shot.last)
            self.update()
        elif event.buttons() & Qt.MouseButton.LeftButton:
            self._go(event)

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        held, to = self._held, self._held_to
        self._held = self._held_to = None
        if held is None or to is None:
            return
        if held == to:
            self.desk.set_frame(held)
        else:
            self.keys.move(held, to)
        self.update()

    def contextMenuEvent(self, event: QContextMenuEvent) -> None:
        if self.desk.shot.plate is None:
            return
        self.desk.set_frame(self.frame_at(event.pos().x()))
        menu = QMenu(self)
        for words, act in (
            ("Copy keys of this frame", self.keys.copy),
            ("Paste keys on this frame", self.keys.paste),
            ("Delete keys of this frame", self.keys.delete),
        ):
            menu.addAction(say(words), act)
        menu.exec(event.globalPos())

    def _go(self, event: QMouseEvent) -> None:
        if self.desk.shot.plate is not None:
            self.desk.set_frame(self.frame_at(event.position().x()))


def _runs(frames: list[int]) -> list[tuple[int, int]]:
    """First and last of each run of frames that follow one another."""
    runs: list[tuple[int, int]] = []
    for frame in frames:
        if runs and runs[-1][1] == frame - 1:
            runs[-1] = (runs[-1][0], frame)
        else:
            runs.append((frame, frame))
    return runs


class Rail(QWidget):
    """Track, play controls, and what is running."""

    findings_wanted = Signal()

    def __init__(self, desk: Desk, viewer: Viewer, server: FrameServer) -> None:
        super().__init__()
        self.desk, self.viewer = desk, viewer
        self.track = Track(desk, viewer)
        self.track.setToolTip(say("Click or drag to go to a frame"))
        self.play = tool_button("play", "Play or stop (L). Plays in real time once frames are cached", self.toggle_play)
        self.rate = QLabel()
        self.message = QLabel()
        self.message.setFont(theme.font(11))
        self.progress = QProgressBar()
        self.progress.setFixedSize(120, 10)
        self.progress.setTextVisible(False)
        self.progress.setStyleSheet(
            f"QProgressBar {{ background: {theme.GROUND}; border: 1px solid {theme.LINE}; }}"
            f"QProgressBar::chunk {{ background: {theme.ACCENT}; }}"
        )
        self.job_words = QLabel()
        self.job_words.setFont(theme.font(11))
        self.cancel = tool_button(
            "x", "Cancel what is running (Esc). Everything stays as it was before", desk.cancel_job
        )
        bar = QHBoxLayout()
        bar.setContentsMargins(6, 0, 6, 0)
        bar.setSpacing(2)
        for part in (
            tool_button("skip-back", "First frame (Home)", lambda: desk.set_frame(desk.shot.first)),
            tool_button("chevron-left", "One frame back (comma)", lambda: desk.set_frame(desk.frame - 1)),
            self.play,
            tool_button("chevron-right", "One frame on (full stop)", lambda: desk.set_frame(desk.frame + 1)),
            tool_button("skip-forward", "Last frame (End)", lambda: desk.set_frame(desk.shot.last)),
            self.rate,
        ):
            bar.addWidget(part)
        bar.addSpacing(10)
        bar.addWidget(self.message, 1)
        self.findings = push_button(
            "Findings", "Opens the drawer of findings, or puts it away", self.findings_wanted.emit
        )
        for part in (self.job_words, self.progress, self.cancel, self.findings):
            bar.addWidget(part)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(0)
        layout.addLayout(bar)
        layout.addWidget(self.track, 1)
        self.setMinimumHeight(70)
        self.setMaximumHeight(160)
        self._timer = QTimer(self, interval=4)
        self._timer.timeout.connect(self._tick)
        self._since, self._from, self._waiting = 0.0, 0, False
        self._shown: list[float] = []
        desk.job_changed.connect(self._job)
        desk.said.connect(self.say)
        desk.shot_changed.connect(self._rate)
        server.cached.connect(self.track.update)
        self._job(-1.0, "")
        self._rate()

    def show_findings(self, words: str, wrong: bool) -> None:
        """How many findings there are, on the button that opens them."""
        self.findings.setText(say("{how}Findings: {words}", how="▲ " if wrong else "", words=words))
        self.findings.setStyleSheet(f"color: {theme.WARN};" if wrong else "")

    def say(self, words: str, trouble: bool = False) -> None:
        """One line of words, until the next."""
        self.message.setText(say(words))
        self.message.setToolTip(say(words))
        self.message.setStyleSheet(f"color: {theme.WARN if trouble else theme.DIM};")

    def _rate(self) -> None:
        shot = self.desk.shot
        work = (
            ""
            if shot.work is None
            else say(
                "   working on {work_frames}–{work_frames_2}",
                work_frames=shot.work_frames[0],
                work_frames_2=shot.work_frames[-1],
            )
        )
        self.rate.setText(
            say(
                "{rate:g} fps   {first}–{last}{work}",
                rate=float(shot.rate),
                first=shot.first,
                last=shot.last,
                work=work,
            )
            if shot.plate
            else ""
        )

    def _job(self, share: float, words: str) -> None:
        running = share >= 0
        for part in (self.progress, self.cancel, self.job_words):
            part.setVisible(running)
        self.progress.setValue(int(share * 100))
        self.job_words.setText(say(words))

    # --- playing ---
    @property
    def playing(self) -> bool:
        return self._timer.isActive()

    def toggle_play(self) -> None:
        """Starts or stops playing."""
        self.desk.set_playing(not self.playing and self.desk.shot.plate is not None)
        if self.playing:
            self._timer.stop()
            self.play.setIcon(theme.icon("play"))
            self._rate()
        elif self.desk.shot.plate is not None:
            self._since, self._from, self._shown = time.perf_counter(), self.desk.frame, []
            self._timer.start()
            self.play.setIcon(theme.icon("pause"))

    def _tick(self) -> None:
        """Real time where frames are cached; waits for those that are not, so that the next round is real."""
        shot = self.desk.shot
        count, first = len(shot.work_frames), shot.work_frames[0]
        now = time.perf_counter()
        due = self._from + int((now - self._since) * float(shot.rate))
        frame = first + (due - first) % count
        if frame == self.desk.frame:
            return
        following = first + (self.desk.frame + 1 - first) % count
        if not self.viewer.is_cached(following):
            if not self._waiting:
                self._waiting = True
                self.desk.set_frame(following)
            self._since, self._from = now, self.desk.frame
            self._waiting = not self.viewer.is_cached(self.desk.frame)
            return
        self._waiting = False
        self.desk.set_frame(frame if self.viewer.is_cached(frame) else following)
        self._shown = [*self._shown[-23:], now]
        if len(self._shown) > 4:
            fps = (len(self._shown) - 1) / (self._shown[-1] - self._shown[0])
            self.rate.setText(say("{fps:4.1f} of {rate:g} fps", fps=fps, rate=float(shot.rate)))
