"""Work on other cores: it gives what it gave alone, and its errors, and what is a band waits for no other."""

import numpy as np
import pytest

from zonal_mantle.media.bands import run_apart, run_bands


def test_what_runs_apart_gives_its_result_or_its_error():
    def broken() -> None:
        raise ValueError("as it is")

    assert run_apart(sum, [1, 2, 3])() == 6
    waiting = run_apart(broken)
    with pytest.raises(ValueError, match="as it is"):
        waiting()


def test_bands_that_run_work_apart_wait_for_none_of_the_others():
    rows = np.zeros(640)

    def half(first: int, end: int) -> None:
        rows[first:end] = run_apart(lambda: run_apart(lambda: 1.0)())()

    run_bands(half, len(rows))
    assert (rows == 1).all()
