"""What is open in the window: the shot with its history, the frame, the chosen zone, the view, the job that runs."""

from __future__ import annotations

import itertools
from collections.abc import Callable
from dataclasses import replace
from pathlib import Path
from typing import Any

from PySide6.QtCore import QObject, QTimer, Signal

from ..comp import STEPPED, Job, Look, Pictures, Readings, Scheduler, ViewName
from ..comp.finish_fit import PatchCurve
from ..comp.matte_planner import reads_own, zone_picture
from ..comp.plan import Between
from ..comp.readings_matte import Fault
from ..comp.scheduler import JOB, PROBE, READINGS
from ..comp.views import OWN_VIEWS
from ..media import source_problem
from ..media.picture import Picture, picture_of
from ..media.stamps import stamp_of
from ..media.watch import used_files_digest
from ..paths import on_disk
from ..shot import Air, History, Lock, MantleError, Matte, Patch, Shot, Source, Zone
from ..shot.errors import GoneError
from ..shot.match import Part
from ..shot.matte import Reads
from ..words import say
from .measuring import Measuring
from .shotfile import ShotFile
from .solving import Solving
from .thumbs import Thumbs

_gestures = itertools.count()
WATCH_MS = 1000  # between two looks at the files that are used


def new_gesture() -> str:
    """A name for one gesture, so that all its values are one step of undo."""
    return f"gesture {next(_gestures)}"


