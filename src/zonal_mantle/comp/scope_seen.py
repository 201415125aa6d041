"""Scopes of what is seen: the finished picture, the plate, a zone by itself, or what that zone is compared with."""

from __future__ import annotations

from typing import Literal, NamedTuple

import numpy as np
from numpy.typing import NDArray

from ..finish.errors import FinishError
from ..finish.scopes import Kind, Scope, scope_of
from ..match.errors import MatchError
from ..media.curves import coded
from ..shot import Shot
from ..words import say
from .aim import aim_seen, zone_seen_with
from .finish_planner import finished_plan
from .pictures import Pictures
from .stack import compose, compose_plan

Array = NDArray[np.float32]
Of = Literal["Finished", "Composite", "Plate", "Zone", "Aim"]
Box = tuple[float, float, float, float]


class Looked(NamedTuple):
    """Coded values (h, w, 3), and which of them count, all where it is None."""

    codes: Array
    mask: NDArray[np.bool_] | None


def scope_seen(
    shot: Shot,
    frame: int,
    kind: Kind,
    pictures: Pictures,
    of: Of = "Finished",
    zone: str | None = None,
    region: Box | None = None,
    scale: float = 1.0,
) -> Scope:
    """How the values of something that is seen on a frame are spread.

    Parameters
    ----------
    of : the finished picture (in the plate's own frame), the composite, the plate, a zone by itself where it is solid,
        or the aim of that zone. region : x0, y0, x1, y1 in plate pixels, the only part that counts.

    Raises
    ------
    FinishError : no such scope; a region outside of the picture. MatchError : a zone or its aim is not seen there.
    """
    return scope_of_part(looked_at(shot, frame, pictures, of, zone, scale), shot.size, kind, region)


def scope_of_part(looked: Looked, size: tuple[int, int], kind: Kind, region: Box | None) -> Scope:
    """A scope of what is looked at, of a region (plate pixels) of a plate of a `size` (FinishError)."""
    codes, mask = looked
    if region is not None:
        fx, fy = codes.shape[1] / size[0], codes.shape[0] / size[1]
        x0, x1 = sorted((region[0] * fx, region[2] * fx))
        y0, y1 = sorted((region[1] * fy, region[3] * fy))
        rows = slice(max(int(y0), 0), max(int(np.ceil(y1)), 0))
        columns = slice(max(int(x0), 0), max(int(np.ceil(x1)), 0))
        codes = codes[rows, columns]
        mask = None if mask is None else mask[rows, columns]
        if codes.shape[0] == 0 or codes.shape[1] == 0:
            raise FinishError(say("The region of the scope lies outside of the picture. Drag it again."))
    return scope_of(np.ascontiguousarray(codes), kind, None if mask is None else np.ascontiguousarray(mask))


def looked_at(
    shot: Shot, frame: int, pictures: Pictures, of: Of = "Finished", zone: str | None = None, scale: float = 1.0
) -> Looked:
    """The coded values of what is looked at."""
    if of == "Plate":
        source = shot.plate_source
        if source is None:
            raise FinishError(say("The shot has no plate. Open one first."))
        return Looked(coded(pictures.plate(source, frame, scale)), None)
    if of in ("Zone", "Aim"):
        found = next((each for each in shot.zones if each.id == zone), None)
        if found is None:
            raise MatchError(say("Choose a zone first: the scope is to show it by itself."))
        if of == "Aim":
            seen, _ = aim_seen(shot, found, frame, pictures)
        elif shot.holds_plate(found):
            rgba = compose(shot, frame, pictures, 1.0, [found])
            straight = rgba[..., :3] / np.maximum(rgba[..., 3:], 1e-6)
            return Looked(coded(np.ascontiguousarray(straight, np.float32)), rgba[..., 3] > 0.5)
        else:
            seen = zone_seen_with(shot, found, frame, pictures, found.match)
        return Looked(coded(np.ascontiguousarray(seen.picture)), seen.mask)
    if of == "Composite":
        return Looked(coded(compose(shot, frame, pictures, scale)[..., :3]), None)
    planned = finished_plan(shot, frame, scale, leaves=False)
    return Looked(coded(compose_plan(planned, pictures)[..., :3]), None)
