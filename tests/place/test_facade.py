"""A facade on a wall, against the truth of generated streets."""

import numpy as np
import pytest
from test_perspective import Street

from hung import shot_with
from zonal_mantle.place import plate_places
from zonal_mantle.place.perspective import quad_of_edges
from zonal_mantle.shot import Corner, Keyed


@pytest.mark.parametrize("seed", range(8))
def test_a_facade_lands_where_the_wall_is(seed):
    """The issue's floor: within half a pixel, also in between the corners; edges drawn along the wall's own."""
    street = Street(seed)
    at = np.linalg.inv(street.turn) @ [-2, -1, 13]
    u, v = np.meshgrid(np.linspace(0, 1, 5), np.linspace(0, 1, 4))
    world = at + u.reshape(-1, 1) * [4, 0, 0] + v.reshape(-1, 1) * [0, 2.5, 0]
    wall = street.seen([at, at + [4, 0, 0], at + [4, 2.5, 0], at + [0, 2.5, 0]])
    quad = quad_of_edges(np.array([wall[[0, 1]], wall[[3, 2]]]), np.array([wall[[0, 3]], wall[[1, 2]]]))
    pins = tuple(Corner(x=Keyed(constant=float(x)), y=Keyed(constant=float(y))) for x, y in quad)
    shot = shot_with(None, (400, 250), 1, way="corner pin", pins=pins)
    painted = np.stack([u.ravel() * 400, v.ravel() * 250], axis=1)
    got = plate_places(shot, shot.zones[0], 1, painted)
    forward, mirrored = (np.linalg.norm(got - order, axis=1).max() for order in (
        street.seen(world), street.seen(world).reshape(4, 5, 2)[:, ::-1].reshape(-1, 2)))  # fmt: skip
    assert min(forward, mirrored) < 0.5
