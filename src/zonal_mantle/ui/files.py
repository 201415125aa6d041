"""What the File menu does: new, open, recover, import, relink, save."""

from __future__ import annotations

from collections.abc import Callable
from datetime import datetime
from pathlib import Path

from PySide6.QtWidgets import QMessageBox, QWidget

from ..api import add_painting, shot_from_plate
from ..comp import Job
from ..comp.shelf import card_of, source_of
from ..media import open_source
from ..paths import named, placed
from ..report import pack
from ..shot import SUFFIX, MantleError, Source, changes, load, newer_autosave
from ..shot.file import FileState, files_named
from ..shot.opened import opened_by_others
from ..words import say
from . import ask, recent
from .apart import apart
from .desk import Desk
from .keptpictures import both_pictures
from .language import moment


class Files:
    """Everything between the desk and the disk that a person asks for."""

    def __init__(self, window: QWidget, desk: Desk) -> None:
        self.window, self.desk = window, desk

    def _start(self) -> Path | None:
        if self.desk.path:
            return self.desk.path.parent
        source = self.desk.shot.plate_source
        return Path(source.path).parent if source else None

    def may_leave(self) -> bool:
        """Asks about unsaved changes; False to stay."""
        if not self.desk.unsaved or self.desk.shot.plate is None:
            return True
        buttons = QMessageBox.StandardButton
        answer = QMessageBox.question(
            self.window,
            say("Unsaved changes"),
            say("{name} has changes that are not saved.", name=self.desk.shot.name),
            buttons.Save | buttons.Discard | buttons.Cancel,
        )
        if answer == buttons.Save:
            return self.save()
        if answer == buttons.Discard:
            self.desk.file.discard_autosave()
        return answer == buttons.Discard

    def new(self) -> None:
        """A shot from a plate."""
        if not self.may_leave():
            return
        path = ask.existing_file(self.window, "Open a plate", ask.PICTURES, self._start())
        if path is not None:
            self.new_from(path)

    def new_from(self, path: Path) -> None:
        """A shot from a plate's file."""
        try:
            source = apart(lambda: open_source(path, "plate"))
        except MantleError as problem:
            self.desk.said.emit(str(problem), True)
            return
        self.desk.open(shot_from_plate(source), None)
        guess = say("Read as {encoding}, a guess; change it under Source if it is wrong.", encoding=source.encoding)
        self.desk.said.emit(f"{source.name}: {source.start}–{source.end}. {guess}", False)

    def open(self) -> None:
        """A shot's file."""
        if not self.may_leave():
            return
        path = ask.existing_file(self.window, "Open a shot", ask.SHOTS, self._start())
        if path is not None:
            self.open_path(path)

    def open_looked_at(self) -> None:
        """A shot's file, after the files that it names were shown; none of them is opened before."""
        path = ask.existing_file(self.window, "Look at a shot's files", ask.SHOTS, self._start())
        if path is None:
            return
        try:
            found = apart(lambda: files_named(load(path), path))
        except MantleError as problem:
            self.desk.said.emit(str(problem), True)
            return
        outside = [placed(name) for name, is_outside in found if is_outside]
        inside = [placed(name) for name, is_outside in found if not is_outside]
        box = QMessageBox(self.window)
        box.setWindowTitle(say("A shot's files"))
        box.setText(
            say(
                "{named} names {count} files, of which {total} lie outside of its folder.",
                named=named(path),
                count=len(found),
                total=len(outside),
            )
        )
        shown = outside[:12] + (["…"] if len(outside) > 12 else [])
        box.setInformativeText("\n".join(shown) or say("None is opened before you open the shot."))
        box.setDetailedText("\n".join(["Outside:", *outside, "", "Inside:", *inside]))
        box.setStandardButtons(QMessageBox.StandardButton.Open | QMessageBox.StandardButton.Cancel)
        box.setDefaultButton(QMessageBox.StandardButton.Cancel)
        if box.exec() == QMessageBox.StandardButton.Open and self.may_leave():
            self.open_path(path)

    def open_demo(self, then: Callable[[], object] = lambda: None) -> None:
        """The demo shot, laid out first where it is not there yet."""

        def there(shot: Path) -> None:
            self.open_path(shot)
            then()

        def laid_out(job: Job) -> Path:
            from ..demo import demo_shot  # the generator is loaded when it is wanted, not at each start

            return demo_shot(job.progress)

        self.desk.run("Laying out the demo", laid_out, there)

    def open_path(self, path: Path) -> None:
        """Opens a shot, or its newer autosave if that is wanted."""
        recovered = False
        try:
            autosave = apart(lambda: newer_autosave(path))
            if autosave is not None and self._recover(path.name, path, autosave):
                shot, recovered = apart(lambda: load(autosave)), True
            else:
                shot = apart(lambda: load(path))
        except MantleError as problem:
            self.desk.said.emit(str(problem), True)
            return
        self.desk.open(shot, path, recovered)
        other = apart(lambda: opened_by_others(path))
        apart(lambda: recent.remember(path))
        words = (
            say("Recovered {named}; save it to keep it.", named=named(path))
            if recovered
            else say("Opened {named}", named=named(path))
        )
        if other is not None:
            words += say(
                ". It is open elsewhere too: by {other}. Whoever saves second is asked what to do.", other=other
            )
        self.desk.said.emit(words, other is not None)

    def offer_unnamed(self) -> None:
        """Offers the autosave of a shot that never had a file."""
        path = recent.unnamed_autosave()
        try:
            shot = apart(lambda: load(path) if path.exists() else None)
        except MantleError as problem:
            self.desk.said.emit(str(problem), True)
            return
        if shot is not None and self._recover(say("an unnamed shot"), None, path):
            self.desk.open(shot, None, recovered=True)

    def _recover(self, name: str, saved: Path | None, autosave: Path) -> bool:
        """Asks whether an autosave is wanted rather than what was saved, with pictures of both."""
        box = QMessageBox(self.window)
        box.setWindowTitle(say("Recover"))
        box.setText(say("There is a newer autosave of {name}. Open the autosave?", name=name))
        box.setIconPixmap(both_pictures([("Saved", saved), ("Autosaved", autosave)]))
        box.setStandardButtons(QMessageBox.StandardButton.Yes | QMessageBox.StandardButton.No)
        box.setDefaultButton(QMessageBox.StandardButton.Yes)
        return box.exec() == QMessageBox.StandardButton.Yes

    def save(self) -> bool:
        """Saves, asking for a place the first time."""
        if self.desk.path is None:
            return self.save_as()
        other = self.desk.file.changed_outside()
        return self.desk.file.save(self.desk.path) if other is None else self._save_over(self.desk.path, other)

    def _save_over(self, path: Path, other: FileState) -> bool:
        """Somebody else wrote the file meanwhile: beside it, over it, or not at all."""
        when = moment(other.changed_ns / 1e9)
        box = QMessageBox(self.window)
        box.setIcon(QMessageBox.Icon.Warning)
        box.setWindowTitle(say("Changed by somebody else"))
        said = say(
            "{name} was written by somebody else since it was opened here: on {when}.", name=path.name, when=when
        )
        box.setText(say("{said} It belongs to {owner}.", said=said, owner=other.owner))
        box.setInformativeText(say("Saving over it would take away what was written there."))
        try:
            there = apart(lambda: load(path))
            words = "\n".join(changes(there, self.desk.shot)) or say("Nothing that a shot holds is different.")
        except MantleError as problem:
            words = str(problem)
        box.setDetailedText(say("From the file to what is open here:\n{words}", words=words))
        beside = box.addButton(say("Save beside it"), QMessageBox.ButtonRole.AcceptRole)
        over = box.addButton(say("Save over it"), QMessageBox.ButtonRole.DestructiveRole)
        box.addButton(QMessageBox.StandardButton.Cancel)
        box.setDefaultButton(beside)
        box.exec()
        if box.clickedButton() is over:
            return self.desk.file.save(path)
        if box.clickedButton() is beside:
            return self.desk.file.save(apart(lambda: _free_name(path)))
        return False

    def pack_report(self) -> None:
        """The log and what the program runs on, in one file that can be sent."""
        start = Path.home() / f"zonal-mantle-report-{datetime.now():%Y%m%d-%H%M}.zip"
        path = ask.new_file(self.window, "Save a fault report", "ZIP files (*.zip)", ".zip", start)
        if path is None:
            return

        def told(names: list[str]) -> None:
            held = ", ".join(names)
            words = say(
                "{named} holds {held}: the log with the names of files that were worked on, and releases.",
                named=named(path),
                held=held,
            )
            self.desk.said.emit(say("{words} No pictures, no shot.", words=words), False)

        self.desk.later("report", lambda: pack(path), told)

    def save_as(self) -> bool:
        """Saves under another name."""
        if self.desk.shot.plate is None:
            self.desk.said.emit(say("There is nothing to save yet. Open a plate first."), True)
            return False
        start = self.desk.path or (self._start() or Path.home()) / f"{self.desk.shot.name}{SUFFIX}"
        path = ask.new_file(self.window, "Save the shot", ask.SHOTS, SUFFIX, start)
        return path is not None and self.desk.file.save(path)

    # --- sources ---
    def import_source(self) -> None:
        """A picture, sequence or video into the stock, hung as a zone at infinity."""
        path = ask.existing_file(self.window, "Import", ask.PICTURES, self._start())
        if path is not None:
            self.hang_file(path, None)

    def hang_file(self, path: Path, distance_m: float | None) -> None:
        """Makes a zone of a file at a distance; in an empty shot the file becomes the plate."""
        if self.desk.shot.plate is None:
            self.new_from(path)
            return
        shot = self.desk.shot
        known = next((source for source in shot.sources if source.path == str(path)), None)
        card = apart(lambda: card_of(path))
        try:
            if card is not None and known is None:
                source = source_of(card, shot.new_id("source"))
            else:
                source = known or apart(lambda: open_source(path, shot.new_id("source")))
        except MantleError as problem:
            self.desk.said.emit(str(problem), True)
            return
        self._hang(source, distance_m, card is not None and card.around)

    def hang(self, source_id: str) -> None:
        """Makes a zone of a source that is in the stock."""
        self._hang(self.desk.shot.source(source_id), None)

    def _hang(self, source: Source, distance_m: float | None, around: bool = False) -> None:
        shot = add_painting(self.desk.shot, source, distance_m)
        lock = self.desk.lock
        zone = shot.zones[-1]
        if lock is not None:
            anchor = (lock.marks[0].x, lock.marks[0].y) if lock.marks else zone.placement.anchor
            zone = zone.but(placement=zone.placement.but(rides=lock.id, anchor=anchor))
            shot = shot.with_zone(zone)
        if around:
            zone = zone.but(placement=zone.placement.but(way="dome"))
            shot = shot.with_zone(zone)
        self.desk.edit(shot, say("Hang {name}", name=source.name))
        self.desk.choose_zone(zone.id)
        self.desk.choose_stage("Place")
        rides = say(" It rides on {name}.", name=lock.name) if lock else ""
        self.desk.said.emit(say("{name} added as a zone.{rides}", name=source.name, rides=rides), False)

    def relink(self, source_id: str) -> None:
        """Links a source to another file of the same size."""
        old = self.desk.shot.source(source_id)
        path = ask.existing_file(self.window, say("Relink {name}", name=old.name), ask.PICTURES, self._start())
        if path is None:
            return
        try:
            new = apart(lambda: open_source(path, source_id, as_still=old.kind == "still"))
        except MantleError as problem:
            self.desk.said.emit(str(problem), True)
            return
        if (new.width, new.height) != (old.width, old.height) and source_id == self.desk.shot.plate:
            self.desk.said.emit(
                say(
                    "{name} is {width}×{height}; the shot was set up on {width_2}×{height_2}. Its shapes and locks "
                    "may not fit.",
                    name=path.name,
                    width=new.width,
                    height=new.height,
                    width_2=old.width,
                    height_2=old.height,
                ),
                True,
            )
        new = new.but(name=old.name, encoding=old.encoding, encoding_guessed=old.encoding_guessed)
        self.desk.edit(self.desk.shot.with_source(new), say("Relink {name}", name=old.name))


def _free_name(path: Path) -> Path:
    """A name beside a shot's that nothing has yet."""
    stem, number = path.name.removesuffix(SUFFIX), 2
    while (free := path.with_name(f"{stem}_{number}{SUFFIX}")).exists():
        number += 1
    return free
