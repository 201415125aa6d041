"""The document: frozen values, keyed numbers, shapes, history, the file."""

from .errors import MantleError, ShotError
from .file import SUFFIX, autosave_path, load, newer_autosave, save
from .follow import Follow
from .history import History
from .keyed import Key, Keyed
from .lock import Correction, Lens, Lock, LockFrame, LockKind, Mark, Motion, ScenePoint
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
from .zone import Match, MatteUse, Placement, Zone

__all__ = [
    "PULLS",
    "SUFFIX",
    "Air",
    "ClearSkyPull",
    "ColourPull",
    "ColourSample",
    "Correction",
    "DifferencePull",
    "Edge",
    "Follow",
    "History",
    "Key",
    "Keyed",
    "Lens",
    "Levels",
    "Lock",
    "LockFrame",
    "LockKind",
    "LumaPull",
    "MantleError",
    "Mark",
    "Match",
    "Matte",
    "MatteUse",
    "Motion",
    "OldSky",
    "Placement",
    "Pull",
    "ScenePoint",
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
