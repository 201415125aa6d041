"""Whether readings find damage, on plates with truth. Usage: damages.py SET [--frame K] [--forms …]

SET is as for `real.py`. Two mattes a plate, the true one and the automatic one, as they are and damaged on purpose in
twelve ways (`tests/damage.py`). As they are nothing should be found, but where the automatic one keeps or loses more
than a thousandth: that is a fault of its own. A row: how many of how many were found, and by what.
"""

from __future__ import annotations

import argparse
import sys
from collections import defaultdict
from pathlib import Path

import cv2
import numpy as np
from real import FORMS, cases

sys.path.insert(0, str(Path(__file__).parents[1] / "tests"))

from damage import damaged
from zonal_mantle.api import new
from zonal_mantle.comp.findings import AGAINST_SKY_ACCEPTED
from zonal_mantle.comp.matte_planner import matte_plan
from zonal_mantle.comp.readings_matte import LIKELY_WRONG_ACCEPTED, OFF_ACCEPTED_PX, OFF_SURE
from zonal_mantle.matte.sky_check import check_sky, edge_off, piece_left
from zonal_mantle.matte.sky_fault import likely_wrong
from zonal_mantle.shot import ClearSkyPull, Matte


def judged(case: Path, form: str, k: int) -> list[tuple[str, tuple[bool, bool, bool, bool]]]:
    """Each damage of a plate's frame, with whether sky left, ground gone, an edge that is off were found, and whether
    more of it is likely wrong than is accepted."""
    session = new(case / FORMS[form])
    matte = Matte(id="m", name="M", pulls=(ClearSkyPull(),))
    session.shot = session.shot.with_zone_matte(session.shot.zones[0], matte)
    plan = matte_plan(session.shot, matte, session.shot.first + k)
    assert plan.regions[0] is not None
    found = session.store.sky_of(plan.picture, plan.regions[0])
    pixels, ours = session.store.pixels(plan.picture), session.store.made(plan).alpha
    truth = (cv2.imread(str(case / f"alpha.{1001 + k}.png"), cv2.IMREAD_UNCHANGED) / 65535.0).astype(np.float32)
    out = []
    wrong = max((ours[truth > 0.998] < 0.9).mean(), (ours[truth < 0.002] > 0.1).mean())
    for seed, alpha in enumerate((truth, np.clip(ours, 0, 1))):
        bare = "fault of its own" if seed and wrong > AGAINST_SKY_ACCEPTED else "as it is"
        for name, each in {bare: alpha, **damaged(alpha, truth, 7 * k + seed)}.items():
            check, off = check_sky(pixels, each, found), edge_off(pixels, each)
            left, gone = check.left.sum() / check.sky.sum(), check.gone.sum() / max((~check.sky).sum(), 1)
            moved = off is not None and off.px > OFF_ACCEPTED_PX and off.better > OFF_SURE
            likely = likely_wrong(pixels, np.asarray(each, np.float32), found).mean() > LIKELY_WRONG_ACCEPTED
            by = (
                bool(left > AGAINST_SKY_ACCEPTED or piece_left(each, check.left).any()),
                bool(gone > AGAINST_SKY_ACCEPTED),
                moved,
                bool(likely),
            )
            out.append((name, by))
    return out


def main() -> None:
    arguments = argparse.ArgumentParser(description=__doc__.splitlines()[0])
    arguments.add_argument("set", type=Path)
    arguments.add_argument("--frame", type=int, default=2)
    arguments.add_argument("--forms", nargs="*", default=list(FORMS), choices=list(FORMS))
    given = arguments.parse_args()
    tally: dict[str, list[tuple[bool, ...]]] = defaultdict(list)
    for case in cases(given.set, None):
        for form in given.forms:
            rows = judged(case, form, given.frame)
            for name, by in rows:
                tally[name].append(by)
            missed = [name for name, by in rows if name != "as it is" and not any(by)]
            blamed = [by for name, by in rows if name == "as it is" and any(by)]
            print(f"{case.name} {form}: missed {missed or 'none'}, blamed {blamed or 'none'}", flush=True)
    print("| damage | found | sky left | ground gone | edge off | likely wrong |\n|---|---|---|---|---|---|")
    for name, each in tally.items():
        by = " | ".join(str(sum(found[k] for found in each)) for k in range(4))
        print(f"| {name} | {sum(any(found) for found in each)} of {len(each)} | {by} |")
    own = ("as it is", "fault of its own")
    hurt = [any(found) for name, each in tally.items() if name not in own for found in each]
    well = [any(found) for found in tally["as it is"]]
    print(f"found {np.mean(hurt):.1%} of {len(hurt)} damages; false on {np.mean(well):.1%} of {len(well)} good mattes")


if __name__ == "__main__":
    main()
