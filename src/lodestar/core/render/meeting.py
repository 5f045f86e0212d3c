"""What rays meet: questions to Embree's tree, where a hit lies, and how much light comes past."""

import math

import numpy as np

from ..basics.jit import inlined, part
from ..shape.extrude import PARTS
from . import embree
from .geometry import (
    BASE,
    BEGIN,
    CLEAR,
    CORNERS,
    FIRST_CORNER,
    FIRST_STEP,
    FIRST_TRIANGLE,
    FLAT,
    HIGH,
    MOST_LEVELS,
    OPACITY,
    PICTURE,
    PICTURED,
    SHAPES,
    STEPS,
    WIDE,
)
from .vectors import along, bright, dot, normalised

FAR = 1e30
OFF_SURFACE = 1e-6  # where rays begin over a surface, in sizes of our things: some times what single precision loses
MOST_MEETINGS = 24  # of one ray with what is thin, mirrors or merely receives
GLASS_PASSES = 0.92  # of light straight on, by two faces of an index of 1.5
THIN = 0.004  # light that is left behind cards, under which a ray is not followed

_intersect, _occluded = embree.intersect, embree.occluded
_LIGHT_OF_CODE = np.array([c / 12.92 if c <= 0.04045 else ((c + 0.055) / 1.055) ** 2.4 for c in np.arange(256) / 255], np.float32)  # IEC 61966-2-1


@inlined
def surface_of(things, words):
    """The row of `Things.value` of what the ray met: of its instance, and of the part of its mesh."""
    k = words[19]
    return k * PARTS + things.parts[things.number[k, FIRST_TRIANGLE] + words[17]]


@inlined
def may_meet(things, o, d, mask):
    """Whether a ray touches a box round one of those that it asks for: most do not, and need no question to the tree."""
    x, y, z = 1.0 / _not_zero(d[0]), 1.0 / _not_zero(d[1]), 1.0 / _not_zero(d[2])
    for k in range(things.boxes.shape[0]):
        if not things.masks[k] & mask:
            continue
        b = things.boxes[k]
        ax, bx = (b[0] - o[0]) * x, (b[3] - o[0]) * x
        ay, by = (b[1] - o[1]) * y, (b[4] - o[1]) * y
        az, bz = (b[2] - o[2]) * z, (b[5] - o[2]) * z
        near = max(max(min(ax, bx), min(ay, by)), max(min(az, bz), 0.0))
        if near <= min(min(max(ax, bx), max(ay, by)), max(az, bz)):
            return True
    return False


@inlined
def _not_zero(x):
    return x if abs(x) > 1e-12 else 1e-12


@inlined
def _set_ray(ray, words, o, d, far, at, mask):
    ray[0], ray[1], ray[2], ray[3] = o[0], o[1], o[2], 0.0
    ray[4], ray[5], ray[6], ray[7] = d[0], d[1], d[2], at
    ray[8] = far
    words[9], words[10], words[11] = mask, 0, 0
    words[17], words[18], words[19], words[20] = embree.NONE, embree.NONE, embree.NONE, embree.NONE


@inlined
def nearest(things, ray, words, address, o, d, at, mask):
    """Whether a ray meets one of those that it asks for, which is then in `ray`."""
    _set_ray(ray, words, o, d, FAR, at, mask)
    _intersect(things.scene, address, 0)
    return words[18] != embree.NONE


