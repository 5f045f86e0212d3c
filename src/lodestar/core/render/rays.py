"""Our layers by rays: what each place of the picture sees, and the light on it.

A place is followed from the eye through what is thin or mirrors, to what is seen; from there, rays ask each lamp and the sky
whether they are hidden. Light on what receives it is asked for twice, with our things and without them, from the same samples.
A new lamp is asked in `_lamps`; a property of a surface is used in `_shaded`.
"""

import math
from typing import NamedTuple

import numpy as np

from ..basics.jit import inlined, kernel, unmanaged
from . import embree
from .eye import NET_PX, Eye
from .geometry import (
    BASE,
    BEGIN,
    DRAWN,
    FADE,
    FIRST_CORNER,
    FIRST_STEP,
    FIRST_TRIANGLE,
    FLAT,
    HIDES,
    HIGH,
    METAL,
    MIRRORED,
    MOST_LEVELS,
    OPAQUE,
    PICTURE,
    PICTURED,
    PLACE,
    RECEIVES,
    REFLECTS,
    ROUGHNESS,
    SEEN,
    STEPS,
    WIDE,
    Things,
)
from .sampling import BLOCK, MIRROR, SKY, SUN, SUNS, Table

TILE = 4  # px; how many samples it takes is decided for a whole one
PLAIN_SAMPLES = 2  # of a tile that none of ours is near and that nothing keeps light from; others take twice as many before their error is asked
FILTERED = 6.0  # by how much the filter lowers squared noise (measured: 4 to 12)
SHADE = 2.0  # times the error of colour that shade may have: half as much of it is seen
FAR = 1e30
OFF_SURFACE = 1e-6  # where rays begin over a surface, in sizes of our things: some times what single precision loses
MOST_MEETINGS = 24  # of one ray with what is thin, mirrors or merely receives
MOST_BOUNCES = 4  # between mirrors
MIRROR_WIDTH = 0.35  # GGX's width for a roughness of 1, of what stands in for water or a polished floor: half of its facets lie within
THIN = 0.004  # light that is left behind cards, under which a ray is not followed

_intersect, _occluded = embree.intersect, embree.occluded
_LIGHT_OF_CODE = np.array([c / 12.92 if c <= 0.04045 else ((c + 0.055) / 1.055) ** 2.4 for c in np.arange(256) / 255], np.float32)  # IEC 61966-2-1


class Lights(NamedTuple):
    """suns (n, 7): direction, colour, cosine of half the width. sky, bounce (3,): light of the sky, and of the place beneath."""

    suns: np.ndarray
    sky: np.ndarray
    bounce: np.ndarray


class Film(NamedTuple):
    """What is gathered over a part of the picture: means over samples, (h, w, ...) float32.

    colour (4): ours, premultiplied, but for `soft` (3): what is even in it, which a filter may smooth. sky (5): while samples are
    taken, what ours would send of an open sky (3), and the brightness of the sky along the samples: as far as it is open, and in all.
    lit, bare (3): light on what receives it, with and without our things. ours, place (7): normal, place and weight of what is seen
    of each, as sums. noise (2): squared error of the brightness of `soft` and of the shade, as the halves of the samples tell it; of
    one sample, 1 where some light was hidden. taken: samples.
    """

    colour: np.ndarray
    soft: np.ndarray
    sky: np.ndarray
    lit: np.ndarray
    bare: np.ndarray
    ours: np.ndarray
    place: np.ndarray
    noise: np.ndarray
    taken: np.ndarray


@inlined
def _may_meet(things, o, d, mask):
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
def _set(ray, words, o, d, far, at, mask):
    ray[0], ray[1], ray[2], ray[3] = o[0], o[1], o[2], 0.0
    ray[4], ray[5], ray[6], ray[7] = d[0], d[1], d[2], at
    ray[8] = far
    words[9], words[10], words[11] = mask, 0, 0
    words[17], words[18], words[19], words[20] = embree.NONE, embree.NONE, embree.NONE, embree.NONE


