"""What every part of the shot has in common: frozen, strict about unknown fields, compared and hashed by value."""

from __future__ import annotations

from typing import Any, Self

from pydantic import BaseModel, ConfigDict


class Value(BaseModel):
    """A frozen value. An edit returns a new one that shares what did not change."""

    model_config = ConfigDict(frozen=True, extra="forbid")

    def but(self, **changes: Any) -> Self:
        """The same value with some fields changed, checked again.

        Raises
        ------
        pydantic.ValidationError : a field is unknown or out of range.
        """
        fields = {name: getattr(self, name) for name in type(self).model_fields}
        unknown = set(changes) - set(fields)
        if unknown:
            raise AttributeError(f"{type(self).__name__} has no field {', '.join(sorted(unknown))}.")
        return type(self)(**{**fields, **changes})
