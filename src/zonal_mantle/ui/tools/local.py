"""Drawing and editing the shapes of local lights on the picture."""

from __future__ import annotations

from ...shot import LocalLight, Shape
from ...words import say
from .shape import ShapeTool


class LocalTool(ShapeTool):
    """The shapes of the finish's local lights: drawn, dragged and keyed as those of mattes are."""

    @property
    def shapes(self) -> tuple[Shape, ...]:
        """One a light, by the light's id."""
        return tuple(light.shape.but(id=light.id, name=light.name) for light in self.desk.shot.finish.lights)

    @property
    def on_own(self) -> bool:
        return False

    @property
    def light(self) -> LocalLight | None:
        """The chosen light."""
        return next((light for light in self.desk.shot.finish.lights if light.id == self.chosen), None)

    def new_name(self, mode: str) -> str:
        return say("Light {count}", count=len(self.shapes) + 1)

    def put_all(self, shapes: tuple[Shape, ...], label: str, gesture: str | None = None) -> None:
        """Lights whose shapes are gone go; a new shape is a new light."""
        shot = self.desk.shot
        known = {light.id: light for light in shot.finish.lights}
        lights = []
        for shape in shapes:
            light = known.get(shape.id)
            if light is None:
                soft = shape.but(feather_in_px=40.0, feather_out_px=40.0)
                light = LocalLight(id=shape.id, name=shape.name, shape=soft)
            else:
                light = light.but(shape=shape.but(id=light.shape.id, name=light.shape.name))
            lights.append(light)
        self.desk.edit(shot.but(finish=shot.finish.but(lights=tuple(lights))), label, gesture)
