"""Embree's C functions: a scene for each mesh, and one over all instances of them, which kernels ask ray by ray.

The arrays of rays of its Python wheel hold the interpreter lock; the C functions, called from a compiled kernel, do not. Kernels
call them by name, so that what was compiled can be kept on disk. Interface: Embree 4 API, the embree.org manual.
"""

import ctypes
import ctypes.util
import functools
import importlib.util
import itertools
import weakref
from pathlib import Path
from typing import Any, NamedTuple

import llvmlite.binding
import numpy as np
from numba import types

from ..basics.errors import RenderError
from ..shape.extrude import Mesh

TRIANGLES, INSTANCE, INDEX, VERTEX, UINT3, FLOAT3, MATRIX_BY_COLUMNS = 0, 121, 0, 1, 0x5003, 0x9003, 0x9234  # Embree's own numbers
ROBUST = 4  # the flag of a scene whose edges let no ray through
MOST_STEPS = 65  # of a matrix within an exposure; Embree takes 129
KEPT_ROUNDS = 16  # two a picture: a view, a delivery and groups behind their own mattes take turns
NONE = 0xFFFFFFFF

# both: (scene, address of the ray, address of arguments or 0), without a result; a ray with its hit is 96 bytes, 16-byte aligned
intersect: Any = types.ExternalFunction("rtcIntersect1", types.void(types.intp, types.intp, types.intp))
occluded: Any = types.ExternalFunction("rtcOccluded1", types.void(types.intp, types.intp, types.intp))

_P, _U, _I, _S = ctypes.c_void_p, ctypes.c_uint, ctypes.c_int, ctypes.c_size_t
_FUNCTIONS = {
    "rtcNewDevice": (_P, [ctypes.c_char_p]),
    "rtcGetDeviceError": (_I, [_P]),
    "rtcGetDeviceProperty": (ctypes.c_ssize_t, [_P, _I]),
    "rtcNewScene": (_P, [_P]),
    "rtcSetSceneFlags": (None, [_P, _I]),
    "rtcCommitScene": (None, [_P]),
    "rtcReleaseScene": (None, [_P]),
    "rtcNewGeometry": (_P, [_P, _I]),
    "rtcSetNewGeometryBuffer": (_P, [_P, _I, _U, _I, _S, _S]),
    "rtcSetGeometryMask": (None, [_P, _U]),
    "rtcSetGeometryInstancedScene": (None, [_P, _P]),
    "rtcSetGeometryTimeStepCount": (None, [_P, _U]),
    "rtcSetGeometryTransform": (None, [_P, _U, _I, _P]),
    "rtcCommitGeometry": (None, [_P]),
    "rtcReleaseGeometry": (None, [_P]),
    "rtcAttachGeometry": (_U, [_P, _P]),
}
_VERSION = 0  # RTC_DEVICE_PROPERTY_VERSION


def _places() -> list[str]:
    """Where the library may be: hidden in its wheel, or of the system."""
    found = []
    spec = importlib.util.find_spec("embreex")
    if spec is not None and spec.origin:
        found = sorted(str(p) for p in Path(spec.origin).parents[1].glob("embreex.libs/libembree4*"))
    system = ctypes.util.find_library("embree4")
    return [*found, *([system] if system else []), "libembree4.so.4"]


class _Device(NamedTuple):
    lib: ctypes.CDLL
    handle: int


@functools.cache
def device() -> _Device:
    """The library, with its functions known to kernels. Raises RenderError where there is none."""
    for path in _places():
        try:
            lib = ctypes.CDLL(path)
            llvmlite.binding.load_library_permanently(path)
        except (OSError, RuntimeError):
            continue
        for name, (result, arguments) in _FUNCTIONS.items():
            function = getattr(lib, name)
            function.restype, function.argtypes = result, arguments
        # one thread: trees are small and built once, and are the same on every machine
        return _Device(lib, lib.rtcNewDevice(b"threads=1"))
    raise RenderError(
        "Letters cannot be drawn: the ray tracing library Embree 4 was not found.",
        "Start Bright Lodestar once more with ./lodestar, which installs it; on a machine without its package, install libembree4.",
    )


def version() -> str:
    """Of the library, as '4.4.0'. Raises RenderError where there is none."""
    lib, handle = device()
    number = lib.rtcGetDeviceProperty(handle, _VERSION)
    return f"{number // 10000}.{number // 100 % 100}.{number % 100}"


