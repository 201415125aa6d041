"""A lock that is off by more than a pixel says so."""

import pytest

from lock_plates import HONEST_KINDS, honest_shot, judged


@pytest.mark.parametrize(("seed", "kind"), enumerate(sorted(set(HONEST_KINDS)), 3))
def test_no_lock_that_is_off_reports_itself_as_good(kind, seed):
    """One of each kind; `benchmarks/floors.py` makes a hundred."""
    good, off = judged(honest_shot(kind, seed))
    assert not good or off <= 1.0


@pytest.mark.parametrize("kind", ["sky", "covered", "cut", "swarm"])
def test_where_nothing_can_be_held_nothing_is_promised(kind):
    assert not judged(honest_shot(kind, 5))[0]


def test_an_ordinary_shot_is_called_good():
    good, off = judged(honest_shot("plain", 3))
    assert good
    assert off < 0.2
