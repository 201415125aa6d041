"""The point lock: one or two marks followed through the shot."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from typing import Literal

import numpy as np
from numpy.typing import NDArray

from ..shot.zone import Lock, LockFrame
from .errors import LockError
from .patch import UPRIGHT, Found, Patch, Shape
from .similarity import similarity

Array = NDArray[np.float32]
Direction = Literal["forward", "backward", "both"]
LEAST_CONTRAST = 0.004  # coded values; flatter than the grain of a clean 8-bit plate


def solve_point(
    lock: Lock,
    feed_of: Callable[[int], Array],
    frames: range,
    direction: Direction = "both",
    progress: Callable[[float, str], None] = lambda share, words: None,
) -> Lock:
    """Follows a lock's marks from its reference frame.

    Parameters
    ----------
    lock : its marks lie on its reference frame, in pixels of the feed.
    feed_of : gives the (h, w) feed of a frame.
    frames : the shot's frames.
    direction : from the reference frame to the last, to the first, or both. Frames of the other side keep what was
        solved before.
    progress : called with a share 0…1 and words; it may raise to cancel, and nothing is changed then.

    Returns
    -------
    The lock with what was solved. Where a mark is lost the solve stops and says so in `lost`.

    Raises
    ------
    LockError : no marks, a reference frame outside the shot, a mark too near the rim or on nothing.
    """
    if not lock.marks:
        raise LockError(f"{lock.name} has no mark. Set one or two marks on the picture first.")
    start = lock.reference_frame
    if start not in frames:
        raise LockError(
            f"{lock.name} starts on frame {start}, which is not in the shot ({frames[0]}–{frames[-1]}). "
            "Set its marks anew."
        )
    reference = feed_of(start)
    patches = _patches(lock, reference)
    first = LockFrame(frame=start, homography=_flat(np.eye(3)), marks=tuple((mark.x, mark.y) for mark in lock.marks))
    entries = {start: first}
    lost: list[str] = []
    runs: list[Iterable[int]] = []
    if direction in ("forward", "both"):
        runs.append(range(start + 1, frames[-1] + 1))
    else:
        entries |= {entry.frame: entry for entry in lock.solved if entry.frame > start}
        lost += [words for words in lock.lost if words.startswith("Forward")]
    if direction in ("backward", "both"):
        runs.append(range(start - 1, frames[0] - 1, -1))
    else:
        entries |= {entry.frame: entry for entry in lock.solved if entry.frame < start}
        lost += [words for words in lock.lost if words.startswith("Backward")]
    total = max(1, sum(len(list(run)) for run in runs))
    done = 0
    for run in runs:
        previous, before = first, first
        shapes = [UPRIGHT] * len(patches)
        for frame in run:
            progress(done / total, f"{lock.name}: frame {frame}")
            entry, problem = _follow(lock, patches, reference, feed_of(frame), frame, previous, before, shapes)
            done += 1
            if entry is None:
                side = "Forward" if frame > start else "Backward"
                lost.append(f"{side}: lost on frame {frame}: {problem}")
                break
            entries[frame] = entry
            before, previous = previous, entry
    progress(1.0, f"{lock.name}: done")
    return lock.but(solved=tuple(entries[frame] for frame in sorted(entries)), lost=tuple(lost))


def _patches(lock: Lock, reference: Array) -> list[Patch]:
    patches = []
    for number, mark in enumerate(lock.marks, 1):
        try:
            patch = Patch(reference, mark)
        except ValueError:
            raise LockError(
                f"Mark {number} of {lock.name} is too near the rim of frame {lock.reference_frame}: its patch reaches "
                "out of the picture. Move it inward or make the patch smaller."
            ) from None
        if patch.contrast < LEAST_CONTRAST:
            raise LockError(
                f"Mark {number} of {lock.name} lies on nothing that can be followed (contrast {patch.contrast:.4f}). "
                "Put it on a corner or a texture, or choose another channel."
            )
        patches.append(patch)
    return patches


def _follow(
    lock: Lock,
    patches: list[Patch],
    reference: Array,
    feed: Array,
    frame: int,
    previous: LockFrame,
    before: LockFrame,
    shapes: list[Shape],
) -> tuple[LockFrame | None, str]:
    """One frame on: every mark searched where the motion so far would bring it. `shapes` goes along."""
    places: list[tuple[float, float]] = []
    confidence, squares = 1.0, 0.0
    for number, patch in enumerate(patches):
        (x, y), (x_before, y_before) = previous.marks[number], before.marks[number]
        shape = shapes[number]
        found = patch.search(feed, 2 * x - x_before, 2 * y - y_before, shape) or patch.search(feed, x, y, shape)
        if found is None:
            return None, f"mark {number + 1} has left the picture or its reach."
        if found.confidence < lock.least_confidence:
            return None, (
                f"mark {number + 1} has a confidence of {found.confidence:.2f} (needs {lock.least_confidence:.2f})."
            )
        places.append((found.x, found.y))
        shapes[number] = found.shape
        confidence = min(confidence, found.confidence)
        squares += found.uncertainty_px**2 + _way_back(patch, lock, number, reference, feed, found) ** 2
    matrix = similarity(np.array([patch.place for patch in patches]), np.array(places))
    return LockFrame(
        frame=frame,
        homography=_flat(matrix),
        marks=tuple(places),
        residual_px=float(np.sqrt(squares / len(patches))),
        confidence=confidence,
    ), ""


def _way_back(patch: Patch, lock: Lock, number: int, reference: Array, feed: Array, found: Found) -> float:
    """How far from the mark one ends when the found patch is sought on the reference frame, px."""
    mark = lock.marks[number]
    size, turn = found.shape
    power = size * size + turn * turn
    try:
        back = Patch(feed, mark.but(x=found.x, y=found.y)).refine(
            reference, mark.x, mark.y, (size / power, -turn / power)
        )
    except ValueError:
        return 0.0
    return 1.0 if back is None else float(np.hypot(back.x - mark.x, back.y - mark.y))


def _flat(matrix: NDArray) -> tuple[float, float, float, float, float, float, float, float, float]:
    return tuple(float(v) for v in np.asarray(matrix).reshape(-1))  # type: ignore[return-value]
