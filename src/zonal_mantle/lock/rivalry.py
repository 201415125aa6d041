"""By how many periods of its texture a field moved: what else it can be on a frame, and over the frames of a shot."""

from __future__ import annotations

from collections.abc import Callable, Collection
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from ..geometry import carry
from ..words import say
from .align import Area, Fit
from .repeats import Parts, Repeats, apart_px, more_alike, near_sizes, shifted, slid

Array = NDArray[np.float32]
Matrix = NDArray[np.float64]
SLID_PX = 1.0  # along what hardly changes, from which it is looked for once more
TELLS = 5.0  # deviations by which one motion must be more alike than another, to be told from it
GIVE = 1.0  # deviations by which chance changes that
FADED = 0.3  # of how much less alike rivals were: then they are as alike
SURE, LEAST_FRAMES = 4.0, 4  # deviations of the mean, and how many frames tell it
NEAR = 0.3  # of a period: what lies nearer is the same motion
MOST_PERIODS = 12  # that are gone after what is more alike
JUMP = 0.7  # of a period, from where the motion so far has a frame, by which it may be one off
STILL = 0.25  # of a period: what moves by less, on all frames, stands still
SMOOTH = 0.5  # of a period, by which a motion changes from frame to frame


class Rival(NamedTuple):
    """The same area found a period off, and how much less alike it is, in deviations; below 0 it is more alike."""

    fit: Fit
    worse: float


class Rivalry:
    """What an area can be taken for on one frame: motions that were found, each looked for once.

    Parameters
    ----------
    shifts : by which the texture of what is looked for repeats, see `Repeats`.
    find : finds it from a start. left: what a motion leaves over, see `left_in_parts`. codec_step: see `more_alike`.
    """

    def __init__(
        self, shifts: list[tuple[float, float]], find: Callable[[Matrix], Fit | None],
        left: Callable[[Matrix], Parts], codec_step: float = 0.0,
    ) -> None:  # fmt: skip
        self.shifts, self._find, self._left, self._codec_step = shifts, find, left, codec_step
        self.period_px = min(float(np.hypot(x, y)) for x, y in shifts)
        self.near_px = NEAR * self.period_px
        self._known: list[tuple[Fit, Parts]] = []
        self._tried: list[Matrix] = []

    def add(self, fit: Fit) -> None:
        """Takes a motion in, unless it is known."""
        if all(apart_px(fit.homography, each.homography) > self.near_px for each, _ in self._known):
            self._known.append((fit, self._left(fit.homography)))

    def best(self) -> Fit:
        """The motion that is more alike than all that lie a period beside it."""
        best, parts = self._known[0]
        for _ in range(MOST_PERIODS):
            for fit, other in self._known:
                if more_alike(other, parts, self._codec_step) > 0:
                    best, parts = fit, other
            before = len(self._known)
            self._look_beside(best)
            if len(self._known) == before:
                break
        return best

    def _look_beside(self, fit: Fit) -> None:
        for x, y in self.shifts:
            start = fit.homography @ shifted(x, y)
            known = [*self._tried, *(each.homography for each, _ in self._known)]
            if any(apart_px(start, each) < self.near_px for each in known):
                continue
            self._tried.append(start)
            other = self._find(start)
            if other is not None:
                self.add(other)

    def beside(self, fit: Fit) -> list[Rival]:
        """All other motions that were found, against one."""
        parts = next(parts for each, parts in self._known if each is fit)
        step = self._codec_step
        return [Rival(each, more_alike(parts, other, step)) for each, other in self._known if each is not fit]


def nearby(
    area: Area, feeds: list[Array], cover: Array | None, repeats: Repeats, find: Callable[[Matrix, int], Fit | None]
) -> Callable[[Matrix], Fit | None]:
    """What finds an area from a start that is off by less than half of a period.

    Parameters
    ----------
    find : from a start, over so many sizes.
    """

    def find_near(guess: Matrix) -> Fit | None:
        top = near_sizes(repeats.shortest_px)
        fit = find(guess, top)
        if fit is None:
            return None
        there = slid(area, feeds, fit.homography, cover, repeats)
        return fit if apart_px(there, fit.homography) < SLID_PX else find(there, top) or fit

    return find_near


class Decision(NamedTuple):
    """What a field was found to be, and how much less alike its nearest rival is, in deviations: None where that proves
    nothing, infinite where there is no rival. `moved` is how far it went, in periods."""

    fit: Fit
    proof: float | None
    moved: float = 0.0


def decided(rivalry: Rivalry, expected: Matrix | None, middle: NDArray[np.float64]) -> Decision:
    """Of what was found and its rivals a period off the one that is the most alike and that the motion so far expects.

    Parameters
    ----------
    expected : where the motion so far would have it; None where it is not known how it moves.
    middle : (2), of the field: by how far it moved it is seen which of the rivals stand still the most.
    """
    fit = rivalry.best()
    all_of_them = [Rival(fit, 0.0), *rivalry.beside(fit)]
    best = min(each.worse for each in all_of_them)
    close = [each for each in all_of_them if each.worse < best + TELLS]

    def far(rival: Rival) -> float:
        """In periods, from where it is expected."""
        return 0.0 if expected is None else apart_px(rival.fit.homography, expected) / rivalry.period_px

    def moved(rival: Rival) -> float:
        return float(np.hypot(*(carry(rival.fit.homography, middle[None])[0] - middle)))

    chosen = min(close, key=lambda rival: rival.worse / GIVE + (far(rival) / SMOOTH) ** 2)
    others = [each for each in all_of_them if each is not chosen]
    if not others:
        return Decision(chosen.fit, np.inf)
    worse = min(each.worse - chosen.worse for each in others)
    if worse < 2 * GIVE and far(chosen) > JUMP:
        return Decision(chosen.fit, -2 * GIVE)
    proves = worse <= -2 * GIVE or min(moved(each) for each in others) < moved(chosen)
    return Decision(chosen.fit, worse if proves else None, moved(chosen) / rivalry.period_px)


