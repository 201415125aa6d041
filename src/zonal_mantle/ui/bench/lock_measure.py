"""What a lock measures and how: marks or field, channel, motion, policy, lens; and solving it."""

from __future__ import annotations

from collections.abc import Callable

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QCheckBox, QListWidget, QListWidgetItem

from ...comp import Suggested, solve_lock, suggest_lock
from ...comp.scheduler import Job
from ...comp.solve import MEASURED_FIELDS, SOLVED_FIELDS, merged, on_a_camera
from ...lock import lock_feed, propose_marks
from ...lock.errors import OnlyTurned
from ...lock.runs import Direction
from ...shot import UNSOLVED, Lens, Lock, Mark, Shot
from ...words import say
from ..desk import Desk
from ..numberfield import NumberField
from ..tools.lock import LockTool
from ..tools.mark import MOST_MARKS
from ..tools.sample import Area
from ..widgets import choice, chosen_of, fill, named, note, push_button, row, show_choice, tool_button
from .panel import Panel
from .takes import Takes

CHANNELS = ["luma", "red", "green", "blue", "saturation"]
MOTIONS = ["translation", "similarity", "affine", "perspective", "camera turn"]
PATTERNS = {
    "hold the first": "never", "renew below": "when unsure",
    "renew every frame": "on every frame",
}  # fmt: skip
NOTHING = "none"
USUAL_SHUTTER_DEG = 180.0
ROWS_SEEN = 3  # shapes of a field, without scrolling
Sample = Callable[[str, Callable[[Area], None]], None]


