"""The point lock: marks followed through the shot, and the motion they agree on."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field, replace

import numpy as np
from numpy.typing import NDArray

from ..geometry import carry
from ..shot.lock import Lock, LockFrame, Mark
from ..words import say
from .align import LEARNT_PX, PICTURE_PX
from .blur import SHARE_KNOWN, SHUTTER, Blur, Course, Exposure, courses_of, smeared, streak
from .check import is_blank
from .errors import LockError
from .few import unchecked
from .fit import BAD_POINT, fit_motion, misfit, possible_motion, robust_motion
from .patch import UPRIGHT, Found, Patch, Shape
from .residual import likely
from .runs import BLANK, Direction, SoFar, flat, run_both_ways, unseen
from .turn_of_marks import turning_marks

Array = NDArray[np.float32]
LEAST_CONTRAST = 0.004  # coded values; flatter than the grain of a clean 8-bit plate
SHUTTER_GIVE = 0.15  # of a frame's time, by which a streak may be wrong, in length and in its way
MOST_BACK_PX = 1.0  # off the mark on the way back, beyond which another place was found
TRIED = (0.0, 0.25, SHUTTER, 1.0)  # shutters, of a frame's time
MODEL = 0.06  # of a pattern's contrast, that is left over where all is right
MOST_TRIED = 12  # frames on which a shutter is tried
MOST_ROUNDS, STANDS_PX = 4, 0.05  # of measuring again, until marks move by no more
AGREE_TIMES = 2.0  # of its standard deviation, by which a second look must differ to count
MUCH_LESS = 0.1  # of likeness, by which a second look must not be worse
FIRST_REACH = 3  # times its reach, within which a mark is looked for while it is not known where it goes
ALIKE = 0.7  # of what another place is unlike, over which both may be the mark
NEARER = 0.3  # of how far the other is from where a mark should be, within which the near one is taken
KNOWN, CHANGE = 3, 0.2  # frames that tell how a motion changes; else, by what share of it it may


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
    backs: dict[int, float] = field(default_factory=dict)

    def place_at(self, frame: int) -> tuple[float, float]:
        """Where it is on a frame; at home where it was not looked for."""
        hit = self.seen.get(frame)
        return self.home if hit is None else (hit.x, hit.y)


def solve_point(
    lock: Lock,
    feed_of: Callable[[int], Array],
    frames: range,
    direction: Direction = "both",
    progress: Callable[[float, str], None] = lambda share, words: None,
    missing_only: bool = False,
    guess: Callable[[int], NDArray] | None = None,
    so_far: SoFar = unseen,
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
    so_far : called with each frame that is there.

    Returns
    -------
    The lock with what was solved. Where no mark lives the solve stops and says so in `lost`.

    Raises
    ------
    LockError : no marks, a reference frame outside the shot, a mark too near the rim or on nothing.
    """
    start = lock.reference_frame
    if not any(mark.frame in (None, start) for mark in lock.marks):
        raise LockError(
            say(
                "{name} has no mark on frame {start}. Set one or two marks on the picture first.",
                name=lock.name,
                start=start,
            )
        )
    if start not in frames:
        raise LockError(
            say(
                "{name} starts on frame {start}, which is not in the shot ({frames}–{frames_2}). Set its marks anew.",
                name=lock.name,
                start=start,
                frames=frames[0],
                frames_2=frames[-1],
            )
        )
    reference = feed_of(start)
    own = {k: mark for k, mark in enumerate(lock.marks) if mark.frame in (None, start)}
    patches = {k: _patch(lock, k, mark, reference, start) for k, mark in own.items()}
    first = LockFrame(
        frame=start,
        homography=flat(np.eye(3)),
        marks=tuple((mark.x, mark.y) if k in own else None for k, mark in enumerate(lock.marks)),
    )

    walks: list[list[Living]] = []

    def begin() -> Callable[[int, LockFrame], tuple[LockFrame | None, str]]:
        living = [
            Living(k, mark, patches[k], (mark.x, mark.y), (mark.x, mark.y), (mark.x, mark.y)) for k, mark in own.items()
        ]

        walks.append(list(living))

        def follow(frame: int, previous: LockFrame) -> tuple[LockFrame | None, str]:
            feed = feed_of(frame)
            if is_blank(feed):
                return None, say(BLANK)
            return _follow(lock, living, reference, feed, frame, previous, guess(frame) if guess else None)

        return follow

    found = run_both_ways(
        lock, first, frames, direction, begin, lambda s, w: progress(0.8 * s, w), missing_only, so_far=so_far
    )
    if lock.renewal == "hold the first" and not missing_only:
        found = _settled(found, walks, feed_of, lambda s, w: progress(0.8 + 0.2 * s, w))
    if lock.moves == "camera turn":
        found = turning_marks(found, (reference.shape[1], reference.shape[0]))
    return unchecked(found)


