"""Undo: a list of shots and a place in it."""

from __future__ import annotations

from dataclasses import dataclass, field

from ..words import mark
from .shot import Shot

MOST_STEPS = 300  # that can be undone; shots share what did not change, solved locks not among them


@dataclass
class History:
    """All shots since the document was opened. One gesture is one step, however many values it went through."""

    shots: list[Shot]
    labels: list[str] = field(default_factory=lambda: [mark("Open")])
    place: int = 0
    _gesture: str | None = None

    @classmethod
    def starting_with(cls, shot: Shot) -> History:
        """A history with nothing to undo."""
        return cls([shot])

    @property
    def shot(self) -> Shot:
        """The shot as it is now."""
        return self.shots[self.place]

    def push(self, shot: Shot, label: str, gesture: str | None = None) -> None:
        """Makes `shot` the newest. A push with the same gesture as the last one replaces it."""
        if shot == self.shot:
            return
        if gesture is not None and gesture == self._gesture and self.place > 0:
            self.shots[self.place] = shot
        else:
            del self.shots[self.place + 1 :], self.labels[self.place + 1 :]
            self.shots.append(shot)
            self.labels.append(label)
            self.place += 1
            if len(self.shots) > MOST_STEPS + 1:
                del self.shots[0], self.labels[0]
                self.place -= 1
        self._gesture = gesture

    def end_gesture(self) -> None:
        """The next push is a step of its own."""
        self._gesture = None

    def undo(self) -> str | None:
        """One step back; returns what was undone, or None at the beginning."""
        if self.place == 0:
            return None
        self.place -= 1
        self._gesture = None
        return self.labels[self.place + 1]

    def redo(self) -> str | None:
        """One step forward; returns what was done again, or None at the end."""
        if self.place + 1 >= len(self.shots):
            return None
        self.place += 1
        self._gesture = None
        return self.labels[self.place]

    def go_to(self, place: int) -> None:
        """Any step of the list at once."""
        self.place = min(max(place, 0), len(self.shots) - 1)
        self._gesture = None