@inlined
def hit(things, ray, words, at):
    """Of the ray's hit: instance, place, shading normal and face normal (unit), place from which rays to lamps may begin, and the
    place in the mesh's own axes with how long its x axis is."""
    k = words[19]
    number = things.number[k]
    triangle = things.triangles[number[FIRST_TRIANGLE] + words[17]]
    u, v = ray[15], ray[16]
    w = 1.0 - u - v
    ia, ib, ic = number[FIRST_CORNER] + triangle[0], number[FIRST_CORNER] + triangle[1], number[FIRST_CORNER] + triangle[2]
    a, b, c = _then(things.corners, ia, number, at), _then(things.corners, ib, number, at), _then(things.corners, ic, number, at)
    na, nb, nc = _then(things.normals, ia, number, at), _then(things.normals, ib, number, at), _then(things.normals, ic, number, at)
    p = (w * a[0] + u * b[0] + v * c[0], w * a[1] + u * b[1] + v * c[1], w * a[2] + u * b[2] + v * c[2])
    n = (w * na[0] + u * nb[0] + v * nc[0], w * na[1] + u * nb[1] + v * nc[1], w * na[2] + u * nb[2] + v * nc[2])
    e, f = (b[0] - a[0], b[1] - a[1], b[2] - a[2]), (c[0] - a[0], c[1] - a[1], c[2] - a[2])
    g = (e[1] * f[2] - e[2] * f[1], e[2] * f[0] - e[0] * f[2], e[0] * f[1] - e[1] * f[0])
    # rounded edges are flat pieces: rays to lamps begin where the round one would be, or pieces near the shadow's edge would be
    # dark as a whole. Source: J. Hanika, Hacking the Shadow Terminator, Ray Tracing Gems II, 2021
    da = min(0.0, (p[0] - a[0]) * na[0] + (p[1] - a[1]) * na[1] + (p[2] - a[2]) * na[2])
    db = min(0.0, (p[0] - b[0]) * nb[0] + (p[1] - b[1]) * nb[1] + (p[2] - b[2]) * nb[2])
    dc = min(0.0, (p[0] - c[0]) * nc[0] + (p[1] - c[1]) * nc[1] + (p[2] - c[2]) * nc[2])
    s = (
        p[0] - w * da * na[0] - u * db * nb[0] - v * dc * nc[0],
        p[1] - w * da * na[1] - u * db * nb[1] - v * dc * nc[1],
        p[2] - w * da * na[2] - u * db * nb[2] - v * dc * nc[2],
    )
    steps = number[STEPS]
    first = number[FIRST_STEP]
    low = min(int(at * (steps - 1)), max(steps - 2, 0))
    share = at * (steps - 1) - low
    m, q = things.matrices[first + low], things.matrices[first + min(low + 1, steps - 1)]
    r0, r1, r2, r3 = _row(m, q, 0, share)
    s0, s1, s2, s3 = _row(m, q, 1, share)
    t0, t1, t2, t3 = _row(m, q, 2, share)
    place = (r0 * p[0] + r1 * p[1] + r2 * p[2] + r3, s0 * p[0] + s1 * p[1] + s2 * p[2] + s3, t0 * p[0] + t1 * p[1] + t2 * p[2] + t3)
    start = (r0 * s[0] + r1 * s[1] + r2 * s[2] + r3, s0 * s[0] + s1 * s[1] + s2 * s[2] + s3, t0 * s[0] + t1 * s[1] + t2 * s[2] + t3)
    # normals turn with the matrix of cofactors, whatever the stretch
    c00, c01, c02 = s1 * t2 - s2 * t1, s2 * t0 - s0 * t2, s0 * t1 - s1 * t0
    c10, c11, c12 = t1 * r2 - t2 * r1, t2 * r0 - t0 * r2, t0 * r1 - t1 * r0
    c20, c21, c22 = r1 * s2 - r2 * s1, r2 * s0 - r0 * s2, r0 * s1 - r1 * s0
    normal = normalised((c00 * n[0] + c01 * n[1] + c02 * n[2], c10 * n[0] + c11 * n[1] + c12 * n[2], c20 * n[0] + c21 * n[1] + c22 * n[2]))
    face = normalised((c00 * g[0] + c01 * g[1] + c02 * g[2], c10 * g[0] + c11 * g[1] + c12 * g[2], c20 * g[0] + c21 * g[1] + c22 * g[2]))
    return k, place, normal, face, start, p, math.sqrt(r0 * r0 + s0 * s0 + t0 * t0)


@inlined
def _then(rows, i, number, at):
    """A row (3) of the corners or normals of a mesh at a time."""
    p = rows[i]
    shapes = number[SHAPES]
    if shapes <= 1:
        return p[0], p[1], p[2]
    low = min(int(at * (shapes - 1)), shapes - 2)
    share = at * (shapes - 1) - low
    p, q = rows[i + low * number[CORNERS]], rows[i + (low + 1) * number[CORNERS]]
    return p[0] + share * (q[0] - p[0]), p[1] + share * (q[1] - p[1]), p[2] + share * (q[2] - p[2])


@inlined
def _row(m, q, i, share):
    a, b = m[i], q[i]
    return a[0] + share * (b[0] - a[0]), a[1] + share * (b[1] - a[1]), a[2] + share * (b[2] - a[2]), a[3] + share * (b[3] - a[3])


@inlined
def _level(things, picture, wide):
    """Of the level of a picture for px of ours that cover `wide` of it: where it begins, and its px."""
    level = min(max(int(math.log2(max(wide, 1e-6)) + 0.5), 0), MOST_LEVELS - 1)
    while level > 0 and things.levels[picture, level, WIDE] == 0:
        level -= 1
    return things.levels[picture, level, BEGIN], things.levels[picture, level, WIDE], things.levels[picture, level, HIGH]