def _settled(
    lock: Lock, walks: list[list[Living]], feed_of: Callable[[int], Array], progress: Callable[[float, str], None]
) -> Lock:
    """The marks measured once more on frames that are blurred unlike their own: now it is known how each moves, from
    the frames before and after, and how long the shutter is open."""
    start, reference = lock.reference_frame, feed_of(lock.reference_frame)
    given = lock.shutter_deg is not None
    exposure = Exposure.of(lock.shutter_deg) if given else _first_exposure(walks, start, reference, feed_of)
    done, asked = dict[int, LockFrame](), set[int]()
    for rounds in range(MOST_ROUNDS):
        share, farthest, feed, last = exposure.share, 0.0, reference, start
        unlike = _blurred_unlike(walks, start)
        asked |= {frame for frame, *_ in unlike}
        for count, (frame, each, own, other) in enumerate(unlike):
            progress(
                (rounds + count / len(unlike)) / MOST_ROUNDS,
                say("{name}: blur of frame {frame}", name=lock.name, frame=frame),
            )
            feed, last = (feed, last) if frame == last else (feed_of(frame), frame)
            was = each.place_at(frame)
            again = _once_more(each, each.seen[frame], reference, feed, Blur(own, other, exposure.share), exposure)
            if again is not None:
                each.seen[frame], each.backs[frame] = again
            farthest = max(farthest, float(np.hypot(*np.subtract(each.place_at(frame), was))))
        if abs(exposure.share - share) < SHARE_KNOWN and farthest < STANDS_PX:
            break
    for frame in sorted(asked | _hardly_known(walks, exposure.share)):
        entry = lock.at(frame)
        here = [each for living in walks for each in living if frame in each.seen]
        if entry is not None and all(each.mark.frame is None for each in here):
            done[frame] = _entry(lock, frame, [(each, each.seen[frame], each.backs[frame]) for each in here]) or entry
    return lock.but(solved=tuple(done.get(entry.frame, entry) for entry in lock.solved))


def _hardly_known(walks: list[list[Living]], share: float) -> set[int]:
    """Frames of marks that are seen on one or two frames beside their own: how their motion changes is not known, and
    so not how unlike they are blurred. That is added to how far off they may be."""
    seen = [each for living in walks for each in living if each.seen]
    few = [each for each in seen if sum(len(other.seen) for other in seen if other.number == each.number) < KNOWN]
    for each in few:
        far = max(float(np.hypot(hit.x - each.home[0], hit.y - each.home[1])) for hit in each.seen.values())
        unsure = CHANGE * max(share, SHUTTER) * far / len(each.seen)
        each.seen = {
            frame: replace(hit, uncertainty_px=float(np.hypot(hit.uncertainty_px, unsure)))
            for frame, hit in each.seen.items()
        }
    return {frame for each in few for frame in each.seen}


