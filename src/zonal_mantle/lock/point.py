"""The point lock: marks followed through the shot, and the motion they agree on."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field

import numpy as np
from numpy.typing import NDArray

from ..geometry import carry
from ..shot.lock import Lock, LockFrame, Mark
from .errors import LockError
from .fit import fit_motion, possible_motion, robust_motion
from .patch import UPRIGHT, Found, Patch, Shape
from .runs import Direction, flat, run_both_ways

Array = NDArray[np.float32]
LEAST_CONTRAST = 0.004  # coded values; flatter than the grain of a clean 8-bit plate
BAD_MARK = 0.05  # a mark of less weight disagrees with the others


@dataclass
class Living:
    """A mark on its way: the pattern that is looked for, its place on the reference frame, and where it was seen
    last."""

    number: int
    mark: Mark
    patch: Patch
    home: tuple[float, float]
    place: tuple[float, float]
    before: tuple[float, float]
    shape: Shape = UPRIGHT
    drift_px: float = 0.0
    seen: dict[int, Found] = field(default_factory=dict)


def solve_point(
    lock: Lock,
    feed_of: Callable[[int], Array],
    frames: range,
    direction: Direction = "both",
    progress: Callable[[float, str], None] = lambda share, words: None,
    missing_only: bool = False,
    guess: Callable[[int], NDArray] | None = None,
) -> Lock:
    """Follows a lock's marks from its reference frame.

    All marks that live on a frame are followed in one pass; the motion is what `lock.moves` and their number allow,
    and a mark that disagrees with the others counts for nothing. A mark set on another frame joins there: its place
    on the reference frame follows from the motion so far, so that it carries the offset on where the first ones leave.

    Parameters
    ----------
    lock : its marks lie on its reference frame or on their own, in pixels of the feed.
    feed_of : gives the (h, w) feed of a frame.
    frames : the shot's frames.
    direction : from the reference frame to the last, to the first, or both. Frames of the other side keep what was
        solved before.
    progress : called with a share 0…1 and words; it may raise to cancel, and nothing is changed then.
    missing_only : frames that are solved stay as they are.
    guess : the (3, 3) motion from the reference frame to a frame that each mark's search starts from.

    Returns
    -------
    The lock with what was solved. Where no mark lives the solve stops and says so in `lost`.

    Raises
    ------
    LockError : no marks, a reference frame outside the shot, a mark too near the rim or on nothing.
    """
    start = lock.reference_frame
    if not any(mark.frame in (None, start) for mark in lock.marks):
        raise LockError(f"{lock.name} has no mark on frame {start}. Set one or two marks on the picture first.")
    if start not in frames:
        raise LockError(
            f"{lock.name} starts on frame {start}, which is not in the shot ({frames[0]}–{frames[-1]}). "
            "Set its marks anew."
        )
    reference = feed_of(start)
    own = {k: mark for k, mark in enumerate(lock.marks) if mark.frame in (None, start)}
    patches = {k: _patch(lock, k, mark, reference, start) for k, mark in own.items()}
    first = LockFrame(
        frame=start,
        homography=flat(np.eye(3)),
        marks=tuple((mark.x, mark.y) if k in own else None for k, mark in enumerate(lock.marks)),
    )

    def begin() -> Callable[[int, LockFrame], tuple[LockFrame | None, str]]:
        living = [
            Living(k, mark, patches[k], (mark.x, mark.y), (mark.x, mark.y), (mark.x, mark.y)) for k, mark in own.items()
        ]

        def follow(frame: int, previous: LockFrame) -> tuple[LockFrame | None, str]:
            return _follow(lock, living, reference, feed_of(frame), frame, previous, guess(frame) if guess else None)

        return follow

    return run_both_ways(lock, first, frames, direction, begin, progress, missing_only)


def _patch(lock: Lock, k: int, mark: Mark, feed: Array, frame: int) -> Patch:
    try:
        patch = Patch(feed, mark)
    except ValueError:
        raise LockError(
            f"Mark {k + 1} of {lock.name} is too near the rim of frame {frame}: its patch reaches "
            "out of the picture. Move it inward or make the patch smaller."
        ) from None
    if patch.contrast < LEAST_CONTRAST:
        raise LockError(
            f"Mark {k + 1} of {lock.name} lies on nothing that can be followed (contrast {patch.contrast:.4f}). "
            "Put it on a corner or a texture, or choose another channel."
        )
    return patch


def _follow(
    lock: Lock,
    living: list[Living],
    reference: Array,
    feed: Array,
    frame: int,
    previous: LockFrame,
    guess: NDArray | None = None,
) -> tuple[LockFrame | None, str]:
    """One frame on: every living mark searched where the motion so far would bring it; those not found die."""
    found: dict[int, Found] = {}
    reasons: list[str] = []
    for each in list(living):
        (x, y), (u, v) = each.place, each.before
        starts = [(2 * x - u, 2 * y - v), (x, y)]
        if guess is not None:
            starts.insert(0, tuple(carry(guess, np.array([each.home]))[0]))
        hit = next((hit for at in starts if (hit := each.patch.search(feed, *at, each.shape)) is not None), None)
        if hit is None:
            reasons.append(f"mark {each.number + 1} has left the picture or its reach.")
        elif hit.confidence < lock.least_confidence:
            reasons.append(
                f"mark {each.number + 1} has a confidence of {hit.confidence:.2f} (needs {lock.least_confidence:.2f})."
            )
        else:
            found[each.number] = hit
            each.before, each.place, each.shape = each.place, (hit.x, hit.y), hit.shape
            continue
        living.remove(each)
    set_here = sum(mark.frame in (None, lock.reference_frame) for mark in lock.marks)
    least = 2 if set_here > 1 and lock.moves != "translation" else 1  # fewer would drop turn and size with a jump
    if len(living) < least:
        return None, reasons[0] if reasons else "too few marks live here."
    homes = np.array([each.home for each in living])
    places = np.array([each.place for each in living])
    motion = possible_motion(lock.moves, len(living))
    try:
        matrix, weights = robust_motion(homes, places, motion)
    except (ValueError, np.linalg.LinAlgError):
        matrix, weights = fit_motion(homes, places, possible_motion("similarity", len(living))), np.ones(len(living))
    if len(living) > 2 and np.count_nonzero(weights > BAD_MARK) < 2:
        return None, "the marks no longer agree with one another."
    squares = 0.0
    for each, weight in zip(living, weights):
        hit = found[each.number]
        back = _way_back(each, reference, feed, hit) if each.mark.frame is None else 0.0
        squares += weight * (hit.uncertainty_px**2 + back**2 + each.drift_px**2)
    squares /= float(weights.sum())
    if len(living) > 2:
        squares += float((weights * (carry(matrix, homes) - places).T ** 2).sum() / weights.sum())
    _renew(lock, living, found, feed)
    _join(lock, living, feed, frame, matrix)
    seen = {each.number: each.place for each in living if each.number in found}
    return LockFrame(
        frame=frame,
        homography=flat(matrix),
        marks=tuple(seen.get(k) for k in range(len(lock.marks))),
        residual_px=float(np.sqrt(squares)),
        confidence=float(np.average([found[each.number].confidence for each in living if each.number in found])),
    ), ""


def _renew(lock: Lock, living: list[Living], found: dict[int, Found], feed: Array) -> None:
    """Takes the pattern anew where the policy says so; what the old one did not know of its place adds up as drift."""
    for each in living:
        hit = found[each.number]
        always = lock.renewal == "renew every frame"
        if always or (lock.renewal == "renew below" and hit.confidence < lock.renew_below):
            try:
                each.patch = Patch(feed, each.mark.but(x=each.place[0], y=each.place[1]))
            except ValueError:
                continue
            each.shape = UPRIGHT
            each.drift_px = float(np.hypot(each.drift_px, hit.uncertainty_px))


def _join(lock: Lock, living: list[Living], feed: Array, frame: int, matrix: NDArray) -> None:
    """Marks that are set on this frame begin to live: their home is where the motion so far puts them."""
    for k, mark in enumerate(lock.marks):
        if mark.frame != frame or any(each.number == k for each in living):
            continue
        home = carry(np.linalg.inv(matrix), np.array([[mark.x, mark.y]]))[0]
        place = (mark.x, mark.y)
        patch = _patch(lock, k, mark, feed, frame)
        living.append(Living(k, mark, patch, (float(home[0]), float(home[1])), place, place))


def _way_back(each: Living, reference: Array, feed: Array, found: Found) -> float:
    """How far from the mark one ends when the found patch is sought on the reference frame, px."""
    mark = each.mark
    size, turn = found.shape
    power = size * size + turn * turn
    try:
        back = Patch(feed, mark.but(x=found.x, y=found.y)).refine(
            reference, mark.x, mark.y, (size / power, -turn / power)
        )
    except ValueError:
        return 0.0
    return 1.0 if back is None else float(np.hypot(back.x - mark.x, back.y - mark.y))
