"""How one of ours looks at a place: its colour and alpha, and the pattern that goes through it."""

import math

from ..basics.jit import inlined
from .geometry import AMOUNT, BASE, FADE, FIRST_STEP, OPACITY, PICTURE, RELIEF, ROUGHNESS, SECOND, TEXTURE, TO_PATTERN, WIDE
from .meeting import painted
from .textures import STEP, WEAVE, pattern
from .vectors import dot, normalised, smoothstep


@inlined
def surface_at(things, number, value, own, travelled, px):
    """Colour and alpha of one of ours at a place in its own axes; px: how much of these one px of the picture covers."""
    base, alpha = (value[BASE], value[BASE + 1], value[BASE + 2]), value[OPACITY]
    if number[PICTURE] >= 0:
        picture = number[PICTURE]
        red, green, blue, cover = painted(things, picture, own[0], own[2], px * things.levels[picture, 0, WIDE])
        base, alpha = (base[0] * red, base[1] * green, base[2] * blue), alpha * cover
    if travelled < value[FADE]:
        alpha *= smoothstep(0.5 * value[FADE], value[FADE], travelled)
    return base, alpha


@inlined
def patterned(things, number, look, base, own, n):
    """Colour, roughness and normal of a surface with the pattern that goes through it."""
    kind, k = int(look[TEXTURE]), TO_PATTERN
    x = look[k] * own[0] + look[k + 1] * own[1] + look[k + 2] * own[2] + look[k + 3]
    y = look[k + 4] * own[0] + look[k + 5] * own[1] + look[k + 6] * own[2] + look[k + 7]
    z = look[k + 8] * own[0] + look[k + 9] * own[1] + look[k + 10] * own[2] + look[k + 11]
    share, high = pattern(kind, x, y, z)
    share *= look[AMOUNT]
    base = (
        base[0] + share * (look[SECOND] - base[0]),
        base[1] + share * (look[SECOND + 1] - base[1]),
        base[2] + share * (look[SECOND + 2] - base[2]),
    )
    rough = min(max(look[ROUGHNESS] * (0.7 + 0.6 * share), 0.03), 1.0) if kind != WEAVE else look[ROUGHNESS]
    if look[RELIEF] > 0:
        s = look[RELIEF] / STEP
        a, b, c = (
            s * (pattern(kind, x + STEP, y, z)[1] - high),
            s * (pattern(kind, x, y + STEP, z)[1] - high),
            s * (pattern(kind, x, y, z + STEP)[1] - high),
        )
        # the slope is along the thing's own axes, which the first of its places turns into those of the rays
        m, q = things.matrices[number[FIRST_STEP]], look[TO_PATTERN : TO_PATTERN + 12]
        g = (q[0] * a + q[4] * b + q[8] * c, q[1] * a + q[5] * b + q[9] * c, q[2] * a + q[6] * b + q[10] * c)
        w = (
            m[0, 0] * g[0] + m[0, 1] * g[1] + m[0, 2] * g[2],
            m[1, 0] * g[0] + m[1, 1] * g[1] + m[1, 2] * g[2],
            m[2, 0] * g[0] + m[2, 1] * g[1] + m[2, 2] * g[2],
        )
        # in sizes of the pattern by way: sizes of the rays' axes go out
        size = m[0, 0] * m[0, 0] + m[1, 0] * m[1, 0] + m[2, 0] * m[2, 0]
        width = math.sqrt(size) / max(math.sqrt(q[0] * q[0] + q[4] * q[4] + q[8] * q[8]), 1e-12)
        k = width / max(size, 1e-24)
        w = (w[0] * k, w[1] * k, w[2] * k)
        over = dot(w, n)
        n = normalised((n[0] - w[0] + over * n[0], n[1] - w[1] + over * n[1], n[2] - w[2] + over * n[2]))
    return base, rough, n
