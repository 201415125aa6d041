"""Motions measured between frames, and the motions of all frames that agree best with them."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field
from typing import Any

import numpy as np
from numpy.typing import NDArray

from ..geometry import carry
from ..shot.lock import Motion
from .align import BASES, PICTURE_PX, Fit
from .spread import mean_trace, moved_by

Matrix = NDArray[np.float64]
SOFT = 3.0  # deviations from which a link counts less
NOTHING = -1
ROUNDS, TRIES, LEAST_GAIN = 40, 8, 1e-8
SMALL = 1e-6  # by which numbers are changed to see what that does


@dataclass(frozen=True)
class Link:
    """One measured motion, from a key frame to another: at (n, 2) points that both see, with what makes displacements
    of these into numbers of unit variance, (k, 2 n); see `Area.whitening`. The fuller one is that of all ways of
    moving, where the lock's kind has fewer. Beside are (n, 2) px by which what is seen at the points lies off the
    homography, where that is known."""

    key: int
    frame: int
    fit: Fit
    points: NDArray[np.float64]
    whitening: Matrix
    fuller: Link | None = None
    beside: NDArray[np.float64] | None = None

    @property
    def targets(self) -> NDArray[np.float64]:
        """Where the points are on the frame. (n, 2)."""
        out = carry(self.fit.homography, self.points)
        return np.asarray(out if self.beside is None else out + self.beside)

    @classmethod
    def evenly(cls, key: int, frame: int, fit: Fit, points: NDArray[np.float64]) -> Link:
        """A link that is equally sure, by the fit's residual, at all its points."""
        share = np.sqrt(8 / (2 * len(points))) / max(fit.residual_px, 0.01)  # it stands for eight numbers
        return cls(key, frame, fit, points, share * np.eye(2 * len(points)))


class Links:
    """Links laid out as arrays, so that all their errors are found at once.

    Attributes
    ----------
    points : (m, n, 2) on the key frames; shorter links are filled up with their last point, which then counts nothing.
    """

    def __init__(self, links: list[Link]) -> None:
        self.links = links
        most, rows = max(len(link.points) for link in links), [len(link.whitening) for link in links]
        self.points, self.targets = (
            np.array([np.vstack([each, np.repeat(each[-1:], most - len(each), 0)]) for each in places])
            for places in ([link.points for link in links], [link.targets for link in links])
        )
        self._whitening = np.zeros((len(links), max(rows), 2 * most))
        for k, link in enumerate(links):
            self._whitening[k, : rows[k], : link.whitening.shape[1]] = link.whitening

    def off(self, now: NDArray[np.float64]) -> NDArray[np.float64]:
        """How far (m, n, 2) places of the points on the frames are from where the links have them, in the links' own
        deviations, (m, k)."""
        off = (now - self.targets).reshape(len(now), -1, 1)
        return np.asarray((self._whitening @ off)[:, :, 0])


@dataclass
class Chain:
    """All that was measured."""

    links: list[Link] = field(default_factory=list)
    lost: list[str] = field(default_factory=list)

    def frames(self, start: int) -> list[int]:
        """Frames that are linked to the reference frame."""
        return sorted({start} | {link.frame for link in self.links} | {link.key for link in self.links})


@dataclass(frozen=True)
class Adjusted:
    """Motions from the reference frame to each, and how unsure they are on that frame: root mean square of where the
    field's corners may be, px, and the covariance of these, (2 n, 2 n) px², where it is told."""

    motions: dict[int, Matrix]
    give_px: dict[int, float]
    unsure: dict[int, Matrix] = field(default_factory=dict)


def chained(chain: Chain, start: int) -> dict[int, Matrix]:
    """Reference frame to each linked frame, by the first chain of links that leads there."""
    out = {start: np.eye(3)}
    waiting = list(chain.links)
    while True:
        rest = []
        for link in waiting:
            if link.key in out and link.frame not in out:
                out[link.frame] = link.fit.homography @ out[link.key]
            elif link.key not in out:
                rest.append(link)
        if len(rest) == len(waiting) or not rest:
            return {frame: motion / motion[2, 2] for frame, motion in out.items()}
        waiting = rest


