"""How a plate moves by itself, whatever its locks say: features all over it, and a camera solved by them. Small and
quick, for readings."""

from __future__ import annotations

from collections.abc import Callable
from typing import NamedTuple

import cv2
import numpy as np
from numpy.typing import NDArray

from ..geometry import camera_matrix
from ..lock import LockError, OnlyTurned, camera_from_tracks, follow_features, lock_feed
from ..lock.features import Track
from ..media.picture import picture_of
from ..shot import Lock, Shot
from ..words import say
from .digest import digest
from .matte_planner import proxy_size
from .pictures import Pictures, known

Matrix = NDArray[np.float64]
Progress = Callable[[float, str], None]
WORKING_PX = 640  # the longer side of what features are followed on
KNOWN = 16  # plates, in one process
MOST_FRAMES, SOME_FRAMES = 150, 100  # of a shot that all are solved for; of longer ones so many: more take too long


class PlateTracks(NamedTuple):
    """Features of a plate: `places` (n, frames, 2), plate pixels, NaN where one is not seen; the frames; by how many
    plate pixels a pixel of what they were followed on is larger. `names` it, as a key."""

    places: NDArray[np.float64]
    frames: tuple[int, ...]
    grown: float
    names: str

    def on(self, frame: int) -> NDArray[np.float64]:
        """(n, 2), NaN where not seen."""
        return np.asarray(self.places[:, self.frames.index(frame)])


class FarMoves(NamedTuple):
    """How what is at infinity moves: `ways` turn its directions into places on a frame, `errors` say by how much what
    is hung there may slide, px. `turned` : the camera only turned, as far as features tell; then there are no ways.
    `asked` : the frames that it was asked of, every so manieth of a long shot."""

    ways: dict[int, Matrix]
    errors: dict[int, float]
    turned: bool = False
    asked: range = range(0)


def plate_tracks(shot: Shot, pictures: Pictures, progress: Progress = lambda share, words: None) -> PlateTracks | None:
    """Features followed over the work range, once for its pixels; None without a moving plate.

    Raises
    ------
    MediaError : a frame of the plate cannot be read.
    """
    source, frames = shot.plate_source, shot.work_frames
    if source is None or len(frames) < 2:
        return None
    key = digest(("tracks", tuple(picture_of(source, frame) for frame in frames)))
    size = proxy_size(shot.size, min(1.0, WORKING_PX / max(shot.size)))
    scale = min(1.0, WORKING_PX / max(shot.size))

    def follow() -> PlateTracks:
        def feed(frame: int) -> NDArray[np.float32]:
            return lock_feed(pictures.plate(source, frame, scale))

        found = follow_features(feed, lambda frame: None, frames, progress, say("How the plate moves"))
        places = np.full((len(found), len(frames), 2), np.nan)
        for row, track in enumerate(found):
            for frame, place in track.places.items():
                places[row, frame - frames[0]] = place
        return PlateTracks(places * shot.size / np.array(size), tuple(frames), shot.size[0] / size[0], key)

    return known(key, follow, KNOWN)


def far_moves(
    tracks: PlateTracks, shot: Shot, start: int, progress: Progress = lambda share, words: None
) -> FarMoves | None:
    """How what is at infinity moves, by a camera solved from features alone; None where they do not tell. `start` is a
    frame that is asked of in any case."""
    whole = range(tracks.frames[0], tracks.frames[-1] + 1)
    step = 1 if len(whole) <= MOST_FRAMES else -(-len(whole) // SOME_FRAMES)
    asked = whole[(start - whole[0]) % step :: step]
    frames = range(len(asked))  # neighbours follow one another

    def solve() -> FarMoves | None:
        places = np.array([tracks.frames.index(frame) for frame in asked])
        seen = np.isfinite(tracks.places[..., 0])
        each = [
            Track({k: (float(row[at][0]), float(row[at][1])) for k, at in enumerate(places) if held[at]})
            for row, held in zip(tracks.places / tracks.grown, seen)
            if np.count_nonzero(held[places]) > 1
        ]
        small = (round(shot.size[0] / tracks.grown), round(shot.size[1] / tracks.grown))
        camera = Lock(id="plate", name=say("The plate"), kind="camera", reference_frame=frames[len(frames) // 2])
        try:
            solved = camera_from_tracks(camera, each, frames, small, progress)
        except OnlyTurned:
            return FarMoves({}, {}, True, asked)
        except (LockError, np.linalg.LinAlgError, cv2.error):  # no camera explains them
            return None
        k = camera_matrix((solved.lens.focal_px or 1.0) * tracks.grown, shot.size)
        entries = [entry for entry in solved.solved if entry.rotation is not None]
        ways = {asked[entry.frame]: np.asarray(k @ cv2.Rodrigues(np.array(entry.rotation))[0]) for entry in entries}
        errors = {asked[entry.frame]: entry.residual_px * tracks.grown for entry in entries}
        return FarMoves(ways, errors, asked=asked)

    return known(("far", tracks.names, asked), solve, KNOWN)
