"""The small demo that ships with the application."""

import numpy as np

from zonal_mantle.api import open_shot
from zonal_mantle.demo import NAME, SHIPPED, demo_shot
from zonal_mantle.media import source_problem


def test_it_ships_small_and_whole():
    sizes = [path.stat().st_size for path in SHIPPED.rglob("*") if path.is_file()]
    assert sum(sizes) < 12e6
    assert max(sizes) < 4e6
    session = open_shot(SHIPPED / f"{NAME}.shot.json")
    assert (session.shot.size, len(session.shot.frames)) == ((1280, 720), 48)
    assert not [words for source in session.shot.sources if (words := source_problem(source))]
    assert all(len(lock.solved) == 48 for lock in session.shot.locks)


def test_it_is_laid_out_once_and_what_was_saved_stays(monkeypatch, tmp_path):
    monkeypatch.setattr("zonal_mantle.demo.shipped.cache_dir", lambda: tmp_path)
    path = demo_shot()
    session = open_shot(path)
    session.edit(name="Mine")
    session.save(path)
    assert open_shot(demo_shot()).shot.name == "Mine"


def test_its_plate_has_more_than_8_bits():
    # a smooth sky in 8 bits has a step of 1/255 between neighbouring codes; the film's has finer ones
    session = open_shot(SHIPPED / f"{NAME}.shot.json")
    from zonal_mantle.media.curves import srgb_encode

    sky = srgb_encode(session.plate(session.shot.first)[40:140, 100:400])
    off = np.abs(sky * 255 - np.round(sky * 255))
    assert (off > 0.1).mean() > 0.3
