"""What mends a trouble: for each finding and each stage, the one step that answers it."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

import numpy as np

from ..geometry import carry
from ..lock import followed_on, turning_marks
from ..matte.first import SCREENS, Screen
from ..place.ride_error import FAR_M, ride_errors
from ..shot import ClearSkyPull, Lock, Matte, MatteUse, Placement, ScreenPull, Shot, Zone
from ..shot.matte import AnyPull, Reads
from ..words import english, say
from .finding import Finding
from .matte_planner import is_cut

What = Literal[
    "ride", "solve", "solve missing", "suggest lock", "matte on", "new matte", "add pull", "zone on", "place on",
    "show lost", "cover", "align horizon", "flip", "relink", "fit tone", "fit lens", "fit grain",
    "hide border", "all frames", "pull blue", "pull green", "turn marks",
    "as pan", "ride camera",
]  # fmt: skip


@dataclass(frozen=True)
class Mend:
    """A step that mends a trouble: what a button that does it says, and the ids that it is done with.

    `part` is the zone, lock or source that is changed, `to` what it is put on.
    """

    what: What
    label: str
    part: str
    to: str | None = None


ALIKE_PX, ALIKE_SHARE = 2.0, 0.05  # by which locks on the same thing move differently
SKY = np.array([[x, y] for x in (0.0, 0.5, 1.0) for y in (0.0, 0.3, 0.6)])  # of the frame
SOME = 8  # frames


def best_lock(shot: Shot, distance_m: float | None = None, way: str = "flat") -> Lock | None:
    """The solved lock that a thing at a distance had best ride on: one that holds on the most frames; for what is far
    the one that moves least, since nearer things move more under a camera that walks, and of those that move alike the
    one by which a sky across the frame is off least; else that of the least error. A card or a dome needs a camera that
    was solved."""
    held = [lock for lock in shot.locks if lock.holds and lock.kind != "by hand"]
    if way in ("card", "dome"):
        held = [lock for lock in held if lock.knows_camera]
    if not held:
        return None
    most = max(len(lock.solved) for lock in held)
    held = [lock for lock in held if len(lock.solved) == most]
    if distance_m is not None and distance_m < FAR_M:
        return min(held, key=lambda lock: max((entry.residual_px for entry in lock.solved), default=0.0))
    motion = {lock.id: _motion_px(shot, lock) for lock in held}
    least = min(motion.values())
    alike = [lock for lock in held if motion[lock.id] <= least + max(ALIKE_PX, ALIKE_SHARE * least)]
    return alike[0] if len(alike) == 1 else min(alike, key=lambda lock: _sky_off_px(shot, lock))


def _sky_off_px(shot: Shot, lock: Lock) -> float:
    """By how much a sky across the frame may be off on a lock, at worst of some frames."""
    sky = Zone(id="sky", name="", source="", placement=Placement(rides=lock.id))
    places = SKY * shot.size
    some = lock.solved[:: max(len(lock.solved) // SOME, 1)]
    errors = (ride_errors(shot, sky, entry.frame, places) for entry in some)
    return max((float(each.most.max()) for each in errors if each is not None), default=0.0)


def _motion_px(shot: Shot, lock: Lock) -> float:
    """How far a lock carries the middle of its reference frame at most."""
    middle = np.array([[shot.size[0] / 2, shot.size[1] / 2]])
    motions = (np.array(entry.homography).reshape(3, 3) for entry in lock.solved)
    return max((float(np.hypot(*(carry(motion, middle) - middle)[0])) for motion in motions), default=0.0)


def hidden_behind(shot: Shot, zone: Zone) -> list[Zone]:
    """What is hung behind the plate and cannot be seen, because the plate's zone is not cut."""
    if not shot.holds_plate(zone) or (zone.matte.on and shot.matte_of(zone) is not None) or not zone.on:
        return []
    far = shot.near_to_far()
    behind = far[[each.id for each in far].index(zone.id) + 1 :]
    return [each for each in behind if not shot.holds_plate(each) and shot.is_switched_on(each) and each.placement.on]


