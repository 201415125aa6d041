"""One scheduler for all work off the interface's thread: what matters most goes first, and the newest wins."""

from __future__ import annotations

import heapq
import itertools
import logging
import threading
from collections.abc import Callable
from typing import Any

from ..shot import MantleError

log = logging.getLogger(__name__)
PICTURE, PROBE, JOB, PREVIEW, READINGS, AHEAD = range(6)  # priorities, the first is first
WORKERS = 3


class Cancelled(Exception):
    """The job was cancelled; nothing of it is kept."""


class Job:
    """One piece of work.

    `work` gets the job and calls `job.progress(share, words)` often; that raises `Cancelled` once the job is
    cancelled. `on_progress(share, words)` and `on_end(result, error)` are called from the worker's thread; a cancelled
    job ends with neither result nor error.
    """

    def __init__(
        self,
        work: Callable[[Job], Any],
        on_progress: Callable[[float, str], None] = lambda share, words: None,
        on_end: Callable[[Any, Exception | None], None] = lambda result, error: None,
    ) -> None:
        self._work, self._on_progress, self._on_end = work, on_progress, on_end
        self._stop, self._done = threading.Event(), threading.Event()

    def cancel(self) -> None:
        """Asks the job to stop; it does at its next report of progress, or never begins."""
        self._stop.set()

    @property
    def cancelled(self) -> bool:
        """Whether the job was asked to stop."""
        return self._stop.is_set()

    def wait(self, seconds: float | None = None) -> bool:
        """Waits until the job has ended; False where it has not by then."""
        return self._done.wait(seconds)

    def progress(self, share: float, words: str = "") -> None:
        """Reports how far the job is.

        Raises
        ------
        Cancelled : the job was cancelled.
        """
        if self._stop.is_set():
            raise Cancelled
        self._on_progress(share, words)

    def run(self) -> None:
        """Does the work on the calling thread."""
        result: Any = None
        error: Exception | None = None
        try:
            if not self._stop.is_set():
                result = self._work(self)
        except Cancelled:
            result = None
        except MantleError as problem:  # said to whoever asked: nothing of it is a fault of ours
            log.info("A job ended: %s", problem)
            error = problem
        except Exception as problem:
            log.exception("A job failed")
            error = problem
        try:
            self._on_end(result, error)
        finally:
            self._done.set()


class Scheduler:
    """Runs jobs on a few threads. Jobs of one lane run one at a time; a new one takes the place of those that wait
    there and, where it says so, stops the one that runs. One thread is always left for pictures."""

    def __init__(self, workers: int = WORKERS) -> None:
        self._count = max(workers, 2)
        self._waiting: list[tuple[int, int, str, Job]] = []
        self._running: dict[str, tuple[int, Job]] = {}
        self._order = itertools.count()
        self._changed = threading.Condition()
        self._threads: list[threading.Thread] = []
        self._closing = False

    def submit(self, lane: str, job: Job, priority: int = JOB, stop_running: bool = False) -> Job:
        """Takes a job into a lane. What waited there is cancelled; what runs there only with `stop_running`."""
        with self._changed:
            dropped = [entry[3] for entry in self._waiting if entry[2] == lane]
            self._waiting = [entry for entry in self._waiting if entry[2] != lane]
            heapq.heapify(self._waiting)
            if stop_running and lane in self._running:
                self._running[lane][1].cancel()
            if self._closing:
                dropped.append(job)
            else:
                heapq.heappush(self._waiting, (priority, next(self._order), lane, job))
                self._start_threads()
                self._changed.notify_all()
        for old in dropped:
            old.cancel()
            old.run()  # ends it: it does nothing but say so
        return job

    def is_busy(self, lane: str) -> bool:
        """Whether a lane has anything to do."""
        with self._changed:
            return lane in self._running or any(entry[2] == lane for entry in self._waiting)

    def close(self, seconds: float = 5.0) -> None:
        """Cancels everything and waits for what runs."""
        with self._changed:
            self._closing = True
            left = [entry[3] for entry in self._waiting] + [job for _, job in self._running.values()]
            self._waiting.clear()
            for job in left:
                job.cancel()
            self._changed.notify_all()
        for thread in self._threads:
            thread.join(seconds)

    def _start_threads(self) -> None:
        while len(self._threads) < self._count:
            thread = threading.Thread(target=self._work, daemon=True, name=f"worker {len(self._threads) + 1}")
            self._threads.append(thread)
            thread.start()

    def _next(self) -> tuple[int, str, Job] | None:
        """The first job whose lane is free; None where everything has to wait."""
        others = sum(priority > PICTURE for priority, _ in self._running.values())
        for entry in sorted(self._waiting):
            priority, _, lane, job = entry
            if lane in self._running or (priority > PICTURE and others >= self._count - 1):
                continue
            self._waiting.remove(entry)
            heapq.heapify(self._waiting)
            return priority, lane, job
        return None

    def _work(self) -> None:
        while True:
            with self._changed:
                while (found := self._next()) is None:
                    if self._closing:
                        return
                    self._changed.wait()
                priority, lane, job = found
                self._running[lane] = (priority, job)
            try:
                job.run()
            except Exception:
                log.exception("A job's end failed")
            finally:
                with self._changed:
                    del self._running[lane]
                    self._changed.notify_all()
