"""Motions measured between frames, and the motions of all frames that agree best with them."""

from __future__ import annotations

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


@dataclass(frozen=True)
class Link:
    """One measured motion, from a key frame to another: at (n, 2) points that both see, with what makes displacements
    of these into numbers of unit variance, (k, 2 n); see `Area.whitening`. The fuller one is that of all ways of
    moving, where the lock's kind has fewer."""

    key: int
    frame: int
    fit: Fit
    points: NDArray[np.float64]
    whitening: Matrix
    fuller: Link | None = None

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
        self.points = np.array(
            [np.vstack([x.points, np.repeat(x.points[-1:], most - len(x.points), 0)]) for x in links]
        )
        self.targets = np.array([carry(link.fit.homography, points) for link, points in zip(links, self.points)])
        self._whitening = np.zeros((len(links), max(rows), 2 * most))
        for k, link in enumerate(links):
            self._whitening[k, : rows[k], : link.whitening.shape[1]] = link.whitening

    def off(self, now: NDArray[np.float64]) -> NDArray[np.float64]:
        """How far (m, n, 2) places of the points on the frames are from where the links have them, in the links' own
        deviations: flat, as many numbers for each."""
        off = (now - self.targets).reshape(len(now), -1)
        return np.asarray(np.einsum("mkn,mn->mk", self._whitening, off).reshape(-1))

    @property
    def rows(self) -> int:
        """Numbers for each link."""
        return self._whitening.shape[1]


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
    norms, chain_of = back[None], np.array([norm @ rough[frame] for frame in frames])

    def errors(values: NDArray) -> NDArray:
        eight = values.reshape(-1, free) @ basis.T
        small = np.concatenate([eight, np.zeros((len(frames), 1))], axis=1).reshape(-1, 3, 3)
        now = np.concatenate([np.eye(3)[None], norms @ (np.eye(3) + small) @ chain_of])
        at = flat_points @ (now[ends_at] @ np.linalg.inv(now[keys])).transpose(0, 2, 1)
        return table.off(at[..., :2] / at[..., 2:])

    columns = [
        [place[frame] + n for frame in (link.key, link.frame) if frame != start for n in range(free)] for link in links
    ]
    found = settled(errors, free * len(frames), table.rows, columns)
    p, q = ((corners - np.array(size) / 2) / unit).T
    ends = moved_by(p, q) @ basis * unit
    give, unsure = {start: 0.0}, dict[int, Matrix]()
    for frame, covariance in spreads(
        found, [(frame, range(place[frame], place[frame] + free)) for frame in frames], len(links) / len(frames)
    ).items():
        give[frame] = float(np.sqrt(mean_trace(ends, covariance) + PICTURE_PX**2))
        moves = ends.reshape(-1, free)
        unsure[frame] = moves @ covariance @ moves.T
    return Adjusted({frame: motion / motion[2, 2] for frame, motion in motions(found.x).items()}, give, unsure)


def settled(
    errors: Any,
    count: int,
    rows: int,
    columns: list[list[int]],
    start: NDArray | None = None,
    soft: float = SOFT,
) -> Any:
    """The least squares over all links, robust, each of whose errors hang on some of the numbers alone."""
    from scipy.optimize import least_squares  # slow to import
    from scipy.sparse import lil_matrix

    pattern = lil_matrix((rows * len(columns), count), dtype=np.int8)
    for k, where in enumerate(columns):
        pattern[k * rows : (k + 1) * rows, where] = 1
    values = np.zeros(count) if start is None else start
    return least_squares(errors, values, jac_sparsity=pattern, loss="soft_l1", f_scale=soft, max_nfev=40, x_scale="jac")


def spreads(found: Any, parts: list[tuple[int, Any]], links_a_frame: float) -> dict[int, Matrix]:
    """The covariance of some of the numbers of a least squares over links, by the key of each part.

    Links of one frame share its noise: several of them tell its place hardly better than one does. With a noise of its
    own for each frame, n links to it of twice that variance leave 1 + 1 / n of it, not the 2 / n of the plain sum.
    """
    from scipy.sparse import csc_matrix, identity
    from scipy.sparse.linalg import splu

    jac = csc_matrix(found.jac)
    square = (jac.T @ jac).tocsc()
    scale = 1e-9 * max(float(square.diagonal().max()), 1e-12)
    solver = splu(square + scale * identity(square.shape[0], format="csc"))
    spare = max(jac.shape[0] - jac.shape[1], 1)
    worse = max((links_a_frame + 1) / 2, 1.0) * max(
        2 * float(found.cost) / spare, 1.0
    )  # what the links contradict one another by
    out = {}
    for key, where in parts:
        columns = np.zeros((square.shape[0], len(where)))
        columns[list(where), range(len(where))] = 1
        out[key] = worse * solver.solve(columns)[list(where)]
    return out
