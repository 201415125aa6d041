"""A field that stays in the frame: motion measured through it against a chain of key frames, then adjusted as a
whole."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial

import cv2
import numpy as np
from numpy.typing import NDArray

from ..shot.lock import Lock, LockFrame
from ..words import english, say
from .align import Area
from .bend import bends_words, nearest_motion, unbent, with_beside
from .blur import Blur, Exposure, always, courses_of
from .chain import Adjusted, Chain, adjusted, chained
from .errors import LockError
from .fuller import against_fuller, misfits, unfollowed
from .level import pyramid
from .plane import LEAST_CONTRAST, check_start, too_loose
from .residual import likely
from .rivalry import untold_words
from .runs import FEW, FLASH, Direction, SoFar, flat, unseen
from .walker import WORST_LINK_PX, Walker, linked

Array = NDArray[np.float32]
Matrix = NDArray[np.float64]
TOO_LOOSE_PX = 3.0  # of error at the field's corners
UNFOUND = "cannot be found again"  # why a way ends


def measure_chain(
    lock: Lock,
    feed_of: Callable[[int], Array],
    field_mask: Array,
    cover_of: Callable[[int], Array | None],
    frames: range,
    direction: Direction,
    progress: Callable[[float, str], None],
    so_far: SoFar = unseen,
    codec_step: float = 0.0,
) -> Chain:
    """Measures motion through a field that does not move, from the reference frame both ways.

    Each frame is aligned with the key frame before it, and with the key before that while they still share enough.

    Raises
    ------
    LockError : as `solve_plane`.
    """
    check_start(lock, frames)
    start = lock.reference_frame
    reference = feed_of(start)
    if float(field_mask.sum()) < 400 or not _textured(reference, field_mask):
        raise LockError(
            say(
                "The field of {name} has nothing to hold on frame {start}. Draw it larger, over something with "
                "some texture, however soft.",
                name=lock.name,
                start=start,
            )
        )
    chain = Chain()
    ways = [range(start + 1, frames[-1] + 1)] if direction in ("forward", "both") else []
    ways += [range(start - 1, frames[0] - 1, -1)] if direction in ("backward", "both") else []
    total, done = max(1, sum(len(way) for way in ways)), 0
    for way in ways:
        walker, since = Walker(lock, feed_of, field_mask, cover_of, start, codec_step), 0
        held, why = 0, ""
        for frame in way:
            progress(0.9 * done / total, say("{name}: frame {frame}", name=lock.name, frame=frame))
            done += 1
            problem = walker.step(frame)
            held += not problem
            if problem and since:
                since += 1
            elif problem:
                since, why = 1, problem
                chain.lost.append(
                    say(
                        "{how}: lost on frame {frame}: {problem}",
                        how=say("Forward") if frame > start else say("Backward"),
                        frame=frame,
                        problem=problem,
                    )
                )
            elif since:
                chain.lost[-1] += say(" Found again on frame {frame}.", frame=frame)
                since = 0
            if since > FLASH:
                break
            so_far(partial(_roughly, lock, Chain([*chain.links, *walker.links], list(chain.lost))))
        untold, links = walker.untold(), walker.links
        side, first = say("Forward") if way.step > 0 else say("Backward"), untold.first
        if since and 0 < held < FEW and UNFOUND in english(why):
            links = []  # what is not found on the next frame was hardly found on these
            chain.lost[-1] = say("{side}: lost on frame {frame}: {problem}", side=side, frame=way[0], problem=why)
        if first is not None:
            links = [link for link in links if abs(link.frame - start) < abs(first - start)]
            chain.lost = [words for words in chain.lost if not words.startswith(side)]
        chain.lost += untold_words(untold, side, start, walker.period_px)
        chain.links += links
    return chain


def _textured(feed: Array, mask: Array) -> bool:
    """Whether the field differs from a flat tone by more than its grain, once that is averaged out."""
    soft = cv2.GaussianBlur(feed, (0, 0), 3.0)
    inside = soft[mask > 0.5]
    return bool(inside.size and inside.std() > LEAST_CONTRAST)


def solve_staying(
    lock: Lock,
    feed_of: Callable[[int], Array],
    field_mask: Array,
    cover_of: Callable[[int], Array | None],
    frames: range,
    direction: Direction = "both",
    progress: Callable[[float, str], None] = lambda share, words: None,
    so_far: SoFar = unseen,
    bend: float | None = None,
    codec_step: float = 0.0,
) -> Lock:
    """Solves a plane lock whose field stays in the frame.

    Parameters and errors are those of `solve_plane`. `bend` is what features tell of the lens, see `bend_of`: then the
    motions are the homographies nearest to what it shows, and what these miss is part of the error. The residual of a
    frame is what its links and the whole disagree by, with what the links themselves do not know.
    """
    chain = measure_chain(lock, feed_of, field_mask, cover_of, frames, direction, progress, so_far, codec_step)
    start, size = lock.reference_frame, (field_mask.shape[1], field_mask.shape[0])
    corners = corners_of(field_mask)
    found = adjusted(chain, start, size, corners, lock.moves)
    chain = settled_chain(lock, chain, found.motions, feed_of, field_mask, cover_of, progress)
    found = _as_far_as_told(lock, chain, adjusted(chain, start, size, corners, lock.moves))
    missed = dict[int, float]()
    if lock.moves != "perspective":
        whole = Chain([link.fuller or link for link in chain.links])
        missed = misfits(found, adjusted(whole, start, size, corners), corners)
        give = {frame: float(np.hypot(give, missed.get(frame, 0.0))) for frame, give in found.give_px.items()}
        found = Adjusted(found.motions, give)
    remarks = unfollowed(missed, lock.moves)
    if bend is not None and lock.moves == "perspective":
        straight = adjusted(unbent(chain, bend, size), start, size, corners)
        known = unbent(with_beside(chain, straight.motions, bend, size), bend, size)
        found = _seen_bent(adjusted(known, start, size, corners), found, field_mask, bend)
        advice = say("Undistort the plate, or use a pan lock with Solve lens distortion.")
        remarks = (*remarks, bends_words(bend, size) + advice)
    return lock.but(solved=entries_of(chain, found), lost=tuple(chain.lost), remarks=remarks)


def _seen_bent(straight: Adjusted, found: Adjusted, mask: Array, bend: float) -> Adjusted:
    """Motions of a lens that bends nothing as one that bends shows them, for the frames that were found."""
    size, motions, give = (mask.shape[1], mask.shape[0]), dict[int, Matrix](), dict[int, float]()
    (x0, y0), (x1, y1) = corners_of(mask)[[0, 2]]
    across, down = np.meshgrid(np.linspace(x0, x1, 7), np.linspace(y0, y1, 5))
    places = np.stack([across.ravel(), down.ravel()], axis=1)
    for frame in found.motions:
        motion, missed = nearest_motion(straight.motions[frame], places, bend, size)
        motions[frame] = motion
        give[frame] = float(np.hypot(straight.give_px[frame], missed))
    return Adjusted(motions, give)


def _roughly(lock: Lock, chain: Chain) -> Lock:
    """A lock by the first chain of links that leads to each frame, before all are adjusted."""
    worst: dict[int, float] = {lock.reference_frame: 0.0}
    for link in chain.links:
        worst.setdefault(link.frame, float(np.hypot(worst.get(link.key, 0.0), link.fit.firm_residual_px)))
    motions = chained(chain, lock.reference_frame)
    return lock.but(solved=entries_of(chain, Adjusted(motions, worst)), lost=tuple(chain.lost))


def _as_far_as_told(lock: Lock, chain: Chain, found: Adjusted) -> Adjusted:
    """The motions up to the first, either way, of which what is seen through the field does not tell all; that is
    said."""
    start, motions = lock.reference_frame, found.motions
    for forward, side in ((True, say("Forward")), (False, say("Backward"))):
        loose = [frame for frame, give in found.give_px.items() if give > TOO_LOOSE_PX and (frame > start) == forward]
        if not loose:
            continue
        first = min(loose, key=lambda frame: abs(frame - start))
        beyond = range(first, max(motions) + 1) if forward else range(min(motions), first + 1)
        motions = {frame: motion for frame, motion in motions.items() if frame not in beyond}
        chain.lost = [words for words in chain.lost if not words.startswith(side)]
        problem = too_loose(lock, found.give_px[first])
        chain.lost.append(say("{how}: lost on frame {frame}: {problem}", how=side, frame=first, problem=problem))
    return Adjusted(motions, found.give_px)


def settled_chain(
    lock: Lock, chain: Chain, motions: dict[int, Matrix], feed_of: Callable[[int], Array], mask: Array,
    cover_of: Callable[[int], Array | None], progress: Callable[[float, str], None],
) -> Chain:  # fmt: skip
    """The links between frames whose blur is unlike measured once more: now it is known how both move, and how long the
    shutter is open."""
    middle = np.array([mask.shape[1] / 2, mask.shape[0] / 2])
    courses, exposure = courses_of(motions, dict.fromkeys(motions, middle)), Exposure.of(lock.shutter_deg, fades=1.0)
    for link in chain.links:
        exposure.learn(link.fit.left)
    links, unlike = [], [link for link in chain.links if courses[link.key].may_be_unlike(courses[link.frame])]
    area, key = None, None
    for k, link in enumerate(sorted(chain.links, key=lambda each: each.key)):
        if link not in unlike:
            links.append(link)
            continue
        progress(
            0.9 + 0.08 * k / len(chain.links), say("{name}: blur of frame {frame}", name=lock.name, frame=link.frame)
        )
        if area is None or key != link.key:
            cover = cover_of(link.key)
            key, area = link.key, Area(pyramid(feed_of(link.key), 5), mask if cover is None else mask * cover)
        blur = Blur(courses[link.key], courses[link.frame], exposure.share)
        top = area.sizes_for(blur)
        feeds = pyramid(feed_of(link.frame), top)
        fit = area.find(feeds, link.fit.homography, lock.moves, cover_of(link.frame), always(blur), top=top)
        if fit is None or fit.firm_residual_px > WORST_LINK_PX:
            links.append(link)
            continue
        exposure.learn(fit.left)
        fit = against_fuller(area, feeds, fit, lock.moves, cover_of(link.frame), always(blur))
        links.append(linked(area, link.key, link.frame, fit, link.points))
    return Chain(links, chain.lost)


def corners_of(mask: Array) -> NDArray[np.float64]:
    """The corners of the box about a field. (4, 2)."""
    rows, columns = np.flatnonzero(mask.max(axis=1) > 0.01), np.flatnonzero(mask.max(axis=0) > 0.01)
    x0, x1, y0, y1 = columns[0], columns[-1] + 1, rows[0], rows[-1] + 1
    return np.array([[x0, y0], [x1, y0], [x1, y1], [x0, y1]], float)


def sureness(chain: Chain) -> dict[int, float]:
    """How sure the surest link of each frame is."""
    out: dict[int, float] = {}
    for link in chain.links:
        out[link.frame] = max(out.get(link.frame, 0.0), min(link.fit.likeness, 1.0))
    return out


def entries_of(chain: Chain, found: Adjusted) -> tuple[LockFrame, ...]:
    """A lock's frames from adjusted motions."""
    sure = sureness(chain)
    return tuple(
        LockFrame(
            frame=frame,
            homography=flat(motion),
            residual_px=found.give_px[frame],
            confidence=likely(sure.get(frame, 1.0)),
        )
        for frame, motion in sorted(found.motions.items())
    )
