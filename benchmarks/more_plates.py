"""Makes moving plates with truth of other pictures than `real.py`'s set. Usage: more_plates.py OUT

Needs apt-get, dpkg-deb and unzip. Photographed trees, tree lines, lorries, people and a fence with their own
transparency (from `torcs-data`) stand before clear, hazy, broken and overcast skies (from it and `trigger-rally-data`),
none of which the application was taught on. 1280×720, four frames, 8-bit, grain 1.1 %; the files of a case are named as
`real.py` reads them. The pictures belong to their authors (see the packages' licence files): they are for measuring.
"""

from __future__ import annotations

import argparse
import subprocess
from pathlib import Path

import av
import cv2
import numpy as np
from numpy.typing import NDArray

from zonal_mantle.media.curves import srgb_decode, srgb_encode

PACKAGES = ("torcs-data", "trigger-rally-data")
WIDTH, HEIGHT, FRAMES, LONG = 1280, 720, 4, 2000
TRACKS, PAINTED = "usr/share/games/torcs/tracks", "rally/textures/sky"
SKIES = {  # file, and which part of it is sky: top, foot, left, right
    "cumulus": (f"{PAINTED}/cloudy2.jpg", (0.0, 1.0, 0.0, 1.0)),
    "broken": (f"{PAINTED}/cloudy3.jpg", (0.0, 1.0, 0.0, 1.0)),
    "haze": (f"{TRACKS}/road/wheel-1/background.png", (0.0, 0.48, 0.0, 1.0)),
    "storm": (f"{TRACKS}/road/ruudskogen/background.png", (0.0, 0.42, 0.0, 0.7)),
    "grey": (f"{PAINTED}/overcast.jpg", (0.0, 1.0, 0.0, 1.0)),
    "cirrus": (f"{TRACKS}/road/e-track-1/background.png", (0.0, 0.39, 0.0, 0.6)),
}
LINE, THIN_LINE = f"{TRACKS}/road/wheel-2/treeline.png", f"{TRACKS}/road/e-track-6/treeline_n.png"
MAPLE, BARE = f"{TRACKS}/road/e-track-6/tree_maple_n.png", f"{TRACKS}/dirt/dirt-2/tree10_n.png"
TREES = (
    (MAPLE, 1.0), (BARE, 0.9), (f"{TRACKS}/road/corkscrew/treeSC2_n.png", 0.8),
    (f"{TRACKS}/road/e-track-6/tree_apple_n.png", 1.0), (f"{TRACKS}/dirt/dirt-3/tree_gum2_arbor_n.png", 1.0),
    (MAPLE, 0.8), (BARE, 1.0),
)  # fmt: skip
Array = NDArray[np.float32]


def fetched(out: Path) -> Path:
    """Where the packages' files lie, got by name."""
    folder = out / "src"
    if not (folder / "rally").exists():
        folder.mkdir(parents=True, exist_ok=True)
        subprocess.run(["apt-get", "download", "-q", *PACKAGES], cwd=folder, check=True)
        for file in folder.glob("*.deb"):
            subprocess.run(["dpkg-deb", "-x", file.name, "."], cwd=folder, check=True)
        packed = "usr/share/games/trigger-rally/data.zip"
        subprocess.run(["unzip", "-qo", packed, "-d", "rally"], cwd=folder, check=True)
    return folder


def scaled(picture: Array, by: float) -> Array:
    how = cv2.INTER_AREA if by < 1 else cv2.INTER_CUBIC
    return np.clip(cv2.resize(picture, None, fx=by, fy=by, interpolation=how), 0, 1)


def read(file: Path, by: float = 1.0) -> Array:
    """(h, w, 4) premultiplied, scene-linear."""
    codes = cv2.imread(str(file), cv2.IMREAD_UNCHANGED).astype(np.float32) / 255
    if codes.shape[2] == 3:
        codes = np.dstack([codes, np.ones_like(codes[..., 0])])
    alpha = codes[..., 3:]
    return scaled(np.concatenate([srgb_decode(codes[..., 2::-1]) * alpha, alpha], 2).astype(np.float32), by)


def laid(over: Array, picture: Array, left: int, top: int) -> None:
    part = over[top : top + len(picture), left : left + picture.shape[1]]
    seen = picture[: len(part), : part.shape[1]]
    part[:] = seen + part * (1 - seen[..., 3:])


def ground(top: int) -> Array:
    """A meadow from a row on, nothing above it."""
    out = np.zeros((HEIGHT, LONG, 4), np.float32)
    rough = np.random.default_rng(3).normal(0, 1, (HEIGHT - top, LONG)).astype(np.float32)
    rough = cv2.GaussianBlur(rough, (0, 0), 1.5)
    light = np.array((0.12, 0.14, 0.05), np.float32) * np.exp(0.35 * rough / rough.std())[..., None]
    out[top:] = np.dstack([np.clip(light, 0, 1), np.ones_like(rough)])
    return out


def wood(source: Path) -> Array:
    out, line = ground(620), read(source / LINE, 1.2)
    for left in (0, 1150):
        laid(out, line[: int(len(line) * 0.97)], left, 660 - len(line))
    return out


