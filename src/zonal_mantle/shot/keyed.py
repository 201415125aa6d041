"""Numbers that are constant or keyed over the frames."""

from __future__ import annotations

from bisect import bisect_right
from collections.abc import Callable
from typing import Any, Literal

from pydantic import Field, model_serializer, model_validator

from ..words import say
from .base import Value

LEAST_FACTOR = 1e-6
Way = Literal["hold", "straight", "smooth"]


class Key(Value):
    """One keyed number: its frame, its value, and the way to the next key."""

    frame: int
    value: float = Field(allow_inf_nan=False)
    way: Way = "smooth"


class Keyed(Value):
    """A number over time. Without keys it is constant; before the first and after the last key it holds.

    A file may write a plain number for a constant.
    """

    constant: float = Field(default=0.0, allow_inf_nan=False)
    keys: tuple[Key, ...] = ()

    @model_validator(mode="before")
    @classmethod
    def _from_number(cls, data: Any) -> Any:
        return {"constant": data} if isinstance(data, int | float) else data

    @model_validator(mode="after")
    def _in_order(self) -> Keyed:
        frames = [key.frame for key in self.keys]
        if frames != sorted(set(frames)):
            raise ValueError(say("Keys must be in the order of their frames, one a frame."))
        return self

    @model_serializer(mode="wrap")
    def _to_number(self, handler: Any) -> Any:
        return handler(self) if self.keys else self.constant

    def at(self, frame: float) -> float:
        """The value on a frame.

        Smooth stretches are monotone cubic (Fritsch & Butland 1984): no overshoot between keys.
        """
        keys = self.keys
        if not keys:
            return self.constant
        if frame <= keys[0].frame:
            return keys[0].value
        if frame >= keys[-1].frame:
            return keys[-1].value
        i = bisect_right([key.frame for key in keys], frame) - 1
        a, b = keys[i], keys[i + 1]
        span = b.frame - a.frame
        t = (frame - a.frame) / span
        if a.way == "hold":
            return a.value
        if a.way == "straight":
            return a.value + (b.value - a.value) * t
        m0, m1 = self._slope(i) * span, self._slope(i + 1) * span
        t2, t3 = t * t, t * t * t
        return (2 * t3 - 3 * t2 + 1) * a.value + (t3 - 2 * t2 + t) * m0 + (-2 * t3 + 3 * t2) * b.value + (t3 - t2) * m1

    def factor_at(self, frame: float) -> float:
        """The value on a frame as a factor by which something is scaled: never so near to 0 that there is no way
        back."""
        value = self.at(frame)
        return value if abs(value) >= LEAST_FACTOR else (-LEAST_FACTOR if value < 0 else LEAST_FACTOR)

    def shifted(self, by: float) -> Keyed:
        """Constant and keys, all more by a number."""
        return self._each(lambda value: value + by)

    def scaled(self, by: float) -> Keyed:
        """Constant and keys, all times a number."""
        return self._each(lambda value: value * by)

    def _each(self, change: Callable[[float], float]) -> Keyed:
        keys = tuple(key.but(value=change(key.value)) for key in self.keys)
        return Keyed(constant=change(self.constant), keys=keys)

    def _slope(self, i: int) -> float:
        keys = self.keys
        if i == 0 or i == len(keys) - 1 or "hold" in (keys[i - 1].way, keys[i].way):
            return 0.0  # a held stretch has no slope to go on with
        h0, h1 = keys[i].frame - keys[i - 1].frame, keys[i + 1].frame - keys[i].frame
        d0, d1 = (keys[i].value - keys[i - 1].value) / h0, (keys[i + 1].value - keys[i].value) / h1
        if d0 * d1 <= 0:
            return 0.0
        share = (1 + h1 / (h0 + h1)) / 3
        return d0 * d1 / (share * d1 + (1 - share) * d0)

    def has_key(self, frame: int) -> bool:
        """Whether a key stands on the frame."""
        return any(key.frame == frame for key in self.keys)

    def with_value(self, frame: int, value: float) -> Keyed:
        """Sets the value: the constant where nothing is keyed, else a key on the frame."""
        if not self.keys:
            return Keyed(constant=value)
        return self.with_key(frame, value)

    def with_key(self, frame: int, value: float, way: Way | None = None) -> Keyed:
        """Adds or replaces the key on a frame; a replaced key keeps its way."""
        old = next((key for key in self.keys if key.frame == frame), None)
        new = Key(frame=frame, value=value, way=way or (old.way if old else "smooth"))
        rest = [key for key in self.keys if key.frame != frame]
        return Keyed(constant=value, keys=tuple(sorted([*rest, new], key=lambda key: key.frame)))

    def without_key(self, frame: int) -> Keyed:
        """Removes the key on a frame; the last one removed leaves its value as the constant."""
        gone = self.at(frame)
        rest = tuple(key for key in self.keys if key.frame != frame)
        return Keyed(constant=self.constant if rest else gone, keys=rest)
