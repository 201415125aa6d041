"""The document: frozen values, keyed numbers, shapes, history, the file."""

from .errors import MantleError, ShotError
from .file import SUFFIX, autosave_path, load, newer_autosave, save
from .history import History
from .keyed import Key, Keyed
from .shapes import Shape, ShapeKey
from .shot import Air, Shot
from .source import Source
from .zone import Lock, LockFrame, LumaPull, Mark, Match, Matte, Placement, Zone

__all__ = [
    "SUFFIX",
    "Air",
    "History",
    "Key",
    "Keyed",
    "Lock",
    "LockFrame",
    "LumaPull",
    "MantleError",
    "Mark",
    "Match",
    "Matte",
    "Placement",
    "Shape",
    "ShapeKey",
    "Shot",
    "ShotError",
    "Source",
    "Zone",
    "autosave_path",
    "load",
    "newer_autosave",
    "save",
]
