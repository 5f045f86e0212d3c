"""The facets that a glossy or frosted surface is made of, and what each mirrors or lets pass."""

import math

from ..basics.jit import inlined
from .energy import LEAST_WIDTH
from .vectors import around, dot, normalised

WATER_INDEX = 1.333
COAT_F0 = 0.04  # of a clear coat, of an index of 1.5
MIRROR_WIDTH = 0.35  # GGX's width for a roughness of 1, of what stands in for water or a polished floor: half of its facets lie within


@inlined
def refracted(d, n, eta):
    """The direction of a ray along d beyond a surface with normal n, which faces it; eta: index before by index behind; along d where all is
    mirrored. Source: Snell's law."""
    cosine = -dot(d, n)
    k = 1.0 - eta * eta * (1.0 - cosine * cosine)
    if k <= 0:
        return d
    a = eta * cosine - math.sqrt(k)
    return normalised((eta * d[0] + a * n[0], eta * d[1] + a * n[1], eta * d[2] + a * n[2]))


@inlined
def water_mirrors(cosine):
    """Share of light that water mirrors at an angle to its normal. Source: Fresnel's equations as R. Cook, K. Torrance, A Reflectance Model for
    Computer Graphics, ACM TOG 1982, write them."""
    g = math.sqrt(WATER_INDEX * WATER_INDEX - 1.0 + cosine * cosine)
    a, b = g - cosine, g + cosine
    k = (cosine * b - 1.0) / (cosine * a + 1.0)
    return 0.5 * (a / b) ** 2 * (1.0 + k * k)


@inlined
def gloss_lobe(n, v, d, nv, nl, roughness):
    """GGX's lobe for light from d to v, and Schlick's factor of Fresnel's."""
    a = max(roughness * roughness, LEAST_WIDTH)
    a2 = a * a
    h = normalised((d[0] + v[0], d[1] + v[1], d[2] + v[2]))
    nh, vh = min(max(dot(n, h), 0.0), 1.0), min(max(dot(v, h), 0.0), 1.0)
    k = nh * nh * (a2 - 1.0) + 1.0
    gloss = a2 / (k * k) * 0.5 / (nl * math.sqrt(nv * nv * (1.0 - a2) + a2) + nv * math.sqrt(nl * nl * (1.0 - a2) + a2) + 1e-6)
    return gloss, (1.0 - vh) ** 5


@inlined
def density_of_facets(n, v, d, nv, roughness):
    """Of directions that `facet_mirrored` gives for light to v, per steradian. Source: E. Heitz, JCGT 2018."""
    a = max(roughness * roughness, LEAST_WIDTH)
    h = normalised((d[0] + v[0], d[1] + v[1], d[2] + v[2]))
    nh = min(max(dot(n, h), 0.0), 1.0)
    k = nh * nh * (a * a - 1.0) + 1.0
    masking = 2.0 / (1.0 + math.sqrt(1.0 + a * a * (1.0 / (nv * nv) - 1.0)))
    return a * a / (math.pi * k * k) * masking / (4.0 * nv)


@inlined
def _facet_seen(w, n, a, u, v):
    """A facet of GGX's width a that is seen from direction w: two axes beside the normal n, and in these w and the facet's normal.

    Source: visible normals of the microfacets after E. Heitz, Sampling the GGX Distribution of Visible Normals, JCGT 2018.
    """
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
    return x, y, e, m


@inlined
def facet_mirrored(d, n, a, u, v):
    """The direction in which a ray goes on from facets of GGX's width a, and the share that it keeps."""
    w = (-d[0], -d[1], -d[2])
    if a < 1e-4:
        k = 2 * dot(w, n)
        return (k * n[0] - w[0], k * n[1] - w[1], k * n[2] - w[2]), 1.0
    x, y, e, m = _facet_seen(w, n, a, u, v)
    k = 2 * dot(e, m)
    o = (k * m[0] - e[0], k * m[1] - e[1], k * m[2] - e[2])
    if o[2] <= 0:
        return d, 0.0
    t = 1.0 / max(o[2] * o[2], 1e-12) - 1.0
    # of the masking only that of the way out is left, given that on the way in
    sum_in, sum_out = math.sqrt(1.0 + a * a * (1.0 / (e[2] * e[2]) - 1.0)), math.sqrt(1.0 + a * a * t)
    kept = (1.0 + sum_in) / (sum_in + sum_out)
    return (o[0] * x[0] + o[1] * y[0] + o[2] * n[0], o[0] * x[1] + o[1] * y[1] + o[2] * n[1], o[0] * x[2] + o[1] * y[2] + o[2] * n[2]), kept


@inlined
def mirrored(d, n, roughness, u, v):
    """The direction in which a ray goes on from a mirror of the place, and the share that it keeps."""
    return facet_mirrored(d, n, MIRROR_WIDTH * roughness * roughness, u, v)


@inlined
def facet(d, n, a, u, v):
    """The normal of one facet of GGX's width a that a ray along d meets on a surface with normal n."""
    x, y, _, m = _facet_seen((-d[0], -d[1], -d[2]), n, a, u, v)
    return (m[0] * x[0] + m[1] * y[0] + m[2] * n[0], m[0] * x[1] + m[1] * y[1] + m[2] * n[1], m[0] * x[2] + m[1] * y[2] + m[2] * n[2])


@inlined
def passing(cosine):
    """Share of light that a face of glass lets pass, by Schlick's factor of Fresnel's."""
    return (1.0 - COAT_F0) * (1.0 - (1.0 - min(max(cosine, 0.0), 1.0)) ** 5)


@inlined
def unmasked(d, n, a):
    """Share of what leaves along d that no other facet of GGX's width a stands before."""
    cosine = dot(d, n)
    return 2.0 / (1.0 + math.sqrt(1.0 + a * a * (1.0 / max(cosine * cosine, 1e-6) - 1.0)))
