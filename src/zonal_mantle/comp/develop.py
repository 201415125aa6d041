"""What is done to a picture after its layers, always in the same order.

1. *put back*: what was taken out of the plate is laid back. 2. *plate noise*: the plate's own, by its share of each
pixel. 3. *grain*: on what is not plate. 4. *weather*.

Grain is there; of the others there is the order and the place. What is done to the whole picture comes after all of
them (`comp.finisher`).
"""

from __future__ import annotations

from collections.abc import Sequence
from typing import Literal, NamedTuple, Protocol

import numpy as np
from numpy.typing import NDArray

from ..match.grain import with_grain
from ..shot.match import GrainModel

Array = NDArray[np.float32]
Place = Literal["put back", "plate noise", "grain", "weather"]
ORDER: tuple[Place, ...] = ("put back", "plate noise", "grain", "weather")


class Step(Protocol):
    """One step: a frozen value that counts in the plan's digest."""

    @property
    def place(self) -> Place:
        """Where it comes in the order."""

    @property
    def needs_plate_share(self) -> bool:
        """Whether it asks for the plate's share of each pixel."""

    def applied(self, picture: Array, plate_share: Array | None) -> Array:
        """The picture, (h, w, 4) float32 premultiplied, after the step; `plate_share` (h, w) where it asks for it."""


class LaidGrain(NamedTuple):
    """Grain: noise of unit strength and the model that scales it (or noise in coded values), on a share of each
    pixel; from a row of the picture on, `first`, as many as there are of the noise."""

    noise: Array
    model: GrainModel | None
    share: Array
    place: Place = "grain"
    needs_plate_share: bool = False
    first: int = 0

    def applied(self, picture: Array, plate_share: Array | None) -> Array:
        """The picture itself, with its grain."""
        rows = slice(self.first, self.first + self.noise.shape[1])
        with_grain(picture[rows], self.noise, self.model, self.share[rows], picture[rows])
        return picture


def develop(picture: Array, steps: Sequence[Step], plate_share: Array | None) -> Array:
    """A picture with its steps done, in the order of their places whatever the order they come in."""
    for step in sorted(steps, key=lambda each: ORDER.index(each.place)):
        picture = step.applied(picture, plate_share if step.needs_plate_share else None)
    return picture
