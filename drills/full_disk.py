"""Disks that are full, for every writer: it says so in one sentence that names the file, what was there stays, and
nothing half has a final name. And the n-th call to the system that fails, for every n, in save and in render.

A limit on the size of files (setrlimit(2), RLIMIT_FSIZE) fails as a full disk does, within libraries too. Calls are
made to fail by an audit hook (PEP 578), as SQLite's injected I/O errors ("How SQLite Is Tested", section 3.2; from
memory).
"""

from __future__ import annotations

import json
import os
import resource
import signal
import subprocess
import sys
from collections.abc import Callable
from dataclasses import asdict
from fractions import Fraction
from pathlib import Path

import numpy as np

from .report import Report

Writer = Callable[[Path], object]


def writers(shot_path: Path) -> dict[str, Writer]:
    """Everything that writes a file for a person, by the file's name."""
    from zonal_mantle.comp.base import write_picture
    from zonal_mantle.finish.look import look_from, write_look
    from zonal_mantle.lock.files import camera_to_usd, lock_to_csv
    from zonal_mantle.match.grade import tone_at
    from zonal_mantle.match.tone_files import write_cdl, write_tone
    from zonal_mantle.paths import write_whole
    from zonal_mantle.render.frames import VideoWriter
    from zonal_mantle.report import pack
    from zonal_mantle.shot import Cdl, Keyed, ToneMatch, load, save
    from zonal_mantle.shot.past import keep_past
    from zonal_mantle.shot.settled import settled

    from .samples import solved_lock

    shot, noise = load(shot_path), np.random.default_rng(1).random((120, 160, 4), np.float32)
    tone = ToneMatch(contrast=Keyed(constant=1.3))

    def video(kind: str) -> Writer:
        def write(path: Path) -> None:
            from zonal_mantle.render.frames import _written

            with _written(path) as part, VideoWriter(part, kind, Fraction(24)) as writer:
                for k in range(8):
                    writer.write(np.roll(noise[..., :3], k * 7, axis=1))

        return write

    def picture(depth: str) -> Writer:
        return lambda path: write_picture(path, noise, depth)

    return {
        "save.shot.json": lambda path: save(shot, path),
        "autosave.shot.json.autosave": lambda path: save(shot, path),
        "past.shot.json": lambda path: keep_past(shot, path),
        "frame.exr": picture("half"), "frame.png": picture("uint16"), "frame.tif": picture("uint16"),
        "video.mp4": video("h264"), "video.mov": video("prores"),
        "a.look.json": lambda path: write_look(path, look_from("Dusk", tone, 1001), noise.tobytes()[:60_000]),
        "a.cc": lambda path: write_cdl(path, Cdl(saturation=Keyed(constant=0.7)), "a"),
        "a.clf": lambda path: write_tone(path, tone_at(settled(tone, 1001))),
        "a.cube": lambda path: write_tone(path, tone_at(settled(tone, 1001))),
        "a.usda": lambda path: camera_to_usd(solved_lock(), (1280, 720), 24.0, path),
        "a.csv": lambda path: write_whole(path, lock_to_csv(solved_lock())),
        "report.zip": pack,
    }  # fmt: skip


def one(write: Writer, path: Path, limit: int) -> dict[str, str]:
    """Writes one file, of which the disk takes `limit` bytes."""
    from zonal_mantle.shot import MantleError

    resource.setrlimit(resource.RLIMIT_FSIZE, (limit, resource.RLIM_INFINITY))
    try:
        write(path)
    except MantleError as problem:
        return {"went": "said", "words": str(problem)}
    except OSError as problem:  # of writers whose callers say it
        return {"went": "said", "words": f"{path}: {problem.strerror}"}
    except Exception as problem:
        return {"went": "raw", "words": f"{type(problem).__name__}: {problem}"}
    finally:
        resource.setrlimit(resource.RLIMIT_FSIZE, (resource.RLIM_INFINITY, resource.RLIM_INFINITY))
    return {"went": "written", "words": ""}


