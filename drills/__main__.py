"""Runs the drills at length: `python -m drills --out DIR`, with how much of each; a file of results for each drill."""

from __future__ import annotations

import argparse
import os
import shutil
import sys
import tempfile
from collections.abc import Callable
from pathlib import Path

from .report import Report

SHORT = {"mutants": 400, "hostile": 40, "saves": 12, "bakes": 4, "renders": 4, "edits": 150, "hands": 150}
LONG = {"mutants": 10_000, "hostile": 1500, "saves": 500, "bakes": 200, "renders": 200, "edits": 2000, "hands": 3000}
SEEDS = {"edits": 50, "hands": 10}


def main() -> int:
    """Runs what is asked for. The exit code says whether there were faults."""
    parser = argparse.ArgumentParser(prog="python -m drills", description=__doc__)
    parser.add_argument("--out", type=Path, default=Path("drill_results"), help="the folder for results")
    parser.add_argument("--seed", type=int, default=1)
    parser.add_argument("--short", action="store_true", help="a little of each")
    parser.add_argument("--only", nargs="*", help="names of drills")
    options = parser.parse_args()
    work = Path(tempfile.mkdtemp(prefix="drills-"))
    os.environ["XDG_STATE_HOME"], os.environ["XDG_DATA_HOME"] = str(work / "state"), str(work / "data")
    from zonal_mantle.demo import DemoPlan, make_demo

    print("Filming a small shot to work on", flush=True)
    plan = DemoPlan(seed=options.seed, size=(320, 180), frames=6, samples=2, pan_deg=1.0)
    shot = make_demo(work / "shot", plan)
    faults = 0
    try:
        for name, drill in drills(work, shot, SHORT if options.short else LONG, options.seed, options.out).items():
            if options.only and name.split(",")[0] not in options.only:
                continue
            report = drill()
            report.drill = name
            report.write(options.out)
            print(report, *report.faults[:10], sep="\n  ", flush=True)
            faults += len(report.faults)
    finally:
        shutil.rmtree(work, ignore_errors=True)
    print(f"{faults} faults; results are in {options.out}")
    return 1 if faults else 0


def drills(work: Path, shot: Path, much: dict[str, int], seed: int, out: Path) -> dict[str, Callable[[], Report]]:
    """All drills by name, on copies of a shot."""
    from . import edits, full_disk, hands, hostile, kills, mutants, places
    from .samples import make_samples

    def copy(name: str) -> Path:
        folder = work / f"for {name}"
        shutil.copytree(shot.parent, folder / "shot")
        return folder / "shot" / shot.name

    def room(name: str) -> Path:
        (work / name).mkdir()
        return work / name

    def damaged() -> Report:
        return mutants.drill(
            make_samples(work / "samples", shot), room("mutants"), much["mutants"], seed, out / "corpus"
        )

    def seeds(name: str, run: Callable[[int], Report]) -> Callable[[], Report]:
        def all_of_them() -> Report:
            whole = Report(name, seed)
            for each in range(seed, seed + (SEEDS[name] if much is LONG else 1)):
                part = run(each)
                whole.tried += part.tried
                whole.faults += [f"seed {each}: {fault}" for fault in part.faults]
                whole.notes += part.notes
                for how, count in part.went.items():
                    whole.went[how] = whole.went.get(how, 0) + count
            return whole

        return all_of_them

    out_of = {
        "mutants": damaged,
        "hostile": lambda: hostile.drill(shot, room("hostile"), much["hostile"], seed),
        "saves": lambda: kills.drill_saves(copy("saves"), much["saves"], seed),
        "bakes": lambda: kills.drill_bakes(copy("bakes"), room("baking"), much["bakes"], seed),
        "disk": lambda: full_disk.drill(shot, room("disk"), [0, 300, 5000, 30_000] if much is LONG else [0, 5000]),
        "calls": lambda: full_disk.drill_calls(shot, room("calls")),
        "places": lambda: places.drill(shot, room("places")),
        "edits": seeds("edits", lambda each: edits.drill(shot, work, much["edits"], each)),
        "hands": seeds("hands", lambda each: hands.drill_apart(shot, room(f"hands{each}"), much["hands"], each)),
    }
    for format in ("exr", "png", "h264", "prores"):
        name = f"renders, {format}"
        out_of[name] = lambda name=name, format=format: kills.drill_renders(
            copy(name), room(f"out {format}"), format, much["renders"], seed
        )
    return out_of


if __name__ == "__main__":
    sys.exit(main())
