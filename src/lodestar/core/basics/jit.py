"""How numeric kernels are compiled: cached on disk, without the interpreter lock, so that the window stays alive meanwhile."""

from collections.abc import Callable
from typing import Any

import numba

WIDE = 12_000  # rows from which a second thread gains more than waking it costs (measured; on a busy machine it costs 1 ms)


def kernel(function: Callable) -> Any:
    return numba.njit(cache=True, nogil=True, fastmath=True)(function)


def parallel_kernel(function: Callable) -> Any:
    return numba.njit(cache=True, nogil=True, fastmath=True, parallel=True)(function)


class SizedKernel:
    """A kernel that is called with the number of its rows first, and runs on all cores only when they are many."""

    def __init__(self, function: Callable) -> None:
        self.narrow, self.wide = kernel(function), parallel_kernel(function)

    def __call__(self, rows: int, *args: Any) -> Any:
        return (self.wide if rows > WIDE else self.narrow)(*args)
