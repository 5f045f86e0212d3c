"""Three numbers as kernels take them: tuples, put into the code that uses them."""

import math

from ..basics.jit import inlined

RED, GREEN, BLUE = 0.2126, 0.7152, 0.0722  # of brightness: ITU-R BT.709


@inlined
def dot(a, b):
    return a[0] * b[0] + a[1] * b[1] + a[2] * b[2]


@inlined
def normalised(a):
    k = 1.0 / math.sqrt(max(a[0] * a[0] + a[1] * a[1] + a[2] * a[2], 1e-60))
    return a[0] * k, a[1] * k, a[2] * k


@inlined
def along(p, d, t):
    return p[0] + t * d[0], p[1] + t * d[1], p[2] + t * d[2]


@inlined
def around(axis, a, b, c):
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
def in_cone(axis, cosine, u, x, y):
    """A direction evenly within a cone, of u in 0..1 and a place on the unit circle; for a cosine of 1, the axis."""
    c = 1.0 - u * (1.0 - cosine)
    r = math.sqrt(max(0.0, 1.0 - c * c))
    return around(axis, r * x, r * y, c)


@inlined
def smoothstep(low, high, x):
    t = min(max((x - low) / (high - low), 0.0), 1.0)
    return t * t * (3.0 - 2.0 * t)


@inlined
def bright(v):
    return RED * v[0] + GREEN * v[1] + BLUE * v[2]
