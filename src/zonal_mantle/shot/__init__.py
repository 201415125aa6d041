"""The document: frozen values, keyed numbers, shapes, history, the file."""

from .base import Value
from .errors import MantleError, ShotError
from .file import SUFFIX, autosave_path, load, newer_autosave, save
from .follow import Follow
from .guides import Base, Light, Line
from .hang import Blend, Card, Corner, Dome, Mirror, Seam, Timing
from .history import History
from .keyed import Key, Keyed
from .lock import Correction, Lens, Lock, LockFrame, LockKind, Mark, Motion, ScenePoint
from .match import (
    Aim,
    AimArea,
    AirMatch,
    Cdl,
    GrainMatch,
    GrainModel,
    LensMatch,
    Match,
    ToneMatch,
    WrapMatch,
)
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
    SkyStroke,
)
from .shapes import Shape, ShapeKey, ellipse_key, rectangle_key
from .shot import Air, Mist, Optics, Shot
from .source import Source
from .zone import MatteUse, Placement, Zone

__all__ = [
    "PULLS",
    "SUFFIX",
    "Aim",
    "AimArea",
    "Air",
    "AirMatch",
    "Base",
    "Blend",
    "Card",
    "Cdl",
    "ClearSkyPull",
    "ColourPull",
    "ColourSample",
    "Corner",
    "Correction",
    "DifferencePull",
    "Dome",
    "Edge",
    "Follow",
    "GrainMatch",
    "GrainModel",
    "History",
    "Key",
    "Keyed",
    "Lens",
    "LensMatch",
    "Levels",
    "Light",
    "Line",
    "Lock",
    "LockFrame",
    "LockKind",
    "LumaPull",
    "MantleError",
    "Mark",
    "Match",
    "Matte",
    "MatteUse",
    "Mirror",
    "Mist",
    "Motion",
    "OldSky",
    "Optics",
    "Placement",
    "Pull",
    "ScenePoint",
    "ScreenPull",
    "Seam",
    "Shape",
    "ShapeKey",
    "Shot",
    "ShotError",
    "SkyStroke",
    "Source",
    "Timing",
    "ToneMatch",
    "Value",
    "WrapMatch",
    "Zone",
    "autosave_path",
    "ellipse_key",
    "load",
    "newer_autosave",
    "rectangle_key",
    "save",
]
