"""What the tests share: folders of their own, a small demo, photographs that a reference library ships."""

from __future__ import annotations

import os
import shutil
import tempfile
import time
from collections.abc import Callable
from pathlib import Path

_worker = os.environ.get("PYTEST_XDIST_WORKER", "")
if _worker:  # each process has cores of its own: two that share all of them spend a quarter of their time on changing
    _all = sorted(os.sched_getaffinity(0))
    _count = int(os.environ["PYTEST_XDIST_WORKER_COUNT"])
    os.sched_setaffinity(0, _all[int(_worker[2:]) % min(_count, len(_all)) :: _count])

_home = tempfile.mkdtemp(prefix="zonal-mantle-test-")
os.environ.setdefault("NUMBA_CACHE_DIR", str(Path(__file__).parent.parent / ".venv" / "kernels"))
os.environ["XDG_STATE_HOME"] = _home + "/state"
os.environ["XDG_CACHE_HOME"] = _home + "/cache"
if "QT_QPA_PLATFORM" not in os.environ:
    os.environ["QT_QPA_PLATFORM"] = "offscreen"

import numpy as np  # noqa: E402
import pytest  # noqa: E402

from stores import kept_pictures  # noqa: E402
from zonal_mantle.demo import DemoPlan, make_demo  # noqa: E402
from zonal_mantle.media.still import write_still  # noqa: E402
from zonal_mantle.shot import load, save  # noqa: E402


@pytest.fixture(scope="session")
def demo(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """A small Saltern: 640×360, 10 frames, with the generator's own finished picture. Returns its folder."""
    plan = DemoPlan(seed=3, size=(640, 360), frames=10, samples=6, pan_deg=2.0, finished=True)
    return once(tmp_path_factory, "saltern", lambda folder: make_demo(folder, plan))


@pytest.fixture(autouse=True)
def _pictures_kept(request: pytest.FixtureRequest, monkeypatch: pytest.MonkeyPatch) -> None:
    """Shots that are opened by script share a store. A test that changes files within half a second, as nobody does by
    hand, is `cold`: so long the time of a file is believed (`media.stamps`)."""
    if request.node.get_closest_marker("cold") is None:
        monkeypatch.setattr("zonal_mantle.api.Pictures", kept_pictures)


@pytest.fixture
def short_demo(demo: Path, tmp_path: Path) -> Path:
    """A copy of the demo that may be spoilt, its shot cut to six frames. Returns its folder."""
    folder = tmp_path / "shot"
    shutil.copytree(demo, folder)
    path = folder / "SLT_0140.shot.json"
    shot = load(path)
    save(shot.with_source(shot.plate_source.but(trim_last=shot.first + 5)), path)
    return folder


def pytest_collection_modifyitems(items: list[pytest.Item]) -> None:
    """Tests on the demo first: one process films it while the other, which begins in the middle, does the rest."""
    items.sort(key=lambda item: "demo" not in getattr(item, "fixturenames", ()))


def once(factory: pytest.TempPathFactory, name: str, make: Callable[[Path], object]) -> Path:
    """A folder that one of the test processes fills and all of them read."""
    shared = "PYTEST_XDIST_WORKER" in os.environ
    folder = (factory.getbasetemp().parent if shared else factory.getbasetemp()) / name
    done = folder.with_suffix(".done")
    try:
        folder.mkdir()
    except FileExistsError:
        deadline = time.monotonic() + 600
        while not done.exists():
            assert time.monotonic() < deadline, f"{name} was not made by the other process"
            time.sleep(0.1)
        return folder
    make(folder)
    done.touch()
    return folder


@pytest.fixture(scope="session")
def photograph() -> np.ndarray:
    """A photograph, scene-linear: `skimage.data.rocket` (427×640, public domain), read as sRGB."""
    from skimage import data

    from zonal_mantle.media.curves import srgb_decode

    return srgb_decode(data.rocket().astype(np.float64) / 255).astype(np.float32)


@pytest.fixture
def plate_folder(tmp_path: Path) -> Path:
    """A plate of five small EXR frames, 1001–1005, each with its own brightness."""
    for frame in range(1001, 1006):
        picture = np.full((24, 32, 3), (frame - 1000) / 10, np.float32)
        write_still(tmp_path / f"plate.{frame:04d}.exr", picture, "half", "zip")
    return tmp_path
