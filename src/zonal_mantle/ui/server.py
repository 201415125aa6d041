"""Pictures for the viewer, made by the scheduler: the newest request wins, idle time fills the screen's cache."""

from __future__ import annotations

import logging
import math
import threading
from collections import OrderedDict
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray
from PySide6.QtCore import QObject, Signal

from ..comp import Look, Pictures, Scheduler, ViewName, view
from ..comp.first_answer import FirstAnswers, QuickAnswers, awaited
from ..comp.openings import Openings
from ..comp.plan import SkyStudy
from ..comp.scheduler import AHEAD, PICTURE, Job
from ..comp.views import view_key
from ..media.memory import budget, one_at_a_time
from ..shot import MantleError, Shot
from ..words import say
from .preferences import screen_bytes

log = logging.getLogger(__name__)
Codes = NDArray[np.uint8]
SCREEN_SHARE = 0.28  # of the budget
DRAGS_SHARE = 0.03  # of it, for mattes while something is dragged
MOST_NAMES = 50_000
PROXY_PIXELS = 1_200_000  # of a picture while something is dragged
UNCUT = ("Plate", "Painting", "Difference")  # views of which no matte is part


def proxy_scale(size: tuple[int, int]) -> float:
    """The scale of what is shown while something is dragged: a half, or as often half of that as the plate is larger
    than usual.

    >>> proxy_scale((1920, 1080)), proxy_scale((3840, 2160)), proxy_scale((8192, 4320))
    (0.5, 0.25, 0.125)
    """
    scale = 0.5
    while math.prod(size) * scale**2 > PROXY_PIXELS:
        scale /= 2
    return scale


@dataclass(frozen=True)
class Wanted:
    """One picture as the viewer asks for it. Two states of the shot have two revisions (`Desk.revision`). first : it
    is a first answer, see `comp.first_answer`."""

    revision: int
    frame: int
    view: ViewName
    zone: str | None
    scale: float
    look: Look
    first: bool = False


class ScreenCache:
    """Pictures by what they depend on, with the names that they are asked for by. Those of other revisions of the shot
    go first, however lately they were looked at."""

    def __init__(self, limit_bytes: int) -> None:
        self.limit, self.used = limit_bytes, 0
        self.version = 0  # one more whenever something came or went
        self._codes: OrderedDict[str, tuple[Codes, int]] = OrderedDict()
        self._names: OrderedDict[Wanted, str] = OrderedDict()
        self._lock = threading.Lock()

    def get(self, wanted: Wanted) -> Codes | None:
        """The picture that was asked for by this name, or None."""
        with self._lock:
            return self._get(self._names.get(wanted, ""), wanted)

    def found(self, key: str, wanted: Wanted) -> Codes | None:
        """The picture with a key, which is known by this name too from now on; or None."""
        with self._lock:
            codes = self._get(key, wanted)
            if codes is not None:
                self._name(wanted, key)
                self.version += 1
            return codes

    def put(self, key: str, wanted: Wanted, codes: Codes, ahead: bool) -> bool:
        """Keeps a picture. One made ahead does not push out another of its revision: False where there is no room."""
        with self._lock:
            while self.used + codes.nbytes > self.limit and self._codes:
                old = next((k for k, (_, revision) in self._codes.items() if revision != wanted.revision), None)
                if old is None and ahead:
                    return False
                gone, _ = self._codes.pop(next(iter(self._codes)) if old is None else old)
                self.used -= gone.nbytes
            if key in self._codes:
                self.used -= self._codes.pop(key)[0].nbytes
            self._codes[key] = (codes, wanted.revision)
            self.used += codes.nbytes
            self._name(wanted, key)
            self.version += 1
            return True

    def resize(self, limit_bytes: int) -> None:
        """Another limit; what is too much goes, the oldest first."""
        with self._lock:
            self.limit = limit_bytes
            self.version += 1
            while self.used > self.limit and self._codes:
                gone, _ = self._codes.pop(next(iter(self._codes)))
                self.used -= gone.nbytes

    def clear(self) -> None:
        """Lets everything go."""
        with self._lock:
            self._codes.clear()
            self._names.clear()
            self.version += 1
            self.used = 0

    def missing(self, wanted: list[Wanted]) -> list[Wanted]:
        """Those of some that are not there."""
        with self._lock:
            return [each for each in wanted if self._names.get(each, "") not in self._codes]

    def __contains__(self, wanted: Wanted) -> bool:
        with self._lock:
            return self._names.get(wanted, "") in self._codes

    def _get(self, key: str, wanted: Wanted) -> Codes | None:
        entry = self._codes.get(key)
        if entry is None:
            return None
        self._codes[key] = (entry[0], wanted.revision)
        self._codes.move_to_end(key)
        return entry[0]

    def _name(self, wanted: Wanted, key: str) -> None:
        self._names[wanted] = key
        self._names.move_to_end(wanted)
        while len(self._names) > MOST_NAMES:
            self._names.popitem(last=False)