class MeasurePanel(Panel):
    """The chosen lock's set-up. Whatever changes what is measured takes the solve away."""

    def __init__(self, desk: Desk, tool: LockTool, sample: Sample) -> None:
        super().__init__(desk)
        self.tool, self.sample = tool, sample
        self.start = note()
        self.inside.addWidget(self.start)
        self.corners = push_button(
            "Add marks in an area…",
            "Drag over an area: marks are set on its strongest corners on this frame",
            self._ask_marks,
        )
        self.inside.addWidget(self.corners)
        self.keep = push_button("Field", "Draw what is measured", lambda: self._draw("keep"), "plus")
        self.drop = push_button("Exclude", "Draw what does not belong to it", lambda: self._draw("drop"), "plus")
        self.form = choice(["polygon", "smooth", "ellipse", "rectangle"], "The form of the next shape", lambda _: None)
        self.drawing = row(self.keep, self.drop, self.form)
        self.inside.addLayout(self.drawing)
        self.list = QListWidget()
        self.list.setAccessibleName(say("Field shapes"))
        self.list.setToolTip(say("The field and what is left out of it. The box switches one on and off"))
        self.list.itemClicked.connect(self._choose)
        self.list.itemChanged.connect(self._switch)
        self.key = tool_button("diamond", "Key the chosen shape on this frame, or remove its key here", self._key)
        self.remove = tool_button("trash-2", "Remove the chosen shape", self.tool.field.remove)
        self.inside.addLayout(row(self.list, self.key, self.remove))
        self.shape_rides = choice([NOTHING], "The lock that the chosen left-out shape rides on", self._shape_ride)
        self.shape_takes = Takes("the chosen left-out shape", self.tool.field.follow)
        self.inside.addWidget(named("Rides on", self.shape_rides))
        self.inside.addWidget(self.shape_takes)
        self.stays = QCheckBox(say("Fixed field"))
        self.stays.setToolTip(say("For long pans and skies: motion is measured through a field that does not move"))
        self.stays.clicked.connect(lambda on: self._anew("Fixed field", field_stays=bool(on)))
        self.shutter_given = QCheckBox(say("Shutter angle is known"))
        self.shutter_given.setToolTip(say("The shutter angle is taken as it stands; else it is found from the blur"))
        self.shutter_given.clicked.connect(self._know_shutter)
        self.inside.addLayout(row(self.stays, self.shutter_given))
        self.motion = choice(MOTIONS, "The most that the motion may be", lambda v: self._anew("Motion model", motion=v))
        self.channel = choice(
            CHANNELS,
            "Which channel of the coded feed is searched",
            lambda v: self._anew(say("Search in {value}", value=say(v)), channel=v),
        )
        self.renewal = choice(
            list(PATTERNS.values()), "Whether the pattern is taken anew: never, when unsure, or on every frame",
            lambda v: self._anew("Pattern", renewal=next(key for key, words in PATTERNS.items() if words == v)),
        )  # fmt: skip
        self.guess = choice([NOTHING], "The lock whose motion the search starts from", self._guess)
        self.inside.addWidget(named("Search in", self.channel))
        self.inside.addWidget(named("Motion model", self.motion))
        self.inside.addWidget(named("Renew pattern", self.renewal))
        self.inside.addWidget(named("Initial guess", self.guess))
        self.guess_takes = Takes("the search", lambda follow: self._anew("Start", follow=follow))
        self.inside.addWidget(self.guess_takes)
        self.filter = NumberField(
            "Blur", -3, 5, 0.05, 0, 2, "px", "Blurs the feed before the search; below 0 sharpens it"
        )
        self.least = NumberField(
            "Minimum confidence", 0, 1, 0.01, 0.6, 2, "", "Confidence at which what is followed counts as lost"
        )
        self.plain(self.filter, lambda: self._value("filter_px"), lambda v, w, g: self._anew(w, g, filter_px=v))
        self.plain(self.least, lambda: self._value("least_confidence"), self._put_least)
        self.inside.addLayout(row(self.filter, self.least))
        self.shutter = NumberField(
            "Shutter angle", 0, 360, 1, 180, 0, "°", "How long the plate's shutter was open: 360 is from frame to frame"
        )
        self.plain(self.shutter, self._shutter_deg, lambda v, w, g: self._anew(w, g, shutter_deg=v))
        self.inside.addWidget(self.shutter)
        self.focal = NumberField(
            "Focal length",
            1,
            2000,
            0.1,
            35,
            2,
            "mm",
            "Focal length on the sensor beside. A value set here is taken as known",
        )
        self.sensor = NumberField("Sensor width", 1, 100, 0.1, 36, 2, "mm", "Width of the sensor")
        self.plain(self.focal, self._focal_mm, lambda v, w, g: self._lens(w, g, mm=v))
        self.plain(self.sensor, lambda: self._lens_value("sensor_mm"), lambda v, w, g: self._lens(w, g, sensor_mm=v))
        self.inside.addLayout(row(self.focal, self.sensor))
        self.given = QCheckBox(say("Focal length is known"))
        self.given.setToolTip(say("The focal length is taken as it stands; else it is solved"))
        self.given.clicked.connect(lambda on: self._lens("Focal length is known", None, given=bool(on)))
        self.bend = QCheckBox(say("Solve lens distortion"))
        self.bend.setToolTip(say("Solves one term of radial distortion too"))
        self.bend.clicked.connect(lambda on: self._lens("Solve lens distortion", None, solve_distortion=bool(on)))
        self.inside.addLayout(row(self.given, self.bend))
        self.back = push_button(
            "◂ Backward", "Solve from the reference frame to the first", lambda: self.solve("backward")
        )
        self.both = push_button("Solve", "Solve from the reference frame both ways", lambda: self.solve("both"))
        self.on = push_button("Forward ▸", "Solve from the reference frame to the last", lambda: self.solve("forward"))
        self.inside.addLayout(row(self.back, self.both, self.on))
        self.reads = choice(
            ["raw plate", "denoised plate"],
            "Which plate is searched",
            lambda v: self._anew(say("Search the {value}", value=say(v)), reads=v),
        )
        self.inside.addWidget(self.reads)
        self.missing = QCheckBox(say("Missing frames only"))
        self.missing.setToolTip(say("Frames that are solved stay as they are"))
        self.which = push_button("Suggest a lock", "Looks at how the shot moves and proposes a lock", self.propose)
        self.inside.addLayout(row(self.missing, self.which))
        self.turned: str | None = None  # the lock whose camera was found to turn only
        self.as_pan = push_button(
            "Solve as a pan lock", "The camera only turned: a pan lock serves", self._as_pan, "refresh-cw"
        )
        self.inside.addWidget(self.as_pan)

    # --- showing ---
    def refresh(self) -> None:
        super().refresh()
        lock = self.desk.lock
        self.as_pan.setVisible(lock is not None and lock.kind == "camera" and self.turned == lock.id)
        point = lock is None or lock.kind == "point"
        lens = lock is not None and lock.knows_camera
        for part in (self.keep, self.drop, self.form):
            part.setVisible(not point)
        for part in (self.list, self.key, self.remove):
            part.setVisible(lock is not None and not point and bool(lock.field))
        self.corners.setVisible(lock is not None and point)
        self.stays.setVisible(lock is not None and lock.kind == "plane")
        for part in (self.focal, self.sensor, self.given):
            part.setVisible(lens)
        self.bend.setVisible(lens and not point)
        blurs = lock is not None and lock.kind in ("point", "plane", "pan")
        self.shutter_given.setVisible(blurs)
        self.shutter.setVisible(blurs and lock is not None and lock.shutter_deg is not None)
        for part in (
            self.motion,
            self.channel,
            self.renewal,
            self.guess,
            self.filter,
            self.least,
            self.back,
            self.both,
        ):
            part.setVisible(lock is not None)
        self.on.setVisible(lock is not None)
        self.shape_rides.setVisible(False)
        self.shape_takes.setVisible(False)
        self.guess_takes.show_parts(lock.follow if lock is not None and lock.rides else None)
        by_hand = lock is not None and lock.kind == "by hand"
        self.reads.setVisible(lock is not None and not by_hand and self.desk.shot.denoised is not None)
        if lock is not None and by_hand:
            measured = (
                self.corners, self.keep, self.drop, self.form, self.list, self.key, self.remove, self.stays,
                self.motion, self.channel, self.renewal, self.guess, self.filter, self.least, self.back, self.both,
                self.on, self.missing,
            )  # fmt: skip
            for part in measured:
                part.setVisible(False)
            self.start.setText(
                say("{name} is keyed by hand: key its position, turn and size under Correct.", name=lock.name)
            )
            return
        if lock is None:
            self.start.setText(
                say(
                    "A lock measures how something in the plate moves. Make one, then show it what to look at on the "
                    "picture."
                )
            )
            return
        camera = lock.kind == "camera"
        self.back.setVisible(not camera)
        self.on.setVisible(not camera)
        self.missing.setVisible(not camera and not lock.field_stays and lock.kind != "pan")
        self.motion.setVisible(lock.kind in ("point", "plane"))
        self.renewal.setVisible(lock.kind == "point" or (lock.kind == "plane" and not lock.field_stays))
        self.guess.setVisible(lock.kind in ("point", "plane") and not lock.field_stays)
        show_choice(self.motion, MOTIONS if point else MOTIONS[:-1], lock.moves)
        show_choice(self.channel, CHANNELS, lock.channel)
        show_choice(self.reads, ["raw plate", "denoised plate"], lock.reads)
        show_choice(self.renewal, list(PATTERNS.values()), PATTERNS[lock.renewal])
        fill(self.guess, [(None, NOTHING), *self._others(lock)], lock.rides)
        self.stays.setChecked(lock.field_stays)
        self.given.setChecked(lock.lens.given)
        self.shutter_given.setChecked(lock.shutter_deg is not None)
        self.bend.setChecked(lock.lens.solve_distortion)
        self.start.setText(_words(lock))
        ready = bool(lock.marks) if point else True
        for part in (self.back, self.both, self.on):
            part.setEnabled(ready)
        if not point:
            self._show_shapes(lock)

    def _others(self, lock: Lock) -> list[tuple[str | None, str]]:
        """The locks that this one may ride on."""
        shot = self.desk.shot
        others = [other for other in shot.locks if other.id != lock.id and lock.id not in shot.locks_under(other.id)]
        return [(other.id, other.name) for other in others]

    def _show_shapes(self, lock: Lock) -> None:
        self.list.blockSignals(True)
        self.list.clear()
        for shape in lock.field:
            item = QListWidgetItem(
                f"{shape.name}{say(' · {count} keys', count=len(shape.keys)) if len(shape.keys) > 1 else ''}"
            )
            item.setFlags(item.flags() | Qt.ItemFlag.ItemIsUserCheckable)
            item.setCheckState(Qt.CheckState.Checked if shape.on else Qt.CheckState.Unchecked)
            item.setData(Qt.ItemDataRole.UserRole, shape.id)
            self.list.addItem(item)
            if shape.id == self.tool.field.chosen:
                self.list.setCurrentItem(item)
        self.list.setFixedHeight(min(len(lock.field), ROWS_SEEN) * max(self.list.sizeHintForRow(0), 0) + 2)
        self.list.blockSignals(False)
        chosen = next((shape for shape in lock.field if shape.id == self.tool.field.chosen), None)
        for part in (self.key, self.remove):
            part.setEnabled(chosen is not None)
        free = chosen is not None and chosen.mode == "drop"
        self.shape_rides.setVisible(free)
        if chosen is not None and free:
            fill(self.shape_rides, [(None, NOTHING), *self._others(lock)], chosen.rides)
            self.shape_takes.show_parts(chosen.follow if chosen.rides else None)

    # --- changing ---
    def _value(self, name: str) -> float | None:
        return getattr(self.desk.lock, name) if self.desk.lock is not None else None

    def _anew(self, words: str, gesture: str | None = None, **changes: object) -> None:
        if (lock := self.desk.lock) is not None:
            self.desk.edit_lock(
                lock.but(**UNSOLVED, **changes),
                say("{words} of {name}", words=say(words), name=lock.name),
                gesture,
            )

    def _put_least(self, value: float, words: str, gesture: str) -> None:
        if (lock := self.desk.lock) is not None:
            self.desk.edit_lock(
                lock.but(least_confidence=value), say("{words} of {name}", words=say(words), name=lock.name), gesture
            )

    def _shutter_deg(self) -> float | None:
        return self.desk.lock.shutter_deg if self.desk.lock is not None else None

    def _know_shutter(self, on: bool) -> None:
        self._anew("Shutter angle is known", shutter_deg=USUAL_SHUTTER_DEG if on else None)

    def _lens_value(self, name: str) -> float | None:
        return getattr(self.desk.lock.lens, name) if self.desk.lock is not None else None

    def _focal_mm(self) -> float | None:
        lock = self.desk.lock
        if lock is None:
            return None
        focal = lock.lens.focal_px
        return 0.0 if focal is None else focal / self.desk.shot.size[0] * lock.lens.sensor_mm

    def _lens(self, words: str, gesture: str | None, mm: float | None = None, **changes: object) -> None:
        lock = self.desk.lock
        if lock is None:
            return
        lens: Lens = lock.lens.but(**changes)
        if mm is not None:
            lens = lens.but(focal_px=mm / lens.sensor_mm * self.desk.shot.size[0], given=True)
        self._anew(words, gesture, lens=lens, points=())

    def _guess(self, _: str) -> None:
        self._anew("Start", rides=self.guess.currentData())

    def _shape_ride(self, _: str) -> None:
        self.tool.field.ride(self.shape_rides.currentData())

    def _draw(self, mode: str) -> None:
        self.desk.choose_stage("Lock")
        self.tool.field.start(mode, chosen_of(self.form))
        self.desk.choice_changed.emit()

    def _choose(self, item: QListWidgetItem) -> None:
        self.tool.field.choose(item.data(Qt.ItemDataRole.UserRole))
        self.desk.choice_changed.emit()

    def _switch(self, item: QListWidgetItem) -> None:
        lock, id = self.desk.lock, item.data(Qt.ItemDataRole.UserRole)
        on = item.checkState() == Qt.CheckState.Checked
        if lock is not None and any(shape.id == id and shape.on != on for shape in lock.field):
            self._anew("Field", field=tuple(s.but(on=on) if s.id == id else s for s in lock.field))

    def _key(self) -> None:
        lock, frame = self.desk.lock, self.desk.frame
        shape = next((s for s in lock.field if s.id == self.tool.field.chosen), None) if lock is not None else None
        if shape is None:
            return
        if any(key.frame == frame for key in shape.keys) and len(shape.keys) > 1:
            new = shape.without_key(frame)
        else:
            new = shape.with_points(frame, shape.points_at(frame))
        self._anew(say("Key {name}", name=shape.name), field=tuple(new if s.id == shape.id else s for s in lock.field))

    def _ask_marks(self) -> None:
        self.sample("Drag over what the marks are to lie on.", self._mark_area)

    def _mark_area(self, area: Area) -> None:
        lock, source = self.desk.lock, self.desk.shot.plate_source
        if lock is None or source is None:
            return
        store, frame = self.desk.store, self.desk.frame

        def look() -> list[tuple[float, float]]:
            return propose_marks(lock_feed(store.plate(source, frame), lock.channel, lock.filter_px), area)

        self.desk.later("marks", look, lambda places: self._set_marks(lock, frame, places))

    def _set_marks(self, lock: Lock, frame: int, places: list[tuple[float, float]]) -> None:
        if not any(each.id == lock.id for each in self.desk.shot.locks):
            return
        lock = self.desk.shot.lock(lock.id)
        if not places:
            self.desk.said.emit(say("There are no corners in that area. Drag over something with texture."), True)
            return
        unit = max(self.desk.shot.size[0] / 1280, 0.25)
        first = not lock.marks
        later = None if first or frame == lock.reference_frame else frame
        new = tuple(
            Mark(x=x, y=y, patch=(14 * unit, 12 * unit), reach=(20 * unit, 20 * unit), frame=later) for x, y in places
        )
        reference = frame if first else lock.reference_frame
        kept = {} if later is not None else UNSOLVED
        marks = (*lock.marks, *new)[:MOST_MARKS]
        self.desk.edit_lock(
            lock.but(marks=marks, reference_frame=reference, **kept), say("Marks of {name}", name=lock.name)
        )

    # --- long work ---
    def solve(self, direction: Direction, missing: bool | None = None) -> None:
        """Solves the lock in the background; the shot changes only when it is done. `missing`: only frames that it
        lacks; as the box says where that is not told."""
        lock, shot = self.desk.lock, self.desk.shot
        if lock is None:
            return
        if missing is None:
            missing = self.missing.isChecked() and self.missing.isVisible()

        def work(job: Job) -> Lock | OnlyTurned:
            try:
                so_far = self.desk.solving.listens(job)
                found = solve_lock(shot, lock.id, self.desk.store, direction, job.progress, missing, so_far)
                return found.lock(lock.id)
            except OnlyTurned as problem:
                return problem

        self.turned = None
        self.desk.run(say("Solving {name}", name=lock.name), work, lambda solved: self._ended(solved, lock, shot))

    def _ended(self, solved: Lock | OnlyTurned, lock: Lock, began: Shot) -> None:
        """A solve ended; where the camera only turned, what mends it is offered."""
        if isinstance(solved, OnlyTurned):
            self.turned = lock.id
            self.desk.said.emit(str(solved), True)
            self.refresh()
            return
        self._solved(solved, began)

    def _as_pan(self) -> None:
        if (lock := self.desk.lock) is not None:
            self.solve_as_pan(lock.id)

    def solve_as_pan(self, lock_id: str) -> None:
        """Solves a lock as a pan lock in the background; it stays as it is where that fails."""
        shot = self.desk.shot
        before = shot.lock(lock_id)
        turning = before.but(**UNSOLVED, kind="pan", motion=None, points=(), in_metres=False)

        def work(job: Job) -> Lock:
            return solve_lock(shot.with_lock(turning), lock_id, self.desk.store, "both", job.progress).lock(lock_id)

        def ended(solved: Lock) -> None:
            now = next((lock for lock in self.desk.shot.locks if lock.id == lock_id), None)
            if now is None or any(getattr(now, name) != getattr(before, name) for name in MEASURED_FIELDS):
                self.desk.said.emit(
                    say("{name} was changed while it was solved; what came out was let go.", name=before.name), True
                )
                return
            found = {name: getattr(solved, name) for name in SOLVED_FIELDS}
            made = now.but(kind="pan", motion=None, **found)
            self.desk.edit(self.desk.shot.with_lock(made), say("Solve {name} as a pan lock", name=now.name))
            self.desk.choice_changed.emit()
            words = " ".join((*solved.lost, *solved.remarks)[:1])
            done = say("{name} is solved on {count} frames.", name=now.name, count=len(solved.solved))
            self.desk.said.emit(words or done, bool(words))

        self.desk.run(say("Solving {name}", name=before.name), work, ended)

    def ride_on_camera(self, zone_id: str) -> None:
        """Solves a new camera lock in the background and lets a zone ride on it; nothing changes where that fails."""
        began = self.desk.shot
        rode = began.zone(zone_id).placement.rides

        def ended(solved: Shot) -> None:
            now = self.desk.shot
            zone = next((each for each in now.zones if each.id == zone_id), None)
            lock = solved.lock(solved.zone(zone_id).placement.rides or "")
            if zone is None or zone.placement.rides != rode:
                self.desk.said.emit(
                    say("{name} was hung elsewhere meanwhile; the camera was let go.", name=began.zone(zone_id).name),
                    True,
                )
                return
            if any(each.id == lock.id for each in now.locks):
                lock = lock.but(id=now.new_id("lock"))
            hung = zone.but(placement=zone.placement.but(rides=lock.id))
            self.desk.edit(
                now.with_lock(lock).with_zone(hung), say("{name} rides on {other}", name=zone.name, other=lock.name)
            )
            self.desk.choose_lock(lock.id)
            words = " ".join((*lock.lost, *lock.remarks)[:1])
            done = say("{name} is solved on {count} frames.", name=lock.name, count=len(lock.solved))
            self.desk.said.emit(words or done, bool(words))

        self.desk.run(
            say("Solving a camera lock"),
            lambda job: on_a_camera(began, zone_id, self.desk.store, job.progress),
            ended,
        )

    def _solved(self, lock: Lock, began: Shot) -> None:
        shot, note = merged(self.desk.shot, began, lock)
        if note:
            self.desk.edit(shot, say("Solve {name}", name=lock.name))
            self.desk.said.emit(note, True)
            return
        if lock.marks:
            middle = (shot.size[0] / 2, shot.size[1] / 2)
            zones = [
                zone.but(placement=zone.placement.but(anchor=(lock.marks[0].x, lock.marks[0].y)))
                if zone.placement.rides == lock.id and zone.placement.anchor in (None, middle) and _untouched(zone)
                else zone
                for zone in shot.zones
            ]
            shot = shot.but(zones=tuple(zones))
        self.desk.edit(shot, say("Solve {name}", name=lock.name))
        self.desk.choice_changed.emit()
        trouble = (*lock.lost, *lock.remarks)
        words = (
            trouble[0]
            if trouble
            else say("{name} is solved on {count} frames.", name=lock.name, count=len(lock.solved))
        )
        self.desk.said.emit(words, bool(trouble))

    def propose(self) -> None:
        """Looks at the shot in the background, then makes the lock that suits it."""
        shot, store = self.desk.shot, self.desk.store
        self.desk.run("Looking at the shot", lambda job: suggest_lock(shot, store, job.progress), self._suggested)

    def _suggested(self, found: Suggested) -> None:
        shot, lock = self.desk.shot, found.lock
        lock = lock.but(id=shot.new_id("lock"))
        self.desk.lock_id = lock.id
        self.desk.edit(shot.with_lock(lock), say("Add {name}", name=lock.name))
        self.desk.choose_stage("Lock")  # where it is looked at, and solved
        self.desk.said.emit(" ".join(found.reasons), False)
        self.desk.choice_changed.emit()


