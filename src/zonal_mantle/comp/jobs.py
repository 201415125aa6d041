"""Long work: progress, and cancel at once."""

from __future__ import annotations

import logging
import threading
from collections.abc import Callable
from typing import Any

log = logging.getLogger(__name__)


class Cancelled(Exception):
    """The job was cancelled; nothing of it is kept."""


class Job:
    """One piece of long work in a thread of its own.

    `work` gets the job and calls `job.progress(share, words)` often; that raises `Cancelled` once the job is
    cancelled. `on_progress(share, words)` and `on_end(result, error)` are called from the job's thread; a cancelled
    job ends with neither result nor error.
    """

    def __init__(
        self,
        work: Callable[[Job], Any],
        on_progress: Callable[[float, str], None] = lambda share, words: None,
        on_end: Callable[[Any, Exception | None], None] = lambda result, error: None,
    ) -> None:
        self._work, self._on_progress, self._on_end = work, on_progress, on_end
        self._stop = threading.Event()
        self._thread = threading.Thread(target=self._run, daemon=True, name="job")

    def start(self) -> Job:
        """Begins."""
        self._thread.start()
        return self

    def cancel(self) -> None:
        """Asks the job to stop; it does at its next report of progress."""
        self._stop.set()

    @property
    def cancelled(self) -> bool:
        """Whether the job was asked to stop."""
        return self._stop.is_set()

    def wait(self, seconds: float | None = None) -> None:
        """Waits until the job has ended."""
        self._thread.join(seconds)

    def progress(self, share: float, words: str = "") -> None:
        """Reports how far the job is.

        Raises
        ------
        Cancelled : the job was cancelled.
        """
        if self._stop.is_set():
            raise Cancelled
        self._on_progress(share, words)

    def _run(self) -> None:
        result, error = None, None
        try:
            result = self._work(self)
        except Cancelled:
            result = None
        except Exception as problem:
            log.exception("A job failed")
            error = problem
        self._on_end(result, error)
