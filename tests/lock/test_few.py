"""Marks that are too few to tell whether they agree do not call themselves exact."""

import numpy as np
import pytest

from lock_plates import photograph
from zonal_mantle.geometry import carry
from zonal_mantle.lock import solve_point
from zonal_mantle.shot import Lock, Mark

PLACES = ((60.0, 60.0), (90.0, 170.0), (220.0, 60.0), (250.0, 170.0))


def two_ways(count=5, step=0.6):
    """The right half moves by `step` px a frame more than the left one."""
    sheet = photograph("gravel", 1200)
    frames = []
    for k in range(count):
        left, right = (np.stack([sheet[200:420, x : x + 150] for x in (300 - 2 * k,)])[0] for _ in range(2))
        at = 450 - 2 * k - step * k
        low = int(np.floor(at))
        share = np.float32(at - low)
        right = (1 - share) * sheet[200:420, low : low + 150] + share * sheet[200:420, low + 1 : low + 151]
        frames.append(np.hstack([left, right]).astype(np.float32))
    return frames


@pytest.mark.parametrize("chosen", [(0, 1, 2, 3), (0, 1, 2)])
def test_two_marks_that_agree_do_not_outvote_the_others(chosen):
    """Any two marks fit a similarity: that they do proves nothing of the other two."""
    frames = two_ways()
    marks = tuple(Mark(x=PLACES[k][0], y=PLACES[k][1]) for k in chosen)
    lock = solve_point(Lock(id="l", name="L", reference_frame=0, marks=marks), frames.__getitem__, range(5))
    true = np.array([[2.0 * 4 + (0.6 * 4 if PLACES[k][0] > 150 else 0), 0] for k in chosen])
    homes = np.array([PLACES[k] for k in chosen])
    last = lock.at(4)
    off = np.linalg.norm(carry(np.reshape(last.homography, (3, 3)), homes) - homes - true, axis=1)
    assert np.sqrt((off**2).mean()) < 2 * last.residual_px
    assert last.residual_px > 0.3


def test_marks_that_are_left_alone_keep_the_doubt_of_those_that_went():
    frames = two_ways()
    for k in (3, 4):
        frames[k] = frames[k].copy()
        frames[k][:, 180:] = 0.1  # what the right ones stand on is covered
    marks = tuple(Mark(x=x, y=y) for x, y in PLACES)
    lock = solve_point(Lock(id="l", name="L", reference_frame=0, marks=marks), frames.__getitem__, range(5))
    assert [sum(place is not None for place in entry.marks) for entry in lock.solved] == [4, 4, 4, 2, 2]
    assert lock.at(4).residual_px >= 0.8 * lock.at(2).residual_px > 0.1
    assert any("2 of 4 marks are left" in words for words in lock.remarks)
