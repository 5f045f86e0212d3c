"""How numeric kernels are compiled: cached on disk, without the interpreter lock, so that the window stays alive meanwhile."""

from collections.abc import Callable
from types import FunctionType
from typing import Any

import llvmlite.binding as llvm
import numba
from numba import _dynfunc  # type: ignore[attr-defined]
from numba.core import cgutils, codegen, compiler, types
from numba.core.registry import CPUDispatcher
from numba.extending import intrinsic

OPTIONS = {"nopython": True, "nogil": True, "fastmath": True}
STOPPED = 1 << 40  # for `taken`, in place of the next number: nothing more is to be done
WIDE = 12_000  # rows from which a second thread gains more than waking it costs (measured; on a busy machine it costs 1 ms)


# the machine's scheduler puts instructions right within a block itself; to do it here took 41 of the 152 s that the ray kernel was with LLVM, whose blocks are
# long, and gained nothing (measured)
llvm.set_option("lodestar", "-enable-misched=false")


def kernel(function: Callable) -> Any:
    return numba.njit(cache=True, nogil=True, fastmath=True)(function)


def parallel_kernel(function: Callable) -> Any:
    return numba.njit(cache=True, nogil=True, fastmath=True, parallel=True)(function)


class _PartLibrary(codegen.JITCodeLibrary):
    """The code of a part: a little optimised, so that the kernel has less to do, but not made into machine code."""

    def _optimize_final_module(self) -> None:
        builder = self._codegen._pass_builder(opt=1, loop_vectorize=False, slp_vectorize=False)
        builder.getModulePassManager().run(self._final_module, builder)

    def _finalize_final_module(self) -> None:
        self._finalized = True


class _WholeLibrary(codegen.JITCodeLibrary):
    """The code of a kernel of many parts. Counts of references that cancel each other are looked for within a block only: through all of the ray kernel it
    took 40 of 152 s, and there are few, since its arrays are `unmanaged`."""

    def _optimize_final_module(self) -> None:
        for options in ({"opt": 0, "loop_vectorize": False, "slp_vectorize": False}, {}):
            builder = self._codegen._pass_builder(**options)
            passes = builder.getModulePassManager()
            passes.add_refprune_pass(llvm.RefPruneSubpasses.PER_BB)
            passes.run(self._final_module, builder)


class _WholeCompiler(compiler.Compiler):
    def define_pipelines(self) -> Any:
        self.state.library = _WholeLibrary(self.state.targetctx.codegen(), self.state.func_id.func_qualname)
        self.state.library.enable_object_caching()
        return super().define_pipelines()


def whole(function: Callable) -> Any:
    """A kernel of many parts, compiled in less time."""
    return numba.njit(cache=True, nogil=True, fastmath=True, pipeline_class=_WholeCompiler)(function)


class _PartCompiler(compiler.Compiler):
    """Compiles a part of a kernel only as far as the kernel needs it: the compiler would make machine code of each, with all that it calls, which is never
    run."""

    def define_pipelines(self) -> Any:
        state = self.state
        state.library = _PartLibrary(state.targetctx.codegen(), state.func_id.func_qualname)
        state.flags.no_cpython_wrapper = state.flags.no_cfunc_wrapper = True
        # the context is a copy for this function alone; what it makes here is only the name by which kernels find the part
        state.targetctx.get_executable = lambda library, described, environment: _dynfunc.make_function(
            described.lookup_module(), described.qualname, "part of a kernel", 0, environment, (library,)
        )
        return super().define_pipelines()


class Part(CPUDispatcher):
    """A function that kernels alone can call. Python has it as `py_func`; a test puts it into a kernel of its own."""

    def __call__(self, *args: Any) -> Any:
        raise TypeError(f"{self.py_func.__name__} is a part of kernels, and has no machine code by itself")


def part(function: Callable) -> Any:
    """Part of a kernel: put in where what calls it is, which the compiler hands down; else called."""
    return Part(function, targetoptions=OPTIONS, pipeline_class=_PartCompiler)


def inlined(function: Callable) -> Any:
    """Part of a kernel, put into each place that calls it: calls with many arrays cost as much as what they do (measured)."""
    return Part(function, targetoptions={**OPTIONS, "forceinline": True}, pipeline_class=_PartCompiler)


class SizedKernel:
    """A kernel that is called with the number of its rows first, and runs on all cores only when they are many."""

    def __init__(self, function: Callable) -> None:
        # a name of its own: the cache tells compiled functions apart by name and signature, not by how they were compiled
        twin = FunctionType(function.__code__, function.__globals__, f"{function.__name__}_wide", function.__defaults__, function.__closure__)
        twin.__qualname__, twin.__module__ = f"{function.__qualname__}_wide", function.__module__
        self.narrow, self.wide = kernel(function), parallel_kernel(twin)

    def __call__(self, rows: int, *args: Any) -> Any:
        return (self.wide if rows > WIDE else self.narrow)(*args)


def _unmanaged(typing_context, of):  # type: ignore[no-untyped-def]
    """In a kernel: the same array, or named tuple of arrays and others, whose views are not counted. Counting the views of an array that all threads
    read makes them wait for each other at each (measured: three times the time). The caller keeps the arrays alive."""

    def uncounted(context, builder, kind, value):  # type: ignore[no-untyped-def]
        if isinstance(kind, types.BaseTuple):
            parts = zip(kind.types, cgutils.unpack_tuple(builder, value), strict=True)  # type: ignore[attr-defined]
            return context.make_tuple(builder, kind, [uncounted(context, builder, *part) for part in parts])
        if not isinstance(kind, types.Array):
            return value
        view = context.make_array(kind)(context, builder, value)
        view.meminfo = cgutils.get_null_value(view.meminfo.type)
        view.parent = cgutils.get_null_value(view.parent.type)
        return view._getvalue()

    return of(of), lambda context, builder, signature, arguments: uncounted(context, builder, signature.args[0], arguments[0])


unmanaged: Any = intrinsic(_unmanaged)


def _taken(typing_context, next_):  # type: ignore[no-untyped-def]
    """In a kernel: the number in next_ (1,) int64, to which 1 is added at the same moment, whichever threads ask."""

    def make(context, builder, signature, arguments):  # type: ignore[no-untyped-def]
        place = context.make_array(signature.args[0])(context, builder, arguments[0]).data
        return builder.atomic_rmw("add", place, context.get_constant(types.int64, 1), "monotonic")

    return types.int64(next_), make


taken: Any = intrinsic(_taken)
