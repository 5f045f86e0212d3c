"""The threads on which pictures are drawn: one pool for the whole program. Kernels run there without the interpreter lock."""

import os
import threading
from collections.abc import Callable, Sequence
from concurrent.futures import ThreadPoolExecutor, wait
from typing import Any

import numpy as np

from ..basics.jit import STOPPED

CHECK_S = 0.02  # how often whoever waits asks whether it should stop

_lock = threading.Lock()
_threads = os.cpu_count() or 1
_pool: ThreadPoolExecutor | None = None


def set_threads(count: int) -> None:
    """How many threads draw; the same picture comes out whatever the number."""
    global _threads, _pool
    with _lock:
        _threads = max(1, count)
        _pool = None  # whoever draws with the old one goes on with it; it ends when the last has let go of it


def threads() -> int:
    return _threads


def spread(work: Callable[[np.ndarray], Any], count: int, spare: bool, check: Callable[[], None]) -> None:
    """work(next_) on all threads at once, for `count` parts: kernels take the number of one after another from next_ (1,) by `jit.taken`. Were the
    parts handed out here, each would wait for the interpreter lock, which a busy window gives back late. With `spare`, one of three threads or more is
    left alone: one of two is missed more than the window misses it (a drag shows a quarter fewer pictures, measured). check is
    called meanwhile and may raise; then no more parts are taken, and what was raised goes on when those under way have ended."""
    global _pool
    with _lock:
        if _pool is None:
            _pool = ThreadPoolExecutor(_threads, thread_name_prefix="rays")
        pool = _pool
    check()
    next_ = np.zeros(1, np.int64)
    running = [pool.submit(work, next_) for _ in range(min(_threads - (spare and _threads > 2), count))]
    try:
        while True:
            done, still = wait(running, CHECK_S)
            for one in done:
                one.result()
            if not still:
                return
            check()
    except BaseException:
        next_[0] = STOPPED
        wait(running)
        raise


def each(work: Callable[[Any], Any], parts: Sequence[Any], spare: bool, check: Callable[[], None]) -> None:
    """work(part) for each part, on all threads at once; for what is no kernel of ours."""
    left = iter(parts)
    spread(lambda _: [work(part) for part in left], len(parts), spare, check)