@inlined
def _mixed(x, y):
    """A hash of a place of the picture. Source: the finaliser of C. Wellons' hash prospector, lowbias32."""
    h = np.uint32((x * 0x9E3779B1) ^ (y * 0x85EBCA6B))
    h ^= h >> np.uint32(16)
    h = np.uint32(h * np.uint32(0x7FEB352D))
    h ^= h >> np.uint32(15)
    h = np.uint32(h * np.uint32(0x846CA68B))
    return h ^ (h >> np.uint32(16))


@inlined
def _unit(v):
    return v * 2.3283064365386963e-10


@inlined
def _cone(axis, cosine, u, x, y):
    """A direction evenly within a cone, of u in 0..1 and a place on the unit circle; for a cosine of 1, the axis."""
    c = 1.0 - u * (1.0 - cosine)
    r = math.sqrt(max(0.0, 1.0 - c * c))
    return _around(axis, r * x, r * y, c)


@inlined
def _around(axis, a, b, c):
    """a, b across and c along an axis. Source: T. Duff and others, Building an Orthonormal Basis, Revisited, JCGT 2017."""
    x, y, z = axis
    s = 1.0 if z >= 0 else -1.0
    k = -1.0 / (s + z)
    m = x * y * k
    return (
        a * (1 + s * x * x * k) + b * m + c * x,
        a * s * m + b * (s + y * y * k) + c * y,
        -a * s * x - b * y + c * z,
    )


@inlined
def _dot(a, b):
    return a[0] * b[0] + a[1] * b[1] + a[2] * b[2]


@inlined
def _normalised(a):
    k = 1.0 / math.sqrt(max(a[0] * a[0] + a[1] * a[1] + a[2] * a[2], 1e-60))
    return a[0] * k, a[1] * k, a[2] * k


@inlined
def _along(p, d, t):
    return p[0] + t * d[0], p[1] + t * d[1], p[2] + t * d[2]


@inlined
def _ray(eye, x, y, u):
    """Origin, unit direction and time in 0..1 of the ray through place (x, y) px at moment u in 0..1 of the shutter."""
    share = eye.shutter * (u - 0.5) + eye.readout * (y / max(eye.size[1] - 1.0, 1.0) - 0.5)
    at = min(max(share / eye.span + 0.5, 0.0), 1.0) if eye.span > 0 else 0.5
    last = eye.poses.shape[0] - 1
    k = min(int(at * last), max(last - 1, 0))
    b = at * last - k
    p, q = eye.poses[k], eye.poses[min(k + 1, last)]
    zoom = p[12] + b * (q[12] - p[12])
    i = (eye.about[1] + (y - eye.about[1]) / zoom - eye.top) / NET_PX
    j = (eye.about[0] + (x - eye.about[0]) / zoom - eye.left) / NET_PX
    r, c = min(max(int(i), 0), eye.net.shape[0] - 2), min(max(int(j), 0), eye.net.shape[1] - 2)
    i, j = i - r, j - c
    n = eye.net
    w00, w01, w10, w11 = (1 - i) * (1 - j), (1 - i) * j, i * (1 - j), i * j
    d0 = w00 * n[r, c, 0] + w01 * n[r, c + 1, 0] + w10 * n[r + 1, c, 0] + w11 * n[r + 1, c + 1, 0]
    d1 = w00 * n[r, c, 1] + w01 * n[r, c + 1, 1] + w10 * n[r + 1, c, 1] + w11 * n[r + 1, c + 1, 1]
    d2 = w00 * n[r, c, 2] + w01 * n[r, c + 1, 2] + w10 * n[r + 1, c, 2] + w11 * n[r + 1, c + 1, 2]
    m = (
        (p[0] + b * (q[0] - p[0])) * d0 + (p[3] + b * (q[3] - p[3])) * d1 + (p[6] + b * (q[6] - p[6])) * d2,
        (p[1] + b * (q[1] - p[1])) * d0 + (p[4] + b * (q[4] - p[4])) * d1 + (p[7] + b * (q[7] - p[7])) * d2,
        (p[2] + b * (q[2] - p[2])) * d0 + (p[5] + b * (q[5] - p[5])) * d1 + (p[8] + b * (q[8] - p[8])) * d2,
    )
    o = (p[9] + b * (q[9] - p[9]), p[10] + b * (q[10] - p[10]), p[11] + b * (q[11] - p[11]))
    return o, _normalised(m), at


