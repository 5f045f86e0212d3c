"""How numeric kernels are compiled: cached on disk, without the interpreter lock, so that the window stays alive meanwhile."""

from collections.abc import Callable
from typing import Any

import numba


def kernel(function: Callable) -> Any:
    return numba.njit(cache=True, nogil=True, fastmath=True)(function)


def parallel_kernel(function: Callable) -> Any:
    return numba.njit(cache=True, nogil=True, fastmath=True, parallel=True)(function)
