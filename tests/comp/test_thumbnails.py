"""Small pictures of what zones hold: as they are cut at full size, clouds and all."""

import cv2
import numpy as np

from skies_plates import ground, heaped
from zonal_mantle.api import new
from zonal_mantle.comp.thumbnails import zone_thumbnail
from zonal_mantle.media.curves import srgb_decode
from zonal_mantle.media.still import write_still
from zonal_mantle.shot import ClearSkyPull, Matte


def test_clouds_are_gone_from_the_thumbnail_of_a_plate_as_from_the_plate(tmp_path):
    width, height = 1280, 720
    codes = np.where(
        np.arange(height)[:, None, None] < 430, heaped(1, (width, height), 1.5), 0.6 * ground("grass", (width, height))
    )
    write_still(tmp_path / "plate.png", srgb_decode(np.round(codes * 255) / 255).astype(np.float32))
    session = new(tmp_path / "plate.png")
    matte = Matte(id="m", name="M", pulls=(ClearSkyPull(),))
    session.shot = session.shot.with_zone_matte(session.shot.zones[0], matte)
    small = zone_thumbnail(session.shot, session.shot.zones[0], matte, session.store, 64)
    assert small.shape[:2] == (36, 64)
    light = small[..., :3].max(axis=2)
    assert (light[:19] > 60).mean() <= 0.005
    assert light[24:].mean() > 12
    whole = zone_thumbnail(session.shot, session.shot.zones[0], None, session.store, 64)
    assert np.abs(cv2.absdiff(whole, small)[24:, :, :3]).mean() < 12