@inlined
def _painted(things, picture, own_x, own_z, wide):
    """Red, green, blue in linear light and alpha of a picture at a place of a card; wide: px of it that one of ours covers."""
    level = min(max(int(math.log2(max(wide, 1e-6)) + 0.5), 0), MOST_LEVELS - 1)
    while level > 0 and things.levels[picture, level, WIDE] == 0:
        level -= 1
    begin, w, h = things.levels[picture, level, BEGIN], things.levels[picture, level, WIDE], things.levels[picture, level, HIGH]
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
def _hit(things, ray, words, at):
    """Of the ray's hit: instance, place, shading normal and face normal (unit), place from which rays to lamps may begin, and the
    place in the mesh's own axes with how long its x axis is."""
    k = words[19]
    number = things.number[k]
    triangle = things.triangles[number[FIRST_TRIANGLE] + words[17]]
    u, v = ray[15], ray[16]
    w = 1.0 - u - v
    ia, ib, ic = number[FIRST_CORNER] + triangle[0], number[FIRST_CORNER] + triangle[1], number[FIRST_CORNER] + triangle[2]
    a, b, c = things.corners[ia], things.corners[ib], things.corners[ic]
    na, nb, nc = things.normals[ia], things.normals[ib], things.normals[ic]
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
    normal = _normalised((c00 * n[0] + c01 * n[1] + c02 * n[2], c10 * n[0] + c11 * n[1] + c12 * n[2], c20 * n[0] + c21 * n[1] + c22 * n[2]))
    face = _normalised((c00 * g[0] + c01 * g[1] + c02 * g[2], c10 * g[0] + c11 * g[1] + c12 * g[2], c20 * g[0] + c21 * g[1] + c22 * g[2]))
    return k, place, normal, face, start, p, math.sqrt(r0 * r0 + s0 * s0 + t0 * t0)


@inlined
def _row(m, q, i, share):
    a, b = m[i], q[i]
    return a[0] + share * (b[0] - a[0]), a[1] + share * (b[1] - a[1]), a[2] + share * (b[2] - a[2]), a[3] + share * (b[3] - a[3])


@inlined
def _off(p, face, towards):
    """A place a hair off a surface, on the side to which a ray goes."""
    size = OFF_SURFACE * (1.0 + max(abs(p[0]), max(abs(p[1]), abs(p[2]))))
    return _along(p, face, size if _dot(face, towards) >= 0 else -size)


@inlined
def _blocked(things, ray, words, address, p, d, at, mask):
    if not _may_meet(things, p, d, mask):
        return False
    _set(ray, words, p, d, FAR, at, mask)
    _occluded(things.scene, address, 0)
    return ray[8] < 0


@inlined
def _through_cards(things, ray, words, address, p, d, at):
    """Share of light that pictures with holes let pass."""
    left = 1.0
    o = p
    for _ in range(MOST_MEETINGS):
        _set(ray, words, o, d, FAR, at, PICTURED)
        _intersect(things.scene, address, 0)
        if words[18] == embree.NONE:
            break
        k, place, _, face, _, own, _ = _hit(things, ray, words, at)
        left *= 1.0 - _painted(things, things.number[k, PICTURE], own[0], own[2], 1.0)[3]
        if left < THIN:
            return 0.0
        o = _off(place, face, d)
    return left


@inlined
def _open(things, ray, words, address, p, d, at, mask):
    """Share of light that comes along d to p past those of ours and, as the mask says, of the place."""
    if _blocked(things, ray, words, address, p, d, at, mask):
        return 0.0
    return _through_cards(things, ray, words, address, p, d, at) if things.cards else 1.0


