"""Panels of one value of the shot: number fields tied to its parts by name."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from ...shot import Keyed, Value
from ..numberfield import NumberField
from .panel import Panel


class Valued(Panel):
    """A panel of a value that `value` gives and `put` changes."""

    def value(self) -> Any:
        """What is shown; None where there is nothing."""
        raise NotImplementedError

    def put(self, words: str, gesture: str | None = None, **changes: object) -> None:
        """Changes fields of the value."""
        raise NotImplementedError

    def number(
        self, label: str, name: str, *numbers: object, inside: Callable[[Any], Any] | None = None
    ) -> NumberField:
        """A field for a keyed number of the part."""
        field = NumberField(label, *numbers)  # type: ignore[arg-type]

        def get() -> Keyed | None:
            value = self.value()
            return None if value is None else getattr(value, name)

        return self.keyed(field, get, lambda value, words, gesture: self.put(words, gesture, **{name: value}))

    def inner(
        self, label: str, holder: str, name: str, *numbers: object, place: int | None = None, bare: bool = False
    ) -> NumberField:
        """A field for a keyed number of a value within the part, or of one in its triple."""
        field = NumberField(label, *numbers, bare=bare)  # type: ignore[arg-type]

        def get() -> Keyed | None:
            value = self.value()
            if value is None:
                return None
            found = getattr(getattr(value, holder), name)
            return found if place is None else found[place]

        def put(new: Keyed, words: str, gesture: str) -> None:
            inside: Value = getattr(self.value(), holder)
            if place is not None:
                old = getattr(inside, name)
                changed = inside.but(**{name: tuple(new if k == place else v for k, v in enumerate(old))})
            else:
                changed = inside.but(**{name: new})
            self.put(words, gesture, **{holder: changed})

        return self.keyed(field, get, put)