def mend_of_matte(shot: Shot, zone: Zone) -> Mend | None:
    """What mends a zone's matte: switched on, made, or given a pull."""
    matte = shot.matte_of(zone)
    if matte is not None and not zone.matte.on:
        return Mend("matte on", say("Switch the matte on"), zone.id) if hidden_behind(shot, zone) else None
    if matte is None:
        return Mend("new matte", say("Add an automatic sky matte"), zone.id) if hidden_behind(shot, zone) else None
    if not (matte.pulls or matte.shapes):
        return Mend("add pull", say("Add an automatic sky pull"), zone.id)
    return None


def mend_of_screen(zone: Zone, screen: Screen) -> Mend:
    """What mends a zone whose picture was shot before a screen that nobody pulled."""
    if screen == "blue":
        return Mend("pull blue", say("Pull the blue screen"), zone.id)
    return Mend("pull green", say("Pull the green screen"), zone.id)


def mend_of_lock(shot: Shot, zone: Zone) -> Mend | None:
    """What mends the lock that a zone rides on: a lock to ride on, or one to be solved."""
    rides = zone.placement.rides
    if rides is not None:
        return mend_of_solve(shot, shot.lock(rides))
    if shot.first == shot.last:
        return None  # nothing moves in a still
    if shot.holds_plate(zone):
        return None if shot.locks else Mend("suggest lock", say("Suggest a lock"), zone.id)
    best = best_lock(shot, zone.distance_m, zone.placement.way)
    if best is not None:
        return Mend("ride", say("Ride on {name}", name=best.name), zone.id, best.id)
    if shot.locks:
        return mend_of_solve(shot, shot.locks[0])
    return Mend("suggest lock", say("Suggest a lock"), zone.id)


def mend_of_ride(shot: Shot, zone: Zone, fault: str | None) -> Mend | None:
    """What mends a lock by which a rider is off. Marks that cannot follow a turning camera ("bent") may turn like one.
    For what is far beyond a plane's field ("far") a pan lock serves, which has less to find out. What goes another way
    than its lock ("apart") rides on the camera, which is to be solved where nobody did."""
    lock = shot.lock(zone.placement.rides) if zone.placement.rides is not None else None
    if lock is not None and fault == "apart":
        held = [each for each in shot.locks if each.id != lock.id and each.kind == "camera" and each.holds]
        if held:
            return Mend("ride", say("Ride on {name}", name=held[0].name), zone.id, held[0].id)
        return Mend("ride camera", say("Let {name} ride on a camera lock", name=zone.name), zone.id)
    if lock is None or lock.knows_camera:
        return None
    if fault == "bent" and followed_on(lock):
        return Mend("turn marks", say("Let {name} turn like a camera", name=lock.name), lock.id)
    if lock.kind == "plane" and (zone.distance_m is None or zone.distance_m >= FAR_M):
        return Mend("as pan", say("Solve {name} as a pan lock", name=lock.name), lock.id)
    return None


def mend_of_solve(shot: Shot, lock: Lock) -> Mend | None:
    """Solving a lock, or the frames that nobody solved yet; else where it was lost."""
    if lock.kind == "by hand" or (lock.kind == "point" and not lock.marks):
        return None
    if not lock.solved:
        return Mend("solve", say("Solve {name}", name=lock.name), lock.id)
    whole = lock.kind in ("camera", "pan") or lock.field_stays
    if not whole and any(lock.at(frame) is None for frame in shot.frames):
        if lock.lost:  # solving again would lose it again
            return Mend("show lost", say("Show where {name} is lost", name=lock.name), lock.id)
        return Mend("solve missing", say("Solve missing frames of {name}", name=lock.name), lock.id)
    return None