@inlined
def _received(things, lights, ray, words, address, p, n, at, sample, share, lit, bare, noise):
    """Add the light on a place that receives it, with our things to `lit` and without them to `bare` (3,), `share` of it."""
    start = _off(p, n, n)
    for s in range(lights.suns.shape[0]):
        sun = lights.suns[s]
        k = SUN + 3 * (s % SUNS)
        d = _cone((sun[0], sun[1], sun[2]), sun[6], sample[k], sample[k + 1], sample[k + 2])
        towards = _dot(n, d)
        if towards <= 0:
            continue
        seen = _open(things, ray, words, address, start, d, at, OPAQUE | PLACE)
        # only where the first is hidden does the second need a ray of its own
        before = 1.0 if seen > 0 or not (things.place and _blocked(things, ray, words, address, start, d, at, PLACE)) else 0.0
        for c in range(3):
            lit[c] += share * towards * seen * sun[3 + c]
            bare[c] += share * towards * before * sun[3 + c]
        if seen < before:
            noise[1] = 1.0
    d = _around(n, sample[SKY], sample[SKY + 1], sample[SKY + 2])
    seen = _open(things, ray, words, address, start, d, at, OPAQUE | PLACE)
    before = 1.0 if seen > 0 or not (things.place and _blocked(things, ray, words, address, start, d, at, PLACE)) else 0.0
    up = 0.5 + 0.5 * n[2]
    if seen < before:
        noise[1] = 1.0
    for c in range(3):
        # what an open place would receive is known exactly; the sample tells only what is taken from it
        whole = up * lights.sky[c] + (1.0 - up) * lights.bounce[c]
        along = lights.sky[c] if d[2] > 0 else lights.bounce[c]
        lit[c] += share * (whole - (1.0 - seen) * along)
        bare[c] += share * (whole - (1.0 - before) * along)


@inlined
def _shaded(things, lights, ray, words, address, p, face, n, v, at, sample, base, roughness, metal, share, colour, soft, sky, noise):
    """Add the light that one of ours sends to the eye along v (unit, to the eye): what is even to `soft` (3,) and `sky` (5,), the sun's gloss to `colour`.

    Gloss: B. Walter and others, Microfacet Models for Refraction, EGSR 2007, with the height-correlated masking of E. Heitz, JCGT
    2014; of the surroundings: the split sum as fitted by B. Karis, Physically Based Shading on Mobile, 2014.
    """
    start = _off(p, face, face)
    nv = max(_dot(n, v), 1e-3)
    a = max(roughness * roughness, 0.002)
    a2 = a * a
    for s in range(lights.suns.shape[0]):
        sun = lights.suns[s]
        k = SUN + 3 * (s % SUNS)
        d = _cone((sun[0], sun[1], sun[2]), sun[6], sample[k], sample[k + 1], sample[k + 2])
        nl = _dot(n, d)
        if nl <= 0:
            continue
        seen = _open(things, ray, words, address, start, d, at, OPAQUE | PLACE)
        if seen < 1:
            noise[0] = 1.0
        if seen <= 0:
            continue
        h = _normalised((d[0] + v[0], d[1] + v[1], d[2] + v[2]))
        nh, vh = min(max(_dot(n, h), 0.0), 1.0), min(max(_dot(v, h), 0.0), 1.0)
        k = nh * nh * (a2 - 1.0) + 1.0
        gloss = a2 / (k * k) * 0.5 / (nl * math.sqrt(nv * nv * (1.0 - a2) + a2) + nv * math.sqrt(nl * nl * (1.0 - a2) + a2) + 1e-6)
        fresnel = (1.0 - vh) ** 5
        for c in range(3):
            f0 = 0.04 + metal * (base[c] - 0.04)
            f = f0 + (1.0 - f0) * fresnel
            light = share * seen * nl * sun[3 + c]
            soft[c] += light * base[c] * (1.0 - metal) * (1.0 - f)
            colour[c] += light * f * gloss
    # the sky and what lies beneath
    d = _around(n, sample[SKY], sample[SKY + 1], sample[SKY + 2])
    seen = _open(things, ray, words, address, start, d, at, OPAQUE)
    behind = seen > 0 and d[2] > 0 and things.place and _blocked(things, ray, words, address, start, d, at, PLACE)
    if seen < 1 or behind:
        noise[0] = 1.0
    up = 0.5 + 0.5 * n[2]
    mirrored = 2 * _dot(n, v) * n[2] - v[2]
    edge = 0.04 + 0.7 * roughness
    over = _smoothstep(-edge, edge, mirrored)
    bright = 1.35 - 0.5 * _smoothstep(0.0, 0.8, mirrored)
    r0, r1, r2, r3 = 1.0 - roughness, 0.0425 - 0.0275 * roughness, 1.04 - 0.572 * roughness, 0.022 * roughness - 0.04
    fit = min(r0 * r0, math.exp(-6.4324 * nv)) * r0 + r1
    scale, offset = -1.04 * fit + r2, 1.04 * fit + r3
    for c in range(3):
        f0 = 0.04 + metal * (base[c] - 0.04)
        around = lights.bounce[c] + over * (bright * lights.sky[c] - lights.bounce[c])
        whole = base[c] * (1.0 - metal) * (up * lights.sky[c] + (1.0 - up) * lights.bounce[c])
        sky[c] += share * (whole + around * (f0 * scale + offset))
    # how much of it comes through is told by the ratio of two sums: it is never less than nothing, and has no noise where all is open
    along = _bright(lights.sky) if d[2] > 0 else _bright(lights.bounce)
    sky[3] += share * seen * (_bright(lights.bounce) if behind else along)
    sky[4] += share * along


