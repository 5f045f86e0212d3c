"""The light on a place: of each sun and of the sky, on what receives it and on ours; and where mirrors send a ray.

A new lamp is asked here, a new property of a surface is used here.
"""

import math
from typing import NamedTuple

import numpy as np

from ..basics.jit import inlined
from .geometry import OPAQUE, PLACE
from .meeting import blocked, off, share_open
from .sampling import SKY, SUN, SUNS
from .vectors import around, bright, dot, in_cone, normalised, smoothstep

MIRROR_WIDTH = 0.35  # GGX's width for a roughness of 1, of what stands in for water or a polished floor: half of its facets lie within


class Lights(NamedTuple):
    """suns (n, 7): direction, colour, cosine of half the width. sky, bounce (3,): light of the sky, and of the place beneath."""

    suns: np.ndarray
    sky: np.ndarray
    bounce: np.ndarray


@inlined
def _to_sun(sun, s, sample):
    """A direction to the disc of sun number s."""
    k = SUN + 3 * (s % SUNS)
    return in_cone((sun[0], sun[1], sun[2]), sun[6], sample[k], sample[k + 1], sample[k + 2])


@inlined
def _with_and_without(things, ray, words, address, start, d, at):
    """Shares of light that come along d with our things there and without them."""
    seen = share_open(things, ray, words, address, start, d, at, OPAQUE | PLACE)
    # only where the first is hidden does the second need a ray of its own
    return seen, 1.0 if seen > 0 or not (things.place and blocked(things, ray, words, address, start, d, at, PLACE)) else 0.0


@inlined
def received(things, lights, ray, words, address, p, n, at, sample, share, lit, bare, noise):
    """Add the light on a place that receives it, with our things to `lit` and without them to `bare` (3,), `share` of it."""
    start = off(p, n, n)
    for s in range(lights.suns.shape[0]):
        sun = lights.suns[s]
        d = _to_sun(sun, s, sample)
        towards = dot(n, d)
        if towards <= 0:
            continue
        seen, before = _with_and_without(things, ray, words, address, start, d, at)
        for c in range(3):
            lit[c] += share * towards * seen * sun[3 + c]
            bare[c] += share * towards * before * sun[3 + c]
        if seen < before:
            noise[1] = 1.0
    d = around(n, sample[SKY], sample[SKY + 1], sample[SKY + 2])
    seen, before = _with_and_without(things, ray, words, address, start, d, at)
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
def shaded(things, lights, ray, words, address, p, face, n, v, at, sample, base, roughness, metal, share, colour, soft, sky, noise):
    """Add the light that one of ours sends to the eye along v (unit, to the eye): what is even to `soft` (3,) and `sky` (5,), the sun's gloss to `colour`.

    Gloss: B. Walter and others, Microfacet Models for Refraction, EGSR 2007, with the height-correlated masking of E. Heitz, JCGT
    2014; of the surroundings: the split sum as fitted by B. Karis, Physically Based Shading on Mobile, 2014.
    """
    start = off(p, face, face)
    nv = max(dot(n, v), 1e-3)
    a = max(roughness * roughness, 0.002)
    a2 = a * a
    for s in range(lights.suns.shape[0]):
        sun = lights.suns[s]
        d = _to_sun(sun, s, sample)
        nl = dot(n, d)
        if nl <= 0:
            continue
        seen = share_open(things, ray, words, address, start, d, at, OPAQUE | PLACE)
        if seen < 1:
            noise[0] = 1.0
        if seen <= 0:
            continue
        h = normalised((d[0] + v[0], d[1] + v[1], d[2] + v[2]))
        nh, vh = min(max(dot(n, h), 0.0), 1.0), min(max(dot(v, h), 0.0), 1.0)
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
    d = around(n, sample[SKY], sample[SKY + 1], sample[SKY + 2])
    seen = share_open(things, ray, words, address, start, d, at, OPAQUE)
    behind = seen > 0 and d[2] > 0 and things.place and blocked(things, ray, words, address, start, d, at, PLACE)
    if seen < 1 or behind:
        noise[0] = 1.0
    up = 0.5 + 0.5 * n[2]
    mirror_up = 2 * dot(n, v) * n[2] - v[2]
    edge = 0.04 + 0.7 * roughness
    over = smoothstep(-edge, edge, mirror_up)
    shine = 1.35 - 0.5 * smoothstep(0.0, 0.8, mirror_up)
    r0, r1, r2, r3 = 1.0 - roughness, 0.0425 - 0.0275 * roughness, 1.04 - 0.572 * roughness, 0.022 * roughness - 0.04
    fit = min(r0 * r0, math.exp(-6.4324 * nv)) * r0 + r1
    scale, offset = -1.04 * fit + r2, 1.04 * fit + r3
    for c in range(3):
        f0 = 0.04 + metal * (base[c] - 0.04)
        round_it = lights.bounce[c] + over * (shine * lights.sky[c] - lights.bounce[c])
        whole = base[c] * (1.0 - metal) * (up * lights.sky[c] + (1.0 - up) * lights.bounce[c])
        sky[c] += share * (whole + round_it * (f0 * scale + offset))
    # how much of it comes through is told by the ratio of two sums: it is never less than nothing, and has no noise where all is open
    way = bright(lights.sky) if d[2] > 0 else bright(lights.bounce)
    sky[3] += share * seen * (bright(lights.bounce) if behind else way)
    sky[4] += share * way


