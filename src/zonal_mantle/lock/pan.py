"""The pan lock: a camera that turns and does not move, with its focal length."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import cv2
import numpy as np
from numpy.typing import NDArray

from ..geometry import DEFAULT_FOCAL, camera_matrix, carry, distorted, rays_of, turn_motion, turned_by, undistorted
from ..shot.lock import Lens, Lock, LockFrame
from ..words import say
from .align import PICTURE_PX
from .bend import bends_advice, bends_words, bent, lens_distortion, straightened, with_beside
from .chain import SOFT, Chain, Links, Settled, chained, columns_of, settled, spreads
from .errors import FocalUnknown, LockError
from .residual import likely
from .runs import Direction, SoFar, flat, triple, unseen
from .spread import mean_trace
from .stay import corners_of, measure_chain, settled_chain, sureness
from .zoom import grown

Array = NDArray[np.float32]
Matrix = NDArray[np.float64]
WIDEST, LONGEST = 0.35, 12.0  # focal lengths that are tried, in widths of the frame
LEAST_TURN_DEG = 1.5  # a smaller turn does not tell the focal length
FOCAL_WITHIN = (-4.0, 4.0)  # of its logarithm, from where it begins
BEND_KNOWN = 0.15  # relative error of what features tell of a bend
FOCAL_KNOWN = 0.05  # relative standard error above which a focal length is not told


def solve_pan(
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
    """Solves a turning camera through a field that stays: focal length, a turn a frame, on request distortion.

    Parameters and errors are those of `solve_plane`. `bend` is what features tell of the lens, see `bend_of`: where its
    distortion is asked for that is taken, otherwise what it would change counts as error. LockError also where the
    camera turned too little to tell its focal length and none is given.

    References
    ----------
    A turning camera moves pictures by K R K⁻¹ (Hartley & Zisserman 2004, section 8.4.2).
    """
    chain = measure_chain(lock, feed_of, field_mask, cover_of, frames, direction, progress, so_far, codec_step)
    size, start = (field_mask.shape[1], field_mask.shape[0]), lock.reference_frame
    taken = bend if lock.lens.solve_distortion else None
    first = solve_turn(chain, start, size, lock.lens, must_know=False, bend=taken)
    chain = settled_chain(lock, chain, first.motions(size), feed_of, field_mask, cover_of, progress)
    progress(0.98, say("{name}: focal length and turn", name=lock.name))
    if taken is not None:
        chain = with_beside(chain, solve_turn(chain, start, size, lock.lens, False, taken).motions(size), taken, size)
    larger = grown(chained(chain, start), size)
    try:
        found = solve_turn(chain, start, size, lock.lens, bend=taken)
    except FocalUnknown:
        if larger is None:
            raise
        raise LockError(larger.words(start)) from None
    give, sure, remarks = found.give_px(size, corners_of(field_mask)), sureness(chain), tuple[str, ...]()
    if bend is not None and (taken is not None or not lock.lens.distortion):
        # what another bend, or any, would change
        tried = bend if taken is None else bend * (1 + BEND_KNOWN)
        other = solve_turn(chain, start, size, lock.lens, False, tried)
        if taken is None:
            known = with_beside(chain, other.motions(size), tried, size)
            other = solve_turn(known, start, size, lock.lens, False, tried)
            remarks = (bends_words(bend, size) + bends_advice(),)
        apart = _apart((found, taken or 0.0), (other, tried), size, corners_of(field_mask))
        give = {frame: float(np.hypot(error, apart[frame])) for frame, error in give.items()}
    remarks += (larger.words(start),) if larger is not None else ()
    entries = tuple(
        LockFrame(
            frame=frame,
            homography=flat(motion),
            residual_px=give[frame],
            confidence=likely(sure.get(frame, 1.0)),
            rotation=triple(cv2.Rodrigues(found.turns[frame])[0]),
        )
        for frame, motion in sorted(found.motions(size).items())
    )
    progress(1.0, say("{name}: done", name=lock.name))
    return lock.but(solved=entries, lost=tuple(chain.lost), lens=found.lens, remarks=remarks)


def _apart(
    found: tuple[Turned, float], other: tuple[Turned, float], size: tuple[int, int], corners: NDArray[np.float64]
) -> dict[int, float]:
    """By how many px, root mean square, what is seen at a frame's corners lies elsewhere by another solve. Each with
    how its lens bends."""
    (ours, own), (theirs, bend), out = found, other, {}
    others = theirs.motions(size)
    for frame, motion in ours.motions(size).items():
        there = bent(carry(np.linalg.inv(motion), straightened(corners, own, size)), own, size)
        at = bent(carry(others[frame], straightened(there, bend, size)), bend, size)
        out[frame] = float(np.sqrt(((at - corners) ** 2).sum(axis=1).mean()))
    return out


@dataclass(frozen=True)
class Turned:
    """Focal length, the turn from the reference frame to each, and the covariance of each turn (on its left, radians),
    of the focal length's logarithm and of the distortion where these were solved."""

    lens: Lens
    turns: dict[int, Matrix]
    covariances: dict[int, Matrix]

    def motions(self, size: tuple[int, int]) -> dict[int, Matrix]:
        """The reference frame to each, for what is far. (3, 3)."""
        focal = self.lens.focal_px or DEFAULT_FOCAL * size[0]
        return {frame: turn_motion(turn, focal, size) for frame, turn in self.turns.items()}

    def give_px(self, size: tuple[int, int], corners: NDArray[np.float64]) -> dict[int, float]:
        """How unsure the motions are: root mean square of where (n, 2) places of each frame may be, px."""
        focal = self.lens.focal_px or DEFAULT_FOCAL * size[0]

        def motion(turn: Matrix, grown: float) -> Matrix:
            k = camera_matrix(focal * float(np.exp(grown)), size)
            return np.asarray(k @ turn @ np.linalg.inv(k))

        out = {}
        for frame, turn in self.turns.items():
            covariance = self.covariances.get(frame)
            if covariance is None:
                out[frame] = 0.0
                continue
            back, small = np.linalg.inv(motion(turn, 0.0)), 1e-5
            ways = []
            for n in range(3 if self.lens.given else 4):
                values = small * np.eye(4)[n]
                moved = motion(cv2.Rodrigues(values[:3])[0] @ turn, values[3])
                ways.append((carry(moved @ back, corners) - corners) / small)
            square = mean_trace(np.stack(ways, axis=-1), covariance[: len(ways), : len(ways)])
            out[frame] = float(np.sqrt(square + PICTURE_PX**2))
        return out


