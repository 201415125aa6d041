"""Drawing and editing the field of a lock: what it measures, and what is left out."""

from __future__ import annotations

import numpy as np

from ...place import reference_to_frame
from ...shot import UNSOLVED, Shape
from .shape import ShapeTool


class FieldTool(ShapeTool):
    """Keep shapes are the field, drop shapes what is left out of it.

    The field belongs to the reference frame; on other frames it is shown where the lock has taken it, unless it
    stays in the frame. What is left out may be keyed, or ride on another lock.
    """

    hint = (
        "Draw the field over what is to be measured; leave out what passes in front. Drag points or the whole "
        "(Ctrl scales, Alt turns). Delete removes."
    )

    @property
    def on_own(self) -> bool:
        return False  # a lock is of the plate

    @property
    def shapes(self) -> tuple[Shape, ...]:
        lock = self.desk.lock
        return lock.field if lock is not None and lock.kind != "point" else ()

    def _motion(self, shape: Shape) -> np.ndarray:
        lock = self.desk.lock
        if lock is not None and shape.mode == "keep" and not lock.field_stays and lock.kind == "plane":
            return reference_to_frame(self.desk.solving.shot, lock.id, self.desk.frame)
        return super()._motion(shape)

    def put_all(self, shapes: tuple[Shape, ...], label: str, gesture: str | None = None) -> None:
        lock = self.desk.lock
        if lock is None:
            return
        reference = lock.reference_frame
        if not lock.solved and not lock.field:
            reference = self.desk.frame  # the first shape says where a solve starts
        self.desk.edit_lock(lock.but(field=shapes, reference_frame=reference, **UNSOLVED), label, gesture)

    def new_name(self, mode: str) -> str:
        count = sum(shape.mode == mode for shape in self.shapes) + 1
        return f"{'Field' if mode == 'keep' else 'Left out'} {count}"
