"""The menus of the window, and with them every shortcut."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from typing import TYPE_CHECKING

from PySide6.QtGui import QAction, QKeySequence
from PySide6.QtWidgets import QMenu

from ..comp import VIEWS
from ..media.colour import encodings
from ..words import say
from . import recent
from .compare import WAYS
from .room import NAMES

if TYPE_CHECKING:
    from .window import Window

ROOM_KEYS = {"Stock": "Ctrl+F1", "Bench": "Ctrl+F2", "Rail": "Ctrl+F3", "Section": "Ctrl+F4", "Findings": "Ctrl+F5"}


class Menus:
    """Builds the menu bar. `shortcuts` is the page of all keys, by menu."""

    def __init__(self, window: Window) -> None:
        self.window, self.desk = window, window.desk
        self.shortcuts: dict[str, list[tuple[str, str]]] = {}
        self._menu = ""
        for build in (self._file, self._edit, self._shot, self._view, self._window, self._frame, self._help):
            build()

    def _open(self, name: str) -> QMenu:
        self._menu = name
        self.shortcuts[name] = []
        return self.window.menuBar().addMenu(say(name))

    def _add(self, menu: QMenu, text: str, keys: str, action: Callable[[], object]) -> QAction:
        entry = menu.addAction(say(text))
        if keys:
            entry.setShortcut(QKeySequence(keys))
            self.shortcuts[self._menu].append((say(text).rstrip("…"), keys))
        entry.triggered.connect(lambda *_: action())
        return entry

    def _file(self) -> None:
        window, files = self.window, self.window.files
        file = self._open("File")
        self._add(file, "New shot from a plate…", "Ctrl+N", files.new)
        self._add(file, "Open shot…", "Ctrl+O", files.open)
        self._add(file, "Check a shot's files before opening…", "", files.open_looked_at)
        self._add(file, "Open the demo", "", window.open_demo)
        self.recent = file.addMenu(say("Recent shots"))
        self.recent.aboutToShow.connect(self._fill_recent)
        file.addSeparator()
        self._add(file, "Save", "Ctrl+S", files.save)
        self._add(file, "Save as…", "Ctrl+Shift+S", files.save_as)
        self._add(file, "Earlier versions…", "", window.show_past)
        file.addSeparator()
        self._add(file, "Import as a zone…", "Ctrl+I", files.import_source)
        self._add(file, "Render…", "Ctrl+R", window.render_panel.show_for_shot)
        file.addSeparator()
        self._add(file, "Preferences…", "Ctrl+,", window.show_preferences)
        self._add(file, "Quit", "Ctrl+Q", window.close)

    def _edit(self) -> None:
        window, desk, parts = self.window, self.desk, self.window.parts
        edit = self._open("Edit")
        self._add(edit, "Undo", "Ctrl+Z", desk.undo)
        self._add(edit, "Redo", "Ctrl+Shift+Z", desk.redo)
        self.history = edit.addMenu(say("History"))
        self.history.aboutToShow.connect(self._fill_history)
        edit.addSeparator()
        self._add(edit, "Duplicate zone", "Ctrl+D", parts.duplicate)
        self._add(edit, "Copy zone", "Ctrl+Alt+C", parts.copy_zone)
        self._add(edit, "Copy the open stage", "Ctrl+Shift+C", parts.copy_stage)
        self._add(edit, "Copy the open part of the match", "", parts.copy_part)
        self._add(edit, "Copy the chosen shape", "", window.copy_shape)
        self._add(edit, "Paste zone, stage or shape", "Ctrl+Alt+V", window.paste)
        self._add(edit, "Paste the stage to the whole group", "", lambda: parts.paste(to_group=True))

    def _shot(self) -> None:
        window = self.window
        shot = self._open("Shot")
        self._add(shot, "First pass", "", window.first_pass)
        self._add(shot, "Suggest a lock", "", lambda: window.bench.lock.measure.propose())
        shot.addSeparator()
        self._add(shot, "Notes…", "Ctrl+T", window.show_notes)
        self._add(shot, "States…", "Ctrl+Shift+T", window.show_states)
        shot.addSeparator()
        compare = shot.addMenu(say("Compare"))
        for name in ("A", "B"):
            self._add(
                compare,
                say("Keep as state {name}", name=name),
                f"Ctrl+Shift+{name}",
                lambda name=name: window.compare.keep(name),
            )
        for way, keys in zip(WAYS, ("Shift+1", "Shift+2", "Shift+3")):
            self._add(compare, say("A and B, {way}", way=say(way)), keys, lambda way=way: window.compare.show(way))
        self._add(compare, "Follow the patches", "", window.compare.follow)

    def _view(self) -> None:
        window, desk = self.window, self.desk
        view = self._open("View")
        for number, name in enumerate(VIEWS, 1):
            keys = str(number % 10) if number <= 10 else "Shift+0"
            self._add(view, name, keys, lambda name=name: desk.set_view(view=name))
        view.addSeparator()
        self._add(view, "Step: plate, matte, cut-out, composite", "S", desk.step_view)
        self._add(view, "Magnifier", "M", lambda: desk.set_view(loupe=not desk.loupe))
        self._add(view, "Move pointer by keys", "K", window.key_pointer.flip)
        self._add(view, "Wipe", "W", lambda: desk.set_view(wipe=not desk.wipe))
        self._add(view, "Held still", "H", window.strip.hold_still)
        self._add(view, "Before: without the open part of the match", "B", window.bench.match.flip_before)
        self._add(view, "Next mood", "N", lambda: window.bench.finish.flip_mood())
        view.addSeparator()
        self.overlays = self._add(
            view, "Show shapes, lines and handles", "O", lambda: desk.set_view(overlays=not desk.overlays)
        )
        self.smooth = self._add(
            view, "Smooth pixels above 200 %", "", lambda: desk.set_view(smooth_pixels=not desk.smooth_pixels)
        )
        self._add(view, "Show delivered frame", "G", lambda: desk.set_view(frame_guides=not desk.frame_guides))
        for entry in (self.overlays, self.smooth):
            entry.setCheckable(True)
        self._add(view, "Scopes", "V", lambda: window.scopes.setVisible(not window.scopes.isVisible()))
        self.encodings = view.addMenu(say("Encoding of the viewing LUT"))
        self.encodings.aboutToShow.connect(self._fill_encodings)
        self._add(view, "Fit", "F", window.viewer.fit)
        self._add(view, "One to one", "Ctrl+1", window.viewer.actual_size)
        view.aboutToShow.connect(self._show_checks)

    def _window(self) -> None:
        room = self.window.room
        menu = self._open("Window")
        self.rooms: dict[str, QAction] = {}
        for name in NAMES:
            entry = self._add(menu, name, ROOM_KEYS[name], lambda name=name: room.show(name, not room.shows(name)))
            entry.setCheckable(True)
            self.rooms[name] = entry
        menu.addSeparator()
        self.alone = self._add(menu, "Picture alone", "P", self.window.picture_alone)
        self.alone.setCheckable(True)
        room.changed.connect(self._show_checks)
        menu.aboutToShow.connect(self._show_checks)
        self._show_checks()

    def _show_checks(self) -> None:
        """Ticks what is there; a click ticks by itself, whatever came of it."""
        desk, room = self.desk, self.window.room
        self.overlays.setChecked(desk.overlays)
        self.smooth.setChecked(desk.smooth_pixels)
        for name, entry in self.rooms.items():
            entry.setChecked(room.shows(name))
        self.alone.setChecked(room.is_alone)

    def _frame(self) -> None:
        desk, window = self.desk, self.window
        frame = self._open("Frame")
        self._add(frame, "Play or stop", "L", window.rail.toggle_play)
        self._add(frame, "One frame back", ",", lambda: desk.set_frame(desk.frame - 1))
        self._add(frame, "One frame on", ".", lambda: desk.set_frame(desk.frame + 1))
        self._add(frame, "First frame", "Home", lambda: desk.set_frame(desk.shot.first))
        self._add(frame, "Last frame", "End", lambda: desk.set_frame(desk.shot.last))
        frame.addSeparator()
        self._add(frame, "Key before", "Shift+,", lambda: window.rail.track.keys.go(-1))
        self._add(frame, "Next key", "Shift+.", lambda: window.rail.track.keys.go(1))
        self._add(frame, "Copy keys of this frame", "", window.rail.track.keys.copy)
        self._add(frame, "Paste keys on this frame", "", window.rail.track.keys.paste)
        self._add(frame, "Delete keys of this frame", "", window.rail.track.keys.delete)
        frame.addSeparator()
        parts = window.parts
        self._add(frame, "Work range from this frame", "Shift+Home", lambda: parts.work_range(first=desk.frame))
        self._add(frame, "Work range to this frame", "Shift+End", lambda: parts.work_range(last=desk.frame))
        self._add(frame, "Work on the whole shot", "", lambda: parts.work_range())
        frame.addSeparator()
        self._add(frame, "Cancel what is running", "Ctrl+.", desk.cancel_job)

    def _help(self) -> None:
        window = self.window
        menu = self._open("Help")
        self._add(menu, "Manual", "F1", window.show_manual)
        self._add(menu, "Tour of the window", "", window.take_tour)
        self._add(menu, "Shortcuts", "", window.show_shortcuts)
        self._add(menu, "What is new", "", window.show_news)
        menu.addSeparator()
        self._add(menu, "Save a fault report…", "", window.files.pack_report)
        self._add(menu, "About Zonal Mantle", "", window.about)

    # --- filled when they open ---
    def _fill_recent(self) -> None:
        self.recent.clear()
        for path in recent.recent_shots():
            entry = self.recent.addAction(path.name)
            entry.setToolTip(str(path))
            entry.triggered.connect(lambda _=False, path=path: self.window.open_recent(path))
        if self.recent.isEmpty():
            self.recent.addAction(say("None yet")).setEnabled(False)

    def _fill_history(self) -> None:
        """The newest steps by name; what was undone stands above the one that is ticked."""
        self.history.clear()
        history = self.desk.history
        for place in range(len(history.labels) - 1, max(len(history.labels) - 31, -1), -1):
            entry = self.history.addAction(say(history.labels[place]))
            entry.setCheckable(True)
            entry.setChecked(place == history.place)
            entry.triggered.connect(lambda _=False, place=place: self.desk.go_to_step(place))

    def _fill_encodings(self) -> None:
        self.encodings.clear()
        desk = self.desk
        for name in encodings():
            entry = self.encodings.addAction(name)
            entry.setCheckable(True)
            entry.setChecked(name == desk.look.lut_encoding)
            entry.triggered.connect(
                lambda _=False, name=name: desk.set_view(look=replace(desk.look, lut_encoding=name))
            )
