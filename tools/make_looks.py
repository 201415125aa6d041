"""Writes the looks that ship, each with a small picture of the demo: make_looks.py DEMO_FOLDER."""

from __future__ import annotations

import sys
from pathlib import Path

import cv2
import numpy as np

from zonal_mantle.api import open_shot
from zonal_mantle.finish.look import SHIPPED, SUFFIX, write_look
from zonal_mantle.media.curves import srgb_encode
from zonal_mantle.shot import Cdl, Glow, GrainMatch, GrainModel, Keyed, Look, LookUse, ToneMatch, Vignette
from zonal_mantle.shot.match import Range, TintRamp

FRAME, WIDTH = 1010, 160


def number(value: float) -> Keyed:
    return Keyed(constant=value)


def balance(start: float, width: float, red: float, green: float, blue: float, all_: float = 1.0) -> Range:
    return Range(red=number(red), green=number(green), blue=number(blue), all=number(all_), start=start, width=width)


LOOKS = (
    Look(
        name="First light",
        note="Cool shadows, a low warm sun, a glow about what is bright.",
        tone=ToneMatch(
            exposure_stops=number(-0.25),
            shadows=balance(0.5, 0.0, 0.9, 0.98, 1.12),
            lights=balance(0.3, 1.0, 1.08, 1.0, 0.9),
            contrast=number(1.06),
            saturation=number(1.05),
        ),
        glow=Glow(on=True, level=number(0.7), amount=number(0.25), radius_px=number(36)),
    ),
    Look(
        name="Slack tide",
        note="Grey, soft and wet: little colour, lifted blacks, corners held back.",
        tone=ToneMatch(
            contrast=number(0.86),
            saturation=number(0.62),
            middle=balance(0.4, 0.6, 0.97, 1.01, 1.03),
            tint=TintRamp(dark=(0.32, 0.4, 0.46), bright=(0.52, 0.52, 0.48), strength=number(0.18)),
        ),
        vignette=Vignette(on=True, stops=number(-0.5), start=number(0.35)),
    ),
    Look(
        name="White noon",
        note="Hard light on salt: high contrast, bleached lights, halation, grain.",
        tone=ToneMatch(
            exposure_stops=number(0.2),
            contrast=number(1.22),
            saturation=number(0.8),
            cdl=Cdl(slope=(number(1.03), number(1.0), number(0.95)), saturation=number(0.95)),
        ),
        glow=Glow(on=True, level=number(0.85), amount=number(0.12), halation=number(0.3)),
        grain=GrainMatch(on=True, model=GrainModel(deviation=((0.008, 0.008, 0.01),) * 3)),
    ),
)


def main(folder: Path) -> None:
    session = open_shot(next(folder.glob("*.shot.json")))
    for look in LOOKS:
        session.edit(finish=session.shot.finish.but(look=LookUse(look=look)))
        codes = np.clip(srgb_encode(session.frame(FRAME)[..., :3]), 0, 1)
        small = cv2.resize(codes, (WIDTH, round(WIDTH * codes.shape[0] / codes.shape[1])), interpolation=cv2.INTER_AREA)
        picture = cv2.imencode(".png", np.round(small[..., ::-1] * 255).astype(np.uint8))[1].tobytes()
        path = SHIPPED / f"{look.name.lower().replace(' ', '_')}{SUFFIX}"
        write_look(path, look, picture)
        print(path.name, path.stat().st_size)


if __name__ == "__main__":
    main(Path(sys.argv[1]))
