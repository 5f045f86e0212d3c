"""Light from all around as kernels ask it: in a direction, as blurred as a surface is rough, and directions by what comes from them."""

import math
from typing import NamedTuple

import numpy as np

from ..basics.jit import inlined
from ..light.surroundings import BLURS, GUIDE_HIGH, GUIDE_WIDE, MATT, NORMALS, AroundLight

_ROUGHNESS = np.array([roughness for roughness, _ in BLURS])


class Sphere(NamedTuple):
    """Tables as in `light.surroundings.Around`; there: whether there is any such light. turn (3, 3): from the axes of the rays to those of the
    picture; gain: times its light."""

    there: bool
    texels: np.ndarray
    levels: np.ndarray
    rows: np.ndarray
    columns: np.ndarray
    density: np.ndarray
    turn: np.ndarray
    gain: float


def sphere_of(light: AroundLight | None) -> Sphere:
    if light is None:
        texels, levels = np.zeros((1, 3), np.float32), np.tile(np.array([0, 1, 1], np.int64), (MATT + 1, 1))
        none = np.zeros((1, 1, 1))
        return Sphere(False, texels, levels, np.zeros((1, 1)), none, none, np.eye(3), 0.0)
    a = light.around
    return Sphere(True, a.texels, a.levels, a.rows, a.columns, a.density, np.ascontiguousarray(light.turn, float), float(light.gain))


@inlined
def _turned(m, d):
    return (
        m[0, 0] * d[0] + m[0, 1] * d[1] + m[0, 2] * d[2],
        m[1, 0] * d[0] + m[1, 1] * d[1] + m[1, 2] * d[2],
        m[2, 0] * d[0] + m[2, 1] * d[1] + m[2, 2] * d[2],
    )


@inlined
def _place(e):
    """Across and down in 0..1 of a direction in the picture's axes."""
    return math.atan2(e[0], e[1]) / (2 * math.pi) + 0.5, 0.5 - math.asin(min(max(e[2], -1.0), 1.0)) / math.pi


@inlined
def _texel(sphere, level, u, v):
    begin, w, h = sphere.levels[level, 0], sphere.levels[level, 1], sphere.levels[level, 2]
    y = min(max(v * h - 0.5, 0.0), h - 1.0)
    i = min(int(y), max(h - 2, 0))
    x = u * w - 0.5
    k = int(math.floor(x))
    a, b = y - i, x - k
    left, right = k % w, (k + 1) % w
    top, low = begin + i * w, begin + min(i + 1, h - 1) * w
    t = sphere.texels
    w00, w01, w10, w11 = (1 - a) * (1 - b), (1 - a) * b, a * (1 - b), a * b
    return (
        w00 * t[top + left, 0] + w01 * t[top + right, 0] + w10 * t[low + left, 0] + w11 * t[low + right, 0],
        w00 * t[top + left, 1] + w01 * t[top + right, 1] + w10 * t[low + left, 1] + w11 * t[low + right, 1],
        w00 * t[top + left, 2] + w01 * t[top + right, 2] + w10 * t[low + left, 2] + w11 * t[low + right, 2],
    )


@inlined
def around_in(sphere, d):
    """Light (3) that comes from a direction."""
    u, v = _place(_turned(sphere.turn, d))
    r, g, b = _texel(sphere, 0, u, v)
    return r * sphere.gain, g * sphere.gain, b * sphere.gain


@inlined
def around_matt(sphere, n):
    """Light (3) that a white matt surface with normal n sends back of all of it."""
    u, v = _place(_turned(sphere.turn, n))
    r, g, b = _texel(sphere, MATT, u, v)
    return r * sphere.gain, g * sphere.gain, b * sphere.gain


@inlined
def around_blurred(sphere, d, roughness):
    """Light (3) from about a direction, as a rough mirror sees it."""
    k = 0
    while k < MATT - 2 and roughness > _ROUGHNESS[k + 1]:
        k += 1
    share = min(max((roughness - _ROUGHNESS[k]) / (_ROUGHNESS[k + 1] - _ROUGHNESS[k]), 0.0), 1.0)
    u, v = _place(_turned(sphere.turn, d))
    p, q = _texel(sphere, k, u, v), _texel(sphere, k + 1, u, v)
    g = sphere.gain
    return g * (p[0] + share * (q[0] - p[0])), g * (p[1] + share * (q[1] - p[1])), g * (p[2] + share * (q[2] - p[2]))


@inlined
def guide_of(sphere, n):
    """The number of the tables by which directions are chosen at a place with normal n."""
    e = _turned(sphere.turn, n)
    best, most = 0, -2.0
    for k in range(NORMALS.shape[0]):
        c = NORMALS[k, 0] * e[0] + NORMALS[k, 1] * e[1] + NORMALS[k, 2] * e[2]
        if c > most:
            best, most = k, c
    return best


@inlined
def chosen(sphere, guide, a, b):
    """A direction, chosen by two numbers of 0..1 by how much light a place gets from it."""
    low, high = 0, GUIDE_HIGH - 1
    while low < high:
        middle = (low + high) // 2
        if sphere.rows[guide, middle] < a:
            low = middle + 1
        else:
            high = middle
    row = low
    before = sphere.rows[guide, row - 1] if row > 0 else 0.0
    s = min(max((a - before) / max(sphere.rows[guide, row] - before, 1e-12), 0.0), 1.0)
    low, high = 0, GUIDE_WIDE - 1
    while low < high:
        middle = (low + high) // 2
        if sphere.columns[guide, row, middle] < b:
            low = middle + 1
        else:
            high = middle
    before = sphere.columns[guide, row, low - 1] if low > 0 else 0.0
    t = min(max((b - before) / max(sphere.columns[guide, row, low] - before, 1e-12), 0.0), 1.0)
    # even over the cell's solid angle
    top, foot = math.cos(math.pi * row / GUIDE_HIGH), math.cos(math.pi * (row + 1) / GUIDE_HIGH)
    z = top + s * (foot - top)
    across = ((low + t) / GUIDE_WIDE - 0.5) * 2 * math.pi
    flat = math.sqrt(max(1.0 - z * z, 0.0))
    e = (flat * math.sin(across), flat * math.cos(across), z)
    m = sphere.turn
    return (
        m[0, 0] * e[0] + m[1, 0] * e[1] + m[2, 0] * e[2],
        m[0, 1] * e[0] + m[1, 1] * e[1] + m[2, 1] * e[2],
        m[0, 2] * e[0] + m[1, 2] * e[1] + m[2, 2] * e[2],
    )


@inlined
def density_of(sphere, guide, d):
    """Of directions that `chosen` gives, per steradian."""
    u, v = _place(_turned(sphere.turn, d))
    return _density_at(sphere, guide, u, v)


@inlined
def density_and_light(sphere, guide, d):
    """`density_of` and `around_in` of a direction."""
    u, v = _place(_turned(sphere.turn, d))
    r, g, b = _texel(sphere, 0, u, v)
    return _density_at(sphere, guide, u, v), (r * sphere.gain, g * sphere.gain, b * sphere.gain)


@inlined
def _density_at(sphere, guide, u, v):
    return sphere.density[guide, min(max(int(v * GUIDE_HIGH), 0), GUIDE_HIGH - 1), min(max(int(u * GUIDE_WIDE), 0), GUIDE_WIDE - 1)]