class Untold(NamedTuple):
    """From which frame on nothing tells by how much a field moved (None: it is told), and single frames before it."""

    first: int | None
    alone: list[int]


class Doubts:
    """Proofs, by frame, that a field is not a period off; see `Decision`."""

    def __init__(self) -> None:
        self._proofs: dict[int, list[float | None]] = {}
        self._moved: dict[int, float] = {}  # of frames that prove nothing, in periods

    def note(self, frame: int, found: Decision) -> None:
        """Takes a proof in; one without a rival says nothing of the others."""
        if found.proof is None or np.isfinite(found.proof):
            self._proofs.setdefault(frame, []).append(found.proof)
        if found.proof is None:
            self._moved[frame] = max(found.moved, self._moved.get(frame, 0.0))

    def untold(self, start: int, needed: Collection[int] = ()) -> Untold:
        """What is not told, away from the reference frame. `needed` are frames on which later ones hang."""
        frames = sorted(self._proofs, key=lambda frame: abs(frame - start))
        values = [self._value(frame) for frame in frames]
        alone = [
            frame
            for frame, value, after in zip(frames, values, values[1:])
            if value is not None and value < 2 * GIVE and after is not None and after >= TELLS and frame not in needed
        ]
        others = [(frame, value) for frame, value in zip(frames, values) if frame not in alone]
        first = first_untold([value for _, value in others])
        good = [k for k, (_, value) in enumerate(others) if value is not None and value >= 2 * GIVE]
        tail = others[good[-1] + 1 :] if good else []
        if first is None and any(value is not None for _, value in tail):  # nothing after them tells the last ones
            first = good[-1] + 1
        if first is None:
            first = self._never_proved(others)
        if first is not None and first <= LEAST_FRAMES:  # so few were told by what a codec may have carried along
            first = 0
        return Untold(None if first is None else others[first][0], alone)

    def _never_proved(self, others: list[tuple[int, float | None]]) -> int | None:
        """The first of the last frames that prove nothing, where these moved so far that another period would do as
        well; None where they hardly moved, or are followed by one that proves something."""
        last = max((k for k, (_, value) in enumerate(others) if value is not None), default=-1) + 1
        far = any(self._moved[frame] > STILL for frame, _ in others[last:])
        return last if far else None

    def _value(self, frame: int) -> float | None:
        proofs = [proof for proof in self._proofs[frame] if proof is not None]
        least = min(proofs, default=0.0)
        return (least if least <= -2 * GIVE else max(proofs)) if proofs else None


def repeating(period_px: float) -> str:
    """What is said where nothing tells by how many periods of its texture a field moved."""
    return say(
        "what is seen through the field repeats every {period:.0f} px, and nothing in it tells by how "
        "many of these it moved. Draw the field over something that does not repeat.",
        period=period_px,
    )


def untold_words(untold: Untold, side: str, start: int, period_px: float) -> list[str]:
    """What is said of a way, `side`, on which not all is told."""
    out = []
    first = untold.first
    if first is not None:
        problem = repeating(period_px)
        out.append(say("{side}: lost on frame {first}: {repeating}", side=side, first=first, repeating=problem))
    return out + [
        say(
            "{side}: frame {frame} is left out: what is seen through the field repeats, and nothing on it tells by "
            "how much it moved.",
            side=side,
            frame=frame,
        )
        for frame in untold.alone
        if first is None or abs(frame - start) < abs(first - start)
    ]


def first_untold(worse: list[float | None]) -> int | None:
    """Of frames that a smooth motion ties together the first from which nothing tells them from rivals a period off;
    None where all are told.

    Where a frame's rivals are clearly less alike it is told by itself. Others are told together while their rivals
    are less alike on the whole (a one-sided t-test), and not while they become as alike or more so. Frames that moved
    by less than their rivals prove nothing, since what stays with the frame (dirt, a reflection) speaks for standing
    still: they are told by the next one that does.

    Parameters
    ----------
    worse : by frame, away from the reference frame, of its best rival, see `Rival`; None where it proves nothing.
    """
    proofs = [(k, value) for k, value in enumerate(worse) if value is not None]
    found = _first_of([value for _, value in proofs])
    return None if found is None else (proofs[found - 1][0] + 1 if found else 0)


def _first_of(worse: list[float]) -> int | None:
    """The same, of frames that all can prove something."""
    wrong = next((k for k, value in enumerate(worse) if value <= -2 * GIVE), len(worse))
    open_ones = [k for k in range(wrong) if worse[k] < TELLS]
    values = np.array([worse[k] for k in open_ones])
    for n in range(2 * LEAST_FRAMES, len(values) + 1):
        if values[n - LEAST_FRAMES : n].mean() < FADED * values[: n - LEAST_FRAMES].mean():
            wrong = open_ones[n - LEAST_FRAMES]
            values = values[: n - LEAST_FRAMES]
            break
    if len(values) and not _stand_out(values):
        return open_ones[0]
    return wrong if wrong < len(worse) else None


def _stand_out(values: NDArray[np.float64]) -> bool:
    """Whether rivals are less alike on the whole."""
    if len(values) < LEAST_FRAMES:
        return bool(values.min() > 2 * GIVE and values.sum() > TELLS * np.sqrt(len(values)))
    error = max(float(values.std(ddof=1)), 0.5 * GIVE) / np.sqrt(len(values))
    return bool(values.mean() > SURE * error)