def adjusted(
    chain: Chain, start: int, size: tuple[int, int], corners: NDArray[np.float64], motion: Motion = "perspective"
) -> Adjusted:
    """The motions that agree best with all links at once, so that drift does not add up.

    Each frame's motion is D · (the chain's), with as many small numbers for D, on the frame scaled to 1, as the kind of
    motion has (eight for perspective; each kind is a group, so that D is of that kind too). A link's error
    is that of the motion it measured, in its own deviations; the covariance of all motions follows from the links' own,
    and grows with what they contradict one another.

    Parameters
    ----------
    corners : (n, 2) places of each frame for which it is said how unsure they are.

    References
    ----------
    Global alignment of image mosaics: Szeliski 2006, section 5.1 (bundle adjustment of homographies). Covariance of the
    numbers by the inverse of their normal equations: Hartley & Zisserman 2004, section 5.2.
    """
    rough = chained(chain, start)
    frames = [frame for frame in sorted(rough) if frame != start]
    basis = BASES[motion]
    free = basis.shape[1]
    place = {frame: free * k for k, frame in enumerate(frames)}
    links = [link for link in chain.links if link.key in rough and link.frame in rough]
    if not frames or not links:
        return Adjusted(rough, dict.fromkeys(rough, 0.0))
    unit = size[0] / 2
    norm = np.array([[1 / unit, 0, -size[0] / 2 / unit], [0, 1 / unit, -size[1] / 2 / unit], [0, 0, 1]])
    back = np.linalg.inv(norm)

    def motions(values: NDArray) -> dict[int, Matrix]:
        out = {start: np.eye(3)}
        for frame in frames:
            k = place[frame]
            small = basis @ values[k : k + free]
            out[frame] = back @ (np.eye(3) + np.append(small, 0).reshape(3, 3)) @ norm @ rough[frame]
        return out

    table = Links(links)
    order = {frame: k for k, frame in enumerate([start, *frames])}
    keys, ends_at = (np.array([order[name] for name in names]) for names in zip(*((x.key, x.frame) for x in links)))
    flat_points = np.concatenate([table.points, np.ones((*table.points.shape[:2], 1))], axis=2)
    chain_of = np.array([np.eye(3), *(rough[frame] for frame in frames)])

    def errors(local: NDArray) -> NDArray:
        small = np.zeros((len(links), 2, 9))
        small[:, :, :8] = local.reshape(-1, 2, free) @ basis.T
        grown = back @ (np.eye(3) + small.reshape(-1, 2, 3, 3)) @ norm
        now_keys, now_ends = grown[:, 0] @ chain_of[keys], grown[:, 1] @ chain_of[ends_at]
        at = flat_points @ (now_ends @ np.linalg.inv(now_keys)).transpose(0, 2, 1)
        return table.off(at[..., :2] / at[..., 2:])

    found = settled(errors, columns_of(keys, ends_at, free), free * len(frames))
    p, q = ((corners - np.array(size) / 2) / unit).T
    ends = moved_by(p, q) @ basis * unit
    give, unsure = {start: 0.0}, dict[int, Matrix]()
    for frame, covariance in spreads(
        found, [(frame, range(place[frame], place[frame] + free)) for frame in frames], len(links) / len(frames)
    ).items():
        give[frame] = float(np.sqrt(mean_trace(ends, covariance) + PICTURE_PX**2))
        moves = ends.reshape(-1, free)
        unsure[frame] = moves @ covariance @ moves.T
    return Adjusted({frame: motion / motion[2, 2] for frame, motion in motions(found.values).items()}, give, unsure)


def columns_of(keys: NDArray[np.intp], ends: NDArray[np.intp], free: int) -> NDArray[np.intp]:
    """Which numbers the errors of each link hang on, (m, 2 free): those of its key and of its frame, by their order,
    where the first has none."""
    first = np.stack([keys, ends], axis=1) - 1
    each = free * first[:, :, None] + np.arange(free)
    return np.where(first[:, :, None] < 0, NOTHING, each).reshape(len(keys), -1)


@dataclass(frozen=True)
class Settled:
    """The numbers of a least squares over links, its robust cost, the normal equations there (sparse), and how many
    errors it is made of."""

    values: NDArray[np.float64]
    cost: float
    square: Any
    errors: int


