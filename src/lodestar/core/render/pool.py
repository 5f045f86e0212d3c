"""The threads on which pictures are drawn: one pool for the whole program. Kernels run there without the interpreter lock."""

import os
import threading
from collections.abc import Callable, Sequence
from concurrent.futures import ThreadPoolExecutor, wait
from typing import Any

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


def spread(
    work: Callable[[Any], None], parts: Sequence[Any], spare: bool, check: Callable[[], None], stop: Callable[[], None] = lambda: None
) -> None:
    """work(part) for each part, on all threads at once; with `spare`, one of three or more is left alone: one of two is missed more than
    the window misses it (a drag shows a quarter fewer pictures, measured). check is called meanwhile and may raise; then `stop` is
    called, which may make the rest end sooner, and what was raised goes on when all have ended."""
    global _pool
    with _lock:
        if _pool is None:
            _pool = ThreadPoolExecutor(_threads, thread_name_prefix="rays")
        pool = _pool
    left, take, given_up = iter(parts), threading.Lock(), threading.Event()

    def some() -> None:
        while True:
            with take:
                part = next(left, None)
            if part is None or given_up.is_set():
                return
            work(part)

    check()
    running = [pool.submit(some) for _ in range(min(_threads - (spare and _threads > 2), len(parts)))]
    try:
        while True:
            done, still = wait(running, CHECK_S)
            for one in done:
                one.result()
            if not still:
                return
            check()
    except BaseException:
        given_up.set()
        stop()
        wait(running)
        raise
