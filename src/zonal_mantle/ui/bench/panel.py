"""What the parts of a stage have in common: number fields tied to values of the shot."""

from __future__ import annotations

from collections.abc import Callable

from PySide6.QtWidgets import QVBoxLayout, QWidget

from ...shot import Keyed
from ...words import say
from ..desk import Desk, new_gesture
from ..numberfield import NumberField


class Panel(QWidget):
    """A column of controls. Subclasses add to `inside` and show the shot in `refresh`."""

    def __init__(self, desk: Desk) -> None:
        super().__init__()
        self.desk = desk
        self.inside = QVBoxLayout(self)
        self.inside.setContentsMargins(0, 0, 0, 0)
        self.inside.setSpacing(3)
        self._fields: list[tuple[NumberField, Callable[[], Keyed | float | None]]] = []

    def refresh(self) -> None:
        """Shows what the shot holds."""
        for field, get in self._fields:
            value = get()
            field.setEnabled(value is not None)
            if isinstance(value, Keyed):
                frame = self.desk.frame
                field.set_value(value.at(frame), bool(value.keys), value.has_key(frame))
            elif value is not None:
                field.set_value(value)

    def keyed(
        self, field: NumberField, get: Callable[[], Keyed | None], put: Callable[[Keyed, str, str], None]
    ) -> NumberField:
        """Ties a field to a keyed value. `put` takes the new value, a label and the gesture."""
        field.keyable = True

        def changed(value: float, gesture: str) -> None:
            part = get()
            if part is not None:
                put(part.with_value(self.desk.frame, value), field.label, gesture)

        def key(on: bool) -> None:
            part, frame = get(), self.desk.frame
            if part is not None:
                new = part.with_key(frame, part.at(frame)) if on else part.without_key(frame)
                put(new, say("Key {label}", label=field.label), new_gesture())

        field.changed.connect(changed)
        field.key_wanted.connect(key)
        return self._add(field, get)

    def plain(
        self, field: NumberField, get: Callable[[], float | None], put: Callable[[float, str, str], None]
    ) -> NumberField:
        """Ties a field to a plain number."""
        field.changed.connect(lambda value, gesture: put(value, field.label, gesture))
        return self._add(field, get)

    def _add(self, field: NumberField, get: Callable[[], Keyed | float | None]) -> NumberField:
        field.gesture.connect(self.desk.set_dragging)
        self._fields.append((field, get))
        return field
