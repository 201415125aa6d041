"""Makes moving plates with truth of a third set of pictures. Usage: snow_plates.py OUT [--grain SHARE]

Needs apt-get, dpkg-deb and npm. Snowy firs, a snowy range, a field with a mound, and Mars, photographed with their own
transparency (from `stellarium-data`), stand before a dawn, a clear evening, thin and heaped clouds (domes of
`@pmndrs/assets`), none of which the application was taught on. 1280×720, four frames, named as `real.py` reads them.
With `--grain 0` the plain plate is clean, as what a camera or a renderer has smoothed. The pictures belong to their
authors (see the packages' licence files): they are for measuring.
"""

from __future__ import annotations

import argparse
import base64
import re
import subprocess
from pathlib import Path

import cv2
import numpy as np
import OpenImageIO as oiio
from more_plates import HEIGHT, Array, case, read

WIDE, FOCAL = 1700, 1100.0  # pixels
LANDSCAPES = "usr/share/stellarium/landscapes"
SIDES = tuple(f"hurricane/hurricane{k}.png" for k in (5, 6, 7, 8, 1, 2, 3, 4))
MOUND = ("grossmugl/grossmugl_leeberg_crop11.25_2048.png",)
STANDS = {  # files, how much larger across and down, how far its foot lies below the frame's, the first column
    "firs": (SIDES, (2.0, 2.0), 250, 3400),
    "range": (SIDES, (2.0, 2.0), 300, 600),
    "mound": (MOUND, (2.0, 2.25), 662, 700),
    "mars": (("mars/mars.png",), (1.5, 1.5), 456, 300),
}
DOMES = {"dawn": (60, 30), "sunrise": (250, 35), "venice": (100, 35), "sky": (60, 30)}  # degrees round and up


def fetched(out: Path) -> Path:
    """Where the packages' files lie, got by name."""
    folder = out / "src"
    if not (folder / "package").exists():
        folder.mkdir(parents=True, exist_ok=True)
        subprocess.run(["apt-get", "download", "-q", "stellarium-data"], cwd=folder, check=True)
        for file in folder.glob("*.deb"):
            subprocess.run(["dpkg-deb", "-x", file.name, "."], cwd=folder, check=True)
        subprocess.run(["npm", "pack", "--silent", "@pmndrs/assets@1.7.0"], cwd=folder, check=True)
        subprocess.run(["tar", "xzf", next(folder.glob("*.tgz")).name], cwd=folder, check=True)
    return folder


def before(source: Path, name: str) -> Array:
    """(HEIGHT, WIDE, 4) premultiplied, scene-linear."""
    files, (across, down), below, left = STANDS[name]
    picture = np.concatenate([read(source / LANDSCAPES / file) for file in files], axis=1)
    larger = cv2.resize(picture, None, fx=across, fy=down, interpolation=cv2.INTER_CUBIC)
    foot = np.float32([[1, 0, -left], [0, 1, HEIGHT - len(larger) + below]])
    return np.clip(cv2.warpAffine(larger, foot, (WIDE, HEIGHT), flags=cv2.INTER_LINEAR), 0, 1)


def sky(source: Path, name: str, up: float = 0.0) -> Array:
    """What a lens sees of a dome, (HEIGHT, WIDE, 3), scene-linear; looking up by more degrees."""
    text = (source / f"package/hdri/{name}.exr.js").read_text()
    file = source / f"{name}.exr"
    file.write_bytes(base64.b64decode(re.search(r"base64,([A-Za-z0-9+/=]+)", text).group(1)))
    dome = oiio.ImageBuf(str(file)).get_pixels(oiio.FLOAT)[..., :3]
    dome = np.minimum(dome, np.percentile(dome[: len(dome) // 2], 99.5)).astype(np.float32)
    yaw, pitch = np.deg2rad(DOMES[name] + np.array((0, up)))
    y, x = np.mgrid[:HEIGHT, :WIDE].astype(np.float64)
    rays = np.stack([(x - WIDE / 2) / FOCAL, (y - HEIGHT / 2) / FOCAL, np.ones_like(x)], axis=-1)
    tilt = np.array([[1, 0, 0], [0, np.cos(pitch), -np.sin(pitch)], [0, np.sin(pitch), np.cos(pitch)]])
    round_ = np.array([[np.cos(yaw), 0, np.sin(yaw)], [0, 1, 0], [-np.sin(yaw), 0, np.cos(yaw)]])
    rays = rays @ (round_ @ tilt).T
    rays /= np.linalg.norm(rays, axis=-1, keepdims=True)
    u = (np.arctan2(rays[..., 0], rays[..., 2]) / (2 * np.pi) + 0.5) * dome.shape[1]
    v = (np.arcsin(np.clip(rays[..., 1], -1, 1)) / np.pi + 0.5) * dome.shape[0]
    seen = cv2.remap(dome, u.astype(np.float32), v.astype(np.float32), cv2.INTER_LINEAR, borderMode=cv2.BORDER_WRAP)
    return np.clip(seen * (0.7 / np.percentile(seen.max(2), 90)), 0, 0.97)


def main() -> None:
    arguments = argparse.ArgumentParser(description=__doc__.splitlines()[0])
    arguments.add_argument("out", type=Path)
    arguments.add_argument("--grain", type=float, default=0.011, help="of the plain plate, of a range of 1")
    wanted = arguments.parse_args()
    source, names = fetched(wanted.out), list(DOMES)
    for first, stands in enumerate(STANDS):
        picture = before(source, stands)
        for k, name in enumerate(names):
            new = sky(source, names[(k + 1) % len(names)], 6) * np.float32(0.8)
            case(wanted.out / f"{stands}_{name}", picture, sky(source, name), new, first * 10 + k + 1, wanted.grain)
            print(f"{stands}_{name}", flush=True)


if __name__ == "__main__":
    main()
