"""A layer that is worked on is made on the rows alone that it is seen in: the same picture as were it made on all."""

from pathlib import Path

import numpy as np
import pytest

from zonal_mantle.api import Session, new
from zonal_mantle.comp import Pictures, compose
from zonal_mantle.comp import layer as layers
from zonal_mantle.media.still import write_still
from zonal_mantle.shot import AirMatch, Keyed, LensMatch, Match

SIZE = 320, 200
LENS = LensMatch(radius_px=Keyed(constant=3.0), motion_blur=True)
PARTS = {
    "air with depth": Match(air=AirMatch(far_m=Keyed(constant=3000.0))),
    "focus": Match(lens=LensMatch(radius_px=Keyed(constant=4.0))),
    "focus and motion, air with depth": Match(lens=LENS, air=AirMatch(far_m=Keyed(constant=900.0))),
    "sharper": Match(lens=LensMatch(sharpen=Keyed(constant=1.0))),
}


@pytest.fixture
def session(tmp_path: Path) -> Session:
    rng = np.random.default_rng(3)
    for frame in (1001, 1002, 1003):
        write_still(tmp_path / f"plate.{frame}.exr", rng.uniform(0.1, 0.4, (SIZE[1], SIZE[0], 3)).astype(np.float32))
    tower = np.zeros((90, 50, 4), np.float32)  # only a part of it is anything
    tower[20:80] = rng.uniform(0, 1, (60, 50, 4))
    tower[20:80, :, 3] = 1
    write_still(tmp_path / "tower.exr", tower)
    return new(tmp_path / "plate.1001.exr")


@pytest.mark.parametrize("name", PARTS)
@pytest.mark.parametrize(
    ("y", "size", "turn"), [(0, 1.0, 0), (60, 1.3, 20), (-90, 2.5, 0), (118, 1.0, -5), (300, 1.0, 0)]
)
def test_it_is_the_picture_that_it_would_be_on_all_rows(session, monkeypatch, tmp_path, name, y, size, turn):
    zone = session.add_painting(tmp_path / "tower.exr", 200.0)
    x = Keyed().with_key(1001, -20, "straight").with_key(1003, 20)
    placement = zone.placement.but(
        x=x, y=Keyed(constant=y), size=Keyed(constant=size), turn_deg=Keyed(constant=float(turn))
    )
    session.shot = session.shot.with_zone(zone.but(placement=placement, match=PARTS[name]))
    rows = []
    plain = layers.rows_shown
    monkeypatch.setattr(layers, "rows_shown", lambda *given: rows.append(plain(*given)) or rows[-1])
    few = compose(session.shot, 1002, Pictures())
    monkeypatch.setattr(layers, "rows_shown", lambda layer, size, pictures: (0, size[1]))
    assert rows[0] != (0, SIZE[1])
    assert np.abs(few - compose(session.shot, 1002, Pictures())).max() < 2e-6
    alone = compose(session.shot, 1002, Pictures(), 1.0, [session.shot.zone(zone.id)])[..., 3]
    seen = np.flatnonzero((alone > 0).any(axis=1))
    assert not seen.size or (rows[0][0] <= seen[0] and seen[-1] < rows[0][1])
