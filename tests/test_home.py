"""Starting where nothing can be written at home."""

import os
import subprocess
import sys
from pathlib import Path


def test_the_program_is_imported_and_compiles_where_home_cannot_be_written(tmp_path: Path):
    home = tmp_path / "home"
    home.write_text("a file where the home folder should be: nothing can be made below it")
    environment = {
        **{k: v for k, v in os.environ.items() if k not in ("NUMBA_CACHE_DIR", "XDG_CACHE_HOME", "XDG_STATE_HOME")},
        "HOME": str(home),
        "TMPDIR": str(tmp_path),
    }
    code = (
        "import numpy as np, os; import zonal_mantle; from zonal_mantle.match.grade import grade;"
        "from zonal_mantle.shot import Match; grade(np.ones((2, 2, 3), np.float32), Match());"
        "print(os.environ['NUMBA_CACHE_DIR'])"
    )
    done = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, env=environment)
    assert done.returncode == 0, done.stderr
    assert done.stdout.strip().startswith(str(tmp_path))
    assert any((tmp_path / f"zonal-mantle-kernels-{os.getuid()}").rglob("*.nbi"))


def test_slow_modules_are_imported_only_when_they_are_used():
    code = (
        "import sys, zonal_mantle.api; "
        "slow = ('scipy.optimize', 'scipy.sparse', 'scipy.interpolate', 'scipy.ndimage');"
        "print([name for name in slow if name in sys.modules])"
    )
    done = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=True)
    assert done.stdout.strip() == "[]"
