"""The plane lock: a textured field followed as a whole, from its reference frame."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace

import numpy as np
from numpy.typing import NDArray

from ..geometry import carry
from ..shot.lock import Lock, LockFrame
from ..words import mark, say
from .align import MOST_LEVELS, Area, Fit
from .blur import MOST_STEP_PX, SHARE_KNOWN, Blur, Course, Exposure, always, courses_of
from .check import is_cut
from .errors import LockError
from .fuller import against_fuller, unfollowed
from .level import pyramid
from .repeats import Repeats, apart_px, left_in_parts, repeats_of, shifted
from .residual import likely
from .rivalry import Doubts, Rivalry, decided, nearby, untold_words
from .runs import CUT, Direction, SoFar, flat, run_both_ways, unseen
from .twofold import MUCH, Second, apart_without, seconds, without_what_stands

Array = NDArray[np.float32]
Matrix = NDArray[np.float64]
LEAST_CONTRAST = 0.004  # coded values
MOST_ROUNDS, STANDS_PX = 3, 1.0  # of measuring again, until no corner moves by more
NEAR_SIZES = (3, 2)  # at which a field is looked for where it is nearly known
LOOK_ON = 12  # frames, over which a field that was lost is looked for again
SAME, SAME_PX = 0.01, 0.05  # of likeness and share, and of corners, within which two fits are one
MOST_LOOKED_AT = 8  # frames, for what stands before a field
SURE_PX = 0.2  # error of a field that is partly unlike, above which other places are tried beside it
MAY_BE_TWO = 0.92  # of what is seen of a field; where less is alike, a second thing is looked for
NEITHER = mark(
    "two things in the field move apart by {apart:.1f} px, and neither has most of it. Draw the field over one of "
    "them, or leave the other out."
)
LOOSE = mark(
    "the field does not hold together: without what is unlike in it, it moves by {apart:.1f} px. Draw it over one "
    "thing, or leave out what stands in front."
)
LEAST_KEPT = 0.2  # of the field must be seen and be alike
MOST_SAID_PX = 999.0
MOST_APART_PX = 1.0  # that a field may move by without what is unlike in it; less is error
WORST_UNCERTAINTY_PX = 1.0  # a field that tells less than this has nothing to hold
WORST_UNEVEN_PX = 2.0


def solve_plane(
    lock: Lock,
    feed_of: Callable[[int], Array],
    field: Array,
    cover_of: Callable[[int], Array | None],
    frames: range,
    direction: Direction = "both",
    progress: Callable[[float, str], None] = lambda share, words: None,
    missing_only: bool = False,
    guess_of: Callable[[int], Matrix] | None = None,
    so_far: SoFar = unseen,
    codec_step: float = 0.0,
) -> Lock:
    """Follows a field from its reference frame.

    Every frame is aligned with the reference frame itself, so that nothing drifts; with the policy to renew, the
    pattern is taken anew and what is not known of its place adds up.

    Parameters
    ----------
    feed_of : gives the (h, w) feed of a frame.
    field : (h, w) float32, 0…1, on the reference frame.
    cover_of : (h, w) float32, what of a frame counts; None: all of it.
    guess_of : reference frame to a frame, from another lock.
    so_far : called with each frame that is there.
    codec_step : of the quantiser of a plate whose codec predicts frames, of a range of 1; 0 of others.

    Raises
    ------
    LockError : a reference frame outside the shot, a field that is off the picture, tiny, or without texture.
    """
    start = lock.reference_frame
    check_start(lock, frames)
    area = area_of(lock, feed_of(start), field)
    first = LockFrame(frame=start, homography=flat(np.eye(3)))

    followers: list[_Follower] = []  # of the last run, a way each
    missed = dict[int, float]()  # px, by what the field moved otherwise than its kind of motion can

    def solved(area: Area, begins: float, ends: float) -> Lock:
        def begin() -> Callable[[int, LockFrame], tuple[LockFrame | None, str]]:
            followers.append(_Follower(lock, area, feed_of, cover_of, guess_of, missed, codec_step))
            return followers[-1].follow

        def step(share: float, words: str) -> None:
            progress(begins + (ends - begins) * share, words)

        followers.clear()
        missed.clear()
        found = run_both_ways(lock, first, frames, direction, begin, step, missing_only, LOOK_ON, so_far)
        kept = {entry.frame for entry in lock.solved} if missing_only else set()
        return _as_far_as_told(found, [(each.doubts, each.repeats.shortest_px) for each in followers], frames, kept)

    found = solved(area, 0.0, 0.5)
    if any(follower.renewed for follower in followers):
        return found.but(remarks=unfollowed(missed, lock.moves))
    clear = _without_what_stands(found, area, feed_of, cover_of)
    if clear is not None:
        area, found = clear, solved(clear, 0.5, 0.8)
    new = {
        entry.frame for entry in found.solved
        if (not missing_only or lock.at(entry.frame) is None)
        and ((entry.frame > start and direction != "backward") or (entry.frame < start and direction != "forward"))
    }  # fmt: skip
    found = _settled(found, area, feed_of, cover_of, new, progress)
    return found.but(remarks=unfollowed(missed, lock.moves))


def _without_what_stands(
    lock: Lock, area: Area, feed_of: Callable[[int], Array], cover_of: Callable[[int], Array | None]
) -> Area | None:
    """The field without what stood before it on the reference frame, by the frames that are known best; None where
    nothing did."""
    known = sorted(
        (entry for entry in lock.solved if entry.frame != lock.reference_frame and entry.residual_px < SURE_PX),
        key=lambda entry: -abs(entry.frame - lock.reference_frame),
    )
    chosen = known[:: max(len(known) // MOST_LOOKED_AT, 1)]
    return without_what_stands(
        area,
        [
            (pyramid(feed_of(entry.frame), 2), np.reshape(entry.homography, (3, 3)), cover_of(entry.frame))
            for entry in chosen
        ],
    )


def _as_far_as_told(lock: Lock, ways: list[tuple[Doubts, float]], frames: range, kept: set[int]) -> Lock:
    """A lock without the frames of which nothing tells by how many periods of a texture they moved; that is said.

    Parameters
    ----------
    ways : of each way that was gone, its doubts and the period, px. kept: frames that stay whatever is said of them.
    """
    start, gone, lost = lock.reference_frame, set[int](), list(lock.lost)
    for doubts, period in ways:
        untold = doubts.untold(start)
        at = untold.first if untold.first is not None else next(iter(untold.alone), None)
        if at is None:
            continue
        side = say("Forward") if at > start else say("Backward")
        gone |= set(untold.alone)
        if untold.first is not None:
            gone |= {frame for frame in frames if (frame >= at if at > start else frame <= at)}
            lost = [words for words in lost if not words.startswith(side)]
        lost += untold_words(untold, side, start, period)
    return lock.but(solved=tuple(entry for entry in lock.solved if entry.frame not in gone - kept), lost=tuple(lost))


def _settled(
    lock: Lock, area: Area, feed_of: Callable[[int], Array], cover_of: Callable[[int], Array | None],
    frames: set[int], progress: Callable[[float, str], None],
) -> Lock:  # fmt: skip
    """The frames whose blur is unlike the pattern's measured once more: now it is known how both move, from the frames
    before and after, and how long the shutter is open."""
    start, done, exposure = lock.reference_frame, dict[int, LockFrame](), Exposure.of(lock.shutter_deg, fades=1.0)
    entries, used, moved = {entry.frame: entry for entry in lock.solved}, dict[int, float](), dict[int, float]()
    for rounds in range(MOST_ROUNDS):
        motions = {frame: np.reshape(entry.homography, (3, 3)) for frame, entry in (entries | done).items()}
        courses = courses_of(motions, {frame: carry(way, area.centre[None])[0] for frame, way in motions.items()})
        differing = [
            frame for frame in sorted(frames)
            if courses[start].may_be_unlike(courses[frame])
            and (frame not in used or abs(exposure.share - used[frame]) >= SHARE_KNOWN or _strayed(frame, moved))
        ]  # fmt: skip
        if not differing:
            break
        moved.clear()
        for k, frame in enumerate(differing):
            progress(
                0.8 + 0.2 * (rounds + k / len(differing)) / MOST_ROUNDS,
                say("{name}: blur of frame {frame}", name=lock.name, frame=frame),
            )
            used[frame] = exposure.share
            blur = Blur(courses[start], courses[frame], exposure.share)
            top = area.sizes_for(blur)
            feeds = pyramid(feed_of(frame), top)
            fit = area.find(feeds, motions[frame], lock.moves, cover_of(frame), always(blur), top=top)
            fit = fit and against_fuller(area, feeds, fit, lock.moves, cover_of(frame), always(blur))
            if fit is None or fault_of(fit, lock):
                continue
            exposure.learn(fit.left)
            apart = carry(fit.homography, area.corners) - carry(motions[frame], area.corners)
            moved[frame] = float(np.linalg.norm(apart, axis=1).max())
            done[frame] = entries[frame].but(
                homography=flat(fit.homography), residual_px=fit.residual_px, confidence=likely(confidence_of(fit))
            )
    progress(1.0, say("{name}: done", name=lock.name))
    return lock.but(solved=tuple(done.get(entry.frame, entry) for entry in lock.solved))


def _strayed(frame: int, moved: dict[int, float]) -> bool:
    """Whether a frame or one beside it was found elsewhere than thought, so that its blur is another."""
    return any(moved.get(frame + beside, 0.0) >= STANDS_PX for beside in (-1, 0, 1))


def check_start(lock: Lock, frames: range) -> None:
    """Raises LockError where a lock starts outside the shot, or the shot has one frame."""
    if lock.reference_frame not in frames:
        raise LockError(
            say(
                "{name} starts on frame {reference_frame}, which is not in the shot ({frames}–{frames_2}). Go to "
                "a frame of the shot and draw its field there.",
                name=lock.name,
                reference_frame=lock.reference_frame,
                frames=frames[0],
                frames_2=frames[-1],
            )
        )
    if len(frames) < 2:
        raise LockError(say("The shot has one frame ({frames}); there is no motion to measure.", frames=frames[0]))


def area_of(lock: Lock, feed: Array, field: Array) -> Area:
    """The field on its frame, or a LockError that says what it lacks."""
    feeds = pyramid(feed, MOST_LEVELS)
    if float(field.sum()) < 400:
        raise LockError(
            say(
                "The field of {name} has {sum:.0f} px on frame {reference_frame}: it is empty, too small, or off "
                "the picture. Draw one of 20 × 20 px at least.",
                name=lock.name,
                sum=float(field.sum()),
                reference_frame=lock.reference_frame,
            )
        )
    area = Area(feeds, field)
    if area.contrast < LEAST_CONTRAST:
        raise LockError(
            say(
                "The field of {name} has nothing to hold on frame {reference_frame} (contrast {contrast:.4f}). "
                "Draw it over something with texture, or use a field that stays.",
                name=lock.name,
                reference_frame=lock.reference_frame,
                contrast=area.contrast,
            )
        )
    return area


class _Follower:
    """One way through the shot."""

    def __init__(
        self,
        lock: Lock,
        area: Area,
        feed_of: Callable[[int], Array],
        cover_of: Callable[[int], Array | None],
        guess_of: Callable[[int], Matrix] | None,
        missed: dict[int, float],
        codec_step: float,
    ) -> None:
        self.missed, self.codec_step = missed, codec_step
        self.lock, self.area, self.feed_of, self.cover_of, self.guess_of = lock, area, feed_of, cover_of, guess_of
        self.base = np.eye(3)  # reference frame to the frame on which the pattern was taken
        self.drift_px = 0.0
        self.last = self.before = np.eye(3)
        self.exposure, self.renewed = Exposure.of(lock.shutter_deg), False
        self.own_step: NDArray[np.float64] | None = None  # px a frame, of the frame on which the pattern was taken
        self.doubts = Doubts()

    def follow(self, frame: int, previous: LockFrame) -> tuple[LockFrame | None, str]:
        """The lock on one more frame."""
        feed = self.feed_of(frame)
        feeds, cover = pyramid(feed, len(self.area.levels)), self.cover_of(frame)
        was = np.reshape(previous.homography, (3, 3)) @ np.linalg.inv(self.base)

        def step_to(matrix: Matrix) -> NDArray[np.float64]:
            """How far the field's middle goes from frame to frame, px."""
            now, then = (way @ np.append(self.area.centre, 1) for way in (matrix, was))
            return np.asarray((now[:2] / now[2] - then[:2] / then[2]) / abs(frame - previous.frame))

        def blur_of(matrix: Matrix) -> Blur | None:
            """How the pattern's frame and this one are blurred, as far as is known."""
            step = step_to(matrix)
            if self.own_step is None or not max(np.hypot(*step), np.hypot(*self.own_step)) < MOST_STEP_PX:
                return None
            return Blur(Course(self.own_step), Course(step), share)

        share, problem, fits, failed = self.exposure.share, "", list[Fit](), list[Fit]()
        moves, judged, others = self.lock.moves, list[tuple[Fit, str, float]](), dict[int, list[Second]]()

        def seconds_of(fit: Fit) -> list[Second]:
            if id(fit) not in others:  # it stays as long as they do
                others[id(fit)] = seconds(self.area, feeds, fit, cover)
            return others[id(fit)]

        def stands(guess: Matrix, top: int | None) -> bool:
            """Looks for the field from a guess; whether what is found needs no other beside it."""
            nonlocal problem
            found = self.area.find(feeds, guess @ np.linalg.inv(self.base), moves, cover, blur_of, top)
            alike = (each for each in judged if found is not None and each[2] == share and self._is(found, each[0]))
            before = next(alike, None)
            if before is not None:  # what did not stand does not stand when it is reached from elsewhere
                problem = before[1] or problem
                return False
            first = found
            found = found and against_fuller(self.area, feeds, found, moves, cover, blur_of)
            words = fault_of(found, self.lock)
            covered = found is not None and found.kept < MAY_BE_TWO * found.seen
            loose = found is not None and found.uncertainty_px > WORST_UNCERTAINTY_PX
            if found is not None and covered and (loose or not words):
                two = next(iter(seconds_of(found)), None)
                words = say(NEITHER, apart=two.apart_px) if two is not None and two.share > MUCH else words
            if found is not None and covered and not words:
                apart = apart_without(self.area, feeds, found, self.lock.moves, cover)
                words = say(LOOSE, apart=apart) if apart > MOST_APART_PX else ""
                found = replace(found, uneven_px=float(np.hypot(found.uneven_px, apart)))
            if found is not None:
                (failed if words else fits).append(found)
            if first is not None:
                judged.append((first, words, share))
            problem = words or problem
            return found is not None and not words and (not covered or found.uncertainty_px < SURE_PX)

        for tried, guess, top in self._tries(frame, feeds):
            share = tried
            if stands(guess, top):
                break
        else:
            if previous.frame == self.lock.reference_frame and fits + failed:  # it may have held what stands in front
                for other in seconds_of((fits + failed)[0]):
                    stands(other.motion @ self.base, NEAR_SIZES[0])
        fit = min(fits, key=lambda each: each.uncertainty_px, default=None)
        if fit is not None and self.repeats.shifts:
            known = previous.frame != self.lock.reference_frame
            fit = self._among_repeats(frame, feeds, fits, cover, blur_of, known)
            problem = fault_of(fit, self.lock)
            fit = None if problem or fit is None else against_fuller(self.area, feeds, fit, moves, cover, blur_of)
        if fit is None:
            if is_cut(feed, self.feed_of(previous.frame)):
                problem = say(
                    "{cut} between frame {frame} and the next. {problem}",
                    cut=say(CUT),
                    frame=min(frame, previous.frame),
                    problem=problem,
                )
            return None, problem
        self.missed[frame] = fit.misfit_px
        self.exposure.learn(fit.left)
        step = step_to(fit.homography)
        if self.own_step is None and previous.frame == self.lock.reference_frame:
            self.own_step = step
        motion = fit.homography @ self.base
        self.before, self.last = self.last, motion / motion[2, 2]
        entry = LockFrame(
            frame=frame,
            homography=flat(self.last),
            residual_px=float(np.hypot(fit.residual_px, self.drift_px)),
            confidence=likely(confidence_of(fit)),
        )
        self._renew(feeds, fit, feed, step)
        return entry, ""

    def _is(self, one: Fit, other: Fit) -> bool:
        """Whether two fits are one, reached from two guesses."""
        if abs(one.kept - other.kept) > SAME or abs(one.likeness - other.likeness) > SAME:
            return False
        apart = carry(one.homography, self.area.corners) - carry(other.homography, self.area.corners)
        return bool(np.abs(apart).max() < SAME_PX)

    @property
    def repeats(self) -> Repeats:
        """By what the texture of the field repeats."""
        return repeats_of(self.area)

    def _among_repeats(
        self, frame: int, feeds: list[Array], fits: list[Fit], cover: Array | None,
        blur_of: Callable[[Matrix], Blur | None], known: bool,
    ) -> Fit:  # fmt: skip
        """Of what was found and all that lies a period of the texture beside it, what it is."""
        area, repeats = self.area, self.repeats
        expected = self.last @ np.linalg.inv(self.before) @ self.last @ np.linalg.inv(self.base)

        def find(guess: Matrix, top: int) -> Fit | None:
            fit = area.find(feeds, guess, self.lock.moves, cover, blur_of, top)
            return None if fault_of(fit, self.lock) else fit

        find_near = nearby(area, feeds, cover, repeats, find)
        rivalry = Rivalry(
            repeats.shifts, find_near, lambda way: left_in_parts(area, feeds, way, cover, repeats.shortest_px),
            self.codec_step,
        )  # fmt: skip
        starts = [expected @ shifted(x / 2, y / 2) for x, y in repeats.shifts[:2]]
        if all(apart_px(expected, fit.homography) > rivalry.near_px for fit in fits):
            starts.insert(0, expected)
        for fit in [*fits, *(find_near(guess) for guess in starts)]:
            if fit is not None:
                rivalry.add(fit)
        found = decided(rivalry, expected if known else None, area.centre)
        self.doubts.note(frame, found)
        return found.fit

    def _tries(self, frame: int, feeds: list[Array]):  # type: ignore[no-untyped-def]
        """Shares of the shutter with guesses, and at how many sizes: where what was learnt of the shutter leads
        nowhere, one that is open all the time; where what stands in front is all that is seen from afar, near sizes
        alone."""
        for share in (self.exposure.share, 1.0):
            for guess in self._guesses(frame, feeds):
                yield share, guess, None
            for top in NEAR_SIZES:
                yield share, self.last @ np.linalg.inv(self.before) @ self.last, top
            if self.own_step is None or self.exposure.told:
                return

    def _guesses(self, frame: int, feeds: list[Array]):  # type: ignore[no-untyped-def]
        """Where the field may be: as it moved so far, where it was, where another lock says, then wherever it looks
        most alike."""
        on = self.last @ np.linalg.inv(self.before) @ self.last
        if self.guess_of is not None:
            yield self.guess_of(frame)
        yield on
        yield self.last
        yield self.area.start(feeds, self.last @ np.linalg.inv(self.base)) @ self.base

    def _renew(self, feeds: list[Array], fit: Fit, feed: Array, step: NDArray[np.float64]) -> None:
        policy = self.lock.renewal
        if policy == "renew every frame" or (
            policy == "renew below" and confidence_of(fit) < self.lock.renew_below and fit.kept > 0.7
        ):
            mask = self.area.mask_through(fit.homography, (feed.shape[1], feed.shape[0]))
            if float(mask.sum()) >= 400:
                self.area = Area(pyramid(feed, MOST_LEVELS), mask)
                self.base, self.own_step, self.renewed = self.last, step, True
                self.drift_px = float(np.hypot(self.drift_px, fit.residual_px))


