"""What a finish costs at 1920×1080, in copies of a float RGBA frame; how exact a LUT and a glow are; how well the
plate's own vignette is told on photographs.

Photographs are those that scikit-image ships, enlarged to the frame or panned over.
"""

from __future__ import annotations

import tempfile
import time
from collections.abc import Callable
from pathlib import Path

import cv2
import numpy as np
import PyOpenColorIO as ocio
from numpy.typing import NDArray
from skimage import data

from zonal_mantle.api import new
from zonal_mantle.comp.finish_plan import Film, FinishPlan, LutPlan
from zonal_mantle.comp.finisher import finished
from zonal_mantle.finish.errors import FinishError
from zonal_mantle.finish.frame import resampled
from zonal_mantle.finish.glow import GlowNumbers, glowing
from zonal_mantle.finish.look import weakened
from zonal_mantle.finish.lut import through_lut
from zonal_mantle.finish.scopes import KINDS, scope_of
from zonal_mantle.finish.vignette import VignetteNumbers
from zonal_mantle.match.grade import tone_at
from zonal_mantle.match.grain import unit_grain
from zonal_mantle.match.tone import apply_tone
from zonal_mantle.media.curves import coded, srgb_decode, srgb_encode
from zonal_mantle.media.stamps import stamp_of, used_file
from zonal_mantle.media.still import write_still
from zonal_mantle.shot import GrainModel, Keyed, ToneMatch
from zonal_mantle.shot.lock import Lock, LockFrame

Array = NDArray[np.float32]
SIZE = (1920, 1080)


def photograph(name: str, size: tuple[int, int] | None = None) -> Array:
    codes = getattr(data, name)()
    codes = codes if codes.ndim == 3 else np.repeat(codes[..., None], 3, axis=2)
    linear = srgb_decode(codes[..., :3].astype(np.float64) / 255).astype(np.float32)
    if size is not None:
        linear = cv2.resize(linear, size, interpolation=cv2.INTER_CUBIC)
    return np.dstack([linear, np.ones(linear.shape[:2], np.float32)])


def milliseconds(work: Callable[[], object], runs: int = 7) -> float:
    work()
    best = []
    for _ in range(runs):
        start = time.perf_counter()
        work()
        best.append(time.perf_counter() - start)
    return 1000 * min(best)


def table(folder: Path) -> Path:
    """A table of 33 points a side whose channels lean on one another."""
    at = np.linspace(0, 1, 33)
    b, g, r = np.meshgrid(at, at, at, indexing="ij")
    rows = np.clip(np.stack([r**1.2, 0.8 * g + 0.2 * r, b**0.7], -1), 0, 1).reshape(-1, 3)
    path = folder / "table.cube"
    path.write_text("LUT_3D_SIZE 33\n" + "".join(f"{x:.7f} {y:.7f} {z:.7f}\n" for x, y, z in rows))
    return path


def costs(folder: Path) -> None:
    picture = photograph("coffee", SIZE)
    spare = np.empty_like(picture)
    copy = milliseconds(lambda: np.copyto(spare, picture), 15)
    print(f"One copy of a float RGBA frame of {SIZE[0]}×{SIZE[1]}: {copy:.1f} ms")
    path = str(table(folder))
    lut = LutPlan(used_file(path), "sRGB", 0.7)
    glow = GlowNumbers(0.6, (0.3,) * 3, 24.0, (0.2, 0.06, 0.02), 8.0)
    vignette = VignetteNumbers((0.5, 0.5), 16 / 9, False, -0.7, 0.3, 1.0)
    model = GrainModel()
    rows: dict[str, Callable[[], object]] = {
        "LUT, sRGB": lambda: through_lut(picture, path, stamp_of(path), "sRGB", 0.7),
        "LUT, ACEScct": lambda: through_lut(picture, path, stamp_of(path), "ACEScct", 0.7),
        "glow and halation": lambda: glowing(picture, glow),
        "resampled to 1280×720": lambda: resampled(picture, (0, 0, *SIZE), (1280, 720)),
    }
    for name, work in rows.items():
        print(f"{name:36s}{milliseconds(work) / copy:6.1f} copies")
    film = Film(model, None, 0.5, 1.0, 1, 1001, (1.0,))
    whole = FinishPlan(lut=lut, glow=glow, vignette=vignette, film=film)
    own = np.empty_like(picture)
    alpha = np.ones(picture.shape[:2], np.float32)

    def all_of_it() -> None:
        np.copyto(own, picture)  # it is done in place; this copy is taken off again
        finished(own, whole, 1.0, lambda w: alpha, lambda f: unit_grain(model, SIZE, 1, 1001))

    cost = milliseconds(all_of_it, 11) - copy
    print(f"{'LUT, glow, vignette and grain':36s}{cost / copy:6.1f} copies (25 wanted)")
    codes = coded(picture)
    for kind in KINDS:
        cost = milliseconds(lambda kind=kind: scope_of(codes, kind))
        print(f"{'scope: ' + kind:36s}{cost / copy:6.1f} copies (4 wanted)")
    print(f"{'coded values for scopes':36s}{milliseconds(lambda: coded(picture)) / copy:6.1f} copies")
    tone = ToneMatch(contrast=Keyed(constant=1.2), saturation=Keyed(constant=0.8), exposure_stops=Keyed(constant=0.2))
    plain, half = tone_at(tone), tone_at(weakened(tone, 0.5))
    costs_of = [milliseconds(lambda each=each: apply_tone(spare, each)) for each in (plain, half)]
    print(f"{'a look against its own tone':36s}{costs_of[1] / costs_of[0]:6.2f} (1 wanted)")


