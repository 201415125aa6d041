"""Coverage-guided fuzzing of our own readers of text, where atheris is installed (the extra `fuzz`); beside the tests.

python -m drills.fuzz shot|lock|table|shapes|cube|cdl [FOLDER OF A CORPUS] [-max_total_time=60 …]
"""

from __future__ import annotations

import contextlib
import sys
import tempfile
from collections.abc import Callable
from pathlib import Path

import atheris

with atheris.instrument_imports(include=["zonal_mantle.shot", "zonal_mantle.lock.files"]):
    from zonal_mantle.finish.lut import lut_processor
    from zonal_mantle.lock.files import lock_from_csv, lock_from_json
    from zonal_mantle.match.tone_files import read_cdl
    from zonal_mantle.media.stamps import stamp_of
    from zonal_mantle.shot import Lock, MantleError
    from zonal_mantle.shot.file import from_json
    from zonal_mantle.shot.svg import shapes_from_svg

BASE = Lock(id="lock1", name="Lock", reference_frame=1)
_folder = Path(tempfile.mkdtemp(prefix="fuzz-"))


def _as_file(ending: str, read: Callable[[Path], object]) -> Callable[[bytes], object]:
    def one(data: bytes) -> object:
        path = _folder / f"case{ending}"
        path.write_bytes(data)
        return read(path)

    return one


def _as_text(read: Callable[[str], object]) -> Callable[[bytes], object]:
    return lambda data: read(data.decode("utf-8", "replace"))


READERS: dict[str, Callable[[bytes], object]] = {
    "shot": _as_text(from_json),
    "lock": _as_text(lambda text: lock_from_json(text, (1280, 720))),
    "table": _as_text(lambda text: lock_from_csv(BASE, text)),
    "shapes": _as_text(lambda text: shapes_from_svg(text, 1)),
    "cube": _as_file(".cube", lambda path: lut_processor(str(path), stamp_of(str(path), 0))),
    "cdl": _as_file(".cc", read_cdl),
}


def main() -> None:
    """Runs until it finds what is raised and is no sentence, or until it is told to end."""
    read = READERS[sys.argv.pop(1)]

    def one(data: bytes) -> None:
        with contextlib.suppress(MantleError):
            read(data)

    atheris.Setup(sys.argv, one)
    atheris.Fuzz()


if __name__ == "__main__":
    main()
