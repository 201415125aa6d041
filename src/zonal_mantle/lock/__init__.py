"""Locks: measured motions that things can ride on."""

from .errors import LockError
from .feed import lock_feed
from .patch import Found, Patch
from .point import solve_point
from .residual import LockReading, read_lock
from .similarity import similarity

__all__ = [
    "Found",
    "LockError",
    "LockReading",
    "Patch",
    "lock_feed",
    "read_lock",
    "similarity",
    "solve_point",
]
