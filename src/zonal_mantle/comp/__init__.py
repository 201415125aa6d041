"""A frame from a shot: zones far to near, cache, jobs, readings."""

from .all_readings import take_readings
from .finding import Finding, by_severity, came_back, reason_set_aside
from .matte_over_shot import MatteOverShot
from .mends import Mend, mend_of, mend_of_lock, mend_of_matte, mend_of_ride, mended
from .pictures import Pictures
from .planner import plan
from .readings import Readings
from .scheduler import Cancelled, Job, Scheduler
from .solve import solve_lock
from .stack import compose, compose_plan, finish_frame
from .suggest import Suggested, suggest_lock
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
    "Mend",
    "Pictures",
    "Readings",
    "Scheduler",
    "Suggested",
    "ViewName",
    "by_severity",
    "came_back",
    "compose",
    "compose_plan",
    "finish_frame",
    "mend_of",
    "mend_of_lock",
    "mend_of_matte",
    "mend_of_ride",
    "mended",
    "plan",
    "reason_set_aside",
    "solve_lock",
    "suggest_lock",
    "take_readings",
    "view",
]
