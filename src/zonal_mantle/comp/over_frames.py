"""The same for many frames, a few of them at once."""

from __future__ import annotations

from collections import deque
from collections.abc import Callable, Sequence
from concurrent.futures import Future, ThreadPoolExecutor
from typing import TypeVar

T = TypeVar("T")
R = TypeVar("R")
AT_ONCE = 2  # half of what is done for a frame keeps one core only


def over_frames(things: Sequence[T], work: Callable[[T], R], begun: Callable[[int, T], None]) -> list[R]:
    """What `work` returns for each thing, in their order. Errors are raised here, and then nothing more is begun.

    Parameters
    ----------
    begun : is told of each thing before it is begun, on this thread; what it raises (`Cancelled`) ends all.

    Examples
    --------
    >>> over_frames([1, 2, 3], lambda frame: frame * 10, lambda place, frame: None)
    [10, 20, 30]
    """
    out: list[R] = []
    going: deque[Future[R]] = deque()
    with ThreadPoolExecutor(AT_ONCE, "frames") as pool:
        try:
            for place, thing in enumerate(things):
                begun(place, thing)
                going.append(pool.submit(work, thing))
                if len(going) == AT_ONCE:
                    out.append(going.popleft().result())
            out += [each.result() for each in going]
        except BaseException:
            pool.shutdown(cancel_futures=True)
            raise
    return out