def solve_turn(
    chain: Chain, start: int, size: tuple[int, int], lens: Lens, must_know: bool = True, bend: float | None = None
) -> Turned:
    """Focal length (unless it is given) and the turn from the reference frame to each linked frame. `bend` is what is
    known of the lens, see `bend_of`; without it the distortion is found by the links where that is asked for.

    Raises
    ------
    LockError : the camera turned too little to tell the focal length, or it did more than turn.
    """
    rough = chained(chain, start)
    frames = [frame for frame in sorted(rough) if frame != start]
    links = [link for link in chain.links if link.key in rough and link.frame in rough]
    if not frames:
        raise LockError(say("No frame could be linked to the reference frame. ") + " ".join(chain.lost))
    table = Links(links)
    focal = lens.focal_px if lens.given and lens.focal_px else _first_focal(table, size)
    turns = _chained_turns(table, start, focal, size)
    free_focal, free_bend = not lens.given, lens.solve_distortion and bend is None
    count = 3 * len(frames)
    order = {frame: k for k, frame in enumerate([start, *frames])}
    keys, ends = (np.array([order[name] for name in names]) for names in zip(*((x.key, x.frame) for x in links)))
    begun = np.array([turns[frame] for frame in order])

    def lens_of(shared: NDArray) -> tuple[float, float]:
        f = focal * float(np.exp(np.clip(shared[0], *FOCAL_WITHIN))) if free_focal else focal
        if bend is not None:
            return f, lens_distortion(bend, f, size[0])
        return f, float(shared[-1]) if free_bend else lens.distortion

    def errors(local: NDArray) -> NDArray:
        f, k1 = lens_of(local[0, 6:])
        of_keys, of_ends = (turned_by(each)[0] for each in (local[:, :3], local[:, 3:6]))
        way = of_ends @ begun[ends] @ (of_keys @ begun[keys]).transpose(0, 2, 1)
        rays = _rays(table.points.reshape(-1, 2), f, k1, size).reshape(*table.points.shape[:2], 3)
        turned = rays @ way.transpose(0, 2, 1)
        return table.off(_pictured(turned.reshape(-1, 3), f, k1, size).reshape(table.points.shape))

    shared = list(range(count, count + int(free_focal) + int(free_bend)))
    columns = np.hstack([columns_of(keys, ends, 3), np.tile(np.array(shared, int), (len(links), 1))])
    values = np.zeros(count + len(shared))
    for soft in (20 * SOFT, SOFT):  # what is far off at first is not an outlier yet
        found = settled(errors, columns, len(values), values, soft)
        values = found.values
    f, k1 = lens_of(values[count:])
    small = np.vstack([np.zeros(3), values[:count].reshape(-1, 3)])
    now = dict(zip(order, turned_by(small)[0] @ begun))
    if free_focal and must_know:
        _check_known(found, count, now, start)
    parts = [(frame, [*range(3 * k, 3 * k + 3), *shared]) for k, frame in enumerate(frames)]
    return Turned(
        lens.but(focal_px=float(f), distortion=float(k1)), now, spreads(found, parts, len(links) / len(frames))
    )


