"""A lock that is off by more than a pixel says so."""

import numpy as np
import pytest

from lock_plates import HONEST_BOX, HONEST_KINDS, HONEST_SIZE, box_mask, corner_errors, honest_shot
from zonal_mantle.lock import LockError, read_lock, solve_plane
from zonal_mantle.shot import Lock

ACCEPTED_PX = 0.3  # residual under which the stage shows no mark of trouble


def judged(plates):
    """Whether a plane lock reports itself as good, and how far it is off at its worst."""
    frames = range(len(plates.frames))
    lock = Lock(id="a", name="A", kind="plane", reference_frame=0)
    try:
        mask = box_mask(HONEST_SIZE, HONEST_BOX)
        solved = solve_plane(lock, lambda f: plates.frames[f], mask, lambda f: None, frames)
    except LockError:
        return False, 0.0
    reading = read_lock(solved, frames)
    good = reading is not None and reading.solved == reading.wanted and reading.worst_px <= ACCEPTED_PX
    off = max(
        corner_errors(np.array(e.homography).reshape(3, 3), plates.truth[e.frame], HONEST_BOX) for e in solved.solved
    )
    return good, off


@pytest.mark.parametrize("kind", sorted(set(HONEST_KINDS)))
def test_no_lock_that_is_off_reports_itself_as_good(kind):
    for seed in (3, 8):
        good, off = judged(honest_shot(kind, seed))
        assert not good or off <= 1.0, (kind, seed, off)


@pytest.mark.parametrize("kind", ["sky", "covered", "cut", "swarm"])
def test_where_nothing_can_be_held_nothing_is_promised(kind):
    assert not judged(honest_shot(kind, 5))[0]


def test_an_ordinary_shot_is_called_good():
    good, off = judged(honest_shot("plain", 3))
    assert good
    assert off < 0.2
