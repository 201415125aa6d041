"""Compiles the kernels before they are needed: `python -m zonal_mantle.kernels`, on all cores.

Numba compiles a kernel when it is first called, and keeps it. `kernels.json` lists which are called with what; set-up
compiles those, so that nobody waits for them at the first picture. What is not listed is compiled when it is called.
`tools/list_kernels.py` writes the list from what a run of the tests has kept.
"""

from __future__ import annotations

import json
import os
import re
import shutil
import sys
from collections.abc import Iterable
from concurrent.futures import ProcessPoolExecutor
from concurrent.futures.process import BrokenProcessPool
from importlib import import_module
from importlib.resources import files
from pathlib import Path
from typing import Any

import numba
from numba.core.errors import NumbaError

types: Any = numba.core.types
LIST = "kernels.json"  # [module, kernel, types of its arguments as Numba writes them]
PART = re.compile(r"^@\w*(part|inlined)$", re.MULTILINE)  # the mark of what is inlined into kernels
PARTS = re.compile(r"(readonly )?array\((\w+), (\d)d, (\w)\)|UniTuple\(|Tuple\(| x (\d+)|([A-Z]\w*)\(")


def listed() -> list[list[str]]:
    """All entries of the list."""
    return list(json.loads((files(__package__) / LIST).read_text(encoding="utf-8")))


def types_of(written: str, module: str) -> tuple[Any, ...]:
    """Numba's types from how it writes them. Only for the list that ships: it is evaluated as Python.

    Raises
    ------
    ValueError : something in it is none of them.

    Example
    -------
    >>> types_of("int64, array(float32, 2d, C)", "zonal_mantle.media.bands")
    (int64, Array(float32, 2, 'C', False, aligned=True))
    """

    def python(found: re.Match[str]) -> str:
        fixed, element, dimensions, order, times, name = found.groups()
        if element:
            return f"array({element}, {dimensions}, {order!r}, {bool(fixed)})"
        if times:
            return f", {times}"
        return f"named({name!r}, " if name else found[0]

    def named(name: str, *inner: Any) -> Any:
        home = sys.modules.get(module)  # names that are known where the kernel stands come first
        others = [each for key, each in list(sys.modules.items()) if key.startswith("zonal_mantle")]
        known = (vars(each).get(name) for each in [*([home] if home else []), *others])
        kind = next((each for each in known if hasattr(each, "_fields")), None)
        if kind is None:
            raise ValueError(f"{module}: there is no {name}.")
        return types.NamedTuple(inner, kind)

    def array(element: Any, dimensions: int, order: str, fixed: bool) -> Any:
        return types.Array(element, dimensions, order, readonly=fixed)

    numbers = "int32 int64 uint8 uint16 uint64 float32 float64"
    simple = {name: getattr(types, name) for name in numbers.split()}
    names = {"array": array, "named": named, "UniTuple": types.UniTuple, "Tuple": lambda *of: types.Tuple(of)}
    try:
        made = eval(f"({PARTS.sub(python, written)},)", {"__builtins__": {}}, simple | names | {"bool": types.boolean})
    except (SyntaxError, NameError, TypeError) as problem:
        raise ValueError(f"{module}: {written} is not understood ({problem}).") from problem
    return tuple(made)


def compile_listed(entries: Iterable[list[str]]) -> int:
    """Compiles entries of the list, or finds them compiled; those that are gone are passed by. How many there were."""
    count = 0
    for module, name, written in entries:
        try:
            kernel = getattr(import_module(module), name)
            kernel.compile(types_of(written, module))
        except (ImportError, AttributeError, ValueError, NumbaError):
            continue
        count += 1
    return count


def forget_outdated(folder: Path, sources: Path) -> bool:
    """Empties a folder of kernels if a part of kernels (`media.compiled`) was changed since: Numba looks only whether
    the file that a kernel stands in is as it was. Whether it did."""
    kept = [path.stat().st_mtime for path in folder.rglob("*.nbi")]
    with_parts = [path for path in sources.rglob("*.py") if PART.search(path.read_text(encoding="utf-8"))]
    outdated = bool(kept) and any(path.stat().st_mtime > min(kept) for path in with_parts)
    if outdated:
        shutil.rmtree(folder)
    return outdated


def main() -> None:
    """On all cores, a module at a time: its kernels share their parts."""
    forget_outdated(Path(os.environ["NUMBA_CACHE_DIR"]), Path(__file__).parent)
    modules: dict[str, list[list[str]]] = {}
    for entry in listed():
        modules.setdefault(entry[0], []).append(entry)
    longest = sorted(modules.values(), key=lambda entries: -sum(len(written) for *_, written in entries))
    try:
        with ProcessPoolExecutor(len(os.sched_getaffinity(0))) as cores:
            for _ in cores.map(compile_listed, longest):
                pass
    except BrokenProcessPool:
        sys.exit("Not all kernels could be compiled; they will be when they are needed.")


if __name__ == "__main__":
    main()
