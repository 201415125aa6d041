"""Keys of any part of the shot: found wherever they are declared, moved, removed, laid elsewhere."""

import pytest

from zonal_mantle.shot import Key, Keyed, Lock, Matte, Placement, Shape, ShapeKey, Zone
from zonal_mantle.shot.base import Value
from zonal_mantle.shot.finish import Finish, LocalLight
from zonal_mantle.shot.keys import key_frames, keyed_parts, keys_on, with_keys_moved, with_keys_put, without_keys

KEYED = Keyed(keys=(Key(frame=1003, value=1.0), Key(frame=1010, value=2.0)))
SQUARE = ((0.0, 0.0), (9.0, 0.0), (9.0, 9.0))


def all_keyed(kind: type[Value]) -> Value:
    """A value whose every keyed number has two keys, however deep."""
    value = kind() if kind is not Zone else Zone(id="z", name="Z", source="s")
    for name in type(value).model_fields:
        part = getattr(value, name)
        if isinstance(part, Keyed):
            value = value.but(**{name: KEYED.but(keys=tuple(k.but(value=part.constant) for k in KEYED.keys))})
        elif isinstance(part, Value) and any(isinstance(v, Keyed) for v in part.__dict__.values()):
            value = value.but(**{name: all_keyed(type(part))})
    return value


@pytest.mark.parametrize("kind", [Placement, Matte, Finish, Zone])
def test_no_keyed_number_is_forgotten(kind):
    value = all_keyed(kind) if kind is not Matte else all_keyed(type(Matte(id="m", name="M").edge))
    declared = str(value).count("Key(frame=1003")  # every key that the value prints
    assert declared > 0
    assert sum(1 for _ in keyed_parts(value)) == declared
    assert key_frames(value) == [1003, 1010]


def test_keys_are_moved_and_replace_what_stood_there():
    placement = Placement(x=KEYED, size=Keyed(keys=(Key(frame=1003, value=3.0),)))
    moved = with_keys_moved(placement, 1003, 1010)
    assert [key.frame for key in moved.x.keys] == [1010]
    assert moved.x.keys[0].value == 1.0
    assert [key.frame for key in moved.size.keys] == [1010]
    assert with_keys_moved(placement, 1003, 1003) == placement


def test_the_last_key_removed_leaves_its_value_and_a_shape_keeps_its_outline():
    placement = without_keys(Placement(size=Keyed(keys=(Key(frame=5, value=3.0),))), 5)
    assert placement.size == Keyed(constant=3.0)
    keys = (ShapeKey(frame=1, points=SQUARE), ShapeKey(frame=5, points=SQUARE))
    matte = Matte(id="m", name="M", shapes=(Shape(id="a", name="A", mode="keep", keys=keys),))
    once = without_keys(matte, 5)
    assert [key.frame for key in once.shapes[0].keys] == [1]
    assert without_keys(once, 1) == once


def test_keys_are_laid_on_another_frame_of_another_value():
    copied = keys_on(Placement(x=KEYED, turn_deg=KEYED), 1003)
    assert len(copied) == 2
    put = with_keys_put(Placement(), copied, 1020)
    assert (put.x.at(1020), put.turn_deg.at(1020)) == (1.0, 1.0)
    shape_keys = keys_on(Matte(id="m", name="M", shapes=(_shape(SQUARE),)), 1)
    other = Matte(id="n", name="N", shapes=(_shape((*SQUARE, (0.0, 9.0))),))
    assert with_keys_put(other, shape_keys, 7) == other  # an outline of another count of points does not fit


def test_what_is_skipped_keeps_its_keys():
    zone = all_keyed(Zone)
    moved = with_keys_moved(zone, 1003, 1005, frozenset({"match"}))
    assert 1005 in key_frames(moved.placement)
    assert key_frames(moved.match) == key_frames(zone.match)
    assert key_frames(Lock(id="l", name="L", reference_frame=1)) == []
    light = LocalLight(id="i", name="I", shape=_shape(SQUARE), exposure_stops=KEYED)
    assert key_frames(Finish(lights=(light,))) == [1, 4, 1003, 1010]


def _shape(points) -> Shape:
    keys = (ShapeKey(frame=1, points=points), ShapeKey(frame=4, points=points))
    return Shape(id="a", name="A", mode="keep", keys=keys)
