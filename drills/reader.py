"""A process of its own that reads files with the application's readers, within bounds of memory, and says how it went:
a line of JSON in, a line of JSON out. It is killed from outside where it takes too long."""

from __future__ import annotations

import json
import os
import resource
import sys
from pathlib import Path

MOST_BYTES = 2 << 30  # of memory for one file, above what the process has already
SAFETY_BYTES = 8 << 30  # of data altogether: so that a drill harms nobody else on the machine


def read(kind: str, path: Path) -> None:
    """Reads a file with the reader of its kind."""
    if kind == "picture":
        from zonal_mantle.media import open_source, read_frame

        source = open_source(path, as_still=True)
        read_frame(source, source.start)
        read_frame(source, source.end)
    elif kind == "shot":
        from zonal_mantle.shot import load

        load(path)
    elif kind == "drawn":
        import numpy as np

        from zonal_mantle.comp import Pictures, finish_frame
        from zonal_mantle.shot import load

        shot = load(path)
        if not np.isfinite(finish_frame(shot, shot.first, Pictures(limit_bytes=1 << 28), 0.25)).all():
            raise FloatingPointError("the frame holds what is not a number")
    elif kind == "lock":
        from zonal_mantle.lock.files import read_lock
        from zonal_mantle.shot import Lock

        read_lock(path, Lock(id="lock1", name="Lock", reference_frame=1001), (1280, 720))
    elif kind == "shapes":
        from zonal_mantle.shot.svg import read_shapes

        read_shapes(path, 1001)
    elif kind == "cdl":
        from zonal_mantle.match.tone_files import read_cdl

        read_cdl(path)
    elif kind == "lut":
        from zonal_mantle.finish.lut import lut_processor
        from zonal_mantle.media.stamps import stamp_of

        lut_processor(str(path), stamp_of(str(path), 0))
    elif kind == "look":
        from zonal_mantle.finish.look import read_look

        read_look(path)
    else:
        raise SystemExit(f"no reader of {kind}")


def _kib(name: str) -> int:
    """A figure of this process's status, KiB (proc(5))."""
    lines = Path("/proc/self/status").read_text().splitlines()
    return next(int(line.split()[1]) for line in lines if line.startswith(name))


def main() -> None:
    """Serves until its input ends."""
    sys.path[:0] = [str(Path(__file__).parents[1] / "src")]
    import cv2  # noqa: F401
    import numba  # noqa: F401

    import zonal_mantle.api  # noqa: F401
    from zonal_mantle.shot import MantleError

    answer = os.fdopen(os.dup(1), "w", encoding="utf-8")
    os.dup2(2, 1)  # libraries that print, print elsewhere
    resource.setrlimit(resource.RLIMIT_DATA, (SAFETY_BYTES, SAFETY_BYTES))
    for line in sys.stdin:
        asked = json.loads(line)
        path = Path(asked["path"])
        Path("/proc/self/clear_refs").write_text("5")  # the peak counts from here (proc(5))
        before = _kib("VmRSS")
        try:
            read(asked["kind"], path)
            went, words = "read", ""
        except MantleError as problem:
            went, words = "said", str(problem)
        except MemoryError:
            went, words = "memory", "more than 2 GiB"
        except Exception as problem:
            went, words = "raw", f"{type(problem).__name__}: {problem}"
        if (_kib("VmHWM") - before) << 10 > MOST_BYTES:
            went, words = "memory", "more than 2 GiB"
        print(json.dumps({"went": went, "words": words}), file=answer, flush=True)


if __name__ == "__main__":
    main()
