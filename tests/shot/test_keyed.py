"""Keyed numbers."""

import pytest
from hypothesis import given
from hypothesis import strategies as st

from zonal_mantle.shot import Key, Keyed

values = st.lists(st.floats(-100, 100), min_size=2, max_size=6)


def keyed(way: str, numbers: list[float]) -> Keyed:
    return Keyed(keys=tuple(Key(frame=10 * k, value=v, way=way) for k, v in enumerate(numbers)))


def test_a_plain_number_is_a_constant():
    assert Keyed.model_validate(2.5).at(1000) == 2.5
    assert Keyed(constant=2.5).model_dump_json() == "2.5"


def test_hold_keeps_the_value_until_the_next_key():
    line = keyed("hold", [1, 5])
    assert (line.at(-3), line.at(9.9), line.at(10), line.at(50)) == (1, 1, 5, 5)


def test_straight_lies_on_the_line_between_keys():
    assert keyed("straight", [0, 4]).at(2.5) == pytest.approx(1.0)


@given(values, st.floats(0, 1))
def test_smooth_never_overshoots_its_neighbouring_keys(numbers, share):
    # property of monotone cubics: Fritsch & Butland, SIAM J. Sci. Stat. Comput. 5 (1984), published
    line = keyed("smooth", numbers)
    for k in range(len(numbers) - 1):
        low, high = sorted(numbers[k : k + 2])
        assert low - 1e-9 <= line.at(10 * (k + share)) <= high + 1e-9


def test_smooth_agrees_with_a_reference_monotone_cubic():
    # reference library: SciPy's PCHIP, the same interior slopes; compared between inner keys
    from scipy.interpolate import PchipInterpolator

    numbers = [0.0, 1.0, 3.0, 3.5, 7.0]
    line, reference = keyed("smooth", numbers), PchipInterpolator([0, 10, 20, 30, 40], numbers)
    for frame in (12, 15, 23, 28):
        assert line.at(frame) == pytest.approx(float(reference(frame)), abs=1e-9)


def test_setting_a_value_keys_only_what_is_keyed_already():
    assert Keyed(constant=1).with_value(5, 2) == Keyed(constant=2)
    line = Keyed(constant=1).with_key(5, 1).with_value(9, 3)
    assert [key.frame for key in line.keys] == [5, 9]
    assert line.without_key(5).without_key(9) == Keyed(constant=3)


def test_keys_out_of_order_are_refused():
    with pytest.raises(ValueError, match="order of their frames"):
        Keyed(keys=(Key(frame=2, value=0), Key(frame=1, value=0)))


def test_a_smooth_stretch_after_a_hold_starts_level():
    steps = Keyed(keys=(Key(frame=1, value=0, way="hold"), Key(frame=5, value=10), Key(frame=9, value=14)))
    assert steps.at(5.01) - steps.at(5) < 0.001  # the jump of the held stretch is no slope to go on with
    assert steps.at(9) == 14
