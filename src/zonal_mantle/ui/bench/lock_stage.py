"""The Lock stage: which lock the zone rides on, its marks, solving it, judging it."""

from __future__ import annotations

from PySide6.QtWidgets import QCheckBox

from ...comp import solve_lock
from ...lock import read_lock
from ...lock.runs import Direction
from ...shot import Lock, Shot
from ..desk import Desk
from ..numberfield import NumberField
from ..widgets import choice, note, push_button, row, show_choice, tool_button
from .stage import Stage

FREE = "Rides on nothing"
CHANNELS = ["luma", "red", "green", "blue", "saturation"]


class LockStage(Stage):
    """What the zone rides on."""

    name = "Lock"
    tip = "The measured motion that this zone rides on"

    def __init__(self, desk: Desk) -> None:
        super().__init__(desk)
        self.header.switch.hide()
        self.rides = choice([FREE], "The lock that this zone rides on", self._ride)
        self.new = push_button(
            "New point lock", "A lock with one mark (position) or two (position, turn, size)", self._new, "plus"
        )
        self.inside.addLayout(row(self.rides, self.new))
        self.which = choice([], "The lock that is worked on", self._work_on)
        self.remove = tool_button("trash-2", "Remove this lock; what rode on it stays where it was hung", self._remove)
        self.work = row(self.which, self.remove)
        self.inside.addLayout(self.work)
        self.start = note()
        self.inside.addWidget(self.start)
        self.go = push_button("Go to the reference frame", "Shows the frame on which the marks were set", self._go)
        self.inside.addWidget(self.go)
        self.channel = choice(CHANNELS, "Which channel of the coded feed is searched", self._channel)
        self.filter = NumberField(
            "Blur", -3, 5, 0.05, 0, 2, "px", "Blurs the feed before the search; below 0 sharpens it"
        )
        self.least = NumberField(
            "Stop below", 0, 1, 0.01, 0.6, 2, "", "Confidence at which the patch counts as lost and the solve stops"
        )
        self.inside.addLayout(row(self.channel, self.filter))
        self.inside.addWidget(self.least)
        self.back = push_button(
            "◂ Backward", "Solve from the reference frame to the first", lambda: self.solve("backward")
        )
        self.both = push_button("Solve", "Solve from the reference frame both ways", lambda: self.solve("both"))
        self.on = push_button("Forward ▸", "Solve from the reference frame to the last", lambda: self.solve("forward"))
        self.inside.addLayout(row(self.back, self.both, self.on))
        self.quad = QCheckBox("Quad")
        self.quad.setToolTip("Hangs a grid of four corners on the lock, to see whether it holds. Drag its corners")
        self.quad.clicked.connect(self._quad)
        self.still = QCheckBox("Held still")
        self.still.setToolTip("The lock is inverted: what is locked stands still (H)")
        self.still.clicked.connect(lambda on: self.desk.set_view(held_still=bool(on)))
        self.inside.addLayout(row(self.quad, self.still, 1))
        self.words = note()
        self.inside.addWidget(self.words)
        self.lost = note(role="warn")
        self.inside.addWidget(self.lost)
        self.filter.changed.connect(lambda v, g: self._put("Blur of the feed", g, filter_px=v, solved=(), lost=()))
        self.least.changed.connect(lambda v, g: self._put("Least confidence", g, least_confidence=v))

    # --- showing ---
    def refresh(self) -> None:
        super().refresh()
        shot, zone, lock = self.desk.shot, self.zone, self.desk.lock
        names = [other.name for other in shot.locks]
        riding = shot.lock(zone.placement.rides) if zone.placement.rides else None
        plate = shot.holds_plate(zone)
        self.rides.setVisible(not plate)
        show_choice(self.rides, [FREE, *names], riding.name if riding else FREE)
        show_choice(self.which, names, lock.name if lock else "")
        for part in (self.which, self.remove, self.channel, self.filter, self.least, self.back, self.both, self.on):
            part.setVisible(lock is not None)
        for part in (self.quad, self.still, self.start):
            part.setVisible(lock is not None)
        self.go.setVisible(lock is not None and bool(lock.marks) and self.desk.frame != lock.reference_frame)
        self._show_header(riding, plate)
        if lock is None:
            self.words.setText(
                "A lock measures how something in the plate moves. Make one, then click a mark on the picture."
            )
            self.lost.setText("")
            return
        show_choice(self.channel, CHANNELS, lock.channel)
        self.filter.set_value(lock.filter_px)
        self.least.set_value(lock.least_confidence)
        self.quad.setChecked(lock.quad is not None)
        self.still.setChecked(self.desk.held_still)
        self.still.setEnabled(bool(lock.solved))
        marks = {0: "No mark yet: click on the picture", 1: "One mark: position", 2: "Two marks: position, turn, size"}
        start = f". Solves from frame {lock.reference_frame}" if lock.marks else ""
        self.start.setText(f"{marks[len(lock.marks)]}{start}.")
        for part in (self.back, self.both, self.on):
            part.setEnabled(bool(lock.marks))
        entry = lock.at(self.desk.frame)
        if entry is not None:
            self.words.setText(
                f"Frame {entry.frame}: residual {entry.residual_px:.3f} px, confidence {entry.confidence:.2f}."
            )
        else:
            self.words.setText("Not solved on this frame." if lock.solved else "")
        self.lost.setText("\n".join(lock.lost))

    def _show_header(self, riding: Lock | None, plate: bool) -> None:
        lock = self.desk.lock if plate else riding
        if lock is None:
            self.header.show_reading("no lock yet" if plate else "rides on nothing", not plate)
            return
        reading = read_lock(lock, self.desk.shot.frames)
        if reading is None:
            self.header.show_reading(f"{lock.name}: not solved", True)
            return
        whole = reading.solved == reading.wanted
        extra = "" if whole else f" · {reading.solved}/{reading.wanted}"
        self.header.show_reading(f"{lock.name} {reading.rms_px:.2f} px{extra}", not whole or reading.worst_px > 0.3)

    # --- changing ---
    def _ride(self, name: str) -> None:
        lock = next((other for other in self.desk.shot.locks if other.name == name), None)
        self._hang_on(self.desk.shot, lock, f"{self.zone.name} rides on {name}" if lock else "Ride on nothing")

    def _hang_on(self, shot: Shot, lock: Lock | None, label: str) -> None:
        zone = shot.zone(self.zone.id)
        placement = zone.placement.but(rides=lock.id if lock else None)
        if lock is not None:
            self.desk.lock_id = lock.id
        self.desk.edit(shot.with_zone(zone.but(placement=placement)), label)

    def _new(self) -> None:
        shot = self.desk.shot
        count = len(shot.locks) + 1
        lock = Lock(id=shot.new_id("lock"), name=f"Lock {count}", reference_frame=self.desk.frame)
        self.desk.lock_id = lock.id
        if shot.holds_plate(self.zone):
            self.desk.edit(shot.with_lock(lock), f"New {lock.name}")
        else:
            self._hang_on(shot.with_lock(lock), lock, f"New {lock.name}")
        self.desk.choose_stage("Lock")
        self.desk.choice_changed.emit()

    def _work_on(self, name: str) -> None:
        lock = next((other for other in self.desk.shot.locks if other.name == name), None)
        self.desk.choose_lock(lock.id if lock else None)

    def _remove(self) -> None:
        if (lock := self.desk.lock) is not None:
            self.desk.set_view(held_still=False)
            self.desk.edit(self.desk.shot.without_lock(lock.id), f"Remove {lock.name}")

    def _put(self, label: str, gesture: str | None = None, **changes: object) -> None:
        if (lock := self.desk.lock) is not None:
            self.desk.edit_lock(lock.but(**changes), label, gesture)

    def _channel(self, name: str) -> None:
        self._put(f"Search in {name}", channel=name, solved=(), lost=())

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
            x = sum(m.x for m in lock.marks) / len(lock.marks) if lock.marks else width / 2
            y = sum(m.y for m in lock.marks) / len(lock.marks) if lock.marks else height / 2
            rx, ry = width * 0.09, height * 0.1
            quad = ((x - rx, y - ry), (x + rx, y - ry), (x + rx, y + ry), (x - rx, y + ry))
        self._put("Quad", quad=quad)

    def solve(self, direction: Direction) -> None:
        """Solves the lock in the background; the shot changes only when it is done."""
        lock, shot = self.desk.lock, self.desk.shot
        if lock is None:
            return
        self.desk.run(
            f"Solving {lock.name}",
            lambda job: solve_lock(shot, lock.id, self.desk.store, direction, job.progress).lock(lock.id),
            self._solved,
        )

    def _solved(self, lock: Lock) -> None:
        if any(other.id == lock.id for other in self.desk.shot.locks):
            shot = self.desk.shot.with_lock(lock)
            if lock.marks:
                zones = [
                    zone.but(placement=zone.placement.but(anchor=(lock.marks[0].x, lock.marks[0].y)))
                    if zone.placement.rides == lock.id
                    and zone.placement.anchor in (None, _middle(shot))
                    and _untouched(zone)
                    else zone
                    for zone in shot.zones
                ]
                shot = shot.but(zones=tuple(zones))
            self.desk.edit(shot, f"Solve {lock.name}")
            count = len(lock.solved)
            words = lock.lost[0] if lock.lost else f"{lock.name} is solved on {count} frames."
            self.desk.said.emit(words, bool(lock.lost))


def _middle(shot: Shot) -> tuple[float, float]:
    return shot.size[0] / 2, shot.size[1] / 2


def _untouched(zone: object) -> bool:
    """Whether a placement is still as it was made, so that its anchor may go to the mark without moving anything."""
    placement = zone.placement
    return placement.size.constant == 1 and placement.turn_deg.constant == 0 and not placement.size.keys
