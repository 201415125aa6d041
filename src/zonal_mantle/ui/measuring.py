"""The shot's readings, taken in the background whenever it changed."""

from __future__ import annotations

import time
from collections.abc import Callable
from dataclasses import replace
from typing import TYPE_CHECKING

from PySide6.QtCore import QObject, QTimer, Signal

from ..comp import Job, Readings, take_readings
from ..comp.scheduler import READINGS
from ..media.memory import is_large
from ..shot import MantleError
from ..words import say

if TYPE_CHECKING:
    from .desk import Desk

WAIT_MS = 700  # without a change, before the shot is measured
MOST_WAITS, MOST_WAITS_LARGE = 5, 200  # of these, that readings give way to the picture
GIVES_WAY_S = 2.0  # that a frame's reading waits for a picture, at most


class Measuring(QObject):
    """Takes the readings of the desk's shot; `known` is what came of it last."""

    _measured = Signal(object, object, object)
    _partly = Signal(object, object)

    def __init__(self, desk: Desk) -> None:
        super().__init__(desk)
        self.desk = desk
        self.known = Readings()
        self.reader: Job | None = None
        self._waited = 0  # times that the readings have given way to the picture
        self._measured.connect(self._readings_taken)
        self._partly.connect(self._some_readings_taken)
        self._soon = QTimer(self, singleShot=True, interval=WAIT_MS)
        self._soon.timeout.connect(self.begin)

    @property
    def is_going(self) -> bool:
        """Whether readings of the shot as it is now are being taken, or will be at once."""
        return self.reader is not None or self._soon.isActive()

    def soon(self) -> None:
        """The shot changed: it is measured once nothing changes for a moment."""
        self._soon.start()

    def begin(self) -> None:
        """Measures the shot as it is, or later where somebody waits for its picture."""
        if self.desk.shot.plate is None:
            return
        most = MOST_WAITS_LARGE if is_large(self.desk.shot.size) else MOST_WAITS
        if self._waited < most and not self.desk.is_showing():  # the picture comes first: both want all cores
            self._waited += 1
            self._soon.start()
            return
        self._waited = 0
        if self.reader is not None:
            self.reader.cancel()
        shot = self.desk.shot
        job: Job
        job = Job(
            lambda j: take_readings(
                shot, self.desk.store, self.giving_way(j), part=lambda some: self._partly.emit(job, some)
            ),
            on_end=lambda r, e: self._measured.emit(job, r, e),
        )
        self.reader = self.desk.scheduler.submit("readings", job, READINGS, stop_running=True)
        self.desk.measuring_began.emit()

    def giving_way(self, job: Job) -> Callable[[float, str], None]:
        """The progress of readings, which wait at each frame for the picture that somebody waits for."""

        def progress(share: float, words: str) -> None:
            end = time.monotonic() + GIVES_WAY_S
            while self.desk.scheduler.is_busy("pictures") and time.monotonic() < end:
                time.sleep(0.005)
            job.progress(share, words)

        return progress

    def _some_readings_taken(self, job: Job, some: Readings) -> None:
        """Those of the mattes and of grain stand until the new ones are there: they take longest."""
        if job is self.reader:
            if some.mattes and not self.known.mattes:
                self.known = some  # of some frames, which is more than nothing
                self.desk.readings_changed.emit()
                return
            known, grains = self.known, some.grains or self.known.grains
            kept = [f for f in known.findings if f.stage == "Matte" or (f.fault == "grain" and not some.grains)]
            found = [*some.findings, *kept]
            self.known = replace(some, mattes=known.mattes, grains=grains, findings=found, partly=known.partly)
            self.desk.readings_changed.emit()

    def _readings_taken(self, job: Job, readings: Readings | None, error: Exception | None) -> None:
        if job is not self.reader:
            return
        self.reader = None
        if error is not None:
            why = (
                str(error) if isinstance(error, MantleError) else say("{error}. The log has the details.", error=error)
            )
            self.desk.said.emit(say("The readings could not be taken: {why}", why=why), True)
            self.desk.readings_changed.emit()
            return
        if readings is not None:
            self.known = readings
            self.desk.readings_changed.emit()

    def close(self) -> None:
        """The window ends."""
        self._soon.stop()
