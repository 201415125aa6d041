"""Marks whose motion is a camera's that only turns: what rides far from them, as a sky does, is carried as it was
filmed, which no shift, turn and size of the picture can do."""

from __future__ import annotations

import cv2
import numpy as np
from numpy.typing import NDArray

from ..geometry import DEFAULT_FOCAL, carry, told_focal, turn_motion, turned_frames
from ..shot.lock import FOCAL_TOLD, Lens, Lock, LockFrame, Motion
from ..words import say
from .align import PICTURE_PX
from .fit import misfit, possible_motion, robust_motion
from .runs import flat, triple

Array = NDArray[np.float64]
FOCAL_GUESSED = 0.5  # relative half width of the bounds within which marks are a better guess than a usual lens
LONG = 4.0  # widths of the frame; few plates are shot through such lenses
GIVEN_WITHIN = 1.05  # times the bounds, within which a focal length that is given does not contradict the marks
ODD_TIMES, ODD_PX = 5.0, 1.0  # of what marks may be off by, over which a turning camera does not explain them


def followed_on(lock: Lock) -> list[LockFrame]:
    """The frames on which a point lock's marks were found, without its reference frame; none where it came without
    them, as from a file of another program."""
    start = lock.reference_frame
    if lock.kind != "point" or not any(mark.frame in (None, start) for mark in lock.marks):
        return []
    count = len(lock.marks)
    return [each for each in lock.solved if each.frame != start and len(each.marks) == count and any(each.marks)]


def turning_marks(lock: Lock, size: tuple[int, int]) -> Lock:
    """A point lock whose motion is that of a turning camera, by the marks that were followed: none is followed anew.
    One whose marks are not known on other frames stays as it is.

    The focal length is the lock's where it is given, else what the marks tell over all frames; where they do not tell
    it a usual one is taken, and said so, as it is where they contradict what is given. What the marks lie off the turn
    counts as error.

    Parameters
    ----------
    size : width and height of the plate.
    """
    start, moved = lock.reference_frame, lock.moves
    entries = followed_on(lock)
    if not entries:
        return lock
    lock = lock.but(motion="camera turn")
    places = np.array([[place or (np.nan, np.nan) for place in entry.marks] for entry in entries])
    own = np.array([mark.frame in (None, start) for mark in lock.marks])
    homes = np.array([(mark.x, mark.y) for mark in lock.marks])
    followed = "similarity" if moved == "camera turn" else moved
    errors = np.array([_followed_px(homes[own], each[own], entry, followed) for each, entry in zip(places, entries)])
    lens, remarks = _lens_by(lock, homes[own], places[:, own], errors, size)
    focal = lens.focal_px or DEFAULT_FOCAL * size[0]
    homes = _joined(lock, entries, homes, own, places, focal, size)
    found = turned_frames(homes, places, focal, size)
    squares = np.nansum(found.weights * np.nansum(found.off**2, axis=2), axis=1) / found.weights.sum(axis=1)
    contradicted = lens.given and lens.bounds_px is not None  # which says why they are off
    if not contradicted and (odd := _odd(entries, np.sqrt(squares), errors)):
        remarks = (odd, *remarks)
    solved = {entry.frame: entry for entry in lock.solved}
    for entry, turn, square, error in zip(entries, found.turns, squares, errors):
        solved[entry.frame] = entry.but(
            homography=flat(turn_motion(turn, focal, size)),
            residual_px=float(max(error, np.sqrt(square)) if entry.rotation else np.hypot(error, np.sqrt(square))),
            rotation=triple(cv2.Rodrigues(turn)[0]),
        )
    if start in solved:
        solved[start] = solved[start].but(rotation=(0.0, 0.0, 0.0))
    return lock.but(
        solved=tuple(solved[frame] for frame in sorted(solved)), lens=lens, remarks=(*lock.remarks, *remarks)
    )


