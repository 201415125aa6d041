"""A bounded cache that keys on values: nothing has to be told that it is out of date."""

from __future__ import annotations

import threading
from collections import OrderedDict
from collections.abc import Callable, Hashable
from typing import Any

import numpy as np


class ByteCache:
    """Least-recently-used arrays up to a number of bytes. Safe to use from several threads."""

    def __init__(self, limit_bytes: int) -> None:
        self.limit = limit_bytes
        self.used = 0
        self._entries: OrderedDict[Hashable, Any] = OrderedDict()
        self._lock = threading.Lock()

    def get(self, key: Hashable) -> Any:
        """The entry, or None."""
        with self._lock:
            value = self._entries.get(key)
            if value is not None:
                self._entries.move_to_end(key)
            return value

    def put(self, key: Hashable, value: Any) -> None:
        """Keeps an array, letting the least recently used go."""
        size = _size(value)
        with self._lock:
            if key in self._entries:
                self.used -= _size(self._entries.pop(key))
            if size > self.limit:
                return
            self._entries[key] = value
            self.used += size
            while self.used > self.limit:
                _, gone = self._entries.popitem(last=False)
                self.used -= _size(gone)

    def make(self, key: Hashable, function: Callable[[], Any]) -> Any:
        """The entry, made by `function` where it is not there yet."""
        value = self.get(key)
        if value is None:
            value = function()
            self.put(key, value)
        return value

    def __contains__(self, key: Hashable) -> bool:
        with self._lock:
            return key in self._entries

    def clear(self) -> None:
        """Lets everything go."""
        with self._lock:
            self._entries.clear()
            self.used = 0


def _size(value: Any) -> int:
    """Bytes of an array, or of all arrays that a value holds."""
    if isinstance(value, np.ndarray):
        return int(value.nbytes)
    parts = vars(value).values() if hasattr(value, "__dict__") else ()
    return 1024 + sum(int(part.nbytes) for part in parts if isinstance(part, np.ndarray))
