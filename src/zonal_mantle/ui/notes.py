"""Notes that people leave for one another in a shot: on a zone, a stage, a frame or a place of the picture."""

from __future__ import annotations

from datetime import date

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QCheckBox, QDialog, QLineEdit, QListWidget, QListWidgetItem, QWidget

from ..shot import Note
from ..words import say
from .desk import Desk
from .tools.sample import Area
from .widgets import column, push_button, row

ROLE = Qt.ItemDataRole.UserRole


def about(note: Note, desk: Desk) -> str:
    """What a note is about, in words."""
    zone = next((zone.name for zone in desk.shot.zones if zone.id == note.zone), None)
    parts = [
        zone,
        say(note.stage) if note.stage else None,
        say("frame {frame}", frame=note.frame) if note.frame is not None else None,
    ]
    if note.place is not None:
        parts.append(say("at {place:.0f}, {place_2:.0f}", place=note.place[0], place_2=note.place[1]))
    return ", ".join(part for part in parts if part) or say("the shot")


class Notes(QDialog):
    """The list of notes; a click goes where one belongs, its box says that it is done."""

    def __init__(self, parent: QWidget, desk: Desk, sample: object) -> None:
        super().__init__(parent)
        self.desk, self._sample = desk, sample
        self.setWindowTitle(say("Notes — Zonal Mantle"))
        self.list = QListWidget()
        self.list.setWordWrap(True)
        self.list.setAccessibleName(say("Notes"))
        self.list.itemClicked.connect(self._go)
        self.list.itemChanged.connect(self._tick)
        self.words = QLineEdit()
        self.words.setPlaceholderText(say("What is to be done, or has to be known"))
        self.words.setAccessibleName(say("Words of a new note"))
        self.words.returnPressed.connect(self.add)
        self.on_zone, self.on_stage, self.on_frame = (
            QCheckBox(say(name)) for name in ("This zone", "This stage", "This frame")
        )
        for box, tip in (
            (self.on_zone, "The new note is about the zone on the bench"),
            (self.on_stage, "The new note is about the open stage"),
            (self.on_frame, "The new note is about the frame at hand"),
        ):
            box.setToolTip(say(tip))
        self.on_frame.setChecked(True)
        self.add_it = push_button("Add note", "Adds it to the shot", self.add)
        self.add_there = push_button("Add note at a place…", "Click the place on the picture", self.add_at_place)
        self.remove = push_button("Remove note", "Removes the chosen note", self._remove)
        layout = column(6, (8, 8, 8, 8))
        layout.addWidget(self.list, 1)
        layout.addWidget(self.words)
        layout.addLayout(row(self.on_zone, self.on_stage, self.on_frame))
        layout.addLayout(row(self.add_it, self.add_there, self.remove))
        self.setLayout(layout)
        self.resize(440, 380)
        desk.shot_changed.connect(self.refresh)
        self.refresh()

    def refresh(self) -> None:
        """Lists them: open ones first."""
        self.list.blockSignals(True)
        self.list.clear()
        for note in sorted(self.desk.shot.notes, key=lambda each: each.done):
            when = f" · {note.written}" if note.written else ""
            item = QListWidgetItem(f"{note.words}\n{about(note, self.desk)}{when}")
            item.setFlags(item.flags() | Qt.ItemFlag.ItemIsUserCheckable)
            item.setCheckState(Qt.CheckState.Checked if note.done else Qt.CheckState.Unchecked)
            item.setToolTip(say("Done") if note.done else say("Open. Tick it when it is done"))
            item.setData(ROLE, note.id)
            self.list.addItem(item)
        self.list.blockSignals(False)

    def _put(self, notes: tuple[Note, ...], label: str) -> None:
        self.desk.annotate(self.desk.shot.but(notes=notes), label)

    def add(self, place: tuple[float, float] | None = None) -> None:
        """A new note from the words in the line."""
        desk, words = self.desk, self.words.text().strip()
        if not words:
            desk.said.emit(say("Write the note first."), True)
            self.words.setFocus()
            return
        note = Note(
            id=desk.shot.new_id("note"),
            words=words,
            zone=desk.zone_id if self.on_zone.isChecked() else None,
            stage=desk.stage if self.on_stage.isChecked() else None,
            frame=desk.frame if self.on_frame.isChecked() or place is not None else None,
            place=place,
            written=date.today().isoformat(),
        )
        self.words.clear()
        self._put((*desk.shot.notes, note), "Add a note")

    def add_at_place(self) -> None:
        """A new note at a place that is clicked on the picture."""

        def taken(area: Area) -> None:
            self.add(((area[0] + area[2]) / 2, (area[1] + area[3]) / 2))

        self._sample("Click the place that the note is about.", taken)  # type: ignore[operator]

    def _go(self, item: QListWidgetItem) -> None:
        desk = self.desk
        note = next((each for each in desk.shot.notes if each.id == item.data(ROLE)), None)
        if note is None:
            return
        if note.frame is not None:
            desk.set_frame(note.frame)
        if any(zone.id == note.zone for zone in desk.shot.zones):
            desk.choose_zone(note.zone)
        if note.stage is not None:
            desk.choose_stage(note.stage)

    def _tick(self, item: QListWidgetItem) -> None:
        done = item.checkState() == Qt.CheckState.Checked
        notes = tuple(each.but(done=done) if each.id == item.data(ROLE) else each for each in self.desk.shot.notes)
        self._put(notes, "Note done" if done else "Note open again")

    def _remove(self) -> None:
        item = self.list.currentItem()
        if item is not None:
            self._put(tuple(each for each in self.desk.shot.notes if each.id != item.data(ROLE)), "Remove a note")
