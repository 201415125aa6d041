"""What is done to a picture after its layers, always in the same order.

1. *put back*: what was taken out of the plate is laid back. 2. *plate noise*: the plate's own, by its share of each
pixel. 3. *grain*: on what is not plate. 4. *weather*. 5. *finish*.

No step exists yet; their order and their place do.
"""

from __future__ import annotations

from collections.abc import Sequence
from typing import Literal, Protocol

import numpy as np
from numpy.typing import NDArray

Array = NDArray[np.float32]
Place = Literal["put back", "plate noise", "grain", "weather", "finish"]
ORDER: tuple[Place, ...] = ("put back", "plate noise", "grain", "weather", "finish")


class Step(Protocol):
    """One step: a frozen value that counts in the plan's digest."""

    place: Place
    needs_plate_share: bool

    def applied(self, picture: Array, plate_share: Array | None) -> Array:
        """The picture, (h, w, 4) float32 premultiplied, after the step; `plate_share` (h, w) where it asks for it."""


def develop(picture: Array, steps: Sequence[Step], plate_share: Array | None) -> Array:
    """A picture with its steps done, in the order of their places whatever the order they come in."""
    for step in sorted(steps, key=lambda each: ORDER.index(each.place)):
        picture = step.applied(picture, plate_share if step.needs_plate_share else None)
    return picture
