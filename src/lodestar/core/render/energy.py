"""How much light a rough mirror sends back of light that is as bright from all around: tables, and how a kernel asks them.

Sources: the split of the sum by F0, B. Karis, Real Shading in Unreal Engine 4, SIGGRAPH course 2013; light that facets send on to each other,
by the share that single ones lose, E. Turquin, Practical Multiple Scattering Compensation for Microfacet Models, 2019.
"""

import math

import numpy as np

from ..basics.jit import inlined

SIDE, DRAWS = 24, 16  # nodes of the table each way; draws each way of a node
LEAST = 0.02  # cosine of the flattest view that is told
LEAST_WIDTH = 0.002  # of GGX's lobe, of a surface that is as polished as can be


def _tables() -> np.ndarray:
    """(SIDE, SIDE, 2): factor on F0 and what is added to it, by roughness from 0 to 1 and cosine of the view from LEAST to 1; drawn evenly from
    the visible normals of E. Heitz, JCGT 2018, with height-correlated masking."""
    u = (np.arange(DRAWS * DRAWS) + 0.5) / DRAWS**2
    v = (np.arange(DRAWS * DRAWS) * 0.6180339887498949) % 1.0
    rough, nv = np.linspace(0, 1, SIDE)[:, None, None], np.linspace(LEAST, 1, SIDE)[None, :, None]
    a = np.maximum(rough**2, LEAST_WIDTH)
    flat = np.sqrt(1 - nv * nv)
    # the view stretched, a disc of visible normals, and back
    vx, vz = a * flat, nv
    length = np.sqrt(vx * vx + vz * vz)
    vx, vz = vx / length, vz / length
    r, angle = np.sqrt(u), 2 * np.pi * v
    p, q = r * np.cos(angle), r * np.sin(angle)
    s = 0.5 * (1 + vz)
    q = (1 - s) * np.sqrt(np.maximum(1 - p * p, 0)) + s * q
    w = np.sqrt(np.maximum(1 - p * p - q * q, 0))
    hx, hy, hz = -q * vz + w * vx, p, q * vx + w * vz  # axes: y across, the other up the hemisphere
    hx, hy, hz = a * hx, a * hy, np.maximum(hz, 1e-6)
    size = np.sqrt(hx * hx + hy * hy + hz * hz)
    hx, hz = hx / size, hz / size
    vh = np.maximum(flat * hx + nv * hz, 0)
    nl = 2 * vh * hz - nv
    smith = lambda c: np.sqrt(1 + a * a * (1 / np.maximum(c * c, 1e-12) - 1))
    kept = np.where(nl > 0, (1 + smith(nv)) / (smith(nv) + smith(np.maximum(nl, 1e-6))), 0.0)
    edge = (1 - vh) ** 5
    return np.stack([(kept * (1 - edge)).mean(-1), (kept * edge).mean(-1)], -1)


_TABLE = _tables()


@inlined
def split_sum(nv, roughness, metal):
    """Factor on F0 and what is added to it, of light from all around that facets send back at once; and what all facets send back is how many times as
    much, less one, where F0 is 1.

    Of what is no metal that is so little of all its light that a fit has served it from the first (B. Karis, Physically Based Shading on Mobile,
    2014), and shots that were made with it look as they did.
    """
    y = min(max(roughness, 0.0), 1.0) * (SIDE - 1)
    x = min(max((nv - LEAST) / (1.0 - LEAST), 0.0), 1.0) * (SIDE - 1)
    i, j = min(int(y), SIDE - 2), min(int(x), SIDE - 2)
    a, b = y - i, x - j
    w00, w01, w10, w11 = (1 - a) * (1 - b), (1 - a) * b, a * (1 - b), a * b
    t = _TABLE
    scale = w00 * t[i, j, 0] + w01 * t[i, j + 1, 0] + w10 * t[i + 1, j, 0] + w11 * t[i + 1, j + 1, 0]
    offset = w00 * t[i, j, 1] + w01 * t[i, j + 1, 1] + w10 * t[i + 1, j, 1] + w11 * t[i + 1, j + 1, 1]
    r0, r1, r2, r3 = 1.0 - roughness, 0.0425 - 0.0275 * roughness, 1.04 - 0.572 * roughness, 0.022 * roughness - 0.04
    fit = min(r0 * r0, math.exp(-6.4324 * nv)) * r0 + r1
    plain, added = -1.04 * fit + r2, 1.04 * fit + r3
    lost = metal * (1.0 / max(scale + offset, 1e-3) - 1.0)
    return plain + metal * (scale - plain), added + metal * (offset - added), lost
