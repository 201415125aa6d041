"""Corrections by hand on top of a solve, smoothing, joining, the scale of a camera; what the zone follows; files."""

from __future__ import annotations

from pathlib import Path

import numpy as np

from ...lock import joined, scaled
from ...lock.files import camera_to_usd, is_solve_only, lock_to_csv, lock_to_json, read_lock
from ...paths import write_whole
from ...place import removed_px
from ...shot import Follow, Keyed, Lock, MantleError
from ...words import say
from ..apart import apart
from ..ask import existing_file, new_file
from ..desk import Desk
from ..numberfield import NumberField
from ..tools.lock import LockTool
from ..widgets import choice, fill, note, push_button, row
from .panel import Panel
from .takes import Takes

JOIN = "Join with…"
LEAST_HEIGHT = 0.05  # of a triangle, in its longest side; a flatter one tells no plane


class CorrectPanel(Panel):
    """What is done to a solve afterwards."""

    def __init__(self, desk: Desk, tool: LockTool) -> None:
        super().__init__(desk)
        self.tool = tool
        self.right = self._field(
            "Right", "x", -5000, 0.05, 0, 2, "px", "Moves what rides to the right, on the reference frame"
        )
        self.down = self._field("Down", "y", -5000, 0.05, 0, 2, "px", "Moves what rides down, on the reference frame")
        self.turn = self._field(
            "Rotation", "turn_deg", -180, 0.01, 0, 2, "°", "Turns what rides about the quad's middle"
        )
        self.sizing = self._field("Size", "size", 0.01, 0.001, 1, 4, "×", "Sizes what rides about the quad's middle")
        self.inside.addLayout(row(self.right, self.down))
        self.inside.addLayout(row(self.turn, self.sizing))
        self.smooth = NumberField(
            "Smooth", 0, 50, 0.1, 0, 1, "fr", "Takes jitter out: standard deviation of a smoothing over time, in frames"
        )
        self.plain(self.smooth, lambda: self._value("smooth_frames"), self._put_smooth)
        self.removed = note()
        self.inside.addLayout(row(self.smooth, self.removed))
        self.join = choice([JOIN], "Adds the frames that another lock's solve has and this one lacks", self._join)
        self.inside.addWidget(self.join)
        self.distance = NumberField(
            "Distance of point", 0.01, 1e6, 0.1, 10, 2, "m", "Distance of the chosen point from the lens on the "
            "reference frame: "
            "scales the whole scene",
        )  # fmt: skip
        self.plain(self.distance, self._point_distance, self._scale)
        self.ground = note()
        self.inside.addWidget(self.distance)
        self.inside.addWidget(self.ground)
        self.takes = Takes("this zone", self._follow)
        self.inside.addWidget(self.takes)
        self.write = push_button(
            "Export lock…", "Writes the lock: JSON (all of it), CSV (the solve), USD (the camera)", self._write
        )
        self.read = push_button("Import lock…", "Reads a solve or a lock: JSON, CSV, USD", self._read)
        self.inside.addLayout(row(self.write, self.read))

    def _field(
        self, label: str, name: str, low: float, step: float, default: float, decimals: int, unit: str, tip: str
    ) -> NumberField:
        field = NumberField(label, low, -low if low < 0 else 100, step, default, decimals, unit, tip)

        def get() -> Keyed | None:
            return getattr(self.desk.lock.correction, name) if self.desk.lock is not None else None

        return self.keyed(field, get, lambda value, words, gesture: self._put(words, gesture, **{name: value}))

    def _put(self, words: str, gesture: str | None, **changes: object) -> None:
        lock = self.desk.lock
        if lock is not None:
            correction = lock.correction.but(**changes)
            if correction.centre is None and lock.quad is not None:
                x, y = np.mean(lock.quad, axis=0)
                correction = correction.but(centre=(float(x), float(y)))
            self.desk.edit_lock(
                lock.but(correction=correction),
                say("{words}: correction of {name}", words=words, name=lock.name),
                gesture,
            )

    def _value(self, name: str) -> float | None:
        return getattr(self.desk.lock, name) if self.desk.lock is not None else None

    def refresh(self) -> None:
        super().refresh()
        lock, shot, zone = self.desk.lock, self.desk.shot, self.desk.zone
        others = [other for other in shot.locks if lock is not None and other.id != lock.id and other.solved]
        fill(self.join, [(None, JOIN), *((other.id, other.name) for other in others)], None)
        self.join.setEnabled(bool(others))
        self.removed.setText(
            say("takes out {removed_px:.2f} px", removed_px=removed_px(lock, shot.size))
            if lock is not None and lock.smooth_frames
            else ""
        )
        camera = lock is not None and lock.kind == "camera" and bool(lock.points)
        self.distance.setVisible(camera)
        self.ground.setVisible(camera)
        self.ground.setText(ground_words(lock, self.tool.points_chosen, shot.size[1]) if camera and lock else "")
        hung = zone is not None and not shot.holds_plate(zone)
        self.takes.show_parts(zone.placement.follow if hung and zone is not None and zone.placement.rides else None)
        self.write.setEnabled(lock is not None)

    def _put_smooth(self, value: float, words: str, gesture: str) -> None:
        if (lock := self.desk.lock) is not None:
            self.desk.edit_lock(lock.but(smooth_frames=value), f"{words} {lock.name}", gesture)

    def _join(self, _: str) -> None:
        lock = self.desk.lock
        other = next((each for each in self.desk.shot.locks if each.id == self.join.currentData()), None)
        if lock is None or other is None:
            return
        try:
            self.desk.edit_lock(joined(lock, other), say("Join {name} with {other}", name=lock.name, other=other.name))
        except MantleError as problem:
            self.desk.said.emit(str(problem), True)

    def _follow(self, follow: Follow) -> None:
        zone = self.desk.zone
        if zone is not None:
            self.desk.edit_zone(
                zone.but(placement=zone.placement.but(follow=follow)), say("What {name} takes", name=zone.name)
            )

    # --- the scene of a camera ---
    def _point(self) -> tuple[Lock, int] | None:
        lock, chosen = self.desk.lock, self.tool.points_chosen
        return (lock, chosen[-1]) if lock is not None and chosen and chosen[-1] < len(lock.points) else None

    def _point_distance(self) -> float | None:
        found = self._point()
        return None if found is None else found[0].points[found[1]].place[2]

    def _scale(self, value: float, words: str, gesture: str) -> None:
        found = self._point()
        if found is not None and found[0].points[found[1]].place[2] > 0:
            lock, k = found
            self.desk.edit_lock(
                scaled(lock, value / lock.points[k].place[2]), say("Scale {name}", name=lock.name), gesture
            )

    # --- files ---
    def _write(self) -> None:
        lock, shot = self.desk.lock, self.desk.shot
        path = new_file(self, "Write the lock", "Lock, all of it (*.json);;Solve (*.csv);;Camera (*.usda *.usd)", "")
        if path is None or lock is None:
            return
        try:
            if path.suffix in (".usd", ".usda", ".usdc"):
                apart(lambda: camera_to_usd(lock, shot.size, float(shot.rate), path))
            else:
                text = lock_to_csv(lock) if path.suffix == ".csv" else lock_to_json(lock, shot.size)
                path = path if path.suffix in (".csv", ".json") else Path(f"{path}.json")
                apart(lambda: write_whole(path, text))
        except MantleError as problem:
            self.desk.said.emit(str(problem), True)
            return
        except OSError as problem:
            self.desk.said.emit(say("{path} cannot be written: {why}.", path=path, why=problem.strerror), True)
            return
        self.desk.said.emit(say("Wrote {name} to {other}.", name=lock.name, other=path.name), False)

    def _read(self) -> None:
        lock, shot = self.desk.lock, self.desk.shot
        path = existing_file(self, "Read a lock", "Locks (*.json *.csv *.usd *.usda *.usdc)")
        if path is None:
            return
        base = lock or Lock(id=shot.new_id("lock"), name=path.stem, reference_frame=self.desk.frame)
        try:
            new = apart(lambda: read_lock(path, base, shot.size))
        except MantleError as problem:
            self.desk.said.emit(str(problem), True)
            return
        if not is_solve_only(path):  # a whole lock, which may ride on what is not here
            ids = {other.id for other in shot.locks}
            field = tuple(s.but(rides=s.rides if s.rides in ids else None) for s in new.field)
            new = new.but(id=shot.new_id("lock"), rides=None, field=field)
        self.desk.lock_id = new.id
        self.desk.edit_lock(new, say("Read {name}", name=path.name))
        self.desk.choice_changed.emit()
        self.desk.said.emit(say("Read {name}: {count} frames.", name=new.name, count=len(new.solved)), False)


