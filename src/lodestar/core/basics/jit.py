"""How numeric kernels are compiled: cached on disk, without the interpreter lock, so that the window stays alive meanwhile."""

from collections.abc import Callable
from types import FunctionType
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
        # a name of its own: the cache tells compiled functions apart by name and signature, not by how they were compiled
        twin = FunctionType(function.__code__, function.__globals__, f"{function.__name__}_wide", function.__defaults__, function.__closure__)
        twin.__qualname__, twin.__module__ = f"{function.__qualname__}_wide", function.__module__
        self.narrow, self.wide = kernel(function), parallel_kernel(twin)

    def __call__(self, rows: int, *args: Any) -> Any:
        return (self.wide if rows > WIDE else self.narrow)(*args)
