"""Hard places: a home that is read-only, a clock that jumps, two programs on one shot, files that change and vanish
under it, names that are not UTF-8."""

from __future__ import annotations

import json
import os
import shutil
import subprocess
import sys
from datetime import datetime, timedelta
from pathlib import Path

from zonal_mantle.api import open_shot
from zonal_mantle.media.sequence import frame_path
from zonal_mantle.shot import MantleError, load, save
from zonal_mantle.shot.opened import mark_opened, mark_path, opened_by_others, unmark_opened
from zonal_mantle.shot.past import MOST, keep_past, past_of, shot_of_past

from .report import Report

OTHER = """
import sys, time
from pathlib import Path
from zonal_mantle.shot.opened import mark_opened
mark_opened(Path(sys.argv[1]))
print("open", flush=True)
time.sleep(60)
"""
AT_HOME = """
import sys
from pathlib import Path
from zonal_mantle.api import open_shot
session = open_shot(Path(sys.argv[1]))
print(session.frame(session.shot.first, 0.1).shape)
"""


def drill(shot: Path, work: Path) -> Report:
    """All of them once."""
    report = Report("places", 0)
    for case in (read_only_home, jumping_clock, two_programs, vanishing_files, odd_names):
        folder = work / case.__name__
        shutil.copytree(shot.parent, folder)
        for words in case(folder / shot.name):
            report.fault(f"{case.__name__}: {words}")
        report.count(case.__name__)
    return report


def read_only_home(shot: Path) -> list[str]:
    """Nothing can be written at home: the shot is opened and drawn all the same."""
    home = shot.parent / "home"
    home.write_text("a file where the home folder should be: nothing can be made below it")
    kept = {k: v for k, v in os.environ.items() if not k.startswith("XDG_") and k != "NUMBA_CACHE_DIR"}
    done = subprocess.run(
        [sys.executable, "-c", AT_HOME, str(shot)],
        capture_output=True, text=True, timeout=600,
        env={**kept, "HOME": str(home), "NUMBA_CACHE_DIR": os.environ.get("NUMBA_CACHE_DIR", str(shot.parent / "k"))},
    )  # fmt: skip
    return [] if done.returncode == 0 else [done.stderr[-300:]]


def jumping_clock(shot: Path) -> list[str]:
    """A clock that is set back and forth loses no version, and keeps no more than it should."""
    loaded, now, faults = load(shot), datetime(2026, 11, 26, 12, 0), []
    for k, minutes in enumerate((0, 3, 6, -600, -597, 100_000, 3, 9, *range(12, 120, 3))):
        if not keep_past(loaded.but(name=f"V{k}"), shot, now + timedelta(minutes=minutes)) and minutes > 9:
            faults.append(f"version {k} was not kept")
    versions = past_of(shot)
    if not 0 < len(versions) <= MOST:
        faults.append(f"{len(versions)} versions are kept")
    for past in versions:
        shot_of_past(past, shot)
    return faults


def two_programs(shot: Path) -> list[str]:
    """The second is told of the first, and no more once that was killed."""
    other = subprocess.Popen([sys.executable, "-c", OTHER, str(shot)], stdout=subprocess.PIPE)
    assert other.stdout is not None
    other.stdout.readline()
    faults = [] if opened_by_others(shot) is not None else ["the second program is not told of the first"]
    other.kill()
    other.communicate()
    if opened_by_others(shot) is not None:
        faults.append("the mark of a program that was killed still counts")
    mark_opened(shot)
    if json.loads(mark_path(shot).read_text())["process"] != os.getpid():
        faults.append("a stale mark is not taken over")
    unmark_opened(shot)
    return faults + (["the mark stays"] if mark_path(shot).exists() else [])


def vanishing_files(shot: Path) -> list[str]:
    """Files that are cut short, replaced and removed while the shot is open are findings, and errors in words."""
    session, faults = open_shot(shot), []
    session.frame(session.shot.first, 0.1)
    plate = session.shot.plate_source
    assert plate is not None
    first, last = (frame_path(plate.path, frame) for frame in (session.shot.first, session.shot.last))
    painting = next(Path(s.path) for s in session.shot.sources if s.kind == "still")
    whole = painting.read_bytes()
    for path, content in ((painting, whole[: len(whole) // 2]), (painting, b""), (last, None), (first, b"x")):
        if content is None:
            path.unlink()
        else:
            path.write_bytes(content)
        again = open_shot(shot)
        found = [finding for finding in again.readings().findings if finding.severity == "wrong"]
        if not any(path.name in finding.words or "missing" in finding.words for finding in found):
            faults.append(f"{path.name}: no finding names it: {[finding.words for finding in found]}")
        try:
            for frame in (again.shot.first, again.shot.last):
                again.frame(frame, 0.1)
            faults.append(f"{path.name}: drawn as if nothing was wrong")
        except MantleError:
            pass
        painting.write_bytes(whole)
    return faults


def odd_names(shot: Path) -> list[str]:
    """A shot in a folder whose name is not UTF-8 opens, draws, renders, is saved and opens again; so does its plate."""
    odd = Path(os.fsdecode(os.fsencode(shot.parent.parent) + b"/gr\xfcn \xff"))
    shutil.copytree(shot.parent, odd)
    there = odd / Path(os.fsdecode(b"sk\xe9.shot.json"))
    (odd / shot.name).rename(there)
    session = open_shot(there)
    session.frame(session.shot.first, 0.1)
    session.render(odd / "out", first=session.shot.first, last=session.shot.first, scale=0.1)
    save(session.shot, there)
    again = open_shot(there)
    faults = [] if again.shot == session.shot else ["saved, it opens as another shot"]
    again.frame(again.shot.first, 0.1)
    shutil.rmtree(odd)
    return faults
