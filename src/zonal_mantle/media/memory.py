"""Bounded caches that key on values, within one budget of bytes taken from the machine's memory."""

from __future__ import annotations

import dataclasses
import os
import threading
from collections import OrderedDict, deque
from collections.abc import Callable, Hashable
from contextlib import AbstractContextManager, nullcontext
from typing import Any

import numpy as np

MIB = 1 << 20
LEAST_BUDGET, MOST_BUDGET = 768 * MIB, 2048 * MIB
BUDGET_SHARE = 0.35  # of the machine's memory, for all caches together


def machine_bytes() -> int:
    """Memory of the machine, or of the control group that we run in where that is less."""
    whole = os.sysconf("SC_PAGE_SIZE") * os.sysconf("SC_PHYS_PAGES")
    try:
        with open("/sys/fs/cgroup/memory.max") as file:
            return min(whole, int(file.read()))
    except (OSError, ValueError):
        return whole


def budget(share: float) -> int:
    """Bytes of the one budget that a cache with this share of it may hold."""
    return int(share * min(max(BUDGET_SHARE * machine_bytes(), LEAST_BUDGET), MOST_BUDGET))


class ByteCache:
    """Least-recently-used values up to a number of bytes. Safe to use from several threads.

    What is being made on one thread is waited for on the others, not made twice. A value that fills more than half of
    it goes before all smaller ones: one plate of eight thousand pixels would push out what a hundred frames are made
    of.
    """

    def __init__(self, limit_bytes: int) -> None:
        self.limit = limit_bytes
        self.used = 0
        self._entries: OrderedDict[Hashable, tuple[Any, int]] = OrderedDict()
        self._making: dict[Hashable, threading.Event] = {}
        self._lock = threading.Lock()

    def get(self, key: Hashable) -> Any:
        """The entry, or None."""
        with self._lock:
            entry = self._entries.get(key)
            if entry is None:
                return None
            self._entries.move_to_end(key)
            return entry[0]

    def put(self, key: Hashable, value: Any) -> None:
        """Keeps a value, letting the least recently used go."""
        size = held_bytes(value)
        with self._lock:
            if key in self._entries:
                self.used -= self._entries.pop(key)[1]
            if size > self.limit:
                return
            self._entries[key] = (value, size)
            self.used += size
            while self.used > self.limit:
                bulky = (each for each, entry in self._entries.items() if 2 * entry[1] > self.limit)
                self.used -= self._entries.pop(next(bulky, next(iter(self._entries))))[1]

    def make(self, key: Hashable, function: Callable[[], Any]) -> Any:
        """The entry, made by `function` where it is not there yet, by one thread at a time."""
        while True:
            with self._lock:
                entry = self._entries.get(key)
                if entry is not None:
                    self._entries.move_to_end(key)
                    return entry[0]
                waiting = self._making.get(key)
                if waiting is None:
                    self._making[key] = done = threading.Event()
                    break
            waiting.wait()
        try:
            value = function()
            self.put(key, value)
            return value
        finally:
            with self._lock:
                del self._making[key]
            done.set()

    def __contains__(self, key: Hashable) -> bool:
        with self._lock:
            return key in self._entries

    def __len__(self) -> int:
        with self._lock:
            return len(self._entries)

    def clear(self) -> None:
        """Lets everything go."""
        with self._lock:
            self._entries.clear()
            self.used = 0


class Turns:
    """A lock that is given in the order in which it is asked for; whoever has it may ask again."""

    def __init__(self) -> None:
        self._changed = threading.Condition()
        self._asking: deque[object] = deque()
        self._has: int | None = None
        self._times = 0

    def __enter__(self) -> None:
        own = threading.get_ident()
        with self._changed:
            if self._has != own:
                ticket = object()
                self._asking.append(ticket)
                self._changed.wait_for(lambda: self._has is None and self._asking[0] is ticket)
                self._asking.popleft()
                self._has = own
            self._times += 1

    def __exit__(self, *_: object) -> None:
        with self._changed:
            self._times -= 1
            if self._times == 0:
                self._has = None
                self._changed.notify_all()


LARGE_PIXELS = 16_000_000  # the widest plates that are usual have half of it, 8192×4320 has 35
_turns = Turns()


def is_large(size: tuple[int, int], scale: float = 1.0) -> bool:
    """Whether a picture of a width and height, at a scale, is so large that one is enough at a time."""
    return size[0] * size[1] * scale**2 > LARGE_PIXELS


def one_at_a_time(size: tuple[int, int], scale: float = 1.0) -> AbstractContextManager[None]:
    """A context in which a large picture is worked on alone: the buffers of two at once would need twice the memory,
    and both cores are busy with one. Others of any size go on beside it. What a cache waits for (`ByteCache.make`) may
    not ask for it within, but before.

    Parameters
    ----------
    size : width and height of the picture; it is worked on at `scale`.
    """
    return _turns if is_large(size, scale) else nullcontext()


def held_bytes(value: Any) -> int:
    """Bytes of an array, or of all arrays anywhere in a value."""
    if isinstance(value, np.ndarray):
        return int(value.nbytes)
    if isinstance(value, dict):
        return 1024 + sum(held_bytes(part) for part in value.values())
    if isinstance(value, list | tuple):
        return 64 + sum(held_bytes(part) for part in value)
    if dataclasses.is_dataclass(value):
        return 512 + sum(held_bytes(getattr(value, part.name)) for part in dataclasses.fields(value))
    return 64
