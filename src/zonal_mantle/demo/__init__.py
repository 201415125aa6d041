"""The demo: a made-up shot and how it was made."""

from .shipped import SHIPPED, demo_shot
from .shot import make_demo, set_up
from .write import NAME, DemoPlan

VERSION = 4

__all__ = ["NAME", "SHIPPED", "VERSION", "DemoPlan", "demo_shot", "make_demo", "set_up"]