def _untouched(zone: object) -> bool:
    """Whether a placement is still as it was made, so that its anchor may go to the mark without moving anything."""
    placement = zone.placement
    return placement.size.constant == 1 and placement.turn_deg.constant == 0 and not placement.size.keys


def _words(lock: Lock) -> str:
    """What is measured, and from where."""
    start = say("Solves from frame {reference_frame}.", reference_frame=lock.reference_frame)
    focal = lock.lens.focal_px
    lens = say(" Focal length {focal:.1f} px.", focal=focal) if focal and lock.knows_camera and lock.solved else ""
    if lock.kind == "point":
        count = len(lock.marks)
        if count == 0:
            return say("No mark yet: click on the picture.")
        two = say("Two marks: position, turn, size")
        some = say("{count} marks: {moves}", count=count, moves=say(lock.moves))
        if lock.knows_camera:
            what = say("One mark: {moves}", moves=say(lock.moves)) if count == 1 else some
        else:
            what = {1: say("One mark: position"), 2: two}.get(count, some)
        return f"{what}. {start}{lens}"
    if lock.kind == "camera":
        points = (
            say(" {count} points.", count=len(lock.points)) if lock.points else say(" The whole frame is measured.")
        )
        return f"{start}{lens}{points}"
    drawn = sum(shape.mode == "keep" for shape in lock.field)
    return f"{say('Field drawn') if drawn else say('The whole frame is the field')}. {start}{lens}"
