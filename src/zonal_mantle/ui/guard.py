"""An error while Qt asks one of our classes something must not take the window along.

An error that leaves a method which Qt calls (a paint event, a mouse event, a size hint) ends the process where it was
raised by compiled code and no Python code has looked at it: PySide 6.10 reads its arguments before it is normalised.
So what Qt calls is looked over here: errors go to `sys.excepthook`, and Qt goes on without the answer.
"""

from __future__ import annotations

import functools
import logging
import sys
import traceback
from collections.abc import Callable
from types import FunctionType
from typing import Any, TypeVar

from PySide6.QtCore import QSize

T = TypeVar("T", bound=type)
NOTHING: dict[str, Any] = {  # what Qt is told where a method failed; None elsewhere
    "event": False, "eventFilter": False, "sizeHint": QSize(), "minimumSizeHint": QSize(), "minimumSize": QSize(),
    "hasHeightForWidth": False, "heightForWidth": 0, "count": 0,
}  # fmt: skip


def guarded(cls: T) -> T:
    """A class whose methods that Qt calls keep their errors to themselves.

    Examples
    --------
    >>> from PySide6.QtCore import QObject
    >>> @guarded
    ... class Watch(QObject):
    ...     def eventFilter(self, watched, event):
    ...         return 1 / 0
    >>> kept, sys.excepthook = sys.excepthook, lambda kind, error, trace: print(error)
    >>> Watch().eventFilter(None, None)
    division by zero
    False
    >>> sys.excepthook = kept
    """
    for name in overrides(cls):
        setattr(cls, name, _kept(vars(cls)[name], NOTHING.get(name)))
    return cls


def overrides(cls: type) -> list[str]:
    """Names of a class's own methods that stand in for Qt's."""
    theirs = [vars(base) for base in cls.__mro__[1:] if base.__module__.startswith("PySide6")]
    return [
        name for name, value in vars(cls).items()
        if isinstance(value, FunctionType) and not name.startswith("__") and any(name in each for each in theirs)
    ]  # fmt: skip


def is_guarded(method: Callable[..., Any]) -> bool:
    """Whether a method was looked over by `guarded`."""
    return hasattr(method, "keeps_errors")


def _kept(method: Callable[..., Any], nothing: Any) -> Callable[..., Any]:
    @functools.wraps(method)
    def kept(*arguments: Any) -> Any:
        try:
            return method(*arguments)
        except Exception as error:
            sys.excepthook(type(error), error, error.__traceback__)
            traceback.clear_frames(error.__traceback__)  # a painter that lives on would spoil all that follows
            return nothing

    kept.keeps_errors = True  # type: ignore[attr-defined]
    return kept


def log_uncaught(say: Callable[[str], object]) -> None:
    """From now on errors that nobody caught are logged in full, and said in one sentence."""

    def uncaught(kind: type[BaseException], error: BaseException, trace: Any) -> None:
        logging.getLogger("zonal_mantle").error("Nobody caught this", exc_info=(kind, error, trace))
        say(
            "Something went wrong that was not foreseen; the shot is as it was before. Help, Save a fault report packs "
            "what is known of it."
        )

    sys.excepthook = uncaught
