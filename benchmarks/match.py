"""What the match's fits are worth on photographs with a known change, air on textures, the blind look on the demo, and
what it costs. Usage: match.py [DEMO]

Plates are made from photographs that scikit-image ships: toned, out of focus, seen over a shutter, grained; the element
is the right half as it was, the aim the left one. DEMO is a folder written by `zonal-mantle demo --write … --finished`.
"""

from __future__ import annotations

import sys
import tempfile
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any

import cv2
import numpy as np
from numpy.typing import NDArray
from scipy.optimize import minimize
from skimage import data

from zonal_mantle.api import Session, new, open_shot
from zonal_mantle.comp import compose
from zonal_mantle.match.air import transmittances
from zonal_mantle.match.air_fit import AirPart, fit_air, without_noise
from zonal_mantle.match.compare import delta_e_2000, lab
from zonal_mantle.match.errors import MatchError
from zonal_mantle.match.grade import grade
from zonal_mantle.match.kindred import fit_kindred
from zonal_mantle.match.lens import defocused
from zonal_mantle.match.tone_fit import log_codes
from zonal_mantle.media import open_source
from zonal_mantle.media.curves import srgb_decode, srgb_encode
from zonal_mantle.media.picture import picture_of
from zonal_mantle.media.reader import read_picture
from zonal_mantle.media.still import write_still
from zonal_mantle.shot import (
    Aim,
    AimArea,
    AirMatch,
    Cdl,
    GrainMatch,
    Keyed,
    LensMatch,
    Match,
    ToneMatch,
    WrapMatch,
    Zone,
)

Array = NDArray[np.float32]
PHOTOGRAPHS = ("astronaut", "coffee", "chelsea", "rocket")
TEXTURES = ("grass", "gravel", "brick")
FRAMES, PATCH = 5, 32


def k(value: float) -> Keyed:
    return Keyed(constant=float(value))


def photograph(name: str) -> Array:
    codes = getattr(data, name)().astype(np.float64) / 255
    if codes.ndim == 2:
        codes = codes[..., None] * np.array([0.95, 1.0, 0.85])
    height, width = (n - n % 2 for n in codes.shape[:2])
    return srgb_decode(codes[:height, :width, :3]).astype(np.float32)


def tone(rng: np.random.Generator) -> Match:
    """A random tone within an artist's reach."""
    cdl = Cdl(
        slope=tuple(k(v) for v in rng.uniform(0.93, 1.08, 3)), offset=(k(rng.uniform(0, 0.01)),) * 3,
        saturation=k(rng.uniform(0.85, 1.15)),
    )  # fmt: skip
    parts = {"exposure_stops": k(rng.uniform(-0.5, 0.5)), "temperature_k": k(rng.uniform(5000, 8500))}
    return Match(tone=ToneMatch(contrast=k(rng.uniform(0.9, 1.12)), cdl=cdl, **parts))


