"""Runs per-pixel kernels over bands of rows on all cores.

The kernels release the interpreter's lock, so plain threads do; results do not depend on how rows are shared out.
"""

from __future__ import annotations

import os
import threading
from collections.abc import Callable, Iterable
from concurrent.futures import ThreadPoolExecutor
from typing import Any, TypeVar

import numpy as np
from numpy.typing import NDArray

T = TypeVar("T")

CORES = max(1, len(os.sched_getaffinity(0)))
_here = threading.local()
_pool = ThreadPoolExecutor(CORES, "bands", initializer=lambda: setattr(_here, "is_band", True))


def run_bands(kernel: Callable[..., None], height: int, *arguments: Any) -> None:
    """Calls `kernel(first_row, end_row, *arguments)` so that all rows are done once. What is itself a band does them
    alone: it would wait for itself."""
    count = 1 if getattr(_here, "is_band", False) else min(CORES * 4, max(1, height // 16))
    if count == 1:
        kernel(0, height, *arguments)
        return
    edges = [height * k // count for k in range(count + 1)]
    futures = [_pool.submit(kernel, edges[k], edges[k + 1], *arguments) for k in range(count)]
    for future in futures:
        future.result()


def run_halves(kernel: Callable[..., None], height: int, *arguments: Any) -> None:
    """As `run_bands`, with one band a core of which the caller takes the first: for kernels of a millisecond or two."""
    edges = [height * k // CORES for k in range(CORES + 1)]
    futures = [_pool.submit(kernel, edges[k], edges[k + 1], *arguments) for k in range(1, CORES)]
    kernel(0, edges[1], *arguments)
    for future in futures:
        future.result()


def run_each(work: Callable[[Any], None], things: Iterable[Any]) -> None:
    """Calls `work` with each thing, on all cores; for work that waits for none of the others."""
    for future in [_pool.submit(work, each) for each in things]:
        future.result()


def run_apart(work: Callable[..., T], *arguments: Any) -> Callable[[], T]:
    """Starts `work` on another core; calling what is returned waits for what it gives. What is itself a band does the
    work at once: it would wait for itself."""
    if getattr(_here, "is_band", False):
        made = work(*arguments)
        return lambda: made
    return _pool.submit(work, *arguments).result


def cleared(shape: tuple[int, ...]) -> NDArray[np.float32]:
    """A float32 picture of zeros. Faster than NumPy's own for large ones: on all cores, and in large pages."""
    out = np.empty(shape, np.float32)
    run_bands(lambda y0, y1: out[y0:y1].fill(0), shape[0])
    return out
