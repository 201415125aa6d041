"""A frame from a shot: zones far to near, cache, jobs, readings."""

from .pictures import Pictures
from .planner import plan
from .readings import Finding, Readings, take_readings
from .readings_matte import MatteOverShot
from .scheduler import Cancelled, Job, Scheduler
from .solve import Suggested, solve_lock, suggest_lock
from .stack import compose, compose_plan, finish_frame
from .views import BACKINGS, CHANNELS, STEPPED, VIEWS, WHOLE_VIEWS, Look, ViewName, view

__all__ = [
    "BACKINGS",
    "CHANNELS",
    "STEPPED",
    "VIEWS",
    "WHOLE_VIEWS",
    "Cancelled",
    "Finding",
    "Job",
    "Look",
    "MatteOverShot",
    "Pictures",
    "Readings",
    "Scheduler",
    "Suggested",
    "ViewName",
    "compose",
    "compose_plan",
    "finish_frame",
    "plan",
    "solve_lock",
    "suggest_lock",
    "take_readings",
    "view",
]