@inlined
def painted(things, picture, own_x, own_z, wide):
    """Red, green, blue in linear light and alpha of a picture at a place of a card; wide: px of it that one of ours covers."""
    begin, w, h = _level(things, picture, wide)
    x = min(max((own_x + 0.5) * w - 0.5, 0.0), w - 1.0)
    y = min(max((1.0 - own_z) * h - 0.5, 0.0), h - 1.0)
    i, j = min(int(y), max(h - 2, 0)), min(int(x), max(w - 2, 0))
    b, a = y - i, x - j
    red, green, blue, alpha = 0.0, 0.0, 0.0, 0.0
    for down in range(2):
        for right in range(2):
            share = (b if down else 1.0 - b) * (a if right else 1.0 - a)
            texel = things.texels[begin + min(i + down, h - 1) * w + min(j + right, w - 1)]
            cover = share * texel[3] / 255.0
            red += cover * _LIGHT_OF_CODE[texel[0]]
            green += cover * _LIGHT_OF_CODE[texel[1]]
            blue += cover * _LIGHT_OF_CODE[texel[2]]
            alpha += cover
    k = 1.0 / max(alpha, 1e-6)
    return red * k, green * k, blue * k, alpha


@inlined
def tiled(things, picture, u, v, wide, as_maps):
    """Red, green, blue in linear light of a picture that is repeated, at a place in its widths, v upward; of maps their two numbers, 0 to 1, and
    nothing. wide: px of it that one of ours covers."""
    begin, w, h = _level(things, picture, wide)
    x, y = u * w - 0.5, -v * w - 0.5  # px are square, so its height is h of its w
    j, i = int(math.floor(x)), int(math.floor(y))
    a, b = x - j, y - i
    red, green, blue = 0.0, 0.0, 0.0
    for down in range(2):
        for right in range(2):
            share = (b if down else 1.0 - b) * (a if right else 1.0 - a)
            texel = things.texels[begin + ((i + down) % h) * w + (j + right) % w]
            if as_maps:
                red += share * (texel[0] + 256.0 * texel[1]) / 65535.0
                green += share * (texel[2] + 256.0 * texel[3]) / 65535.0
            else:
                red += share * _LIGHT_OF_CODE[texel[0]]
                green += share * _LIGHT_OF_CODE[texel[1]]
                blue += share * _LIGHT_OF_CODE[texel[2]]
    return red, green, blue


@inlined
def off(p, face, towards):
    """A place a hair off a surface, on the side to which a ray goes."""
    size = OFF_SURFACE * (1.0 + max(abs(p[0]), max(abs(p[1]), abs(p[2]))))
    return along(p, face, size if dot(face, towards) >= 0 else -size)


@inlined
def blocked(things, ray, words, address, p, d, at, mask, far=FAR):
    if not may_meet(things, p, d, mask):
        return False
    _set_ray(ray, words, p, d, far, at, mask)
    _occluded(things.scene, address, 0)
    return ray[8] < 0


@part
def _through_cards(things, ray, words, address, p, d, at, far):
    """Share of light that pictures with holes, and what is not solid to the eye, let pass on the way of `far` along d."""
    left = 1.0
    o = p
    for _ in range(MOST_MEETINGS):
        if not nearest(things, ray, words, address, o, d, at, PICTURED) or ray[8] > far:
            break
        far -= ray[8]
        k, place, _, face, _, own, _ = hit(things, ray, words, at)
        value = things.value[k * PARTS]
        # what is glass keeps back what its two faces mirror, and colours the rest
        alpha = value[OPACITY] * (1.0 - GLASS_PASSES * value[CLEAR] * bright((value[BASE], value[BASE + 1], value[BASE + 2])))
        if things.number[k, PICTURE] >= 0:
            alpha *= painted(things, things.number[k, PICTURE], own[0], own[2], 1.0)[3]
        if dot(face, d) < 0 or things.number[k, FLAT]:  # a solid takes its share once, where the ray enters it
            left *= 1.0 - alpha
        if left < THIN:
            return 0.0
        o = off(place, face, d)
    return left


@inlined
def share_open(things, ray, words, address, p, d, at, mask, far=FAR):
    """Share of light that comes along d to p, from so far, past those of ours and, as the mask says, of the place."""
    if blocked(things, ray, words, address, p, d, at, mask, far):
        return 0.0
    return _through_cards(things, ray, words, address, p, d, at, far) if things.cards else 1.0