def confidence_of(fit: Fit) -> float:
    """How much of the field that is in view is alike, and how much, 0…1."""
    return float(min(max(fit.likeness, 0.0), 1.0) * min(1.0, fit.kept / max(fit.seen, 1e-3) / 0.55))


def too_loose(lock: Lock, uncertainty_px: float) -> str:
    """What is said of a field that does not tell all of the motion that is asked of it."""
    drawn = any(shape.on and shape.mode == "keep" for shape in lock.field)
    return say(
        "the field has too little texture for {moves} (its corners are known to {uncertainty_px:.1f} px). {advice}",
        moves=say(lock.moves),
        uncertainty_px=min(uncertainty_px, MOST_SAID_PX),
        advice=say("Make it larger, or choose a simpler motion.")
        if drawn
        else say("Draw it over one thing that moves as a whole, or choose a simpler motion."),
    )


def fault_of(fit: Fit | None, lock: Lock) -> str:
    """Why a fit cannot be used; empty where it can."""
    if fit is None:
        return say("the field has left the picture, or is covered.")
    if fit.kept < LEAST_KEPT:
        return say(
            "only {kept:.0%} of the field is seen and looks as on frame {reference_frame}.",
            kept=fit.kept,
            reference_frame=lock.reference_frame,
        )
    if confidence_of(fit) < lock.least_confidence:
        return say(
            "the field has a confidence of {confidence:.2f} (needs {least_confidence:.2f}).",
            confidence=confidence_of(fit),
            least_confidence=lock.least_confidence,
        )
    if fit.uncertainty_px > WORST_UNCERTAINTY_PX:
        return too_loose(lock, fit.uncertainty_px)
    if fit.uneven_px > WORST_UNEVEN_PX:
        return say(
            "parts of the field move apart by {uneven_px:.1f} px: it is not one plane. Draw it over one thing.",
            uneven_px=fit.uneven_px,
        )
    return ""