class FrameServer(QObject):
    """Makes pictures for the screen. `ready` carries the wanted picture and its codes, `failed` a sentence."""

    ready = Signal(object, object)
    failed = Signal(object, str)
    cached = Signal()

    def __init__(self, pictures: Pictures, scheduler: Scheduler, limit_bytes: int | None = None) -> None:
        super().__init__()
        self.store, self.scheduler = pictures, scheduler
        self._dragged = QuickAnswers(pictures, budget(DRAGS_SHARE))
        self.usual_bytes = budget(SCREEN_SHARE)
        self.cache = ScreenCache(limit_bytes or screen_bytes(self.usual_bytes))
        self._lock = threading.Lock()
        self._shot: Shot | None = None
        self._newest: list[Wanted] = []
        self._ahead: list[Wanted] = []
        self._others: dict[int, Shot] = {}
        self.openings = Openings()
        self._held = False
        self._until_learnt: list[Wanted] = []
        self._studies: list[SkyStudy] = []  # that are being learnt
        self._first: tuple[Wanted, Codes] | None = None  # the last first answer
        self._tried: set[str] = set()  # studies, whether anything came of them or not

    def request(
        self, shot: Shot, wanted: list[Wanted], ahead: list[Wanted], others: dict[int, Shot] | None = None
    ) -> None:
        """Replaces whatever was asked for before. `ahead` is made when nothing else is to do. others : shots of other
        revisions that are asked for."""
        with self._lock:
            self._shot, self._newest, self._ahead = shot, list(wanted), list(ahead)
            self._others = dict(others or {})
            self._until_learnt = []
        self._go_on()

    def hold_ahead(self, on: bool) -> None:
        """Makes nothing ahead for as long as this is on."""
        with self._lock:
            changed, self._held = self._held != on, on
        if changed and not on:
            self._go_on()

    def keep_opening(self, shot: Shot, wanted: Wanted) -> None:
        """Keeps a picture that is there for the next time that this shot is opened; on a worker."""
        codes = self.cache.get(wanted)
        if codes is not None:
            key = view_key(shot, wanted.frame, wanted.view, wanted.zone, wanted.scale, wanted.look)
            self.openings.keep(key, codes)

    def close(self) -> None:
        """Asks for nothing more."""
        with self._lock:
            self._newest, self._ahead, self._until_learnt = [], [], []

    def _go_on(self) -> None:
        """What is shown and what is made ahead have lanes of their own: nobody waits for a frame that was begun
        ahead."""
        with self._lock:
            shown, ahead = bool(self._newest), bool(self._ahead) and not self._held and not self._until_learnt
        if shown:
            self.scheduler.submit("pictures", Job(lambda _: self._one(shown=True)), PICTURE)
        elif ahead:
            self.scheduler.submit("pictures ahead", Job(lambda _: self._one(shown=False)), AHEAD)

    def _one(self, shown: bool) -> None:
        with self._lock:
            waiting = self._newest if shown else self._ahead
            if self._shot is None or not waiting or (self._newest and not shown):
                return
            shot, wanted = self._shot, waiting.pop(0)
            made_of = self._others.get(wanted.revision, shot)
        try:
            if shown and self._answered_first(made_of, wanted):
                self._go_on()
                return
            codes, room = self._made(made_of, wanted, not shown)
            if shown:
                self.ready.emit(wanted, codes)
            elif not room:
                with self._lock:
                    if self._shot is shot:
                        self._ahead = []
        except MantleError as problem:
            self.failed.emit(wanted, str(problem))
        except Exception as problem:
            log.exception("A frame could not be made")
            self.failed.emit(
                wanted, say("Frame {frame} could not be made: {problem}.", frame=wanted.frame, problem=problem)
            )
        self._go_on()

    def _made(self, shot: Shot, wanted: Wanted, ahead: bool) -> tuple[Codes, bool]:
        """The picture, and whether there was room to keep it."""
        frame, name, zone, scale, look = wanted.frame, wanted.view, wanted.zone, wanted.scale, wanted.look
        key = view_key(shot, frame, name, zone, scale, look)
        codes = self.cache.found(key, wanted)
        if codes is not None:
            self.cached.emit()
            return codes, True
        if not ahead and frame == shot.first:
            kept = self.openings.find(key)
            if kept is not None:  # is seen until the picture is made, which other things need too
                self.ready.emit(wanted, kept)
        with one_at_a_time(shot.size, scale):
            store = self.store if scale == 1.0 else self._dragged
            codes = view(shot, frame, name, zone, store, scale, look)
        room = wanted.scale != 1.0 or self.cache.put(key, wanted, codes, ahead)
        self.cached.emit()
        return codes, room

    def _answered_first(self, shot: Shot, wanted: Wanted) -> bool:
        """Where a sky of the shot must be learnt first: shows something at once, and learns beside."""
        studies = [] if wanted.view in UNCUT else awaited(shot, wanted.frame)
        studies = [study for study in studies if study.digest not in self._tried]
        if not studies:
            return False
        with self._lock:
            if all(each is not shot for each in (self._shot, *self._others.values())):
                return True  # something else was asked for meanwhile
            first = replace(wanted, scale=min(wanted.scale, proxy_scale(shot.size)), first=True)
            there = any(replace(each, scale=first.scale, first=True) == first for each in self._until_learnt)
            self._until_learnt.append(wanted)
            begun = {study.digest for study in self._studies} >= {study.digest for study in studies}
            if not begun:
                self._studies = studies
        if not begun:
            job = Job(lambda job: self._learn(studies, job), on_end=lambda _, __: self._learnt(studies))
            self.scheduler.submit("skies", job, PICTURE, stop_running=True)
        if not there:
            answered = self._first
            if answered is None or answered[0] != first:  # who asks again for the same is shown the same
                answers = FirstAnswers(self.store)
                with one_at_a_time(shot.size, first.scale):
                    codes = view(shot, first.frame, first.view, first.zone, answers, first.scale, first.look)
                self._first = answered = first, codes
            self.ready.emit(*answered)
        return True

    def _learn(self, studies: list[SkyStudy], job: Job) -> None:
        for study in studies:
            try:
                with one_at_a_time(study.size):
                    self.store.learn(study, job.progress)
            finally:
                if not job.cancelled:
                    self._tried.add(study.digest)  # what went wrong is said of the picture

    def _learnt(self, studies: list[SkyStudy]) -> None:
        with self._lock:
            if self._studies is not studies:  # others are being learnt by now
                return
            self._studies, self._first = [], None
            self._newest = [*self._newest, *self._until_learnt]
            self._until_learnt = []
        self._go_on()
