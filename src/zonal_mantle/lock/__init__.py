"""Locks: measured motions that things can ride on."""

from .align import Area, Fit, pyramid
from .camera import scaled, solve_camera
from .check import remarks_on
from .errors import LockError
from .feed import lock_feed
from .fit import fit_motion, robust_motion
from .pan import solve_pan
from .patch import Found, Patch
from .plane import solve_plane
from .point import solve_point
from .residual import LockReading, read_lock
from .stay import solve_staying

__all__ = [
    "Area",
    "Fit",
    "Found",
    "LockError",
    "LockReading",
    "Patch",
    "fit_motion",
    "lock_feed",
    "pyramid",
    "read_lock",
    "remarks_on",
    "robust_motion",
    "scaled",
    "solve_camera",
    "solve_pan",
    "solve_plane",
    "solve_point",
    "solve_staying",
]
