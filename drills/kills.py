"""Programs that are killed (SIGKILL, at any time) while they save, autosave or render: what is on disk is the old or
the new, whole, and what goes on later ends as if nothing had happened.

The pattern is SQLite's crash testing ("How SQLite Is Tested", section 4, sqlite.org; from memory): the work is done in
a process of its own, which is stopped at a random moment, and what it left is judged by another.
"""

from __future__ import annotations

import hashlib
import random
import subprocess
import sys
import zipfile
from pathlib import Path

from zonal_mantle.media import MediaError, open_source
from zonal_mantle.media.still import read_still
from zonal_mantle.shot import load
from zonal_mantle.shot.past import past_of, shot_of_past

from .report import Report

SAVER = """
import sys, itertools
from datetime import datetime, timedelta
from pathlib import Path
from zonal_mantle.shot import load, save, autosave_path
from zonal_mantle.shot.past import keep_past
path = Path(sys.argv[1])
shot = load(path)
now = datetime.now()
print("ready", flush=True)
for k in itertools.count():
    save(shot.but(name=f"S{k}" + "x" * (k % 50)), path)
    save(shot.but(name=f"A{k}"), autosave_path(path))
    keep_past(shot.but(name=f"P{k}"), path, now + timedelta(seconds=130 * k), b"P" * 30_000)
"""
RENDERER = """
import sys
from pathlib import Path
from zonal_mantle.render import RenderPlan, render
from zonal_mantle.shot import load
shot = load(Path(sys.argv[1]))
plan = RenderPlan(Path(sys.argv[2]), sys.argv[3], shot.first, min(shot.first + 3, shot.last), 0.1, resume=True)
print("ready", flush=True)
render(shot, plan)
print("done", flush=True)
"""

BAKER = """
import sys, itertools
from pathlib import Path
from drills.full_disk import writers
found = writers(Path(sys.argv[1]))
folder = Path(sys.argv[2])
print("ready", flush=True)
for k in itertools.count():
    for name, write in list(found.items())[k % 5 :]:  # in another order of time each round
        write(folder / name)
    if len(sys.argv) > 3:
        break
"""


def killed(script: str, arguments: list[str], after: float) -> bool:
    """Runs a script and kills it some seconds after it said that it is ready; True where it had ended by itself."""
    process = subprocess.Popen(
        [sys.executable, "-c", script, *arguments],
        stdout=subprocess.PIPE,
        stderr=subprocess.DEVNULL,
        cwd=Path(__file__).parents[1],
    )
    assert process.stdout is not None
    process.stdout.readline()
    try:
        process.wait(after)
        return True
    except subprocess.TimeoutExpired:
        return False
    finally:
        process.kill()
        process.communicate()


def drill_saves(shot: Path, count: int, seed: int) -> Report:
    """Kills programs that save a shot, its autosave and its past. The shot's file is written over."""
    report, chance = Report("kills in saves", seed), random.Random(seed)
    for number in range(count):
        killed(SAVER, [str(shot)], chance.uniform(0.0, 0.25))
        for path in (shot, shot.with_name(f"{shot.name}.autosave")):
            try:
                if path.exists():
                    load(path)
                    report.count("whole")
            except Exception as problem:
                report.fault(f"{number}: {path.name}: {problem}")
        for past in past_of(shot):
            try:
                shot_of_past(past, shot)
            except Exception as problem:
                report.fault(f"{number}: {past.file.name}: {problem}")
            if past.picture.exists() and past.picture.stat().st_size != 30_000:
                report.fault(f"{number}: {past.picture.name} is there, but not whole")
    return report


def drill_bakes(shot: Path, work: Path, count: int, seed: int) -> Report:
    """Kills programs that write looks, LUTs, corrections, cameras, pictures and videos over those that are there: each
    is the whole one, whenever that was. What holds the time of its writing is only looked at for its end."""
    report, chance = Report("kills in bakes", seed), random.Random(seed)
    folder = work / "baked"
    folder.mkdir()
    killed(BAKER, [str(shot), str(folder), "once"], 600.0)
    wanted = {path.name: digest(path) for path in sorted(folder.iterdir()) if path.is_file()}
    assert len(wanted) > 10, "little was written"
    for run in range(count):
        killed(BAKER, [str(shot), str(folder)], chance.uniform(0.0, 1.0))
        for name, whole in wanted.items():
            path = folder / name
            if path.suffix == ".zip":
                if not zipfile.is_zipfile(path):
                    report.fault(f"{run}: {name} is there, but not whole")
            elif digest(path) != whole:
                report.fault(f"{run}: {name} is another file than one that is written in peace")
        report.count("killed")
    return report


def drill_renders(shot: Path, work: Path, format: str, count: int, seed: int) -> Report:
    """Kills renders and lets them go on until they end; what is there then is what a render in one go makes."""
    report, chance = Report(f"kills in renders, {format}", seed), random.Random(seed)
    whole = work / "whole"
    killed(RENDERER, [str(shot), str(whole), format], 600.0)
    wanted = {path.name: digest(path) for path in sorted(whole.iterdir())}
    assert wanted, "nothing was rendered"
    folder = work / "killed"
    for run in range(count + 1):
        after = chance.uniform(0.0, chance.choice((0.6, 3.0))) if run < count else 600.0  # the last one ends
        ended = killed(RENDERER, [str(shot), str(folder), format], after)
        there = [path for path in folder.iterdir() if not path.name.startswith(".")] if folder.exists() else []
        for path in there:
            if not is_whole(path):
                report.fault(f"{run}: {path.name} is there, but not whole")
        if not ended:
            report.count("killed")
            continue
        found = {path.name: digest(path) for path in sorted(there)}
        if found != wanted:
            report.fault(f"{run}: went on to other files than one go makes: {sorted(found)}")
        report.count("went on to its end")
        for path in folder.iterdir():
            path.unlink()
    return report


def is_whole(path: Path) -> bool:
    """Whether a rendered file can be read to its end."""
    try:
        if path.suffix in (".mp4", ".mov"):
            source = open_source(path)
            return source.last >= source.first
        read_still(path)
    except MediaError:
        return False
    return True


def digest(path: Path) -> str:
    """A file's content, by a short name."""
    return hashlib.blake2b(path.read_bytes(), digest_size=16).hexdigest()
