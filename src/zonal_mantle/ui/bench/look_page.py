"""A look: chosen, laid on by a strength, saved with a picture of what is seen."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

from PySide6.QtCore import QBuffer, QByteArray, Qt
from PySide6.QtGui import QImage, QPixmap
from PySide6.QtWidgets import QLabel, QLineEdit

from ...finish.errors import FinishError
from ...finish.look import SUFFIX, looks_in, read_look, write_look
from ...paths import looks_dir
from ...shot import Keyed, Look, LookUse
from ...words import say
from .. import ask
from ..apart import apart
from ..desk import Desk
from ..numberfield import NumberField
from ..widgets import choice, note, push_button, row, show_choice
from .panel import Panel

NO_LOOK, FROM_FILE = "No look", "From a file…"
PICTURE_PX = 160


class LookPage(Panel):
    """What look lies on something. `get` gives it, `put` lays another on, `make` makes one of what stands now."""

    def __init__(
        self,
        desk: Desk,
        get: Callable[[], LookUse | None],
        put: Callable[[LookUse | None, str, str | None], None],
        make: Callable[[str], Look | None],
    ) -> None:
        super().__init__(desk)
        self._get, self._put, self._make = get, put, make
        self._known: dict[str, Path] = {}
        self._pictures: dict[str, bytes] = {}
        self.names = choice([NO_LOOK, FROM_FILE], "The look that is laid on after the tone", self._choose)
        self.inside.addLayout(row(note("Look"), self.names))
        self.inside.itemAt(0).layout().setStretch(1, 1)
        field = NumberField(
            "Strength", 0, 1, 0.01, 1, 2, "", "0 leaves the picture as it is, 1 lays all of the look on"
        )
        self.strength = self.keyed(field, self._strength, self._set_strength)
        self.inside.addWidget(self.strength)
        self.picture = QLabel()
        self.picture.setAlignment(Qt.AlignmentFlag.AlignCenter)
        self.inside.addWidget(self.picture)
        self.words = note()
        self.inside.addWidget(self.words)
        self.name = QLineEdit()
        self.name.setPlaceholderText(say("Name of a new look"))
        self.name.setToolTip(say("The name under which the tone as it stands is saved"))
        self.name.setAccessibleName(say("Name of a new look"))
        self.save = push_button("Save look", "The tone as it stands, with a picture of what is seen", self._save)
        self.inside.addLayout(row(self.name, self.save))
        self._listed = False

    def _strength(self) -> Keyed | None:
        use = self._get()
        return None if use is None else use.strength

    def _set_strength(self, value: Keyed, words: str, gesture: str) -> None:
        use = self._get()
        if use is not None:
            self._put(use.but(strength=value), "Strength of the look", gesture)

    def _choose(self, name: str) -> None:
        if name == NO_LOOK:
            self._put(None, "No look", None)
            return
        path = self._known.get(name)
        if name == FROM_FILE:
            path = ask.existing_file(
                self.window(), "Choose a look", ask.LOOKS, looks_dir() if looks_dir().is_dir() else None
            )
        if path is None:
            self.refresh()
            return
        try:
            found = apart(lambda: read_look(path))
        except FinishError as problem:
            self.desk.said.emit(str(problem), True)
            self.refresh()
            return
        self._pictures[found.look.name] = found.picture
        use = self._get()
        strength = Keyed(constant=1.0) if use is None else use.strength
        self._put(LookUse(look=found.look, strength=strength), say("Look {name}", name=found.look.name), None)

    def _save(self) -> None:
        """Writes the tone as a look into the person's own folder; what is there already is kept."""
        name = self.name.text().strip()
        look = self._make(name) if name else None
        if look is None:
            self.desk.said.emit(say("Type a name for the look first."), True)
            return
        folder, stem = looks_dir(), "".join(c if c.isalnum() or c in "-_ " else "_" for c in name)
        path, number = folder / f"{stem}{SUFFIX}", 2
        while apart(path.exists):
            path, number = folder / f"{stem} {number}{SUFFIX}", number + 1
        seen = self._seen()
        try:
            apart(lambda: write_look(path, look, seen))
        except FinishError as problem:
            self.desk.said.emit(str(problem), True)
            return
        self._listed = False
        self.name.clear()
        self.desk.said.emit(say("{name} is in {folder}.", name=path.name, folder=folder), False)
        self.refresh()

    def _seen(self) -> bytes:
        """A small PNG of what the viewer shows."""
        image: QImage | None = self.desk.picture_seen()
        if image is None:
            return b""
        small = image.scaledToWidth(PICTURE_PX, Qt.TransformationMode.SmoothTransformation)
        data = QByteArray()
        buffer = QBuffer(data)
        buffer.open(QBuffer.OpenModeFlag.WriteOnly)
        small.save(buffer, "PNG")
        return bytes(data.data())

    def refresh(self) -> None:
        super().refresh()
        if not self._listed and self.isVisible():
            self._known, self._listed = apart(lambda: looks_in(looks_dir())), True
        use = self._get()
        names = [NO_LOOK, *self._known, FROM_FILE]
        if use is not None and use.look.name not in names:
            names.insert(1, use.look.name)
        show_choice(self.names, names, NO_LOOK if use is None else use.look.name)
        self.words.setText("" if use is None else use.look.note)
        shown = b"" if use is None else self._picture_of(use.look.name)
        pixmap = QPixmap()
        pixmap.loadFromData(shown)
        self.picture.setPixmap(pixmap)
        self.picture.setVisible(not pixmap.isNull())

    def _picture_of(self, name: str) -> bytes:
        if name not in self._pictures and name in self._known:
            try:
                self._pictures[name] = apart(lambda: read_look(self._known[name])).picture
            except FinishError:
                self._pictures[name] = b""
        return self._pictures.get(name, b"")
