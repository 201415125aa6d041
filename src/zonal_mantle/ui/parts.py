"""Zones and stages copied, pasted and duplicated, within a shot and between shots; the work range."""

from __future__ import annotations

from PySide6.QtCore import QMimeData
from PySide6.QtGui import QGuiApplication

from ..shot import MantleError
from ..shot.carry_over import Carried, pasted, taken_stage, taken_zone
from ..words import say
from .desk import Desk

MIME = "application/x-zonal-mantle-part+json"


class Parts:
    """What the Edit and Frame menus do with zones, stages and frames."""

    def __init__(self, desk: Desk) -> None:
        self.desk = desk

    def duplicate(self) -> None:
        """A second zone like the chosen one."""
        desk, zone = self.desk, self.desk.zone
        if zone is None:
            return
        shot = desk.shot.with_copy_of(zone)
        desk.edit(shot, say("Duplicate {name}", name=zone.name))
        desk.choose_zone(shot.zones[-1].id)
        desk.said.emit(say("{name} is in the shot.", name=shot.zones[-1].name), False)

    def copy_zone(self) -> None:
        """The chosen zone, with what it needs, to the clipboard."""
        zone = self.desk.zone
        if zone is not None:
            self._put(taken_zone(self.desk.shot, zone), zone.name)

    def copy_stage(self) -> None:
        """The open stage of the chosen zone to the clipboard."""
        desk, zone = self.desk, self.desk.zone
        if zone is None:
            return
        try:
            self._put(
                taken_stage(desk.shot, zone, desk.stage),
                say("{stage} of {name}", stage=say(desk.stage), name=zone.name),
            )
        except MantleError as problem:
            desk.said.emit(str(problem), True)

    def copy_part(self) -> None:
        """The open part of the chosen zone's match to the clipboard."""
        desk, zone = self.desk, self.desk.zone
        if zone is not None:
            words = say("{match_part} of {name}", match_part=say(desk.match_part), name=zone.name)
            self._put(taken_stage(desk.shot, zone, "Match", desk.match_part), words)

    @staticmethod
    def can_paste() -> bool:
        """Whether the clipboard holds a zone or a stage."""
        data = QGuiApplication.clipboard().mimeData()
        return data is not None and data.hasFormat(MIME)

    def paste(self, to_group: bool = False) -> None:
        """What was copied: a zone is added, a stage put in the place of the chosen zone's."""
        desk = self.desk
        data = QGuiApplication.clipboard().mimeData()
        if data is None or not data.hasFormat(MIME):
            desk.said.emit(say("No zone or stage was copied. Choose Copy zone or Copy the open stage first."), True)
            return
        try:
            carried = Carried.model_validate_json(bytes(data.data(MIME).data()))
            zones = [desk.zone] if desk.zone is not None else []
            if to_group and desk.zone is not None and desk.zone.group:
                zones = [zone for zone in desk.shot.zones if zone.group == desk.zone.group]
            shot, chosen, words = pasted(desk.shot, carried, [zone.id for zone in zones])
        except (MantleError, ValueError) as problem:
            desk.said.emit(
                str(problem) if isinstance(problem, MantleError) else say("What was copied is damaged."), True
            )
            return
        desk.edit(shot, say("Paste {what}", what=carried.what))
        desk.choose_zone(chosen)
        desk.said.emit(words, False)

    def work_range(self, first: int | None = None, last: int | None = None) -> None:
        """Begins or ends the frames that are worked on; without either all are."""
        desk, shot = self.desk, self.desk.shot
        if shot.plate is None:
            return
        work = None
        if first is not None or last is not None:
            frames = shot.work_frames
            a, b = (frames[0] if first is None else first), (frames[-1] if last is None else last)
            work = (min(a, b), max(a, b)) if first is None else (a, max(a, b))
            work = None if work == (shot.first, shot.last) else work
        desk.edit(shot.but(work=work), "Work range")

    def _put(self, carried: Carried, words: str) -> None:
        data = QMimeData()
        data.setData(MIME, carried.model_dump_json().encode())
        QGuiApplication.clipboard().setMimeData(data)
        self.desk.said.emit(say("Copied {words}.", words=words), False)
