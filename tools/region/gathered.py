"""Lessons made by two processes, in the order of their seeds."""

from __future__ import annotations

from collections.abc import Callable
from concurrent.futures import ProcessPoolExecutor
from typing import Any


def gathered(made: Callable[[range], list[Any]], count: int, at_once: int) -> list[Any]:
    """What `made` makes of the seeds from 0 to `count`, given so many at a time."""
    parts = [range(first, min(first + at_once, count)) for first in range(0, count, at_once)]
    lessons: list[Any] = []
    with ProcessPoolExecutor(2) as pool:
        for each in pool.map(made, parts):
            lessons += each
            print(f"{len(lessons)} lessons", end="\r", flush=True)
    return lessons
