"""Writes the list of kernels that set-up compiles, from what a run of the tests has kept. Usage: list_kernels.py CACHE

CACHE is the folder that Numba keeps its kernels in, `.venv/kernels` for the tests.
"""

from __future__ import annotations

import io
import json
import pickle
import sys
from importlib import import_module
from pathlib import Path
from pkgutil import walk_packages

from numba.core.dispatcher import Dispatcher

import zonal_mantle

OUT = Path(zonal_mantle.__file__).parent / "kernels.json"


def main(cache: Path) -> None:
    modules = [each.name for each in walk_packages(zonal_mantle.__path__, "zonal_mantle.") if ".ui" not in each.name]
    homes: dict[tuple[str, int], tuple[str, str]] = {}
    for module in modules:
        for name, value in vars(import_module(module)).items():
            if isinstance(value, Dispatcher) and value.py_func.__module__ == module:
                homes[(value.py_func.__name__, value.py_func.__code__.co_firstlineno)] = (module, name)
    entries = set()
    for index in cache.rglob("*.nbi"):
        name, line = index.name.split(".py")[0].rsplit("-", 1)
        home = homes.get((name.split(".", 1)[1], int(line)))
        if home is None:
            continue  # of a state of the sources that is gone
        kept = io.BytesIO(index.read_bytes())
        pickle.load(kept)
        for signature, *_ in pickle.loads(kept.read())[1]:
            entries.add((*home, ", ".join(str(each) for each in signature)))
    if not entries:
        sys.exit(f"No kernel of these sources is kept in {cache}: the list stays as it was.")
    lines = ",\n".join(json.dumps(entry) for entry in sorted(entries))
    OUT.write_text(f"[\n{lines}\n]\n", encoding="utf-8")
    print(f"{len(entries)} kernels")


if __name__ == "__main__":
    main(Path(sys.argv[1]))