def exactness(folder: Path) -> None:
    path = str(table(folder))
    transform = ocio.FileTransform(path, interpolation=ocio.INTERP_TETRAHEDRAL)
    processor = ocio.Config.CreateRaw().getProcessor(transform).getDefaultCPUProcessor()
    for name in ("coffee", "astronaut", "rocket", "chelsea"):
        picture = photograph(name)
        wanted = srgb_encode(picture[..., :3]).astype(np.float32)
        processor.applyRGB(wanted)
        out = srgb_encode(through_lut(picture, path, stamp_of(path), "sRGB")[..., :3])
        glow = glowing(picture, GlowNumbers(0.5, (0.4,) * 3, 40.0, (0.3, 0.1, 0.03), 9.0))
        energy = glow[..., :3].sum(axis=(0, 1), dtype=float) / picture[..., :3].sum(axis=(0, 1), dtype=float) - 1
        print(
            f"{name:12s} LUT against OpenColorIO {np.abs(out - wanted).max() * 1023:.3f} of 1023 (1 wanted);"
            f" light of a glow {100 * np.abs(energy).max():.4f} % (0.1 wanted)"
        )


def falloffs() -> None:
    """The plate's own vignette: photographs panned over, with a known falloff, noise and 8 bits."""
    rng = np.random.default_rng(5)
    inside = total = 0
    for name in ("coffee", "astronaut", "rocket", "chelsea", "immunohistochemistry", "gravel"):
        picture = photograph(name)[..., :3]
        height, width = min(240, picture.shape[0]), min(330, picture.shape[1] - 120)
        for true in (-1.2, -0.6, -0.2, 0.0):
            step = (picture.shape[1] - width) // 7
            yy, xx = np.mgrid[:height, :width]
            r2 = ((xx + 0.5 - width / 2) ** 2 + (yy + 0.5 - height / 2) ** 2) / (width**2 + height**2) * 4
            dark = 2.0 ** (true * (0.7 * r2 + 0.3 * r2 * r2))
            with tempfile.TemporaryDirectory() as folder:
                for n in range(8):
                    part = picture[:height, n * step : n * step + width] * dark[..., None] * 2 ** rng.normal(0, 0.05)
                    codes = np.clip(srgb_encode(part) + rng.normal(0, 0.012, part.shape), 0, 1)
                    write_still(Path(folder) / f"p.{1001 + n}.png", codes.astype(np.float32), "uint8")
                session = new(Path(folder) / "p.%04d.png")
                entries = tuple(
                    LockFrame(frame=1001 + n, homography=(1, 0, -float(step * n), 0, 1, 0, 0, 0, 1)) for n in range(8)
                )
                lock = Lock(id="lock", name="Pan", kind="plane", reference_frame=1001, solved=entries)
                session.shot = session.shot.with_lock(lock)
                try:
                    found = session.plate_vignette()
                except FinishError as problem:
                    print(f"{name:22s}{true:6.2f}  {problem}")
                    continue
                total += 1
                inside += abs(found.stops - true) <= 2 * found.give
                print(f"{name:22s}{true:6.2f}  told {found.stops:+.2f} ± {found.give:.2f} stops")
    print(f"Within two standard deviations: {inside} of {total}")


def main() -> None:
    with tempfile.TemporaryDirectory() as folder:
        costs(Path(folder))
        exactness(Path(folder))
    falloffs()


if __name__ == "__main__":
    main()
