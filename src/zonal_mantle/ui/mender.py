"""Does what mends a trouble, wherever its button stands: in a header of the bench or in the drawer of findings."""

from __future__ import annotations

from ..comp import Mend, mended
from ..comp.mends import is_there
from ..shot import Lock
from ..words import say
from .bench import Bench
from .desk import Desk
from .files import Files


class Mender:
    """One door for all mends. Each is one step of undo."""

    def __init__(self, desk: Desk, bench: Bench, files: Files) -> None:
        self.desk, self.bench, self.files = desk, bench, files

    def do(self, mend: Mend) -> None:
        """Changes the shot at once, or starts the measurement that will."""
        desk = self.desk
        if not is_there(desk.shot, mend):  # the shot was changed since the button was shown
            desk.said.emit(
                say("{label} does not apply any more: what it was offered for is gone.", label=mend.label), True
            )
            self.bench.refresh()
            return
        changed = mended(desk.shot, mend)
        if changed is not None:
            desk.edit(changed, mend.label)
            if mend.what == "ride" and mend.to is not None:
                desk.choose_lock(mend.to)
            desk.said.emit(say("{label}: done.", label=mend.label), False)
            return
        if mend.what == "relink":
            self.files.relink(mend.part)
            return
        if mend.what in ("solve", "solve missing"):
            desk.choose_lock(mend.part)
            self.bench.refresh()
            self.bench.lock.measure.solve("both", missing=mend.what == "solve missing")
            return
        if mend.what == "as pan":
            self.bench.lock.measure.solve_as_pan(mend.part)
            return
        if mend.what == "ride camera":
            self.bench.lock.measure.ride_on_camera(mend.part)
            return
        if mend.what == "show lost":
            self._show_lost(desk.shot.lock(mend.part))
            return
        if mend.what == "hide border":
            self.bench.finish.frame.hide_now()
            return
        desk.choose_zone(mend.part)
        self.bench.refresh()
        place, match = self.bench.place, self.bench.match
        acts = {
            "suggest lock": lambda: self.bench.lock.measure.propose(),
            "cover": lambda: place.cover.cover_now(),
            "align horizon": lambda: place.level.align(),
            "flip": lambda: place.light.flip_now(),
            "fit tone": lambda: match.tone.fit_now(),
            "fit lens": lambda: match.lens.fit_now(),
            "fit grain": lambda: match.grain.fit_now(),
        }
        acts[mend.what]()

    def _show_lost(self, lock: Lock) -> None:
        """Goes to the first frame that a lock lacks, and says what can be done."""
        desk = self.desk
        missing = next((frame for frame in desk.shot.frames if lock.at(frame) is None), desk.frame)
        desk.set_frame(missing)
        desk.choose_lock(lock.id)
        desk.choose_stage("Lock")
        why = " ".join(lock.lost)
        helps = say("Draw its field or marks on this frame, leave out what crosses it, or choose another motion.")
        desk.said.emit(f"{why} {helps}", True)