def ground_words(lock: Lock, chosen: list[int], height: int) -> str:
    """What the chosen points tell: their distance, or, of three, the ground: the camera's height and the horizon."""
    points = [lock.points[k].place for k in chosen if k < len(lock.points)]
    if not points:
        return say(
            "Choose a point on the picture to set the scene's scale; three points of the ground tell the horizon."
        )
    if len(points) < 3:
        return say("{count} chosen; three points of the ground tell the horizon.", count=len(points))
    a, b, c = (np.array(place) for place in points)
    normal = np.cross(b - a, c - a)
    length = float(np.linalg.norm(normal))
    widest = max(float(np.linalg.norm(p - q)) for p, q in ((a, b), (b, c), (c, a)))
    if length < LEAST_HEIGHT * widest**2 or lock.lens.focal_px is None:
        return say("These three points lie nearly on one line. Choose them farther apart, near and far.")
    normal = normal / length if normal[1] > 0 else -normal / length
    high = float(normal @ a)
    if abs(normal[1]) < 0.2:
        return say("These three points stand upright; they are not the ground.")
    horizon = height / 2 - lock.lens.focal_px * normal[2] / normal[1]
    roll = float(np.degrees(np.arctan2(-normal[0], normal[1])))
    unit = "m" if lock.in_metres else say("ways (not scaled yet)")
    return say(
        "Camera {high:.2f} {unit} above them; horizon at y = {horizon:.1f} px in the middle of frame "
        "{reference_frame}, roll {roll:+.2f}°.",
        high=high,
        unit=unit,
        horizon=horizon,
        reference_frame=lock.reference_frame,
        roll=roll,
    )
