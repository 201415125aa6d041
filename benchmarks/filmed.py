"""The demo's plates for benchmarks: each seed is filmed once, whichever benchmark asks first."""

from __future__ import annotations

import tempfile
from pathlib import Path

from zonal_mantle.demo import NAME, VERSION, DemoPlan, make_demo

FOLDER = Path(tempfile.gettempdir()) / f"zonal-mantle-bench-{VERSION}"


def filmed(seed: int, base: Path = FOLDER) -> Path:
    """The folder of a seed's shot, with the generator's own finished picture."""
    folder = base / f"seed{seed}"
    if not (folder / f"{NAME}.shot.json").exists():
        print(f"filming seed {seed}; this is done once …", flush=True)
        make_demo(folder, DemoPlan(seed=seed, finished=True))
    return folder
