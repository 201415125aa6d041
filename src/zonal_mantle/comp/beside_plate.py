"""Whether what is far goes the way of the lock that it rides on, by what the plate shows there: what stands at the rim
of a sky is the farthest that is seen, and it moves as the sky does, or it is nearer.

A lock knows its own marks or field alone. Where the camera slides past near and far things, or a mark slips, a sky that
rides on it slides along the skyline, which no residual of the lock tells (Hartley & Zisserman 2004, section 8.4.5:
motion of the plane at infinity).
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from typing import NamedTuple

import cv2
import numpy as np
from numpy.typing import NDArray

from ..geometry import carry
from ..place.coverage import Opening
from ..place.ride_error import FAR_M, ride_errors
from ..shot import Correction, Lock, Shot, Zone
from ..shot.follow import WHOLE
from .plate_moves import FarMoves, PlateTracks

Places = NDArray[np.float64]
NEAR = 0.08  # of the frame's height, about what is open, within which the plate is asked
COLUMNS, LEAST_OF = 12, 2  # that the frame is divided into; features that one is judged by
LEAST_COLUMNS, SOME, MOST = 3, 0.3, 0.6  # judged at least; the share that asks for a closer look; that is believed
FEW, LOOKED_AT = 0.1, 6  # of all features that ask for one; frames
SURE, ALONE = 2.0, 3.0  # times what a camera may be off by, over which it is believed; where nothing else speaks for it
FIRMLY = 10.0  # times, over which nothing else is asked
BEYOND = 1.5  # times what nearly all features lie beside, by which what is far may at most; as much where it is alone
LOWER = 0.25  # of a column's features: one that goes along is enough, as far as others may be leaves
ALIKE_PX, ALIKE_SHARE = 0.5, 0.1  # working pixels, and of what lies beside, within which columns lie beside alike
APART_PX, APART_WORKING = 1.5, 0.75  # over what was said, px; and in pixels of what features were followed on


class Beside(NamedTuple):
    """How far what is far lies beside where a lock has it, by frame, px, and where that is most."""

    px: dict[int, float]
    frame: int
    place: tuple[float, float]


class _Columns(NamedTuple):
    share: float  # of the columns, that lie beside
    px: float  # in the middle of those
    place: tuple[float, float]
    alike: float = 0.0  # the share that lies beside as one thing that is far would


def asks_plate(zone: Zone, lock: Lock) -> bool:
    """Whether a zone is to go the way of what is far, by a lock that does not know the camera's way; as it was
    measured, and all of it."""
    far = zone.distance_m is None or zone.distance_m >= FAR_M or zone.placement.way == "dome"
    whole = zone.placement.follow == WHOLE and lock.correction == Correction()
    return far and whole and lock.kind in ("point", "plane", "pan") and len(lock.solved) > 1


def columns_beside(shot: Shot, zone: Zone, openings: Mapping[int, Opening], tracks: PlateTracks) -> dict[int, _Columns]:
    """By frame, of the features about what is open for a zone: those that do not go the way of its lock by more than
    it says. Frames without enough of them have none."""
    lock = shot.lock(zone.placement.rides or "")
    ways, threshold = _ways(lock), _threshold(tracks)
    found = {}
    for frame, opened in openings.items():
        if frame not in ways or frame not in tracks.frames or frame == lock.reference_frame:
            continue
        here = tracks.on(frame)
        near = np.flatnonzero(_about(opened, here, shot.size))
        other = _compared(tracks, frame, lock.reference_frame, near, ways)
        if other is None:
            continue
        at, by, over = _beyond(shot, zone, tracks, frame, other, near, ways)
        off = np.linalg.norm(by, axis=1)
        column = np.clip((at[:, 0] / shot.size[0] * COLUMNS).astype(int), 0, COLUMNS - 1)
        judged = [np.flatnonzero(column == k) for k in range(COLUMNS) if (column == k).sum() >= LEAST_OF]
        if len(judged) < LEAST_COLUMNS:
            continue
        least = [some[np.argsort(over[some])[int(LOWER * (len(some) - 1) + 0.5)]] for some in judged]
        beside = [k for k in least if over[k] > threshold]
        if not beside:
            found[frame] = _Columns(0.0, 0.0, (0.0, 0.0))
            continue
        middle = sorted(beside, key=lambda k: off[k])[len(beside) // 2]
        alike = _alike(at[beside, 0], by[beside], max(ALIKE_PX * tracks.grown, ALIKE_SHARE * float(off[middle])))
        found[frame] = _Columns(
            len(beside) / len(judged), float(off[middle]), (at[middle, 0], at[middle, 1]), alike / len(judged)
        )
    return found


def _alike(across: Places, by: Places, within: float) -> int:
    """How many of some places across (n) lie beside theirs, (n, 2), as evenly as one thing that is far does."""
    most = min(len(across), 1)
    for a in range(len(across)):
        for b in range(a + 1, len(across)):
            if across[b] == across[a]:
                continue
            share = ((across - across[a]) / (across[b] - across[a]))[:, None]
            most = max(most, int((np.linalg.norm(by[a] + share * (by[b] - by[a]) - by, axis=1) < within).sum()))
    return most


def needs_camera(
    shot: Shot, zone: Zone, frames: Iterable[int], columns: Mapping[int, _Columns], tracks: PlateTracks
) -> bool:
    """Whether so much of the plate lies beside that how the camera moved has to be known: about what is open, or
    anywhere on some of the frames."""
    if any(each.share > SOME for each in columns.values()):
        return True
    lock, threshold = shot.lock(zone.placement.rides or ""), _threshold(tracks)
    ways = _ways(lock)
    seen = [frame for frame in frames if frame in ways and frame in tracks.frames and frame != lock.reference_frame]
    for frame in seen[:: max(len(seen) // LOOKED_AT, 1)] + seen[-1:]:
        every = np.flatnonzero(np.isfinite(tracks.on(frame)[:, 0]))
        other = _compared(tracks, frame, lock.reference_frame, every, ways)
        if other is not None:
            over = _beyond(shot, zone, tracks, frame, other, every, ways)[2]
            if np.count_nonzero(over > threshold) > FEW * len(over):
                return True
    return False


def beside_plate(
    shot: Shot,
    zone: Zone,
    columns: Mapping[int, _Columns],
    places: Mapping[int, Places],
    tracks: PlateTracks,
    far: FarMoves | None,
) -> Beside | None:
    """What a zone is off by against what is far, where so much of the plate lies beside (`needs_camera`); None where
    nothing speaks against its lock.

    Where a camera could be solved by the plate's features that says how the far moves, and what is nearer than what the
    lock looks at does not count; else most of what is about the opening has to lie beside as one thing, on most of the
    frames that are far from the lock's own.

    Parameters
    ----------
    columns : see `columns_beside`. places : by frame, (n, 2) where the zone is seen.
    """
    lock = shot.lock(zone.placement.rides or "")
    doubtful = {frame: each for frame, each in columns.items() if each.share > SOME}
    by_camera = None if far is None or far.turned else _by_camera(lock, places, far)
    if by_camera is not None and far is not None:
        sure = {}
        for frame, (px, error, _) in by_camera.items():
            alone = frame not in doubtful
            if px > FIRMLY * error:
                sure[frame] = px
            elif px > APART_PX + (ALONE if alone else SURE) * error:
                nearly_all = _nearly_all(shot, zone, tracks, frame)
                sure[frame] = min(px, nearly_all if alone else BEYOND * nearly_all)
        sure = {frame: px for frame, px in sure.items() if px > APART_PX}
        asked = {frame: each for frame, each in doubtful.items() if frame in far.asked}
        tells = bool(asked) or not doubtful
        tells &= all(frame in by_camera and by_camera[frame][1] < each.px / 2 for frame, each in asked.items())
        if tells and not sure:
            return None
        if sure:
            worst = max(sure, key=lambda frame: sure[frame])
            return Beside(sure, worst, by_camera[worst][2])
        columns = {  # where it cannot be sure, a camera has to speak for what the rim says at least
            frame: each for frame, each in columns.items() if frame in by_camera and by_camera[frame][0] > each.px / 2
        }
    most = {frame: each for frame, each in columns.items() if each.alike >= MOST}
    farthest = max((abs(frame - lock.reference_frame) for frame in columns), default=0)
    outer = [each.alike for frame, each in columns.items() if 2 * abs(frame - lock.reference_frame) >= farthest]
    if not most or np.mean(outer) < MOST:  # things that pass, or trees before what is far
        return None
    worst = max(most, key=lambda frame: most[frame].px)
    return Beside({frame: each.px for frame, each in most.items()}, worst, most[worst].place)


def _by_camera(
    lock: Lock, places: Mapping[int, Places], far: FarMoves
) -> dict[int, tuple[float, float, tuple[float, float]]] | None:
    """By frame, how far what is far lies beside at worst, what that may be off by, and where; None without the lock's
    reference frame."""
    start = lock.reference_frame
    if start not in far.ways:
        return None
    out = {}
    for frame, at in places.items():
        entry = lock.at(frame)
        if entry is None or frame not in far.ways or not len(at) or frame == start:
            continue
        true = far.ways[frame] @ np.linalg.inv(far.ways[start])
        off = np.linalg.norm(carry(true @ np.linalg.inv(np.reshape(entry.homography, (3, 3))), at) - at, axis=1)
        worst = int(off.argmax())
        out[frame] = float(off[worst]), far.errors[frame], (float(at[worst, 0]), float(at[worst, 1]))
    return out


def _ways(lock: Lock) -> dict[int, Places]:
    return {entry.frame: np.reshape(entry.homography, (3, 3)) for entry in lock.solved}


def _threshold(tracks: PlateTracks) -> float:
    return max(APART_PX, APART_WORKING * tracks.grown)


def _beyond(
    shot: Shot,
    zone: Zone,
    tracks: PlateTracks,
    frame: int,
    other: int,
    some: NDArray[np.int64],
    ways: dict[int, Places],
) -> tuple[Places, Places, Places]:
    """Of some features that are seen on two frames: their places on the first, by which they do not go the lock's way,
    (n, 2), and by how much more than is said."""
    here, there = tracks.on(frame)[some], tracks.on(other)[some]
    both = np.isfinite(there[:, 0]) & np.isfinite(here[:, 0])
    at, there = here[both], there[both]
    by = at - carry(ways[frame] @ np.linalg.inv(ways[other]), there)
    errors = ride_errors(shot, zone, frame, at)
    return at, by, np.linalg.norm(by, axis=1) - (0.0 if errors is None else errors.most)


def _nearly_all(shot: Shot, zone: Zone, tracks: PlateTracks, frame: int) -> float:
    """What nine of ten features of a frame lie at most beside the lock's way, px; 0 where they do not tell."""
    lock = shot.lock(zone.placement.rides or "")
    ways, every = _ways(lock), np.flatnonzero(np.isfinite(tracks.on(frame)[:, 0]))
    other = _compared(tracks, frame, lock.reference_frame, every, ways)
    if other is None:
        return 0.0
    by = _beyond(shot, zone, tracks, frame, other, every, ways)[1]
    return float(np.quantile(np.linalg.norm(by, axis=1), 0.9))