def _first_exposure(
    walks: list[list[Living]], start: int, reference: Array, feed_of: Callable[[int], Array]
) -> Exposure:
    """What a shutter is first taken for: streaks much longer than a pattern's details do not tell how much longer they
    should be, but by which of a few shutters frames made alike are left the least unlike, of what their grain, blurred
    as they are, would leave."""
    asked = [
        (frame, each, own, other)
        for frame, each, own, other in _blurred_unlike(walks, start)
        if max(own.length, other.length) > 2 * LEARNT_PX
    ]
    unlike = np.zeros(len(TRIED))
    for frame, each, own, other in asked[:: max(len(asked) // MOST_TRIED, 1)]:
        feed, trials = feed_of(frame), list[float]()
        for share in TRIED:
            blur = Blur(own, other, share)
            made = _made_alike(each, each.seen[frame], reference, feed, blur)
            if made is None:
                break
            grain = each.patch.grain**2 * sum(float((streak(course) ** 2).sum()) for course in blur.streaks)
            rest = (1 - made[1].confidence ** 2) * made[0].contrast ** 2
            trials.append(float(np.log(max(rest, 1e-9) / (grain + (MODEL * each.patch.contrast) ** 2))))
        else:
            unlike += trials
    best = TRIED[int(np.argmin(unlike))] if unlike.any() else SHUTTER
    return Exposure(best, fades=1.0) if best == SHUTTER else Exposure.begun(best)


def _made_alike(
    each: Living, hit: Found, reference: Array, feed: Array, blur: Blur
) -> tuple[Patch, Found, Mark, Array, Array, tuple[int, int]] | None:
    """A mark found once more with both frames blurred alike: its pattern, where it was found in a part of the frame,
    the mark in a part of the reference frame, both parts, and where the frame's lies."""
    own, other = blur.streaks
    try:
        home, x0, y0 = _smeared_about(reference, each.home, each.patch.half, other)
        mark = each.mark.but(x=each.home[0] - x0, y=each.home[1] - y0)
        patch = Patch(home, mark)
        soft, x0, y0 = _smeared_about(feed, (hit.x, hit.y), each.patch.half, own)
        found = patch.search(soft, hit.x - x0, hit.y - y0, hit.shape)
    except ValueError:
        return None
    return None if found is None else (patch, found, mark, home, soft, (x0, y0))


def _blurred_unlike(walks: list[list[Living]], start: int) -> list[tuple[int, Living, Course, Course]]:
    """Frames on which a mark is blurred unlike on its own: the frame, the mark, and how it moves on both."""
    out = []
    for number in {each.number for living in walks for each in living}:
        mine = [each for living in walks for each in living if each.number == number]
        at = {start: mine[0].place_at(start)} | {frame: each.place_at(frame) for each in mine for frame in each.seen}
        motions = {frame: np.array([[1, 0, x], [0, 1, y], [0, 0, 1.0]]) for frame, (x, y) in at.items()}
        courses = courses_of(motions, {frame: np.array(place) for frame, place in at.items()})
        for each in mine:
            out += [
                (frame, each, courses[start], courses[frame])
                for frame in each.seen
                if courses[start].may_be_unlike(courses[frame])
            ]
    return sorted(out, key=lambda each: each[0])


def _once_more(
    each: Living, hit: Found, reference: Array, feed: Array, blur: Blur, exposure: Exposure
) -> tuple[Found, float] | None:
    """Where a mark is found and how far from home one ends on the way back, both frames blurred alike."""
    made = _made_alike(each, hit, reference, feed, blur)
    if made is None or made[1].confidence < hit.confidence - MUCH_LESS:
        return None
    patch, found, mark, home, soft, (x0, y0) = made
    left, pulled = patch.left(soft, found, blur)
    exposure.learn(left)
    moved = float(np.hypot(found.x + x0 - hit.x, found.y + y0 - hit.y))
    if moved < AGREE_TIMES * found.uncertainty_px:  # noise does more harm than blur
        return None
    unsure = float(np.hypot(found.uncertainty_px, pulled * 2 * blur.share * SHUTTER_GIVE))
    back = _way_back(mark, home, soft, found)
    if back > MOST_BACK_PX:
        return None
    return replace(found, x=found.x + x0, y=found.y + y0, uncertainty_px=unsure), back


def _smeared_about(
    feed: Array, place: tuple[float, float], half: tuple[int, int], course: NDArray[np.float64]
) -> tuple[Array, int, int]:
    """A frame about a place, blurred by a course, and where its corner lies."""
    pad = int(np.ceil(np.hypot(*course[0]))) + 8
    x0, y0 = max(int(place[0]) - half[0] - pad, 0), max(int(place[1]) - half[1] - pad, 0)
    x1, y1 = int(place[0]) + half[0] + pad + 1, int(place[1]) + half[1] + pad + 1
    return smeared(np.ascontiguousarray(feed[y0:y1, x0:x1]), course), x0, y0


def _patch(lock: Lock, k: int, mark: Mark, feed: Array, frame: int) -> Patch:
    try:
        patch = Patch(feed, mark)
    except ValueError:
        raise LockError(
            say(
                "Mark {number} of {name} is too near the rim of frame {frame}: its patch reaches out of the picture. "
                "Move it inward or make the patch smaller.",
                number=k + 1,
                name=lock.name,
                frame=frame,
            )
        ) from None
    if patch.contrast < LEAST_CONTRAST:
        raise LockError(
            say(
                "Mark {number} of {name} lies on nothing that can be followed (contrast {contrast:.4f}). Put it on a "
                "corner or a texture, or choose another channel.",
                number=k + 1,
                name=lock.name,
                contrast=patch.contrast,
            )
        )
    if patch.is_edge:
        raise LockError(
            say(
                "Mark {number} of {name} lies on an edge of frame {frame}, along which it would slide. Put it on a "
                "corner or a texture, or make its patch larger.",
                number=k + 1,
                name=lock.name,
                frame=frame,
            )
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
        hit, twin = _seen_again(each, feed, None if guess is None else carry(guess, np.array([each.home]))[0])
        if hit is None:
            reasons.append(say("mark {number} has left the picture or its reach.", number=each.number + 1))
        elif hit.confidence < lock.least_confidence:
            reasons.append(
                say(
                    "mark {number} has a confidence of {confidence:.2f} (needs {least_confidence:.2f}).",
                    number=each.number + 1,
                    confidence=hit.confidence,
                    least_confidence=lock.least_confidence,
                )
            )
        elif twin is not None:
            apart = float(np.hypot(hit.x - twin.x, hit.y - twin.y))
            reasons.append(
                say(
                    "mark {number} looks like two places, {apart:.0f} px apart. Make its patch larger, so that it "
                    "holds what tells them apart, or its reach smaller.",
                    number=each.number + 1,
                    apart=apart,
                )
            )
        elif (back := _way_back(each.mark, reference, feed, hit) if each.mark.frame is None else 0.0) > MOST_BACK_PX:
            reasons.append(
                say(
                    "what was taken for mark {number} does not lead back to it. It may have moved by more than its "
                    "reach: make that larger.",
                    number=each.number + 1,
                )
            )
        else:
            found[each.number], each.backs[frame] = hit, back
            each.before, each.place, each.shape = each.place, (hit.x, hit.y), hit.shape
            each.seen[frame] = hit
            continue
        living.remove(each)
    set_here = sum(mark.frame in (None, lock.reference_frame) for mark in lock.marks)
    least = 2 if set_here > 1 and lock.moves != "translation" else 1  # fewer would drop turn and size with a jump
    if len(living) < least:
        return None, reasons[0] if reasons else say("too few marks live here.")
    entry = _entry(lock, frame, [(each, found[each.number], each.backs[frame]) for each in living])
    if entry is None:
        return None, say("the marks no longer agree with one another.")
    _renew(lock, living, found, feed)
    _join(lock, living, feed, frame, np.reshape(entry.homography, (3, 3)))
    return entry, ""


def _seen_again(each: Living, feed: Array, guessed: NDArray | None) -> tuple[Found | None, Found | None]:
    """Where a mark is seen on one frame more, and another place that it may as well be. Where it goes is known from the
    frame before; on the first one it is looked for farther out as well, so that nothing beyond its reach is more like
    it than what is taken for it."""
    (x, y), (u, v) = each.place, each.before
    if guessed is not None:
        starts, wider = [(float(guessed[0]), float(guessed[1])), (x, y)], 1
    elif each.seen:
        starts, wider = [(2 * x - u, 2 * y - v), (x, y)], 1
    else:
        starts, wider = [(x, y)], FIRST_REACH
    for at in starts:
        places = each.patch.places(feed, *at, each.shape, wider)
        if not places:
            continue
        best, far = places[0], [float(np.hypot(place.x - at[0], place.y - at[1])) for place in places]
        twins = [k for k, place in enumerate(places[1:], 1) if best.unlike > ALIKE * place.unlike]
        if not twins:
            return best, None
        if each.seen or guessed is not None:
            near, second = sorted([0, *twins], key=far.__getitem__)[:2]
            return places[near], places[second] if far[near] > NEARER * far[second] else None
        return best, places[twins[0]]
    return None, None


def _entry(lock: Lock, frame: int, hits: list[tuple[Living, Found, float]]) -> LockFrame | None:
    """The motion that marks agree on, each where it was found and with how far off it is found back; None where too few
    agree."""
    homes = np.array([each.home for each, _, _ in hits])
    places = np.array([(hit.x, hit.y) for _, hit, _ in hits])
    turns = lock.moves == "camera turn"  # which is found when all are there, see `turning_marks`
    motion = possible_motion("similarity" if turns else lock.moves, len(hits))
    try:
        matrix, weights = robust_motion(homes, places, motion)
    except (ValueError, np.linalg.LinAlgError):
        matrix, weights = fit_motion(homes, places, possible_motion("similarity", len(hits))), np.ones(len(hits))
    if len(hits) > 2 and np.count_nonzero(weights > BAD_POINT) < 2:
        return None
    squares = sum(
        weight * (hit.uncertainty_px**2 + back**2 + each.drift_px**2)
        for (each, hit, back), weight in zip(hits, weights)
    ) / float(weights.sum())
    if len(hits) > 2:
        squares += misfit(((carry(matrix, homes) - places) ** 2).sum(axis=1), weights, motion)
    seen = {each.number: (hit.x, hit.y) for each, hit, _ in hits}
    return LockFrame(
        frame=frame,
        homography=flat(matrix),
        marks=tuple(seen.get(k) for k in range(len(lock.marks))),
        residual_px=float(np.sqrt(squares + PICTURE_PX**2)),
        confidence=likely(float(np.average([hit.confidence for _, hit, _ in hits]))),
    )


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


def _way_back(mark: Mark, reference: Array, feed: Array, found: Found) -> float:
    """How far from the mark one ends when the found patch is sought on the reference frame, px."""
    size, turn = found.shape
    power = size * size + turn * turn
    try:
        back = Patch(feed, mark.but(x=found.x, y=found.y)).refine(
            reference, mark.x, mark.y, (size / power, -turn / power)
        )
    except ValueError:
        return 0.0
    return np.inf if back is None else float(np.hypot(back.x - mark.x, back.y - mark.y))
