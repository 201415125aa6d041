"""The Lock stage: which lock the zone rides on; measuring it, correcting it, judging it."""

from __future__ import annotations

from functools import cached_property

from PySide6.QtWidgets import QCheckBox

from ...comp import mend_of_lock, mend_of_ride
from ...comp.findings import RESIDUAL_ACCEPTED_PX
from ...lock import read_lock
from ...shot import Lock, Shot
from ...shot.lock import SHOWN_TIMES
from ...words import say
from ..desk import Desk
from ..tools.lock import LockTool
from ..widgets import choice, chosen_of, fill, named, note, push_button, row, tool_button
from .lock_correct import CorrectPanel
from .lock_measure import MeasurePanel, Sample
from .stage import Stage

FREE = "nothing"
KINDS = ("point", "plane", "pan", "camera", "by hand")


class LockStage(Stage):
    """What the zone rides on."""

    name = "Lock"
    tip = "The measured motion that this zone rides on"

    def __init__(self, desk: Desk, tool: LockTool, sample: Sample) -> None:
        super().__init__(desk)
        self.tool = tool
        self.header.switch.hide()
        self.rides = choice([FREE], "The lock that this zone rides on", self._ride)
        self.inside.addWidget(named("Zone rides on", self.rides))
        self.kind = choice(
            list(KINDS),
            "What the next lock is: marks, a textured plane, a turning camera, a moving camera with distances",
            lambda _: None,
        )
        self.new = push_button("New lock", "A new lock of the kind beside", self._new, "plus")
        self.inside.addLayout(row(named("Kind", self.kind, wide=False), self.new))
        self.which = choice([], "The lock that is worked on", self._work_on)
        self.remove = tool_button("trash-2", "Remove this lock; what rode on it stays where it was hung", self._remove)
        self.go = tool_button(
            "crosshair", "Show the reference frame, on which the marks or the field were set", self._go
        )
        self.inside.addLayout(row(named("Lock", self.which, wide=False), self.go, self.remove))
        self.lost = note(role="warn")  # above all else: it says why the number is as it is
        self.why = note()  # of a lock that was suggested and is not solved yet
        self.inside.addWidget(self.lost)
        self.inside.addWidget(self.why)
        self._sample = sample
        self.add_parts(
            ("Measure", lambda: self.measure, "What is looked at, how, and solving it"),
            ("Correct", lambda: self.correct, "Keys by hand, smoothing, joining, scale; what the zone follows; files"),
        )
        self.quad = QCheckBox(say("Quad"))
        self.quad.setToolTip(say("Hangs a grid of four corners on the lock, to see whether it holds. Drag its corners"))
        self.quad.clicked.connect(self._quad)
        self.still = QCheckBox(say("Held still"))
        self.still.setToolTip(say("The lock is inverted: what is locked stands still (H)"))
        self.still.clicked.connect(lambda on: self.desk.set_view(held_still=bool(on)))
        self.apart = QCheckBox(say("Difference"))
        self.apart.setToolTip(
            say("This frame against the reference frame as the lock carries it: grey where the lock holds (7)")
        )
        self.apart.clicked.connect(lambda on: self.desk.set_view(view="Difference" if on else "Composite"))
        self.inside.addLayout(row(self.quad, self.still, self.apart))
        self.words = note()
        self.inside.addWidget(self.words)

    @cached_property
    def measure(self) -> MeasurePanel:
        """What is looked at, and solving it."""
        return MeasurePanel(self.desk, self.tool, self._sample)

    @cached_property
    def correct(self) -> CorrectPanel:
        """What is done to a lock by hand."""
        return CorrectPanel(self.desk, self.tool)

    # --- showing ---
    def show_body(self) -> None:
        super().show_body()
        shot, zone, lock = self.desk.shot, self.zone, self.desk.lock
        entries = [(other.id, other.name) for other in shot.locks]
        fill(self.rides, [(None, FREE), *entries], zone.placement.rides)
        fill(self.which, entries, lock.id if lock else None)
        for part in (self.which, self.remove, self.go, self.quad, self.still, self.apart):
            part.setVisible(lock is not None)
        self.open_part(self.part)
        if lock is None:
            self.words.setText("")
            self.lost.hide()
            self.why.hide()
            return
        self.go.setEnabled(self.desk.frame != lock.reference_frame)
        self.quad.setChecked(lock.quad is not None)
        self.still.setChecked(self.desk.held_still)
        self.apart.setChecked(self.desk.view == "Difference")
        for part in (self.still, self.apart):
            part.setEnabled(lock.holds)
        self.words.setText(self._judged(lock))
        said = (*lock.lost, *lock.remarks) if lock.solved else lock.lost
        for label, lines in ((self.lost, said), (self.why, () if lock.solved else lock.remarks)):
            label.setText("\n".join(lines))
            label.setVisible(bool(lines))

    def _judged(self, lock: Lock) -> str:
        entry = lock.at(self.desk.frame)
        if entry is None:
            return say("Not solved on this frame.") if lock.solved else ""
        most = SHOWN_TIMES * entry.residual_px
        words = say(
            "Frame {frame}: error under {most:.2f} px, confidence {confidence:.2f}.",
            frame=entry.frame,
            most=most,
            confidence=entry.confidence,
        )
        worst = sorted(lock.solved, key=lambda each: -each.residual_px)[:3]
        listed = ", ".join(f"{each.frame} ({SHOWN_TIMES * each.residual_px:.2f})" for each in worst)
        words += say(" Worst: ") + listed + "."
        ride = self.desk.readings.rides.get(self.zone.id)
        if self.zone.placement.rides != lock.id or ride is None or entry.frame not in ride.frames_px:
            return words
        return words + say(
            " {name}: under {px:.1f} px, at worst {worst:.1f} px (frame {frame}, about {x:.0f}, {y:.0f}).",
            name=self.zone.name,
            px=ride.frames_px[entry.frame],
            worst=ride.worst_px,
            frame=ride.worst_frame,
            x=ride.worst_place[0],
            y=ride.worst_place[1],
        )

    def show_header(self) -> None:
        shot, zone = self.desk.shot, self.zone
        ride = self.desk.readings.rides.get(zone.id)
        helps = mend_of_ride(shot, zone, ride.fault) if ride is not None and ride.is_off else None
        self.header.show_mend(helps or mend_of_lock(shot, zone))
        plate = shot.holds_plate(zone)
        lock = shot.lock(zone.placement.rides) if zone.placement.rides else self.desk.lock if plate else None
        if lock is None and shot.first == shot.last:
            self.header.show_reading("nothing moves in a still")
            return
        if lock is None:
            self.header.show_reading("no lock yet" if plate else "rides on nothing", not plate)
            return
        if lock.kind == "by hand":
            self.header.show_reading(say("{name}: keyed by hand", name=lock.name))
            return
        reading = read_lock(lock, self.desk.shot.frames)
        if reading is None:
            self.header.show_reading(say("{name}: not solved", name=lock.name), True)
            return
        if [entry.frame for entry in lock.solved] == [lock.reference_frame] and reading.wanted > 1:
            self.header.show_reading(say("{name}: only its own frame", name=lock.name), True)
            return
        whole = reading.solved == reading.wanted
        extra = "" if whole else f" · {reading.solved}/{reading.wanted}"
        off = ride is not None and ride.is_off and not plate
        if ride is not None and off:
            extra += say(" · zone < {px:.1f} px", px=ride.worst_px)
        self.header.show_reading(
            say("{name} {rms_px:.2f} px{extra}", name=lock.name, rms_px=reading.rms_px, extra=extra),
            not whole or off or reading.worst_px > RESIDUAL_ACCEPTED_PX,
        )

    # --- changing ---
    def _ride(self, _: str) -> None:
        id = self.rides.currentData()
        lock = self.desk.shot.lock(id) if id else None
        self._hang_on(
            self.desk.shot,
            lock,
            say("{name} rides on {other}", name=self.zone.name, other=lock.name) if lock else say("Ride on nothing"),
        )

    def _hang_on(self, shot: Shot, lock: Lock | None, label: str) -> None:
        zone = shot.zone(self.zone.id)
        placement = zone.placement.but(rides=lock.id if lock else None)
        if lock is not None:
            self.desk.lock_id = lock.id
        self.desk.edit(shot.with_zone(zone.but(placement=placement)), label)

    def _new(self) -> None:
        shot, kind = self.desk.shot, chosen_of(self.kind)
        names, number = {lock.name for lock in shot.locks}, 1
        while f"{say(kind).capitalize()} {number}" in names:
            number += 1
        lock = Lock(
            id=shot.new_id("lock"),
            name=f"{say(kind).capitalize()} {number}",
            kind=kind,
            reference_frame=self.desk.frame,
        )
        self.desk.lock_id = lock.id
        self.tool.points_chosen = []
        if shot.holds_plate(self.zone):
            self.desk.edit(shot.with_lock(lock), say("New {name}", name=lock.name))
        else:
            self._hang_on(shot.with_lock(lock), lock, say("New {name}", name=lock.name))
        self.desk.choose_stage("Lock")
        self.desk.choice_changed.emit()

    def _work_on(self, _: str) -> None:
        self.tool.points_chosen = []
        self.desk.choose_lock(self.which.currentData())

    def _remove(self) -> None:
        if (lock := self.desk.lock) is not None:
            self.desk.set_view(held_still=False)
            self.desk.edit(self.desk.shot.without_lock(lock.id), say("Remove {name}", name=lock.name))

    def _go(self) -> None:
        if (lock := self.desk.lock) is not None:
            self.desk.set_frame(lock.reference_frame)

    def _quad(self, on: bool) -> None:
        lock = self.desk.lock
        if lock is None:
            return
        quad = None
        if on:
            width, height = self.desk.shot.size
            field = [point for shape in lock.field if shape.mode == "keep" for point in shape.keys[0].points]
            places = [(mark.x, mark.y) for mark in lock.marks] or field or [(width / 2, height / 2)]
            x, y = (sum(place[k] for place in places) / len(places) for k in (0, 1))
            rx, ry = width * 0.09, height * 0.1
            quad = ((x - rx, y - ry), (x + rx, y - ry), (x + rx, y + ry), (x - rx, y + ry))
        self.desk.edit_lock(lock.but(quad=quad), say("Quad of {name}", name=lock.name))
