"""Which lock to use, and where: from a quick look at how features of the shot move."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace

import cv2
import numpy as np
from numpy.typing import NDArray

from ..geometry import DEFAULT_FOCAL, carry
from ..shot.lock import Lens, Lock, LockKind
from ..words import say
from .camera import Seek, camera_from_tracks, track_links, turning_error
from .errors import LockError, OnlyTurned
from .features import Track
from .pan import solve_turn

STAYS = 0.9  # of a region's features live through the looked-at frames: it stays in view
WORST_TURN_PX = 3.0  # that turning may leave unexplained where a pan lock is proposed
PARALLAX_PX = 1.5  # parts of a region that move apart by more are not one plane


@dataclass(frozen=True)
class Proposal:
    """A kind of lock, a region on a frame (x0, y0, x1, y1, plate pixels), why, by how much a trial was off, and what it
    solved where it was one over the shot."""

    kind: LockKind
    field_stays: bool
    frame: int
    region: tuple[float, float, float, float]
    why: str
    expected_px: float | None = None
    solved: Lock | None = None


def whole_region(size: tuple[int, int]) -> tuple[float, float, float, float]:
    """All of a frame but its rim."""
    return 0.02 * size[0], 0.05 * size[1], 0.98 * size[0], 0.95 * size[1]


def propose(tracks: list[Track], frames: range, size: tuple[int, int]) -> Proposal:
    """The lock that suits the shot, from tracks on some of its frames.

    What is farthest moves least against the turning of the camera: of the cells of the frame whose features stay in
    view, the region is where they agree best with the motion that most of the upper picture shares.
    """
    first, last = frames[0], frames[-1]
    middle = frames[len(frames) // 2]
    ends = [(track.places[first], track.places[last]) for track in tracks if {first, last} <= set(track.places)]
    whole = whole_region(size)
    if len(ends) < 12:
        moved = _travel(tracks, size)
        return Proposal(
            "pan", True, middle, whole,
            say("Hardly anything seen on frame {first} is still there on frame {last} (the picture moves by "
"{moved:.1f} widths): a field that stays, solved as a turning camera.", first=first, last=last, moved=moved),
        )  # fmt: skip
    source, target = np.array(ends).transpose(1, 0, 2)
    matrix, good = cv2.findHomography(source, target, cv2.RANSAC, 1.0)
    share = float(good.mean()) if good is not None else 0.0
    off = _apart(matrix, source, target) if matrix is not None else np.full(len(source), 99.0)
    spread = float(np.percentile(off, 80))
    if spread > 4.0 and len(ends) >= 60:
        return Proposal(
            "camera", False, middle, whole,
            say("Features move apart by {spread:.0f} px between frames {first} and {last}: the camera moves. A "
"camera lock gives near and far zones their own parallax.", spread=spread, first=first, last=last),
        )  # fmt: skip
    region = _farthest(tracks, frames, size)
    if region is None:
        return Proposal(
            "plane", True, middle, whole,
            say("No region keeps its features through the shot: a field that stays in the frame."),
        )  # fmt: skip
    return Proposal(
        "plane", False, middle, region,
        say("The farthest thing that stays in view: {share:.0%} of the features that live through the shot "
"move as one plane there (to {median:.2f} px).", share=share, median=np.median(off)),
    )  # fmt: skip


def tried(
    found: Proposal,
    tracks: list[Track],
    frames: range,
    size: tuple[int, int],
    progress: Callable[[float, str], None] = lambda share, words: None,
    again: Seek | None = None,
) -> Proposal:
    """A proposal after it was tried on the features that were followed: with what it can promise, or another in its
    place with the reason why the first would have failed."""
    whole = whole_region(size)
    if found.kind == "camera":
        trial = Lock(id="trial", name="The camera", kind="camera", reference_frame=found.frame)
        try:
            solved = camera_from_tracks(trial, tracks, frames, size, progress, again=again)
        except OnlyTurned:
            found = replace(
                found, kind="pan", field_stays=True, region=whole,
                why=say("Tried as a moving camera, it only turned: a camera that turns."),
            )  # fmt: skip
        except LockError as problem:
            return _staying(found, whole, say("Tried as a moving camera: {problem}", problem=problem))
        else:
            off = float(np.sqrt(np.mean([entry.residual_px**2 for entry in solved.solved])))
            told = " ".join(solved.lost)
            words = say(
                "{why} Tried: what is hung on it stays within {off:.2f} px. {told}", why=found.why, off=off, told=told
            )
            return replace(found, why=words.strip(), expected_px=off, solved=solved)
    if found.kind == "pan":
        try:
            turned = solve_turn(track_links(tracks, frames, found.frame), found.frame, size, Lens())
        except LockError as problem:
            return _staying(found, whole, say("Tried as a turning camera: {problem}", problem=problem))
        lens, turns = turned.lens, turned.turns
        off = turning_error(tracks, frames, turns, lens.focal_px or DEFAULT_FOCAL * size[0], np.array(size) / 2)
        if off > WORST_TURN_PX:
            return _staying(
                found, whole, say("Tried as a turning camera: turning leaves {off:.1f} px unexplained.", off=off)
            )
        told = say(
            "Tried: turning explains the features to {off:.2f} px, at a focal length of {focal_px:.0f} px.",
            off=off,
            focal_px=lens.focal_px,
        )
        return replace(found, why=f"{found.why} {told}")
    return found


def _staying(found: Proposal, whole: tuple[float, float, float, float], why: str) -> Proposal:
    """A field that stays in the frame, which asks for no lens, and why it is proposed."""
    return Proposal(
        "plane", True, found.frame, whole, say("{why} A field that stays in the frame asks for no lens.", why=why)
    )


def _apart(matrix: NDArray, source: NDArray, target: NDArray) -> NDArray[np.float64]:
    return np.asarray(np.linalg.norm(carry(matrix, source) - target, axis=1))


def _travel(tracks: list[Track], size: tuple[int, int]) -> float:
    """How far the picture moves over the tracks, in widths: the sum of median steps."""
    steps: dict[int, list[float]] = {}
    for track in tracks:
        frames = sorted(track.places)
        for a, b in zip(frames, frames[1:]):
            step = np.subtract(track.places[b], track.places[a]) / (b - a)
            steps.setdefault(a, []).append(float(np.hypot(*step)))
    return float(sum(np.median(each) for each in steps.values()) / size[0])


def _farthest(tracks: list[Track], frames: range, size: tuple[int, int]) -> tuple[float, float, float, float] | None:
    """A box on the middle frame round features that live long and move least against one another."""
    middle = frames[len(frames) // 2]
    long = [t for t in tracks if middle in t.places and t.life >= STAYS * len(frames)]
    if len(long) < 8:
        return None
    at = np.array([track.places[middle] for track in long])
    low = at[:, 1] <= np.percentile(at[:, 1], 60)
    upper = [track for track, each in zip(long, low) if each]
    off = np.zeros(len(upper))
    for frame in (frames[0], frames[-1]):
        both = [k for k, track in enumerate(upper) if frame in track.places]
        if len(both) < 6:
            continue
        source = np.array([upper[k].places[middle] for k in both])
        target = np.array([upper[k].places[frame] for k in both])
        matrix, _ = cv2.findHomography(source, target, cv2.RANSAC, 0.8)
        if matrix is not None:
            off[both] = np.maximum(off[both], _apart(matrix, source, target))
    calm = np.array([track.places[middle] for track, each in zip(upper, off) if each < PARALLAX_PX])
    if len(calm) < 6:
        return None
    x0, y0 = np.percentile(calm, 4, axis=0)
    x1, y1 = np.percentile(calm, 96, axis=0)
    pad = 0.02 * size[0]
    return (
        max(float(x0) - pad, 8.0),
        max(float(y0) - pad, 8.0),
        min(float(x1) + pad, size[0] - 8.0),
        min(float(y1) + pad, size[1] - 8.0),
    )


def region_parallax(tracks: list[Track], region: tuple[float, float, float, float], frame: int) -> float:
    """How far features within a region move apart from one plane over the shot, px (80th percentile, worst frame)."""
    x0, y0, x1, y1 = region
    inside = [
        t for t in tracks if frame in t.places and x0 <= t.places[frame][0] <= x1 and y0 <= t.places[frame][1] <= y1
    ]
    worst = 0.0
    for other in sorted({f for track in inside for f in track.places})[::4]:
        both = [track for track in inside if other in track.places]
        if other == frame or len(both) < 8:
            continue
        source = np.array([track.places[frame] for track in both])
        target = np.array([track.places[other] for track in both])
        matrix, _ = cv2.findHomography(source, target, cv2.LMEDS)
        if matrix is not None:
            worst = max(worst, float(np.percentile(_apart(matrix, source, target), 80)))
    return worst


def propose_marks(
    feed: NDArray[np.float32], area: tuple[float, float, float, float], count: int = 6
) -> list[tuple[float, float]]:
    """The strongest corners within an area (x0, y0, x1, y1), well apart, strongest first; fewer where there are fewer.

    References
    ----------
    Shi & Tomasi 1994.
    """
    x0, x1 = (int(np.clip(v, 0, feed.shape[1])) for v in (min(area[0], area[2]), max(area[0], area[2])))
    y0, y1 = (int(np.clip(v, 0, feed.shape[0])) for v in (min(area[1], area[3]), max(area[1], area[3])))
    if x1 - x0 < 8 or y1 - y0 < 8:
        return []
    part = np.ascontiguousarray(cv2.GaussianBlur(feed, (0, 0), 1.0)[y0:y1, x0:x1])
    apart = 0.5 * np.sqrt((x1 - x0) * (y1 - y0) / count)
    found = cv2.goodFeaturesToTrack(part, count, 0.05, max(float(apart), 8.0), blockSize=7)
    strength = cv2.cornerMinEigenVal(part, 7)
    if found is None:
        return []
    places = [(float(x), float(y)) for x, y in found.reshape(-1, 2)]
    return [(x + x0 + 0.5, y + y0 + 0.5) for x, y in places if strength[int(y), int(x)] > LEAST_CORNER]


LEAST_CORNER = 6e-5  # of OpenCV's smaller eigenvalue on a feed of 0…1; grain alone stays below
