"""Files are read and written beside the interface's thread, while what asked for it waits.

A disk that sleeps or a network that is slow must not keep the window from being painted. Short work like this (a shot's
file, the header of a picture) is asked for in the midst of what a person does, so it is waited for; nothing can be
clicked or typed meanwhile, as while a dialog for a file is open.
"""

from __future__ import annotations

import threading
from collections.abc import Callable
from concurrent.futures import Future
from typing import TypeVar

from PySide6.QtCore import QCoreApplication, QEventLoop, Qt, QTimer
from PySide6.QtWidgets import QApplication

T = TypeVar("T")
AT_ONCE_SECONDS = 0.03  # that are waited for without a word: nobody sees them
LOOK_MS = 5
WORDS_MS = 400  # after which the pointer says that one waits

_waiting = 0


def is_waiting() -> bool:
    """Whether something waits for a file: the window stays until it is there."""
    return _waiting > 0


def apart(work: Callable[[], T]) -> T:
    """What `work` returns, done on a thread of its own; errors are raised here. On the interface's thread the window
    goes on being painted meanwhile, and takes no clicks and keys.

    Examples
    --------
    >>> apart(lambda: 6 * 7)
    42
    """
    if threading.current_thread() is not threading.main_thread():
        return work()
    future: Future[T] = Future()

    def do() -> None:
        try:
            future.set_result(work())
        except BaseException as problem:
            future.set_exception(problem)

    threading.Thread(target=do, name="apart", daemon=True).start()
    try:
        future.exception(AT_ONCE_SECONDS)
    except TimeoutError:
        if QCoreApplication.instance() is not None:
            _paint_until(future)
    return future.result()


def _paint_until(future: Future[T]) -> None:
    global _waiting
    loop, look, words = QEventLoop(), QTimer(interval=LOOK_MS), QTimer(singleShot=True, interval=WORDS_MS)
    look.timeout.connect(lambda: loop.quit() if future.done() else None)
    words.timeout.connect(lambda: QApplication.setOverrideCursor(Qt.CursorShape.WaitCursor))
    look.start()
    words.start()
    _waiting += 1
    try:
        loop.exec(QEventLoop.ProcessEventsFlag.ExcludeUserInputEvents)
    finally:
        _waiting -= 1
        look.stop()
        if not words.isActive():
            QApplication.restoreOverrideCursor()
        words.stop()
