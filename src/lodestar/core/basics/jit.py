"""How numeric kernels are compiled: cached on disk, without the interpreter lock, so that the window stays alive meanwhile."""

from collections.abc import Callable
from types import FunctionType
from typing import Any

import numba
from numba.core import cgutils, types
from numba.extending import intrinsic

WIDE = 12_000  # rows from which a second thread gains more than waking it costs (measured; on a busy machine it costs 1 ms)


def kernel(function: Callable) -> Any:
    return numba.njit(cache=True, nogil=True, fastmath=True)(function)


def parallel_kernel(function: Callable) -> Any:
    return numba.njit(cache=True, nogil=True, fastmath=True, parallel=True)(function)


def inlined(function: Callable) -> Any:
    """Part of a kernel, put into each place that calls it: calls with many arrays cost as much as what they do (measured)."""
    return numba.njit(cache=True, nogil=True, fastmath=True, forceinline=True)(function)


class SizedKernel:
    """A kernel that is called with the number of its rows first, and runs on all cores only when they are many."""

    def __init__(self, function: Callable) -> None:
        # a name of its own: the cache tells compiled functions apart by name and signature, not by how they were compiled
        twin = FunctionType(function.__code__, function.__globals__, f"{function.__name__}_wide", function.__defaults__, function.__closure__)
        twin.__qualname__, twin.__module__ = f"{function.__qualname__}_wide", function.__module__
        self.narrow, self.wide = kernel(function), parallel_kernel(twin)

    def __call__(self, rows: int, *args: Any) -> Any:
        return (self.wide if rows > WIDE else self.narrow)(*args)


def _unmanaged(typing_context, array):  # type: ignore[no-untyped-def]
    """In a kernel: the same array, whose views are not counted. Counting the views of an array that all threads read makes them wait for each
    other at each (measured: three times the time). The caller keeps the array alive."""

    def make(context, builder, signature, arguments):  # type: ignore[no-untyped-def]
        view = context.make_array(signature.args[0])(context, builder, arguments[0])
        view.meminfo = cgutils.get_null_value(view.meminfo.type)
        view.parent = cgutils.get_null_value(view.parent.type)
        return view._getvalue()

    return array(array), make


unmanaged: Any = intrinsic(_unmanaged)


def _taken(typing_context, next_):  # type: ignore[no-untyped-def]
    """In a kernel: the number in next_ (1,) int64, to which 1 is added at the same moment, whichever threads ask."""

    def make(context, builder, signature, arguments):  # type: ignore[no-untyped-def]
        place = context.make_array(signature.args[0])(context, builder, arguments[0]).data
        return builder.atomic_rmw("add", place, context.get_constant(types.int64, 1), "monotonic")

    return types.int64(next_), make


taken: Any = intrinsic(_taken)
