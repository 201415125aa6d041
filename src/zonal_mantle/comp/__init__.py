"""A frame from a shot: zones far to near, cache, jobs, readings."""

from .frame import compose
from .jobs import Cancelled, Job
from .readings import Finding, Readings, take_readings
from .readings_matte import MatteOverShot
from .solve import propose_lock, solve_lock
from .store import PixelStore
from .views import BACKINGS, CHANNELS, STEPPED, VIEWS, Look, ViewName, view

__all__ = [
    "BACKINGS",
    "CHANNELS",
    "STEPPED",
    "VIEWS",
    "Cancelled",
    "Finding",
    "Job",
    "Look",
    "MatteOverShot",
    "PixelStore",
    "Readings",
    "ViewName",
    "compose",
    "propose_lock",
    "solve_lock",
    "take_readings",
    "view",
]
