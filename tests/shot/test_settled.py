"""Values without time."""

from hypothesis import given
from hypothesis import strategies as st

from zonal_mantle.comp.digest import digest
from zonal_mantle.shot import ClearSkyPull, Key, Keyed, LumaPull, Matte, Zone
from zonal_mantle.shot.settled import Settled, settled

NUMBERS = st.floats(-1e6, 1e6, allow_nan=False)


@st.composite
def keyed(draw: st.DrawFn) -> Keyed:
    frames = draw(st.lists(st.integers(1, 100), max_size=5, unique=True))
    ways = st.sampled_from(["hold", "straight", "smooth"])
    keys = tuple(Key(frame=frame, value=draw(NUMBERS), way=draw(ways)) for frame in sorted(frames))
    return Keyed(constant=draw(NUMBERS), keys=keys)


@given(keyed(), st.integers(-10, 120))
def test_a_settled_number_is_what_it_is_on_the_frame(number, frame):
    out = settled(number, frame)
    assert isinstance(out, Settled)
    assert out.at(5) == out.at(77) == number.at(frame)


@given(keyed(), st.integers(1, 100))
def test_a_matte_settled_on_a_frame_gives_its_pulls_the_numbers_of_that_frame(number, frame):
    matte = Matte(pulls=(LumaPull(high=number), ClearSkyPull(id="b", empty=number)))
    out = settled(matte, frame)
    assert [pull.kind for pull in out.pulls] == ["luma", "clear sky"]
    assert out.pulls[0].high.at(0) == number.at(frame)
    assert out.pulls[1].empty.at(0) == number.at(frame)
    assert out.pulls[0].weights == matte.pulls[0].weights


@given(NUMBERS, NUMBERS)
def test_digests_differ_where_numbers_do(a, b):
    same = digest(a) == digest(b)
    assert same == (a == b and str(a) == str(b))  # 0.0 and -0.0 are different bits


def test_what_is_not_keyed_stays_as_it_is():
    zone = Zone(id="z", name="Z", source="s", distance_m=12.5, group="far")
    out = settled(zone, 3)
    assert (out.id, out.name, out.distance_m, out.group) == ("z", "Z", 12.5, "far")
    assert out.placement.way == "flat"
    assert out.placement.x.at(9) == 0


def test_digests_tell_kinds_and_nesting_apart():
    values = [1, 1.0, "1", b"1", (1,), ((1,),), True, None, ("a", "b"), ("ab",), ("a", ("b",))]
    assert len({digest(value) for value in values}) == len(values)
