"""The kernels that set-up compiles: the list that ships is read whole, and a call finds what was compiled."""

import os
import subprocess
import sys
from importlib import import_module

import numpy as np
import pytest
from numba import typeof
from numba.core import types
from numba.core.dispatcher import Dispatcher

from zonal_mantle.comp.lay import Limit
from zonal_mantle.kernels import compile_listed, forget_outdated, listed, types_of


def test_every_entry_is_a_kernel_with_types_that_are_understood():
    entries = listed()
    assert len(entries) > 60
    for module, name, written in entries:
        kernel = getattr(import_module(module), name, None)
        assert isinstance(kernel, Dispatcher), f"{module}.{name} is gone: run tools/list_kernels.py"
        assert ", ".join(str(each) for each in types_of(written, module)) == written
        kinds = [each for each in types_of(written, module) if isinstance(each, types.NamedTuple)]
        assert all(len(each.types) == len(each.instance_class._fields) for each in kinds)
        assert len(types_of(written, module)) == kernel.py_func.__code__.co_argcount, f"{name} has other arguments now"


@pytest.mark.parametrize(
    "value",
    [
        np.zeros((2, 3), np.float32), np.zeros((2, 3, 4), np.uint8)[:, ::2], np.zeros(2, np.uint16),
        np.float32(1), 3, 1.5, True,
        (np.float32(1), np.float32(2)), (np.zeros(3), np.zeros((2, 2), np.float32)),
        Limit(np.zeros((2, 2), np.float32), True, np.float32(1)),
    ],
)  # fmt: skip
def test_types_are_read_as_numba_writes_them(value):
    wanted = typeof(value)
    assert types_of(str(wanted), "a test")[0] == wanted


def test_what_is_no_type_is_said():
    with pytest.raises(ValueError, match="a module: array of what is not understood"):
        types_of("array of what", "a module")
    with pytest.raises(ValueError, match="there is no Nonesuch"):
        types_of("Nonesuch(int64)", "a module")


def test_what_is_gone_is_passed_by():
    gone = [["zonal_mantle.nonesuch", "kernel", "int64"], ["zonal_mantle.media.bands", "nonesuch", "int64"]]
    assert compile_listed(gone) == 0


def test_a_compiled_kernel_is_found_by_another_process(tmp_path):
    """Numba's own count of what it read from its cache."""
    entry = next(each for each in listed() if each[1] == "_coded_rows")
    code = (
        "from zonal_mantle.kernels import compile_listed\n"
        f"compile_listed([{entry!r}])\n"
        "from zonal_mantle.media.curves import _coded_rows\n"
        "print(sum(_coded_rows.stats.cache_hits.values()), sum(_coded_rows.stats.cache_misses.values()))"
    )
    env = {"NUMBA_CACHE_DIR": str(tmp_path), "PATH": ""}
    told = [
        subprocess.run([sys.executable, "-c", code], env=env, capture_output=True, text=True, check=True).stdout.split()
        for _ in range(2)
    ]
    assert told == [["0", "1"], ["1", "0"]]
    assert isinstance(types_of(entry[2], entry[0])[2], types.Array)


def test_kernels_are_forgotten_when_a_part_of_them_was_changed_since(tmp_path):
    sources, kept = tmp_path / "sources", tmp_path / "kernels" / "comp_1" / "lay.nbi"
    kept.parent.mkdir(parents=True)
    kept.touch()
    sources.mkdir()
    (sources / "part.py").write_text("@fast_part\ndef twice(x):\n    return 2 * x\n")
    (sources / "other.py").write_text("@kernel\ndef rows(y0, y1):\n    pass\n")
    now = kept.stat().st_mtime
    os.utime(sources / "part.py", (now - 10, now - 10))
    os.utime(sources / "other.py", (now + 10, now + 10))
    assert not forget_outdated(tmp_path / "kernels", sources)
    assert kept.exists()
    os.utime(sources / "part.py", (now + 10, now + 10))
    assert forget_outdated(tmp_path / "kernels", sources)
    assert not kept.exists()
    assert not forget_outdated(tmp_path / "kernels", sources)