def grove(source: Path) -> Array:
    out, line = ground(560), read(source / THIN_LINE, 1.2)
    for left in (0, 1200):
        laid(out, line[:-30], left, 590 - len(line))
    left = 30
    for name, by in TREES:
        tree = read(source / name, by)
        laid(out, tree, left, 600 - len(tree))
        left += int(tree.shape[1] * 0.75)
    return out


def paddock(source: Path) -> Array:
    out, line = ground(520), read(source / TRACKS / "dirt/dirt-2/tree18_n.png")
    for left in (0, 1000):
        laid(out, line[:-10], left, 540 - len(line))
    lorries = read(source / TRACKS / "road/corkscrew/treeRNS3.png", 2.4)
    high = len(lorries) // 4
    for k, left in enumerate((60, 500, 1150)):
        laid(out, lorries[high * k : high * k + high], left, 600 - high)
    people = read(source / TRACKS / "dirt/dirt-2/treeUGLIES02_n.png", 1.9)
    people = people[len(people) // 2 :]
    laid(out, people, 980, 330)
    laid(out, people, 200, 400)
    fence = read(source / TRACKS / "road/e-track-6/treefc_n.png", 2.2)
    laid(out, fence, 700, 640 - len(fence))
    fir = scaled(read(source / TRACKS / "road/e-track-6/tree-pine1_n.png")[:256, :256], 1.6)
    laid(out, fir, 520, 560 - len(fir))
    return out


def sky(source: Path, name: str) -> Array:
    file, (top, foot, left, right) = SKIES[name]
    picture = read(source / file)[..., :3]
    h, w = picture.shape[:2]
    picture = picture[int(top * h) : int(foot * h), int(left * w) : int(right * w)]
    picture = scaled(picture, max(760 / len(picture), 1500 / picture.shape[1]))
    return np.clip(picture * (0.72 / np.percentile(picture.max(2), 90)), 0, 0.97)


def grained(codes: Array, amount: float, seed: int) -> Array:
    grain = np.random.default_rng(seed).normal(0, 1, codes.shape).astype(np.float32)
    grain = cv2.GaussianBlur(grain, (0, 0), 0.6)
    return codes + amount * grain / grain.std()


def moved(picture: Array, by: float) -> Array:
    step = np.array([[1, 0, -by], [0, 1, 0]], np.float32)
    edge = cv2.BORDER_REFLECT if picture.shape[2] == 3 else cv2.BORDER_CONSTANT
    return cv2.warpAffine(picture, step, (WIDTH, HEIGHT), flags=cv2.INTER_CUBIC, borderMode=edge)


def case(folder: Path, before: Array, old: Array, new: Array, seed: int, grain: float = 0.011) -> None:
    folder.mkdir(parents=True, exist_ok=True)

    def write(kind: str, values: Array, most: int = 255) -> Path:
        whole = np.clip(values[..., ::-1] if values.ndim == 3 else values, 0, 1) * most + 0.5
        file = folder / f"{kind}.{1001 + frame}.png"
        cv2.imwrite(str(file), whole.astype(np.uint8 if most == 255 else np.uint16))
        return file

    with av.open(str(folder / "plate_crf28.mp4"), "w") as video:
        stream = video.add_stream("libx264", 24)
        stream.width, stream.height, stream.pix_fmt, stream.options = WIDTH, HEIGHT, "yuv420p", {"crf": "28"}
        for frame in range(FRAMES):
            shift = 2.1 * frame + 3 * np.sin(frame * 0.8) + 60 * seed % 300
            stands = moved(before, shift)
            alpha, light = np.clip(stands[..., 3:], 0, 1), np.clip(stands[..., :3], 0, None)
            behind, fresh = (moved(each, shift * 0.9 % 100).clip(0, 1) for each in (old, new))
            clean = srgb_encode(np.clip(light + behind * (1 - alpha), 0, 1))
            file = write("plate", grained(clean, grain, seed * 100 + frame))
            write("plate_noisy", grained(clean, 0.03, seed * 100 + frame))
            write("alpha", alpha[..., 0], 65535)
            write("sky", srgb_encode(behind))
            write("new", srgb_encode(fresh))
            write("want", srgb_encode(np.clip(light + fresh * (1 - alpha), 0, 1)))
            codes = cv2.imread(str(file))
            cv2.imwrite(str(folder / f"plate_jpeg.{1001 + frame}.jpg"), codes, [cv2.IMWRITE_JPEG_QUALITY, 60])
            video.mux(stream.encode(av.VideoFrame.from_ndarray(np.ascontiguousarray(codes[..., ::-1]), "rgb24")))
        video.mux(stream.encode(None))


def main() -> None:
    arguments = argparse.ArgumentParser(description=__doc__.splitlines()[0])
    arguments.add_argument("out", type=Path)
    out = arguments.parse_args().out
    source, names = fetched(out), list(SKIES)
    for first, make in enumerate((wood, grove, paddock)):
        before = make(source)
        for k, name in enumerate(names):
            new = sky(source, names[(k + 1) % len(names)]) * np.float32(0.8)
            case(out / f"{make.__name__}_{name}", before, sky(source, name), new, first * 10 + k + 1)
            print(f"{make.__name__}_{name}", flush=True)


if __name__ == "__main__":
    main()
