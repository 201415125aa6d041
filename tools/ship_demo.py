"""Makes the small demo that ships with the application: the plate as 10-bit H.264, its paintings and clips, the shot.

ship_demo.py FOLDER        FOLDER is a demo written by `zonal-mantle demo --write`
"""

from __future__ import annotations

import shutil
import sys
from fractions import Fraction
from pathlib import Path

import numpy as np

from zonal_mantle.demo import NAME, SHIPPED, set_up
from zonal_mantle.media.curves import srgb_encode
from zonal_mantle.media.still import read_still
from zonal_mantle.render.frames import VideoWriter

QUALITY = 15  # of H.264: the largest that keeps the file under 4 MB
SRGB_TRANSFER = 13  # H.273


def ship(folder: Path, to: Path) -> None:
    """Writes the shipped demo anew."""
    shutil.rmtree(to, ignore_errors=True)
    to.mkdir(parents=True)
    for part in ("paintings", "elements"):
        shutil.copytree(folder / part, to / part)
    video = to / f"{NAME}.mp4"
    with VideoWriter(video, "h264 10-bit", Fraction(24), QUALITY, SRGB_TRANSFER) as writer:
        for path in sorted((folder / "plate").glob("*.exr")):
            writer.write(srgb_encode(np.clip(read_still(path)[0][..., :3], 0, None)))
    session = set_up(folder, video)
    sources = tuple(
        source.but(path=str(to / Path(source.path).relative_to(folder)))
        if Path(source.path).is_relative_to(folder)
        else source
        for source in session.shot.sources
    )
    session.shot = session.shot.but(sources=sources)
    session.save(to / f"{NAME}.shot.json")
    for path in sorted(to.rglob("*")):
        if path.is_file():
            print(f"{path.stat().st_size / 1e6:6.2f} MB  {path.relative_to(to)}")


if __name__ == "__main__":
    ship(Path(sys.argv[1]), SHIPPED)