def _check_known(found: Settled, column: int, turns: dict[int, Matrix], start: int) -> None:
    """Raises LockError where the measurements do not tell the focal length."""
    square = found.square.toarray()
    spread = max(2 * found.cost / max(found.errors - len(square), 1), 1.0)
    error = float(np.sqrt(spread * np.linalg.pinv(square)[column, column]))
    most = max(float(np.degrees(np.linalg.norm(cv2.Rodrigues(turn)[0]))) for turn in turns.values())
    if error > FOCAL_KNOWN or most < LEAST_TURN_DEG:
        raise FocalUnknown(
            say(
                "The camera turned by {most:.1f}° from frame {start}, which tells its focal length only to "
                "{min:.0%}. Give the focal length at the lens, or use a plane lock with a field that stays.",
                most=most,
                start=start,
                min=min(error, 9.99),
            )
        )


def _rays(points: NDArray, focal: float, bend: float, size: tuple[int, int]) -> NDArray[np.float64]:
    """Directions (n, 3) of picture places."""
    k = camera_matrix(focal, size)
    return rays_of(k, undistorted(points, k, bend) if bend else points)


def _pictured(rays: NDArray, focal: float, bend: float, size: tuple[int, int]) -> NDArray[np.float64]:
    """Picture places (n, 2) of directions."""
    k = camera_matrix(focal, size)
    return distorted(rays[:, :2] / np.maximum(rays[:, 2:], 1e-6) * focal + k[:2, 2], k, bend)


def _turns_between(a: NDArray, b: NDArray) -> Matrix:
    """The turns (m, 3, 3) that carry directions onto directions, each (m, n, 3) (Kabsch 1976)."""
    a, b = (each / np.linalg.norm(each, axis=2, keepdims=True) for each in (a, b))
    u, _, vt = np.linalg.svd(b.transpose(0, 2, 1) @ a)
    u[:, :, 2] *= np.linalg.det(u @ vt)[:, None]
    return np.asarray(u @ vt)


def _rays_of(places: NDArray, focal: float, size: tuple[int, int]) -> NDArray[np.float64]:
    """Directions (m, n, 3) of picture places (m, n, 2), without distortion."""
    return _rays(places.reshape(-1, 2), focal, 0, size).reshape(*places.shape[:2], 3)


def _first_focal(table: Links, size: tuple[int, int]) -> float:
    """The focal length, of many, for which the links are most nearly turns."""
    best, least = DEFAULT_FOCAL * size[0], np.inf
    for focal in np.geomspace(WIDEST, LONGEST, 60) * size[0]:
        a, b = _rays_of(table.points, focal, size), _rays_of(table.targets, focal, size)
        turned = a @ _turns_between(a, b).transpose(0, 2, 1)
        apart = _pictured(turned.reshape(-1, 3), focal, 0, size).reshape(table.targets.shape) - table.targets
        total = float(np.minimum((apart**2).sum(axis=2), 9.0).mean(axis=1).sum())
        if total < least:
            best, least = float(focal), total
    return best


def _chained_turns(table: Links, start: int, focal: float, size: tuple[int, int]) -> dict[int, Matrix]:
    between = _turns_between(_rays_of(table.points, focal, size), _rays_of(table.targets, focal, size))
    out, waiting = {start: np.eye(3)}, list(zip(table.links, between))
    while waiting:
        rest = []
        for link, turn in waiting:
            if link.key not in out:
                rest.append((link, turn))
            elif link.frame not in out:
                out[link.frame] = turn @ out[link.key]
        if len(rest) == len(waiting):
            break
        waiting = rest
    return out