def _followed_px(homes: Array, places: Array, entry: LockFrame, moves: Motion) -> float:
    """What marks may be off by where they were found, rms, without what they lie off the motion they were followed
    by: that of a turning camera is another one."""
    if entry.rotation is not None:
        return entry.residual_px
    seen = np.isfinite(places).all(axis=1)
    if np.count_nonzero(seen) < 3:
        return entry.residual_px
    motion = possible_motion(moves, int(np.count_nonzero(seen)))
    try:
        matrix, weights = robust_motion(homes[seen], places[seen], motion)
    except (ValueError, np.linalg.LinAlgError):
        return entry.residual_px
    off = ((carry(matrix, homes[seen]) - places[seen]) ** 2).sum(axis=1)
    return float(np.sqrt(max(entry.residual_px**2 - misfit(off, weights, motion), PICTURE_PX**2)))


def _lens_by(
    lock: Lock, homes: Array, places: Array, errors: Array, size: tuple[int, int]
) -> tuple[Lens, tuple[str, ...]]:
    """The lens, and what there is to say of it."""
    seen = np.any(np.isfinite(places).all(axis=2), axis=1)
    told = told_focal(homes, places[seen], errors[seen], size)
    mm = lock.lens.sensor_mm / size[0]
    low, high = (each * mm for each in told.bounds_px)
    if lock.lens.given and lock.lens.focal_px:
        given = lock.lens.focal_px * mm
        if low / GIVEN_WITHIN <= given <= high * GIVEN_WITHIN:
            return lock.lens.but(bounds_px=None), ()
        words = say(
            "The marks tell a focal length of {low:.0f} to {high:.0f} mm, not {given:.0f} mm, as it is given.",
            low=low,
            high=high,
            given=given,
        )
        return lock.lens.but(bounds_px=told.bounds_px), (words,)
    if told.bounds_px[0] > LONG * size[0]:
        words = say(
            "The marks move as before a camera that slides, or through a lens of over {low:.0f} mm. If it slides, "
            "what is far, as a sky, does not go with them.",
            low=low,
        )
        return lock.lens.but(focal_px=told.focal_px, bounds_px=told.bounds_px), (words,)
    if told.is_told(FOCAL_TOLD):
        return lock.lens.but(focal_px=told.focal_px, bounds_px=told.bounds_px), ()
    guessed = told.focal_px if told.is_told(FOCAL_GUESSED) else DEFAULT_FOCAL * size[0]
    taken = float(np.clip(guessed, *told.bounds_px))
    words = say(
        "The marks do not tell the focal length ({low:.0f} to {high:.0f} mm would do): {mm:.0f} mm are taken. Give it, "
        "or set a mark far from the others.",
        low=low,
        high=high,
        mm=taken * mm,
    )
    return lock.lens.but(focal_px=taken, bounds_px=told.bounds_px), (words,)


def _joined(
    lock: Lock,
    entries: list[LockFrame],
    homes: Array,
    own: NDArray[np.bool_],
    places: Array,
    focal: float,
    size: tuple[int, int],
) -> Array:
    """Where all marks are on the reference frame: one that joined later is where the turn so far puts it."""
    homes, known = homes.copy(), own.copy()
    row = {entry.frame: place for place, entry in enumerate(entries)}
    later = [k for k in range(len(lock.marks)) if not own[k]]
    for k in sorted(later, key=lambda k: abs((lock.marks[k].frame or 0) - lock.reference_frame)):
        mark = lock.marks[k]
        at = row.get(mark.frame or 0)
        if at is None or not np.isfinite(places[at, known]).all(axis=1).any():
            continue
        turn = turned_frames(homes[known], places[at : at + 1, known], focal, size).turns[0]
        homes[k] = carry(np.linalg.inv(turn_motion(turn, focal, size)), np.array([[mark.x, mark.y]]))[0]
        known[k] = True
    places[:, ~known] = np.nan
    return homes


def _odd(entries: list[LockFrame], off: Array, errors: Array) -> str:
    """What there is to say where the marks do not move as a turning camera moves them."""
    odd = off > np.maximum(ODD_TIMES * errors, ODD_PX)
    if not odd.any():
        return ""
    worst = int(np.where(odd, off, 0).argmax())
    return say(
        "The marks do not move as a turning camera moves them: they are off by {off:.1f} px on frame {frame}. The "
        "camera moves too, it zooms, or a mark slips: look at the marks, or choose another motion or a camera lock.",
        off=float(off[worst]),
        frame=entries[worst].frame,
    )
