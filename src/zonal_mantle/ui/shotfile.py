"""Where the shot on the desk lies: its file, the autosave beside it, and the mark that others see."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

from PySide6.QtCore import QObject, QTimer

from ..paths import placed
from ..shot import MantleError, Shot, autosave_path, save
from ..shot.file import FileState, file_state
from ..shot.opened import mark_opened, unmark_opened
from ..shot.past import keep_past
from ..words import say
from . import recent
from .apart import apart
from .keptpictures import as_png, keep_picture

if TYPE_CHECKING:
    from .desk import Desk

AUTOSAVE_MS = 4000  # after the last change
MARK_MS = 60_000  # after which others are told again that a shot is open here


class ShotFile(QObject):
    """Saves the desk's shot, autosaves it, and tells others that it is open here. `saved` is the shot as the file has
    it."""

    def __init__(self, desk: Desk) -> None:
        super().__init__(desk)
        self.desk = desk
        self.path: Path | None = None
        self.saved = desk.shot
        self._state: FileState | None = None
        self._autosave_soon = QTimer(self, singleShot=True, interval=AUTOSAVE_MS)
        self._autosave_soon.timeout.connect(self.autosave)
        self._autosaves = 0  # one more whenever what is being written need not be any more
        self._mark_again = QTimer(self, interval=MARK_MS)
        self._mark_again.timeout.connect(self._mark_once_more)
        self._mark_again.start()

    def put(self, shot: Shot, path: Path | None, recovered: bool) -> None:
        """Another shot comes onto the desk, from a file, from an autosave of it, or from none."""
        self._mark(path)
        state = apart(lambda: file_state(path)) if path is not None else None
        self.path, self._state = path, state
        self._autosaves += 1
        self.saved = Shot() if recovered else shot

    def changed(self) -> None:
        """The shot is another than it was: it is autosaved soon, where it is not in its file."""
        if self.desk.unsaved:
            self._autosave_soon.start()

    def save(self, path: Path) -> bool:
        """Saves the shot; False (and a sentence) where that cannot be done."""
        shot = self.desk.shot

        def write() -> FileState | None:
            save(shot, path)
            recent.remember(path)
            return file_state(path)

        try:
            state = apart(write)
        except MantleError as problem:
            self.desk.said.emit(str(problem), True)
            return False
        self.discard_autosave()
        self._mark(path)
        self.path, self.saved, self._state = path, shot, state
        self.discard_autosave()
        self.desk.said.emit(say("Saved {name}", name=path.name), False)
        self.desk.shot_changed.emit()
        return True

    def _mark(self, path: Path | None) -> None:
        """Tells others which shot is open here, and no more that the one before is."""
        before = self.path

        def mark() -> None:
            if before is not None and before != path:
                unmark_opened(before)
            if path is not None:
                mark_opened(path)

        apart(mark)

    def _mark_once_more(self) -> None:
        path = self.path
        if path is not None:
            self.desk.later("mark", lambda: mark_opened(path), lambda _: None)

    def changed_outside(self) -> FileState | None:
        """How the shot's file stands now, where somebody else wrote it since it was opened or saved here."""
        path = self.path
        now = apart(lambda: file_state(path)) if path is not None else None
        return now if now is not None and self._state is not None and now != self._state else None

    def autosave(self) -> None:
        """Writes the autosave beside the shot, or into the state folder for a shot without a file; on a worker. The
        past of a shot with a file is kept with it."""
        if not self.desk.unsaved or self.desk.shot.plate is None:
            return
        shot, path, round_ = self.desk.shot, self.path, self._autosaves
        target = autosave_path(path) if path else recent.unnamed_autosave()
        image = self.desk.picture_seen()

        def write() -> None:
            if round_ != self._autosaves:
                return  # saved or let go meanwhile
            save(shot, target)
            if round_ != self._autosaves:
                target.unlink(missing_ok=True)  # so long did the disk take
                return
            keep_picture(target, image)
            if path is not None:
                keep_past(shot, path, picture=as_png(image) if image is not None and not image.isNull() else b"")

        self.desk.later("autosave", write, lambda _: None)

    def discard_autosave(self) -> None:
        """Removes the autosave of what is on the desk. One that is being written removes itself: a slow disk holds
        nobody up here."""
        self._autosave_soon.stop()
        self._autosaves += 1
        target = autosave_path(self.path) if self.path else recent.unnamed_autosave()
        try:
            apart(lambda: target.unlink(missing_ok=True))
        except OSError as problem:
            self.desk.said.emit(
                say("{placed} cannot be removed: {why}.", placed=placed(target), why=problem.strerror), True
            )

    def close(self) -> None:
        """The window ends: nothing is written any more, and nobody has the shot open here."""
        self._mark(None)
        self._mark_again.stop()
        self._autosave_soon.stop()