class Desk(QObject):
    """The one place that holds the shot. Everything in the window asks it and is told by its signals."""

    shot_changed = Signal()
    frame_changed = Signal()
    choice_changed = Signal()  # zone, lock or stage
    view_changed = Signal()
    readings_changed = Signal()
    measuring_began = Signal()
    problems_changed = Signal()  # what is known to be wrong with the files
    job_changed = Signal(float, str)  # share 0…1, or below 0 when none runs
    said = Signal(str, bool)  # a sentence, and whether it is trouble
    _progressed = Signal(float, str)
    _ended = Signal(object, object, object)
    _files_seen = Signal(object, object)
    _answered = Signal(object, object, object)

    def __init__(self) -> None:
        super().__init__()
        self.history = History.starting_with(Shot())
        self.revision = 0
        self._revisions: list[tuple[Shot, int]] = []
        self._without: tuple[Shot | None, str, str, Shot] = (None, "", "", Shot())
        self._newest_revision = itertools.count(1)
        self.store = Pictures()
        self.scheduler = Scheduler()
        self.thumbs = Thumbs(self.scheduler)
        self._problems: dict[str, tuple[Source, str | None]] = {}  # by a source's id, for the source as it was
        self.frame = 1
        self.zone_id: str | None = None
        self.lock_id: str | None = None
        self.stage = "Matte"
        self.view: ViewName = "Composite"
        self.other_view: ViewName = "Plate"
        self.wipe = False
        self.held_still = False
        self.loupe = False
        self.overlays = True  # whether shapes, lines and handles are drawn over the picture
        self.smooth_pixels = False  # whether pixels are smoothed where they are shown larger than twice
        self.playing = False
        self.before = False  # whether the open part of the match is left out of what is seen
        self.match_part: Part = "tone"
        self.finish_part = "Tone"
        self.frame_guides = True  # whether the delivered frame is shown over every view
        self.compared: Shot | None = None  # what is looked at while one control is left out
        self.states: dict[str, Shot] = {}  # that are kept to be compared, A and B
        self.comparing, self.shown_state = "", "A"  # side by side, wipe or flicker; which flickers up
        self.patch_curves: tuple[tuple[Patch, ...], list[PatchCurve]] | None = None
        self._trying = False
        self._tried: Shot | None = None
        self.is_showing: Callable[[], bool] = lambda: True  # whether the picture that is wanted is seen; by the window
        self.picture_seen: Callable[[], Any] = lambda: None  # the image on the viewer; set by the window
        self.air_fit: tuple[Air, dict[str, float]] | None = None  # what was measured last, and the air that it set
        self.fit_words: dict[tuple[str, str], tuple[str, object]] = {}  # what was said, and the part that it set
        self.look = Look()
        self.measuring = Measuring(self)
        self.file = ShotFile(self)
        self.solving = Solving(self)
        self.dragging = False
        self.job: Job | None = None
        self._job_end: Callable[[Any], None] | None = None
        self._progressed.connect(self.job_changed)
        self._ended.connect(self._job_ended)
        self._files_seen.connect(self._files_looked_at)
        self._answered.connect(self._answer)
        self._files: tuple[tuple[Any, ...], str] = ((), "")
        self._watch = QTimer(self, interval=WATCH_MS)
        self._watch.timeout.connect(self._look_at_files)
        self._watch.start()
        self._watch_soon = QTimer(self, singleShot=True, interval=0)
        self._watch_soon.timeout.connect(self._look_at_files)

    # --- the shot ---
    @property
    def shot(self) -> Shot:
        return self.history.shot

    @property
    def zone(self) -> Zone | None:
        return next((zone for zone in self.shot.zones if zone.id == self.zone_id), None)

    @property
    def lock(self) -> Lock | None:
        return next((lock for lock in self.shot.locks if lock.id == self.lock_id), None)

    @property
    def seen_shot(self) -> Shot:
        """The shot as it is looked at: without the open part of the zone's match where one looks at it before, with
        what is known by now of a lock that is being solved."""
        zone, shot = self.zone, self.solving.shot
        if self.compared is not None:
            return self.compared
        if not self.before or zone is None or self.stage != "Match":
            return shot
        known, *of = self._without[:3]
        if known is not shot or of != [zone.id, self.match_part]:
            part = getattr(zone.match, self.match_part).but(on=False)
            bare = shot.with_zone(zone.but(match=zone.match.but(**{self.match_part: part})))
            self._without = (shot, zone.id, self.match_part, bare)
        return self._without[3]

    @property
    def seen_revision(self) -> int:
        """The number of the shot as it is looked at."""
        return self._revision_of(self.seen_shot)

    @property
    def path(self) -> Path | None:
        """Where the shot's file is; None where it has none yet."""
        return self.file.path

    @property
    def unsaved(self) -> bool:
        return self.shot != self.file.saved

    def open(self, shot: Shot, path: Path | None, recovered: bool = False) -> None:
        """Puts another shot on the desk."""
        self.cancel_job()
        self.file.put(shot, path, recovered)
        self.history = History.starting_with(shot)
        self.frame = shot.first
        self.measuring.known = Readings()
        self.held_still = self.before = False
        self.compared, self.states, self.comparing, self.patch_curves = None, {}, "", None
        self.fit_words, self.air_fit = {}, None
        self.zone_id = shot.zones[0].id if shot.zones else None
        self.lock_id = shot.locks[0].id if shot.locks else None
        self._after_change()
        self.frame_changed.emit()
        self.choice_changed.emit()

    def edit(self, shot: Shot, label: str, gesture: str | None = None) -> None:
        """A change of the shot: one step of undo, or part of a gesture's step."""
        if self._trying:
            self._tried = shot
            return
        self.history.push(shot, say(label), gesture)
        self._after_change()

    def annotate(self, shot: Shot, label: str) -> None:
        """A change of what is noted in the shot, of which no picture and no reading depends."""
        self._revisions = [*self._revisions[-63:], (shot, self.revision)]
        self.history.push(shot, say(label))
        self._after_change(measured_anew=False)

    def show_fault(self, fault: Fault) -> None:
        """Marks the pixels of a finding in the check of the alpha."""
        self.set_view(view="Alpha check", look=replace(self.look, fault=fault))

    def tried(self, act: Callable[[], None]) -> Shot | None:
        """The shot that an act would make, which is not done; None where it would change nothing."""
        self._trying, self._tried = True, None
        try:
            act()
        finally:
            self._trying = False
        return self._tried

    def revision_of(self, shot: Shot) -> int:
        """The number of a state of the shot."""
        return self._revision_of(shot)

    def edit_zone(self, zone: Zone, label: str, gesture: str | None = None) -> None:
        self.edit(self.shot.with_zone(zone), label, gesture)

    @property
    def matte(self) -> Matte | None:
        """The matte that the chosen zone is cut by."""
        zone = self.zone
        return self.shot.matte_of(zone) if zone is not None else None

    def edit_matte(self, matte: Matte, label: str, gesture: str | None = None) -> None:
        """A change of a matte, for all zones that use it."""
        self.edit(self.shot.with_matte(matte), label, gesture)

    def give_matte(self, matte: Matte, label: str, gesture: str | None = None) -> None:
        """The chosen zone is cut by a matte, new or changed, and the stage is on."""
        zone = self.zone
        if zone is not None:
            self.edit(self.shot.with_zone_matte(zone, matte), label, gesture)

    def own_matte(self) -> Matte:
        """The chosen zone's matte, or a new one for it that is not in the shot yet."""
        zone, matte = self.zone, self.matte
        if matte is not None or zone is None:
            return matte or Matte()
        reads: Reads = "plate" if self.shot.holds_plate(zone) else "own picture"
        return Matte(id=self.shot.new_id("matte"), name=say("{name} matte", name=zone.name), reads=reads)

    @property
    def own_zone(self) -> Zone | None:
        """The chosen zone, where the view shows its own picture in that picture's pixels."""
        zone = self.zone
        if zone is None or self.shot.holds_plate(zone):
            return None
        own = self.view == "Painting" or (self.view in OWN_VIEWS and reads_own(self.shot, zone))
        return zone if own else None

    @property
    def cuts_own(self) -> bool:
        """Whether the matte on the bench looks at the chosen zone's own picture."""
        zone = self.zone
        return zone is not None and not self.shot.holds_plate(zone) and self.own_matte().reads == "own picture"

    def looked_at(self) -> Picture | Between | None:
        """What the matte on the bench looks at on the frame on the desk."""
        zone, plate = self.zone, self.shot.plate_source
        if zone is not None and self.cuts_own and self.stage == "Matte":
            return zone_picture(self.shot, zone, self.frame)
        return picture_of(plate, self.frame) if plate is not None else None

    def edit_lock(self, lock: Lock, label: str, gesture: str | None = None) -> None:
        self.edit(self.shot.with_lock(lock), label, gesture)

    def undo(self) -> None:
        if label := self.history.undo():
            self._after_change()
            self.said.emit(say("Undone: {label}", label=label), False)

    def redo(self) -> None:
        if label := self.history.redo():
            self._after_change()
            self.said.emit(say("Redone: {label}", label=label), False)

    def go_to_step(self, place: int) -> None:
        """Back or forward to a step of the history, by its place in the list."""
        history = self.history
        if place != history.place and 0 <= place < len(history.shots):
            history.go_to(place)
            self._after_change()
            self.said.emit(say("As it was after: {labels}", labels=history.labels[place]), False)

    def _after_change(self, measured_anew: bool = True) -> None:
        self.revision = self._revision_of(self.shot)
        if self.zone is None:
            self.zone_id = self.shot.zones[0].id if self.shot.zones else None
        if self.lock is None:
            self.lock_id = self.shot.locks[0].id if self.shot.locks else None
        if self.frame not in self.shot.frames:
            self.set_frame(self.frame)
        if measured_anew:
            self.measuring.soon()  # before others are told, who say that what is known is not all
        self.shot_changed.emit()
        self.file.changed()

    def _revision_of(self, shot: Shot) -> int:
        """A number for each state of the shot; a state that is come back to has its old one."""
        for known, number in self._revisions:
            if known is shot:
                return number
        number = next(self._newest_revision)
        self._revisions = [*self._revisions[-63:], (shot, number)]
        return number

    def _look_at_files(self) -> None:
        """Asks on a worker whether a file that the shot uses was written again, and what is wrong with any."""
        if self.shot.plate is not None and not self.scheduler.is_busy("files"):
            shot = self.shot

            def look(job: Job) -> tuple[str, dict[str, tuple[Source, str | None]]]:
                problems = {source.id: (source, source_problem(source)) for source in shot.sources}
                return f"{used_files_digest(shot.sources)} {stamp_of(on_disk(shot.finish.lut.path))}", problems

            job = Job(
                look, on_end=lambda found, error: self._files_seen.emit((shot.sources, shot.finish.lut.path), found)
            )
            self.scheduler.submit("files", job, READINGS)

    def problem_of(self, source: Source) -> str | None:
        """What was wrong with a source's files when they were looked at last; they are looked at on a worker."""
        known, problem = self._problems.get(source.id, (None, None))
        if known is not source and known != source:
            self._watch_soon.start()
            return None
        return problem

    def later(self, lane: str, work: Callable[[], Any], then: Callable[[Any], None]) -> None:
        """Does something short on a worker; `then` gets what came of it on this thread, unless it failed, which is
        said. A newer one of the same lane takes its place."""
        job = Job(lambda _: work(), on_end=lambda result, error: self._answered.emit(then, result, error))
        self.scheduler.submit(lane, job, PROBE)

    def _answer(self, then: Callable[[Any], None], result: Any, error: Exception | None) -> None:
        if error is not None:
            plain = isinstance(error, MantleError)
            self.said.emit(
                str(error) if plain else say("That failed: {error}. The log has the details.", error=error), True
            )
        elif result is not None:
            self._give(then, result)

    def _files_looked_at(
        self, used: tuple[object, str], seen: tuple[str, dict[str, tuple[Source, str | None]]] | None
    ) -> None:
        """Pictures of files that changed are made anew."""
        if seen is None or used[0] is not self.shot.sources or used[1] != self.shot.finish.lut.path:
            return
        found, problems = seen
        if problems != self._problems:
            self._problems = problems
            self.problems_changed.emit()
        known, self._files = self._files, (used, found)
        if known[0] and known[0][0] is used[0] and known[0][1] == used[1] and known[1] != found:
            self._revisions.clear()
            self._after_change()
            self.said.emit(say("A file that the shot uses was written again. It is shown as it is now."), False)

    # --- readings ---
    @property
    def readings(self) -> Readings:
        """What is known of the shot's mattes, locks, places, matches and finish."""
        return self.measuring.known

    @property
    def is_measuring(self) -> bool:
        """Whether readings of the shot as it is now are being taken, or will be at once."""
        return self.measuring.is_going

    # --- where one looks ---
    def set_frame(self, frame: int) -> None:
        frame = min(max(frame, self.shot.first), self.shot.last)
        if frame != self.frame:
            self.frame = frame
            self.frame_changed.emit()

    def choose_zone(self, zone_id: str | None) -> None:
        self.zone_id = zone_id
        zone = self.zone
        if zone is not None and zone.placement.rides:
            self.lock_id = zone.placement.rides
        self.choice_changed.emit()
        self.view_changed.emit()

    def choose_lock(self, lock_id: str | None) -> None:
        self.lock_id = lock_id
        self.choice_changed.emit()

    def choose_stage(self, stage: str) -> None:
        if stage != self.stage:
            self.stage = stage
            self.choice_changed.emit()

    def set_view(self, **changes: Any) -> None:
        """Changes what the viewer shows: view, other_view, wipe, held_still, look. Never part of the shot.

        Another view no longer marks the pixels of a finding.
        """
        if "view" in changes and "look" not in changes:
            changes["look"] = replace(self.look, fault=None)
        for name, value in changes.items():
            setattr(self, name, value)
        self.view_changed.emit()

    def step_view(self) -> None:
        """Plate, matte, cut-out, composite, and round again."""
        place = STEPPED.index(self.view) if self.view in STEPPED else -1
        self.set_view(view=STEPPED[(place + 1) % len(STEPPED)])

    def set_playing(self, on: bool) -> None:
        if on != self.playing:
            self.playing = on
            self.view_changed.emit()

    def set_dragging(self, on: bool) -> None:
        if on != self.dragging:
            self.dragging = on
            self.view_changed.emit()

    # --- long work ---
    def run(self, words: str, work: Callable[[Job], Any], then: Callable[[Any], None]) -> None:
        """Runs one job at a time; `then` gets its result on the interface's thread, unless it was cancelled."""
        if self.job is not None:
            self.said.emit(say("Something is still running. Cancel it on the rail first."), True)
            return
        self._job_end = then
        self.job_changed.emit(0.0, say(words))
        job: Job
        job = Job(work, lambda s, w: self._progressed.emit(s, w), lambda r, e: self._ended.emit(job, r, e))
        self.job = job
        self.scheduler.submit("job", job, JOB)

    def cancel_job(self) -> None:
        if self.job is not None:
            self.job.cancel()

    def _job_ended(self, job: Job, result: Any, error: Exception | None) -> None:
        if job is not self.job:
            return
        then, self.job, self._job_end = self._job_end, None, None
        self.solving.over()
        self.job_changed.emit(-1.0, "")
        if error is not None:
            plain = isinstance(error, MantleError)
            self.said.emit(
                str(error) if plain else say("That failed: {error}. The log has the details.", error=error), True
            )
        elif job.cancelled:
            self.said.emit(say("Cancelled. Everything is as it was."), False)
        elif then is not None:
            self._give(then, result)

    def _give(self, then: Callable[[Any], None], result: Any) -> None:
        """Hands over what came of work, unless what it was done for is gone by now."""
        try:
            then(result)
        except GoneError:
            self.said.emit(say("What this was done for has been removed meanwhile; nothing was changed."), True)

    def close(self) -> None:
        """Stops everything that runs."""
        self.file.close()
        self.measuring.close()
        self._watch.stop()
        self.scheduler.close()
        for job in (self.job, self.measuring.reader):
            if job is not None:
                job.cancel()
                job.wait(5)
