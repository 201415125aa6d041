"""A frame from a shot: zones far to near, cache, jobs, readings."""

from .frame import compose
from .jobs import Cancelled, Job
from .readings import Finding, Readings, take_readings
from .solve import solve_lock
from .store import PixelStore
from .views import CHANNELS, VIEWS, Look, ViewName, view

__all__ = [
    "CHANNELS",
    "VIEWS",
    "Cancelled",
    "Finding",
    "Job",
    "Look",
    "PixelStore",
    "Readings",
    "ViewName",
    "compose",
    "solve_lock",
    "take_readings",
    "view",
]