def filmed(picture: Array, kind: str, folder: Path, rng: np.random.Generator) -> tuple[Session, Zone, Array]:
    """A plate with a change, the session with the element hung, and the middle frame without its grain."""
    height, width = picture.shape[:2]
    wide, pan = int(width * 0.8) // 2 * 2, 13.0 if kind == "shutter" else 3.0
    base = grade(picture, tone(rng)) if kind in ("tone", "all") else picture
    if kind in ("focus", "all"):
        rgba = np.dstack([base, np.ones(base.shape[:2], np.float32)])
        base = defocused(rgba, 3.3 if kind == "focus" else 1.4)[..., :3]
    noise, truth = 0.015 if kind in ("grain", "all") else 0.003, base
    x = Keyed()
    times = (np.arange(40) + 0.5) / 40 - 0.5 if kind == "shutter" else np.zeros(1)
    for index in range(FRAMES):
        left = (width - wide) / 2 + (index - FRAMES // 2) * pan
        seen = np.mean(
            [
                cv2.warpAffine(
                    base, np.float32([[1, 0, -(left + 0.5 * pan * t)], [0, 1, 0]]), (wide, height),
                    flags=cv2.INTER_LINEAR if kind == "shutter" else cv2.INTER_CUBIC, borderMode=cv2.BORDER_REFLECT,
                )
                for t in times
            ],
            axis=0,
        )  # fmt: skip
        seen = np.maximum(seen, 0).astype(np.float32)
        truth = seen if index == FRAMES // 2 else truth
        grain = cv2.GaussianBlur(rng.standard_normal(seen.shape).astype(np.float32), (0, 0), 0.55)
        codes = np.clip(srgb_encode(seen) + noise * grain / grain.std(), 0, 1)
        write_still(folder / f"plate.{1001 + index}.png", codes.astype(np.float32), "uint8")
        x = x.with_key(1001 + index, 0.75 * width - left - wide / 2, "straight")
    write_still(folder / "element.exr", np.ascontiguousarray(picture[:, width // 2 :]), "float")
    session = new(folder / "plate.1001.png")
    zone = session.add_painting(folder / "element.exr", 60.0)
    middle = (width - wide) / 2
    box = (2.0, 2.0, width / 2 - middle - 20, height - 2.0)
    aim = Aim(areas=(AimArea(box=box, frame=1001 + FRAMES // 2),))
    zone = zone.but(placement=zone.placement.but(x=x), match=Match(aim=aim, air=AirMatch(on=False)))
    session.shot = session.shot.with_zone(zone)
    return session, zone, truth


def off(session: Session, zone: Zone, truth: Array) -> tuple[float, float]:
    """Root mean square of 255 and mean ΔE2000 over what was added, without grain."""
    frame = 1001 + FRAMES // 2
    now = session.shot.zone(zone.id)
    bare = session.shot.with_zone(now.but(match=now.match.but(grain=GrainMatch())))
    out = compose(bare, frame, session.store)[..., :3]
    mask = compose(session.shot, frame, session.store, 1.0, [now.but(match=Match(on=False))])[..., 3] > 0.99
    mask[:, :2] = mask[:, -2:] = False
    one, two = (np.clip(part[mask], 0, 1) for part in (out, truth))
    away = srgb_encode(one) - srgb_encode(two)
    return float(np.sqrt((away**2).mean()) * 255), float(delta_e_2000(lab(one), lab(two)).mean())


def on_photographs() -> None:
    print(
        "on photographs: of 255 rms (ΔE2000 mean), as it was -> fitted; "
        "wanted: tone 4 (1.5), focus and shutter 2.5, all 5"
    )
    for kind, part, names in (
        ("focus", "lens", PHOTOGRAPHS), ("shutter", "lens", PHOTOGRAPHS), ("tone", "tone", PHOTOGRAPHS + TEXTURES),
        ("all", None, PHOTOGRAPHS + TEXTURES),
    ):  # fmt: skip
        for name in names:
            rng = np.random.default_rng(11)
            with tempfile.TemporaryDirectory() as folder:
                session, zone, truth = filmed(photograph(name), kind, Path(folder), rng)
                before = off(session, zone, truth)
                try:
                    words = session.fit(zone.id, part).words if part else _all(session, zone)  # type: ignore[arg-type]
                except MatchError as problem:
                    words = f"REFUSED: {problem}"
                after = off(session, zone, truth)
            figures = f"{before[0]:5.1f} ({before[1]:4.1f}) -> {after[0]:5.1f} ({after[1]:4.1f})"
            print(f"  {kind:8} {name:10} {figures}  {words}", flush=True)


def on_halves() -> None:
    """A tone on one half, across and down, found from the other: of what one scene shows, little is in both."""
    rows, refused = [], 0
    for name in PHOTOGRAPHS + TEXTURES:
        picture = photograph(name)
        height, width = picture.shape[:2]
        for first, second in (
            (np.s_[:, : width // 2], np.s_[:, width // 2 :]), (np.s_[: height // 2], np.s_[height // 2 :])
        ):  # fmt: skip
            for seed in range(3):
                done = grade(picture, tone(np.random.default_rng(seed)))
                own, aim = (
                    (np.ascontiguousarray(each), np.ones(each.shape[:2], bool))
                    for each in (picture[second], done[first])
                )
                codes = log_codes(picture[second])
                try:
                    matrix = np.reshape(fit_kindred([own], [aim]).matrix, (3, 4))
                except ValueError:
                    matrix, refused = np.eye(3, 4), refused + 1
                away = codes @ matrix[:, :3].T + matrix[:, 3] - log_codes(done[second])
                before = codes - log_codes(done[second])
                rows.append([17.52 * float(np.sqrt((each**2).mean())) for each in (before, away)])
    before, after = np.array(rows).T
    print(
        f"tones on {len(rows)} halves: {before.mean():.2f} -> {after.mean():.2f} stops rms in the mean; "
        f"{np.mean(after > before + 0.05):.0%} are worse than with nothing fitted, {refused} are refused",
        flush=True,
    )


def _all(session: Session, zone: Zone) -> str:
    found = session.fit_all([zone.id])
    return "; ".join(each.words for each in found.fitted)


def of_grain() -> None:
    print("grain: deviation measured to true at three levels, and autocorrelation off at lags 1 and 2")
    for name in PHOTOGRAPHS:
        for shift in (0.0, 6.5):
            rng = np.random.default_rng(3)
            codes = srgb_encode(photograph(name)).astype(np.float32)
            frames = []
            for index in range(4):
                way = np.float32([[1, 0, -shift * index], [0, 1, 0]])
                seen = cv2.warpAffine(
                    codes, way, codes.shape[1::-1], flags=cv2.INTER_CUBIC, borderMode=cv2.BORDER_REFLECT
                )
                noise = cv2.GaussianBlur(rng.standard_normal(seen.shape).astype(np.float32), (0, 0), 0.6)
                noise /= noise.std()
                frames.append((seen + noise * 0.02 * (0.5 + 2 * seen * (1 - seen))).astype(np.float32))
            from zonal_mantle.match.noise import measure_noise

            found = measure_noise(frames, [None] * len(frames))
            if found is None:
                print(f"  {name:10} {shift:4.1f} px a frame: not told")
                continue
            levels = (0.3, 0.5, 0.7)
            told = [np.interp(v, found.model.levels, [row[1] for row in found.model.deviation]) for v in levels]
            ratio = [t / (0.02 * (0.5 + 2 * v * (1 - v))) for t, v in zip(told, levels)]
            table, g = np.array(found.model.spatial[1]).reshape(5, 5), noise[..., 1]
            lags = [table[2, 2 + n] - float((g[:, n:] * g[:, :-n]).mean() / (g**2).mean()) for n in (1, 2)]
            print(
                f"  {name:10} {shift:4.1f} px a frame: {ratio[0]:.2f} {ratio[1]:.2f} {ratio[2]:.2f}; "
                f"{lags[0]:+.3f} {lags[1]:+.3f}",
                flush=True,
            )


def of_air() -> None:
    rng = np.random.default_rng(4)
    errors, colours, held, refused = [], [], 0, 0
    for _ in range(40):
        name = TEXTURES[int(rng.integers(len(TEXTURES)))]
        ground = photograph(name) * np.array([0.3, 0.36, 0.24], np.float32)
        visibility = float(rng.choice([5e3, 15e3, 40e3]))
        light, exponent = np.array([0.6, 0.66, 0.72]) * rng.uniform(0.6, 1.2), float(rng.uniform(0, 1.3))
        parts = []
        for share in np.linspace(0.05, 0.32, int(rng.integers(2, 4))):
            y, x = rng.integers(0, 380, 2)
            t = np.array(transmittances(float(share) * visibility, visibility, exponent))
            codes = srgb_encode(ground[y : y + 110, x : x + 130] * t + light * (1 - t))
            codes = np.round(np.clip(codes + rng.normal(0, 0.006, codes.shape), 0, 1) * 255) / 255
            seen = without_noise(srgb_decode(codes).astype(np.float32))
            parts.append(AirPart(seen.reshape(-1, 3), float(share) * visibility))
        try:
            found = fit_air(parts)
        except ValueError:
            refused += 1
            continue
        errors.append(abs(found.visibility_m / visibility - 1))
        colours.append(float(delta_e_2000(lab(np.array(found.airlight)), lab(light))))
        held += found.interval_m[0] <= visibility <= found.interval_m[1]
    print(
        f"air on textures, 40 draws: visibility within 10 % in {np.mean(np.array(errors) < 0.1):.0%}, off by "
        f"{np.median(errors):.1%} in the middle and {np.max(errors):.0%} at worst; airlight within 2 ΔE in "
        f"{np.mean(np.array(colours) < 2):.0%}; the interval holds the truth in "
        f"{held / len(errors):.0%}; {refused} refused",
        flush=True,
    )


# --- the blind look ---
def statistics(patches: NDArray) -> NDArray[np.float64]:
    """Of patches (n, PATCH, PATCH, 3) of codes: noise by channel, gradient energy at three scales, their ratios."""
    rows = []
    for patch in patches:
        rough = patch - cv2.GaussianBlur(patch, (0, 0), 1.0)
        noise = np.log(np.median(np.abs(rough), axis=(0, 1)) + 1e-5)
        grey, energy = patch.mean(axis=2), []
        for scale in (1, 2, 4):
            small = cv2.resize(grey, None, fx=1 / scale, fy=1 / scale, interpolation=cv2.INTER_AREA)
            gy, gx = np.gradient(small)
            energy.append(np.log(float((gx**2 + gy**2).mean()) + 1e-8))
        rows.append([*noise, *energy, energy[0] - energy[1], energy[1] - energy[2]])
    return np.array(rows)


def auc(train: tuple[NDArray, NDArray], test: tuple[NDArray, NDArray]) -> float:
    """Area under the curve of a logistic classifier (ridge) of ours (first) from the generator's, on unseen patches."""
    mean, sd = np.concatenate(train).mean(axis=0), np.concatenate(train).std(axis=0) + 1e-9
    (a, b), (c, d) = ([(part - mean) / sd for part in pair] for pair in (train, test))
    x, y = np.concatenate([a, b]), np.concatenate([np.ones(len(a)), -np.ones(len(b))])

    def loss(w: NDArray) -> float:
        return float(np.logaddexp(0, -y * (x @ w[:-1] + w[-1])).mean() + 1e-3 * (w[:-1] ** 2).sum())

    w = minimize(loss, np.zeros(x.shape[1] + 1), method="BFGS").x
    ours, theirs = c @ w[:-1], d @ w[:-1]
    return float((ours[:, None] > theirs[None]).mean() + 0.5 * (ours[:, None] == theirs[None]).mean())


def delivered(picture: Array, folder: Path) -> Array:
    """A picture as the generator's own files hold it: half floats, DWAB, which takes some of a grain away; of one that
    was measured on such files, once more."""
    path = folder / "delivered.1.exr"
    attributes = {"oiio:ColorSpace": "lin_rec709"}
    write_still(path, np.ascontiguousarray(picture), "half", "dwab:190", attributes)
    stamp = open_source(path, "delivered")
    pixels = read_picture(picture_of(stamp, stamp.start))[..., :3].copy()
    path.unlink()
    return pixels


def blind_look(demo: Path) -> None:
    session = open_shot(next(demo.glob("*.shot.json")))
    finished = open_source(next(iter(sorted((demo / "truth" / "finished").glob("*.exr")))), "finished")
    alpha = open_source(next(iter(sorted((demo / "truth" / "alpha").glob("*.png")))), "alpha")
    frames = list(session.shot.frames)[:: max(1, len(session.shot.frames) // 6)]

    place = tempfile.mkdtemp()

    def patches(again: bool) -> tuple[list[NDArray], list[NDArray]]:
        ours, theirs = [], []
        for frame in frames:
            made = session.frame(frame)[..., :3]
            out = srgb_encode(delivered(made, Path(place)) if again else made).astype(np.float32)
            truth = srgb_encode(read_picture(picture_of(finished, frame))[..., :3]).astype(np.float32)
            kept = srgb_encode(read_picture(picture_of(alpha, frame))[..., 0])  # it is read as a picture
            for y in range(0, out.shape[0] - PATCH, PATCH):
                for x in range(0, out.shape[1] - PATCH, PATCH):
                    at = np.s_[y : y + PATCH, x : x + PATCH]
                    if kept[at].max() < 0.02:
                        ours.append(out[at])
                        theirs.append(truth[at])
        return ours, theirs

    def score(again: bool = False) -> float:
        ours, theirs = (statistics(np.array(part)) for part in patches(again))
        first = np.arange(len(ours)) < len(ours) // 2
        return auc((ours[first], theirs[first]), (ours[~first], theirs[~first]))

    before = score()
    began = time.perf_counter()
    found = session.fit_all()
    spent = time.perf_counter() - began
    print(
        f"blind look: area under the curve {before:.2f} -> {score():.2f} (wanted ≥ 0.9 -> ≤ 0.6), {score(True):.2f} "
        f"compressed as the plate was once more; fit all {spent:.0f} s"
    )
    for each in found.fitted:
        print(f"  {each.part}: {each.words}")
    for part, words in found.refused.items():
        print(f"  {part} not measured: {words}")


def against_the_generator(demo: Path) -> None:
    """Over the pixels that were added, against the same filmed by the generator, both without grain."""
    session = open_shot(next(demo.glob("*.shot.json")))
    truth = open_source(next(iter(sorted((demo / "truth" / "ungrained").glob("*.exr")))), "truth")
    alpha = open_source(next(iter(sorted((demo / "truth" / "alpha").glob("*.png")))), "alpha")

    def score() -> str:
        rows = []
        bare = session.shot.but(zones=tuple(z.but(match=z.match.but(grain=GrainMatch())) for z in session.shot.zones))
        for frame in list(session.shot.frames)[1:-1:2]:
            out = srgb_encode(np.clip(compose(bare, frame, session.store)[..., :3], 0, 1))
            wanted = srgb_encode(np.clip(read_picture(picture_of(truth, frame))[..., :3], 0, 1))
            kept = srgb_encode(read_picture(picture_of(alpha, frame))[..., 0])  # it is read as a picture
            away, edge = (out - wanted) * 255, (kept > 0.02) & (kept < 0.98)
            parts = [np.sqrt((away[kept < 0.02] ** 2).mean()), np.sqrt((away[edge] ** 2).mean())]
            for name in ("Mill tower", "Far range"):
                zone = next(z for z in bare.zones if z.name == name)
                mask = (compose(bare, frame, session.store, 1.0, [zone])[..., 3] > 0.99) & (kept < 0.02)
                blocks = [
                    (out[y : y + 16, x : x + 16].mean(axis=(0, 1)), wanted[y : y + 16, x : x + 16].mean(axis=(0, 1)))
                    for y in range(0, out.shape[0] - 16, 16)
                    for x in range(0, out.shape[1] - 16, 16)
                    if mask[y : y + 16, x : x + 16].all()
                ]
                one, two = (srgb_decode(np.array([pair[k_] for pair in blocks])) for k_ in (0, 1))
                away_e = delta_e_2000(lab(one), lab(two))
                parts += [away_e.mean(), np.percentile(away_e, 95)]
            rows.append(parts)
        mean = np.mean(rows, axis=0)
        return (
            f"{mean[0]:.1f} of 255, edge {mean[1]:.1f}; ΔE of blocks, mean (95 %): "
            f"tower {mean[2]:.1f} ({mean[3]:.1f}), "
            f"range {mean[4]:.1f} ({mean[5]:.1f})"
        )

    print("against the generator, wanted ≤ 3.5 of 255, edge ≤ 5, ΔE ≤ 3 (5)")
    print(f"  as it was: {score()}")
    session.fit_all()
    print(f"  fitted:    {score()}", flush=True)


# --- what it costs ---
def best(work: Callable[[], object], rounds: int = 4) -> float:
    times = []
    for _ in range(rounds):
        began = time.perf_counter()
        work()
        times.append(time.perf_counter() - began)
    return min(times)


def cost() -> None:
    rng = np.random.default_rng(0)
    with tempfile.TemporaryDirectory() as place:
        folder = Path(place)
        for frame in (1001, 1002, 1003):
            write_still(
                folder / f"plate.{frame}.exr", rng.uniform(0.2, 0.4, (1080, 1920, 3)).astype(np.float32), "half"
            )
        element = np.zeros((1080, 1920, 4), np.float32)
        element[200:900, 300:1600] = rng.uniform(0.1, 0.6, (700, 1300, 4))
        element[200:900, 300:1600, 3] = 1
        write_still(folder / "element.exr", element, "half")
        session = new(folder / "plate.1001.exr")
        zone = session.add_painting(folder / "element.exr", 50.0)
        moving = zone.but(
            placement=zone.placement.but(x=Keyed().with_key(1001, 0, "straight").with_key(1003, 48)),
            match=Match(air=AirMatch(on=False)),
        )
        session.shot = session.shot.with_zone(moving)
        parts: dict[str, dict[str, Any]] = {
            "plain": {},
            "tone": {"tone": ToneMatch(exposure_stops=k(0.3), contrast=k(1.2), saturation=k(0.9))},
            "air with depth": {"air": AirMatch(far_m=k(2000))},
            "focus 4 px": {"lens": LensMatch(radius_px=k(4))},
            "motion blur 12 px": {"lens": LensMatch(motion_blur=True)},
            "wrap 20 px": {"wrap": WrapMatch(on=True)},
            "grain": {"grain": GrainMatch(on=True)},
        }
        everything: dict[str, Any] = {}
        for name, part in parts.items():
            everything |= part if name != "motion blur 12 px" else {}
        everything["lens"] = LensMatch(radius_px=k(4), motion_blur=True)
        parts["all of them on one zone"] = everything
        frame = np.random.default_rng(1).random((1080, 1920, 4), np.float32)
        target = np.empty_like(frame)
        copy = best(lambda: np.copyto(target, frame), 8)
        print(f"cost at 1920×1080, in copies of a float RGBA frame ({copy * 1e3:.1f} ms); wanted: four such zones ≤ 50")
        for name, part in parts.items():
            match = Match(**{"air": AirMatch(on=False), **part})
            shot = session.shot.with_zone(moving.but(match=match))
            compose(shot, 1002, session.store)
            whole, half = (best(lambda s=s, shot=shot: compose(shot, 1002, session.store, s)) for s in (1.0, 0.5))
            print(f"  {name:24} {whole / copy:5.1f}, at half size {half / copy:5.1f}", flush=True)


if __name__ == "__main__":
    of_air()
    cost()
    of_grain()
    on_photographs()
    on_halves()
    if len(sys.argv) > 1:
        against_the_generator(Path(sys.argv[1]))
        blind_look(Path(sys.argv[1]))
