"""All keys of a part of the shot, whatever it is made of: found, moved, removed and laid on other frames.

The parts are walked as they are declared, so that a value that is added later is never forgotten.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator
from typing import Any, TypeVar

from .base import Value
from .keyed import Key, Keyed
from .shapes import Shape, ShapeKey

T = TypeVar("T")
AnyKey = Key | ShapeKey
Place = tuple[str | int, ...]  # the way to a keyed value: names of fields, numbers in tuples


def keyed_parts(value: Any, skip: frozenset[str] = frozenset(), place: Place = ()) -> Iterator[tuple[Place, Any]]:
    """Every keyed number and every shape with more than one key in a value, with the way to it.

    >>> from zonal_mantle.shot import Placement
    >>> [place for place, _ in keyed_parts(Placement(x=Keyed().with_key(5, 1.0)))]
    [('x',)]
    """
    if isinstance(value, tuple):
        for number, part in enumerate(value):
            yield from keyed_parts(part, skip, (*place, number))
    elif isinstance(value, Keyed):
        if value.keys:
            yield place, value
    elif isinstance(value, Shape):
        if len(value.keys) > 1:
            yield place, value
    elif isinstance(value, Value):
        for name in type(value).model_fields:
            if name not in skip:
                yield from keyed_parts(getattr(value, name), skip, (*place, name))


def key_frames(value: Any, skip: frozenset[str] = frozenset()) -> list[int]:
    """All frames with a key."""
    return sorted({key.frame for _, part in keyed_parts(value, skip) for key in part.keys})


def with_keys_moved(value: T, frame: int, to: int, skip: frozenset[str] = frozenset()) -> T:
    """All keys of one frame on another; keys that stood there are replaced."""

    def moved(part: Any) -> Any:
        here = [key for key in part.keys if key.frame == frame]
        if not here or frame == to:
            return part
        rest = [key for key in part.keys if key.frame not in (frame, to)]
        return part.but(keys=tuple(sorted((*rest, here[0].but(frame=to)), key=lambda key: key.frame)))

    return _changed(value, moved, skip)


def without_keys(value: T, frame: int, skip: frozenset[str] = frozenset()) -> T:
    """Without the keys of a frame. The last key of a number leaves its value; the last of a shape stays."""

    def cleared(part: Any) -> Any:
        if all(key.frame != frame for key in part.keys):
            return part
        if isinstance(part, Keyed):
            return part.without_key(frame)
        rest = tuple(key for key in part.keys if key.frame != frame)
        return part.but(keys=rest) if rest else part

    return _changed(value, cleared, skip)


def keys_on(value: Any, frame: int, skip: frozenset[str] = frozenset()) -> dict[Place, AnyKey]:
    """The keys of a frame by where they stand, to be laid on another frame."""
    found = ((place, key) for place, part in keyed_parts(value, skip) for key in part.keys if key.frame == frame)
    return dict(found)


def with_keys_put(value: T, keys: dict[Place, AnyKey], frame: int) -> T:
    """Lays keys on a frame, wherever the value has what they belong to."""
    out: Any = value
    for place, key in keys.items():
        out = _put(out, place, key.but(frame=frame))
    return out  # type: ignore[no-any-return]


def _put(value: Any, place: Place, key: AnyKey) -> Any:
    if not place:
        fits = isinstance(value, Keyed) == isinstance(key, Key) and isinstance(value, Keyed | Shape)
        if not fits or (isinstance(value, Shape) and len(value.keys[0].points) != len(key.points)):  # type: ignore[union-attr]
            return value
        rest = [each for each in value.keys if each.frame != key.frame]
        return value.but(keys=tuple(sorted((*rest, key), key=lambda each: each.frame)))
    step, inner = place[0], place[1:]
    if isinstance(value, tuple) and isinstance(step, int) and step < len(value):
        return (*value[:step], _put(value[step], inner, key), *value[step + 1 :])
    if isinstance(value, Value) and isinstance(step, str) and step in type(value).model_fields:
        old = getattr(value, step)
        new = _put(old, inner, key)
        return value if new is old else value.but(**{step: new})
    return value


def _changed(value: T, change: Callable[[Any], Any], skip: frozenset[str]) -> T:
    out: Any = value
    for place, _ in list(keyed_parts(value, skip)):
        out = _replaced(out, place, change)
    return out  # type: ignore[no-any-return]


def _replaced(value: Any, place: Place, change: Callable[[Any], Any]) -> Any:
    if not place:
        return change(value)
    step, inner = place[0], place[1:]
    if isinstance(step, int):
        return (*value[:step], _replaced(value[step], inner, change), *value[step + 1 :])
    old = getattr(value, step)
    new = _replaced(old, inner, change)
    return value if new is old else value.but(**{step: new})
