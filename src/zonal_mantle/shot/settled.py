"""A value as it stands on one frame: every keyed number in it is the number that it has there."""

from __future__ import annotations

from typing import Any, TypeVar

from .base import Value
from .keyed import Keyed

V = TypeVar("V")


class Settled(float):
    """What a keyed number is on the frame that was asked for; it answers `at` as a keyed number does."""

    def at(self, frame: float) -> float:
        """The number."""
        return float(self)


def settled(value: V, frame: float) -> V:
    """A value of the shot without time: keyed numbers become plain ones.

    Examples
    --------
    >>> from zonal_mantle.shot.keyed import Key
    >>> settled((Keyed(keys=(Key(frame=1, value=0), Key(frame=3, value=4))), "a"), 2)
    (2.0, 'a')
    """
    return _settled(value, frame)  # type: ignore[no-any-return]


def _settled(value: Any, frame: float) -> Any:
    if isinstance(value, Keyed):
        return Settled(value.at(frame))
    if isinstance(value, Value):
        fields = {name: _settled(getattr(value, name), frame) for name in type(value).model_fields}
        return type(value).model_construct(**fields)
    if isinstance(value, tuple):
        return tuple(_settled(part, frame) for part in value)
    return value


def held(value: V, frame: float) -> V:
    """A value of the shot whose keyed numbers hold what they are on a frame: still a value that can be saved."""
    return _held(value, frame)  # type: ignore[no-any-return]


def _held(value: Any, frame: float) -> Any:
    if isinstance(value, Keyed):
        return Keyed(constant=value.at(frame)) if value.keys else value
    if isinstance(value, Value):
        fields = {name: _held(getattr(value, name), frame) for name in type(value).model_fields}
        return type(value)(**fields)
    if isinstance(value, tuple):
        return tuple(_held(part, frame) for part in value)
    return value
