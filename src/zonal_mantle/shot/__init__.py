"""The document: frozen values, keyed numbers, shapes, history, the file."""

from .errors import MantleError, ShotError
from .file import SUFFIX, autosave_path, load, newer_autosave, save
from .history import History
from .keyed import Key, Keyed
from .matte import (
    PULLS,
    ClearSkyPull,
    ColourPull,
    ColourSample,
    DifferencePull,
    Edge,
    Levels,
    LumaPull,
    Matte,
    OldSky,
    Pull,
    ScreenPull,
)
from .shapes import Shape, ShapeKey, ellipse_key, rectangle_key
from .shot import Air, Shot
from .source import Source
from .zone import Lock, LockFrame, Mark, Match, MatteUse, Placement, Zone

__all__ = [
    "PULLS",
    "SUFFIX",
    "Air",
    "ClearSkyPull",
    "ColourPull",
    "ColourSample",
    "DifferencePull",
    "Edge",
    "History",
    "Key",
    "Keyed",
    "Levels",
    "Lock",
    "LockFrame",
    "LumaPull",
    "MantleError",
    "Mark",
    "Match",
    "Matte",
    "MatteUse",
    "OldSky",
    "Placement",
    "Pull",
    "ScreenPull",
    "Shape",
    "ShapeKey",
    "Shot",
    "ShotError",
    "Source",
    "Zone",
    "autosave_path",
    "ellipse_key",
    "load",
    "newer_autosave",
    "rectangle_key",
    "save",
]