def settled(
    errors: Callable[[NDArray[np.float64]], NDArray[np.float64]],
    columns: NDArray[np.intp],
    count: int,
    start: NDArray[np.float64] | None = None,
    soft: float = SOFT,
) -> Settled:
    """The least squares over all links, robust, each of whose errors hang on some of the numbers alone.

    Parameters
    ----------
    errors : from the numbers that each link hangs on, (m, c), its errors (m, k), in deviations.
    columns : (m, c), which of all numbers these are; `NOTHING` for one that is always 0.
    soft : deviations from which an error counts less (soft ℓ1).

    References
    ----------
    Levenberg–Marquardt with the robust second derivative of Triggs et al. 2000, section 4.3; slopes by differences of
    all links at once, number by number.
    """
    from scipy.sparse import coo_matrix, diags  # slow to import
    from scipy.sparse.linalg import splu

    known = columns != NOTHING
    some = known[:, :, None] & known[:, None, :]
    rows, across = (np.broadcast_to(each, some.shape)[some] for each in (columns[:, :, None], columns[:, None, :]))

    def local(values: NDArray[np.float64]) -> NDArray[np.float64]:
        return np.where(known, values[columns], 0.0)

    def judged(rest: NDArray[np.float64]) -> float:
        return float(soft**2 * (np.sqrt(1 + (rest / soft) ** 2) - 1).sum())

    values = np.zeros(count) if start is None else start.copy()
    rest = errors(local(values))
    cost, damping, square = judged(rest), 1e-3, None
    for _ in range(ROUNDS):
        here = local(values)
        slopes = np.empty((*rest.shape, columns.shape[1]))
        for n in range(columns.shape[1]):
            beside = here.copy()
            beside[:, n] += SMALL
            slopes[:, :, n] = (errors(beside) - rest) / SMALL
        far = 1 + (rest / soft) ** 2
        blocks = slopes.transpose(0, 2, 1) @ (far[:, :, None] ** -1.5 * slopes)
        square = coo_matrix((blocks[some], (rows, across)), (count, count)).tocsc()
        pull = (slopes.transpose(0, 2, 1) @ (rest / np.sqrt(far))[:, :, None])[:, :, 0]
        side = np.bincount(columns[known], pull[known], count)
        diagonal, gain = square.diagonal(), 0.0
        for _ in range(TRIES):
            damped = square + diags(damping * diagonal + 1e-12 * diagonal.max())
            try:
                step = splu(damped.tocsc()).solve(side)
            except RuntimeError:  # nothing hangs on some number
                damping *= 6
                continue
            rest_now = errors(local(values - step))
            cost_now = judged(rest_now)
            if np.isfinite(cost_now) and cost_now < cost:
                gain = (cost - cost_now) / cost
                values, rest, cost, damping = values - step, rest_now, cost_now, damping / 5
                break
            damping *= 6
        if gain < LEAST_GAIN:
            break
    return Settled(values, cost, square, rest.size)


def spreads(found: Settled, parts: list[tuple[int, Any]], links_a_frame: float) -> dict[int, Matrix]:
    """The covariance of some of the numbers of a least squares over links, by the key of each part.

    Links of one frame share its noise: several of them tell its place hardly better than one does. With a noise of its
    own for each frame, n links to it of twice that variance leave 1 + 1 / n of it, not the 2 / n of the plain sum.
    """
    from scipy.sparse import identity
    from scipy.sparse.linalg import splu

    square = found.square
    scale = 1e-9 * max(float(square.diagonal().max()), 1e-12)
    solver = splu((square + scale * identity(square.shape[0], format="csc")).tocsc())
    spare = max(found.errors - square.shape[0], 1)
    contradicted = max(2 * found.cost / spare, 1.0)  # how far the links contradict one another
    worse = max((links_a_frame + 1) / 2, 1.0) * contradicted
    out = {}
    for key, where in parts:
        columns = np.zeros((square.shape[0], len(where)))
        columns[list(where), range(len(where))] = 1
        out[key] = worse * solver.solve(columns)[list(where)]
    return out
