"""Fetches what `pictures.py` makes pictures of, from ordinary packages by name. Usage: fetch.py OUT

Needs apt-get, dpkg-deb and npm. The pictures belong to their authors (see the packages' licence files); they are for
teaching, never part of the application. Left out, since it is measured on them: the panoramas *guereins* and
*garching*, the trees birch, holm_oak, liberia-palm and tree336, the skies *city*, *park* and *sunset*.
"""

from __future__ import annotations

import base64
import re
import subprocess
import sys
import tempfile
from pathlib import Path

import cv2
import numpy as np
import OpenImageIO as oiio
from PySide6.QtCore import QDirIterator, QFile, QIODevice, QResource
from taken import names

PACKAGES = ("stellarium-data", "tuxpaint-stamps-default", "opencv-doc")
TAKEN = ("gcompris-qt-data", "lomiri-wallpapers-16.04", "mate-backgrounds", "plasma-workspace-wallpapers")
PANORAMAS = ("apartment", "bridge", "dawn", "esplanade", "forest", "hall", "lab", "lobby", "night", "sky", "studio",
             "sunrise", "venice", "warehouse", "workshop")  # fmt: skip
MEASURED_ON = ("birch", "holm_oak", "liberia-palm", "tree336")
NOT_PHOTOGRAPHED = ("symbols", "space", "military", "people")
PLANTS = ("plants/trees", "plants/flowers", "thyme", "lavender")
PHOTOGRAPHS = ("aloeL", "apple", "baboon", "blox", "board", "butterfly", "ela_original", "fruits", "left01", "left07",
               "messi5", "orange", "right05", "squirrel_cls", "stuff")  # fmt: skip
OTHERS = ("alphamat/input_images/plant", "text/scenetext01", "text/scenetext03", "text/scenetext05")
LEAST_PX, LONGEST_PX = 90, 960


def main(out: Path) -> None:
    for kind in ("grounds", "stamps", "trees", "panoramas", "photographs", "taken"):
        (out / kind).mkdir(parents=True, exist_ok=True)
    with tempfile.TemporaryDirectory() as folder:
        there = Path(folder)
        for package in (*PACKAGES, *TAKEN):
            subprocess.run(["apt-get", "download", "-q", package], cwd=there, check=True)
        for file in there.glob("*.deb"):
            subprocess.run(["dpkg-deb", "-x", str(file), str(there)], check=True)
        subprocess.run(["npm", "pack", "--silent", "@pmndrs/assets@1.7.0"], cwd=there, check=True)
        subprocess.run(["tar", "xzf", next(there.glob("*.tgz")).name], cwd=there, check=True)
        _landscapes(there / "usr/share/stellarium/landscapes", out)
        _stamps(there, out)
        _photographs(there / "usr/share/doc/opencv-doc/examples", out)
        _panoramas(there / "package/hdri", out)
        _taken(there / "usr/share", out / "taken")


def _landscapes(source: Path, out: Path) -> None:
    def read(name: str) -> np.ndarray:
        return cv2.imread(str(source / f"{name}.png"), cv2.IMREAD_UNCHANGED)

    parts = [read(f"hurricane/hurricane{k}") for k in range(1, 9)]
    grounds = {f"hurricane{k}": np.concatenate(parts[k : k + 2], 1) for k in range(0, 8, 2)}
    grounds["grossmugl"] = read("grossmugl/grossmugl_leeberg_crop11.25_2048")
    grounds["mars"], grounds["moon"] = read("mars/mars")[400:900], read("moon/apollo17")[300:660]
    grounds["ocean"] = np.concatenate([read(f"ocean/ocean{k}") for k in range(1, 9)], 1)
    for name, picture in grounds.items():
        cv2.imwrite(str(out / "grounds" / f"{name}.png"), picture)
    above = read("trees/trees_512")
    for name, picture in {"above": above, "above2": above[:256], "above3": above[:, :256]}.items():
        cv2.imwrite(str(out / "trees" / f"{name}.png"), picture)
    cv2.imwrite(str(out / "photographs/snow.png"), read("hurricane/hurricaneb")[..., :3])
    cv2.imwrite(str(out / "photographs/sea.png"), read("ocean/ocean9")[..., :3])


def _stamps(there: Path, out: Path) -> None:
    for file in sorted(there.glob("usr/share/tuxpaint/stamps/**/*.png")):
        name = file.as_posix().split("stamps/", 1)[1]
        picture = cv2.imread(str(file), cv2.IMREAD_UNCHANGED)
        drawn = "cartoon" in name or name.split("/")[0] in NOT_PHOTOGRAPHED
        if drawn or picture is None or picture.shape[2:] != (4,) or min(picture.shape[:2]) < LEAST_PX:
            continue
        if "plants/trees" in name and any(each in name for each in MEASURED_ON):
            continue
        kind = "trees" if any(each in name for each in PLANTS) else "stamps"
        cv2.imwrite(str(out / kind / name.replace("/", "_")), picture)


def _photographs(source: Path, out: Path) -> None:
    for name in [f"data/{each}" for each in PHOTOGRAPHS] + list(OTHERS):
        cv2.imwrite(str(out / "photographs" / f"{Path(name).name}.png"), cv2.imread(str(source / f"{name}.jpg")))


def _panoramas(source: Path, out: Path) -> None:
    for name in PANORAMAS:
        script = (source / f"{name}.exr.js").read_text()
        found = re.search(r"base64,([A-Za-z0-9+/=]+)", script)
        assert found is not None
        file = source / f"{name}.exr"
        file.write_bytes(base64.b64decode(found.group(1)))
        light = oiio.ImageBuf(str(file)).get_pixels("float")[..., :3]
        np.savez(out / "panoramas" / f"{name}.npz", light=light.astype(np.float32))


def _taken(share: Path, out: Path) -> None:
    """The photographs that `taken.py` has labels of, by package and name."""
    wanted = set(names())

    def keep(name: str, content: bytes) -> None:
        if name not in wanted:
            return
        picture = cv2.imdecode(np.frombuffer(content, np.uint8), cv2.IMREAD_COLOR)
        size = LONGEST_PX / max(picture.shape[:2])
        if size < 1:
            picture = cv2.resize(picture, None, fx=size, fy=size, interpolation=cv2.INTER_AREA)
        cv2.imwrite(str(out / f"{name}.png"), picture)

    for file in sorted((share / "backgrounds").rglob("*.jpg")):
        package = "mate-backgrounds" if "mate" in file.parts else "lomiri-wallpapers-16.04"
        keep(f"{package}__{file.stem}", file.read_bytes())
    for folder in sorted((share / "wallpapers").iterdir()):
        found = [file for file in folder.rglob("*") if file.parent.name == "images" and file.suffix in (".jpg", ".png")]
        if found:
            largest = max(found, key=lambda file: file.stat().st_size)
            keep(f"plasma-workspace-wallpapers__{folder.name}", largest.read_bytes())
    for file in sorted((share / "gcompris-qt/rcc").glob("*.rcc")):
        QResource.registerResource(str(file))
    inside = QDirIterator(":/gcompris", QDirIterator.IteratorFlag.Subdirectories)
    while inside.hasNext():
        path = inside.next()
        if path.endswith((".jpg", ".jpeg", ".webp", ".png")):
            stored = QFile(path)
            stored.open(QIODevice.OpenModeFlag.ReadOnly)
            name = path[2:].replace("/", "_").replace("gcompris_src_activities_", "").rpartition(".")[0]
            keep(f"gcompris-qt-data__{name}", bytes(stored.readAll()))


if __name__ == "__main__":
    main(Path(sys.argv[1]))