@inlined
def _smoothstep(low, high, x):
    t = min(max((x - low) / (high - low), 0.0), 1.0)
    return t * t * (3.0 - 2.0 * t)


@inlined
def _mirrored(d, n, roughness, u, v):
    """The direction in which a ray goes on from a mirror, and the share that it keeps.

    Source: visible normals of the microfacets after E. Heitz, Sampling the GGX Distribution of Visible Normals, JCGT 2018.
    """
    a = MIRROR_WIDTH * roughness * roughness
    w = (-d[0], -d[1], -d[2])
    if a < 1e-4:
        k = 2 * _dot(w, n)
        return (k * n[0] - w[0], k * n[1] - w[1], k * n[2] - w[2]), 1.0
    x, y = _around(n, 1.0, 0.0, 0.0), _around(n, 0.0, 1.0, 0.0)
    e = (_dot(w, x), _dot(w, y), max(_dot(w, n), 1e-4))
    h = _normalised((a * e[0], a * e[1], e[2]))
    flat = h[0] * h[0] + h[1] * h[1]
    t1 = (-h[1] / math.sqrt(flat), h[0] / math.sqrt(flat), 0.0) if flat > 1e-12 else (1.0, 0.0, 0.0)
    t2 = (h[1] * t1[2] - h[2] * t1[1], h[2] * t1[0] - h[0] * t1[2], h[0] * t1[1] - h[1] * t1[0])
    r, angle = math.sqrt(u), 2 * math.pi * v
    p = r * math.cos(angle)
    s = 0.5 * (1.0 + h[2])
    q = (1.0 - s) * math.sqrt(max(0.0, 1.0 - p * p)) + s * r * math.sin(angle)
    z = math.sqrt(max(0.0, 1.0 - p * p - q * q))
    m = _normalised((a * (p * t1[0] + q * t2[0] + z * h[0]), a * (p * t1[1] + q * t2[1] + z * h[1]), max(p * t1[2] + q * t2[2] + z * h[2], 1e-6)))
    k = 2 * _dot(e, m)
    o = (k * m[0] - e[0], k * m[1] - e[1], k * m[2] - e[2])
    if o[2] <= 0:
        return d, 0.0
    t = 1.0 / max(o[2] * o[2], 1e-12) - 1.0
    # of the masking only that of the way out is left, given that on the way in
    sum_in, sum_out = math.sqrt(1.0 + a * a * (1.0 / (e[2] * e[2]) - 1.0)), math.sqrt(1.0 + a * a * t)
    kept = (1.0 + sum_in) / (sum_in + sum_out)
    return (o[0] * x[0] + o[1] * y[0] + o[2] * n[0], o[0] * x[1] + o[1] * y[1] + o[2] * n[1], o[0] * x[2] + o[1] * y[2] + o[2] * n[2]), kept