def every(shot: Path, work: Path, limits: list[int]) -> Report:
    """Every writer for each limit, in this process; over an old file that must stay."""
    signal.signal(signal.SIGXFSZ, signal.SIG_IGN)
    report = Report("full disk", 0)
    for name, write in writers(shot).items():
        for limit in limits:
            folder = work / f"{name}.{limit}"
            folder.mkdir(parents=True)
            path = folder / name
            path.write_bytes(b"what was there")
            went = one(write, path, limit)
            report.count(went["went"])
            kept = path.read_bytes() == b"what was there"
            left = [other.name for other in folder.rglob("*") if other.is_file() and other != path]
            if went["went"] == "raw":
                report.fault(f"{name} at {limit} bytes: {went['words'][:200]}")
            elif went["went"] == "said" and (not kept or left or (name not in went["words"] and "past" not in name)):
                report.fault(f"{name} at {limit} bytes: old file kept: {kept}, left {left}, said {went['words'][:200]}")
            elif went["went"] == "written" and kept and name != "past.shot.json":
                report.fault(f"{name} at {limit} bytes: said to be written, and is not")
    return report


def drill(shot: Path, work: Path, limits: list[int]) -> Report:
    """Every writer on a disk that takes so many bytes, for each limit, in a process of its own."""
    asked = [sys.executable, "-m", "drills.full_disk", "every", str(shot), str(work), *map(str, limits)]
    done = subprocess.run(asked, capture_output=True, text=True, timeout=900, cwd=Path(__file__).parents[1])
    if done.returncode != 0:
        return Report("full disk", 0, faults=[f"It ended with {done.returncode}: {done.stderr[-300:]}"])
    return Report(**json.loads(done.stdout.splitlines()[-1]))


def fail_each(what: str, shot: Path, path: Path) -> dict[str, object]:
    """Saves, or renders one frame, once for every call to the system that it makes, of which that one fails."""
    from zonal_mantle.render import RenderPlan, render
    from zonal_mantle.render.frames import stem
    from zonal_mantle.shot import MantleError, load, save

    loaded = load(shot)
    state = {"on": False, "count": 0, "fail": 0}

    def hook(event: str, _arguments: object) -> None:
        if state["on"] and event in ("open", "os.rename", "os.chmod", "os.mkdir", "os.listdir", "os.truncate"):
            state["count"] += 1
            if state["count"] == state["fail"]:
                raise OSError(5, "Input/output error")

    sys.addaudithook(hook)
    faults: list[str] = []
    target = path if what == "save" else path / f"{stem(loaded)}.{loaded.first:04d}.exr"
    for fail in range(1, 400):
        path.parent.mkdir(parents=True, exist_ok=True)
        if what == "save":
            save(loaded.but(name="old"), path)
        state.update(on=True, count=0, fail=fail)
        try:
            if what == "save":
                save(loaded.but(name="new"), path)
            else:
                render(loaded, RenderPlan(path, "exr", loaded.first, loaded.first, 0.1))
            went = "done"
        except MantleError:
            went = "said"
        except Exception as problem:
            went = f"raw {type(problem).__name__}: {problem}"
        finally:
            state["on"] = False
        if went.startswith("raw"):
            faults.append(f"{what}, call {fail}: {went}")
        if what == "save" and load(path).name != ("new" if went == "done" else "old"):
            faults.append(f"{what}, call {fail}: {went}, and the file holds {load(path).name}")
        if what == "render" and went == "done" and not target.exists():
            faults.append(f"{what}, call {fail}: done without a file")
        target.unlink(missing_ok=True)
        if state["count"] < fail:
            return {"calls": fail - 1, "faults": faults}
    return {"calls": 400, "faults": [*faults, "it never came to an end"]}


def drill_calls(shot: Path, work: Path) -> Report:
    """The n-th call that fails, for every n, in save and in render."""
    report = Report("failing calls", 0)
    for what in ("save", "render"):
        path = work / "calls" / what / ("a.shot.json" if what == "save" else "frames")
        command = [sys.executable, "-m", "drills.full_disk", what, str(shot), str(path)]
        done = subprocess.run(command, capture_output=True, text=True, timeout=600, cwd=Path(__file__).parents[1])
        if done.returncode != 0:
            report.fault(f"{what} ended with {done.returncode}: {done.stderr[-300:]}")
            continue
        found = json.loads(done.stdout.splitlines()[-1])
        for _ in range(found["calls"]):
            report.count(f"calls in {what}")
        report.faults += found["faults"]
    return report


def main() -> None:
    """What a drill asks for in a process of its own."""
    what, shot, path = sys.argv[1], Path(sys.argv[2]), Path(sys.argv[3])
    os.environ.setdefault("XDG_STATE_HOME", str(path.parent / "state"))
    if what == "every":
        print(json.dumps(asdict(every(shot, path, [int(limit) for limit in sys.argv[4:]]))))
    else:
        print(json.dumps(fail_each(what, shot, path)))


if __name__ == "__main__":
    main()
