"""Which corners are followed: those that stand clear of the grain; weak ones only where there is hardly any other."""

import cv2
import numpy as np

from lock_plates import photograph
from zonal_mantle.lock.features import FEW, SURE_CORNER, codes_of, follow_features

SIZE = (480, 270)


def panned(left: float, right: float) -> list[np.ndarray]:
    """Eight frames of a photograph that moves on, before a ramp; its halves are of two contrasts."""
    rng, sheet = np.random.default_rng(4), photograph("gravel", 900)
    half, ramp = np.where(np.arange(SIZE[0]) < SIZE[0] // 2, left, right), np.linspace(-0.35, 0.35, SIZE[1])[:, None]
    out = []
    for k in range(8):
        view = sheet[100 : 100 + SIZE[1], 100 + 2 * k : 100 + 2 * k + SIZE[0]]
        grain = rng.normal(0, 0.003, view.shape)
        out.append(np.asarray(0.5 + ramp + (view - view.mean()) * half + grain, np.float32))
    return out


def strengths(left: float, right: float) -> np.ndarray:
    """Of the corners that are followed from the first frame on: their smaller eigenvalues, and where they lie."""
    frames = panned(left, right)
    tracks = follow_features(frames.__getitem__, lambda frame: None, range(8))
    codes = cv2.cornerMinEigenVal(codes_of(frames[0]), 5, ksize=3)
    return np.array([codes[int(track.places[0][1]), int(track.places[0][0])] for track in tracks if 0 in track.places])


def test_weak_corners_are_followed_only_where_there_are_hardly_any_others():
    both, weak = strengths(0.6, 0.15), strengths(0.15, 0.15)
    assert len(both) > FEW
    assert np.mean(both < 0.9 * SURE_CORNER) < 0.02  # a cell is judged by itself, so at its rim the value differs
    assert 20 < len(weak) <= FEW
    assert np.mean(weak < SURE_CORNER) > 0.5


def followed(frames: list[np.ndarray], side: slice) -> int:
    """How many features are followed that begin on one side of the picture."""
    tracks = follow_features(frames.__getitem__, lambda frame: None, range(len(frames)))
    return sum(side.start <= track.places[min(track.places)][0] < side.stop for track in tracks)


def test_what_stays_to_the_last_code_while_the_rest_moves_is_not_followed():
    """As a codec leaves blocks behind; but not what pauses as a whole, nor edges that move over what is even."""
    left, right = slice(20, SIZE[0] // 2 - 30), slice(SIZE[0] // 2 + 30, SIZE[0] - 20)
    moves = panned(0.6, 0.6)
    stays = [np.where(np.arange(SIZE[0]) < SIZE[0] // 2, moves[0], each) for each in moves]
    assert followed(moves, left) > 60
    assert followed(stays, left) == 0
    assert followed(stays, right) > 60
    pauses = [moves[k] for k in (0, 1, 2, 2, 2, 2, 2, 3)]
    assert followed(pauses, left) > 60
    even, rng = np.full((SIZE[1], SIZE[0]), 0.4, np.float32), np.random.default_rng(2)
    cards = [(int(x), int(y)) for x, y in rng.integers((40, 30), (180, 220), (12, 2))]
    drawn = [np.where(np.arange(SIZE[0]) < SIZE[0] // 2, even, each) for each in moves]
    for k, frame in enumerate(drawn):
        for x, y in cards:
            cv2.rectangle(frame, (x - 2 * k, y), (x - 2 * k + 14, y + 14), 0.9, -1)
    assert followed(drawn, left) > 20