@inlined
def _look(things, lights, angle, ray, words, address, o, d, at, met, sample, colour, soft, sky, lit, bare, noise, ours, place):
    """Follow one ray from the eye and add what it finds: see Film."""
    left, travelled, mask, bounces = 1.0, 0.0, SEEN, 0
    receiving, first = True, True
    level = (things.level - o[2]) / d[2] if things.levelled and abs(d[2]) > 1e-9 else -1.0
    for _ in range(MOST_MEETINGS):
        found = met if first else _may_meet(things, o, d, mask)
        first = False
        if found:
            _set(ray, words, o, d, FAR, at, mask)
            _intersect(things.scene, address, 0)
            found = words[18] != embree.NONE
        t = ray[8] if found else FAR
        if receiving and 0 < level < travelled + t:
            p = _along(o, d, level - travelled)
            n = (0.0, 0.0, 1.0)
            receiving = False
            u, v, tri, inst, geo = ray[15], ray[16], words[17], words[19], words[18]
            _received(things, lights, ray, words, address, p, n, at, sample, left, lit, bare, noise)
            _remember(place, n, p, left)
            ray[8], ray[15], ray[16], words[17], words[19], words[18] = t, u, v, tri, inst, geo
        if not found:
            return
        k, p, n, face, start, own, wide = _hit(things, ray, words, at)
        number, value = things.number[k], things.value[k]
        travelled += t
        back = _dot(face, d) > 0
        if back and number[FLAT]:
            n, face = (-n[0], -n[1], -n[2]), (-face[0], -face[1], -face[2])
        if number[DRAWN]:
            if back and not number[FLAT]:  # from within a solid that the lens is in, or that grew thin: as if it were not there
                o = _off(p, face, d)
                continue
            alpha = 1.0
            base = (value[BASE], value[BASE + 1], value[BASE + 2])
            if number[PICTURE] >= 0:
                picture = number[PICTURE]
                red, green, blue, alpha = _painted(things, picture, own[0], own[2], travelled * angle * things.levels[picture, 0, WIDE] / wide)
                base = (base[0] * red, base[1] * green, base[2] * blue)
            if travelled < value[FADE]:
                alpha *= _smoothstep(0.5 * value[FADE], value[FADE], travelled)
            if alpha > THIN:
                turned = _dot(n, d)
                if turned > 0:
                    n = _normalised(_along(n, d, -1.01 * turned))
                share = left * alpha
                v = (-d[0], -d[1], -d[2])
                _shaded(
                    things,
                    lights,
                    ray,
                    words,
                    address,
                    start,
                    face,
                    n,
                    v,
                    at,
                    sample,
                    base,
                    value[ROUGHNESS],
                    value[METAL],
                    share,
                    colour,
                    soft,
                    sky,
                    noise,
                )
                colour[3] += share
                _remember(ours, n, p, share)
            left *= 1.0 - alpha
            if left < THIN:
                return
            o = _off(p, face, d)
            continue
        if receiving and number[RECEIVES]:
            _received(things, lights, ray, words, address, p, n, at, sample, left, lit, bare, noise)
            _remember(place, n, p, left)
        solid = number[HIDES] or value[REFLECTS] > 0
        receiving = receiving and not (solid or number[RECEIVES])
        if value[REFLECTS] > 0 and bounces < MOST_BOUNCES:
            d, kept = _mirrored(d, n, value[ROUGHNESS], sample[MIRROR], sample[MIRROR + 1])
            left *= kept * value[REFLECTS]
            if left < THIN:
                return
            bounces += 1
            mask = MIRRORED
        elif solid:
            return
        o = _off(p, face, d)


@inlined
def _remember(guide, n, p, share):
    guide[0] += share * n[0]
    guide[1] += share * n[1]
    guide[2] += share * n[2]
    guide[3] += share * p[0]
    guide[4] += share * p[1]
    guide[5] += share * p[2]
    guide[6] += share


@inlined
def _bright(v):
    return 0.2126 * v[0] + 0.7152 * v[1] + 0.0722 * v[2]