def mend_of(shot: Shot, finding: Finding) -> Mend | None:
    """The step that answers a finding, or None where it takes a person's eye."""
    zone = next((each for each in shot.zones if each.id == finding.part), None)
    lock = next((each for each in shot.locks if each.id == finding.part), None)
    if (
        finding.stage == "Source"
        and finding.severity == "wrong"
        and any(source.id == finding.part for source in shot.sources)
    ):
        return Mend("relink", say("Relink…"), finding.part)
    if finding.stage == "Finish" and "border" in english(finding.words):
        return Mend("hide border", say("Hide border"), finding.part)
    if lock is not None:
        return mend_of_solve(shot, lock)
    if zone is None:
        return None
    if finding.stage == "Lock":
        return (
            mend_of_ride(shot, zone, finding.fault)
            if finding.fault in ("bent", "far", "apart")
            else mend_of_lock(shot, zone)
        )
    if finding.stage == "Matte":
        before: list[Screen] = [each for each in SCREENS if f"is {each} all round" in english(finding.words)]
        return mend_of_screen(zone, before[0]) if before else mend_of_matte(shot, zone)
    if finding.fault == "tone":
        return Mend("fit tone", say("Fit tone"), zone.id)
    if finding.fault == "lens":
        return Mend("fit lens", say("Fit lens"), zone.id)
    if finding.fault == "grain":
        return Mend("fit grain", say("Fit grain"), zone.id)
    flat = zone.placement.way == "flat"
    if finding.fault == "uncovered" and flat:
        return Mend("cover", say("Scale to cover"), zone.id)
    if finding.fault == "light" and flat:
        return Mend("flip", say("Flip horizontally"), zone.id)
    if finding.stage == "Place" and "horizon is off" in english(finding.words) and flat:
        return Mend("align horizon", say("Align to horizon"), zone.id)
    return None


def is_there(shot: Shot, mend: Mend) -> bool:
    """Whether the shot still has what a mend was offered for."""
    if mend.what == "hide border":
        return True
    zones, locks, sources = ({each.id for each in kind} for kind in (shot.zones, shot.locks, shot.sources))
    known = zones | locks | sources
    if mend.what in ("pull blue", "pull green") and mend.part in zones and is_cut(shot, shot.zone(mend.part)):
        return False
    return mend.part in known and (mend.to is None or mend.to in known)


def mended(shot: Shot, mend: Mend) -> Shot | None:
    """The shot after a mend that is a change of its values alone; None for those that take a measurement."""
    if mend.what == "matte on":
        zone = shot.zone(mend.part)
        return shot.with_zone(zone.but(matte=zone.matte.but(on=True)))
    if mend.what == "new matte":
        return _with_pull(shot, mend.part, ClearSkyPull(id=shot.new_id("pull")), "plate")
    if mend.what in ("pull blue", "pull green"):
        pull = ScreenPull(id=shot.new_id("pull"), screen="blue" if mend.what == "pull blue" else "green")
        return _with_pull(shot, mend.part, pull, "own picture")
    if mend.what == "add pull":
        zone = shot.zone(mend.part)
        known = shot.matte_of(zone)
        if known is None:
            return None
        pulled = known.but(pulls=(*known.pulls, ClearSkyPull(id=shot.new_id("pull"))))
        return shot.with_matte(pulled).with_zone(zone.but(matte=zone.matte.but(on=True)))
    if mend.what == "ride" and mend.to is not None:
        zone, lock = shot.zone(mend.part), shot.lock(mend.to)
        placement = zone.placement.but(rides=lock.id)
        return shot.with_zone(zone.but(placement=placement))
    if mend.what == "turn marks":
        return shot.with_lock(turning_marks(shot.lock(mend.part), shot.size))
    if mend.what in ("zone on", "place on"):
        zone = shot.zone(mend.part)
        return shot.with_zone(zone.but(on=True, placement=zone.placement.but(on=True)))
    return None


def _with_pull(shot: Shot, zone_id: str, pull: AnyPull, reads: Reads) -> Shot:
    """The shot with a new matte of one pull on a zone."""
    zone = shot.zone(zone_id)
    name = say("{name} matte", name=zone.name)
    matte = Matte(id=shot.new_id("matte"), name=name, pulls=(pull,), reads=reads)
    return shot.with_matte(matte).with_zone(zone.but(matte=MatteUse(on=True, id=matte.id)))
