"""The demo: a made-up shot and how it was made."""

from .shot import make_demo, set_up
from .write import NAME, DemoPlan

VERSION = 3

__all__ = ["NAME", "VERSION", "DemoPlan", "make_demo", "set_up"]