@inlined
def _uncounted(things, eye, lights, film, table):
    return (
        Things(
            things.scene,
            unmanaged(things.corners),
            unmanaged(things.normals),
            unmanaged(things.triangles),
            unmanaged(things.number),
            unmanaged(things.value),
            unmanaged(things.matrices),
            unmanaged(things.boxes),
            unmanaged(things.masks),
            unmanaged(things.levels),
            unmanaged(things.texels),
            things.levelled,
            things.level,
            things.cards,
            things.place,
        ),
        Eye(
            unmanaged(eye.net),
            eye.left,
            eye.top,
            unmanaged(eye.about),
            unmanaged(eye.size),
            unmanaged(eye.poses),
            eye.shutter,
            eye.readout,
            eye.span,
            eye.angle,
        ),
        Lights(unmanaged(lights.suns), unmanaged(lights.sky), unmanaged(lights.bounce)),
        Film(
            unmanaged(film.colour),
            unmanaged(film.soft),
            unmanaged(film.sky),
            unmanaged(film.lit),
            unmanaged(film.bare),
            unmanaged(film.ours),
            unmanaged(film.place),
            unmanaged(film.noise),
            unmanaged(film.taken),
        ),
        Table(unmanaged(table.places), unmanaged(table.turns)),
    )


@kernel
def tiles(things, eye, lights, table, target, most, left, top, numbers, film, stop):
    """Fill the tiles of these numbers, counted by rows over the part of the picture that begins at (left, top), px.

    table: of `sampling.samples`. Each tile takes samples, twice as many from round to round, until the rms error of its colour
    and of its shade is under `target` or `most` are taken. stop (1,): other than 0, nothing more is done.
    """
    buffer, halves = np.empty(48, np.float32), np.zeros((TILE * TILE, 8))
    ray, half = unmanaged(buffer[_aligned(buffer) :]), unmanaged(halves)
    words, address = unmanaged(ray.view(np.uint32)), ray.ctypes.data
    things, eye, lights, film, table = _uncounted(things, eye, lights, film, table)
    height, width = film.colour.shape[:2]
    across = (left + width - 1) // TILE - left // TILE + 1
    for number in numbers:
        if stop[0]:
            break
        y0, x0 = (number // across) * TILE, (number % across) * TILE
        y1, x1 = min(y0 + TILE, height), min(x0 + TILE, width)
        done, until, plain = 0, min(most, PLAIN_SAMPLES), True
        while True:
            middle = max(until // 2, 1) if done == 0 else done
            for y in range(y0, y1):
                for x in range(x0, x1):
                    lane, own = (y - y0) * TILE + x - x0, _mixed(x + left, y + top)
                    among = (y + top) % BLOCK * BLOCK + (x + left) % BLOCK
                    colour, soft, lit, bare = film.colour[y, x], film.soft[y, x], film.lit[y, x], film.bare[y, x]
                    for s in range(done, until):
                        if s == middle:
                            _note(half[lane], colour, soft, film.sky[y, x], lit, bare)
                        at_x, at_y, u = 0.5, 0.5, 0.5
                        if most > 1:
                            place = table.places[s, among]
                            at_x, at_y = _unit(place[0] ^ own), _unit(place[1] ^ np.uint32(own * np.uint32(0x9E3779B1)))
                            u = _unit(place[2] ^ np.uint32(own * np.uint32(0x85EBCA6B)))
                        o, d, at = _ray(eye, x + left + at_x - 0.5, y + top + at_y - 0.5, u)
                        met = _may_meet(things, o, d, SEEN)
                        plain = plain and not met
                        _look(
                            things,
                            lights,
                            eye.angle,
                            ray,
                            words,
                            address,
                            o,
                            d,
                            at,
                            met,
                            table.turns[s, among],
                            colour,
                            soft,
                            film.sky[y, x],
                            lit,
                            bare,
                            film.noise[y, x],
                            film.ours[y, x],
                            film.place[y, x],
                        )
                    plain = plain and film.noise[y, x, 1] == 0
            done = until
            if done >= most:
                _close_enough(half, film, y0, x0, y1, x1, middle, done, target)
                break
            if target > 0 and (plain or done > PLAIN_SAMPLES) and _close_enough(half, film, y0, x0, y1, x1, middle, done, target):
                break
            until = min(2 * done, most)
        _mean(film, y0, x0, y1, x1, done)
    _keep(buffer, halves)


@inlined
def _aligned(room):
    """Where in words of `room` the next 64 bytes begin."""
    return ((64 - room.ctypes.data % 64) % 64) // 4


@kernel
def _keep(buffer, halves):
    """What is uncounted lives as long as what it is a view of: until here."""
    return buffer[0] + halves[0, 0]


@inlined
def _note(half, colour, soft, sky, lit, bare):
    """What the first half of the samples gave: brightness of all, alpha, brightness of `soft`, of the light with and without our things, and `sky`."""
    half[0], half[1], half[2] = _bright(colour) + _bright(soft), colour[3], _bright(soft)
    half[3], half[4] = _bright(lit), _bright(bare)
    half[5], half[6], half[7] = _bright(sky), sky[3], sky[4]


@inlined
def _close_enough(half, film, y0, x0, y1, x1, middle, done, target):
    """Whether the tile's rms error is under the target; writes the noise of each pixel. The two halves of the samples are two
    pictures of the same: half of their difference is what their mean is off by."""
    if middle == 0 or middle == done:
        return False
    a, b = 1.0 / middle, 1.0 / (done - middle)
    of_colour, of_shade, shift = 0.0, 0.0, 0.0
    for y in range(y0, y1):
        for x in range(x0, x1):
            h = half[(y - y0) * TILE + x - x0]
            soft, bright = _bright(film.soft[y, x]), _bright(film.colour[y, x])
            lit, bare = _bright(film.lit[y, x]), _bright(film.bare[y, x])
            # each half has an open share of the sky of its own
            sky, part, all_ = _bright(film.sky[y, x]), film.sky[y, x, 3], film.sky[y, x, 4]
            of_one = h[5] * a * (h[6] / h[7] if h[7] > 0 else 1.0)
            of_other = (sky - h[5]) * b * ((part - h[6]) / (all_ - h[7]) if all_ - h[7] > 1e-12 else 1.0)
            e = 0.5 * (h[0] * a + of_one - (bright + soft - h[0]) * b - of_other)
            f = 0.5 * (h[1] * a - (film.colour[y, x, 3] - h[1]) * b)
            of_colour += max(e * e, f * f)
            e = 0.5 * (h[2] * a + of_one - (soft - h[2]) * b - of_other)
            film.noise[y, x, 0] = e * e
            if part < 0.999 * all_:
                # where all of few samples are hidden the halves agree, and say nothing: what so many of yes and no leave open (Laplace)
                p = (part / all_ * done + 0.5) / (done + 1)
                unknown = sky * sky * p * (1 - p) / (done * done * done)
                film.noise[y, x, 0] = max(e * e, unknown)
                of_colour += unknown / FILTERED
            e = 0.0
            if h[4] > 1e-9 and bare - h[4] > 1e-9:
                e = 0.5 * (h[3] / h[4] - (lit - h[3]) / (bare - h[4])) * (1.0 - film.colour[y, x, 3] / done)
            film.noise[y, x, 1] = e * e
            of_shade += e * e
            shift += e
    # the filter averages over as many px as a tile has: what it leaves is what all of them have in common, and a little of the rest
    count = (y1 - y0) * (x1 - x0)
    of_shade = max(shift * shift / count, of_shade / FILTERED) / (SHADE * SHADE)
    return max(of_colour, of_shade) <= target * target * count


@inlined
def _mean(film, y0, x0, y1, x1, done):
    k = np.float32(1.0 / done)
    for y in range(y0, y1):
        for x in range(x0, x1):
            film.taken[y, x] = done
            open_ = film.sky[y, x, 3] / film.sky[y, x, 4] if film.sky[y, x, 4] > 0 else np.float32(1.0)
            for c in range(4):
                film.colour[y, x, c] *= k
            for c in range(3):
                film.soft[y, x, c] = k * (film.soft[y, x, c] + open_ * film.sky[y, x, c])
                film.lit[y, x, c] *= k
                film.bare[y, x, c] *= k


@kernel
def join(film, first, last, shade, even):
    """Put filtered light (3, h, w) back into rows first to last of a film: `soft` into `colour`, and the shade into `lit`."""
    for y in range(first, last):
        for x in range(film.lit.shape[1]):
            for c in range(3):
                # what few samples take of the sky's light may be more than there is
                film.colour[y, x, c] = max(film.colour[y, x, c] + even[c, y, x] * film.colour[y, x, 3], 0.0)
                film.lit[y, x, c] = max(shade[c, y, x], 0.0) * film.bare[y, x, c]
