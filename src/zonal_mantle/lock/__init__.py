"""Locks: measured motions that things can ride on."""

from .align import Area, Fit
from .camera import camera_from_tracks, scaled, solve_camera
from .check import remarks_on
from .errors import LockError, OnlyTurned
from .features import follow_features
from .feed import lock_feed
from .fit import fit_motion, robust_motion
from .join import joined
from .level import pyramid
from .pan import solve_pan
from .patch import Found, Patch
from .plane import solve_plane
from .point import solve_point
from .propose import propose, propose_marks, region_parallax
from .residual import LockReading, read_lock
from .stay import solve_staying
from .turn_of_marks import followed_on, turning_marks

__all__ = [
    "Area",
    "Fit",
    "Found",
    "LockError",
    "LockReading",
    "OnlyTurned",
    "Patch",
    "camera_from_tracks",
    "fit_motion",
    "follow_features",
    "followed_on",
    "joined",
    "lock_feed",
    "propose",
    "propose_marks",
    "pyramid",
    "read_lock",
    "region_parallax",
    "remarks_on",
    "robust_motion",
    "scaled",
    "solve_camera",
    "solve_pan",
    "solve_plane",
    "solve_point",
    "solve_staying",
    "turning_marks",
]