@inlined
def mirrored(d, n, roughness, u, v):
    """The direction in which a ray goes on from a mirror, and the share that it keeps.

    Source: visible normals of the microfacets after E. Heitz, Sampling the GGX Distribution of Visible Normals, JCGT 2018.
    """
    a = MIRROR_WIDTH * roughness * roughness
    w = (-d[0], -d[1], -d[2])
    if a < 1e-4:
        k = 2 * dot(w, n)
        return (k * n[0] - w[0], k * n[1] - w[1], k * n[2] - w[2]), 1.0
    x, y = around(n, 1.0, 0.0, 0.0), around(n, 0.0, 1.0, 0.0)
    e = (dot(w, x), dot(w, y), max(dot(w, n), 1e-4))
    h = normalised((a * e[0], a * e[1], e[2]))
    flat = h[0] * h[0] + h[1] * h[1]
    t1 = (-h[1] / math.sqrt(flat), h[0] / math.sqrt(flat), 0.0) if flat > 1e-12 else (1.0, 0.0, 0.0)
    t2 = (h[1] * t1[2] - h[2] * t1[1], h[2] * t1[0] - h[0] * t1[2], h[0] * t1[1] - h[1] * t1[0])
    r, angle = math.sqrt(u), 2 * math.pi * v
    p = r * math.cos(angle)
    s = 0.5 * (1.0 + h[2])
    q = (1.0 - s) * math.sqrt(max(0.0, 1.0 - p * p)) + s * r * math.sin(angle)
    z = math.sqrt(max(0.0, 1.0 - p * p - q * q))
    m = normalised((a * (p * t1[0] + q * t2[0] + z * h[0]), a * (p * t1[1] + q * t2[1] + z * h[1]), max(p * t1[2] + q * t2[2] + z * h[2], 1e-6)))
    k = 2 * dot(e, m)
    o = (k * m[0] - e[0], k * m[1] - e[1], k * m[2] - e[2])
    if o[2] <= 0:
        return d, 0.0
    t = 1.0 / max(o[2] * o[2], 1e-12) - 1.0
    # of the masking only that of the way out is left, given that on the way in
    sum_in, sum_out = math.sqrt(1.0 + a * a * (1.0 / (e[2] * e[2]) - 1.0)), math.sqrt(1.0 + a * a * t)
    kept = (1.0 + sum_in) / (sum_in + sum_out)
    return (o[0] * x[0] + o[1] * y[0] + o[2] * n[0], o[0] * x[1] + o[1] * y[1] + o[2] * n[1], o[0] * x[2] + o[1] * y[2] + o[2] * n[2]), kept