def description() -> str:
    """The library with its version, or that there is none, for reports."""
    try:
        return f"Embree {version()}"
    except RenderError as error:
        return error.what


class _Handle:
    """One of Embree's scenes, let go of with this object."""

    def __init__(self) -> None:
        lib, handle = device()
        self.scene = lib.rtcNewScene(handle)
        lib.rtcSetSceneFlags(self.scene, ROBUST)
        self._let_go = weakref.finalize(self, lib.rtcReleaseScene, self.scene)

    def _attach(self, geometry: int) -> None:
        lib = device().lib
        lib.rtcCommitGeometry(geometry)
        lib.rtcAttachGeometry(self.scene, geometry)
        lib.rtcReleaseGeometry(geometry)  # the scene holds it

    def _commit(self) -> None:
        lib, handle = device()
        lib.rtcCommitScene(self.scene)
        code = lib.rtcGetDeviceError(handle)
        if code:
            raise RenderError(
                "Letters cannot be drawn: there is too little memory for the solids of this shot, or one of them is broken.",
                f"Make them simpler, or close other programs. The ray tracing library said {code}.",
            )


class Solid(_Handle):
    """The tree of one mesh, in its own axes. Raises RenderError for corners that are no numbers."""

    def __init__(self, mesh: Mesh) -> None:
        triangles = mesh.triangles
        if not (np.isfinite(mesh.vertices).all() and np.isfinite(mesh.normals).all()) or (
            len(triangles) and (triangles.min() < 0 or triangles.max() >= len(mesh.vertices))
        ):
            raise RenderError(
                "A solid of this shot is broken: some of its corners are no numbers, or are missing.",
                "Undo the last change, or delete the object that was changed last; the rest of the shot is kept.",
            )
        super().__init__()
        lib, handle = device()
        geometry = lib.rtcNewGeometry(handle, TRIANGLES)
        corners = [form.vertices for form in mesh.steps] or [mesh.vertices]
        lib.rtcSetGeometryTimeStepCount(geometry, len(corners))
        rows = [(VERTEX, k, FLOAT3, values, np.float32) for k, values in enumerate(corners)]
        for kind, slot, form, values, dtype in (*rows, (INDEX, 0, UINT3, mesh.triangles, np.uint32)):
            buffer = lib.rtcSetNewGeometryBuffer(geometry, kind, slot, form, 12, len(values))  # Embree's own memory has the room it wants at the end
            whole = np.ascontiguousarray(values, dtype)
            ctypes.memmove(buffer, whole.ctypes.data, whole.nbytes)
        lib.rtcSetGeometryMask(geometry, NONE)  # what sees what is said by the instances
        self._attach(geometry)
        self._commit()


_solids: dict[int, tuple[Mesh, Solid, int]] = {}
_rounds = itertools.count()


def solids_of(meshes: list[Mesh]) -> list[Solid]:
    """The trees of the meshes of a picture, kept by their identity, since they change seldom; those that the last pictures did without
    are let go. Raises RenderError."""
    number, found = next(_rounds), []
    for mesh in meshes:
        kept = _solids.get(id(mesh))
        solid = kept[1] if kept is not None and kept[0] is mesh else Solid(mesh)
        _solids[id(mesh)] = mesh, solid, number
        found.append(solid)
    for name, (_, _, last) in list(_solids.items()):
        if last < number - KEPT_ROUNDS:
            _solids.pop(name, None)
    return found


class Instances(_Handle):
    """The tree over instances of solids; instance k of a hit is the k-th given."""

    def __init__(self, solids: list[Solid], matrices: list[np.ndarray], masks: list[int]) -> None:
        """matrices: for each solid (steps, 3, 4) from its axes to those of the rays, evenly over the exposure."""
        super().__init__()
        lib, handle = device()
        self._solids = solids
        for solid, steps, mask in zip(solids, matrices, masks):
            geometry = lib.rtcNewGeometry(handle, INSTANCE)
            lib.rtcSetGeometryInstancedScene(geometry, solid.scene)
            lib.rtcSetGeometryTimeStepCount(geometry, len(steps))
            for k, m in enumerate(steps):
                columns = np.asfortranarray(m, np.float32)
                lib.rtcSetGeometryTransform(geometry, k, MATRIX_BY_COLUMNS, columns.ctypes.data)
            lib.rtcSetGeometryMask(geometry, mask)
            self._attach(geometry)
        self._commit()
