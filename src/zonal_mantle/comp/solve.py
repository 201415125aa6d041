"""Solving a shot's lock from its plate."""

from __future__ import annotations

from collections.abc import Callable

from ..lock import OnlyTurned, remarks_on
from ..lock.runs import Direction, SoFar, unseen
from ..shot import Lock, Shot
from ..words import say
from .lock_work import LockWork
from .pictures import Pictures

SOLVED_FIELDS = ("solved", "lost", "remarks", "left_out", "points", "lens", "in_metres")
MEASURED_FIELDS = (
    "kind", "reference_frame", "reads", "channel", "filter_px", "least_confidence", "rides", "follow", "marks",
    "renewal", "renew_below", "motion", "field", "field_stays", "lens", "shutter_deg",
)  # fmt: skip


def solve_lock(
    shot: Shot,
    lock_id: str,
    pictures: Pictures,
    direction: Direction = "both",
    progress: Callable[[float, str], None] = lambda share, words: None,
    missing_only: bool = False,
    so_far: SoFar = unseen,
) -> Shot:
    """The shot with a lock solved on its plate.

    Parameters
    ----------
    missing_only : frames that are solved stay as they are (point locks, and plane locks whose field rides).
    so_far : called, while it goes on, with what makes the lock as it is by then; its last frames are less exact than
        they will be.

    Raises
    ------
    LockError : the lock cannot be solved as it is set up.
    MediaError : a frame of the plate cannot be read.
    """
    work = LockWork(shot, shot.lock(lock_id).but(remarks=(), left_out=()), pictures)
    solved = work.solve(direction, progress, missing_only, so_far)
    remarks = (*solved.remarks, *work.codec_remarks(), *work.look_remarks(), *remarks_on(work.neighbours()))
    return shot.with_lock(solved.but(remarks=remarks, left_out=work.left_out()))


def on_a_camera(
    shot: Shot, zone_id: str, pictures: Pictures, progress: Callable[[float, str], None] = lambda share, words: None
) -> Shot:
    """The shot with a zone that rides on a new camera lock; on a new pan lock, where the camera only turned. It begins
    on the frame that the zone's lock began on, so that the zone stays there where it is.

    Raises
    ------
    LockError : neither can be solved.
    MediaError : a frame of the plate cannot be read.
    """
    zone, frames = shot.zone(zone_id), shot.frames
    before = shot.lock(zone.placement.rides) if zone.placement.rides is not None else None
    start = before.reference_frame if before is not None else frames[len(frames) // 2]
    lock = Lock(id=shot.new_id("lock"), name=unused_name(shot, say("Camera")), kind="camera", reference_frame=start)
    try:
        solved = solve_lock(shot.with_lock(lock), lock.id, pictures, progress=progress)
    except OnlyTurned:
        solved = solve_lock(shot.with_lock(lock.but(kind="pan")), lock.id, pictures, progress=progress)
    return solved.with_zone(zone.but(placement=zone.placement.but(rides=lock.id)))


def unused_name(shot: Shot, name: str) -> str:
    """A name for a new lock: as it is given, or with a number where another has it."""
    taken, number, out = {lock.name for lock in shot.locks}, 2, name
    while out in taken:
        out, number = say("{name} {number}", name=name, number=number), number + 1
    return out


def merged(now: Shot, began: Shot, solved: Lock) -> tuple[Shot, str]:
    """A finished solve put into the shot as it is by now.

    Only what was solved is taken over. Where the lock was set up anew while it ran, the result becomes a lock of its
    own beside it.

    Parameters
    ----------
    now, began : the shot now, and when the solve began. solved : the lock that came out.

    Returns
    -------
    The shot, and a sentence where there is something to say.
    """
    before = began.lock(solved.id)
    present = next((lock for lock in now.locks if lock.id == solved.id), None)
    if present is None:
        return now, say("{name} was removed while it was solved; its result was let go.", name=solved.name)
    found = {name: getattr(solved, name) for name in SOLVED_FIELDS}
    if all(getattr(present, name) == getattr(before, name) for name in MEASURED_FIELDS):
        return now.with_lock(present.but(**found)), ""
    beside = solved.but(id=now.new_id("lock"), name=say("{name}, as it was set up before", name=solved.name))
    words = say(
        "{name} was changed while it was solved. The result is kept beside it as “{other}”.",
        name=present.name,
        other=beside.name,
    )
    return now.with_lock(beside), words