def _about(opened: Opening, at: Places, size: tuple[int, int]) -> NDArray[np.bool_]:
    """Which places (n, 2) lie about what is open, and not in it."""
    if not len(opened.all):
        return np.zeros(len(at), np.bool_)
    scale = np.sqrt(opened.pixels / (size[0] * size[1]))
    high, wide = max(round(size[1] * scale), 1), max(round(size[0] * scale), 1)
    is_open = np.zeros((high, wide), np.uint8)
    x, y = (np.clip((opened.all.T[k] * scale).astype(int), 0, (wide, high)[k] - 1) for k in (0, 1))
    is_open[y, x] = opened.weights > 0.5
    reach = cv2.distanceTransform(1 - is_open, cv2.DIST_L2, 5)
    out = np.isfinite(at[:, 0])
    x, y = (np.clip((np.nan_to_num(at[:, k]) * scale).astype(int), 0, (wide, high)[k] - 1) for k in (0, 1))
    distance = reach[y, x]
    return np.asarray(out & (distance > 0) & (distance < NEAR * high))


def _compared(
    tracks: PlateTracks, frame: int, start: int, near: NDArray[np.int64], ways: Mapping[int, object]
) -> int | None:
    """The frame nearest to the reference frame that shares enough of the features about what is open."""
    step = 1 if frame > start else -1
    for other in range(start, frame, step):
        if other not in ways or other not in tracks.frames:
            continue
        if np.isfinite(tracks.on(other)[near, 0]).sum() >= LEAST_COLUMNS * LEAST_OF:
            return other
    return None
